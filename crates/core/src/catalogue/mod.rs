//! The catalogue: every number that Dozor shows has one entry here.
//!
//! Columns, ordering, snapshots and documents are all read from it; adding a metric is adding one entry in
//! `process.rs` or `system.rs`. Aliases are part of the interface: scripts rely on them.

mod counters;
mod document;
mod process;
mod system;
mod transfers;
mod value;
mod written;

pub use counters::{COUNTERS, Counter, CounterOf};
pub use document::markdown;
pub use process::{PROCESS_METRICS, core_temperature};
pub use system::{
    SYSTEM_METRICS, core_busy, core_share, cpu_busy, cpu_share, disk_busy, disk_wait, link_usage,
    memory_used, remote_time, sent_again, unaccounted,
};
pub use transfers::{handed_by, handed_for, handing};
pub use value::{Unit, Value};
pub(crate) use written::is_beyond_calls;

use crate::known::Raw;
use crate::reading::ProcessRow;
use crate::sample::{ProcessView, Sample};
use crate::text::{Text, nearest};
use crate::wanted::Demand;

/// How a metric behaves over time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// A level at the instant of the reading.
    Level,
    /// A rate or a share over the time between two readings.
    Rate,
    /// A total since the start of the process or of the machine.
    Total,
    /// A name, a state or a number that only identifies.
    Label,
}

impl Kind {
    /// The word used in documents.
    pub const fn word(self) -> &'static str {
        match self {
            Kind::Level => "level",
            Kind::Rate => "rate",
            Kind::Total => "total",
            Kind::Label => "label",
        }
    }
}

/// What several processes have together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Combine {
    /// The sum.
    Sum,
    /// The largest.
    Most,
    /// The smallest.
    Least,
    /// What all of them share; else nothing.
    Same,
}

impl Combine {
    /// The word used in documents.
    pub const fn word(self) -> &'static str {
        match self {
            Combine::Sum => "sum",
            Combine::Most => "largest",
            Combine::Least => "smallest",
            Combine::Same => "the same or mixed",
        }
    }

    /// What suits most metrics of a kind and a unit.
    const fn usual(kind: Kind, unit: Unit) -> Combine {
        match (kind, unit) {
            (_, Unit::Text | Unit::Number | Unit::Time) | (Kind::Label, _) => Combine::Same,
            (Kind::Rate | Kind::Total, _) | (_, Unit::Bytes | Unit::Percent) => Combine::Sum,
            _ => Combine::Most,
        }
    }
}

/// Values of a system metric: one for the machine, or one for each instance.
#[derive(Clone, Debug, PartialEq)]
pub enum Instances {
    /// The machine as a whole.
    One(Value),
    /// Each core, device, interface or sensor by name.
    Many(Vec<(Text, Value)>),
}

