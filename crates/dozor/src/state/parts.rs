//! The parts of the chosen lane on the screen: which table is looked at, which part is chosen, and where each table
//! stands. Drawing and the mouse both ask here.

use crate::look::layout::BROAD;
use dozor_core::parts::{PartId, Section, Shape};
use ratatui::layout::{Position, Rect};
use unicode_width::UnicodeWidthStr as _;

/// Blank cells between two columns of tables.
const GUTTER: u16 = 2;
/// More cores than this are a map, even where their rows would fit.
const CORES_IN_ROWS: usize = 24;
/// Cells of a core in the map: number, bar, percentage.
const WIDE_CELL: u16 = 9;
/// Cells on a line of the map, of which the most that fit are taken: numbers that one can count with.
const PER_LINE: [u16; 6] = [8, 10, 12, 16, 20, 24];
/// Cells of a core in the small map: only the bar.
const SMALL_CELL: u16 = 2;
/// Below this width explanations are cut off: they are folded once they have been seen.
const EXPLAINED: u16 = 100;
/// Cells of a figure's number where its explanation is folded, and blank ones behind it.
pub const FIGURE: [u16; 2] = [9, 3];
/// First cell of a line of such figures.
pub const FIGURES_X: u16 = 4;
/// Lines of the explanation of the chosen row where explanations are folded.
const TOLD: u16 = 2;
/// Cells before each line of the small map, for the number of its first core.
const SMALL_LABEL: u16 = 7;

/// What is known of the parts.
#[derive(Clone, Debug, Default)]
pub struct Parts {
    /// The tables of the chosen lane.
    pub sections: Vec<Section>,
    /// The table that is looked at; it stands first.
    pub current: usize,
    /// The part whose users are shown.
    pub selected: Option<PartId>,
    /// Arrow keys move among the parts.
    pub in_focus: bool,
    /// First row of the current table on the screen.
    pub scroll: usize,
    /// Titles of tables whose explanations have been seen on a narrow screen.
    pub explained: Vec<String>,
}

/// How the rows of a table stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// Below each other.
    Rows,
    /// As cells beside each other.
    Map {
        /// Cells on a line.
        per_line: u16,
        /// Their width.
        cell: u16,
        /// Room before the first of a line.
        label: u16,
    },
    /// Names with their numbers beside each other, without what they mean.
    Figures {
        /// Figures on a line.
        per_line: u16,
        /// Their width.
        cell: u16,
    },
}

/// A table at its place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Placed {
    /// Which one.
    pub section: usize,
    /// Its title line.
    pub title: u16,
    /// The stacked strip of all rows, where the table has one.
    pub strip: Option<u16>,
    /// Headings, or the legend of a map.
    pub headings: u16,
    /// Its rows.
    pub rows: Rect,
    /// How they stand.
    pub form: Form,
    /// First row that is seen.
    pub first: usize,
}

impl Placed {
    /// The line behind its last one.
    pub fn bottom(&self) -> u16 {
        self.rows.bottom()
    }
}

fn form(section: &Section, width: u16, room: u16) -> Form {
    let count = section.rows.len();
    if section.shape != Shape::Cores || count <= CORES_IN_ROWS && count <= usize::from(room) {
        return Form::Rows;
    }
    let fits = (width.saturating_sub(2) / WIDE_CELL).max(1);
    let wide = PER_LINE.into_iter().filter(|count| *count <= fits).max().unwrap_or(fits);
    if count.div_ceil(usize::from(wide)) <= usize::from(room) {
        return Form::Map { per_line: wide, cell: WIDE_CELL, label: 2 };
    }
    // Whole tens on a line, so that a core is found by its number.
    let fits = (width.saturating_sub(SMALL_LABEL) / SMALL_CELL).max(1);
    let small = if fits >= 10 { fits / 10 * 10 } else { fits };
    Form::Map { per_line: small, cell: SMALL_CELL, label: SMALL_LABEL }
}

