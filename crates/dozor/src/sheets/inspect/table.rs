//! A table of one page: columns, rows that can be ordered by any of them, notes above it.

use crate::draw::list::Seen;
use crate::draw::{put, put_right};
use crate::look::theme::{Role, Theme};
use dozor_core::known::Raw;
use dozor_core::sorting::ColdSort as _;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;
use std::cmp::Ordering;

/// One column; the last one takes what is left.
pub struct Column {
    pub heading: &'static str,
    pub width: u16,
    /// Numbers stand at its right edge.
    pub right: bool,
    /// Where the last one has little room it leaves its own to that.
    pub yields: bool,
}

impl Column {
    /// The same, but that it leaves its room to the last one where that has little.
    pub const fn yielding(self) -> Column {
        Column { yields: true, ..self }
    }
}

/// Room that the last column has before others leave theirs to it.
const LEAST: u16 = 24;

/// A column of numbers.
pub const fn number(heading: &'static str, width: u16) -> Column {
    Column { heading, width, right: true, yields: false }
}

/// A column of words.
pub const fn words(heading: &'static str, width: u16) -> Column {
    Column { heading, width, right: false, yields: false }
}

/// A cell: what stands there, and what it is ordered by; numbers, the largest first, before words.
#[derive(Clone)]
pub struct Cell {
    pub text: String,
    pub number: Option<f64>,
    pub role: Role,
}

/// A word.
pub fn word(text: impl Into<String>) -> Cell {
    Cell { text: text.into(), number: None, role: Role::Text }
}

/// A word that recedes.
pub fn quiet(text: impl Into<String>) -> Cell {
    Cell { role: Role::Quiet, ..word(text) }
}

/// A word that the eye shall find.
pub fn strong(text: impl Into<String>) -> Cell {
    Cell { role: Role::Strong, ..word(text) }
}

/// A number with its text; zero recedes.
pub fn value(number: f64, text: impl Into<String>) -> Cell {
    let role = if number == 0.0 { Role::Quiet } else { Role::Text };
    Cell { text: text.into(), number: Some(number), role }
}

/// A raw number, where it is known: not there and not permitted are two things.
pub fn raw(raw: Raw, text: impl Fn(f64) -> String) -> Cell {
    match raw {
        Raw::DENIED => quiet("×"),
        other => other.value().map_or_else(|| quiet("–"), |number| value(number as f64, text(number as f64))),
    }
}

/// A number that may not be known.
pub fn maybe(number: Option<f64>, text: impl Fn(f64) -> String) -> Cell {
    number.map_or_else(|| quiet("–"), |number| value(number, text(number)))
}

/// What a page shows.
#[derive(Default)]
pub struct Table {
    pub columns: Vec<Column>,
    pub rows: Vec<Vec<Cell>>,
    /// Lines above it.
    pub notes: Vec<String>,
}

impl Table {
    /// Without columns: only lines that say why there is nothing.
    pub fn only(note: impl Into<String>) -> Table {
        Table { notes: vec![note.into()], ..Table::default() }
    }

    /// Orders the rows by a column, the largest number first, words from a to z; or the other way.
    pub fn order(&mut self, column: usize, other_way: bool) {
        self.rows.cold_sort_by(|a, b| {
            let (Some(a), Some(b)) = (a.get(column), b.get(column)) else { return Ordering::Equal };
            // What is not known stands last, whichever way.
            let known = |cell: &Cell| cell.number.is_some() || !matches!(cell.text.as_str(), "–" | "×" | "");
            let order = match (a.number, b.number) {
                (Some(a), Some(b)) => b.total_cmp(&a),
                (None, None) => a.text.cmp(&b.text),
                (a, b) => b.is_some().cmp(&a.is_some()),
            };
            let order = if other_way { order.reverse() } else { order };
            known(b).cmp(&known(a)).then(order)
        });
    }

    /// First cell of each column, and its width; none of those for which there is no room.
    pub fn places(&self, area: Rect) -> Vec<(u16, u16)> {
        let last = self.columns.len().saturating_sub(1);
        let mut widths: Vec<u16> = self.columns.iter().map(|column| column.width).collect();
        let taken =
            |widths: &[u16]| widths[..last].iter().filter(|width| **width > 0).map(|width| width + 2).sum();
        for at in (0..last).rev().filter(|at| self.columns[*at].yields) {
            let others: u16 = taken(&widths);
            if others + 1 + LEAST > area.width {
                widths[at] = 0;
            }
        }
        let mut x = area.x + 1;
        let place = |(at, width): (usize, u16)| {
            let left = area.right().saturating_sub(x);
            let place = (x, if at == last { left } else { width.min(left) });
            x += if place.1 > 0 { place.1 + 2 } else { 0 };
            place
        };
        widths.into_iter().enumerate().map(place).collect()
    }

