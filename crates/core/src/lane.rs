//! The five lanes: what each resource says in one number, in two facts and in one severity.

use crate::catalogue::{Metric, listed};
use crate::catalogue::{Value, cpu_busy, cpu_share, disk_busy, disk_wait, memory_used};
use crate::known::Known;
use crate::reading::InterfaceRow;
use crate::sample::{PartView, Sample};
use crate::units::{long_bytes, short_bytes};

/// One resource.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Lane {
    /// Processors.
    Cpu,
    /// Memory and swap.
    Memory,
    /// Block devices.
    Disk,
    /// Network interfaces.
    Network,
    /// Temperatures.
    Heat,
}

/// How bad it is. Ordered from fine to critical.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Nothing to do.
    #[default]
    Fine,
    /// Worth knowing.
    Notice,
    /// Will hurt soon, or hurts somebody.
    Warning,
    /// Hurts now.
    Critical,
}

impl Severity {
    /// Its sign on the screen.
    pub const fn sign(self) -> char {
        match self {
            Severity::Fine => '·',
            Severity::Notice => '◇',
            Severity::Warning => '▲',
            Severity::Critical => '◆',
        }
    }

    fn reached(value: f64, [notice, warning, critical]: [f64; 3]) -> Severity {
        match value {
            v if v >= critical => Severity::Critical,
            v if v >= warning => Severity::Warning,
            v if v >= notice => Severity::Notice,
            _ => Severity::Fine,
        }
    }
}

/// Busy share of the CPU at which it is worth a notice, a warning, critical.
const CPU: [f64; 3] = [75.0, 90.0, 97.0];
/// Memory in use.
const MEMORY: [f64; 3] = [80.0, 90.0, 96.0];
/// Busy share of the busiest disk.
const DISK: [f64; 3] = [60.0, 80.0, 90.0];
/// Share of the link speed.
const NETWORK: [f64; 3] = [60.0, 80.0, 95.0];
/// Degrees left to the sensor's limit, from near to nearer (negated, so that larger is worse).
const HEAT: [f64; 3] = [-20.0, -12.0, -5.0];

/// What a strip draws for one sample.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// Percent for cpu, memory and disk; bytes per second for network; °C for heat.
    pub value: Known<f64>,
    /// The value that fills the lane; absent where none is known (a link without a speed).
    pub full: Known<f64>,
    /// How bad it is.
    pub severity: Severity,
}

impl Lane {
    /// All lanes from top to bottom.
    pub const ALL: [Lane; 5] = [Lane::Cpu, Lane::Memory, Lane::Disk, Lane::Network, Lane::Heat];

    /// Its name.
    pub const fn name(self) -> &'static str {
        match self {
            Lane::Cpu => "cpu",
            Lane::Memory => "memory",
            Lane::Disk => "disk",
            Lane::Network => "network",
            Lane::Heat => "heat",
        }
    }

    /// Aliases of the columns that fit this lane; the first is what its users are ordered by.
    pub const fn columns(self) -> &'static [&'static str] {
        match self {
            Lane::Cpu => {
                &["cpu", "cpu_user", "cpu_system", "cpu_children", "threads", "core", "nice", "rss", "age"]
            }
            Lane::Memory => &["rss", "mem", "shared", "swap", "virtual", "faults_major", "cpu", "age"],
            Lane::Disk => &["write", "read", "disk_wait", "cpu", "rss", "write_calls", "read_calls", "age"],
            Lane::Network => {
                &["net_in", "net_out", "connections", "read_any", "write_any", "cpu", "rss", "age"]
            }
            Lane::Heat => &["cpu", "core", "core_temp", "cpu_time", "nice", "threads", "age"],
        }
    }

    /// The metric that the lane's users are ordered by.
    pub fn lens(self) -> &'static Metric {
        listed(self.columns()[0])
    }

    /// What the strip draws.
    pub fn point(self, sample: &Sample) -> Point {
        let percent = |value: Known<f64>, thresholds| Point {
            value,
            full: Known::Value(100.0),
            severity: value.value().map_or(Severity::Fine, |value| Severity::reached(value, thresholds)),
        };
        match self {
            Lane::Cpu => percent(cpu_busy(sample), CPU),
            Lane::Memory => percent(memory_share(sample), MEMORY),
            Lane::Disk => percent(busiest_disk(sample).map_or(Known::Absent, |(_, busy)| busy), DISK),
            Lane::Network => network_point(sample),
            Lane::Heat => heat_point(sample),
        }
    }

    /// The value as the lane shows it: `84 %`, `22.4 M/s`, `83 °C`, `–`.
    pub fn label(self, point: &Point) -> String {
        match (self, point.value, point.full) {
            (_, Known::Absent, _) => "–".to_owned(),
            (_, Known::Denied, _) => "×".to_owned(),
            (Lane::Heat, Known::Value(value), _) => format!("{value:.0} °C"),
            (Lane::Network, Known::Value(value), Known::Value(full)) if full > 0.0 => {
                format!("{:.0} %", value / full * 100.0)
            }
            (Lane::Network, Known::Value(value), _) => format!("{}/s", short_bytes(value)),
            (_, Known::Value(value), _) => format!("{value:.0} %"),
        }
    }

    /// Two short facts that matter now.
    pub fn facts(self, sample: &Sample) -> [String; 2] {
        match self {
            Lane::Cpu => cpu_facts(sample),
            Lane::Memory => memory_facts(sample),
            Lane::Disk => disk_facts(sample),
            Lane::Network => network_facts(sample),
            Lane::Heat => heat_facts(sample),
        }
    }
}

