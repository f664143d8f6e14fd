//! How often readings are taken, and the recording of them.

use super::effect::Effect;
use super::{Mode, State};
use dozor_core::lane::Severity;
use std::time::Duration;

/// Intervals that `+` and `-` go through, in milliseconds.
const INTERVALS: [u64; 8] = [200, 500, 1_000, 2_000, 5_000, 10_000, 30_000, 60_000];

impl State {
    /// Says so where the pace is not ours.
    fn is_pace_foreign(&mut self) -> bool {
        let foreign = matches!(self.mode, Mode::Replay { .. }) || self.tied.is_some();
        if foreign {
            let text = "the interval belongs to whoever records".to_owned();
            self.say(Severity::Notice, text);
        }
        foreign
    }

    /// Begins a recording, or ends the one that is written.
    pub fn turn_recording(&mut self) {
        if let Mode::Replay { .. } = self.mode {
            self.say(Severity::Notice, "this is a recording already".to_owned());
            return;
        }
        self.outbox.push(if self.recording.is_some() { Effect::StopRecording } else { Effect::Record });
    }

    /// Goes to the next interval of the usual ones.
    pub fn change_interval(&mut self, longer: bool) {
        if self.is_pace_foreign() {
            return;
        }
        let steps = INTERVALS.map(Duration::from_millis);
        let next = if longer {
            steps.into_iter().find(|step| *step > self.values.every)
        } else {
            steps.into_iter().rev().find(|step| *step < self.values.every)
        };
        self.values.every = next.unwrap_or(self.values.every);
    }

    /// Readings are taken only when somebody asks for one, or by themselves again.
    pub fn turn_by_hand(&mut self) {
        if self.is_pace_foreign() {
            return;
        }
        self.by_hand = !self.by_hand;
        let text =
            if self.by_hand { "by hand: . takes a reading" } else { "readings come by themselves again" };
        self.say(Severity::Fine, text.to_owned());
        self.outbox.push(Effect::ByHand(self.by_hand));
    }

    /// Asks for one reading.
    pub fn read_now(&mut self) {
        if !self.is_pace_foreign() {
            self.outbox.push(Effect::ReadNow);
        }
    }
}
