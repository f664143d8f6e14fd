//! Freezing, stepping, replaying: which moment is shown.

use super::State;
use super::data::{Mode, Stay, signs};
use super::effect::Effect;
use super::search::Search;
use crate::feed::Delivery;
use crate::look::action::Action;
use crate::look::clock::{Zone, of_this_machine};
use crate::look::columns;
use dozor_core::compare::Side;
use dozor_core::lane::{Lane, Severity};
use dozor_core::rank::RowId;
use dozor_core::reading::Reading;
use dozor_core::recording::{Frames, Mark, MarkKind, ReadError};
use dozor_core::units::{long_bytes, long_duration};
use dozor_core::when::{Standpoint, When};
use std::ops::RangeInclusive;
use std::sync::Arc;
use std::time::{Duration, Instant};

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

impl State {
    /// A reading has come.
    pub fn append(&mut self, reading: Arc<Reading>) {
        // The numbers of old samples change when they are thinned; their time does not.
        let looked_at = self
            .time
            .cursor
            .and_then(|cursor| self.time.timeline.moment(cursor))
            .map(|moment| moment.wall_ns);
        self.time.timeline.append(reading);
        self.look_for_findings();
        if let Some(wall) = looked_at {
            let cursor = self.time.timeline.at(wall);
            let same = self.time.timeline.moment(cursor).is_some_and(|moment| moment.wall_ns == wall);
            self.time.cursor = Some(cursor);
            if !same {
                self.refresh();
            }
        }
        if self.time.cursor.is_none() || self.moment.sample.is_none() {
            self.refresh();
        }
    }

    /// What comes with time: messages go, a replay plays on.
    pub fn tick(&mut self) {
        self.tell_export();
        if self
            .session
            .message
            .as_ref()
            .is_some_and(|message| message.until.is_some_and(|until| until <= self.now))
        {
            self.session.message = None;
        }
        if self.selection.held_until.is_some_and(|until| until <= self.now) {
            self.selection.held_until = None;
            self.refresh();
        }
        self.look_on();
        if self.has_more_to_find() {
            self.look_for_findings();
            self.show_findings();
        }
        // At a high speed several samples may be due since the last frame: they are gone over.
        let before = self.time.cursor;
        while let Mode::Replay { playing: true, due: Some(due) } = self.time.mode
            && due <= self.now
        {
            let next = self.shown().map_or(0, |shown| shown + 1);
            if next >= self.time.timeline.end() {
                self.time.mode = Mode::Replay { playing: false, due: None };
            } else {
                self.time.cursor = Some(next);
                self.plan_next(due.max(self.now.checked_sub(Duration::from_millis(500)).unwrap_or(self.now)));
            }
        }
        if self.time.cursor != before {
            self.refresh();
        }
    }

    /// Plans the next sample of a replay at its pace, gaps left out.
    fn plan_next(&mut self, from: Instant) {
        const LONGEST: f64 = 10.0;
        let next = self.shown().and_then(|shown| self.time.timeline.moment(shown + 1));
        let seconds = next.map(|moment| moment.seconds.unwrap_or(1.0).clamp(0.02, LONGEST));
        let due = Some(from + Duration::from_secs_f64(seconds.unwrap_or(0.0) / self.time.speed));
        self.time.mode = Mode::Replay { playing: true, due };
    }

    /// Plays a recording faster or slower.
    pub fn change_speed(&mut self, faster: bool) {
        let next = if faster {
            SPEEDS.into_iter().find(|speed| *speed > self.time.speed)
        } else {
            SPEEDS.into_iter().rev().find(|speed| *speed < self.time.speed)
        };
        if let Some(speed) = next {
            self.time.speed = speed;
            if let Mode::Replay { playing: true, .. } = self.time.mode {
                self.plan_next(self.now);
            }
        }
        let text = format!("playing at {} its speed", speed_word(self.time.speed));
        self.say_for(Severity::Fine, text, Stay::Brief);
    }

    /// Takes in what was added to the recordings.
    pub fn grown(&mut self) {
        match self.time.timeline.grow() {
            Ok(true) => self.took_in(),
            Ok(false) => {}
            Err(error) => {
                let text = format!("what was added cannot be read: {error}");
                self.say(Severity::Warning, text);
                return;
            }
        }
        let Some(place) = self.time.timeline.unfinished() else { return };
        let text = format!("looking through what was added: {} so far", long_bytes(place as f64));
        self.say(Severity::Fine, text);
        self.outbox.push(Effect::GrowOn);
    }