fn shown(value: Known<f64>, show: impl Fn(f64) -> String) -> String {
    match value {
        Known::Value(value) => show(value),
        Known::Absent => "–".to_owned(),
        Known::Denied => "×".to_owned(),
    }
}

fn memory_share(sample: &Sample) -> Known<f64> {
    memory_used(sample)
        .zip(sample.now.system.mem_total.float())
        .map(|(used, total)| used / total.max(1.0) * 100.0)
}

fn cpu_facts(sample: &Sample) -> [String; 2] {
    let whole = |value| shown(value, |v| format!("{v:.0}"));
    let mut classes = format!(
        "user {}  system {}  iowait {}",
        whole(cpu_share(sample, |c| c.user)),
        whole(cpu_share(sample, |c| c.system)),
        whole(cpu_share(sample, |c| c.iowait)),
    );
    if let Known::Value(steal) = cpu_share(sample, |c| c.steal)
        && steal >= 1.0
    {
        classes.push_str(&format!("  steal {steal:.0}"));
    }
    let system = &sample.now.system;
    let waiting = match (system.running.value(), sample.host.cores) {
        (Some(running), cores) if cores > 0 && running > i64::from(cores) => {
            format!("{running} want {cores} cores")
        }
        (Some(running), cores) => format!("{running} running, {cores} cores"),
        (None, _) => "run queue unknown".to_owned(),
    };
    let blocked = system.blocked.value().filter(|blocked| *blocked > 0);
    [classes, blocked.map_or(waiting.clone(), |blocked| format!("{waiting}, {blocked} wait for a disk"))]
}

fn memory_facts(sample: &Sample) -> [String; 2] {
    let system = &sample.now.system;
    let used = shown(memory_used(sample), short_bytes);
    let first = format!("{used} of {}", shown(system.mem_total.float(), long_bytes));
    let swap = if let Some(0) = system.swap_total.value() {
        "no swap".to_owned()
    } else {
        let used = system.swap_total.float().zip(system.swap_free.float()).map(|(t, f)| t - f);
        format!(
            "swap {}, in {} out {}/s",
            shown(used, long_bytes),
            shown(sample.rate(|r| r.system.swap_in), short_bytes),
            shown(sample.rate(|r| r.system.swap_out), long_bytes),
        )
    };
    [first, swap]
}

/// The disk that was busy for the largest share of the time, and that share.
fn busiest_disk(sample: &Sample) -> Option<(PartView<'_, crate::reading::DiskRow>, Known<f64>)> {
    sample
        .parts(|reading| &reading.disks[..])
        .filter(|disk| disk.now.whole.is_empty())
        .map(|disk| (disk, disk_busy(&disk)))
        .max_by(|a, b| a.1.value().unwrap_or(-1.0).total_cmp(&b.1.value().unwrap_or(-1.0)))
}

fn disk_facts(sample: &Sample) -> [String; 2] {
    let Some((disk, busy)) = busiest_disk(sample) else {
        return ["no disk here".to_owned(), String::new()];
    };
    let wait = match disk_wait(&disk) {
        Known::Value(seconds) if seconds >= 0.0005 => format!(", waits {:.0} ms", seconds * 1000.0),
        _ => String::new(),
    };
    [
        format!("{} {} % busy{wait}", disk.now.name, shown(busy, |v| format!("{v:.0}"))),
        format!(
            "read {}  write {}/s",
            shown(disk.rate(|d| d.read_bytes), short_bytes),
            shown(disk.rate(|d| d.write_bytes), long_bytes)
        ),
    ]
}

