//! The hint line, the prompt above it, totals of what is marked, and the message.

use super::cell;
use crate::draw::{put, put_right};
use crate::look::action::Action;
use crate::look::columns::heading;
use crate::look::theme::{Ground, Role};
use crate::panes::hints::Hint;
use crate::state::State;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;

/// Keys that mean something now, as far as there is room.
pub fn hints(state: &State, buffer: &mut Buffer, hints: &[Hint], area: Rect) {
    buffer.set_style(area, state.theme.ground(Ground::Panel));
    for hint in hints {
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
    let count = format!("✓ {} marked", state.selection().marked.len());
    let mut x = put(buffer, area.x + 1, area.y, area.width - 1, &count, theme.role(Role::Accent)) + 2;
    for (metric, total) in &state.rows().marked_totals.totals {
        let value = cell::text(state, metric, None, &total.value);
        let least = if total.partial { "≥ " } else { "" };
        let room = area.right().saturating_sub(x);
        x = put(
            buffer,
            x,
            area.y,
            room,
            &format!("{} ", heading(metric, state.values.of_machine)),
            theme.role(Role::Quiet),
        );
        let room = area.right().saturating_sub(x);
        x = put(buffer, x, area.y, room, &format!("{least}{value}"), theme.role(Role::Strong)) + 2;
    }
    let keys = format!("{} act · {} clear", state.key(Action::Act), state.key(Action::ClearMarks));
    let room = area.right().saturating_sub(x + 1);
    put_right(buffer, area.right().saturating_sub(1), area.y, room, &keys, theme.role(Role::Quiet));
}

/// A line for the person, over the last row of the table.
pub fn message(state: &State, buffer: &mut Buffer, area: Rect) {
    let Some(message) = &state.session().message else { return };
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
