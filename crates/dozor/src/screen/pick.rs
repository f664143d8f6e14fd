//! Sheets with a list to pick from: the order, the arrangement, commands, the help.

use super::{Effect, act, moves, views};
use crate::sheets::Sheet;
use crate::sheets::pick::{Item, Picker};
use crate::state::State;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use std::time::Instant;

pub(super) fn key(state: &mut State, key: &KeyEvent, now: Instant) -> Vec<Effect> {
    let Some(Sheet::Pick(picker)) = &state.sheet else { return vec![] };
    let last = picker.items(state).len().saturating_sub(1);
    let Some(Sheet::Pick(picker)) = &mut state.sheet else { return vec![] };
    if moves(&mut picker.at, last, key) {
        return vec![];
    }
    match key.code {
        KeyCode::Enter => return choose(state, false, now),
        KeyCode::Tab => return choose(state, true, now),
        _ => {
            if picker.typed.search_key(key) {
                picker.at = 0;
            }
        }
    }
    vec![]
}

/// Does what the chosen line says; with `second` what `tab` does to it.
pub(super) fn choose(state: &mut State, second: bool, now: Instant) -> Vec<Effect> {
    let Some(Sheet::Pick(Picker { at, .. })) = &state.sheet else { return vec![] };
    let at = *at;
    let Some(Sheet::Pick(picker)) = &state.sheet else { return vec![] };
    let Some(row) = picker.items(state).into_iter().nth(at) else { return vec![] };
    match row.item {
        Item::Metric(metric) => {
            state.order = if second { state.order.then_by(metric) } else { state.order.first_by(metric) };
            if !second {
                state.sheet = None;
            }
            state.rank_anew();
        }
        Item::Arrange(arrange) => {
            state.sheet = None;
            state.arrange_by(arrange);
        }
        Item::Action(action) if !second => {
            state.sheet = None;
            return act(state, action, now);
        }
        Item::View(name) if !second => {
            state.sheet = None;
            views::show(state, &name, now);
        }
        Item::Action(_) | Item::View(_) | Item::Text => {}
    }
    vec![]
}
