//! What one process used over the time of the axis, also over its restarts: worked out once for each sample, in small
//! parts, so that no key waits for it.

use super::State;
use super::axis::{Axis, Bar, by_column};
use dozor_core::catalogue::{Metric, listed};
use dozor_core::known::Known;
use dozor_core::lane::{Lane, Severity};
use dozor_core::reading::ProcessKey;
use dozor_core::sample::Sample;
use dozor_core::text::Text;
use dozor_core::timeline::{Moment, Reach, Timeline};
use std::collections::BTreeMap;
use std::ops::Range;

/// Samples that are looked at between two frames.
const PART: usize = 400;
/// More are not kept.
const KEPT: usize = 100_000;

/// The strips of a process, with the lanes whose hues they have.
pub const STRIPS: [(Lane, &str); 4] =
    [(Lane::Cpu, "cpu"), (Lane::Memory, "rss"), (Lane::Disk, "disk"), (Lane::Network, "net")];

/// A child that ended within a sample.
#[derive(Clone, Debug, PartialEq)]
pub struct EndedChild {
    /// Its program.
    pub name: Text,
    /// CPU time in seconds; none where that is not known.
    pub cpu: Option<f64>,
    /// Most memory in bytes.
    pub peak: Option<f64>,
}

/// What a process used in one sample.
#[derive(Clone, Debug, Default)]
struct Point {
    /// A value for each strip; nothing where the process is not there.
    values: Option<[Known<f64>; 4]>,
    ended: Vec<EndedChild>,
}

/// What one process used over the time of the axis.
#[derive(Default)]
pub struct Series {
    keys: Vec<ProcessKey>,
    /// By the wall clock of the sample: numbers of samples change when old ones are thinned.
    points: BTreeMap<i64, Point>,
    /// There is more to look at.
    pub unfinished: bool,
}

fn metrics() -> [&'static Metric; 4] {
    STRIPS.map(|(_, name)| listed(name))
}

fn point(sample: &Sample, keys: &[ProcessKey]) -> Point {
    let found = keys.iter().find_map(|key| sample.find(*key));
    let values = found.map(|at| {
        let view = sample.process(at);
        metrics().map(|metric| metric.of(&view).into())
    });
    let is_child = |ppid: Option<i64>| ppid.is_some_and(|ppid| keys.iter().any(|key| key.pid == ppid));
    let ended = sample.now.ended.iter().filter(|row| is_child(row.ppid.value())).map(|row| EndedChild {
        name: row.name.clone(),
        cpu: row.user.float().zip(row.system.float()).value().map(|(user, system)| (user + system) / 1e6),
        peak: row.peak_bytes.float().value(),
    });
    Point { values, ended: ended.collect() }
}

/// Numbers of the samples on the axis.
fn on_axis(timeline: &Timeline, axis: &Axis) -> Range<usize> {
    let first = timeline.at(axis.begin(0));
    let last = timeline.at(axis.end - 1);
    first..(last + 1).min(timeline.end())
}

impl Series {
    /// Of these lives of one program.
    pub fn of(&mut self, keys: &[ProcessKey]) {
        if self.keys != keys {
            self.keys = keys.to_vec();
            self.points.clear();
        }
    }

    /// Looks at samples on the axis that were not looked at yet, the newest first, so many at a time.
    pub fn follow(&mut self, state: &State) {
        self.unfinished = false;
        let Some(axis) = state.lanes().strips.axis else { return };
        let timeline = &state.time().timeline;
        let known = |number: usize| {
            timeline.moment(number).is_none_or(|moment| self.points.contains_key(&moment.wall_ns))
        };
        let numbers = on_axis(timeline, &axis);
        let Some(last) = numbers.clone().rev().find(|number| !known(*number)) else { return };
        let first = numbers.start.max((last + 1).saturating_sub(PART));
        let first = (first..=last).rev().take_while(|number| !known(*number)).last().unwrap_or(last);
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        let keys = &self.keys;
        let reach = metrics().map(Reach::of).into_iter().reduce(Reach::and).unwrap_or(Reach::All);
        let found = timeline.fold(first..last + 1, threads, reach, Vec::new, |points, _, sample| {
            points.push((sample.now.wall_ns(), point(sample, keys)));
        });
        // What cannot be read is said where it is shown; here it is nothing.
        for (wall, point) in found.into_iter().flatten().flatten() {
            self.points.insert(wall, point);
        }
        for number in first..=last {
            if let Some(moment) = timeline.moment(number) {
                self.points.entry(moment.wall_ns).or_default();
            }
        }
        while self.points.len() > KEPT {
            self.points.pop_first();
        }
        self.unfinished = numbers.start < first
            && numbers.clone().any(|number| {
                timeline.moment(number).is_some_and(|moment| !self.points.contains_key(&moment.wall_ns))
            });
    }

    /// The bars of all strips, in the order of [`STRIPS`].
    pub fn bars(&self, state: &State) -> [Vec<Bar>; 4] {
        let Some(axis) = state.lanes().strips.axis else { return Default::default() };
        let mean = state.lanes().zoom.mean;
        let columns = by_column(&state.time().timeline, &axis);
        std::array::from_fn(|strip| columns.iter().map(|moments| self.bar(moments, strip, mean)).collect())
    }

    fn bar(&self, moments: &[&Moment], strip: usize, mean: bool) -> Bar {
        let mut missing = Bar::Nothing;
        let (mut most, mut sum, mut weight) = (None::<f64>, 0.0, 0.0);
        for moment in moments {
            let Some(values) = self.points.get(&moment.wall_ns).and_then(|point| point.values) else {
                continue;
            };
            match values[strip] {
                Known::Value(value) => {
                    let seconds = moment.seconds.unwrap_or(1.0);
                    most = Some(most.map_or(value, |most| most.max(value)));
                    (sum, weight) = (sum + value * seconds, weight + seconds);
                }
                Known::Denied => missing = Bar::Denied,
                Known::Absent if missing == Bar::Nothing => missing = Bar::Gap,
                Known::Absent => {}
            }
        }
        let value = if mean && weight > 0.0 { most.map(|_| sum / weight) } else { most };
        value.map_or(missing, |value| Bar::Value { value, full: None, severity: Severity::Fine })
    }

    /// Children that ended within the time of the axis.
    pub fn ended(&self, state: &State) -> Vec<EndedChild> {
        let Some(axis) = state.lanes().strips.axis else { return vec![] };
        let shown = state.shown_wall().unwrap_or(i64::MAX);
        let within = self.points.range(axis.begin(0)..=shown.min(axis.end));
        within.flat_map(|(_, point)| point.ended.clone()).collect()
    }
}
