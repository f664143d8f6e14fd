//! The command of a row: where it stands in its family, what it has below it, the program's base name, and as much of the
//! rest as somebody wants to see.

use crate::draw::put;
use crate::look::columns::Column;
use crate::look::theme::Role;
use crate::settings::values::CommandForm;
use crate::state::State;
use dozor_core::lane::Severity;
use dozor_core::rank::{Line, RowRef};
use dozor_core::reading::ProcessRow;
use ratatui::buffer::Buffer;
use ratatui::style::{Modifier, Style};
use unicode_width::UnicodeWidthChar as _;

/// Cells that are left for names, however deep a row stands.
const NAME: u16 = 22;

/// A command at its place.
pub struct Cell<'a> {
    /// The column of the commands.
    pub column: &'a Column,
    /// The row of the screen.
    pub y: u16,
    /// The row of the table.
    pub line: &'a Line,
    /// Its process; none for a group.
    pub process: Option<&'a ProcessRow>,
    /// It is gone, or only there for those below it.
    pub receding: bool,
    /// The last search finds it.
    pub found: bool,
}

/// Levels that a row is indented by. What is deeper than there is room for stands at the last one, with a sign.
fn levels(column: &Column, line: &Line) -> u16 {
    line.depth.min(column.width.saturating_sub(NAME) / 2).max(u16::from(line.depth > 0))
}

/// Cells before the sign that opens and folds a row.
pub fn sign_at(state: &State, column: &Column, line: &Line) -> u16 {
    if state.has_rows_below_others() { levels(column, line) * 2 } else { 0 }
}

/// Pieces of text side by side, of which the first cells may be moved out at the left.
struct Pieces<'a> {
    buffer: &'a mut Buffer,
    x: u16,
    y: u16,
    end: u16,
    /// Cells that are still to be left out.
    skip: u16,
}

impl Pieces<'_> {
    fn put(&mut self, text: &str, style: Style) {
        let mut rest = text;
        while let Some(letter) = rest.chars().next().filter(|_| self.skip > 0) {
            self.skip = self.skip.saturating_sub(letter.width().unwrap_or(0) as u16);
            rest = &rest[letter.len_utf8()..];
        }
        self.x = put(self.buffer, self.x, self.y, self.end.saturating_sub(self.x), rest, style);
    }
}

/// Draws it.
pub fn draw(state: &State, buffer: &mut Buffer, cell: &Cell<'_>) {
    let Cell { column, y, line, process, receding, found } = *cell;
    let theme = &state.theme;
    let end = column.x + column.width;
    let mut x = column.x;
    if state.has_rows_below_others() {
        x = branches(state, buffer, cell, x, end);
    }
    let mut pieces = Pieces { buffer, x, y, end, skip: state.rows().pan };
    let (strong, quiet) = (theme.role(Role::Strong), theme.role(Role::Quiet));
    if let (None, Some(at)) = (line.row, line.totals) {
        let group = &state.rows().table.groups[at];
        pieces.put(&group.label, if receding { quiet } else { strong });
        pieces.put(&format!(" ×{}", group.members.len()), quiet);
        return;
    }
    let Some(row) = process else { return };
    // A zombie has no command line any more.
    let text = if row.command.is_empty() { &*row.name } else { &*row.command };
    let is_thread = matches!(line.row, Some(RowRef::Thread(_)));
    let first_end = text.find(' ').filter(|_| !is_thread).unwrap_or(text.len());
    let base = text[..first_end].rfind('/').filter(|_| text.starts_with('/')).map_or(0, |slash| slash + 1);
    let mut style = if receding || is_thread || text.starts_with('[') { quiet } else { strong };
    if found {
        style = style.add_modifier(Modifier::UNDERLINED);
    }
    if state.values.command_form == CommandForm::Whole {
        pieces.put(&text[..base], quiet);
    }
    pieces.put(&text[base..first_end], style);
    if row.replaced.value() == Some(1) && !receding {
        pieces.put(" replaced", theme.role(Role::Severity(Severity::Notice)));
    }
    if let (Some(at), false) = (line.totals, is_thread) {
        pieces.put(&format!(" ×{}", state.rows().table.groups[at].members.len()), theme.role(Role::Text));
    }
    // A process may rename itself; then both names are shown.
    if !row.name.is_empty()
        && !receding
        && row.pid.value().is_some()
        && !text.starts_with('[')
        && !text[..first_end].contains(&*row.name)
    {
        pieces.put(&format!(" ({})", row.name), theme.role(Role::Text));
    }
    if state.values.command_form != CommandForm::Name {
        pieces.put(&text[first_end..], quiet);
    }
}

/// Lines from the parents, and the sign of what is below. Gives the next free cell.
fn branches(state: &State, buffer: &mut Buffer, cell: &Cell<'_>, x: u16, end: u16) -> u16 {
    let style = state.theme.role(Role::Quiet);
    let (y, line) = (cell.y, cell.line);
    let mut x = x;
    let levels = levels(cell.column, line);
    for level in 1..=levels {
        let goes_on = line.branches.checked_shr(u32::from(level)).unwrap_or(0) & 1 == 1;
        let sign = match (level == levels, line.last, goes_on) {
            (true, ..) if line.depth > levels => "… ",
            (true, true, _) => "└ ",
            (true, false, _) => "├ ",
            (false, _, true) => "│ ",
            (false, _, false) => "  ",
        };
        x = put(buffer, x, y, end.saturating_sub(x), sign, style);
    }
    let sign = match line.open {
        Some(true) => "▿ ",
        Some(false) => "▹ ",
        None => "",
    };
    put(buffer, x, y, end.saturating_sub(x), sign, state.theme.role(Role::Accent))
}