    /// Where the headings stand.
    pub fn heading_y(&self, area: Rect) -> u16 {
        area.y + self.notes.len() as u16
    }

    /// Where the rows stand.
    pub fn rows_area(&self, area: Rect) -> Rect {
        let above = self.notes.len() as u16 + u16::from(!self.columns.is_empty());
        Rect { y: area.y + above, height: area.height.saturating_sub(above), ..area }
    }

    /// Draws it; one row is chosen, one column orders.
    pub fn draw(&self, theme: &Theme, buffer: &mut Buffer, area: Rect, at: usize, order: (usize, bool)) {
        for (y, note) in (area.top()..area.bottom()).zip(&self.notes) {
            put(buffer, area.x + 1, y, area.width.saturating_sub(2), note, theme.role(Role::Quiet));
        }
        let places = self.places(area);
        let y = self.heading_y(area);
        for (number, (column, (x, width))) in self.columns.iter().zip(&places).enumerate() {
            let orders = number == order.0;
            let arrow = if orders { if order.1 { "▴" } else { "▾" } } else { "" };
            let text = format!("{}{arrow}", column.heading);
            let style = theme.role(if orders { Role::Accent } else { Role::Quiet });
            let style = if orders { style.add_modifier(Modifier::BOLD) } else { style };
            if y < area.bottom() && *width > 0 {
                if column.right && number + 1 < self.columns.len() {
                    put_right(buffer, x + width, y, *width, &text, style);
                } else {
                    put(buffer, *x, y, *width, &text, style);
                }
            }
        }
        let seen = Seen::around(self.rows_area(area), at);
        seen.draw(theme, buffer, &self.rows, |buffer, y, row, chosen| {
            for (number, (cell, (x, width))) in
                row.iter().zip(&places).enumerate().filter(|(_, (_, place))| place.1 > 0)
            {
                let role = if chosen && cell.role == Role::Text { Role::Strong } else { cell.role };
                if self.columns[number].right && number + 1 < self.columns.len() {
                    put_right(buffer, x + width, y, *width, &cell.text, theme.role(role));
                } else {
                    put(buffer, *x, y, *width, &cell.text, theme.role(role));
                }
            }
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn where_there_is_little_room_some_columns_leave_theirs_to_the_last() {
        let columns = vec![
            number("thread", 8),
            number("cpu", 7).yielding(),
            number("core", 5).yielding(),
            words("does", 0),
        ];
        let table = Table { columns, ..Table::default() };
        let widths = |width: u16| -> Vec<u16> {
            table.places(Rect::new(0, 0, width, 9)).into_iter().map(|(_, width)| width).collect()
        };
        assert_eq!(widths(80), [8, 7, 5, 53]);
        assert_eq!(widths(51), [8, 7, 5, 24]);
        assert_eq!(widths(50), [8, 7, 0, 30], "the right one first");
        assert_eq!(widths(40), [8, 0, 0, 29]);
        assert_eq!(widths(12), [8, 0, 0, 1]);
        assert_eq!(widths(5), [4, 0, 0, 0]);
    }

    #[test]
    fn the_largest_is_first_and_what_is_not_known_last_whichever_way() {
        let row = |number: Option<f64>| vec![maybe(number, |number| number.to_string())];
        let mut table = Table { rows: vec![row(None), row(Some(1.0)), row(Some(5.0))], ..Table::default() };
        let texts = |table: &Table| table.rows.iter().map(|row| row[0].text.clone()).collect::<Vec<_>>();
        table.order(0, false);
        assert_eq!(texts(&table), ["5", "1", "–"]);
        table.order(0, true);
        assert_eq!(texts(&table), ["1", "5", "–"]);
        assert_eq!(
            (raw(Raw::DENIED, |_| String::new()).text, raw(Raw::ABSENT, |_| String::new()).text),
            ("×".into(), "–".into())
        );
    }
}
