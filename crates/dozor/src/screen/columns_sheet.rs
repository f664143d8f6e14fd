//! Choosing columns, their order, widths and units.

use super::{Effect, MESSAGE, moves, views};
use crate::look::columns::{ColumnSet, What};
use crate::sheets::prompt::{Prompt, Purpose};
use crate::sheets::{ColumnsSheet, Sheet};
use crate::state::State;
use dozor_core::lane::Severity;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use std::time::Instant;

pub(super) fn open(state: &mut State) {
    state.sheet = Some(Sheet::Columns(ColumnsSheet::default()));
}

pub(super) fn key(state: &mut State, key: &KeyEvent, now: Instant) -> Vec<Effect> {
    let Some(Sheet::Columns(sheet)) = &state.sheet else { return vec![] };
    let items = sheet.items(state);
    let last = items.len().saturating_sub(1);
    let chosen = items.get(sheet.at).copied();
    let shift = key.modifiers.contains(KeyModifiers::SHIFT);
    let control = key.modifiers.contains(KeyModifiers::CONTROL);
    let Some(Sheet::Columns(sheet)) = &mut state.sheet else { return vec![] };
    match key.code {
        KeyCode::Up | KeyCode::Down if shift => {
            if let Some(what) = chosen {
                edit(state, |set| set.shift(what, key.code == KeyCode::Down));
                follow(state, what);
            }
        }
        KeyCode::Left | KeyCode::Right => {
            if let Some(what) = chosen {
                edit(state, |set| set.widen(what, key.code == KeyCode::Right));
            }
        }
        _ if moves(&mut sheet.at, last, key) => {}
        KeyCode::Enter => {
            if let Some(what) = chosen {
                toggle(state, what);
            }
        }
        KeyCode::Tab => {
            if let Some(what) = chosen {
                edit(state, |set| set.next_scale(what));
            }
        }
        KeyCode::Char('s') if control => {
            let name = sheet.set.clone().unwrap_or_default();
            state.prompt = Some(Prompt::new(Purpose::Columns, &name));
        }
        KeyCode::Char('n') if control => next_set(state, now),
        KeyCode::Char('d') if control => {
            let lane = state.lane;
            state.column_sets.remove(&lane);
            state.say(Severity::Fine, "the usual columns of this lane".to_owned(), Some(now + MESSAGE));
        }
        _ => {
            if sheet.typed.search_key(key) {
                sheet.at = 0;
            }
        }
    }
    vec![]
}

/// Shows a column or takes it out; the sheet stays at it.
pub(super) fn toggle(state: &mut State, what: What) {
    edit(state, |set| set.toggle(what));
    // A new column stands behind the others; where there is no room for it there, it goes before some of them.
    let shown = |state: &State| match what {
        // It comes when it has a value; no place would show it sooner.
        What::Metric(metric) if state.away.iter().any(|(alias, _)| *alias == metric.alias) => true,
        What::Metric(metric) => state.fitted_columns().list.iter().any(|column| column.metric == metric),
        What::Trend => state.fitted_columns().trend.is_some(),
        What::NearTop => state.fitted_columns().on_top.is_some(),
    };
    for _ in 0..state.columns().find(what).unwrap_or(0) {
        if shown(state) {
            break;
        }
        edit(state, |set| set.shift(what, false));
    }
    follow(state, what);
}

fn edit(state: &mut State, change: impl FnOnce(&mut ColumnSet)) {
    let mut set = state.columns().clone();
    change(&mut set);
    if set == *ColumnSet::usual(state.lane) {
        state.column_sets.remove(&state.lane);
    } else {
        state.column_sets.insert(state.lane, set);
    }
}

/// Keeps the sheet at a column, wherever it is now.
fn follow(state: &mut State, what: What) {
    let Some(Sheet::Columns(sheet)) = &state.sheet else { return };
    let at = sheet.items(state).iter().position(|other| *other == what);
    if let (Some(Sheet::Columns(sheet)), Some(at)) = (&mut state.sheet, at) {
        sheet.at = at;
    }
}

/// Takes the next of the saved sets for this lane.
fn next_set(state: &mut State, now: Instant) {
    let names: Vec<&String> = state.configured.column_sets.keys().collect();
    if names.is_empty() {
        let text = "no set is saved yet; ctrl-s saves this one under a name".to_owned();
        state.say(Severity::Notice, text, Some(now + MESSAGE));
        return;
    }
    let Some(Sheet::Columns(sheet)) = &state.sheet else { return };
    let at = sheet.set.as_ref().and_then(|name| names.iter().position(|other| *other == name));
    let name = names[at.map_or(0, |at| (at + 1) % names.len())].clone();
    views::take_columns(state, &name, now);
    if let Some(Sheet::Columns(sheet)) = &mut state.sheet {
        sheet.set = Some(name);
    }
}
