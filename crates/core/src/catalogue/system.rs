//! Metrics of the machine and its parts.

use super::{Eval, Instances, Kind, Metric, Unit, Value};
use crate::known::{Known, Raw};
use crate::reading::{CoreRow, DiskRow, InterfaceRow, Reading, SensorRow};
use crate::row::Row;
use crate::sample::{PartView, Sample};
use crate::text::Text;

const fn entry(
    alias: &'static str,
    name: &'static str,
    unit: Unit,
    kind: Kind,
    help: &'static str,
    source: &'static str,
    eval: fn(&Sample) -> Instances,
) -> Metric {
    Metric { alias, name, heading: alias, unit, kind, help, source, eval: Eval::System(eval) }
}

/// Share of all CPU time of the machine that one class took, in percent.
pub fn cpu_share(sample: &Sample, class: impl Fn(&CoreRow) -> Raw) -> Known<f64> {
    let row = |reading: &Reading| machine_as_core(reading);
    let now = row(&sample.now);
    let before = sample.before.as_deref().map(row);
    core_share(&PartView { now: &now, before: before.as_ref(), seconds: sample.seconds() }, class)
}

/// The machine's CPU counters in the shape of one core's.
fn machine_as_core(reading: &Reading) -> CoreRow {
    let s = &reading.system;
    CoreRow {
        number: Raw::ABSENT,
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

fn one(value: Known<f64>) -> Instances {
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

fn sensors(sample: &Sample, value: impl Fn(&PartView<'_, SensorRow>) -> Known<f64>) -> Instances {
    each(sample, |r| &r.sensors, |s| s.name.clone(), value)
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
use Unit::{BitsPerSecond, Bytes, BytesPerSecond, Celsius, Number, PerSecond, Percent, Seconds};

/// All metrics of the machine, in the order of the documents.
#[rustfmt::skip]
pub static SYSTEM_METRICS: &[Metric] = &[
    entry("cpu.total", "system.cpu.utilization", Percent, Rate,
        "Share of all cores that did something. Waiting for a disk is not counted as busy.",
        "/proc/stat", |s| one(cpu_busy(s))),
    entry("cpu.user", "system.cpu.utilization{user}", Percent, Rate,
        "Time in the programs' own code. It is what computing looks like.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.user))),
    entry("cpu.nice", "system.cpu.utilization{nice}", Percent, Rate,
        "Time in programs that somebody made nicer. It gives way to everything else.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.nice))),
    entry("cpu.system", "system.cpu.utilization{system}", Percent, Rate,
        "Time in the kernel for the programs. Above about a third, somebody makes very many system calls.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.system))),
    entry("cpu.idle", "system.cpu.utilization{idle}", Percent, Rate,
        "Time with nothing to do. A machine can be slow and idle when it waits for a disk or for others.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.idle))),
    entry("cpu.iowait", "system.cpu.utilization{iowait}", Percent, Rate,
        "Idle time while a task waited for a disk. It is idle time: a busy CPU hides it.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.iowait))),
    entry("cpu.irq", "system.cpu.utilization{interrupt}", Percent, Rate,
        "Time serving hardware interrupts. Many kernels count it elsewhere and show zero here.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.irq))),
    entry("cpu.softirq", "system.cpu.utilization{softirq}", Percent, Rate,
        "Time for deferred interrupt work, mostly network packets. On one core alone it can be the bottleneck.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.softirq))),
    entry("cpu.steal", "system.cpu.utilization{steal}", Percent, Rate,
        "Time that the host gave to other virtual machines while this one wanted to run. High values mean an oversold host.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.steal))),
    entry("cpu.guest", "system.cpu.utilization{guest}", Percent, Rate,
        "Time running virtual machines. It is already contained in user.",
        "/proc/stat", |s| one(cpu_share(s, |c| c.guest))),
    entry("core.total", "system.cpu.logical.utilization", Percent, Rate,
        "Busy share of each core. One core at 100 with the others idle is a program with a single thread.",
        "/proc/stat", |s| cores(s, core_busy)),
    entry("core.user", "system.cpu.logical.utilization{user}", Percent, Rate,
        "Time of each core in the programs' own code. See cpu.user.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.user))),
    entry("core.system", "system.cpu.logical.utilization{system}", Percent, Rate,
        "Time of each core in the kernel. See cpu.system.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.system))),
    entry("core.iowait", "system.cpu.logical.utilization{iowait}", Percent, Rate,
        "Idle time of each core while a task waited for a disk. Which core it falls on means little.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.iowait))),
    entry("core.softirq", "system.cpu.logical.utilization{softirq}", Percent, Rate,
        "Time of each core for deferred interrupt work. All of it on one core is a bottleneck.",
        "/proc/stat", |s| cores(s, |c| core_share(c, |r| r.softirq))),
    entry("load.1", "system.linux.load.1m", Number, Level,
        "Mean number of tasks that ran, wanted to run or were blocked on a disk, over one minute. Read it against the number of cores; disk waits are in it.",
        "/proc/loadavg", |s| hundredths(s.now.system.load_1)),
    entry("load.5", "system.linux.load.5m", Number, Level,
        "The same over five minutes. Compared with load.1 it shows the direction.",
        "/proc/loadavg", |s| hundredths(s.now.system.load_5)),
    entry("load.15", "system.linux.load.15m", Number, Level,
        "The same over fifteen minutes. Compared with load.1 it shows the direction.",
        "/proc/loadavg", |s| hundredths(s.now.system.load_15)),
    entry("tasks.running", "system.process.count{running}", Number, Level,
        "Tasks that run or are ready to run, threads included. More than cores means waiting for a CPU.",
        "/proc/stat procs_running", |s| level(s.now.system.running)),
    entry("tasks.blocked", "system.process.count{blocked}", Number, Level,
        "Tasks that wait for a disk, threads included. They count into the load without using a CPU.",
        "/proc/stat procs_blocked", |s| level(s.now.system.blocked)),
    entry("tasks.total", "system.process.count", Number, Level,
        "Processes that this user can see. Where processes of others are hidden it is not all of them.",
        "/proc", |s| Instances::One(Value::Number(f64::from(s.tasks().total)))),
    entry("tasks.threads", "system.thread.count", Number, Level,
        "Threads of all processes together. A number that only grows is a leak.",
        "/proc/loadavg", |s| level(s.now.system.threads)),
    entry("forks", "system.process.created", PerSecond, Rate,
        "Processes and threads started per second. High values with an idle process list mean short-lived processes.",
        "/proc/stat processes", |s| one(s.rate(|r| r.system.forks))),
    entry("switches", "system.context_switches", PerSecond, Rate,
        "Context switches of all cores. Only a large change against the usual value means something.",
        "/proc/stat ctxt", |s| one(s.rate(|r| r.system.switches))),
    entry("interrupts", "system.interrupts", PerSecond, Rate,
        "Interrupts of all sources. Only a large change against the usual value means something.",
        "/proc/stat intr", |s| one(s.rate(|r| r.system.interrupts))),
    entry("users", "system.users", Number, Level,
        "Users logged in. A user with two sessions counts twice.",
        "/run/systemd/sessions, utmp(5)", |s| level(s.now.system.users)),
    entry("mem.total", "system.memory.limit", Bytes, Level,
        "Memory that the kernel can use. It is less than the hardware has.",
        "/proc/meminfo MemTotal", |s| level(s.now.system.mem_total)),
    entry("mem.used", "system.memory.usage{used}", Bytes, Level,
        "Memory that new programs cannot get: total less available. Caches that can be given back are not in it.",
        "/proc/meminfo MemTotal − MemAvailable", |s| one(memory_used(s))),
    entry("mem.available", "system.linux.memory.available", Bytes, Level,
        "What new programs can get without swapping. This, not free, says whether memory is short.",
        "/proc/meminfo MemAvailable", |s| level(s.now.system.mem_available)),
    entry("mem.free", "system.memory.usage{free}", Bytes, Level,
        "Memory that holds nothing at all. It is small on any healthy machine that has run for a while.",
        "/proc/meminfo MemFree", |s| level(s.now.system.mem_free)),
    entry("mem.buffers", "system.memory.usage{buffers}", Bytes, Level,
        "Cached blocks of devices. They are given back when programs need memory.",
        "/proc/meminfo Buffers", |s| level(s.now.system.mem_buffers)),
    entry("mem.cache", "system.memory.usage{cached}", Bytes, Level,
        "Cached file contents. They are given back when programs need memory, but for shared memory and tmpfs.",
        "/proc/meminfo Cached", |s| level(s.now.system.mem_cached)),
    entry("mem.shared", "system.linux.memory.shared", Bytes, Level,
        "Shared memory and files in tmpfs. It can only go to swap.",
        "/proc/meminfo Shmem", |s| level(s.now.system.mem_shared)),
    entry("mem.slab", "system.linux.memory.slab.usage", Bytes, Level,
        "Data structures of the kernel. Part of it can be given back.",
        "/proc/meminfo Slab", |s| level(s.now.system.mem_slab)),
    entry("mem.dirty", "system.linux.memory.dirty", Bytes, Level,
        "Written by programs, not yet on the disk. A large value that stays means a disk that cannot follow.",
        "/proc/meminfo Dirty", |s| level(s.now.system.mem_dirty)),
    entry("swap.total", "system.paging.limit", Bytes, Level,
        "Swap space. Zero is a choice, not a fault.",
        "/proc/meminfo SwapTotal", |s| level(s.now.system.swap_total)),
    entry("swap.used", "system.paging.usage", Bytes, Level,
        "Swap space in use. It harms only while pages move; see swap.in and swap.out.",
        "/proc/meminfo SwapTotal − SwapFree", |s| minus(s.now.system.swap_total, s.now.system.swap_free)),
    entry("swap.in", "system.paging.operations{in}", BytesPerSecond, Rate,
        "Memory read back from swap. A steady rate means that memory ran out.",
        "/proc/vmstat pswpin", |s| one(s.rate(|r| r.system.swap_in))),
    entry("swap.out", "system.paging.operations{out}", BytesPerSecond, Rate,
        "Memory written to swap. A steady rate means that memory ran out.",
        "/proc/vmstat pswpout", |s| one(s.rate(|r| r.system.swap_out))),
    entry("faults.major", "system.paging.faults{major}", PerSecond, Rate,
        "Page faults that waited for a disk. Programs that start cause some; a steady rate means short memory.",
        "/proc/vmstat pgmajfault", |s| one(s.rate(|r| r.system.faults_major))),
    entry("oom.kills", "system.linux.oom_kills", PerSecond, Rate,
        "Processes that the kernel killed because memory ran out. Any value above zero needs an explanation.",
        "/proc/vmstat oom_kill", |s| one(s.rate(|r| r.system.oom_kills))),
    entry("disk.read", "system.disk.io{read}", BytesPerSecond, Rate,
        "Bytes read from each device. What the cache answers does not reach the device.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.read_bytes))),
    entry("disk.write", "system.disk.io{write}", BytesPerSecond, Rate,
        "Bytes written to each device. They can come seconds after the programs wrote them.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.write_bytes))),
    entry("disk.reads", "system.disk.operations{read}", PerSecond, Rate,
        "Read requests of each device. Many small ones are harder for a spinning disk than few large ones.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.reads))),
    entry("disk.writes", "system.disk.operations{write}", PerSecond, Rate,
        "Write requests of each device. Many small ones are harder for a spinning disk than few large ones.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.writes))),
    entry("disk.wait", "system.disk.operation_time", Seconds, Rate,
        "Mean time of a request from its start to its end, waiting in the queue included. Unknown when no request ended.",
        "/proc/diskstats", |s| disks(s, disk_wait)),
    entry("disk.queue", "system.disk.queue", Number, Rate,
        "Mean number of requests in flight. An SSD works well with many; a spinning disk does not.",
        "/proc/diskstats", |s| disks(s, |d| d.rate(|r| r.queue_ms).map(|ms| ms / 1000.0))),
    entry("disk.busy", "system.disk.io_time", Percent, Rate,
        "Share of the time with at least one request in flight. At 100 a spinning disk is full; an SSD may still take more.",
        "/proc/diskstats", |s| disks(s, disk_busy)),
    entry("net.in", "system.network.io{receive}", BytesPerSecond, Rate,
        "Bytes received by each interface, headers included. Traffic of a program to itself is on lo.",
        "/proc/net/dev", |s| interfaces(s, |i| i.rate(|r| r.in_bytes))),
    entry("net.out", "system.network.io{transmit}", BytesPerSecond, Rate,
        "Bytes sent by each interface, headers included. Traffic of a program to itself is on lo.",
        "/proc/net/dev", |s| interfaces(s, |i| i.rate(|r| r.out_bytes))),
    entry("net.packets_in", "system.network.packet.count{receive}", PerSecond, Rate,
        "Packets received by each interface. Very many small ones cost CPU without many bytes.",
        "/proc/net/dev", |s| interfaces(s, |i| i.rate(|r| r.in_packets))),
    entry("net.packets_out", "system.network.packet.count{transmit}", PerSecond, Rate,
        "Packets sent by each interface. Very many small ones cost CPU without many bytes.",
        "/proc/net/dev", |s| interfaces(s, |i| i.rate(|r| r.out_packets))),
    entry("net.errors", "system.network.errors", PerSecond, Rate,
        "Receive and send errors of each interface. They come from cables, plugs and drivers.",
        "/proc/net/dev", |s| interfaces(s, |i| both(i.rate(|r| r.in_errors), i.rate(|r| r.out_errors)))),
    entry("net.drops", "system.network.packet.dropped", PerSecond, Rate,
        "Packets that the machine dropped, in and out. Some drivers count unknown protocols here.",
        "/proc/net/dev", |s| interfaces(s, |i| both(i.rate(|r| r.in_drops), i.rate(|r| r.out_drops)))),
    entry("net.speed", "system.network.bandwidth.limit", BitsPerSecond, Level,
        "Speed of the link. Virtual interfaces often have none, or one that means nothing.",
        "/sys/class/net/NAME/speed", |s| interfaces(s, |i| i.now.speed_bits.float())),
    entry("sensor.temperature", "hw.temperature", Celsius, Level,
        "Temperature of each sensor. Read it against the sensor's own limit.",
        "/sys/class/hwmon, /sys/class/thermal", |s| sensors(s, |x| x.now.temperature.float().map(|m| m / 1000.0))),
    entry("sensor.limit", "hw.temperature.limit", Celsius, Level,
        "Temperature at which the hardware protects itself. Unknown where the sensor does not say.",
        "/sys/class/hwmon, /sys/class/thermal", |s| sensors(s, |x| x.now.limit.float().map(|m| m / 1000.0))),
];