fn is_loopback(interface: &InterfaceRow) -> bool {
    &*interface.name == "lo"
}

/// Traffic of an interface in both directions, in bytes per second.
fn traffic(interface: &PartView<'_, InterfaceRow>) -> Known<f64> {
    interface
        .rate(|i| i.in_bytes)
        .zip(interface.rate(|i| i.out_bytes))
        .map(|(received, sent)| received + sent)
}

/// The busiest interface; the loopback only where there is no other. Of idle ones, that with most traffic ever.
fn busiest_interface(sample: &Sample) -> Option<PartView<'_, InterfaceRow>> {
    let weight = |view: &PartView<'_, InterfaceRow>| {
        let ever =
            view.now.in_bytes.value().unwrap_or(0).saturating_add(view.now.out_bytes.value().unwrap_or(0));
        (!is_loopback(view.now), traffic(view).value().unwrap_or(-1.0), ever)
    };
    sample.parts(|reading| &reading.interfaces[..]).max_by(|a, b| {
        let (a, b) = (weight(a), weight(b));
        a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)).then(a.2.cmp(&b.2))
    })
}

fn network_point(sample: &Sample) -> Point {
    let Some(interface) = busiest_interface(sample) else {
        return Point { value: Known::Absent, full: Known::Absent, severity: Severity::Fine };
    };
    // A full-duplex link is full when one direction is.
    let value = interface
        .rate(|i| i.in_bytes)
        .zip(interface.rate(|i| i.out_bytes))
        .map(|(received, sent)| received.max(sent));
    let full = interface.now.speed_bits.float().map(|bits| bits / 8.0);
    let mut point = Point { value, full, severity: Severity::Fine };
    point.severity = Severity::reached(share_of_link(&point), NETWORK);
    if errors(sample).and_then(|(_, errors)| errors.value()).is_some_and(|errors| errors > 0.0) {
        point.severity = point.severity.max(Severity::Notice);
    }
    point
}

/// Errors per second of the interface that has most of them, with its name.
fn errors(sample: &Sample) -> Option<(&str, Known<f64>)> {
    sample
        .parts(|reading| &reading.interfaces[..])
        .map(|i| (&*i.now.name, i.rate(|r| r.in_errors).zip(i.rate(|r| r.out_errors)).map(|(a, b)| a + b)))
        .max_by(|a, b| a.1.value().unwrap_or(-1.0).total_cmp(&b.1.value().unwrap_or(-1.0)))
}

fn network_facts(sample: &Sample) -> [String; 2] {
    let Some(interface) = busiest_interface(sample) else {
        return ["no interface here".to_owned(), String::new()];
    };
    let errors = match errors(sample) {
        Some((name, Known::Value(errors))) if errors > 0.0 => format!("{name} has {errors:.1} errors/s"),
        Some((_, Known::Value(_))) => "no errors".to_owned(),
        _ => "errors unknown".to_owned(),
    };
    // Traffic of the machine with itself fills no link, but somebody may wonder where it is.
    let own = sample
        .parts(|reading| &reading.interfaces[..])
        .find(|i| is_loopback(i.now))
        .map(|i| i.rate(|r| r.in_bytes));
    let own = match own.map(|rate| rate.zip(traffic(&interface))) {
        Some(Known::Value((own, other))) if own > 1e6 && own > other && !is_loopback(interface.now) => {
            format!(", {}/s to itself", long_bytes(own))
        }
        _ => String::new(),
    };
    let errors = errors + &own;
    [
        format!(
            "{} in {}  out {}/s",
            interface.now.name,
            shown(interface.rate(|i| i.in_bytes), short_bytes),
            shown(interface.rate(|i| i.out_bytes), long_bytes)
        ),
        errors,
    ]
}

