//! Drawing of the line that is typed.

use super::line::{Prompt, Purpose};
use crate::draw::{put, put_right};
use crate::look::theme::{Ground, Role};
use crate::sheets::Sheet as _;
use crate::state::State;
use dozor_core::expr::ExpressionError;
use dozor_core::lane::Severity;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

/// What is being typed, with what could be typed next above it; below it what is wrong, or what the keys do.
pub fn draw(prompt: &Prompt, state: &State, buffer: &mut Buffer, place: Rect) {
    let theme = &state.theme;
    let below = Rect { y: place.bottom() - 1, height: 1, ..place };
    let area = Rect { height: place.height - 1, ..place };
    offered(state, prompt, buffer, Rect { height: area.height - 1, ..area });
    let y = area.bottom() - 1;
    let begin = put(buffer, area.x + 1, y, 14, &prompt.title(state), theme.role(Role::Accent)) + 1;
    let hidden = line(prompt, state, buffer, Rect { x: begin, y, width: area.right() - begin, height: 1 });
    let room = below.right().saturating_sub(begin);
    if let Some(error) = &prompt.error {
        mistake(error, state, buffer, below, begin, hidden);
    } else if let Some(problem) = &prompt.problem {
        put(buffer, begin, below.y, room, problem, theme.role(Role::Severity(Severity::Critical)));
    } else {
        put(buffer, begin, below.y, room, &advice(prompt, state), theme.role(Role::Quiet));
    }
}

/// The line with its caret. One that is too long is seen around it: gives the cells that are hidden at the left.
fn line(prompt: &Prompt, state: &State, buffer: &mut Buffer, place: Rect) -> usize {
    let (before, behind) = prompt.line.halves();
    let text = state.theme.role(Role::Strong);
    let room = usize::from(place.width.saturating_sub(2));
    let hidden = before.width().saturating_sub(room * 3 / 4);
    let mut cells = 0;
    let letters = before.chars().skip_while(|letter| {
        let fits = cells < hidden;
        cells += letter.width().unwrap_or(0);
        fits
    });
    let shown: String = letters.collect();
    let y = place.y;
    let mut x = put(buffer, place.x, y, place.width, &shown, text);
    let mut rest = behind.chars();
    let under = rest.next().unwrap_or(' ').to_string();
    x = put(buffer, x, y, 1, &under, text.add_modifier(Modifier::REVERSED));
    put(buffer, x, y, place.right().saturating_sub(x), rest.as_str(), text);
    hidden
}

/// Points at what is wrong, and says it.
fn mistake(
    error: &ExpressionError,
    state: &State,
    buffer: &mut Buffer,
    below: Rect,
    begin: u16,
    hidden: usize,
) {
    let theme = &state.theme;
    let (letters, covered) = error.caret();
    let cells: usize = error.text.chars().take(letters).map(|letter| letter.width().unwrap_or(0)).sum();
    let critical = theme.role(Role::Severity(Severity::Critical));
    let at = begin + (cells.saturating_sub(hidden) as u16).min(below.width.saturating_sub(begin + 2));
    let room = below.right().saturating_sub(at);
    let end = put(buffer, at, below.y, room.min(covered as u16), &"^".repeat(covered), critical);
    // Where there is no room behind the caret, the message stands before it.
    let (message, text) = (&error.message, theme.role(Role::Text));
    let room = below.right().saturating_sub(end + 1);
    if usize::from(room) >= message.width() || at < begin + 20 {
        put(buffer, end + 1, below.y, room, message, text);
    } else {
        put_right(buffer, at.saturating_sub(1), below.y, at.saturating_sub(2), message, text);
    }
}

/// What the keys do.
fn advice(prompt: &Prompt, state: &State) -> String {
    match &prompt.purpose {
        Purpose::Narrow(_) if prompt.nobody => {
            "no process matches · enter narrows all the same · esc undoes".to_owned()
        }
        Purpose::Narrow(_) => {
            let undecided = match state.rows().undecided {
                0 => String::new(),
                many => format!(", {many} unknown"),
            };
            format!(
                "{} shown{undecided} · tab completes · ↑ ↓ recall · enter keeps · esc undoes",
                state.rows().processes_shown
            )
        }
        Purpose::GoTo(_) => "tab completes · ↑ ↓ recall · enter goes there · esc leaves it".to_owned(),
        Purpose::Note(wall) => format!("bookmark at {} · enter · esc", state.time().zone.time(*wall)),
        Purpose::Time => {
            "02:10 · yesterday 14:00 · 2031-02-14 02:10 · -5m · 10m ago · enter goes there · esc leaves it"
                .to_owned()
        }
        Purpose::Metric => {
            "disk.busy · disk.wait{sda} · cpu@stacker · rss@4711, several with blanks · enter adds · esc"
                .to_owned()
        }
        Purpose::View | Purpose::Columns | Purpose::Charts => {
            "a name · enter keeps it · esc leaves it".to_owned()
        }
        Purpose::Setting(setting) => setting.help.to_owned(),
        Purpose::Limit(_, what) => format!("{what} · enter keeps it · esc leaves it"),
    }
}

/// Words that could be typed next, around the one that was chosen.
fn offered(state: &State, prompt: &Prompt, buffer: &mut Buffer, area: Rect) {
    let theme = &state.theme;
    let height = usize::from(area.height);
    let chosen = prompt.chosen.as_ref().map(|(at, ..)| *at);
    let first = chosen.map_or(0, |at| (at + 1).saturating_sub(height));
    for (at, completion) in prompt.completions.iter().enumerate().skip(first).take(height) {
        let y = area.y + (at - first) as u16;
        let role = if chosen == Some(at) {
            let row = Rect { y, height: 1, ..area };
            buffer.set_style(row, theme.ground(Ground::Selected));
            put(buffer, area.x + 1, y, 1, "▸", theme.role(Role::Accent));
            Role::Strong
        } else {
            Role::Text
        };
        let x = put(buffer, area.x + 3, y, 40, &completion.word, theme.role(role)).max(area.x + 20) + 2;
        put(buffer, x, y, area.right().saturating_sub(x), &completion.help, theme.role(Role::Quiet));
    }
    let more = prompt.completions.len().saturating_sub(first + height);
    if more > 0 && height > 0 {
        let text = format!(" {more} more ");
        put_right(buffer, area.right() - 1, area.bottom() - 1, 12, &text, theme.role(Role::Quiet));
    }
}
