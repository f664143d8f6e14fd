//! What is drawn or written of some time, as a file: charts and reports go over many samples, so a thread of its own does it.

use dozor_core::timeline::{Timeline, TimelineCopy};
use dozor_export::chart::{Composing, Look, compose, draw};
use dozor_export::file::Form as Ending;
use dozor_export::report::{Asked, Report};
use dozor_export::scene::Scene;
use std::ops::Range;

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
                let report = Report::new(&mut timeline, numbers, &Asked::default());
                report.map_err(|error| error.to_string()).map(|report| match self.ending.as_str() {
                    "html" => report.html().into_bytes(),
                    "md" => report.markdown().into_bytes(),
                    _ => report.pdf(),
                })
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
    Ok(form.bytes(scene, host))
}
