//! What the strips draw and the two short facts beside each of them.

use super::point::Point;
use super::severity::{
    DISKS, MEMORY, NEAR_HEAT, NETWORK, SLOW_SERVER, Severity, disk_severity, errors_severity, fan_severity,
    protocols, remote_severity, temperature_severity,
};
use crate::catalogue::{cpu_share, disk_busy, disk_wait, memory_used};
use crate::known::Known;
use crate::reading::{DiskRow, FilesystemRow, InterfaceRow, SensorRow};
use crate::sample::{PartView, Sample};
use crate::sorting::ColdSort as _;
use crate::units::{long_bytes, short_bytes, short_wait};

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

pub(super) fn cpu_facts(sample: &Sample) -> [String; 2] {
    let whole = |value| shown(value, |v| format!("{v:.0}"));
    let shares = [
        ("user", cpu_share(sample, |c| c.user)),
        ("system", cpu_share(sample, |c| c.system)),
        ("iowait", cpu_share(sample, |c| c.iowait)),
        ("nice", cpu_share(sample, |c| c.nice)),
        ("irq", cpu_share(sample, |c| c.irq)),
        ("softirq", cpu_share(sample, |c| c.softirq)),
        ("steal", cpu_share(sample, |c| c.steal)),
    ];
    // The largest three; what is next to nothing does not take the place of the usual ones, which stand first.
    let weight = |at: &usize| shares[*at].1.value().filter(|share| *at < 3 || *share >= 1.0).unwrap_or(-1.0);
    let mut largest: Vec<usize> = (0..shares.len()).collect();
    largest.cold_sort_by(|a, b| weight(b).total_cmp(&weight(a)));
    let (largest, others) = largest.split_at_mut(3);
    largest.sort_unstable();
    // That the host is oversold is always worth a word.
    let steal = others.iter().filter(|at| shares[**at].0 == "steal" && weight(at) >= 1.0);
    let words = largest.iter().chain(steal).map(|at| format!("{} {}", shares[*at].0, whole(shares[*at].1)));
    let classes = words.collect::<Vec<_>>().join("  ");
    let system = &sample.now.system;
    let cores = sample.host.cores;
    let waiting = match run_queue(sample) {
        Some(text) if text.ends_with("running") => format!("{text}, {cores} cores"),
        Some(text) => text,
        None => "run queue unknown".to_owned(),
    };
    let blocked = system.blocked.value().filter(|blocked| *blocked > 0);
    [classes, blocked.map_or(waiting.clone(), |blocked| format!("{waiting}, {blocked} wait for a disk"))]
}

/// How many threads run or wait for a core, against the cores: `3 running`, `9 want 8 cores`. None where it is not known.
pub fn run_queue(sample: &Sample) -> Option<String> {
    let (running, cores) = (sample.now.system.running.value()?, sample.host.cores);
    Some(if cores > 0 && running > i64::from(cores) {
        format!("{running} want {cores} cores")
    } else {
        format!("{running} running")
    })
}

