//! Freezing, stepping, replaying: which moment is shown.

use super::MESSAGE;
use crate::ui::state::{Mode, State};
use dozor_core::lane::Severity;
use dozor_core::recording::MarkKind;
use std::time::{Duration, Instant};

pub(super) fn tick(state: &mut State, now: Instant) {
    if state.message.as_ref().is_some_and(|message| message.until.is_some_and(|until| until <= now)) {
        state.message = None;
    }
    if state.held_until.is_some_and(|until| until <= now) {
        state.held_until = None;
        state.refresh(now);
    }
    if let Mode::Replay { playing: true, due: Some(due) } = state.mode
        && due <= now
    {
        let next = state.shown().map_or(0, |shown| shown + 1);
        if next >= state.timeline.end() {
            state.mode = Mode::Replay { playing: false, due: None };
        } else {
            state.cursor = Some(next);
            state.refresh(now);
            plan_next(state, due.max(now.checked_sub(Duration::from_secs(1)).unwrap_or(now)));
        }
    }
}

/// Plans the next sample of a replay at its own pace, gaps left out.
fn plan_next(state: &mut State, from: Instant) {
    const LONGEST: f64 = 10.0;
    let next = state.shown().and_then(|shown| state.timeline.moment(shown + 1));
    let seconds = next.map(|moment| moment.seconds.unwrap_or(1.0).clamp(0.02, LONGEST));
    let due = Some(from + Duration::from_secs_f64(seconds.unwrap_or(0.0)));
    state.mode = Mode::Replay { playing: true, due };
}

pub(super) fn freeze(state: &mut State, now: Instant) {
    match state.mode {
        Mode::Live => {
            state.cursor = if state.cursor.is_some() { None } else { state.shown() };
            state.refresh(now);
        }
        Mode::Replay { playing: true, .. } => pause(state),
        Mode::Replay { playing: false, .. } => {
            if state.shown().is_some_and(|shown| shown + 1 >= state.timeline.end()) {
                state.cursor = Some(state.timeline.first());
                state.refresh(now);
            }
            plan_next(state, now);
        }
    }
}

fn pause(state: &mut State) {
    if let Mode::Replay { .. } = state.mode {
        state.mode = Mode::Replay { playing: false, due: None };
    }
}

pub(super) fn go_to(state: &mut State, number: usize, now: Instant) {
    if state.timeline.is_empty() {
        return;
    }
    pause(state);
    state.cursor = Some(number.clamp(state.timeline.first(), state.timeline.end() - 1));
    state.refresh(now);
}

pub(super) fn step(state: &mut State, steps: isize, now: Instant) {
    if let Some(shown) = state.shown() {
        go_to(state, shown.saturating_add_signed(steps), now);
    }
}

/// Goes to the sample in a column of the strips.
pub(super) fn go_to_column(state: &mut State, column: u16, now: Instant) {
    let number = state.strips.axis.and_then(|axis| axis.sample_at(&state.timeline, column));
    if let Some(number) = number.filter(|number| state.cursor != Some(*number)) {
        go_to(state, number, now);
    }
}

/// Goes to the next or previous sign on the axis and says what it is.
pub(super) fn go_to_sign(state: &mut State, on: bool, now: Instant) {
    let Some(shown) = state.shown().and_then(|shown| state.timeline.moment(shown)) else { return };
    let wall = shown.wall_ns;
    let sign = if on {
        state.signs.iter().find(|sign| sign.wall_ns > wall)
    } else {
        state.signs.iter().rev().find(|sign| sign.wall_ns < wall)
    };
    let Some(sign) = sign.cloned() else {
        let text = if on { "no sign after this moment" } else { "no sign before this moment" };
        state.say(Severity::Notice, format!("{text}; b makes one"), Some(now + MESSAGE));
        return;
    };
    go_to(state, state.timeline.at(sign.wall_ns), now);
    let kind = match sign.kind {
        MarkKind::Action => "done",
        MarkKind::Bookmark => "bookmark",
        MarkKind::Lost => "readings are missing before",
        MarkKind::Note => "note",
    };
    let text = format!("{kind} at {}: {}", state.zone.time(sign.wall_ns), sign.text);
    state.say(Severity::Fine, text, Some(now + MESSAGE));
}

pub(super) fn live(state: &mut State, now: Instant) {
    match state.mode {
        Mode::Live => {
            state.cursor = None;
            state.refresh(now);
        }
        Mode::Replay { .. } => {
            let text = "this is a recording: > goes to its end, space plays it";
            state.say(Severity::Notice, text.to_owned(), Some(now + MESSAGE));
        }
    }
}
