//! Saved views and saved sets of columns.

use super::{Effect, MESSAGE};
use crate::look::columns::ColumnSet;
use crate::settings::file::Change;
use crate::settings::view::View;
use crate::sheets::Sheet;
use crate::state::State;
use dozor_core::lane::Severity;
use std::time::Instant;

/// Name of how it looked before somebody went through the views.
const BEFORE: &str = "as before";

/// Goes to the next view; behind the last one how it looked before comes back.
pub(super) fn next(state: &mut State, now: Instant) {
    if state.view.is_none() {
        state.configured.before_views = Some(View::of(state, BEFORE));
    }
    let views = state.configured.views.iter().chain(&state.configured.before_views);
    let names: Vec<String> = views.map(|view| view.name.clone()).collect();
    let at = state.view.as_ref().and_then(|name| names.iter().position(|other| other == name));
    if let Some(name) = names.get(at.map_or(0, |at| (at + 1) % names.len())).cloned() {
        show(state, &name, now);
    }
}

/// Shows a view.
pub(super) fn show(state: &mut State, name: &str, now: Instant) {
    if state.view.is_none() && name != BEFORE {
        state.configured.before_views = Some(View::of(state, BEFORE));
    }
    let found =
        state.configured.views.iter().chain(&state.configured.before_views).find(|view| view.name == name);
    let Some(view) = found.cloned() else { return };
    view.apply(state);
    if name == BEFORE {
        state.view = None;
    }
    let text = format!("view {}: {}", view.name, view.describe());
    state.say(Severity::Fine, text, Some(now + MESSAGE));
}

/// Keeps what is shown as a view.
pub(super) fn save(state: &mut State, name: &str, now: Instant) -> Vec<Effect> {
    if name == BEFORE {
        state.say(Severity::Notice, format!("'{BEFORE}' has a meaning of its own"), Some(now + MESSAGE));
        return vec![];
    }
    let view = View::of(state, name);
    state.configured.keep_view(view.clone());
    state.view = Some(name.to_owned());
    let key = state.key(crate::look::action::Action::NextView);
    state.say(
        Severity::Fine,
        format!("the view '{name}' is kept; {key} goes through the views"),
        Some(now + MESSAGE),
    );
    vec![Effect::Configure(Change::View(Box::new(view)))]
}

/// Keeps the columns that are shown under a name.
pub(super) fn save_columns(state: &mut State, name: &str, now: Instant) -> Vec<Effect> {
    let text = state.columns().to_string();
    state.configured.column_sets.insert(name.to_owned(), text.clone());
    if let Some(Sheet::Columns(sheet)) = &mut state.sheet {
        sheet.set = Some(name.to_owned());
    }
    state.say(Severity::Fine, format!("the columns are kept as '{name}'"), Some(now + MESSAGE));
    vec![Effect::Configure(Change::Columns(name.to_owned(), text))]
}

/// Shows a saved set of columns in this lane.
pub(super) fn take_columns(state: &mut State, name: &str, now: Instant) {
    let set = state.configured.column_sets.get(name).map(|text| ColumnSet::parse(text));
    if let Some(Ok(set)) = set {
        state.column_sets.insert(state.lane, set);
        state.say(Severity::Fine, format!("columns '{name}'"), Some(now + MESSAGE));
    }
}