pub(super) fn memory_facts(sample: &Sample) -> [String; 2] {
    let system = &sample.now.system;
    let available = shown(system.mem_available.float(), long_bytes);
    let first = format!("{available} available of {}", shown(system.mem_total.float(), long_bytes));
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

pub(super) fn memory_point(sample: &Sample) -> Point {
    const MIB: f64 = 1_048_576.0;
    let value = memory_share(sample);
    let moved = sample.rate(|r| r.system.swap_in).zip(sample.rate(|r| r.system.swap_out));
    let swapping = moved.value().map_or(0.0, |(back, out)| back + out);
    let severity = value.value().map_or(Severity::Fine, |value| Severity::reached(value, MEMORY));
    // Any steady swapping means that memory ran out, however much of it is in use now.
    let severity = severity.max(Severity::reached(swapping, [4.0 * MIB, 16.0 * MIB, 128.0 * MIB]));
    Point { value, full: Known::Value(100.0), severity }
}

/// A file system that does not answer: whoever touches its files waits.
pub(super) fn hung_filesystem(sample: &Sample) -> Option<&FilesystemRow> {
    sample.now.filesystems.iter().find(|row| row.answers.value() == Some(0))
}

/// How bad it is with the worst of the disks.
/// How bad it is with the slowest network file system.
pub(super) fn remotes_severity(sample: &Sample) -> Severity {
    let remotes = sample.parts(|reading| &reading.remotes[..]);
    remotes.map(|remote| remote_severity(&remote, SLOW_SERVER)).max().unwrap_or_default()
}

pub(super) fn disks_severity(sample: &Sample) -> Severity {
    let wholes = sample.parts(|reading| &reading.disks[..]).filter(|disk| disk.now.whole.is_empty());
    wholes.map(|disk| disk_severity(&disk, &DISKS)).max().unwrap_or_default()
}

/// The disk that was busy for the largest share of the time, and that share.
pub(super) fn busiest_disk(sample: &Sample) -> Option<(PartView<'_, DiskRow>, Known<f64>)> {
    sample
        .parts(|reading| &reading.disks[..])
        .filter(|disk| disk.now.whole.is_empty())
        .map(|disk| (disk, disk_busy(&disk)))
        .max_by(|a, b| a.1.value().unwrap_or(-1.0).total_cmp(&b.1.value().unwrap_or(-1.0)))
}

pub(super) fn disk_facts(sample: &Sample) -> [String; 2] {
    let Some((disk, busy)) = busiest_disk(sample) else {
        let hung = hung_filesystem(sample).map(|row| format!("{} does not answer", row.mount));
        return ["no disk here".to_owned(), hung.unwrap_or_default()];
    };
    let wait = match disk_wait(&disk) {
        Known::Value(seconds) if seconds >= 0.0005 => format!(", waits {}", short_wait(seconds)),
        _ => String::new(),
    };
    if let Some(hung) = hung_filesystem(sample) {
        let busy = shown(busy, |v| format!("{v:.0}"));
        return [format!("{} does not answer", hung.mount), format!("{} {busy} % busy{wait}", disk.now.name)];
    }
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

pub(super) fn network_point(sample: &Sample) -> Point {
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
    // As bad as the worst of its parts: interfaces with errors, and the protocols.
    let protocols = protocols(sample).first().map_or(Severity::Fine, |(severity, _)| *severity);
    point.severity = point.severity.max(interfaces_severity(sample)).max(protocols);
    point
}

/// How bad it is with errors and drops of the worst interface.
fn interfaces_severity(sample: &Sample) -> Severity {
    let interfaces = sample.parts(|reading| &reading.interfaces[..]);
    interfaces.map(|interface| errors_severity(&interface)).max().unwrap_or_default()
}

/// Errors per second of the interface that has most of them, with its name.
pub(super) fn errors(sample: &Sample) -> Option<(&str, Known<f64>)> {
    sample
        .parts(|reading| &reading.interfaces[..])
        .map(|i| (&*i.now.name, i.rate(|r| r.in_errors).zip(i.rate(|r| r.out_errors)).map(|(a, b)| a + b)))
        .max_by(|a, b| a.1.value().unwrap_or(-1.0).total_cmp(&b.1.value().unwrap_or(-1.0)))
}

/// Whether processes are in network namespaces other than the one whose interfaces and protocols are counted.
fn has_other_namespaces(sample: &Sample) -> bool {
    sample.now.processes.iter().any(|row| row.net_namespace.value() > Some(0))
}

pub(super) fn network_facts(sample: &Sample) -> [String; 2] {
    let Some(interface) = busiest_interface(sample) else {
        return ["no interface here".to_owned(), String::new()];
    };
    // There is room for the worst of them; the parts tell the rest.
    let protocol = protocols(sample).into_iter().next();
    let worse = protocol.filter(|(severity, _)| *severity > interfaces_severity(sample));
    let errors = match (errors(sample), worse) {
        (_, Some((_, words))) => words,
        (Some((name, Known::Value(errors))), None) if errors > 0.0 => {
            format!("{name} has {errors:.1} errors/s")
        }
        (Some((_, Known::Value(_))), None) if has_other_namespaces(sample) => {
            "no errors in this network namespace".to_owned()
        }
        (Some((_, Known::Value(_))), None) => "no errors".to_owned(),
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
fn nearest_to_limit(sample: &Sample) -> Option<(&SensorRow, f64, Known<f64>)> {
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

pub(super) fn heat_point(sample: &Sample) -> Point {
    let Some((sensor, temperature, limit)) = nearest_to_limit(sample) else {
        return Point { value: Known::Absent, full: Known::Absent, severity: Severity::Fine };
    };
    let full = if limit.value().is_some() { limit } else { Known::Value(100.0) };
    let fans = sample.now.sensors.iter().map(fan_severity).max().unwrap_or_default();
    let severity = temperature_severity(sensor, NEAR_HEAT).max(fans);
    Point { value: Known::Value(temperature), full, severity }
}

/// Fans that are slower than their board allows, in words.
pub(super) fn bad_fan(sample: &Sample) -> Option<String> {
    let bad = sample.now.sensors.iter().filter(|sensor| fan_severity(sensor) > Severity::Fine);
    let worst = bad.max_by_key(|sensor| fan_severity(sensor))?;
    Some(match worst.fan.value() {
        Some(0) => format!("{} stands still", worst.name),
        speed => format!("{} turns at {} rpm only", worst.name, speed.unwrap_or(0)),
    })
}

pub(super) fn heat_facts(sample: &Sample) -> [String; 2] {
    let Some((sensor, temperature, limit)) = nearest_to_limit(sample) else {
        return ["no sensor here".to_owned(), String::new()];
    };
    let limit = match limit {
        Known::Value(limit) => format!("limit {limit:.0} °C, {:.0} to go", (limit - temperature).max(0.0)),
        _ => "no limit given".to_owned(),
    };
    match bad_fan(sample) {
        Some(fan) => [format!("{}, {limit}", sensor.name), fan],
        None => [sensor.name.to_string(), limit],
    }
}

/// Traffic against the link's speed in percent; zero where there is no speed.
pub(super) fn share_of_link(point: &Point) -> f64 {
    match point.value.zip(point.full) {
        Known::Value((value, full)) if full > 0.0 => value / full * 100.0,
        _ => 0.0,
    }
}