impl Form {
    /// Rows on a line, their width, and the room before the first of a line; none where each has a line of its own.
    fn grid(self) -> Option<(u16, u16, u16)> {
        match self {
            Form::Rows => None,
            Form::Map { per_line, cell, label } => Some((per_line, cell, label)),
            Form::Figures { per_line, cell } => Some((per_line, cell, FIGURES_X)),
        }
    }

    fn per_line(self) -> usize {
        self.grid().map_or(1, |(per_line, ..)| usize::from(per_line))
    }

    fn lines(self, count: usize) -> u16 {
        count.div_ceil(self.per_line()) as u16
    }
}

impl Parts {
    /// Tables in the order in which they stand: the one that is looked at first.
    fn turned(&self) -> impl Iterator<Item = usize> {
        let count = self.sections.len();
        (0..count).map(move |at| (self.current + at) % count)
    }

    /// Columns of tables beside each other, from left to right; on most screens there is one. The first table stands on top of the first.
    fn columns(&self, area: Rect) -> Vec<Rect> {
        if area.width < BROAD || self.sections.len() < 2 {
            return vec![area];
        }
        // The table that is looked at has more columns than the others.
        let width = area.width.saturating_sub(GUTTER) / 20 * 9;
        let right = Rect { x: area.right() - width, width, ..area };
        vec![Rect { width: area.width - width - GUTTER, ..area }, right]
    }

    /// How a table stands: folded where its explanations were seen and would be cut off.
    fn form(&self, section: &Section, (width, screen): (u16, u16), room: u16) -> Form {
        let seen = || self.explained.iter().any(|title| title == section.title);
        if screen >= EXPLAINED || section.meaning(0).is_none() || !seen() {
            return form(section, width, room);
        }
        let names = section.rows.iter().filter_map(|row| row.cells[0].text());
        let cell = names.map(str::width).max().unwrap_or(0) as u16 + 2 + FIGURE[0] + FIGURE[1];
        Form::Figures { per_line: (width.saturating_sub(FIGURES_X) / cell).max(1), cell }
    }

    /// Lines above the rows of a table: its title, its strip, its headings or what the chosen row means.
    fn head(&self, section: &Section, form: Form, strip: bool) -> u16 {
        let chosen = || section.rows.iter().any(|row| Some(&row.id) == self.selected.as_ref());
        let headings = match form {
            Form::Figures { .. } if chosen() => TOLD,
            Form::Figures { .. } => 0,
            _ => 1,
        };
        1 + u16::from(strip) + headings
    }

    /// Titles of tables whose explanations have been seen by now, on a screen where they are folded then.
    pub fn seen(&self, area: Option<Rect>) -> Vec<String> {
        let mut seen = self.explained.clone();
        let Some(area) = area.filter(|area| area.width < EXPLAINED) else { return seen };
        for placed in self.placed(area) {
            let section = &self.sections[placed.section];
            if section.meaning(0).is_some() && !seen.iter().any(|title| title == section.title) {
                seen.push(section.title.to_owned());
            }
        }
        seen
    }

    /// The place on the title line for the titles of all tables: they stand above the first column.
    pub fn title_line(&self, area: Rect) -> Rect {
        Rect { height: 1, ..self.columns(area).first().copied().unwrap_or(area) }
    }

    /// Lines that all tables would fill.
    pub fn wish(&self, width: u16) -> u16 {
        let mut bottoms: Vec<(u16, u16)> =
            self.columns(Rect { width, ..Rect::default() }).iter().map(|column| (column.width, 0)).collect();
        let of = |section: &Section, own: u16| {
            let room = if section.rows.len() > CORES_IN_ROWS { 12 } else { u16::MAX };
            let form = self.form(section, (own, width), room);
            self.head(section, form, section.shape == Shape::Strip) + form.lines(section.rows.len())
        };
        for section in self.turned() {
            if let Some((width, bottom)) = bottoms.iter_mut().min_by_key(|(_, bottom)| *bottom) {
                *bottom += of(&self.sections[section], *width);
            }
        }
        bottoms.into_iter().map(|(_, bottom)| bottom).max().unwrap_or(0)
    }

