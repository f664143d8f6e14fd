//! Files that are made of what is shown, on a thread of their own: charts and reports go over many samples.

use super::State;
use super::data::Stay;
use super::effect::Effect;
use dozor_core::lane::Severity;
use dozor_core::timeline::{Progress, Timeline, TimelineCopy};
use dozor_export::chart::{Composing, Look, compose, draw};
use dozor_export::file::Form as Ending;
use dozor_export::report::{Asked, Report};
use dozor_export::scene::Scene;
use std::ops::Range;
use std::sync::Arc;

/// Size of a chart in points.
pub const SIZE: (f64, f64) = (960.0, 600.0);

/// What is drawn or written of some time, on a thread of its own.
#[derive(Clone, Debug)]
pub struct Job {
    what: Wanted,
    ending: String,
    /// Instants of the wall clock.
    span: (i64, i64),
    light: bool,
}

#[derive(Clone, Debug)]
enum Wanted {
    Chart(Composing),
    Report,
}

impl PartialEq for Job {
    fn eq(&self, other: &Job) -> bool {
        (self.span, &self.ending) == (other.span, &other.ending)
    }
}

impl Job {
    /// A chart of metrics over some time.
    pub fn chart(what: Composing, ending: &str, span: (i64, i64), light: bool) -> Job {
        Job { what: Wanted::Chart(what), ending: ending.to_owned(), span, light }
    }

    /// A report of some time.
    pub fn report(ending: &str, span: (i64, i64)) -> Job {
        Job { what: Wanted::Report, ending: ending.to_owned(), span, light: false }
    }

    /// The file that it becomes, and its ending.
    pub fn work(&self, copy: TimelineCopy) -> Result<(String, Vec<u8>), String> {
        let (mut timeline, numbers) = copy.open(self.span.0, self.span.1);
        let bytes = match &self.what {
            Wanted::Chart(what) => chart(&mut timeline, numbers, what, (&self.ending, self.light)),
            Wanted::Report => {
                let report = Report::new(&mut timeline, numbers, &Asked::default())
                    .map_err(|error| error.to_string())?;
                match self.ending.as_str() {
                    "html" => Ok(report.html().into_bytes()),
                    "md" => Ok(report.markdown().into_bytes()),
                    _ => report.pdf().map_err(|error| error.to_string()),
                }
            }
        };
        bytes.map(|bytes| (self.ending.clone(), bytes))
    }
}

/// A chart of metrics over a range of samples, as a file.
fn chart(
    timeline: &mut Timeline,
    numbers: Range<usize>,
    what: &Composing,
    (ending, light): (&str, bool),
) -> Result<Vec<u8>, String> {
    let chart = compose(timeline, numbers, what).map_err(|error| error.to_string())?;
    let size = (SIZE.0, SIZE.1.max(dozor_export::chart::least_size(&chart).1 + 80.0));
    let scene = draw(&chart, size, Look { light }).map_err(|error| error.to_string())?;
    file(&scene, &chart.host, ending)
}

/// A drawing as a file.
pub fn file(scene: &Scene, host: &str, ending: &str) -> Result<Vec<u8>, String> {
    let form = Ending::by_ending(ending).ok_or_else(|| format!("'{ending}' is no form of a drawing"))?;
    form.bytes(scene, host).map_err(|error| error.to_string())
}

impl State {
    /// Has a file made on another thread; one at a time.
    pub fn begin_export(&mut self, job: Job) {
        if self.session.exporting.is_some() {
            return self.say(Severity::Notice, "a file is being made already; esc cancels it".to_owned());
        }
        let progress = Arc::new(Progress::default());
        self.session.exporting = Some((progress.clone(), self.now));
        self.outbox.push(Effect::Export(Box::new(job), self.time.timeline.copy(&progress).into()));
        self.tell_export();
    }

    /// Says how far it is.
    pub fn tell_export(&mut self) {
        let Some((progress, since)) = &self.session.exporting else { return };
        let seconds = self.now.saturating_duration_since(*since).as_secs();
        let text =
            format!("making the file … {} readings looked at, {seconds} s; esc cancels", progress.read());
        self.say_for(Severity::Fine, text, Stay::UntilKey);
    }

    /// Whether one is being made; then it is not wanted any more.
    pub fn cancel_export(&mut self) -> bool {
        let Some((progress, _)) = self.session.exporting.take() else { return false };
        progress.stop();
        self.say(Severity::Notice, "cancelled: no file was made".to_owned());
        true
    }

    /// It is made, or cannot be.
    pub fn exported(&mut self, made: Result<(String, Vec<u8>), String>) {
        // One that was cancelled meanwhile is nobody's.
        if self.session.exporting.take().is_none() {
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
