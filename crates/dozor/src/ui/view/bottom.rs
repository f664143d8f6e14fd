//! The hint line, the prompt in its place, and the message above it.

use super::put;
use crate::ui::hints::hints;
use crate::ui::state::{Purpose, State};
use crate::ui::theme::{Ground, Role};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;

/// Keys that mean something now, as far as there is room.
pub fn draw(state: &State, buffer: &mut Buffer, area: Rect) {
    buffer.set_style(area, state.theme.ground(Ground::Panel));
    if state.prompt.is_some() {
        prompt(state, buffer, area);
        return;
    }
    for hint in hints(state, area) {
        let room = area.right().saturating_sub(hint.x);
        let key = state.theme.role(Role::Accent).add_modifier(Modifier::BOLD);
        let x = put(buffer, hint.x, area.y, room, &hint.key, key);
        let room = area.right().saturating_sub(x + 1);
        put(buffer, x + 1, area.y, room, &hint.word, state.theme.role(Role::Quiet));
    }
}

fn prompt(state: &State, buffer: &mut Buffer, area: Rect) {
    let Some(prompt) = &state.prompt else { return };
    let (before, behind) = prompt.line.halves();
    let (name, hint) = match prompt.purpose {
        Purpose::Narrow(_) => ("narrow", format!("{} match · enter keeps · esc undoes", state.rows.len())),
        Purpose::Note(wall) => ("note", format!("bookmark at {} · enter · esc", state.zone.time(wall))),
    };
    let text = state.theme.role(Role::Strong);
    let mut x = put(buffer, area.x + 1, area.y, 8, name, state.theme.role(Role::Accent)) + 1;
    let room = area.right().saturating_sub(x + 30);
    x = put(buffer, x, area.y, room, &before, text);
    let mut rest = behind.chars();
    let under = rest.next().unwrap_or(' ').to_string();
    x = put(buffer, x, area.y, 1, &under, text.add_modifier(Modifier::REVERSED));
    x = put(buffer, x, area.y, room, rest.as_str(), text) + 2;
    put(buffer, x, area.y, area.right().saturating_sub(x), &hint, state.theme.role(Role::Quiet));
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
