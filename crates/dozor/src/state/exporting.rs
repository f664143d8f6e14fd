//! Files that are made of what is shown: begun, told of, cancelled, saved.

use super::State;
use super::data::Stay;
use super::effect::{Effect, Samples};
use super::job::Job;
use dozor_core::lane::Severity;
use dozor_core::timeline::Progress;
use std::sync::Arc;

impl State {
    /// Has a file made on another thread; one at a time.
    pub fn begin_export(&mut self, job: Job) {
        if self.session.exporting.is_some() {
            return self.say(Severity::Notice, "a file is being made already; esc cancels it".to_owned());
        }
        let progress = Arc::new(Progress::default());
        let samples = Samples::from(self.time.timeline.copy(&progress));
        self.session.exporting = Some((progress, samples.clone(), self.now));
        self.outbox.push(Effect::Export(Box::new(job), samples));
        self.tell_export();
    }

    /// Says how far it is.
    pub fn tell_export(&mut self) {
        let Some((progress, _, since)) = &self.session.exporting else { return };
        let seconds = self.now.saturating_duration_since(*since).as_secs();
        let text =
            format!("making the file … {} readings looked at, {seconds} s; esc cancels", progress.read());
        self.say_for(Severity::Fine, text, Stay::UntilKey);
    }

    /// Whether one is being made; then it is not wanted any more.
    pub fn cancel_export(&mut self) -> bool {
        let Some((progress, ..)) = self.session.exporting.take() else { return false };
        progress.stop();
        self.say(Severity::Notice, "cancelled: no file was made".to_owned());
        true
    }

    /// It is made, or cannot be.
    pub fn exported(&mut self, of: &Samples, made: Result<(String, Vec<u8>), String>) {
        // One that was cancelled meanwhile is nobody's, and does not end the next.
        if self.session.exporting.take_if(|(_, samples, _)| samples == of).is_none() {
            return;
        }
        match made {
            Ok((ending, bytes)) => self.save(&ending, bytes),
            Err(problem) => self.say(Severity::Warning, problem),
        }
    }

    /// Saves bytes as a file in the folder that Dozor was started in.
    pub fn save(&mut self, ending: &str, bytes: Vec<u8>) {
        let host = crate::recorder::in_file_name(&self.time().timeline.host().name);
        let wall = self.moment().sample.as_ref().map_or(0, |sample| sample.now.wall_ns());
        let name = format!("dozor-{host}-{}.{ending}", self.time().zone.for_file_name(wall));
        self.outbox.push(Effect::Save(name, bytes));
    }
}
