//! Freezing, stepping, replaying: which moment is shown.

use super::{Effect, MESSAGE};
use crate::look::action::Action;
use crate::look::clock::Zone;
use crate::state::search::Search;
use crate::state::{Mode, State};
use crate::{look::columns, state::axis};
use dozor_core::lane::{Lane, Severity};
use dozor_core::rank::RowId;
use dozor_core::recording::{Frames, Mark, MarkKind};
use dozor_core::units::{long_bytes, long_duration};
use dozor_core::when::{Standpoint, When};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Does what an action says that is about time.
pub(super) fn act(state: &mut State, action: Action, now: Instant) {
    match action {
        Action::Freeze => freeze(state, now),
        Action::StepBack => step(state, -1, now),
        Action::StepOn => step(state, 1, now),
        Action::TenBack => step(state, -10, now),
        Action::TenOn => step(state, 10, now),
        Action::Begin => go_to(state, state.timeline.first(), now),
        Action::End => go_to(state, state.timeline.end().saturating_sub(1), now),
        Action::Live => live(state, now),
        Action::Peak => peak(state, now),
        Action::NextTrouble | Action::PreviousTrouble => {
            go_to_trouble(state, action == Action::NextTrouble, now);
        }
        Action::NextSign | Action::PreviousSign => go_to_sign(state, action == Action::NextSign, now),
        // The key that makes the interval longer plays faster: `+` is more of both.
        Action::Slower | Action::Faster => other_speed(state, action == Action::Slower, now),
        Action::Zone => other_zone(state, now),
        _ => {}
    }
}

pub(super) fn tick(state: &mut State, now: Instant) {
    if state.message.as_ref().is_some_and(|message| message.until.is_some_and(|until| until <= now)) {
        state.message = None;
    }
    if state.held_until.is_some_and(|until| until <= now) {
        state.held_until = None;
        state.refresh(now);
    }
    look_on(state, now);
    // At a high speed several samples may be due since the last frame: they are gone over.
    let before = state.cursor;
    while let Mode::Replay { playing: true, due: Some(due) } = state.mode
        && due <= now
    {
        let next = state.shown().map_or(0, |shown| shown + 1);
        if next >= state.timeline.end() {
            state.mode = Mode::Replay { playing: false, due: None };
        } else {
            state.cursor = Some(next);
            plan_next(state, due.max(now.checked_sub(Duration::from_millis(500)).unwrap_or(now)));
        }
    }
    if state.cursor != before {
        state.refresh(now);
    }
}

/// Plans the next sample of a replay at its pace, gaps left out.
fn plan_next(state: &mut State, from: Instant) {
    const LONGEST: f64 = 10.0;
    let next = state.shown().and_then(|shown| state.timeline.moment(shown + 1));
    let seconds = next.map(|moment| moment.seconds.unwrap_or(1.0).clamp(0.02, LONGEST));
    let due = Some(from + Duration::from_secs_f64(seconds.unwrap_or(0.0) / state.speed));
    state.mode = Mode::Replay { playing: true, due };
}

/// Speeds that `+` and `-` go through.
const SPEEDS: [f64; 9] = [0.25, 0.5, 1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 64.0];

/// A speed as it is shown: `¼×`, `8×`.
pub fn speed_word(speed: f64) -> String {
    match speed {
        0.25 => "¼×".to_owned(),
        0.5 => "½×".to_owned(),
        other => format!("{other}×"),
    }
}

fn other_speed(state: &mut State, faster: bool, now: Instant) {
    let next = if faster {
        SPEEDS.into_iter().find(|speed| *speed > state.speed)
    } else {
        SPEEDS.into_iter().rev().find(|speed| *speed < state.speed)
    };
    if let Some(speed) = next {
        state.speed = speed;
        if let Mode::Replay { playing: true, .. } = state.mode {
            plan_next(state, now);
        }
    }
    let text = format!("playing at {} its speed", speed_word(state.speed));
    state.say(Severity::Fine, text, Some(now + MESSAGE / 2));
}

/// Takes in what was added to the recordings.
pub(super) fn grown(state: &mut State, now: Instant) -> Vec<Effect> {
    match state.timeline.grow() {
        Ok(true) => took_in(state, now),
        Ok(false) => {}
        Err(error) => {
            let text = format!("what was added cannot be read: {error}");
            state.say(Severity::Warning, text, Some(now + MESSAGE));
            return vec![];
        }
    }
    let Some(place) = state.timeline.unfinished() else { return vec![] };
    let text = format!("looking through what was added: {} so far", long_bytes(place as f64));
    state.say(Severity::Fine, text, Some(now + MESSAGE));
    vec![Effect::GrowOn]
}

pub(super) fn begun(state: &mut State, frames: Arc<dyn Frames>, now: Instant) {
    if state.timeline.append_recording(frames).is_ok() {
        took_in(state, now);
    }
}