    /// Places as many tables as there is room for, each in the column that is filled least.
    pub fn placed(&self, area: Rect) -> Vec<Placed> {
        let mut placed = vec![];
        let (mut columns, screen) = (self.columns(area), area.width);
        for section in self.turned() {
            let Some(area) = columns.iter_mut().min_by_key(|column| column.y) else { break };
            let (room, y) = (area.height, area.y);
            let table = &self.sections[section];
            let strip = table.shape == Shape::Strip && room >= 5;
            let head = self.head(table, self.form(table, (area.width, screen), room), strip);
            let is_first = placed.is_empty();
            // A table below another needs two rows to be worth its title, or all of a smaller one.
            let least = head + if is_first { 1 } else { (table.rows.len() as u16).min(2) };
            if room < least {
                break;
            }
            let form = self.form(table, (area.width, screen), room - head);
            let height = form.lines(table.rows.len()).min(room - head);
            let seen = usize::from(height) * form.per_line();
            let first = if is_first { self.scroll.min(table.rows.len().saturating_sub(seen)) } else { 0 };
            let rows = Rect::new(area.x, y + head, area.width, height);
            placed.push(Placed {
                section,
                title: y,
                strip: strip.then_some(y + 1),
                headings: y + 1 + u16::from(strip),
                rows,
                form,
                first,
            });
            *area = Rect { y: rows.bottom(), height: area.bottom().saturating_sub(rows.bottom()), ..*area };
        }
        placed
    }

    /// Titles of all tables on the first line, as cells from–to and the table; for clicking.
    pub fn tabs(&self, area: Rect, begin: u16) -> Vec<(u16, u16, usize)> {
        let mut x = begin;
        let mut tabs = vec![];
        for (at, section) in self.sections.iter().enumerate() {
            let width = section.title.width() as u16;
            if x + width + 1 > area.right() {
                break;
            }
            tabs.push((x, x + width, at));
            x += width + 3;
        }
        tabs
    }

    /// The row of the current table that is chosen.
    pub fn selected_row(&self) -> Option<usize> {
        let selected = self.selected.as_ref()?;
        self.sections.get(self.current)?.rows.iter().position(|row| row.id == *selected)
    }

    /// The table whose title is at a place of the screen.
    pub fn titled(&self, area: Rect, position: Position) -> Option<usize> {
        let mut placed = self.placed(area).into_iter();
        let found =
            placed.find(|placed| Rect { y: placed.title, height: 1, ..placed.rows }.contains(position));
        found.map(|placed| placed.section)
    }

    /// The part at a place of the screen.
    pub fn at(&self, area: Rect, position: Position) -> Option<(usize, usize)> {
        let placed = self.placed(area).into_iter().find(|placed| placed.rows.contains(position))?;
        let line = usize::from(position.y - placed.rows.y);
        let row = match placed.form.grid() {
            None => placed.first + line,
            Some((per_line, cell, label)) => {
                let column = position.x.checked_sub(placed.rows.x + label)? / cell;
                if column >= per_line {
                    return None;
                }
                placed.first + line * usize::from(per_line) + usize::from(column)
            }
        };
        (row < self.sections[placed.section].rows.len()).then_some((placed.section, row))
    }

    /// Scrolls the current table so far that the chosen part is seen.
    pub fn keep_selected_visible(&mut self, area: Rect) {
        let Some(row) = self.selected_row() else { return };
        let Some(placed) = self.placed(area).first().copied() else { return };
        let per_line = placed.form.per_line();
        let row = row - row % per_line;
        let seen = usize::from(placed.rows.height) * per_line;
        self.scroll = self.scroll.clamp((row + per_line).saturating_sub(seen), row);
    }

    /// Rows that a step up or down passes.
    pub fn line(&self, area: Rect) -> usize {
        self.placed(area).first().map_or(1, |placed| placed.form.per_line())
    }
}
