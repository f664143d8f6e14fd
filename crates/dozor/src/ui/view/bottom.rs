//! The hint line, the prompt in its place, and the message above it.

use super::put;
use crate::ui::action::{ACTIONS, Action};
use crate::ui::sheet::Sheet;
use crate::ui::state::{Mode, State};
use crate::ui::theme::{Ground, Role};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;

/// Keys that mean something now, as far as there is room.
pub fn hints(state: &State, buffer: &mut Buffer, area: Rect) {
    buffer.set_style(area, state.theme.ground(Ground::Panel));
    if state.narrowing.is_some() {
        prompt(state, buffer, area);
        return;
    }
    let cells = |(key, word): &(String, String)| key.chars().count() + word.chars().count() + 3;
    let mut pairs = pairs(state);
    // Help and quit stay on a narrow screen; what is easiest to find in the help goes first.
    for word in ["on", "step back", "mark", "lane", "record", "order"] {
        if pairs.iter().map(cells).sum::<usize>() < usize::from(area.width) {
            break;
        }
        pairs.retain(|(_, other)| other != word);
    }
    let mut x = area.x + 1;
    for (key, word) in pairs {
        let room = area.right().saturating_sub(x);
        x = put(buffer, x, area.y, room, &key, state.theme.role(Role::Accent).add_modifier(Modifier::BOLD));
        x = put(buffer, x + 1, area.y, room, &word, state.theme.role(Role::Quiet)) + 2;
    }
}

/// Key and word of each hint.
fn pairs(state: &State) -> Vec<(String, String)> {
    let own = |pairs: &[(&str, &str)]| {
        pairs.iter().map(|(key, word)| ((*key).to_owned(), (*word).to_owned())).collect::<Vec<_>>()
    };
    match &state.sheet {
        Some(Sheet::Act(_)) => return own(&[("↑ ↓", "choose"), ("enter", "send"), ("esc", "leave it")]),
        Some(Sheet::Order(_)) => {
            return own(&[("letters", "search"), ("↑ ↓", "choose"), ("enter", "order"), ("esc", "leave it")]);
        }
        Some(Sheet::Help(_)) => return own(&[("↑ ↓", "scroll"), ("esc", "close")]),
        None => {}
    }
    let table = ACTIONS.iter().filter(|entry| !entry.hint.is_empty()).filter(|entry| match entry.action {
        Action::Act => state.tied.is_none(),
        Action::Record => state.mode == Mode::Live,
        _ => true,
    });
    table
        .map(|entry| {
            let word = match entry.action {
                Action::Record if state.recording.is_some() => "end recording",
                Action::Freeze => match state.mode {
                    Mode::Replay { playing: true, .. } => "pause",
                    Mode::Replay { playing: false, .. } => "play",
                    Mode::Live if state.cursor.is_some() => "live again",
                    Mode::Live => "freeze",
                },
                _ => entry.hint,
            };
            (entry.keys[0].to_owned(), word.to_owned())
        })
        .collect()
}

fn prompt(state: &State, buffer: &mut Buffer, area: Rect) {
    let Some(narrowing) = &state.narrowing else { return };
    let (before, behind) = narrowing.line.halves();
    let text = state.theme.role(Role::Strong);
    let mut x = put(buffer, area.x + 1, area.y, 8, "narrow", state.theme.role(Role::Accent)) + 1;
    let room = area.right().saturating_sub(x + 30);
    x = put(buffer, x, area.y, room, &before, text);
    let mut rest = behind.chars();
    let under = rest.next().unwrap_or(' ').to_string();
    x = put(buffer, x, area.y, 1, &under, text.add_modifier(Modifier::REVERSED));
    x = put(buffer, x, area.y, room, rest.as_str(), text) + 2;
    let hint = format!("{} match · enter keeps · esc undoes", state.rows.len());
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