fn took_in(state: &mut State, now: Instant) {
    for mark in state.timeline.marks() {
        if !state.signs.contains(&mark) {
            state.show_sign(mark);
        }
    }
    if state.cursor.is_none() && matches!(state.mode, Mode::Replay { .. }) {
        state.refresh(now);
    }
}

/// The instant that a typed time means.
pub(super) fn wall_of(state: &State, text: &str) -> Result<i64, String> {
    let when = When::parse(text)?;
    let wall = |number: usize| state.timeline.moment(number).map_or(0, |moment| moment.wall_ns);
    let stand = Standpoint {
        first: wall(state.timeline.first()),
        newest: wall(state.timeline.end().saturating_sub(1)),
        shown: wall(state.shown().unwrap_or_default()),
    };
    when.resolve(stand, state.zone.time_zone()).ok_or_else(|| "there is no such day".to_owned())
}

/// Goes to the sample of an instant; where none is near it, says so.
pub(super) fn go_to_wall(state: &mut State, wall: i64, now: Instant) {
    let number = state.timeline.at(wall);
    go_to(state, number, now);
    if let Some(text) = distance_said(state, wall, number) {
        state.say(Severity::Notice, text, Some(now + MESSAGE));
    }
}

/// What to say where an instant has no sample of its own; `number` is the one that is shown instead.
pub fn distance_said(state: &State, wall: i64, number: usize) -> Option<String> {
    let wall_of = |number: usize| state.timeline.moment(number).map_or(0, |moment| moment.wall_ns);
    let (first, last) = (wall_of(state.timeline.first()), wall_of(state.timeline.end().saturating_sub(1)));
    let shown = wall_of(number);
    let (what, there) = (state.zone.date_time(wall), state.zone.date_time(shown));
    // A sample stands for the time up to the next one; what is farther away lies in a gap.
    let near = (state.every * 5 / 2).as_nanos() as i64;
    if wall < first {
        Some(format!("{what} is before the first sample, {there}"))
    } else if wall > last + near {
        Some(format!("{what} is after the last sample, {there}"))
    } else if wall > shown + near {
        Some(format!("{what} lies in a gap; this is the last sample before it, {there}"))
    } else {
        None
    }
}

/// Goes to the highest point of the chosen lane, or begins to look for that of the selected process.
fn peak(state: &mut State, now: Instant) {
    let selected = match &state.selected {
        Some(RowId::Process(key)) if key.pid > 0 => Some(*key),
        _ => None,
    };
    if let Some(key) = selected {
        let name =
            state.sample.as_ref().and_then(|sample| Some(sample.process(sample.find(key)?).now.name.clone()));
        let metric = columns::trend_metric(state.lane, state.order.first.metric);
        let name = name.map_or(String::new(), |name| format!("{name}[{}]", key.pid));
        state.search = Some(Search::new(state, key, name, metric));
        look_on(state, now);
        return;
    }
    let lane = state.lane.unwrap_or(Lane::Cpu);
    let place = axis::place(lane);
    let numbers = state.timeline.first()..state.timeline.end();
    let values = numbers
        .filter_map(|number| Some((state.timeline.moment(number)?.peak(place).value.value()?, number)));
    let most = values.reduce(|most, other| if other.0 > most.0 { other } else { most });
    let Some((_, number)) = most else {
        let text = format!("{} has no value that is known", lane.name());
        state.say(Severity::Notice, text, Some(now + MESSAGE));
        return;
    };
    go_to(state, number, now);
    if let Some(moment) = state.timeline.moment(number) {
        let text = format!(
            "peak of {}: {} at {}",
            lane.name(),
            lane.label(&moment.peak(place)),
            state.zone.time(moment.wall_ns)
        );
        state.say(Severity::Fine, text, Some(now + MESSAGE));
    }
}

/// Looks for the peak of a process a little further.
fn look_on(state: &mut State, now: Instant) {
    let Some(mut search) = state.search.take() else { return };
    match search.go_on(state) {
        Ok(false) => {
            let text = format!(
                "looking for the peak of {}: {} %; {} gives it up",
                search.name,
                search.done(),
                state.keys.key(Action::Back)
            );
            state.say(Severity::Fine, text, None);
            state.search = Some(search);
        }
        Ok(true) => {
            let Some((value, number)) = search.best else {
                let text = format!("{} of {} is not known at any moment", search.metric.alias, search.name);
                return state.say(Severity::Notice, text, Some(now + MESSAGE));
            };
            go_to(state, number, now);
            let wall = state.timeline.moment(number).map_or(0, |moment| moment.wall_ns);
            let (what, value) = (search.metric.alias, search.metric.unit.short(value));
            let text = format!("peak of {}: {what} {value} at {}", search.name, state.zone.time(wall));
            state.say(Severity::Fine, text, Some(now + MESSAGE));
        }
        Err(error) => {
            state.say(Severity::Warning, format!("the search ended: {error}"), Some(now + MESSAGE));
        }
    }
}