/// How a metric is got out of a sample.
#[derive(Clone, Copy)]
pub enum Eval {
    /// From one process.
    Process(fn(&ProcessView<'_>) -> Value),
    /// From the machine.
    System(fn(&Sample) -> Instances),
}

/// All values that a process has of a metric at once; nothing where they are not known.
pub type Several = fn(&ProcessView<'_>) -> Option<Vec<f64>>;

/// How a value follows from a single number of a process and from the machine. Then it becomes another while the process does
/// nothing, but nobody needs to look at the process for that.
#[derive(Clone, Copy)]
pub struct ByNumber {
    /// The number.
    pub number: fn(&ProcessRow) -> Raw,
    /// What follows from it in a sample.
    pub follows: fn(&Sample) -> OfNumber<'_>,
}

/// What follows from a number in a sample.
pub type OfNumber<'a> = Box<dyn Fn(Raw) -> Value + 'a>;

/// A name without its attributes.
pub fn base(name: &'static str) -> &'static str {
    name.split('{').next().unwrap_or(name)
}

/// The attributes of a name, without that of the instance.
pub fn attributes(name: &'static str) -> impl Iterator<Item = (&'static str, &'static str)> {
    pairs(name).filter(|(_, value)| *value != "*")
}

/// The attribute of a name that says which instance a value is of.
pub fn instance_attribute(name: &'static str) -> Option<&'static str> {
    pairs(name).find(|(_, value)| *value == "*").map(|(key, _)| key)
}

fn pairs(name: &'static str) -> impl Iterator<Item = (&'static str, &'static str)> {
    let inside = name.split_once('{').and_then(|(_, rest)| rest.strip_suffix('}')).unwrap_or_default();
    inside.split(',').filter_map(|pair| pair.split_once('='))
}

/// One entry of the catalogue.
pub struct Metric {
    /// Short name in expressions, options and machine output.
    pub alias: &'static str,
    /// Name by the OpenTelemetry semantic conventions where those have one, else in their style. Attributes follow in braces;
    /// that of the instance has a star for its value: `system.disk.io{system.device=*,disk.io.direction=read}`.
    pub name: &'static str,
    /// Heading of its column.
    pub heading: &'static str,
    /// Unit of its values.
    pub unit: Unit,
    /// How it behaves over time.
    pub kind: Kind,
    /// What it means and how it is misread.
    pub help: &'static str,
    /// Kernel source.
    pub source: &'static str,
    /// How it is got.
    pub eval: Eval,
    /// What of a process it is got from, by the names of its row: of a recording nothing else needs to be read.
    pub reads: &'static [&'static str],
    /// The part of a reading that it needs, where that is not collected anyway.
    pub needs: Option<Demand>,
    /// What a row that stands for several processes shows.
    pub combine: Combine,
    /// All words that it can be, where there are no others.
    pub words: &'static [&'static str],
    /// Says of which processes the value is only the least that it may be.
    pub least: Option<fn(&ProcessView<'_>) -> bool>,
    /// Whether the value of a process is the most that it may be; none where it never is.
    pub most: Option<fn(&ProcessView<'_>) -> bool>,
    /// All values that a process has at once, where there may be several: a comparison holds where it does for any of
    /// them. Nothing where they are not known.
    pub several: Option<Several>,
    /// The number from which it follows, where it follows from one and the machine.
    pub by_number: Option<ByNumber>,
}

impl Metric {
    /// Its name without attributes.
    pub fn base(&self) -> &'static str {
        base(self.name)
    }

    /// The attributes of its name, without that of the instance.
    pub fn attributes(&self) -> impl Iterator<Item = (&'static str, &'static str)> + use<> {
        attributes(self.name)
    }

    /// The attribute that says which instance a value is of.
    pub fn instance_attribute(&self) -> Option<&'static str> {
        instance_attribute(self.name)
    }

    /// Whether its values are whole numbers.
    pub fn is_whole(&self) -> bool {
        match self.unit {
            Unit::Bytes => self.kind == Kind::Level && !matches!(self.alias, "disk.request"),
            Unit::Number => {
                !matches!(self.alias, "load.1" | "load.5" | "load.15" | "disk.queue" | "wifi.quality")
            }
            _ => false,
        }
    }

    /// Whether a process whose row is the same in three readings has in both of their samples the same: then its rates are
    /// nothing or not known in both. What is taken from the clock, from the machine, from its sockets or its control group may
    /// become another while it does nothing.
    pub fn rests(&self) -> bool {
        let of_others = matches!(self.alias, "start" | "age" | "mem" | "core_temp" | "port")
            || self.needs == Some(Demand::Transfers);
        matches!(self.eval, Eval::Process(_)) && !of_others && !self.reads.contains(&"limits")
    }

    /// What fills a drawing at least where nothing says what is full: a value far below is drawn as little as it is.
    pub fn least_scale(&self) -> f64 {
        match self.unit {
            Unit::BytesPerSecond => 1_048_576.0,
            Unit::PercentOfCore | Unit::Percent => 1.0,
            Unit::PerSecond => 10.0,
            _ => 0.0,
        }
    }

    /// The same, got from these of a process.
    const fn reading(mut self, reads: &'static [&'static str]) -> Metric {
        self.reads = reads;
        self
    }

    /// The same entry, for a part of a reading that is collected only when wanted.
    const fn needing(mut self, part: Demand) -> Metric {
        self.needs = Some(part);
        self
    }

    /// The same entry, which is combined in another way than most.
    const fn combining(mut self, combine: Combine) -> Metric {
        self.combine = combine;
        self
    }

    /// The same entry, which is always one of these words.
    const fn among(mut self, words: &'static [&'static str]) -> Metric {
        self.words = words;
        self
    }

    /// The same entry, which for some processes is only the least that it may be.
    const fn at_least(mut self, of: fn(&ProcessView<'_>) -> bool) -> Metric {
        self.least = Some(of);
        self
    }

    /// The same entry, which for some processes is the most that it may be.
    const fn at_most(mut self, of: fn(&ProcessView<'_>) -> bool) -> Metric {
        self.most = Some(of);
        self
    }

    /// The same entry, of which a process may have several values.
    const fn several(mut self, all: Several) -> Metric {
        self.several = Some(all);
        self
    }

    /// The same entry, which follows from a single number of a process and from the machine.
    const fn by_number(mut self, by: ByNumber) -> Metric {
        self.by_number = Some(by);
        self
    }

    /// Its value for one process, and whether that is only the least that it may be.
    pub fn bounded(&self, process: &ProcessView<'_>) -> (Value, bool) {
        let value = self.of(process);
        let partial = value.number().is_some() && self.least.is_some_and(|is_least| is_least(process));
        (value, partial)
    }

    /// Its value for one process; absent for a system metric.
    pub fn of(&self, process: &ProcessView<'_>) -> Value {
        match self.eval {
            Eval::Process(eval) => eval(process),
            Eval::System(_) => Value::Absent,
        }
    }

    /// Its values for the machine; absent for a process metric.
    pub fn of_system(&self, sample: &Sample) -> Instances {
        match self.eval {
            Eval::Process(_) => Instances::One(Value::Absent),
            Eval::System(eval) => eval(sample),
        }
    }
}

impl std::fmt::Debug for Metric {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.alias)
    }
}

impl PartialEq for Metric {
    fn eq(&self, other: &Self) -> bool {
        self.alias == other.alias
    }
}

/// A metric that does not exist.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("no process metric is called '{word}'{}", .near.map(|near| format!("; did you mean '{near}'?")).unwrap_or_default())]
pub struct NoSuchMetric {
    /// What was asked for.
    pub word: String,
    /// The nearest alias.
    pub near: Option<&'static str>,
}

/// The process metric with this alias.
pub fn process_metric(alias: &str) -> Result<&'static Metric, NoSuchMetric> {
    PROCESS_METRICS.iter().find(|metric| metric.alias == alias).ok_or_else(|| NoSuchMetric {
        word: alias.to_owned(),
        near: nearest(alias, PROCESS_METRICS.iter().map(|metric| metric.alias)),
    })
}

