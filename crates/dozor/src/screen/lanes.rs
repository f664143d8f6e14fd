//! Choosing lanes and parts, and how lanes stand.

use super::MESSAGE;
use crate::look::action::Action;
use crate::state::State;
use crate::state::parts::Parts;
use dozor_core::lane::{Lane, Severity};
use dozor_core::parts::{PartId, lens};
use dozor_core::rank::Order;
use std::time::Instant;

/// Looks at a lane, or at the overview.
pub fn choose(state: &mut State, lane: Option<Lane>) {
    let explained = state.parts.seen(state.layout().and_then(|layout| layout.parts));
    state.lane = lane;
    state.parts = Parts { explained, ..Parts::default() };
    state.order = lane.map_or_else(Order::by_cpu, |lane| Order::by(lane.lens()));
    state.chosen_lane_first();
    state.look_at_parts();
    state.rank_anew();
    if state.selected.is_none() {
        state.scroll = 0;
    }
}

/// Goes through the shown lanes and the overview.
pub(super) fn step(state: &mut State, steps: isize) {
    let lanes = state.lanes.shown(state.lane);
    let present = state.lane.and_then(|lane| lanes.iter().position(|other| *other == lane));
    let present = present.map_or(0, |at| at + 1);
    let next = (present as isize + steps).rem_euclid(lanes.len() as isize + 1) as usize;
    choose(state, next.checked_sub(1).map(|at| lanes[at]));
}

pub(super) fn hide(state: &mut State, now: Instant) {
    let Some(lane) = state.lane else {
        state.say(Severity::Notice, "choose the lane to hide first".to_owned(), Some(now + MESSAGE));
        return;
    };
    if state.lanes.hide(lane) {
        choose(state, None);
        let text = format!("{} is hidden; H shows all lanes again", lane.name());
        state.say(Severity::Fine, text, Some(now + MESSAGE));
    }
}

pub(super) fn shift(state: &mut State, down: bool, now: Instant) {
    match state.lane {
        Some(lane) => state.lanes.shift(lane, down),
        None => state.say(Severity::Notice, "choose the lane to move first".to_owned(), Some(now + MESSAGE)),
    }
}

/// Arrow keys go to the parts; where they are there already, to the next kind of part.
pub(super) fn next_parts(state: &mut State, on: bool, now: Instant) {
    if state.lane.is_none() {
        // The worst resource is what somebody looks for.
        let worst = state.standing_out.first().map_or(Lane::Cpu, |(_, lane, _)| *lane);
        choose(state, Some(worst));
    }
    let count = state.parts.sections.len();
    if count == 0 {
        let name = state.lane.map_or("this", Lane::name);
        state.say(Severity::Notice, format!("{name} has no parts here"), Some(now + MESSAGE));
        return;
    }
    if state.parts.in_focus || !on {
        let steps = if on { 1 } else { count - 1 };
        show_section(state, (state.parts.current + steps) % count);
    }
    state.parts.in_focus = true;
    keep_part_visible(state);
    state.keep_selection_visible();
}

/// Puts a table first. A part that was chosen in another one is given up.
pub(super) fn show_section(state: &mut State, section: usize) {
    if section != state.parts.current {
        state.parts.current = section;
        state.parts.scroll = 0;
        if state.parts.selected_row().is_none() {
            select_part(state, None);
        }
    }
}

/// Shows the users of a part, or of all of them.
pub(super) fn select_part(state: &mut State, part: Option<PartId>) {
    if state.parts.selected == part {
        return;
    }
    let usual = state.lane.map_or_else(Order::by_cpu, |lane| Order::by(lane.lens()));
    let before = state.parts.selected.as_ref().and_then(lens).map_or(usual, Order::by);
    let after = part.as_ref().and_then(lens).map_or(usual, Order::by);
    // An order that somebody chose stays.
    if state.order == before {
        state.order = after;
    }
    state.parts.selected = part;
    state.scroll = 0;
    state.rank_anew();
    keep_part_visible(state);
}

pub(super) fn keep_part_visible(state: &mut State) {
    if let Some(area) = state.layout().and_then(|layout| layout.parts) {
        state.parts.keep_selected_visible(area);
    }
}

pub(super) fn move_in_parts(state: &mut State, action: Action) {
    let Some(area) = state.layout().and_then(|layout| layout.parts) else { return };
    let line = state.parts.line(area);
    let page = state.parts.placed(area).first().map_or(1, |placed| usize::from(placed.rows.height)) * line;
    let steps = match action {
        Action::Down => line as isize,
        Action::Up => -(line as isize),
        Action::PageDown => page as isize,
        Action::PageUp => -(page as isize),
        Action::First => isize::MIN,
        _ => isize::MAX,
    };
    move_part(state, steps);
}

/// Chooses the part so many rows on; the first one where none is chosen.
pub(super) fn move_part(state: &mut State, steps: isize) {
    let Some(section) = state.parts.sections.get(state.parts.current) else { return };
    let last = section.rows.len().saturating_sub(1);
    let row = match state.parts.selected_row() {
        Some(row) => row.saturating_add_signed(steps).min(last),
        None if steps == isize::MAX => last,
        None => 0,
    };
    let part = section.rows.get(row).map(|row| row.id.clone());
    select_part(state, part);
}
