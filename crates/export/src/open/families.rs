//! Families of values for other programs.

use super::ToldProcess;
use dozor_core::catalogue::{
    COUNTERS, CounterOf, Instances, Kind, Metric, PROCESS_METRICS, SYSTEM_METRICS, Unit, Value, attributes,
    base, instance_attribute, listed,
};
use dozor_core::known::Raw;
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

/// What is counted up and down, parts that add up, with its unit where that is a number of something.
const UP_DOWN: [(&str, &str); 24] = [
    ("system.memory.usage", "By"),
    ("system.memory.limit", "By"),
    ("system.memory.linux.available", "By"),
    ("system.memory.linux.shared", "By"),
    ("dozor.system.memory.unavailable", "By"),
    ("dozor.system.memory.linux.slab.usage", "By"),
    ("dozor.system.memory.linux.dirty", "By"),
    ("system.paging.usage", "By"),
    ("dozor.system.paging.limit", "By"),
    ("system.filesystem.usage", "By"),
    ("system.filesystem.limit", "By"),
    ("system.process.count", "{process}"),
    ("dozor.system.thread.count", "{thread}"),
    ("dozor.system.thread.runnable", "{thread}"),
    ("dozor.system.thread.blocked", "{thread}"),
    ("dozor.system.cgroup.tasks", "{thread}"),
    ("dozor.system.users", "{user}"),
    ("hw.gpu.memory.usage", "By"),
    ("hw.network.bandwidth.limit", "By/s"),
    ("process.memory.usage", "By"),
    ("process.memory.virtual", "By"),
    ("process.thread.count", "{thread}"),
    ("process.unix.file_descriptor.count", "{file_descriptor}"),
    ("dozor.process.network.connection.count", "{connection}"),
];

/// Levels that the screen shows otherwise than as parts which add up; the parts are told.
const IN_PARTS: [&str; 7] =
    ["tasks.total", "mem.free", "mem.buffers", "mem.cache", "swap.used", "fs.used", "fs.available"];

/// Whether values of a name count up and down, and its unit.
fn form_of(base: &str, unit: &'static str) -> (Form, &'static str) {
    let found = UP_DOWN.iter().find(|(name, _)| *name == base);
    found.map_or((Form::Gauge, unit), |(_, unit)| (Form::UpDown, unit))
}

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

