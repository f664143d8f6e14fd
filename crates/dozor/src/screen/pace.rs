//! How often readings are taken, and the recording of them.

use super::{Effect, MESSAGE};
use crate::state::{Mode, State};
use dozor_core::lane::Severity;
use std::time::{Duration, Instant};

/// Intervals that `+` and `-` go through, in milliseconds.
const INTERVALS: [u64; 8] = [200, 500, 1_000, 2_000, 5_000, 10_000, 30_000, 60_000];

/// Says so where the pace is not ours.
fn is_foreign(state: &mut State, now: Instant) -> bool {
    let foreign = matches!(state.mode, Mode::Replay { .. }) || state.tied.is_some();
    if foreign {
        let text = "the interval belongs to whoever records".to_owned();
        state.say(Severity::Notice, text, Some(now + MESSAGE));
    }
    foreign
}

pub(super) fn record(state: &mut State, now: Instant) -> Vec<Effect> {
    if let Mode::Replay { .. } = state.mode {
        state.say(Severity::Notice, "this is a recording already".to_owned(), Some(now + MESSAGE));
        return vec![];
    }
    if state.recording.is_some() { vec![Effect::StopRecording] } else { vec![Effect::Record] }
}

pub(super) fn interval(state: &mut State, longer: bool, now: Instant) -> Vec<Effect> {
    if is_foreign(state, now) {
        return vec![];
    }
    let steps = INTERVALS.map(Duration::from_millis);
    let next = if longer {
        steps.into_iter().find(|step| *step > state.every)
    } else {
        steps.into_iter().rev().find(|step| *step < state.every)
    };
    let Some(every) = next else { return vec![] };
    state.every = every;
    vec![]
}

pub(super) fn by_hand(state: &mut State, now: Instant) -> Vec<Effect> {
    if is_foreign(state, now) {
        return vec![];
    }
    state.by_hand = !state.by_hand;
    let text = if state.by_hand { "by hand: . takes a reading" } else { "readings come by themselves again" };
    state.say(Severity::Fine, text.to_owned(), Some(now + MESSAGE));
    vec![Effect::ByHand(state.by_hand)]
}

pub(super) fn read_now(state: &mut State, now: Instant) -> Vec<Effect> {
    if is_foreign(state, now) { vec![] } else { vec![Effect::ReadNow] }
}