/// Goes to where a lane begins to be in trouble.
fn go_to_trouble(state: &mut State, on: bool, now: Instant) {
    /// What was in trouble so few samples ago did not begin anew.
    const CALM: usize = 5;
    let Some(shown) = state.shown() else { return };
    let (first, end) = (state.timeline.first(), state.timeline.end());
    let bad = |number: usize, lane: usize| {
        state.timeline.moment(number).is_some_and(|moment| moment.peak(lane).severity >= Severity::Warning)
    };
    let begins = |number: &usize| {
        let calm = first.max(number.saturating_sub(CALM))..*number;
        (0..Lane::ALL.len())
            .find(|lane| bad(*number, *lane) && !calm.clone().any(|before| bad(before, *lane)))
    };
    let found = if on {
        (shown + 1..end).find_map(|number| Some((number, begins(&number)?)))
    } else {
        (first..shown).rev().find_map(|number| Some((number, begins(&number)?)))
    };
    let Some((number, lane)) = found else {
        let side = if on { "after" } else { "before" };
        state.say(
            Severity::Notice,
            format!("no lane gets into trouble {side} this moment"),
            Some(now + MESSAGE),
        );
        return;
    };
    go_to(state, number, now);
    let lane = Lane::ALL[lane];
    let sentence = state
        .standing_out
        .iter()
        .find(|(_, of, _)| *of == lane)
        .map(|(severity, _, text)| (*severity, text.clone()));
    let (severity, text) =
        sentence.unwrap_or((Severity::Warning, format!("trouble in {} begins", lane.name())));
    state.say(severity, text, Some(now + MESSAGE));
}

/// Shows times in the other zone.
fn other_zone(state: &mut State, now: Instant) {
    state.own_zone = !state.own_zone;
    state.zone =
        if state.own_zone { Zone::of_this_machine() } else { Zone::named(&state.timeline.host().time_zone) };
    let whose = if state.own_zone { "of this machine" } else { "of the machine that is shown" };
    let text = format!("times are in the zone {whose}: {}", state.zone.name());
    state.refresh_texts();
    state.say(Severity::Fine, text, Some(now + MESSAGE));
}

fn freeze(state: &mut State, now: Instant) {
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

fn step(state: &mut State, steps: isize, now: Instant) {
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

/// Goes to a place on the overview.
pub(super) fn go_to_overview(state: &mut State, column: u16, now: Instant) {
    let number = state.overview.axis.and_then(|axis| axis.sample_at(&state.timeline, column));
    if let Some(number) = number.filter(|number| state.cursor != Some(*number)) {
        go_to(state, number, now);
    }
}

/// The next or previous sample behind a gap.
fn gap(state: &State, on: bool) -> Option<usize> {
    let shown = state.shown()?;
    let is_gap =
        |number: &usize| state.timeline.moment(*number).is_some_and(|moment| moment.seconds.is_none());
    if on {
        (shown + 1..state.timeline.end()).find(is_gap)
    } else {
        (state.timeline.first() + 1..shown).rev().find(is_gap)
    }
}

/// Goes to the next or previous sign on the axis, or gap, and says what it is.
fn go_to_sign(state: &mut State, on: bool, now: Instant) {
    let Some(shown) = state.shown() else { return };
    // By the samples that they stand at: one may have been made a moment after its sample.
    let at = |sign: &&Mark| state.timeline.at(sign.wall_ns);
    let sign = if on {
        state.signs.iter().find(|sign| at(sign) > shown)
    } else {
        state.signs.iter().rev().find(|sign| at(sign) < shown)
    };
    let gap = gap(state, on).and_then(|number| Some((number, state.timeline.moment(number)?.wall_ns)));
    let sign = sign.cloned();
    // A gap and the sign that tells of it are one thing.
    let nearer = |gap: i64| match &sign {
        Some(sign) if on => gap < sign.wall_ns,
        Some(sign) => gap > sign.wall_ns,
        None => true,
    };
    if let Some((number, wall)) = gap.filter(|(_, wall)| nearer(*wall)) {
        go_to(state, number, now);
        let before = state.timeline.moment(number.saturating_sub(1)).map_or(wall, |moment| moment.wall_ns);
        let length = long_duration((wall - before) as f64 / 1e9);
        let text = format!("a gap of {length} ends at {}", state.zone.time(wall));
        state.say(Severity::Notice, text, Some(now + MESSAGE));
        return;
    }
    let Some(sign) = sign else {
        let text = if on { "no sign or gap after this moment" } else { "no sign or gap before this moment" };
        state.say(
            Severity::Notice,
            format!("{text}; {} makes one", state.key(Action::Bookmark)),
            Some(now + MESSAGE),
        );
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

fn live(state: &mut State, now: Instant) {
    match state.mode {
        Mode::Live => {
            state.cursor = None;
            state.refresh(now);
        }
        Mode::Replay { .. } => {
            pause(state);
            state.cursor = None;
            state.refresh(now);
            let text = "the end of the recording, as long as it grows";
            state.say(Severity::Fine, text.to_owned(), Some(now + MESSAGE));
        }
    }
}