/// All families of a sample, with these processes.
pub fn families(sample: &Sample, processes: &[ToldProcess]) -> Vec<Family> {
    let mut all = Families(BTreeMap::new());
    let system = &sample.now.system;
    let booted = sample.now.wall_ns() - system.boot_ns.value().unwrap_or(0);
    let whole = |metric: &&Metric| is_told(metric) && !IN_PARTS.contains(&metric.alias);
    for metric in SYSTEM_METRICS.iter().filter(whole) {
        let (unit, factor) = ucum(metric.unit);
        let (form, unit) = form_of(metric.base(), unit);
        each(metric.of_system(sample), metric.name, |mut attributes, value| {
            if let Some(at) = attributes.iter().position(|(key, _)| *key == "system.filesystem.mountpoint") {
                let (_, mount) = attributes.remove(at);
                attributes.splice(at..at, filesystem(sample, &mount));
            }
            let series = Series { attributes, value: value * factor, since_ns: booted };
            all.put(metric.base(), unit, (metric.help, form), series);
        });
    }
    parts(sample, booted, &mut all);
    // Who it is and since when are the same for all that is told of it.
    let views: Vec<(ProcessView<'_>, Attributes, i64)> = processes
        .iter()
        .map(|process| {
            let view = sample.process(process.place);
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
            CounterOf::Process(_) | CounterOf::Summed(_) => {
                for ((view, who, since), told) in views.iter().zip(processes) {
                    let (value, since) = match counter.of {
                        CounterOf::Process(of) => (of(view), *since),
                        _ => told
                            .written
                            .map_or((Value::Absent, *since), |(sum, since)| (Value::Number(sum), since)),
                    };
                    let Value::Number(value) = value else { continue };
                    let mut attributes = who.clone();
                    attributes
                        .extend(self::attributes(counter.name).map(|(key, value)| (key, Text::from(value))));
                    let series = Series { attributes, value, since_ns: since };
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
        let (form, unit) = form_of(metric.base(), unit);
        for (view, who, since) in &views {
            if let Value::Number(value) = metric.of(view) {
                let series = Series { attributes: who.clone(), value: value * factor, since_ns: *since };
                all.put(metric.base(), unit, (metric.help, form), series);
            }
        }
    }
    all.0.into_values().collect()
}

/// Parts that add up to a limit: of memory, swap and file systems; and how many processes are in which state.
fn parts(sample: &Sample, since_ns: i64, all: &mut Families) {
    let system = &sample.now.system;
    let of = |raw: Raw| raw.value().map(|value| value as f64);
    let mut put = |name: &'static str, help, attributes: Attributes, value: Option<f64>| {
        let Some(value) = value else { return };
        let (form, unit) = form_of(name, "1");
        all.put(name, unit, (help, form), Series { attributes, value: value.max(0.0), since_ns });
    };
    let memory = [of(system.mem_free), of(system.mem_buffers), of(system.mem_cached)];
    let rest: Option<f64> = memory.iter().copied().sum();
    let used = of(system.mem_total).zip(rest).map(|(total, rest)| total - rest);
    let states = ["free", "buffers", "cached", "used"].into_iter().zip(memory.into_iter().chain([used]));
    for (state, value) in states {
        put("system.memory.usage", USAGE, vec![("system.memory.state", state.into())], value);
    }
    let used = of(system.swap_total).zip(of(system.swap_free)).map(|(total, free)| total - free);
    for (state, value) in [("used", used), ("free", of(system.swap_free))] {
        put("system.paging.usage", USAGE, vec![("system.paging.state", state.into())], value);
    }
    for row in &sample.now.filesystems {
        let reserved = of(row.size).zip(of(row.used)).zip(of(row.available));
        let reserved = reserved.map(|((size, used), available)| size - used - available);
        let states = [("used", of(row.used)), ("free", of(row.available)), ("reserved", reserved)];
        for (state, value) in states {
            let mut attributes = filesystem(sample, &row.mount);
            attributes.push(("system.filesystem.state", state.into()));
            put("system.filesystem.usage", USAGE, attributes, value);
        }
    }
    let tasks = sample.tasks();
    // The words of the conventions, and ours beside them, which tell more.
    let known = tasks.running + tasks.sleeping + tasks.blocked + tasks.stopped + tasks.zombie;
    for (state, ours, count) in [
        ("running", "running", tasks.running),
        ("sleeping", "sleeping", tasks.sleeping),
        ("sleeping", "blocked", tasks.blocked),
        ("stopped", "stopped", tasks.stopped),
        ("defunct", "zombie", tasks.zombie),
        ("sleeping", "unknown", tasks.total.saturating_sub(known)),
    ] {
        if ours == "unknown" && count == 0 {
            continue;
        }
        let attributes = vec![("process.state", state.into()), ("dozor.process.state", ours.into())];
        put("system.process.count", COUNT, attributes, Some(f64::from(count)));
    }
}

const USAGE: &str = "Bytes in each state; the states add up to the limit.";
const COUNT: &str = "Processes in each state that this user can see; dozor.process.state tells more.";

/// What a file system is, by its mount point.
fn filesystem(sample: &Sample, mount: &Text) -> Attributes {
    let mut all: Attributes = vec![("system.filesystem.mountpoint", mount.clone())];
    if let Some(row) = sample.now.filesystems.iter().find(|row| row.mount == *mount) {
        all.push(("system.device", row.device.clone()));
        all.push(("system.filesystem.type", row.kind.clone()));
        if let Some(read_only) = row.read_only.value() {
            all.push(("system.filesystem.mode", if read_only == 0 { "rw" } else { "ro" }.into()));
        }
    }
    all
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

    /// Names of the semantic conventions (opentelemetry.io/docs/specs/semconv, system, process and hardware metrics).
    const CONVENTIONS: &[&str] = &[
        "process.cpu.time",
        "process.cpu.utilization",
        "process.memory.usage",
        "process.memory.virtual",
        "process.disk.io",
        "process.network.io",
        "process.thread.count",
        "process.unix.file_descriptor.count",
        "process.context_switches",
        "process.paging.faults",
        "process.uptime",
        "system.cpu.time",
        "system.cpu.utilization",
        "system.cpu.frequency",
        "system.memory.usage",
        "system.memory.limit",
        "system.memory.linux.available",
        "system.memory.linux.shared",
        "system.paging.usage",
        "system.paging.faults",
        "system.disk.io",
        "system.disk.operations",
        "system.disk.io_time",
        "system.disk.operation_time",
        "system.filesystem.usage",
        "system.filesystem.limit",
        "system.filesystem.utilization",
        "system.network.io",
        "system.network.packet.count",
        "system.network.packet.dropped",
        "system.network.errors",
        "system.process.count",
        "system.process.created",
        "hw.temperature",
        "hw.temperature.limit",
        "hw.fan.speed",
        "hw.fan.speed.limit",
        "hw.power",
        "hw.voltage",
        "hw.battery.charge",
        "hw.battery.time_left",
        "hw.gpu.utilization",
        "hw.gpu.memory.usage",
        "hw.network.bandwidth.limit",
        "hw.network.bandwidth.utilization",
        "hw.cpu.speed.limit",
    ];

    /// The simulated night, a minute into it: samples one after the other, and what is told of the last.
    fn told(count: u64) -> (Vec<Sample>, Vec<Family>) {
        use dozor_core::demo::SimulatedMachine;
        use dozor_core::wanted::Wanted;
        let mut machine = SimulatedMachine::new(1);
        machine.want(Wanted::recorded());
        let host = std::sync::Arc::new(machine.host());
        let (mut before, mut told) = (None, super::super::Told::new(2_000));
        let (mut samples, mut last) = (vec![], vec![]);
        for second in 0..count {
            machine.advance_to(std::time::Duration::from_secs(60 + second));
            let now = std::sync::Arc::new(machine.reading());
            let sample = Sample::new(host.clone(), before.replace(now.clone()), now);
            let chosen = told.choose(&sample);
            last = families(&sample, &chosen);
            samples.push(sample);
        }
        (samples, last)
    }

    #[test]
    fn names_are_those_of_the_conventions_or_our_own() {
        let (_, families) = told(2);
        for family in &families {
            assert!(
                CONVENTIONS.contains(&family.name) || family.name.starts_with("dozor."),
                "{}",
                family.name
            );
            // Parts and wholes of one name would be added up twice.
            let keys =
                |series: &Series| -> Vec<&str> { series.attributes.iter().map(|(key, _)| *key).collect() };
            let of_process = family.name.starts_with("process.") || family.name.starts_with("dozor.process.");
            let first = keys(&family.series[0]);
            let alike = family.series.iter().all(|series| keys(series) == first);
            let by_device = family.name.starts_with("hw.");
            assert!(alike || of_process || by_device, "{}: {:?}", family.name, family.series);
            let once: std::collections::HashSet<_> =
                family.series.iter().map(|series| format!("{:?}", series.attributes)).collect();
            assert_eq!(once.len(), family.series.len(), "{}", family.name);
        }
        let unit = |name: &str| families.iter().find(|family| family.name == name).map(|family| family.unit);
        assert_eq!(unit("process.thread.count"), Some("{thread}"));
        assert_eq!(unit("process.unix.file_descriptor.count"), Some("{file_descriptor}"));
        assert_eq!(unit("system.process.count"), Some("{process}"));
    }

    #[test]
    fn parts_add_up_to_their_whole() {
        let (samples, families) = told(2);
        let last = samples.last().expect("a sample");
        let of = |name: &str| &families.iter().find(|family| family.name == name).expect("it is told").series;
        let sum = |name: &str| of(name).iter().map(|series| series.value).sum::<f64>();
        assert!((sum("system.memory.usage") - sum("system.memory.limit")).abs() < 1.0);
        assert!((sum("system.filesystem.usage") - sum("system.filesystem.limit")).abs() < 1.0);
        let modes = of("system.filesystem.limit")
            .iter()
            .filter_map(|series| series.attributes.iter().find(|(key, _)| *key == "system.filesystem.mode"));
        assert!(modes.filter(|(_, mode)| **mode == *"rw").count() > 0);
        assert!((sum("system.process.count") - f64::from(last.tasks().total)).abs() < 0.5);
        for series in of("system.process.count") {
            let state = series.attributes.iter().find(|(key, _)| *key == "process.state").expect("a state");
            assert!(["running", "sleeping", "stopped", "defunct"].contains(&&*state.1), "{state:?}");
        }
    }

    /// What collectors get of writing is the sum of what the screen shows, and only grows.
    #[test]
    fn bytes_written_are_the_sum_of_what_the_screen_shows() {
        let (samples, families) = told(20);
        let family = families.iter().find(|family| family.name == "process.disk.io").expect("it is told");
        let mut checked = 0;
        for series in &family.series {
            let attribute = |key: &str| {
                series.attributes.iter().find(|(other, _)| *other == key).map(|(_, value)| &**value)
            };
            if attribute("disk.io.direction") != Some("write") {
                continue;
            }
            let pid: i64 = attribute("process.pid").and_then(|pid| pid.parse().ok()).expect("a PID");
            let shown: f64 = samples
                .iter()
                .filter_map(|sample| {
                    let at = sample.now.processes.iter().position(|row| row.pid.value() == Some(pid))?;
                    Some(listed("write").of(&sample.process(at)).number()? * sample.seconds()?)
                })
                .sum();
            assert!((series.value - shown).abs() < 1.0, "{pid}: {} told, {shown} shown", series.value);
            checked += usize::from(shown > 0.0);
        }
        assert!(checked > 3, "{checked} wrote something");
    }
}
