//! Selecting, marking and acting on processes.

use super::{Effect, MESSAGE};
use crate::look::action::Action;
use crate::machine::Target;
use crate::sheets::{ActSheet, Sheet};
use crate::state::{HOLD, State};
use dozor_core::aside::is_gathered;
use dozor_core::lane::Severity;
use dozor_core::rank::{Listed, RowId};
use dozor_core::reading::{ProcessKey, ProcessRow};
use dozor_core::row::Row as _;
use std::collections::BTreeSet;
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
        _ => select(state, state.table.lines.len().saturating_sub(1), now),
    }
}

fn move_selection(state: &mut State, rows: isize, now: Instant) {
    let target = match (&state.selected, state.row_of_selected()) {
        (None, _) => state.scroll,
        (Some(_), Some(row)) => row.saturating_add_signed(rows),
        // The selected process is gone: go on from where it was.
        (Some(_), None) => state.selected_row,
    };
    select(state, target, now);
}

pub(super) fn select(state: &mut State, row: usize, now: Instant) {
    let row = row.min(state.table.lines.len().saturating_sub(1));
    state.selected = state.id_of_row(row);
    state.selected_row = row;
    state.held_until = Some(now + HOLD);
    state.keep_selection_visible();
}

/// Where nothing is selected, or what is selected cannot be seen because of the narrowing, the first process that
/// can be acted on is. A process that has ended stays selected, so that nobody acts on its neighbour by accident.
fn select_something(state: &mut State, now: Instant) {
    let sample = state.sample.as_ref();
    let ended = match &state.selected {
        Some(RowId::Process(key)) => sample.is_some_and(|sample| sample.find(*key).is_none()),
        _ => false,
    };
    if !ended && state.row_of_selected().is_none() {
        let is_there = |row: &usize| !state.processes_of_row(*row).is_empty();
        let first = (state.scroll..state.table.lines.len()).find(is_there);
        select(state, first.unwrap_or(state.scroll), now);
    }
}

/// Processes of the selected row.
fn selected_processes(state: &State) -> Vec<ProcessKey> {
    state.row_of_selected().map_or(vec![], |row| state.processes_of_row(row))
}

/// Marks the selected process, or takes the mark off; of several, all are marked unless all are.
pub(super) fn mark(state: &mut State, now: Instant) {
    select_something(state, now);
    let keys: Vec<ProcessKey> =
        selected_processes(state).into_iter().filter(|key| !is_gathered(*key)).collect();
    if keys.iter().all(|key| state.marked.contains(key)) {
        state.marked.retain(|key| !keys.contains(key));
    } else {
        state.marked.extend(keys);
    }
    move_selection(state, 1, now);
}

/// All processes that are shown, also those in totals.
fn shown_processes(state: &State) -> BTreeSet<ProcessKey> {
    let rows = (0..state.table.lines.len()).filter(|row| state.line(*row).is_some_and(|line| !line.context));
    rows.flat_map(|row| state.processes_of_row(row)).collect()
}

pub(super) fn mark_all(state: &mut State) {
    state.marked.extend(shown_processes(state));
}

pub(super) fn invert_marks(state: &mut State) {
    let shown = shown_processes(state);
    state.marked = shown.difference(&state.marked).copied().collect();
}

/// Where a search begins.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Way {
    /// At the selected row itself.
    Here,
    /// Behind it.
    On,
    /// Before it, backwards.
    Back,
}

/// Rows that the search finds.
fn matches(state: &State) -> Vec<usize> {
    let (Some(find), Some(sample)) = (&state.find, &state.sample) else { return vec![] };
    let bound = find.bind(sample, &state.narrowing.me);
    let found = |row: &usize| {
        let line = state.line(*row);
        let is_process = line.is_some_and(|line| !matches!(line.listed, Listed::Thread(_)));
        is_process && state.view_of_row(*row).is_some_and(|view| bound.holds(&view) == Some(true))
    };
    (0..state.table.lines.len()).filter(found).collect()
}

/// Selects the next row that the search finds; behind the last one the first follows.
pub(super) fn go_to_match(state: &mut State, way: Way, now: Instant) {
    if state.find.is_none() {
        if way != Way::Here {
            let text = format!("no search yet; {} starts one", state.key(Action::GoTo));
            state.say(Severity::Notice, text, Some(now + MESSAGE));
        }
        return;
    }
    let found = matches(state);
    let from = state.row_of_selected();
    let next = match (way, from) {
        (_, None) => found.iter().find(|row| **row >= state.scroll),
        (Way::Here, Some(from)) => found.iter().find(|row| **row >= from),
        (Way::On, Some(from)) => found.iter().find(|row| **row > from),
        (Way::Back, Some(from)) => found.iter().rev().find(|row| **row < from),
    };
    let around = if way == Way::Back { found.last() } else { found.first() };
    if let Some(row) = next.or(around).copied() {
        select(state, row, now);
        if way != Way::Here {
            say_match(state, now);
        }
    } else if way != Way::Here {
        state.say(Severity::Notice, "no row that is shown matches".to_owned(), Some(now + MESSAGE));
    }
}

