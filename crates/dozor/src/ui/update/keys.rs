//! What keys do: on the screen itself, in a sheet, in a line that is typed.

use super::{Effect, MESSAGE, act, lanes, sign_action};
use crate::ui::action::{Action, action_of, key_name};
use crate::ui::line_edit::LineEdit;
use crate::ui::sheet::Sheet;
use crate::ui::state::{HOLD, Prompt, Purpose, SignKind, State};
use crate::ui::view;
use dozor_core::lane::Severity;
use dozor_core::rank::{Narrow, Order};
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use std::time::Instant;

pub(super) fn pressed(state: &mut State, key: &KeyEvent, now: Instant) -> Vec<Effect> {
    let action = action_of(key);
    // These mean the same wherever one is.
    if matches!(action, Some(Action::Suspend | Action::Redraw)) || key_name(key) == "ctrl-c" {
        return action.map(|action| act(state, action, now)).unwrap_or_default();
    }
    if state.prompt.is_some() {
        prompt_key(state, key, now);
        return vec![];
    }
    match &mut state.sheet {
        Some(Sheet::Act(_)) => return act_key(state, key, now),
        Some(Sheet::Order(_)) => order_key(state, key),
        Some(Sheet::Help(_)) => help_key(state, key, action),
        None => return on_the_screen(state, key, action, now),
    }
    vec![]
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

pub(super) fn pasted(state: &mut State, text: &str) {
    if let Some(prompt) = &mut state.prompt {
        prompt.line.insert_text(text);
        narrow_as_typed(state);
    }
}

/// Closes what is open; else takes off what narrows; else the selection and the marks.
pub(super) fn back(state: &mut State) {
    if state.message.take().is_some() {
        return;
    }
    if state.parts.in_focus || state.parts.selected.is_some() {
        state.parts.in_focus = false;
        lanes::select_part(state, None);
    } else if !state.narrow.is_empty() {
        state.narrow = Narrow::default();
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
    let last = sheet.signals.len() - 1;
    match key.code {
        KeyCode::Down | KeyCode::Char('j') => sheet.at = (sheet.at + 1).min(last),
        KeyCode::Up | KeyCode::Char('k') => sheet.at = sheet.at.saturating_sub(1),
        KeyCode::PageDown => sheet.at = (sheet.at + 10).min(last),
        KeyCode::PageUp => sheet.at = sheet.at.saturating_sub(10),
        KeyCode::Home => sheet.at = 0,
        KeyCode::End => sheet.at = last,
        KeyCode::Enter => {
            let signal = sheet.signals[sheet.at].clone();
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
        KeyCode::Esc | KeyCode::Char('q' | 'x') => state.sheet = None,
        _ => {}
    }
    vec![]
}

fn order_key(state: &mut State, key: &KeyEvent) {
    let Some(Sheet::Order(sheet)) = &mut state.sheet else { return };
    let last = sheet.matching().len().saturating_sub(1);
    match key.code {
        KeyCode::Down => sheet.at = (sheet.at + 1).min(last),
        KeyCode::Up => sheet.at = sheet.at.saturating_sub(1),
        KeyCode::PageDown => sheet.at = (sheet.at + 10).min(last),
        KeyCode::PageUp => sheet.at = sheet.at.saturating_sub(10),
        KeyCode::Enter => {
            let chosen = sheet.matching().get(sheet.at).copied();
            state.sheet = None;
            if let Some(metric) = chosen {
                state.order = Order::by(metric);
                state.rank_anew();
            }
        }
        KeyCode::Esc => state.sheet = None,
        _ => {
            sheet.typed.key(key);
            sheet.at = 0;
        }
    }
}

fn help_key(state: &mut State, key: &KeyEvent, action: Option<Action>) {
    let most = view::help_lines(state).len().saturating_sub(1);
    let Some(Sheet::Help(scroll)) = &mut state.sheet else { return };
    match (key.code, action) {
        (_, Some(Action::Down)) => *scroll = (*scroll + 1).min(most),
        (_, Some(Action::Up)) => *scroll = scroll.saturating_sub(1),
        (_, Some(Action::PageDown | Action::Freeze)) => *scroll = (*scroll + 10).min(most),
        (_, Some(Action::PageUp)) => *scroll = scroll.saturating_sub(10),
        (_, Some(Action::First)) => *scroll = 0,
        (_, Some(Action::Last)) => *scroll = most,
        (KeyCode::Enter, _) | (_, Some(Action::Back | Action::Help | Action::Quit)) => state.sheet = None,
        _ => {}
    }
}

pub(super) fn begin_narrowing(state: &mut State) {
    let before = state.narrow.clone();
    let line = LineEdit::new(before.text());
    state.prompt = Some(Prompt { line, purpose: Purpose::Narrow(before) });
}

pub(super) fn begin_note(state: &mut State) {
    if let Some(sample) = &state.sample {
        let purpose = Purpose::Note(sample.now.wall_ns());
        state.prompt = Some(Prompt { line: LineEdit::new(""), purpose });
    }
}

fn prompt_key(state: &mut State, key: &KeyEvent, now: Instant) {
    match key.code {
        KeyCode::Enter => {
            if let Some(Prompt { line, purpose: Purpose::Note(wall) }) = state.prompt.take() {
                let text = line.text().trim().to_owned();
                let text = if text.is_empty() { "without a note".to_owned() } else { text };
                state.sign(wall, SignKind::Bookmark, text);
                let said = format!("bookmark at {}; ( and ) go from sign to sign", state.zone.time(wall));
                state.say(Severity::Fine, said, Some(now + MESSAGE));
            }
        }
        KeyCode::Esc => {
            if let Some(Prompt { purpose: Purpose::Narrow(before), .. }) = state.prompt.take() {
                state.narrow = before;
                state.rank_anew();
            }
        }
        _ => {
            if state.prompt.as_mut().is_some_and(|prompt| prompt.line.key(key)) {
                narrow_as_typed(state);
            }
        }
    }
}

fn narrow_as_typed(state: &mut State) {
    if let Some(Prompt { line, purpose: Purpose::Narrow(_) }) = &state.prompt {
        state.narrow = Narrow::by_text(&line.text());
        state.scroll = 0;
        state.rank_anew();
    }
}
