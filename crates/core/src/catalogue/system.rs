//! Metrics of the machine and its parts.

use super::{Combine, Eval, Instances, Kind, Metric, Unit, Value};
use crate::known::{Known, Raw};
use crate::limits;
use crate::reading::{
    BatteryRow, CoreRow, DiskRow, EndedRow, FilesystemRow, GpuRow, GroupRow, InterfaceRow, ProcessRow,
    Reading, RemoteRow, SensorRow, with_pid,
};
use crate::row::Row;
use crate::sample::{PartView, Sample};
use crate::text::Text;
use crate::wanted::Demand;
use std::collections::HashMap;

const fn entry(
    alias: &'static str,
    name: &'static str,
    unit: Unit,
    kind: Kind,
    help: &'static str,
    source: &'static str,
    eval: fn(&Sample) -> Instances,
) -> Metric {
    Metric {
        alias,
        name,
        heading: alias,
        unit,
        kind,
        help,
        source,
        eval: Eval::System(eval),
        reads: &[],
        needs: None,
        combine: Combine::Same,
        words: &[],
        least: None,
        most: None,
        several: None,
        by_number: None,
    }
}

/// Share of all CPU time of the machine that one class took, in percent.
pub fn cpu_share(sample: &Sample, class: impl Fn(&CoreRow) -> Raw) -> Known<f64> {
    let row = |reading: &Reading| machine_as_core(reading);
    let now = row(&sample.now);
    let before = sample.before.as_deref().map(row);
    core_share(
        &PartView { now: &now, before: before.as_ref(), seconds: sample.seconds(), born: false },
        class,
    )
}

/// The machine's CPU counters in the shape of one core's.
fn machine_as_core(reading: &Reading) -> CoreRow {
    let s = &reading.system;
    CoreRow {
        user: s.user,
        nice: s.nice,
        system: s.system,
        idle: s.idle,
        iowait: s.iowait,
        irq: s.irq,
        softirq: s.softirq,
        steal: s.steal,
        guest: s.guest,
        guest_nice: s.guest_nice,
        ..CoreRow::default()
    }
}

/// The classes that make up all time of a core; guest time is contained in user and nice.
const CLASSES: [fn(&CoreRow) -> Raw; 8] =
    [|c| c.user, |c| c.nice, |c| c.system, |c| c.idle, |c| c.iowait, |c| c.irq, |c| c.softirq, |c| c.steal];

/// Share of a core's time that one class took, in percent. The whole is the sum of the classes, so that a tick
/// that was counted late never gives more than 100.
pub fn core_share(core: &PartView<'_, CoreRow>, class: impl Fn(&CoreRow) -> Raw) -> Known<f64> {
    let whole: f64 = CLASSES.iter().filter_map(|class| core.rate(class).value()).sum();
    core.rate(class).map(|part| if whole > 0.0 { (part / whole * 100.0).min(100.0) } else { 0.0 })
}

/// Busy share of a core: all but idle and waiting for a disk, in percent.
pub fn core_busy(core: &PartView<'_, CoreRow>) -> Known<f64> {
    core_share(core, |c| c.idle)
        .zip(core_share(core, |c| c.iowait))
        .map(|(idle, wait)| (100.0 - idle - wait).max(0.0))
}

/// Busy share of all cores together, in percent.
pub fn cpu_busy(sample: &Sample) -> Known<f64> {
    cpu_share(sample, |c| c.idle)
        .zip(cpu_share(sample, |c| c.iowait))
        .map(|(idle, wait)| (100.0 - idle - wait).max(0.0))
}

/// Share of the time in which a disk had at least one request in flight, in percent.
pub fn disk_busy(disk: &PartView<'_, DiskRow>) -> Known<f64> {
    disk.rate(|d| d.busy_ms).map(|ms| (ms / 10.0).min(100.0))
}

/// Mean time of a request from its start to its end, in seconds; absent when no request ended.
pub fn disk_wait(disk: &PartView<'_, DiskRow>) -> Known<f64> {
    let time = disk.rate(|d| d.read_ms).zip(disk.rate(|d| d.write_ms)).map(|(r, w)| (r + w) / 1000.0);
    let requests = disk.rate(|d| d.reads).zip(disk.rate(|d| d.writes)).map(|(r, w)| r + w);
    match time.zip(requests) {
        Known::Value((_, requests)) if requests <= 0.0 => Known::Absent,
        other => other.map(|(time, requests)| time / requests),
    }
}

/// Memory in use: all that new programs could not get.
pub fn memory_used(sample: &Sample) -> Known<f64> {
    let s = &sample.now.system;
    s.mem_total.float().zip(s.mem_available.float()).map(|(total, available)| (total - available).max(0.0))
}

pub(super) fn one(value: Known<f64>) -> Instances {
    Instances::One(value.into())
}

fn level(value: Raw) -> Instances {
    one(value.float())
}

