//! Selecting, marking and acting on processes.

use super::{Effect, MESSAGE};
use crate::hands::Target;
use crate::ui::action::Action;
use crate::ui::sheet::{ActSheet, Sheet};
use crate::ui::state::{HOLD, State};
use dozor_core::aside::is_gathered;
use dozor_core::lane::Severity;
use dozor_core::reading::{ProcessKey, ProcessRow};
use std::sync::Arc;
use std::time::Instant;

pub(super) fn go(state: &mut State, action: Action, now: Instant) {
    let page = state.layout().map_or(1, |layout| layout.rows.height as isize).max(2) - 1;
    match action {
        Action::Down => move_selection(state, 1, now),
        Action::Up => move_selection(state, -1, now),
        Action::PageDown => move_selection(state, page, now),
        Action::PageUp => move_selection(state, -page, now),
        Action::First => select(state, 0, now),
        _ => select(state, state.rows.len().saturating_sub(1), now),
    }
}

fn move_selection(state: &mut State, rows: isize, now: Instant) {
    let target = match (state.selected, state.row_of_selected()) {
        (None, _) => state.scroll,
        (Some(_), Some(row)) => row.saturating_add_signed(rows),
        // The selected process is gone: go on from where it was.
        (Some(_), None) => state.selected_row,
    };
    select(state, target, now);
}

pub(super) fn select(state: &mut State, row: usize, now: Instant) {
    let row = row.min(state.rows.len().saturating_sub(1));
    state.selected = state.key_of_row(row);
    state.selected_row = row;
    state.held_until = Some(now + HOLD);
    state.keep_selection_visible();
}

/// Where nothing is selected, or what is selected cannot be seen because of the narrowing, the first process that
/// can be acted on is. A process that has ended stays selected, so that nobody acts on its neighbour by accident.
fn select_something(state: &mut State, now: Instant) {
    let sample = state.sample.as_ref();
    let ended = state.selected.is_some_and(|key| sample.is_some_and(|sample| sample.find(key).is_none()));
    if !ended && state.row_of_selected().is_none() {
        let is_there = |row: &usize| state.key_of_row(*row).is_some_and(|key| target(state, key).is_some());
        let first = (state.scroll..state.rows.len()).find(is_there);
        select(state, first.unwrap_or(state.scroll), now);
    }
}

pub(super) fn mark(state: &mut State, now: Instant) {
    select_something(state, now);
    let Some(key) = state.selected else { return };
    // What is gone, and rows that stand for several, cannot be acted on.
    let is_there = state.sample.as_ref().is_some_and(|sample| sample.find(key).is_some());
    if is_there && !is_gathered(key) && !state.marked.remove(&key) {
        state.marked.insert(key);
    }
    move_selection(state, 1, now);
}

fn target(state: &State, key: ProcessKey) -> Option<Target> {
    let sample = state.sample.as_ref()?;
    let row = &sample.now.processes[sample.find(key)?];
    row.pid.value()?;
    let is_child = |other: &&Arc<ProcessRow>| other.ppid.value() == Some(key.pid);
    let children = sample.now.processes.iter().filter(is_child).count();
    let (name, user, command) = (row.name.clone(), row.user.clone(), row.command.clone());
    Some(Target { key, name, user, command, children })
}

/// The marked processes, or else the selected one.
fn targets(state: &State) -> Vec<Target> {
    let selected = state.selected.into_iter().collect::<Vec<_>>();
    let keys = if state.marked.is_empty() { selected } else { state.marked.iter().copied().collect() };
    keys.into_iter().filter_map(|key| target(state, key)).collect()
}

pub(super) fn open_act(state: &mut State, now: Instant) {
    if let Some(reason) = state.tied {
        state.say(Severity::Notice, reason.to_owned(), Some(now + MESSAGE));
        return;
    }
    if state.marked.is_empty() {
        let selected = state.selected;
        select_something(state, now);
        // Rows move: what stands at the top now may be another one than when the hand went to the key.
        if state.selected != selected && state.rows.len() > 1 {
            let name = state.selected.and_then(|key| target(state, key)).map(|target| target.label());
            let text = format!("selected {}; x again acts on it", name.unwrap_or_default());
            state.say(Severity::Notice, text, Some(now + MESSAGE));
            return;
        }
    }
    let targets = targets(state);
    if targets.is_empty() {
        let text = "that is no process any more; select another".to_owned();
        state.say(Severity::Notice, text, Some(now + MESSAGE));
    } else {
        state.sheet = Some(Sheet::Act(ActSheet::new(targets)));
    }
}

/// Gives something of the marked processes, or else of the selected one, to the clipboard.
pub(super) fn copy(state: &mut State, now: Instant, what: impl Fn(&Target) -> String) -> Vec<Effect> {
    let texts: Vec<String> = targets(state).iter().map(what).collect();
    if texts.is_empty() {
        state.say(Severity::Notice, "select a process first".to_owned(), Some(now + MESSAGE));
        return vec![];
    }
    let text = texts.join("\n");
    let shown = if texts.len() == 1 { text.clone() } else { format!("{} lines", texts.len()) };
    state.say(Severity::Fine, format!("given to the terminal's clipboard: {shown}"), Some(now + MESSAGE));
    vec![Effect::Copy(text)]
}
