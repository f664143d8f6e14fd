//! How often readings are taken, and the recording of them.

use super::State;
use super::data::{Drag, Message, Mode, Recording, Stay};
use super::effect::Effect;
use crate::look::action::Action;
use dozor_core::lane::Severity;
use std::path::PathBuf;
use std::time::Duration;

/// Intervals that `+` and `-` go through, in milliseconds.
const INTERVALS: [u64; 8] = [200, 500, 1_000, 2_000, 5_000, 10_000, 30_000, 60_000];

impl State {
    /// Says so where the pace is not ours.
    fn is_pace_foreign(&mut self) -> bool {
        let foreign = matches!(self.time.mode, Mode::Replay { .. }) || self.session.actions_refused.is_some();
        if foreign {
            let text = "the interval belongs to whoever records".to_owned();
            self.say(Severity::Notice, text);
        }
        foreign
    }

    /// Begins a recording, or ends the one that is written.
    pub fn turn_recording(&mut self) {
        if let Mode::Replay { .. } = self.time.mode {
            self.say(Severity::Notice, "this is a recording already".to_owned());
            return;
        }
        self.outbox.push(if self.session.recording.is_some() {
            Effect::StopRecording
        } else {
            Effect::Record
        });
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
        self.session.by_hand = !self.session.by_hand;
        let text = if self.session.by_hand {
            "by hand: . takes a reading"
        } else {
            "readings come by themselves again"
        };
        self.say(Severity::Fine, text.to_owned());
        self.outbox.push(Effect::ByHand(self.session.by_hand));
    }

    /// Asks for one reading.
    pub fn read_now(&mut self) {
        if !self.is_pace_foreign() {
            self.outbox.push(Effect::ReadNow);
        }
    }

    /// Shows a line for the usual time.
    pub fn say(&mut self, severity: Severity, text: String) {
        self.say_for(severity, text, Stay::Usual);
    }

    /// Shows a line.
    pub fn say_for(&mut self, severity: Severity, text: String, stay: Stay) {
        let until = stay.time().map(|time| self.now + time);
        self.session.message = Some(Message { text, severity, until });
    }

    /// Takes the line for the person away.
    pub fn unsay(&mut self) {
        self.session.message = None;
    }

    /// A recording is written into this file, or none.
    pub fn recorded_into(&mut self, path: Option<PathBuf>) {
        self.session.recording = path.map(|path| Recording { path, since: self.now });
    }

    /// Nothing can be done to processes here, for this reason.
    pub fn refuse_actions(&mut self, reason: &'static str) {
        self.session.actions_refused = Some(reason);
    }

    /// The mouse holds something.
    pub fn hold(&mut self, what: Drag) {
        self.session.drag = Some(what);
    }

    /// The mouse lets go; gives what it held.
    pub fn let_go(&mut self) -> Option<Drag> {
        self.session.drag.take()
    }

    /// The mouse is Dozor's or the terminal's.
    pub fn turn_mouse(&mut self) {
        self.values.mouse = !self.values.mouse;
        let text = if self.values.mouse {
            "the mouse is Dozor's again".to_owned()
        } else {
            let key = self.key(Action::Mouse);
            format!("the mouse is the terminal's: select text with it; {key} takes it back")
        };
        self.say(Severity::Fine, text);
    }
}