    /// A recording was begun beside those that are looked at.
    pub fn begun(&mut self, frames: Arc<dyn Frames>) {
        if self.time.timeline.append_recording(frames).is_ok() {
            self.took_in();
        }
    }

    fn took_in(&mut self) {
        for mark in signs(&self.time.timeline) {
            if !self.time.signs.contains(&mark) {
                self.show_sign(mark);
            }
        }
        if self.time.cursor.is_none() && matches!(self.time.mode, Mode::Replay { .. }) {
            self.refresh();
        }
    }

    /// The instant that a typed time means.
    pub fn wall_of(&self, text: &str) -> Result<i64, String> {
        let when = When::parse(text)?;
        let wall = |number: usize| self.time.timeline.moment(number).map_or(0, |moment| moment.wall_ns);
        let stand = Standpoint {
            first: wall(self.time.timeline.first()),
            newest: wall(self.time.timeline.end().saturating_sub(1)),
            shown: wall(self.shown().unwrap_or_default()),
        };
        when.resolve(stand, self.time.zone.time_zone()).ok_or_else(|| "there is no such day".to_owned())
    }

    /// Goes to the sample of an instant; where none is near it, says so.
    pub fn go_to_wall(&mut self, wall: i64) {
        let number = self.time.timeline.at(wall);
        self.go_to_sample(number);
        if let Some(text) = self.distance_said(wall, number) {
            self.say(Severity::Notice, text);
        }
    }