fn each<R: Row>(
    sample: &Sample,
    rows: fn(&Reading) -> &[R],
    name: fn(&R) -> Text,
    value: impl Fn(&PartView<'_, R>) -> Known<f64>,
) -> Instances {
    Instances::Many(sample.parts(rows).map(|part| (name(part.now), Value::from(value(&part)))).collect())
}

fn cores(sample: &Sample, value: impl Fn(&PartView<'_, CoreRow>) -> Known<f64>) -> Instances {
    each(sample, |r| &r.cores, |c| Text::from(c.number.value().unwrap_or(-1).to_string()), value)
}

fn disks(sample: &Sample, value: impl Fn(&PartView<'_, DiskRow>) -> Known<f64>) -> Instances {
    each(sample, |r| &r.disks, |d| d.name.clone(), value)
}

fn interfaces(sample: &Sample, value: impl Fn(&PartView<'_, InterfaceRow>) -> Known<f64>) -> Instances {
    each(sample, |r| &r.interfaces, |i| i.name.clone(), value)
}

/// Sensors that state something beside what they measure.
fn sensors_with(sample: &Sample, value: impl Fn(&PartView<'_, SensorRow>) -> Known<f64>) -> Instances {
    match each(sample, |r| &r.sensors, |s| s.name.clone(), value) {
        Instances::Many(values) => {
            Instances::Many(values.into_iter().filter(|(_, value)| *value != Value::Absent).collect())
        }
        one @ Instances::One(_) => one,
    }
}

/// Sensors that measure something of the kind; a sensor that does not answer stays, since it has no other field.
fn sensors(sample: &Sample, value: impl Fn(&PartView<'_, SensorRow>) -> Known<f64>) -> Instances {
    let measures_else = |s: &SensorRow| {
        [s.temperature, s.fan, s.power, s.energy, s.voltage].iter().any(|raw| raw.value().is_some())
    };
    match each(sample, |r| &r.sensors, |s| s.name.clone(), &value) {
        Instances::Many(values) => Instances::Many(
            values
                .into_iter()
                .zip(&sample.now.sensors)
                .filter(|((_, value), sensor)| *value != Value::Absent || !measures_else(sensor))
                .map(|(pair, _)| pair)
                .collect(),
        ),
        one @ Instances::One(_) => one,
    }
}

fn filesystems(sample: &Sample, value: impl Fn(&FilesystemRow) -> Known<f64>) -> Instances {
    each(sample, |r| &r.filesystems, |f| f.mount.clone(), |f| value(f.now))
}

fn groups(sample: &Sample, value: impl Fn(&PartView<'_, GroupRow>) -> Known<f64>) -> Instances {
    let limited = |value: &Value| *value != Value::Absent;
    match each(sample, |r| &r.groups, |g| g.path.clone(), value) {
        Instances::Many(values) => {
            Instances::Many(values.into_iter().filter(|(_, value)| limited(value)).collect())
        }
        one @ Instances::One(_) => one,
    }
}

fn remotes(sample: &Sample, value: impl Fn(&PartView<'_, RemoteRow>) -> Known<f64>) -> Instances {
    each(sample, |r| &r.remotes, |r| r.mount.clone(), value)
}

/// Mean time of an operation in seconds, from a sum of milliseconds; absent where none ended.
pub fn remote_time(remote: &PartView<'_, RemoteRow>, sum: impl Fn(&RemoteRow) -> Raw) -> Known<f64> {
    match remote.rate(sum).zip(remote.rate(|r| r.operations)) {
        Known::Value((_, operations)) if operations <= 0.0 => Known::Absent,
        other => other.map(|(ms, operations)| ms / 1000.0 / operations),
    }
}

/// Requests sent again per second.
pub fn sent_again(remote: &PartView<'_, RemoteRow>) -> Known<f64> {
    remote
        .rate(|r| r.transmissions)
        .zip(remote.rate(|r| r.operations))
        .map(|(sent, operations)| (sent - operations).max(0.0))
}

fn batteries(sample: &Sample, value: impl Fn(&BatteryRow) -> Known<f64>) -> Instances {
    each(sample, |r| &r.batteries, |b| b.name.clone(), |b| value(b.now))
}

fn gpus(sample: &Sample, value: impl Fn(&GpuRow) -> Known<f64>) -> Instances {
    each(sample, |r| &r.gpus, |g| g.name.clone(), |g| value(g.now))
}

/// Name of a pair of source and core.
fn at_core(source: &Text, core: Raw) -> Text {
    format!("{source},{}", core.value().unwrap_or(-1)).into()
}

/// Share of the time that a stall counter in microseconds grew by, in percent.
fn stalled(sample: &Sample, counter: impl Fn(&Reading) -> Raw) -> Instances {
    one(sample.rate(counter).map(|us| (us / 1e4).min(100.0)))
}

fn request_size(disk: &PartView<'_, DiskRow>) -> Known<f64> {
    let bytes = both(disk.rate(|d| d.read_bytes), disk.rate(|d| d.write_bytes));
    match bytes.zip(both(disk.rate(|d| d.reads), disk.rate(|d| d.writes))) {
        Known::Value((_, requests)) if requests <= 0.0 => Known::Absent,
        other => other.map(|(bytes, requests)| bytes / requests),
    }
}

/// A part against the sum of it and the rest, in percent; absent where there is nothing at all.
fn part_of(part: Raw, rest: Raw) -> Known<f64> {
    match part.float().zip(rest.float()) {
        Known::Value((part, rest)) if part + rest <= 0.0 => Known::Absent,
        other => other.map(|(part, rest)| part / (part + rest) * 100.0),
    }
}

fn inodes_usage(filesystem: &FilesystemRow) -> Known<f64> {
    let used =
        filesystem.inodes.get().zip(filesystem.inodes_free.get()).map(|(all, free)| all.saturating_sub(free));
    part_of(used.into(), filesystem.inodes_free)
}

/// The busier direction of an interface against its link speed, in percent.
pub fn link_usage(interface: &PartView<'_, InterfaceRow>) -> Known<f64> {
    let busier = interface.rate(|i| i.in_bytes).zip(interface.rate(|i| i.out_bytes)).map(|(a, b)| a.max(b));
    match busier.zip(interface.now.speed_bits.float()) {
        Known::Value((_, speed)) if speed <= 0.0 => Known::Absent,
        other => other.map(|(bytes, bits)| bytes * 8.0 / bits * 100.0),
    }
}

fn sensor_power(sensor: &PartView<'_, SensorRow>) -> Known<f64> {
    match sensor.now.power.float() {
        Known::Absent => sensor.rate(|s| s.energy).map(|microwatts| microwatts / 1e6),
        power => power.map(|microwatts| microwatts / 1e6),
    }
}

/// Processes that ended per second; absent where exit records are not collected.
fn ended(sample: &Sample, counts: impl Fn(&EndedRow) -> bool) -> Known<f64> {
    let seconds = Known::from(sample.seconds());
    let known = sample.now.system.notifications_lost.get();
    let count =
        sample.now.ended.iter().filter(|row| counts(row)).map(EndedRow::processes).sum::<i64>() as f64;
    known.zip(seconds).map(|(_, seconds)| count / seconds)
}

/// CPU time of the machine less that of the processes, in percent of one core.
///
/// Where ends are reported, those that ended are among the processes with what they used in this sample. Elsewhere it is
/// what their parents took over when they waited for them, less what had been explained up to the earlier reading.
pub fn unaccounted(sample: &Sample) -> Known<f64> {
    if sample.before.is_none() {
        return Known::Absent;
    }
    let active = sample.active();
    let per_second = f64::from(sample.host.ticks_per_second.max(1));
    let own_ticks = |row: &ProcessRow| own_ticks(row, per_second);
    let used: f64 = survivors_used(sample, active, own_ticks)
        + match sample.now.system.notifications_lost.value() {
            Some(_) => reported_used(sample, own_ticks),
            None => taken_over(sample, active, own_ticks),
        };
    let seconds = sample.seconds().unwrap_or(0.0);
    let cores = f64::from(sample.host.cores.max(1));
    cpu_busy(sample).map(|busy| {
        // Stolen time was nobody's here.
        let stolen = cpu_share(sample, |c| c.steal).value().unwrap_or(0.0);
        let explained = (used / per_second / seconds.max(1e-9) * 100.0).max(0.0);
        ((busy - stolen).max(0.0) * cores - explained).max(0.0)
    })
}

/// Ticks of CPU time that a process used, with parts of them where nanoseconds are known: of thousands that use less than a
/// tick each nothing would be seen until they have one, all at once. Nanoseconds may be those of one thread; then the ticks of the
/// whole process are more.
fn own_ticks(row: &ProcessRow, per_second: f64) -> f64 {
    let ticks =
        [row.user_ticks, row.system_ticks].into_iter().filter_map(|ticks| ticks.float().value()).sum();
    match row.run_ns.float().value().map(|ns| ns / 1e9 * per_second) {
        Some(exact) if ticks <= exact + 2.0 => exact,
        _ => ticks,
    }
}

fn children_ticks(row: &ProcessRow) -> f64 {
    [row.children_user_ticks, row.children_system_ticks]
        .into_iter()
        .filter_map(|ticks| ticks.float().value())
        .sum()
}

/// Ticks of those that are in the later reading; who did nothing used nothing.
fn survivors_used(sample: &Sample, active: &[usize], own_ticks: impl Fn(&ProcessRow) -> f64) -> f64 {
    let used = |at: &usize| {
        let view = sample.process(*at);
        match view.before {
            Some(earlier) => (own_ticks(view.now) - own_ticks(earlier)).max(0.0),
            None if view.born => own_ticks(view.now),
            None => 0.0,
        }
    };
    active.iter().map(used).sum()
}

/// Ticks that those that ended used in this sample, as their ends were reported.
fn reported_used(sample: &Sample, own_ticks: impl Fn(&ProcessRow) -> f64) -> f64 {
    let per_second = f64::from(sample.host.ticks_per_second.max(1));
    let earlier = sample.before.as_deref();
    let used = |ended: &EndedRow| {
        let pid = ended.pid.value();
        // One that nobody waited for yet is still a row, with its last counts.
        if pid.is_some_and(|pid| with_pid(&sample.now.processes, pid).is_some()) {
            return None;
        }
        let all = (ended.user.value()? as f64 + ended.system.value()? as f64) / 1e6 * per_second;
        let before = earlier.zip(pid).and_then(|(before, pid)| with_pid(&before.processes, pid));
        let before = before.map_or(0.0, |row| own_ticks(row));
        // What had more before was another process with the same number.
        Some(if before > all + 2.0 { all } else { (all - before).max(0.0) })
    };
    sample.now.ended.iter().filter_map(used).sum()
}

/// Ticks that parents took over from children in this sample, less what these had used up to the earlier reading. A child
/// that nobody waited for (its parent ignores ends) is in nobody's, so no parent has less than nothing.
fn taken_over(sample: &Sample, active: &[usize], own_ticks: impl Fn(&ProcessRow) -> f64) -> f64 {
    let Some(before) = &sample.before else { return 0.0 };
    let (mut gone, mut orphans) = (HashMap::<i64, f64>::new(), 0.0);
    for row in sample.gone_places().map(|place| &before.processes[place]) {
        let ticks = own_ticks(row) + children_ticks(row);
        match row.ppid.value().filter(|parent| with_pid(&sample.now.processes, *parent).is_some()) {
            Some(parent) => *gone.entry(parent).or_default() += ticks,
            // Its parent ended as well; who waited for it then cannot be told.
            None => orphans += ticks,
        }
    }
    let grown = |at: &usize| {
        let view = sample.process(*at);
        let all = match view.before {
            Some(earlier) => children_ticks(view.now) - children_ticks(earlier),
            None if view.born => children_ticks(view.now),
            None => 0.0,
        };
        let shown = view.now.pid.value().and_then(|pid| gone.get(&pid)).copied().unwrap_or(0.0);
        (all - shown).max(0.0)
    };
    (active.iter().map(grown).sum::<f64>() - orphans).max(0.0)
}

fn both(a: Known<f64>, b: Known<f64>) -> Known<f64> {
    a.zip(b).map(|(a, b)| a + b)
}

fn minus(a: Raw, b: Raw) -> Instances {
    one(a.float().zip(b.float()).map(|(a, b)| (a - b).max(0.0)))
}

fn hundredths(value: Raw) -> Instances {
    one(value.float().map(|value| value / 100.0))
}

use Kind::{Level, Rate};
use Unit::{
    BitsPerSecond, Bytes, BytesPerSecond, Celsius, Dbm, Delay, Hertz, Number, PerSecond, Percent,
    PercentOfCore, Rpm, Seconds, Volts, Watts,
};

/// All metrics of the machine, in the order of the documents.
#[rustfmt::skip]
pub static SYSTEM_METRICS: &[Metric] = &[
    entry("cpu.total", "dozor.system.cpu.busy", Percent, Rate,
        "Share of all cores that was not idle. Waiting for a disk is not counted as busy; time that the host gave to other virtual machines is, since this one wanted to run (see cpu.steal).",
        "/proc/stat", |s| one(cpu_busy(s))),
    entry("cpu.user", "system.cpu.utilization{cpu.mode=user}", Percent, Rate,
        "Time in the programs' own code. It is what computing looks like.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.user))),
    entry("cpu.nice", "system.cpu.utilization{cpu.mode=nice}", Percent, Rate,
        "Time in programs that somebody made nicer. It gives way to everything else.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.nice))),
    entry("cpu.system", "system.cpu.utilization{cpu.mode=system}", Percent, Rate,
        "Time in the kernel for the programs. Above about a third, somebody makes very many system calls.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.system))),
    entry("cpu.idle", "system.cpu.utilization{cpu.mode=idle}", Percent, Rate,
        "Time with nothing to do. A machine can be slow and idle when it waits for a disk or for others.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.idle))),
    entry("cpu.iowait", "system.cpu.utilization{cpu.mode=iowait}", Percent, Rate,
        "Idle time while a task waited for a disk. It is idle time: a busy CPU hides it.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.iowait))),
    entry("cpu.irq", "system.cpu.utilization{cpu.mode=interrupt}", Percent, Rate,
        "Time serving hardware interrupts. Many kernels count it elsewhere and show zero here.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.irq))),
    entry("cpu.softirq", "system.cpu.utilization{cpu.mode=softirq}", Percent, Rate,
        "Time for deferred interrupt work, mostly network packets. On one core alone it can be the bottleneck.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.softirq))),
    entry("cpu.steal", "system.cpu.utilization{cpu.mode=steal}", Percent, Rate,
        "Time that the host gave to other virtual machines while this one wanted to run. High values mean an oversold host.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.steal))),
    entry("cpu.guest", "dozor.system.cpu.guest", Percent, Rate,
        "Time running virtual machines, at any niceness. It is already contained in user and nice.",
        "/proc/stat guest + guest_nice", |s| one(cpu_share(s, |c| c.guest).zip(cpu_share(s, |c| c.guest_nice)).map(|(guest, nice)| guest + nice))),
    entry("core.total", "dozor.system.core.busy{cpu.logical_number=*}", Percent, Rate,
        "Busy share of each core. One core at 100 with the others idle is a program with a single thread.",
        "/proc/stat", |s| cores(s, core_busy)),
    entry("core.user", "system.cpu.utilization{cpu.logical_number=*,cpu.mode=user}", Percent, Rate,
        "Time of each core in the programs' own code. See cpu.user.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.user))),
    entry("core.system", "system.cpu.utilization{cpu.logical_number=*,cpu.mode=system}", Percent, Rate,
        "Time of each core in the kernel. See cpu.system.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.system))),
    entry("core.nice", "system.cpu.utilization{cpu.logical_number=*,cpu.mode=nice}", Percent, Rate,
        "Time of each core in programs that somebody made nicer. See cpu.nice.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.nice))),
    entry("core.irq", "system.cpu.utilization{cpu.logical_number=*,cpu.mode=interrupt}", Percent, Rate,
        "Time of each core serving hardware interrupts. See cpu.irq.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.irq))),
    entry("core.steal", "system.cpu.utilization{cpu.logical_number=*,cpu.mode=steal}", Percent, Rate,
        "Time that the host took from each core for other virtual machines. See cpu.steal.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.steal))),
    entry("core.iowait", "system.cpu.utilization{cpu.logical_number=*,cpu.mode=iowait}", Percent, Rate,
        "Idle time of each core while a task waited for a disk. Which core it falls on means little.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.iowait))),
    entry("core.softirq", "system.cpu.utilization{cpu.logical_number=*,cpu.mode=softirq}", Percent, Rate,
        "Time of each core for deferred interrupt work. All of it on one core is a bottleneck.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.softirq))),
    entry("load.1", "dozor.system.linux.load.1m", Number, Level,
        "Mean number of tasks that ran, wanted to run or were blocked on a disk, over one minute. Read it against the number of cores; disk waits are in it.",
        "/proc/loadavg", |s| hundredths(s.now.system.load_1)),
    entry("load.5", "dozor.system.linux.load.5m", Number, Level,
        "The same over five minutes. Compared with load.1 it shows the direction.",
        "/proc/loadavg", |s| hundredths(s.now.system.load_5)),
    entry("load.15", "dozor.system.linux.load.15m", Number, Level,
        "The same over fifteen minutes. Compared with load.1 it shows the direction.",
        "/proc/loadavg", |s| hundredths(s.now.system.load_15)),
    entry("tasks.running", "dozor.system.thread.runnable", Number, Level,
        "Tasks that run or are ready to run, threads included. More than cores means waiting for a CPU.",
        "/proc/stat procs_running", |s| level(s.now.system.running)),
    entry("tasks.blocked", "dozor.system.thread.blocked", Number, Level,
        "Tasks that wait for a disk, threads included. They count into the load without using a CPU.",
        "/proc/stat procs_blocked", |s| level(s.now.system.blocked)),
    entry("tasks.total", "system.process.count", Number, Level,
        "Processes that this user can see. Where processes of others are hidden it is not all of them.",
        "/proc", |s| Instances::One(Value::Number(f64::from(s.tasks().total)))),
    entry("tasks.threads", "dozor.system.thread.count", Number, Level,
        "Threads of all processes together. A number that only grows is a leak.",
        "/proc/loadavg", |s| level(s.now.system.threads)),
    entry("forks", "system.process.created", PerSecond, Rate,
        "Processes and threads started per second. High values with an idle process list mean short-lived processes.",
        "/proc/stat processes", |s| one(s.rate(|r| r.system.forks))),
    entry("switches", "dozor.system.context_switches", PerSecond, Rate,
        "Context switches of all cores. Only a large change against the usual value means something.",
        "/proc/stat ctxt", |s| one(s.rate(|r| r.system.switches))),
    entry("interrupts", "dozor.system.interrupts", PerSecond, Rate,
        "Interrupts of all sources. Only a large change against the usual value means something.",
        "/proc/stat intr", |s| one(s.rate(|r| r.system.interrupts))),
    entry("users", "dozor.system.users", Number, Level,
        "Users logged in. A user with two sessions counts twice.",
        "/run/systemd/sessions, utmp(5)", |s| level(s.now.system.users)),
    entry("mem.total", "system.memory.limit", Bytes, Level,
        "Memory that the kernel can use. It is less than the hardware has.",
        "/proc/meminfo MemTotal", |s| level(s.now.system.mem_total)),
    entry("mem.used", "dozor.system.memory.unavailable", Bytes, Level,
        "Memory that new programs cannot get: total less available. Caches that can be given back are not in it.",
        "/proc/meminfo MemTotal − MemAvailable", |s| one(memory_used(s))),
    entry("mem.available", "system.memory.linux.available", Bytes, Level,
        "What new programs can get without swapping. This, not free, says whether memory is short.",
        "/proc/meminfo MemAvailable", |s| level(s.now.system.mem_available)),
    entry("mem.free", "system.memory.usage{system.memory.state=free}", Bytes, Level,
        "Memory that holds nothing at all. It is small on any healthy machine that has run for a while.",
        "/proc/meminfo MemFree", |s| level(s.now.system.mem_free)),
    entry("mem.buffers", "system.memory.usage{system.memory.state=buffers}", Bytes, Level,
        "Cached blocks of devices. They are given back when programs need memory.",
        "/proc/meminfo Buffers", |s| level(s.now.system.mem_buffers)),
    entry("mem.cache", "system.memory.usage{system.memory.state=cached}", Bytes, Level,
        "Cached file contents. They are given back when programs need memory, but for shared memory and tmpfs.",
        "/proc/meminfo Cached", |s| level(s.now.system.mem_cached)),
    entry("mem.shared", "system.memory.linux.shared", Bytes, Level,
        "Shared memory and files in tmpfs. It can only go to swap.",
        "/proc/meminfo Shmem", |s| level(s.now.system.mem_shared)),
    entry("mem.slab", "dozor.system.memory.linux.slab.usage", Bytes, Level,
        "Data structures of the kernel. Part of it can be given back.",
        "/proc/meminfo Slab", |s| level(s.now.system.mem_slab)),
    entry("mem.dirty", "dozor.system.memory.linux.dirty", Bytes, Level,
        "Written by programs, not yet on the disk. A large value that stays means a disk that cannot follow.",
        "/proc/meminfo Dirty", |s| level(s.now.system.mem_dirty)),
    entry("swap.total", "dozor.system.paging.limit", Bytes, Level,
        "Swap space. Zero is a choice, not a fault.",
        "/proc/meminfo SwapTotal", |s| level(s.now.system.swap_total)),
    entry("swap.used", "system.paging.usage{system.paging.state=used}", Bytes, Level,
        "Swap space in use. It harms only while pages move; see swap.in and swap.out.",
        "/proc/meminfo SwapTotal − SwapFree", |s| minus(s.now.system.swap_total, s.now.system.swap_free)),
    entry("swap.in", "dozor.system.paging.io{system.paging.direction=in}", BytesPerSecond, Rate,
        "Memory read back from swap. A steady rate means that memory ran out.",
        "/proc/vmstat pswpin", |s| one(s.rate(|r| r.system.swap_in))),
    entry("swap.out", "dozor.system.paging.io{system.paging.direction=out}", BytesPerSecond, Rate,
        "Memory written to swap. A steady rate means that memory ran out.",
        "/proc/vmstat pswpout", |s| one(s.rate(|r| r.system.swap_out))),
    entry("faults.major", "system.paging.faults{system.paging.fault.type=major}", PerSecond, Rate,
        "Page faults that waited for a disk. Programs that start cause some; a steady rate means short memory.",
        "/proc/vmstat pgmajfault", |s| one(s.rate(|r| r.system.faults_major))),
    entry("reclaimed", "dozor.system.memory.reclaimed", BytesPerSecond, Rate,
        "Memory taken away from caches and programs because others wanted it. It is usual where files are read; together with swap traffic or stalls memory is short. What a control group takes away from itself is not counted.",
        "/proc/vmstat pgsteal_*", |s| one(s.rate(|r| r.system.reclaimed))),
    entry("oom.kills", "dozor.system.linux.oom_kills", PerSecond, Rate,
        "Processes that the kernel killed because memory ran out. Any value above zero needs an explanation.",
        "/proc/vmstat oom_kill", |s| one(s.rate(|r| r.system.oom_kills))),
    entry("disk.read", "system.disk.io{system.device=*,disk.io.direction=read}", BytesPerSecond, Rate,
        "Bytes read from each device. What the cache answers does not reach the device.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.read_bytes))),
    entry("disk.write", "system.disk.io{system.device=*,disk.io.direction=write}", BytesPerSecond, Rate,
        "Bytes written to each device. They can come seconds after the programs wrote them.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.write_bytes))),
    entry("disk.reads", "system.disk.operations{system.device=*,disk.io.direction=read}", PerSecond, Rate,
        "Read requests of each device. Many small ones are harder for a spinning disk than few large ones.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.reads))),
    entry("disk.writes", "system.disk.operations{system.device=*,disk.io.direction=write}", PerSecond, Rate,
        "Write requests of each device. Many small ones are harder for a spinning disk than few large ones.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.writes))),
    entry("disk.wait", "dozor.system.disk.operation.duration{system.device=*}", Delay, Rate,
        "Mean time of a request from its start to its end, waiting in the queue included. Unknown when no request ended.",
        "/proc/diskstats", |s| disks(s, disk_wait)),
    entry("disk.queue", "dozor.system.disk.queue{system.device=*}", Number, Rate,
        "Mean number of requests in flight. An SSD works well with many; a spinning disk does not.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.queue_ms).map(|ms| ms / 1000.0))),
    entry("disk.discard", "dozor.system.disk.discard.io{system.device=*}", BytesPerSecond, Rate,
        "Bytes that each device was told to forget, as when a large file is removed. It keeps a device busy although nobody reads or writes.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.discard_bytes))),
    entry("disk.flushes", "dozor.system.disk.flushes{system.device=*}", PerSecond, Rate,
        "Flushes of each device: what it holds in its own memory is made safe, as a program asks for with fsync. Each one makes others wait.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.flushes))),
    entry("disk.busy", "dozor.system.disk.utilization{system.device=*}", Percent, Rate,
        "Share of the time with at least one request in flight. At 100 a spinning disk is full; an SSD may still take more.",
        "/proc/diskstats", |s| disks(s, disk_busy)),
    entry("net.in", "system.network.io{network.interface.name=*,network.io.direction=receive}", BytesPerSecond, Rate,
        "Bytes received by each interface of this network namespace, headers included. Traffic of a program to itself is on lo.",
        "/proc/net/dev", |s| interfaces(s, |i| i.rate(|r| r.in_bytes))),
    entry("net.out", "system.network.io{network.interface.name=*,network.io.direction=transmit}", BytesPerSecond, Rate,
        "Bytes sent by each interface of this network namespace, headers included. Traffic of a program to itself is on lo.",
        "/proc/net/dev", |s| interfaces(s, |i| i.rate(|r| r.out_bytes))),
    entry("net.packets_in", "system.network.packet.count{network.interface.name=*,network.io.direction=receive}", PerSecond, Rate,
        "Packets received by each interface. Very many small ones cost CPU without many bytes.",
        "/proc/net/dev", |s| interfaces(s, |i| i.rate(|r| r.in_packets))),
    entry("net.packets_out", "system.network.packet.count{network.interface.name=*,network.io.direction=transmit}", PerSecond, Rate,
        "Packets sent by each interface. Very many small ones cost CPU without many bytes.",
        "/proc/net/dev", |s| interfaces(s, |i| i.rate(|r| r.out_packets))),
    entry("net.errors", "system.network.errors{network.interface.name=*}", PerSecond, Rate,
        "Receive and send errors of each interface. They come from cables, plugs and drivers.",
        "/proc/net/dev", |s| interfaces(s, |i| both(i.rate(|r| r.in_errors), i.rate(|r| r.out_errors)))),
    entry("net.drops", "system.network.packet.dropped{network.interface.name=*}", PerSecond, Rate,
        "Packets that the machine dropped, in and out. Some drivers count unknown protocols here.",
        "/proc/net/dev", |s| interfaces(s, |i| both(i.rate(|r| r.in_drops), i.rate(|r| r.out_drops)))),
    entry("net.speed", "hw.network.bandwidth.limit{network.interface.name=*}", BitsPerSecond, Level,
        "Speed of the link. Virtual interfaces often have none, or one that means nothing.",
        "/sys/class/net/NAME/speed", |s| interfaces(s, |i| i.now.speed_bits.float())),
    entry("sensor.temperature", "hw.temperature{hw.id=*}", Celsius, Level,
        "Temperature of each sensor. Read it against the sensor's own limit.",
        "/sys/class/hwmon, /sys/class/thermal", |s| sensors(s, |x| x.now.temperature.float().map(|m| m / 1000.0))),
    entry("sensor.limit", "hw.temperature.limit{hw.id=*,hw.limit_type=high.critical}", Celsius, Level,
        "Temperature at which the hardware protects itself. Unknown where the sensor does not say.",
        "/sys/class/hwmon, /sys/class/thermal", |s| sensors(s, |x| x.now.limit.float().map(|m| m / 1000.0))),
    entry("cpu.frequency", "system.cpu.frequency{cpu.logical_number=*}", Hertz, Level,
        "Frequency of each core now. Idle cores run slowly on purpose.",
        "/sys/devices/system/cpu/cpuN/cpufreq/scaling_cur_freq", |s| cores(s, |c| c.now.frequency.float())),
    entry("cpu.frequency_max", "hw.cpu.speed.limit{cpu.logical_number=*}", Hertz, Level,
        "Highest frequency of each core. With all cores busy few processors reach it.",
        "/sys/devices/system/cpu/cpuN/cpufreq/cpuinfo_max_freq", |s| cores(s, |c| c.now.frequency_max.float())),
    entry("cpu.throttled", "dozor.system.cpu.throttled{cpu.logical_number=*}", PerSecond, Rate,
        "How often each core or its package slowed down because of heat. Any value above zero costs speed.",
        "/sys/devices/system/cpu/cpuN/thermal_throttle", |s| cores(s, |c| c.rate(|r| r.throttles))),
    entry("irq.rate", "dozor.system.interrupts.source{dozor.interrupt.source=*}", PerSecond, Rate,
        "Interrupts by source and core, written source,core. All of a busy source on one core can be a bottleneck.",
        "/proc/interrupts", |s| each(s, |r| &r.interrupts, |i| at_core(&i.source, i.core), |i| i.rate(|r| r.count))).needing(Demand::Interrupts),
    entry("softirq.rate", "dozor.system.softirqs.kind{dozor.softirq.kind=*}", PerSecond, Rate,
        "Deferred interrupt work by kind and core, written kind,core. NET_RX on one core alone limits the network.",
        "/proc/softirqs", |s| each(s, |r| &r.softirqs, |i| at_core(&i.kind, i.core), |i| i.rate(|r| r.count))).needing(Demand::Interrupts),
    entry("disk.request", "dozor.system.disk.request_size{system.device=*}", Bytes, Rate,
        "Mean size of a request. Small requests are hard work for a spinning disk. Unknown when no request ended.",
        "/proc/diskstats", |s| disks(s, request_size)),
    entry("nfs.read", "dozor.nfs.client.io{system.filesystem.mountpoint=*,disk.io.direction=read}", BytesPerSecond, Rate,
        "Bytes that came from the server of a network file system, caches aside.",
        "/proc/self/mountstats bytes", |s| remotes(s, |r| r.rate(|r| r.read_bytes))).needing(Demand::Filesystems),
    entry("nfs.write", "dozor.nfs.client.io{system.filesystem.mountpoint=*,disk.io.direction=write}", BytesPerSecond, Rate,
        "Bytes that went to the server of a network file system.",
        "/proc/self/mountstats bytes", |s| remotes(s, |r| r.rate(|r| r.write_bytes))).needing(Demand::Filesystems),
    entry("nfs.operations", "dozor.nfs.client.operation.count{system.filesystem.mountpoint=*}", PerSecond, Rate,
        "Operations of a network file system that ended. Many small ones cost more than few large ones.",
        "/proc/self/mountstats per-op statistics", |s| remotes(s, |r| r.rate(|r| r.operations))).needing(Demand::Filesystems),
    entry("nfs.wait", "dozor.nfs.client.operation.duration{system.filesystem.mountpoint=*}", Delay, Rate,
        "Mean time of an operation of a network file system, from its beginning to its end: waiting on this machine and for the server.",
        "/proc/self/mountstats per-op statistics", |s| remotes(s, |r| remote_time(r, |r| r.whole_ms))).needing(Demand::Filesystems),
    entry("nfs.answer", "dozor.nfs.client.rpc.duration{system.filesystem.mountpoint=*}", Delay, Rate,
        "Mean time until the server of a network file system answered. Where the whole operation takes much longer, this machine is the slow one.",
        "/proc/self/mountstats per-op statistics", |s| remotes(s, |r| remote_time(r, |r| r.answer_ms))).needing(Demand::Filesystems),
    entry("nfs.again", "dozor.nfs.client.rpc.retransmit.count{system.filesystem.mountpoint=*}", PerSecond, Rate,
        "Requests to the server of a network file system that were sent again, because no answer came or the connection broke.",
        "/proc/self/mountstats per-op statistics", |s| remotes(s, sent_again)).needing(Demand::Filesystems),
    entry("nfs.timeouts", "dozor.nfs.client.rpc.timeout.count{system.filesystem.mountpoint=*}", PerSecond, Rate,
        "Requests that the server of a network file system did not answer in time.",
        "/proc/self/mountstats per-op statistics", |s| remotes(s, |r| r.rate(|r| r.timeouts))).needing(Demand::Filesystems),
    entry("group.cpu", "dozor.system.cgroup.cpu.utilization{dozor.linux.cgroup=*}", PercentOfCore, Rate,
        "CPU time of a control group that may use only so much, in percent of one core.",
        "cpu.stat usage_usec", |s| groups(s, limits::cpu)).needing(Demand::ControlGroup),
    entry("group.cpu_limit", "dozor.system.cgroup.cpu.limit{dozor.linux.cgroup=*}", PercentOfCore, Level,
        "CPU time that a control group may use, in percent of one core.",
        "cpu.max", |s| groups(s, |g| limits::cpu_limit(g.now))).needing(Demand::ControlGroup),
    entry("group.throttled", "dozor.system.cgroup.cpu.throttled{dozor.linux.cgroup=*}", Percent, Rate,
        "Share of the periods in which a control group had used up its CPU time and was held back, though cores may have been idle.",
        "cpu.stat nr_throttled, nr_periods", |s| groups(s, limits::throttled)).needing(Demand::ControlGroup),
    entry("group.memory", "dozor.system.cgroup.memory.usage{dozor.linux.cgroup=*}", Bytes, Level,
        "Memory that a control group with a limit holds, caches included.",
        "memory.current", |s| groups(s, |g| g.now.memory_bytes.float())).needing(Demand::ControlGroup),
    entry("group.memory_limit", "dozor.system.cgroup.memory.limit{dozor.linux.cgroup=*}", Bytes, Level,
        "Most memory that a control group may hold.",
        "memory.max", |s| groups(s, |g| g.now.memory_limit.float())).needing(Demand::ControlGroup),
    entry("group.memory_high", "dozor.system.cgroup.memory.high{dozor.linux.cgroup=*}", Bytes, Level,
        "Memory from which on the kernel takes it away from a control group again and slows the group down.",
        "memory.high", |s| groups(s, |g| g.now.memory_high.float())).needing(Demand::ControlGroup),
    entry("group.memory_used", "dozor.system.cgroup.memory.utilization{dozor.linux.cgroup=*}", Percent, Level,
        "Memory of a control group against its limit. Caches are in it and are given back.",
        "memory.current, memory.max", |s| groups(s, |g| limits::usage(g.now.memory_bytes, g.now.memory_limit))).needing(Demand::ControlGroup),
    entry("group.at_limit", "dozor.system.cgroup.memory.limit.events{dozor.linux.cgroup=*}", PerSecond, Rate,
        "How often a control group met its limit of memory, and something of it had to be taken away.",
        "memory.events max", |s| groups(s, |g| g.rate(|g| g.at_limit))).needing(Demand::ControlGroup),
    entry("group.swap", "dozor.system.cgroup.memory.swap{dozor.linux.cgroup=*}", Bytes, Level,
        "What a control group with a limit of memory has in swap.",
        "memory.swap.current", |s| groups(s, |g| g.now.swap_bytes.float())).needing(Demand::ControlGroup),
    entry("group.oom_kills", "dozor.system.cgroup.memory.oom_kills{dozor.linux.cgroup=*}", PerSecond, Rate,
        "Processes of a control group that the kernel ended because the group's memory ran out.",
        "memory.events oom_kill", |s| groups(s, |g| g.rate(|g| g.oom_kills))).needing(Demand::ControlGroup),
    entry("group.tasks", "dozor.system.cgroup.tasks{dozor.linux.cgroup=*}", Number, Level,
        "Processes and threads of a control group that may have only so many.",
        "pids.current", |s| groups(s, |g| g.now.tasks.float())).needing(Demand::ControlGroup),
    entry("group.tasks_limit", "dozor.system.cgroup.tasks.limit{dozor.linux.cgroup=*}", Number, Level,
        "Most processes and threads that a control group may have.",
        "pids.max", |s| groups(s, |g| g.now.tasks_limit.float())).needing(Demand::ControlGroup),
    entry("group.tasks_used", "dozor.system.cgroup.tasks.utilization{dozor.linux.cgroup=*}", Percent, Level,
        "Processes and threads of a control group against its limit. At 100 nothing more can be started in it.",
        "pids.current, pids.max", |s| groups(s, |g| limits::usage(g.now.tasks, g.now.tasks_limit))).needing(Demand::ControlGroup),
    entry("group.read", "dozor.system.cgroup.disk.io{dozor.linux.cgroup=*,disk.io.direction=read}", BytesPerSecond, Rate,
        "Bytes that a control group with limits read from devices.",
        "io.stat rbytes", |s| groups(s, |g| g.rate(|g| g.read_bytes))).needing(Demand::ControlGroup),
    entry("group.write", "dozor.system.cgroup.disk.io{dozor.linux.cgroup=*,disk.io.direction=write}", BytesPerSecond, Rate,
        "Bytes that a control group with limits wrote to devices: what reached them, counted when it did.",
        "io.stat wbytes", |s| groups(s, |g| g.rate(|g| g.write_bytes))).needing(Demand::ControlGroup),
    entry("fs.size", "system.filesystem.limit{system.filesystem.mountpoint=*}", Bytes, Level,
        "Size of each file system. Part of it is kept for root and for the file system itself.",
        "statvfs(3)", |s| filesystems(s, |f| f.size.float())).needing(Demand::Filesystems),
    entry("fs.used", "system.filesystem.usage{system.filesystem.mountpoint=*,system.filesystem.state=used}", Bytes, Level,
        "Bytes that files use. Deleted files that somebody still has open are in it.",
        "statvfs(3)", |s| filesystems(s, |f| f.used.float())).needing(Demand::Filesystems),
    entry("fs.available", "system.filesystem.usage{system.filesystem.mountpoint=*,system.filesystem.state=free}", Bytes, Level,
        "Bytes left for ordinary users. Root may have some more.",
        "statvfs(3)", |s| filesystems(s, |f| f.available.float())).needing(Demand::Filesystems),
    entry("fs.usage", "system.filesystem.utilization{system.filesystem.mountpoint=*}", Percent, Level,
        "Share of what ordinary users can fill that is used. At 100 their programs fail to write.",
        "statvfs(3)", |s| filesystems(s, |f| part_of(f.used, f.available))).needing(Demand::Filesystems),
    entry("fs.inodes_usage", "dozor.system.filesystem.inodes.utilization{system.filesystem.mountpoint=*}", Percent, Level,
        "Share of inodes in use. Without inodes no file can be made though bytes are left. Unknown where the type has no fixed number.",
        "statvfs(3)", |s| filesystems(s, inodes_usage)).needing(Demand::Filesystems),
    entry("fs.answers", "dozor.system.filesystem.responding{system.filesystem.mountpoint=*}", Number, Level,
        "1 where the file system answers, 0 where a question has been waiting for two seconds. A server that is gone blocks whoever touches its files.",
        "statvfs(3)", |s| filesystems(s, |f| f.answers.float())).needing(Demand::Filesystems),
    entry("net.usage", "hw.network.bandwidth.utilization{network.interface.name=*}", Percent, Rate,
        "The busier direction of each interface against its link speed. Unknown where there is no speed.",
        "/proc/net/dev, /sys/class/net/NAME/speed", |s| interfaces(s, link_usage)),
    entry("tcp.retransmits", "dozor.system.network.tcp.retransmissions", PerSecond, Rate,
        "TCP segments sent again per second. More than about one in a hundred means a lossy or crowded path.",
        "/proc/net/snmp RetransSegs", |s| one(s.rate(|r| r.system.tcp_retransmits))),
    entry("udp.in", "dozor.system.network.udp.datagrams{network.io.direction=receive}", PerSecond, Rate,
        "UDP datagrams received per second, over IPv4. The kernel counts no bytes of UDP for a socket, so no process can be charged with them.",
        "/proc/net/snmp InDatagrams", |s| one(s.rate(|r| r.system.udp_in))),
    entry("udp.out", "dozor.system.network.udp.datagrams{network.io.direction=transmit}", PerSecond, Rate,
        "UDP datagrams sent per second, over IPv4. See udp.in.",
        "/proc/net/snmp OutDatagrams", |s| one(s.rate(|r| r.system.udp_out))),
    entry("udp.errors", "dozor.system.network.udp.errors", PerSecond, Rate,
        "UDP datagrams that came and could not be delivered, mostly because a program reads too slowly. They are lost.",
        "/proc/net/snmp InErrors", |s| one(s.rate(|r| r.system.udp_errors))),
    entry("wifi.signal", "dozor.system.network.wireless.signal{network.interface.name=*}", Dbm, Level,
        "Wireless signal; less negative is better. Below about -75 connections suffer.",
        "/proc/net/wireless", |s| interfaces(s, |i| i.now.wifi_signal.float())),
    entry("wifi.quality", "dozor.system.network.wireless.quality{network.interface.name=*}", Number, Level,
        "Wireless quality in the driver's own scale, usually up to 70. Only compare it with itself.",
        "/proc/net/wireless", |s| interfaces(s, |i| i.now.wifi_quality.float())),
    entry("sensor.fan", "hw.fan.speed{hw.id=*}", Rpm, Level,
        "Speed of each fan. Zero is a fan that stands: some do so on purpose while it is cool.",
        "/sys/class/hwmon fanN_input", |s| sensors(s, |x| x.now.fan.float())),
    entry("sensor.fan_min", "hw.fan.speed.limit{hw.id=*,hw.limit_type=low.critical}", Rpm, Level,
        "Speed below which the board itself calls a fan too slow. Zero is no limit at all.",
        "/sys/class/hwmon fanN_min", |s| sensors_with(s, |x| x.now.fan_min.float())),
    entry("sensor.power", "hw.power{hw.id=*}", Watts, Level,
        "Power of each sensor, from energy counters as the mean over the sample. Packages contain their cores: do not add them up.",
        "/sys/class/hwmon, /sys/class/powercap", |s| sensors(s, sensor_power)),
    entry("sensor.voltage", "hw.voltage{hw.id=*}", Volts, Level,
        "Voltage of each sensor. Boards that scale it wrongly are common; look for changes.",
        "/sys/class/hwmon inN_input", |s| sensors(s, |x| x.now.voltage.float().map(|m| m / 1000.0))),
    entry("battery.charge", "hw.battery.charge{hw.id=*}", Percent, Level,
        "Charge against what the battery can hold now. An old battery at 100 holds less than a new one.",
        "/sys/class/power_supply", |s| batteries(s, |b| b.charge.float().map(|c| c / 100.0))),
    entry("battery.time_left", "hw.battery.time_left{hw.id=*}", Seconds, Level,
        "Time until it is empty at the present load. Unknown while it charges.",
        "/sys/class/power_supply", |s| batteries(s, |b| b.seconds_left.float())),
    entry("gpu.utilization", "hw.gpu.utilization{hw.id=*}", Percent, Level,
        "Busy share of each graphics processor. Unknown where the driver does not state it.",
        "/sys/class/drm/cardN/device/gpu_busy_percent", |s| gpus(s, |g| g.busy.float())),
    entry("gpu.memory", "hw.gpu.memory.usage{hw.id=*}", Bytes, Level,
        "Memory of each graphics processor in use. Integrated ones use the machine's memory.",
        "/sys/class/drm/cardN/device/mem_info_vram_used", |s| gpus(s, |g| g.memory_used.float())),
    entry("gpu.temperature", "hw.temperature{hw.parent=*}", Celsius, Level,
        "Temperature of each graphics processor. Its sensor may lag behind by seconds.",
        "/sys/class/drm/cardN/device/hwmon", |s| gpus(s, |g| g.temperature.float().map(|m| m / 1000.0))),
    entry("gpu.power", "hw.power{hw.id=*,hw.type=gpu}", Watts, Level,
        "Power of each graphics processor. Whether memory is in it depends on the card.",
        "/sys/class/drm/cardN/device/hwmon", |s| gpus(s, |g| g.power.float().map(|u| u / 1e6))),
    entry("gpu.fan", "hw.fan.speed{hw.parent=*}", Rpm, Level,
        "Fan of each graphics processor. Zero is a fan that stands: many do so while it is cool.",
        "/sys/class/drm/cardN/device/hwmon", |s| gpus(s, |g| g.fan.float())),
    entry("pressure.cpu.some", "dozor.system.linux.pressure.cpu{dozor.pressure.kind=some}", Percent, Rate,
        "Share of the time in which some task waited for a CPU. It rises before users notice.",
        "/proc/pressure/cpu", |s| stalled(s, |r| r.system.pressure_cpu_some)),
    entry("pressure.cpu.full", "dozor.system.linux.pressure.cpu{dozor.pressure.kind=full}", Percent, Rate,
        "Share of the time in which all tasks that had work waited for a CPU. Any steady value means lost time.",
        "/proc/pressure/cpu", |s| stalled(s, |r| r.system.pressure_cpu_full)),
    entry("pressure.memory.some", "dozor.system.linux.pressure.memory{dozor.pressure.kind=some}", Percent, Rate,
        "Share of the time in which some task waited for memory. It rises before users notice.",
        "/proc/pressure/memory", |s| stalled(s, |r| r.system.pressure_memory_some)),
    entry("pressure.memory.full", "dozor.system.linux.pressure.memory{dozor.pressure.kind=full}", Percent, Rate,
        "Share of the time in which all tasks that had work waited for memory. Any steady value means lost time.",
        "/proc/pressure/memory", |s| stalled(s, |r| r.system.pressure_memory_full)),
    entry("pressure.io.some", "dozor.system.linux.pressure.io{dozor.pressure.kind=some}", Percent, Rate,
        "Share of the time in which some task waited for a device. It rises before users notice.",
        "/proc/pressure/io", |s| stalled(s, |r| r.system.pressure_io_some)),
    entry("pressure.io.full", "dozor.system.linux.pressure.io{dozor.pressure.kind=full}", Percent, Rate,
        "Share of the time in which all tasks that had work waited for a device. Any steady value means lost time.",
        "/proc/pressure/io", |s| stalled(s, |r| r.system.pressure_io_full)),
    entry("unaccounted", "dozor.system.cpu.unaccounted", PercentOfCore, Rate,
        "CPU time that no process in the list and no child that was waited for explains, in percent of one core. It is what processes used that came and went between two readings and that nobody waited for, and time in interrupts.",
        "/proc/stat less /proc/PID/stat", |s| one(unaccounted(s))),
    entry("net.unattributed_in", "dozor.system.network.unattributed{network.io.direction=receive}", BytesPerSecond, Rate,
        "Bytes received over TCP that no process could be found for: connections that came and went between two readings, or of users whose processes may not be seen.",
        "socket diagnostics", |s| one(s.rate(|r| r.system.unattributed_in))).needing(Demand::Sockets),
    entry("net.unattributed_out", "dozor.system.network.unattributed{network.io.direction=transmit}", BytesPerSecond, Rate,
        "Bytes sent over TCP that no process could be found for. See net.unattributed_in.",
        "socket diagnostics", |s| one(s.rate(|r| r.system.unattributed_out))).needing(Demand::Sockets),
    entry("ended", "dozor.system.process.ended", PerSecond, Rate,
        "Processes that ended per second, named and counted one by one. Many with nothing in the process list are short-lived ones.",
        "taskstats", |s| one(ended(s, |_| true))).needing(Demand::Ended),
    entry("ended.unseen", "dozor.system.process.ended.unseen", PerSecond, Rate,
        "Processes that came and went between two readings, per second. No process list shows them.",
        "taskstats", |s| one(ended(s, |row| row.seen == Raw::new(0)))).needing(Demand::Ended),
    entry("notifications.lost", "dozor.system.notifications.lost", PerSecond, Rate,
        "How often notifications of ended sockets or processes came faster than they were read. Above zero, counts of ended ones are too low.",
        "netlink(7) ENOBUFS", |s| one(s.rate(|r| r.system.notifications_lost))).needing(Demand::Ended),
];
