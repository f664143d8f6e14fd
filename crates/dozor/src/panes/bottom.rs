//! The hint line, the prompt above it, totals of what is marked, and the message.

use super::cell;
use crate::draw::{put, put_right};
use crate::look::action::Action;
use crate::look::columns::heading;
use crate::look::theme::{Ground, Role};
use crate::panes::hints::hints;
use crate::settings::table::setting;
use crate::sheets::prompt::{Prompt, Purpose};
use crate::state::State;
use dozor_core::lane::Severity;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;
use ratatui::widgets::{Clear, Widget as _};
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

/// Keys that mean something now, as far as there is room.
pub fn draw(state: &State, buffer: &mut Buffer, area: Rect) {
    buffer.set_style(area, state.theme.ground(Ground::Panel));
    for hint in hints(state, area) {
        let room = area.right().saturating_sub(hint.x);
        let key = state.theme.role(Role::Accent).add_modifier(Modifier::BOLD);
        let x = put(buffer, hint.x, area.y, room, &hint.key, key);
        let room = area.right().saturating_sub(x + 1);
        put(buffer, x + 1, area.y, room, &hint.word, state.theme.role(Role::Quiet));
    }
}

/// What the marked processes use together.
pub fn marks(state: &State, buffer: &mut Buffer, area: Rect) {
    let theme = &state.theme;
    buffer.set_style(area, theme.ground(Ground::Panel));
    let count = format!("✓ {} marked", state.marked.len());
    let mut x = put(buffer, area.x + 1, area.y, area.width - 1, &count, theme.role(Role::Accent)) + 2;
    for (metric, total) in &state.marked_totals.totals {
        let value = cell::text(state, metric, None, &total.value);
        let least = if total.partial { "≥ " } else { "" };
        let room = area.right().saturating_sub(x);
        x = put(
            buffer,
            x,
            area.y,
            room,
            &format!("{} ", heading(metric, state.of_machine)),
            theme.role(Role::Quiet),
        );
        let room = area.right().saturating_sub(x);
        x = put(buffer, x, area.y, room, &format!("{least}{value}"), theme.role(Role::Strong)) + 2;
    }
    let keys = format!("{} act · {} clear", state.key(Action::Act), state.key(Action::ClearMarks));
    let room = area.right().saturating_sub(x + 1);
    put_right(buffer, area.right().saturating_sub(1), area.y, room, &keys, theme.role(Role::Quiet));
}

/// What is being typed, with what could be typed next above it; below it what is wrong, or what the keys do.
pub fn prompt(state: &State, buffer: &mut Buffer, area: Rect, below: Rect) {
    let Some(prompt) = &state.prompt else { return };
    let theme = &state.theme;
    for area in [area, below] {
        Clear.render(area, buffer);
        buffer.set_style(area, theme.ground(Ground::Panel).patch(theme.role(Role::Text)));
    }
    offered(state, prompt, buffer, Rect { height: area.height - 1, ..area });
    let y = area.bottom() - 1;
    let (before, behind) = prompt.line.halves();
    let text = theme.role(Role::Strong);
    let name = prompt.purpose.word();
    let begin = put(buffer, area.x + 1, y, 14, name, theme.role(Role::Accent)) + 1;
    // A line that is too long is seen around the caret.
    let room = usize::from(area.right().saturating_sub(begin + 2));
    let hidden = before.width().saturating_sub(room * 3 / 4);
    let hidden_letters = {
        let mut cells = 0;
        before
            .chars()
            .take_while(|letter| {
                let fits = cells < hidden;
                cells += letter.width().unwrap_or(0);
                fits
            })
            .count()
    };
    let shown: String = before.chars().skip(hidden_letters).collect();
    let mut x = put(buffer, begin, y, area.right().saturating_sub(begin), &shown, text);
    let mut rest = behind.chars();
    let under = rest.next().unwrap_or(' ').to_string();
    x = put(buffer, x, y, 1, &under, text.add_modifier(Modifier::REVERSED));
    put(buffer, x, y, area.right().saturating_sub(x), rest.as_str(), text);
    if let Some(error) = &prompt.error {
        let (letters, covered) = error.caret();
        let cells: usize = error.text.chars().take(letters).map(|letter| letter.width().unwrap_or(0)).sum();
        let critical = theme.role(Role::Severity(Severity::Critical));
        let at = begin + (cells.saturating_sub(hidden) as u16).min(area.width.saturating_sub(begin + 2));
        let room = below.right().saturating_sub(at);
        let end = put(buffer, at, below.y, room.min(covered as u16), &"^".repeat(covered), critical);
        // Where there is no room behind the caret, the message stands before it.
        let message = &error.message;
        if usize::from(below.right().saturating_sub(end + 1)) >= message.width() || at < begin + 20 {
            put(
                buffer,
                end + 1,
                below.y,
                below.right().saturating_sub(end + 1),
                message,
                theme.role(Role::Text),
            );
        } else {
            put_right(
                buffer,
                at.saturating_sub(1),
                below.y,
                at.saturating_sub(2),
                message,
                theme.role(Role::Text),
            );
        }
        return;
    }
    let hint = match (&prompt.problem, &prompt.purpose) {
        (Some(problem), _) => {
            put(
                buffer,
                begin,
                below.y,
                below.right().saturating_sub(begin),
                problem,
                theme.role(Role::Severity(Severity::Critical)),
            );
            return;
        }
        (None, Purpose::Narrow(_)) if prompt.nobody => {
            "no process matches · enter narrows all the same · esc undoes".to_owned()
        }
        (None, Purpose::Narrow(_)) => {
            let undecided = match state.undecided {
                0 => String::new(),
                many => format!(", {many} unknown"),
            };
            format!(
                "{} shown{undecided} · tab completes · ↑ ↓ recall · enter keeps · esc undoes",
                state.processes_shown
            )
        }
        (None, Purpose::GoTo(_)) => {
            "tab completes · ↑ ↓ recall · enter goes there · esc leaves it".to_owned()
        }
        (None, Purpose::Note(wall)) => format!("bookmark at {} · enter · esc", state.zone.time(*wall)),
        (None, Purpose::Time) => {
            "02:10 · yesterday 14:00 · 2031-02-14 02:10 · -5m · 10m ago · enter goes there · esc leaves it"
                .to_owned()
        }
        (None, Purpose::View | Purpose::Columns) => "a name · enter keeps it · esc leaves it".to_owned(),
        (None, Purpose::Setting(name)) => {
            setting(name).map_or(String::new(), |setting| setting.help.to_owned())
        }
    };
    put(buffer, begin, below.y, below.right().saturating_sub(begin), &hint, theme.role(Role::Quiet));
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

/// A line for the person, over the last row of the table.
pub fn message(state: &State, buffer: &mut Buffer, area: Rect) {
    let Some(message) = &state.message else { return };
    buffer.set_style(area, state.theme.ground(Ground::Panel).patch(state.theme.role(Role::Strong)));
    for x in area.left()..area.right() {
        put(buffer, x, area.y, 1, " ", state.theme.role(Role::Text));
    }
    let sign = message.severity.sign().to_string();
    put(buffer, area.x + 1, area.y, 1, &sign, state.theme.role(Role::Severity(message.severity)));
    put(
        buffer,
        area.x + 3,
        area.y,
        area.width.saturating_sub(4),
        &message.text,
        state.theme.role(Role::Strong),
    );
}