/// Selects the parent of the selected process.
pub(super) fn go_to_parent(state: &mut State, now: Instant) {
    let parent = selected_processes(state).first().copied().and_then(|key| {
        let sample = state.sample.as_ref()?;
        let parent = sample.now.processes[sample.find(key)?].ppid.value()?;
        sample.now.processes.iter().find(|row| row.pid.value() == Some(parent)).map(|row| (parent, row.key()))
    });
    let row = parent.and_then(|(_, key)| {
        (0..state.table.lines.len()).find(|row| state.id_of_row(*row) == Some(RowId::Process(key)))
    });
    match (parent, row) {
        (_, Some(row)) => select(state, row, now),
        (Some((pid, _)), None) => {
            let text = format!("the parent, PID {pid}, is not among the rows that are shown");
            state.say(Severity::Notice, text, Some(now + MESSAGE));
        }
        (None, _) => {
            state.say(
                Severity::Notice,
                "its parent is not among the processes here".to_owned(),
                Some(now + MESSAGE),
            );
        }
    }
}

/// Says how many the search finds, and the keys that go on.
pub(super) fn say_match(state: &mut State, now: Instant) {
    let found = matches(state);
    let place = state.row_of_selected().and_then(|row| found.iter().position(|other| *other == row));
    let (next, previous) = (state.key(Action::NextMatch), state.key(Action::PreviousMatch));
    let text = match (place, found.len()) {
        (_, 0) => "no row that is shown matches".to_owned(),
        (Some(place), many) => format!("{} of {many}; {next} and {previous} go on", place + 1),
        (None, many) => format!("{many} match; {next} and {previous} go to them"),
    };
    state.say(Severity::Fine, text, Some(now + MESSAGE));
}

/// Shows what is below the selected row; where nothing is, the command is moved.
pub(super) fn open(state: &mut State, now: Instant) {
    let Some(row) = state.row_of_selected() else { return pan(state, true) };
    match state.line(row).and_then(|line| line.open) {
        Some(false) => set_open(state, row, true, now),
        Some(true) => select(state, row + 1, now),
        None => pan(state, true),
    }
}

/// Folds what is below the selected row; where that is done, goes to the row above it.
pub(super) fn close(state: &mut State, now: Instant) {
    let Some(row) = state.row_of_selected() else { return pan(state, false) };
    let Some(line) = state.line(row) else { return };
    if line.open == Some(true) {
        set_open(state, row, false, now);
    } else if line.depth > 0 {
        let above =
            (0..row).rev().find(|above| state.line(*above).is_some_and(|other| other.depth < line.depth));
        select(state, above.unwrap_or(row), now);
    } else {
        pan(state, false);
    }
}

/// Opens or folds a row; all others stay in place.
pub(super) fn set_open(state: &mut State, row: usize, open: bool, now: Instant) {
    let Some(id) = state.id_of_row(row) else { return };
    state.folds.set(&id, open);
    state.arrange_anew();
    state.selected = Some(id);
    state.held_until = Some(now + HOLD);
    state.keep_selection_visible();
}

/// Moves along command lines.
pub(super) fn pan(state: &mut State, right: bool) {
    const STEP: u16 = 8;
    /// No command line is kept longer.
    const FURTHEST: u16 = 4096;
    let pan = if right { state.pan + STEP } else { state.pan.saturating_sub(STEP) };
    state.pan = pan.min(FURTHEST);
}

fn target(state: &State, key: ProcessKey) -> Option<Target> {
    let sample = state.sample.as_ref()?;
    let row = &sample.now.processes[sample.find(key)?];
    row.pid.value()?;
    let is_child = |other: &&Arc<ProcessRow>| other.ppid.value() == Some(key.pid);
    let children = sample.now.processes.iter().filter(is_child).count();
    let (name, user, command) = (row.name.clone(), row.user.clone(), row.command.clone());
    let kernel = row.kernel.value() == Some(1);
    Some(Target { key, name, user, command, children, kernel })
}

/// The marked processes, or else the selected one.
fn targets(state: &State) -> Vec<Target> {
    let keys = if state.marked.is_empty() {
        selected_processes(state)
    } else {
        state.marked.iter().copied().collect()
    };
    keys.into_iter().filter_map(|key| target(state, key)).collect()
}

pub(super) fn open_act(state: &mut State, now: Instant) {
    if let Some(reason) = state.tied {
        state.say(Severity::Notice, reason.to_owned(), Some(now + MESSAGE));
        return;
    }
    if state.marked.is_empty() {
        let selected = state.selected.clone();
        select_something(state, now);
        // Rows move: what stands at the top now may be another one than when the hand went to the key.
        if state.selected != selected && state.table.lines.len() > 1 {
            let name = targets(state).first().map(Target::label);
            let text =
                format!("selected {}; {} again acts on it", name.unwrap_or_default(), state.key(Action::Act));
            state.say(Severity::Notice, text, Some(now + MESSAGE));
            return;
        }
    }
    let targets = targets(state);
    if targets.is_empty() {
        let is_thread = matches!(state.selected, Some(RowId::Thread(_) | RowId::IdleThreads(_)));
        let text = if is_thread {
            "a thread gets no signal of its own; select its process"
        } else {
            "that is no process any more; select another"
        };
        let text = text.to_owned();
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