/// All metrics: of processes, then of the machine.
pub fn all() -> impl Iterator<Item = &'static Metric> {
    PROCESS_METRICS.iter().chain(SYSTEM_METRICS)
}

/// The metric with this alias, of a process or of the machine.
pub fn find(alias: &str) -> Option<&'static Metric> {
    all().find(|metric| metric.alias == alias)
}

/// The metric that somebody typed, by alias or name; else what is wrong with it.
pub fn named(text: &str) -> Result<&'static Metric, String> {
    all().find(|metric| metric.alias == text || metric.name == text).ok_or_else(|| {
        let near = nearest(text, all().flat_map(|metric| [metric.alias, metric.name]));
        let hint = near.map_or("dozor metrics lists them".to_owned(), |near| format!("did you mean {near}?"));
        format!("no metric is called '{text}'; {hint}")
    })
}

/// A metric of the machine that the program itself names, such as a column of the parts.
///
/// # Panics
/// Where the catalogue does not have it, which every test that draws would find.
pub fn listed_system(alias: &'static str) -> &'static Metric {
    let found = SYSTEM_METRICS.iter().find(|metric| metric.alias == alias);
    found.unwrap_or_else(|| unreachable!("no system metric is called '{alias}'"))
}

/// A metric that the program itself names, such as a column of a lane.
///
/// # Panics
/// Where the catalogue does not have it, which every test that draws would find.
pub fn listed(alias: &'static str) -> &'static Metric {
    process_metric(alias).unwrap_or_else(|error| unreachable!("{error}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn every_entry_is_complete_and_its_alias_is_its_own() {
        let mut seen = HashSet::new();
        for metric in all() {
            assert!(seen.insert(metric.alias), "{} stands twice", metric.alias);
            assert!(metric.name.contains('.'), "{}: name {:?}", metric.alias, metric.name);
            let rest = metric.name.strip_prefix(metric.base()).unwrap_or_default();
            let attributes: Vec<_> = metric.attributes().collect();
            let count = attributes.len() + usize::from(metric.instance_attribute().is_some());
            assert_eq!(rest.matches('=').count(), count, "{}: name {:?}", metric.alias, metric.name);
            assert!(metric.help.ends_with('.'), "{}: help is a sentence", metric.alias);
            assert!(!metric.source.is_empty(), "{}: source", metric.alias);
        }
    }

    #[test]
    fn every_metric_of_an_empty_reading_is_absent_and_never_zero() {
        let sample = Sample::new(
            std::sync::Arc::default(),
            None,
            std::sync::Arc::new(crate::reading::Reading {
                processes: vec![std::sync::Arc::default()],
                ..Default::default()
            }),
        );
        for metric in PROCESS_METRICS {
            let value = metric.of(&sample.process(0));
            assert!(!matches!(value, Value::Number(_)), "{}: {value:?}", metric.alias);
        }
        for metric in SYSTEM_METRICS.iter().filter(|metric| metric.alias != "tasks.total") {
            match metric.of_system(&sample) {
                Instances::One(value) => assert_eq!(value, Value::Absent, "{}", metric.alias),
                Instances::Many(values) => assert!(values.is_empty(), "{}", metric.alias),
            }
        }
    }

    #[test]
    fn a_misspelt_metric_names_the_nearest() {
        let error = process_metric("wirte").expect_err("must not exist");
        assert_eq!(error.to_string(), "no process metric is called 'wirte'; did you mean 'write'?");
    }
}