/// The sensor that is nearest to its limit; where none states one, the hottest.
fn nearest_to_limit(sample: &Sample) -> Option<(&crate::reading::SensorRow, f64, Known<f64>)> {
    sample
        .now
        .sensors
        .iter()
        .filter_map(|sensor| {
            let temperature = sensor.temperature.value()? as f64 / 1000.0;
            Some((sensor, temperature, sensor.limit.float().map(|limit| limit / 1000.0)))
        })
        .max_by(|a, b| {
            let weight = |(_, temperature, limit): &(_, f64, Known<f64>)| match limit {
                Known::Value(limit) => (true, temperature - limit),
                _ => (false, *temperature),
            };
            weight(a).0.cmp(&weight(b).0).then(weight(a).1.total_cmp(&weight(b).1))
        })
}

fn heat_point(sample: &Sample) -> Point {
    let Some((_, temperature, limit)) = nearest_to_limit(sample) else {
        return Point { value: Known::Absent, full: Known::Absent, severity: Severity::Fine };
    };
    let severity = limit.value().map_or(Severity::Fine, |limit| Severity::reached(temperature - limit, HEAT));
    let full = if limit.value().is_some() { limit } else { Known::Value(100.0) };
    Point { value: Known::Value(temperature), full, severity }
}

fn heat_facts(sample: &Sample) -> [String; 2] {
    let Some((sensor, temperature, limit)) = nearest_to_limit(sample) else {
        return ["no sensor here".to_owned(), String::new()];
    };
    let second = match limit {
        Known::Value(limit) => format!("limit {limit:.0} °C, {:.0} to go", (limit - temperature).max(0.0)),
        _ => "no limit given".to_owned(),
    };
    [sensor.name.to_string(), second]
}

/// Who uses most of a lane's lens metric, with its share of all in percent: the name to start with.
pub fn main_user(sample: &Sample, metric: &Metric) -> Option<(usize, f64)> {
    let mut total = 0.0;
    let mut most: Option<(usize, f64)> = None;
    for at in 0..sample.now.processes.len() {
        if let Value::Number(value) = metric.of(&sample.process(at)) {
            total += value;
            if value > most.map_or(0.0, |(_, most)| most) {
                most = Some((at, value));
            }
        }
    }
    most.map(|(at, value)| (at, value / total * 100.0))
}

/// Whether the busiest disk is busy with reading rather than with writing.
fn reads_more(sample: &Sample) -> bool {
    busiest_disk(sample).is_some_and(|(disk, _)| {
        let time = |ms: Known<f64>| ms.value().unwrap_or(0.0);
        time(disk.rate(|d| d.read_ms)) > time(disk.rate(|d| d.write_ms))
    })
}

/// Traffic against the link's speed in percent; zero where there is no speed.
fn share_of_link(point: &Point) -> f64 {
    match point.value.zip(point.full) {
        Known::Value((value, full)) if full > 0.0 => value / full * 100.0,
        _ => 0.0,
    }
}

/// One sentence for a lane that is not fine: what is short, and who uses most of it. `None` where it is fine.
pub fn sentence(lane: Lane, sample: &Sample) -> Option<String> {
    let point = lane.point(sample);
    if point.severity == Severity::Fine {
        return None;
    }
    let [first, second] = lane.facts(sample);
    let what = match lane {
        Lane::Cpu => format!("cpu {} busy, {second}", lane.label(&point)),
        Lane::Memory => format!("memory {} in use, {second}", lane.label(&point)),
        Lane::Disk => first,
        // Errors are another interface's as often as not; traffic that fills nothing is no part of the sentence.
        Lane::Network if share_of_link(&point) < NETWORK[0] => second,
        Lane::Network => format!("{first}, {second}"),
        Lane::Heat => format!("{first} {}, {second}", lane.label(&point)),
    };
    // Calls and their bytes are no proof for network traffic, and a hot package has no single owner.
    let (lens, words) = match lane {
        Lane::Cpu => (lane.lens(), ["uses", "of the CPU time of all processes"]),
        Lane::Memory => (lane.lens(), ["holds", "of what all processes hold"]),
        Lane::Disk if reads_more(sample) => (listed("read"), ["reads", "of what all processes read"]),
        Lane::Disk => (lane.lens(), ["writes", "of what all processes write"]),
        Lane::Network | Lane::Heat => return Some(format!("{what}.")),
    };
    let who = main_user(sample, lens).filter(|(_, part)| *part >= 20.0).map(|(at, part)| {
        let (row, [verb, of_what]) = (&sample.now.processes[at], words);
        format!(" {}[{}] {verb} {part:.0} % {of_what}.", row.name, row.pid.value().unwrap_or(0))
    });
    Some(format!("{what}.{}", who.unwrap_or_default()))
}
