//! What keys do: on the screen itself, in a sheet, in a line that is typed.

use super::{Effect, act, columns_sheet, compare, lanes, moves, pick, prompt, settings_sheet, sign_action};
use crate::look::action::{Action, key_name};
use crate::sheets::Sheet;
use crate::state::{HOLD, State};
use dozor_core::lane::Severity;
use dozor_core::rank::Whose;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use std::time::Instant;

pub(super) fn pressed(state: &mut State, key: &KeyEvent, now: Instant) -> Vec<Effect> {
    let action = state.keys.action(key);
    // These mean the same wherever one is.
    if matches!(action, Some(Action::Suspend | Action::Redraw)) || key_name(key) == "ctrl-c" {
        let action = if key_name(key) == "ctrl-c" { Some(Action::Quit) } else { action };
        return action.map(|action| act(state, action, now)).unwrap_or_default();
    }
    if state.prompt.is_some() {
        return prompt::key(state, key, now);
    }
    if closes(state, key, action) {
        close(state);
        return vec![];
    }
    match &state.sheet {
        Some(Sheet::Act(_)) => act_key(state, key, now),
        Some(Sheet::Pick(_)) => pick::key(state, key, now),
        Some(Sheet::Columns(_)) => columns_sheet::key(state, key, now),
        Some(Sheet::Settings(_)) => settings_sheet::key(state, key, now),
        Some(Sheet::Compare(_)) => {
            compare::key(state, key, now);
            vec![]
        }
        None => on_the_screen(state, key, action, now),
    }
}

/// Closes the sheet that is open.
pub(super) fn close(state: &mut State) {
    if let Some(Sheet::Compare(_)) = state.sheet.take() {
        state.remembered = None;
    }
}

/// Whether a key closes the sheet that is open. Where letters search, they do so as soon as something is typed.
fn closes(state: &mut State, key: &KeyEvent, action: Option<Action>) -> bool {
    let Some(sheet) = &mut state.sheet else { return false };
    if key.code == KeyCode::Esc {
        return true;
    }
    let opener = sheet.opener();
    let own = action.is_some() && (action == opener || action == Some(Action::Back));
    match sheet.typed() {
        Some(typed) => own && typed.text().is_empty(),
        None => own || action == Some(Action::Quit),
    }
}

/// The key of a list that is not searched, as one that moves in it: those that move in the table do.
pub(super) fn moving(state: &State, key: &KeyEvent) -> KeyEvent {
    let code = match state.keys.action(key) {
        Some(Action::Down) => KeyCode::Down,
        Some(Action::Up) => KeyCode::Up,
        _ => return *key,
    };
    KeyEvent::new(code, key.modifiers)
}

fn on_the_screen(state: &mut State, key: &KeyEvent, action: Option<Action>, now: Instant) -> Vec<Effect> {
    if state.parts.in_focus {
        match key.code {
            KeyCode::Left => lanes::move_part(state, -1),
            KeyCode::Right => lanes::move_part(state, 1),
            // The part stays chosen; the arrow keys go back to the processes.
            KeyCode::Enter => state.parts.in_focus = false,
            _ => return action.map(|action| act(state, action, now)).unwrap_or_default(),
        }
        state.keep_selection_visible();
        return vec![];
    }
    action.map(|action| act(state, action, now)).unwrap_or_default()
}

/// Closes what is open; else takes off what narrows; else the selection and the marks.
pub(super) fn back(state: &mut State) {
    if state.search.take().is_some() {
        state.message = None;
        return;
    }
    if state.message.take().is_some() {
        return;
    }
    let narrowing = &mut state.narrowing;
    if state.parts.in_focus || state.parts.selected.is_some() {
        state.parts.in_focus = false;
        lanes::select_part(state, None);
    } else if state.find.take().is_some() {
        // What was looked for is no longer drawn out.
    } else if narrowing.expression.take().is_some() {
        state.rank_anew();
    } else if narrowing.whose != Whose::Everyone || narrowing.active || narrowing.pids.is_some() {
        *narrowing = narrowing.cleared();
        state.rank_anew();
    } else if state.selected.take().is_some() {
        state.scroll = 0;
        state.held_until = None;
    } else {
        state.marked.clear();
    }
}

fn act_key(state: &mut State, key: &KeyEvent, now: Instant) -> Vec<Effect> {
    let Some(Sheet::Act(sheet)) = &mut state.sheet else { return vec![] };
    let last = sheet.matching().len().saturating_sub(1);
    match key.code {
        _ if moves(&mut sheet.at, last, key) => {}
        KeyCode::Enter => {
            let Some(signal) = sheet.matching().get(sheet.at).map(|signal| (*signal).clone()) else {
                return vec![];
            };
            let targets = std::mem::take(&mut sheet.targets);
            state.sheet = None;
            state.held_until = Some(now + HOLD);
            let who = match &targets[..] {
                [one] => one.label(),
                many => format!("{} processes", many.len()),
            };
            let waiting = if signal.ends { "; waiting for the end …" } else { "" };
            state.say(Severity::Fine, format!("{} sent to {who}{waiting}", signal.name), None);
            sign_action(state, format!("{} sent to {who}", signal.name));
            return vec![Effect::Signal(signal, targets)];
        }
        _ => {
            if sheet.typed.search_key(key) {
                sheet.at = 0;
            }
        }
    }
    vec![]
}
