//! Where things stand on the screen; drawing and the mouse both ask here.

use dozor_core::lane::Lane;
use ratatui::layout::Rect;

/// Smallest screen that is drawn.
pub const SMALLEST: (u16, u16) = (72, 16);
/// From this height on lanes have two rows and what stands out has a title.
const TALL: u16 = 36;
/// From this height on lanes have three rows.
const VERY_TALL: u16 = 62;
/// From this width on parts stand beside each other and trends are wide.
pub const BROAD: u16 = 200;
/// Cells of a lane's name and value.
const LABEL: u16 = 17;

/// What has to find its place.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wish {
    /// Lanes from top to bottom, and whether they are folded.
    pub lanes: Vec<(Lane, bool)>,
    /// Sentences on what stands out.
    pub sentences: u16,
    /// Lines that the parts of the chosen lane would fill; 0 without a chosen lane.
    pub parts: u16,
    /// Somebody works with the parts: they get more of the room.
    pub in_parts: bool,
    /// Processes are marked: a line has their totals.
    pub marks: bool,
    /// A strip shows all of the time there is.
    pub overview: bool,
}

/// Places of the parts of the screen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layout {
    /// Host, load, recording, time.
    pub top: Rect,
    /// The time axis, where there is room for it.
    pub axis: Option<Rect>,
    /// All of the time there is, on one line.
    pub overview: Option<Rect>,
    /// Lanes from top to bottom.
    pub lanes: Vec<(Lane, Rect)>,
    /// First cell of the strips.
    pub strip_x: u16,
    /// Columns of the strips.
    pub strip_width: u16,
    /// Sentences on what stands out.
    pub standing_out: Rect,
    /// Parts of the chosen lane, with their title line.
    pub parts: Option<Rect>,
    /// Title line of the table.
    pub title: Rect,
    /// Headings.
    pub headings: Rect,
    /// Rows.
    pub rows: Rect,
    /// A message, over the last row.
    pub message: Rect,
    /// Totals of the marked processes.
    pub marks: Option<Rect>,
    /// Hints.
    pub hints: Rect,
}

impl Layout {
    /// Reckons the places; `None` where the screen is too small.
    pub fn new(width: u16, height: u16, wish: &Wish) -> Option<Layout> {
        if width < SMALLEST.0 || height < SMALLEST.1 {
            return None;
        }
        let mut y = 0;
        let mut take = |rows: u16| {
            let rect = Rect::new(0, y, width, rows);
            y += rows;
            rect
        };
        let tall = height >= TALL;
        let of_lane = match height {
            0..TALL => 1,
            TALL..VERY_TALL => 2,
            _ => 3,
        };
        let top = take(1);
        let overview = (wish.overview && height >= 22).then(|| take(1));
        let axis = (height >= 22).then(|| take(1));
        let lanes = wish
            .lanes
            .iter()
            .map(|(lane, folded)| (*lane, take(if *folded { 1 } else { of_lane })))
            .collect();
        let blank = u16::from(tall);
        take(blank);
        let standing_out =
            take(if tall { 1 + wish.sentences.clamp(1, if wish.parts > 0 { 3 } else { 6 }) } else { 1 });
        take(blank);
        let lower = height - standing_out.bottom() - blank - 1;
        let parts = parts_height(lower, tall, wish);
        let mut y = height - 1 - lower;
        let mut take = |rows: u16| {
            let rect = Rect::new(0, y, width, rows);
            y += rows;
            rect
        };
        let parts = (parts > 0).then(|| {
            let rect = take(parts);
            take(blank);
            rect
        });
        let title = take(1);
        let headings = take(1);
        let marks = u16::from(wish.marks);
        let rows = take((height - 1 - marks).saturating_sub(headings.bottom()));
        let marks = (marks > 0).then(|| take(1));
        let hints = take(1);
        let facts = match width {
            0..100 => 28,
            100..140 => 40,
            _ => 46,
        };
        Some(Layout {
            top,
            overview,
            axis,
            lanes,
            strip_x: LABEL,
            strip_width: width.saturating_sub(LABEL + facts),
            standing_out,
            parts,
            title,
            headings,
            rows,
            message: Rect::new(0, rows.bottom().saturating_sub(1), width, 1),
            marks,
            hints,
        })
    }

    /// First cell of the facts beside the strips.
    pub fn facts_x(&self) -> u16 {
        self.strip_x + self.strip_width + 2
    }

    /// The scroll bar of the table.
    pub fn scroll_bar(&self) -> Rect {
        Rect { x: self.rows.right() - 1, width: 1, ..self.rows }
    }
}

/// Lines for the parts: what they want, as long as the table keeps enough to work with.
fn parts_height(lower: u16, tall: bool, wish: &Wish) -> u16 {
    /// Title, heading and one part.
    const LEAST: u16 = 3;
    if wish.parts == 0 {
        return 0;
    }
    let table = if wish.in_parts { (lower / 4).max(4) } else { (lower / 2).max(5) };
    let most = lower.saturating_sub(table + u16::from(tall) + u16::from(wish.marks));
    let height = wish.parts.min(most);
    if height < LEAST { 0 } else { height }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_size_is_filled_without_overlap_or_refused() {
        let all: Vec<(Lane, bool)> = Lane::ALL.iter().map(|lane| (*lane, *lane == Lane::Disk)).collect();
        for lanes in [all.clone(), all[..2].to_vec(), all[..1].to_vec()] {
            for (parts, in_parts, sentences) in [(0, false, 0), (4, true, 1), (12, false, 3), (200, true, 9)]
            {
                let marks = sentences == 1;
                let wish =
                    Wish { lanes: lanes.clone(), sentences, parts, in_parts, marks, overview: in_parts };
                for width in (1..260).step_by(3) {
                    for height in 1..90 {
                        let Some(layout) = Layout::new(width, height, &wish) else {
                            assert!(width < SMALLEST.0 || height < SMALLEST.1);
                            continue;
                        };
                        assert_eq!(layout.hints.bottom(), height, "{wish:?} {layout:?}");
                        assert_eq!(layout.rows.bottom() + u16::from(marks), layout.hints.y);
                        let enough = layout.rows.height >= 2 && layout.strip_width >= 20;
                        assert!(enough, "{width}x{height}: {layout:?}");
                        let mut bottom = layout.standing_out.bottom();
                        for area in layout.parts.iter().chain([&layout.title, &layout.headings, &layout.rows])
                        {
                            assert!(area.y >= bottom, "{width}x{height}: {layout:?}");
                            bottom = area.bottom();
                        }
                    }
                }
            }
        }
    }

    #[test]
    fn the_parts_are_there_at_80_by_24() {
        let lanes = Lane::ALL.iter().map(|lane| (*lane, false)).collect();
        let wish = Wish { lanes, sentences: 2, parts: 20, ..Wish::default() };
        let layout = Layout::new(80, 24, &wish).expect("it fits");
        assert!(layout.parts.is_some_and(|parts| parts.height >= 5) && layout.rows.height >= 4, "{layout:?}");
        let layout = Layout::new(80, 24, &Wish { in_parts: true, ..wish }).expect("it fits");
        assert!(layout.parts.is_some_and(|parts| parts.height >= 9), "{layout:?}");
    }
}
