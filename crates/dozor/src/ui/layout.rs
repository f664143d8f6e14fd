//! Where things stand on the screen, reckoned from its size alone; drawing and the mouse both ask here.

use ratatui::layout::Rect;

/// Smallest screen that is drawn.
pub const SMALLEST: (u16, u16) = (72, 16);
/// From this height on lanes have two rows and what stands out has three.
const TALL: u16 = 36;

/// Places of the parts of the screen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Layout {
    /// Host, load, recording, time.
    pub top: Rect,
    /// The time axis, where there is room for it.
    pub axis: Option<Rect>,
    /// The five lanes.
    pub lanes: [Rect; 5],
    /// First cell of the strips.
    pub strip_x: u16,
    /// Columns of the strips.
    pub strip_width: u16,
    /// Sentences on what stands out.
    pub standing_out: Rect,
    /// Title line of the table.
    pub title: Rect,
    /// Headings.
    pub headings: Rect,
    /// Rows.
    pub rows: Rect,
    /// A message, over the last row.
    pub message: Rect,
    /// Hints, or what is being typed.
    pub hints: Rect,
}

/// Cells of a lane's name and value.
const LABEL: u16 = 17;

impl Layout {
    /// Reckons the places; `None` where the screen is too small.
    pub fn new(width: u16, height: u16) -> Option<Layout> {
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
        let top = take(1);
        let axis = (height >= 22).then(|| take(1));
        let lanes = [(); 5].map(|()| take(if tall { 2 } else { 1 }));
        if tall {
            take(1);
        }
        let standing_out = take(if tall { 4 } else { 1 });
        if tall {
            take(1);
        }
        let title = take(1);
        let headings = take(1);
        let used = headings.bottom() + 1;
        let rows = take(height.saturating_sub(used));
        let hints = take(1);
        let facts = match width {
            0..100 => 27,
            100..140 => 38,
            _ => 44,
        };
        Some(Layout {
            top,
            axis,
            lanes,
            strip_x: LABEL,
            strip_width: width.saturating_sub(LABEL + facts),
            standing_out,
            title,
            headings,
            rows,
            message: Rect::new(0, rows.bottom().saturating_sub(1), width, 1),
            hints,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_size_is_filled_without_overlap_or_refused() {
        for width in 1..260 {
            for height in 1..90 {
                let Some(layout) = Layout::new(width, height) else {
                    assert!(width < SMALLEST.0 || height < SMALLEST.1);
                    continue;
                };
                assert_eq!(layout.hints.bottom(), height);
                assert_eq!(layout.rows.bottom(), layout.hints.y);
                assert!(layout.rows.height >= 4 && layout.strip_width >= 20, "{width}x{height}: {layout:?}");
            }
        }
    }
}