    /// What to say where an instant has no sample of its own; `number` is the one that is shown instead.
    pub fn distance_said(&self, wall: i64, number: usize) -> Option<String> {
        let wall_of = |number: usize| self.time.timeline.moment(number).map_or(0, |moment| moment.wall_ns);
        let (first, last) =
            (wall_of(self.time.timeline.first()), wall_of(self.time.timeline.end().saturating_sub(1)));
        let shown = wall_of(number);
        let (what, there) = (self.time.zone.date_time(wall), self.time.zone.date_time(shown));
        // A sample stands for the time up to the next one; what is farther away lies in a gap.
        let near = (self.values.every * 5 / 2).as_nanos() as i64;
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
    pub fn go_to_peak(&mut self) {
        let selected = match &self.selection.selected {
            Some(RowId::Process(key)) if key.pid > 0 => Some(*key),
            _ => None,
        };
        if let Some(key) = selected {
            let name = self
                .moment
                .sample
                .as_ref()
                .and_then(|sample| Some(sample.process(sample.find(key)?).now.name.clone()));
            let metric = columns::trend_metric(self.values.lane, self.values.order.first.metric);
            let name = name.map_or(String::new(), |name| format!("{name}[{}]", key.pid));
            self.time.search = Some(Search::new(&self.time.timeline, key, name, metric));
            self.look_on();
            return;
        }
        let lane = self.values.lane.unwrap_or(Lane::Cpu);
        let numbers = self.time.timeline.first()..self.time.timeline.end();
        let values = numbers.filter_map(|number| {
            Some((self.time.timeline.moment(number)?.peak(lane).value.value()?, number))
        });
        let most = values.reduce(|most, other| if other.0 > most.0 { other } else { most });
        let Some((_, number)) = most else {
            let text = format!("{} has no value that is known", lane.name());
            self.say(Severity::Notice, text);
            return;
        };
        self.go_to_sample(number);
        if let Some(moment) = self.time.timeline.moment(number) {
            let text = format!(
                "peak of {}: {} at {}",
                lane.name(),
                lane.label(&moment.peak(lane)),
                self.time.zone.time(moment.wall_ns)
            );
            self.say(Severity::Fine, text);
        }
    }

    /// Looks for the peak of a process a little further.
    fn look_on(&mut self) {
        let Some(mut search) = self.time.search.take() else { return };
        match search.go_on(&self.time.timeline) {
            Ok(false) => {
                let text = format!(
                    "looking for the peak of {}: {} %; {} gives it up",
                    search.name,
                    search.done(),
                    self.values.keys.key(Action::Back)
                );
                self.say_for(Severity::Fine, text, Stay::UntilKey);
                self.time.search = Some(search);
            }
            Ok(true) => {
                let Some((value, number)) = search.best else {
                    let text =
                        format!("{} of {} is not known at any moment", search.metric.alias, search.name);
                    return self.say(Severity::Notice, text);
                };
                self.go_to_sample(number);
                let wall = self.time.timeline.moment(number).map_or(0, |moment| moment.wall_ns);
                let (what, value) = (search.metric.alias, search.metric.unit.short(value));
                let text =
                    format!("peak of {}: {what} {value} at {}", search.name, self.time.zone.time(wall));
                self.say(Severity::Fine, text);
            }
            Err(error) => {
                self.say(Severity::Warning, format!("the search ended: {error}"));
            }
        }
    }

    /// Goes to where a lane begins to be in trouble.
    pub fn go_to_trouble(&mut self, on: bool) {
        /// What was in trouble so few samples ago did not begin anew.
        const CALM: usize = 5;
        let Some(shown) = self.shown() else { return };
        if self.go_to_finding(on) {
            return;
        }
        let (first, end) = (self.time.timeline.first(), self.time.timeline.end());
        let bad = |number: usize, lane: Lane| {
            self.time
                .timeline
                .moment(number)
                .is_some_and(|moment| moment.peak(lane).severity >= Severity::Warning)
        };
        let begins = |number: &usize| {
            let calm = first.max(number.saturating_sub(CALM))..*number;
            Lane::ALL
                .into_iter()
                .find(|lane| bad(*number, *lane) && !calm.clone().any(|before| bad(before, *lane)))
        };
        let found = if on {
            (shown + 1..end).find_map(|number| Some((number, begins(&number)?)))
        } else {
            (first..shown).rev().find_map(|number| Some((number, begins(&number)?)))
        };
        let Some((number, lane)) = found else {
            let side = if on { "after" } else { "before" };
            self.say(Severity::Notice, format!("no lane gets into trouble {side} this moment"));
            return;
        };
        self.go_to_sample(number);
        let sentence = self
            .moment
            .standing_out
            .iter()
            .find(|(_, of, _)| *of == lane)
            .map(|(severity, _, text)| (*severity, text.clone()));
        let (severity, text) =
            sentence.unwrap_or((Severity::Warning, format!("trouble in {} begins", lane.name())));
        self.say(severity, text);
    }

    /// Shows times in the other zone.
    pub fn change_zone(&mut self) {
        self.time.own_zone = !self.time.own_zone;
        self.time.zone = if self.time.own_zone {
            of_this_machine()
        } else {
            Zone::named(&self.time.timeline.host().time_zone)
        };
        let whose = if self.time.own_zone { "of this machine" } else { "of the machine that is shown" };
        let text = format!("times are in the zone {whose}: {}", self.time.zone.name());
        self.refresh_texts();
        self.say(Severity::Fine, text);
    }

    /// Holds this moment, or goes on; pauses a replay, or plays it.
    pub fn freeze(&mut self) {
        match self.time.mode {
            Mode::Live => {
                self.time.cursor = if self.time.cursor.is_some() { None } else { self.shown() };
                self.refresh();
            }
            Mode::Replay { playing: true, .. } => self.pause(),
            Mode::Replay { playing: false, .. } => {
                if self.shown().is_some_and(|shown| shown + 1 >= self.time.timeline.end()) {
                    self.time.cursor = Some(self.time.timeline.first());
                    self.refresh();
                }
                self.plan_next(self.now);
            }
        }
    }

    fn pause(&mut self) {
        if let Mode::Replay { .. } = self.time.mode {
            self.time.mode = Mode::Replay { playing: false, due: None };
        }
    }

    /// Goes to a sample by its number.
    pub fn go_to_sample(&mut self, number: usize) {
        if self.time.timeline.is_empty() {
            return;
        }
        self.pause();
        self.time.cursor = Some(number.clamp(self.time.timeline.first(), self.time.timeline.end() - 1));
        self.refresh();
    }

    /// Goes so many samples on, or back.
    pub fn step_time(&mut self, steps: isize) {
        if let Some(shown) = self.shown() {
            self.go_to_sample(shown.saturating_add_signed(steps));
        }
    }

    /// Goes to the sample in a column of the strips.
    pub fn go_to_column(&mut self, column: u16) {
        let number = self.lanes.strips.axis.and_then(|axis| axis.sample_at(&self.time.timeline, column));
        if let Some(number) = number.filter(|number| self.time.cursor != Some(*number)) {
            self.go_to_sample(number);
        }
    }

    /// Goes to a place on the overview.
    pub fn go_to_overview(&mut self, column: u16) {
        let number = self.lanes.overview.axis.and_then(|axis| axis.sample_at(&self.time.timeline, column));
        if let Some(number) = number.filter(|number| self.time.cursor != Some(*number)) {
            self.go_to_sample(number);
        }
    }

    /// The next or previous sample behind a gap.
    fn next_gap(&self, on: bool) -> Option<usize> {
        let shown = self.shown()?;
        let is_gap = |number: &usize| {
            self.time.timeline.moment(*number).is_some_and(|moment| moment.seconds.is_none())
        };
        if on {
            (shown + 1..self.time.timeline.end()).find(is_gap)
        } else {
            (self.time.timeline.first() + 1..shown).rev().find(is_gap)
        }
    }

    /// Goes to the next or previous sign on the axis, or gap, and says what it is.
    pub fn go_to_sign(&mut self, on: bool) {
        let Some(shown) = self.shown() else { return };
        // By the samples that they stand at: one may have been made a moment after its sample.
        let at = |sign: &&Mark| self.time.timeline.at(sign.wall_ns);
        let sign = if on {
            self.time.signs.iter().find(|sign| at(sign) > shown)
        } else {
            self.time.signs.iter().rev().find(|sign| at(sign) < shown)
        };
        let gap =
            self.next_gap(on).and_then(|number| Some((number, self.time.timeline.moment(number)?.wall_ns)));
        let sign = sign.cloned();
        // A gap and the sign that tells of it are one thing.
        let nearer = |gap: i64| match &sign {
            Some(sign) if on => gap < sign.wall_ns,
            Some(sign) => gap > sign.wall_ns,
            None => true,
        };
        if let Some((number, wall)) = gap.filter(|(_, wall)| nearer(*wall)) {
            self.go_to_sample(number);
            let before =
                self.time.timeline.moment(number.saturating_sub(1)).map_or(wall, |moment| moment.wall_ns);
            let length = long_duration((wall - before) as f64 / 1e9);
            let text = format!("a gap of {length} ends at {}", self.time.zone.time(wall));
            self.say(Severity::Notice, text);
            return;
        }
        let Some(sign) = sign else {
            let text =
                if on { "no sign or gap after this moment" } else { "no sign or gap before this moment" };
            self.say(Severity::Notice, format!("{text}; {} makes one", self.key(Action::Bookmark)));
            return;
        };
        self.go_to_sample(self.time.timeline.at(sign.wall_ns));
        let kind = match sign.kind {
            MarkKind::Action => "done",
            MarkKind::Bookmark => "bookmark",
            MarkKind::Lost => "readings are missing before",
            MarkKind::Finding => "found",
            MarkKind::Note => "note",
        };
        let text = format!("{kind} at {}: {}", self.time.zone.time(sign.wall_ns), sign.text);
        self.say(Severity::Fine, text);
    }

    /// Follows the newest sample.
    pub fn go_live(&mut self) {
        match self.time.mode {
            Mode::Live => {
                self.time.cursor = None;
                self.refresh();
            }
            Mode::Replay { .. } => {
                self.pause();
                self.time.cursor = None;
                self.refresh();
                let text = "the end of the recording, as long as it grows";
                self.say(Severity::Fine, text.to_owned());
            }
        }
    }

    /// Takes in what comes from where readings come from.
    pub fn receive(&mut self, delivery: Delivery) {
        match delivery {
            Delivery::Reached(done, of) => self.session.reached = Some((done, of)),
            Delivery::Reading(reading) => self.append(reading),
            Delivery::History(readings) => {
                for reading in readings {
                    self.time.timeline.append(reading);
                }
                self.refresh();
            }
            Delivery::Ended(reason) => self.time.ended = Some(reason),
            Delivery::Waits(why) => {
                let (severity, text) = match &why {
                    Some(why) => (Severity::Warning, why.clone()),
                    None => (Severity::Fine, "readings come again".to_owned()),
                };
                self.say(severity, text);
                self.time.ended = why;
            }
            Delivery::Mark(mark) => self.show_sign(mark),
            Delivery::Grown => self.grown(),
            Delivery::Begun(frames) => self.begun(frames),
            Delivery::OwnCost(share) => self.session.own_cost = Some(share).filter(|_| !self.session.loads),
        }
    }

    /// Plays a recording, from a sample on.
    pub fn replay(&mut self, number: usize, speed: f64, playing: bool) {
        self.time.cursor = Some(number);
        self.time.speed = speed;
        self.time.mode = Mode::Replay { playing, due: playing.then_some(self.now) };
    }

    /// A moment that others are compared with, or none.
    pub fn remember(&mut self, wall: Option<i64>) {
        self.time.remembered = wall;
    }

    /// Some samples as a side of a comparison.
    pub fn side(&mut self, samples: RangeInclusive<usize>) -> Result<Side, ReadError> {
        Side::of(&mut self.time.timeline, samples)
    }
}
