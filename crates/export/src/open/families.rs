//! Families of values for other programs.

use dozor_core::catalogue::{
    COUNTERS, CounterOf, Instances, Kind, Metric, PROCESS_METRICS, SYSTEM_METRICS, Unit, Value, attributes,
    base, instance_attribute, listed,
};
use dozor_core::sample::{ProcessView, Sample};
use dozor_core::text::Text;
use dozor_core::units::NANOS;
use std::collections::BTreeMap;

/// What values of a family are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// Totals that only grow.
    Counter,
    /// What is now, and adds up over its attributes.
    UpDown,
    /// What is now.
    Gauge,
}

/// What a value is of, by the keys of the conventions.
pub type Attributes = Vec<(&'static str, Text)>;

/// A value with what it is of.
#[derive(Clone, Debug, PartialEq)]
pub struct Series {
    /// Attributes.
    pub attributes: Attributes,
    /// The value, in the unit of its family.
    pub value: f64,
    /// Of a total: since when, in nanoseconds since 1970.
    pub since_ns: i64,
}

/// Values of one name.
#[derive(Clone, Debug, PartialEq)]
pub struct Family {
    /// Its name.
    pub name: &'static str,
    /// Its unit by UCUM.
    pub unit: &'static str,
    /// What it means.
    pub help: &'static str,
    /// What its values are.
    pub form: Form,
    /// The values.
    pub series: Vec<Series>,
}

/// Metrics of a process that are told as they are now; their totals are told as well.
const OF_PROCESS: [&str; 8] = ["cpu", "rss", "virtual", "swap", "threads", "files", "connections", "age"];

/// What the conventions count up and down: parts that add up.
const UP_DOWN: [&str; 16] = [
    "system.memory.usage",
    "system.memory.limit",
    "system.memory.linux.available",
    "system.memory.linux.shared",
    "system.memory.linux.slab.usage",
    "system.paging.usage",
    "system.filesystem.usage",
    "system.filesystem.limit",
    "system.process.count",
    "hw.gpu.memory.usage",
    "hw.network.bandwidth.limit",
    "process.memory.usage",
    "process.memory.virtual",
    "process.thread.count",
    "process.unix.file_descriptor.count",
    "process.network.connection.count",
];

/// The unit by UCUM, and what a number is multiplied with.
fn ucum(unit: Unit) -> (&'static str, f64) {
    match unit {
        Unit::Percent | Unit::PercentOfCore => ("1", 0.01),
        Unit::Bytes => ("By", 1.0),
        Unit::BytesPerSecond => ("By/s", 1.0),
        Unit::BitsPerSecond => ("By/s", 0.125),
        Unit::Seconds | Unit::Delay | Unit::Time => ("s", 1.0),
        Unit::Celsius => ("Cel", 1.0),
        Unit::Hertz => ("Hz", 1.0),
        Unit::Rpm => ("rpm", 1.0),
        Unit::Watts => ("W", 1.0),
        Unit::Volts => ("V", 1.0),
        Unit::Dbm => ("dB[mW]", 1.0),
        Unit::PerSecond => ("1/s", 1.0),
        Unit::Number | Unit::Text => ("1", 1.0),
    }
}

/// Whether a metric is told as it is: others are rates of totals that are told.
fn is_told(metric: &Metric) -> bool {
    let has_total = COUNTERS.iter().any(|counter| counter.rates.contains(&metric.alias));
    let is_pressure = metric.alias.starts_with("pressure.");
    !has_total && !is_pressure && !metric.unit.is_text() && metric.kind != Kind::Label
}

struct Families(BTreeMap<(&'static str, bool), Family>);

impl Families {
    fn put(
        &mut self,
        name: &'static str,
        unit: &'static str,
        (help, form): (&'static str, Form),
        series: Series,
    ) {
        if !series.value.is_finite() {
            return;
        }
        let is_counter = form == Form::Counter;
        let family = self.0.entry((name, is_counter)).or_insert_with(|| Family {
            name,
            unit,
            help,
            form,
            series: vec![],
        });
        family.series.push(series);
    }
}

/// All families of a sample, with the processes in these places.
pub fn families(sample: &Sample, processes: &[usize]) -> Vec<Family> {
    let mut all = Families(BTreeMap::new());
    let system = &sample.now.system;
    let booted = sample.now.wall_ns() - system.boot_ns.value().unwrap_or(0);
    for metric in SYSTEM_METRICS.iter().filter(|metric| is_told(metric)) {
        let (unit, factor) = ucum(metric.unit);
        let form = if UP_DOWN.contains(&metric.base()) { Form::UpDown } else { Form::Gauge };
        each(metric.of_system(sample), metric.name, |attributes, value| {
            let series = Series { attributes, value: value * factor, since_ns: booted };
            all.put(metric.base(), unit, (metric.help, form), series);
        });
    }
    // Who it is and since when are the same for all that is told of it.
    let views: Vec<(ProcessView<'_>, Attributes, i64)> = processes
        .iter()
        .map(|at| {
            let view = sample.process(*at);
            let (who, since) = (who(&view), started(&view).unwrap_or(booted));
            (view, who, since)
        })
        .collect();
    for counter in COUNTERS {
        let name = base(counter.name);
        match counter.of {
            CounterOf::System(of) => each(of(sample), counter.name, |attributes, value| {
                let series = Series { attributes, value, since_ns: booted };
                all.put(name, counter.unit, (counter.help, Form::Counter), series);
            }),
            CounterOf::Process(of) => {
                for (view, who, since) in &views {
                    let Value::Number(value) = of(view) else { continue };
                    let mut attributes = who.clone();
                    attributes
                        .extend(self::attributes(counter.name).map(|(key, value)| (key, Text::from(value))));
                    let series = Series { attributes, value, since_ns: *since };
                    all.put(name, counter.unit, (counter.help, Form::Counter), series);
                }
            }
        }
    }
    for metric in PROCESS_METRICS.iter().filter(|metric| OF_PROCESS.contains(&metric.alias)) {
        let (unit, factor) = ucum(metric.unit);
        // The conventions hold the CPU time of a process against all cores that it may use.
        let cores = f64::from(sample.host.cores.max(1));
        let factor = if metric.unit == Unit::PercentOfCore { factor / cores } else { factor };
        let form = if UP_DOWN.contains(&metric.base()) { Form::UpDown } else { Form::Gauge };
        for (view, who, since) in &views {
            if let Value::Number(value) = metric.of(view) {
                let series = Series { attributes: who.clone(), value: value * factor, since_ns: *since };
                all.put(metric.base(), unit, (metric.help, form), series);
            }
        }
    }
    all.0.into_values().collect()
}

/// Values with the attributes of their name.
fn each(values: Instances, name: &'static str, mut put: impl FnMut(Attributes, f64)) {
    let fixed = || attributes(name).map(|(key, value)| (key, Text::from(value)));
    match values {
        Instances::One(Value::Number(value)) => put(fixed().collect(), value),
        Instances::One(_) => {}
        Instances::Many(values) => {
            let key = instance_attribute(name).unwrap_or("hw.id");
            for (instance, value) in values {
                if let Value::Number(value) = value {
                    put(std::iter::once((key, instance)).chain(fixed()).collect(), value);
                }
            }
        }
    }
}

/// When a process started, in nanoseconds since 1970.
fn started(view: &ProcessView<'_>) -> Option<i64> {
    Some((listed("start").of(view).number()? * NANOS as f64) as i64)
}

/// Which process it is.
fn who(view: &ProcessView<'_>) -> Attributes {
    let mut all = vec![("process.pid", Text::from(view.now.pid.value().unwrap_or(0).to_string()))];
    let mut put = |key, text: &Text| {
        if !text.is_empty() {
            all.push((key, text.clone()));
        }
    };
    put(
        "process.executable.name",
        if view.now.program.is_empty() { &view.now.name } else { &view.now.program },
    );
    put("process.user.name", &view.now.user);
    put("container.name", &view.now.container);
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::catalogue::Eval;

    #[test]
    fn every_number_of_the_machine_is_told_as_it_is_or_by_its_total() {
        for metric in SYSTEM_METRICS.iter().filter(|metric| !metric.unit.is_text()) {
            let by_total = COUNTERS.iter().any(|counter| counter.rates.contains(&metric.alias));
            assert!(is_told(metric) || by_total, "{}", metric.alias);
            assert!(matches!(metric.eval, Eval::System(_)));
        }
        for alias in COUNTERS.iter().flat_map(|counter| counter.rates) {
            assert!(dozor_core::catalogue::find(alias).is_some(), "{alias}");
        }
    }
}
