//! Metrics of a process.

use super::written::{self, WRITTEN_BY, written};
use super::{ByNumber, Combine, Eval, Kind, Metric, Unit, Value, transfers};
use crate::known::{Known, Raw};
use crate::limits;
use crate::reading::{ProcessRow, Reading};
use crate::row::Row;
use crate::sample::{ProcessView, STATES, Sample, process_state};
use crate::wanted::Demand;

const fn entry(
    alias: &'static str,
    name: &'static str,
    heading: &'static str,
    unit: Unit,
    kind: Kind,
    help: &'static str,
    source: &'static str,
    eval: fn(&ProcessView<'_>) -> Value,
) -> Metric {
    Metric {
        alias,
        name,
        heading,
        unit,
        kind,
        help,
        source,
        eval: Eval::Process(eval),
        reads: &[],
        needs: None,
        combine: Combine::usual(kind, unit),
        words: &[],
        least: None,
        most: None,
        several: None,
        by_number: None,
    }
}

fn ticks_per_second(sample: &Sample) -> f64 {
    f64::from(sample.host.ticks_per_second.max(1))
}

fn sum(a: Known<f64>, b: Known<f64>) -> Value {
    a.zip(b).map(|(a, b)| a + b).into()
}

fn age(view: &ProcessView<'_>) -> Known<f64> {
    age_of(view.sample, view.now.start_ticks)
}

/// The age of who started then.
fn age_of(sample: &Sample, start_ticks: Raw) -> Known<f64> {
    let now = sample.now.system.boot_ns.float();
    start_ticks.float().zip(now).map(|(start, now)| (now / 1e9 - start / ticks_per_second(sample)).max(0.0))
}

/// When who is so old started, in seconds since 1970.
fn start_of(sample: &Sample, age: Known<f64>) -> Known<f64> {
    age.map(|age| sample.now.wall_ns() as f64 / 1e9 - age)
}

/// So much memory in percent of the machine's.
fn share_of_memory(sample: &Sample, bytes: Raw) -> Known<f64> {
    let total = sample.now.system.mem_total.float();
    bytes.float().zip(total).map(|(bytes, total)| bytes / total.max(1.0) * 100.0)
}

const BY_START: ByNumber = ByNumber {
    number: |row| row.start_ticks,
    follows: |sample| Box::new(|start| age_of(sample, start).into()),
};
const BY_START_IN_TIME: ByNumber = ByNumber {
    number: |row| row.start_ticks,
    follows: |sample| Box::new(|start| start_of(sample, age_of(sample, start)).into()),
};
const BY_MEMORY: ByNumber = ByNumber {
    number: |row| row.rss_bytes,
    follows: |sample| Box::new(|bytes| share_of_memory(sample, bytes).into()),
};
/// CPU time in percent of one core: in nanoseconds where the kernel gives them, else in clock ticks. Where neither clocks nor a
/// reader in the kernel tell them they are those of the main thread; if the ticks of the whole process say more than two ticks
/// more, other threads worked between the readings.
fn cpu(view: &ProcessView<'_>) -> Value {
    let ticks = sum(view.share(|row| row.user_ticks), view.share(|row| row.system_ticks));
    let Known::Value(ns) = view.rate(|row| row.run_ns) else { return ticks };
    let exact = ns / 1e7;
    let two_ticks = 200.0 / (ticks_per_second(view.sample) * view.sample.seconds().unwrap_or(f64::INFINITY));
    match ticks.number() {
        Some(coarse) if coarse > exact + two_ticks => ticks,
        _ => Value::Number(exact),
    }
}

fn write(view: &ProcessView<'_>) -> Known<f64> {
    written(view).map(|written| written.bytes)
}

fn may_be_less(view: &ProcessView<'_>) -> bool {
    written(view).value().is_some_and(|written| written.at_most)
}

fn has_datagrams(view: &ProcessView<'_>) -> bool {
    view.now.datagram_sockets.value() > Some(0)
}

/// Whether bytes over UDP are missing: who holds such sockets, where nobody counts them.
fn misses_datagrams(view: &ProcessView<'_>) -> bool {
    has_datagrams(view) && view.rate(|row| row.udp_in_bytes).value().is_none()
}

/// Whether bytes over TCP are missing: of who came and went between two readings and is known by those over UDP alone.
fn misses_streams(view: &ProcessView<'_>) -> bool {
    let tcp = view.rate(|row| row.net_in_bytes);
    matches!(tcp, Known::Absent) && view.rate(|row| row.udp_in_bytes).value().is_some()
}

/// Whether calls on sockets were not looked at in this sample, of one over whose sockets some came.
fn misses_calls(view: &ProcessView<'_>) -> bool {
    let moves = |counter: fn(&ProcessRow) -> Raw| view.rate(counter).value() > Some(0.0);
    let missed = view.sample.rate(|reading| reading.system.datagrams_missed).value() > Some(0.0);
    missed && (moves(|row| row.udp_in_bytes) || moves(|row| row.udp_out_bytes))
}

/// Whether it may have had some of the connections of which nobody knows whose they were: who waits at a socket with others, and who
/// ran while such were opened here.
fn misses_shared(view: &ProcessView<'_>) -> bool {
    let grew = |counter: fn(&Reading) -> Raw| view.sample.rate(counter).value() > Some(0.0);
    let shares = view.now.shared_sockets.value() > Some(0)
        && (grew(|reading| reading.system.unattributed_in)
            || grew(|reading| reading.system.unattributed_out));
    shares || grew(|reading| reading.system.unseen_traffic) && view.now.pid.value().is_some() && ran(view)
}

fn ran(view: &ProcessView<'_>) -> bool {
    cpu(view).number().is_some_and(|share| share > 0.0)
}

/// Whether some of the bytes are missing.
fn misses_traffic(view: &ProcessView<'_>) -> bool {
    misses_shared(view) || misses_datagrams(view) || misses_streams(view) || misses_calls(view)
}

/// Bytes over TCP and UDP; nothing at all is not known to be nothing where those over one of them are missing.
fn over_both(view: &ProcessView<'_>, tcp: Known<f64>, udp: Known<f64>) -> Value {
    match (tcp, udp) {
        (Known::Value(tcp), Known::Value(udp)) => Value::Number(tcp + udp),
        (Known::Absent, Known::Value(udp)) if udp > 0.0 => Value::Number(udp),
        (Known::Value(bytes), _) if bytes <= 0.0 && (misses_datagrams(view) || misses_shared(view)) => {
            Value::Absent
        }
        (tcp, _) => tcp.into(),
    }
}

fn moved_in(view: &ProcessView<'_>) -> Value {
    over_both(view, view.rate(|row| row.net_in_bytes), view.rate(|row| row.udp_in_bytes))
}

fn moved_out(view: &ProcessView<'_>) -> Value {
    over_both(view, view.rate(|row| row.net_out_bytes), view.rate(|row| row.udp_out_bytes))
}

fn moved(view: &ProcessView<'_>) -> Value {
    let both = |one: fn(&ProcessRow) -> Raw, other: fn(&ProcessRow) -> Raw| {
        view.rate(one).zip(view.rate(other)).map(|(one, other)| one + other)
    };
    let tcp = both(|row| row.net_in_bytes, |row| row.net_out_bytes);
    over_both(view, tcp, both(|row| row.udp_in_bytes, |row| row.udp_out_bytes))
}

/// Share of a core from which on threads of a process are called working though its main thread sleeps.
const WORKING: f64 = 25.0;

fn state(view: &ProcessView<'_>) -> Value {
    match process_state(view.now) {
        Some("sleeping")
            if view.now.threads.value() > Some(1)
                && cpu(view).number().is_some_and(|used| used >= WORKING) =>
        {
            Value::Word("working")
        }
        Some(word) => Value::Word(word),
        None => Value::Absent,
    }
}

/// Temperature of a core, by the sensor that stands for it.
pub fn core_temperature(sample: &Sample, core: Raw) -> Known<f64> {
    let now = &sample.now;
    let place = |number: i64| now.cores.binary_search_by_key(&number, Row::key).ok();
    let core = core.value().and_then(place).map(|place| &now.cores[place]);
    let sensor = core.and_then(|core| now.sensors.iter().find(|sensor| sensor.name == core.sensor));
    sensor.map_or(Known::Absent, |sensor| sensor.temperature.float().map(|milli| milli / 1000.0))
}

/// The temperature of the core that a process ran on in this sample. Nothing where it did not run, and where one sensor serves cores
/// of several, which says nothing of one.
fn core_temp(view: &ProcessView<'_>) -> Value {
    if ran(view) { core_temperature(view.sample, view.now.core).into() } else { Value::Absent }
}

/// Change of the resident memory per second; unlike a counter it may fall.
fn growth(view: &ProcessView<'_>) -> Known<f64> {
    let before = view.before.map_or(Known::Absent, |before| before.rss_bytes.float());
    let now = view.now.rss_bytes.float();
    now.zip(before).zip(view.sample.seconds().into()).map(|((now, before), seconds)| (now - before) / seconds)
}

/// Scheduling policies; sched(7).
const POLICIES: [&str; 7] = ["other", "fifo", "rr", "batch", "idle", "deadline", "ext"];

fn policy(view: &ProcessView<'_>) -> Value {
    match view.now.policy.get() {
        Known::Value(code) => match code {
            0 => Value::Word("other"),
            1 => Value::Word("fifo"),
            2 => Value::Word("rr"),
            3 => Value::Word("batch"),
            5 => Value::Word("idle"),
            6 => Value::Word("deadline"),
            7 => Value::Word("ext"),
            _ => Value::Absent,
        },
        Known::Absent => Value::Absent,
        Known::Denied => Value::Denied,
    }
}

use Kind::{Label, Level, Rate, Total};
use Unit::{Bytes, BytesPerSecond, Celsius, Number, PerSecond, Percent, PercentOfCore, Seconds, Text, Time};

/// All metrics of a process, in the order of the documents.
#[rustfmt::skip]
pub static PROCESS_METRICS: &[Metric] = &[
    entry("pid", "process.pid", "pid", Number, Label,
        "Number by which the kernel knows the process. It is used again after the process ended, so only PID and start time together name a process.",
        "/proc/PID/stat", |p| Raw::from(p.now.pid.value().filter(|pid| *pid > 0)).into()).reading(&["pid"]),
    entry("ppid", "process.parent_pid", "parent", Number, Label,
        "PID of the process that started this one. A process whose parent ended gets a new parent, often PID 1.",
        "/proc/PID/stat", |p| p.now.ppid.into()).reading(&["ppid"]),
    entry("name", "dozor.process.name", "name", Text, Label,
        "Name that the kernel keeps, cut off after 15 bytes; the process itself may change it. Two programs can share it.",
        "/proc/PID/stat comm", |p| (&p.now.name).into()).reading(&["name"]),
    entry("program", "process.executable.name", "program", Text, Label,
        "Base name of the executable file, or of the first argument where the file may not be seen. A script shows its interpreter here.",
        "/proc/PID/exe", |p| (&p.now.program).into()).reading(&["program"]),
    entry("command", "process.command_line", "command", Text, Label,
        "Command line with its arguments. A process may overwrite it; a kernel thread has none and shows its name in brackets.",
        "/proc/PID/cmdline", |p| (&p.now.command).into()).reading(&["command"]),
    entry("user", "process.user.name", "user", Text, Label,
        "User whose rights the process has now (the effective user). It differs from the real user while a program acts with other rights.",
        "/proc/PID/status Uid", |p| (&p.now.user).into()).reading(&["user"]),
    entry("real_user", "process.real_user.name", "real user", Text, Label,
        "User who started the process. It stays the same when a program takes on other rights.",
        "/proc/PID/status Uid", |p| (&p.now.real_user).into()).reading(&["real_user"]),
    entry("state", "process.state", "state", Text, Label,
        "What the process does now: running, working, sleeping, blocked on a disk, stopped, traced, zombie, idle, gone. Of several threads it is the state of one that runs; working means that some did in this sample while the main thread sleeps. A zombie uses nothing; its parent has not yet asked for its end.",
        "/proc/PID/stat, /proc/PID/task/TID/stat", state).reading(&["state", "threads", "run_ns", "user_ticks", "system_ticks"]).among(&STATES),
    entry("cpu", "process.cpu.utilization", "cpu %", PercentOfCore, Rate,
        "CPU time used in this sample, in percent of one core. A program with several busy threads passes 100.",
        "clock_getcpuclockid(3), /proc/PID/schedstat, /proc/PID/stat utime + stime", cpu).reading(&["run_ns", "user_ticks", "system_ticks"]),
    entry("cpu_user", "process.cpu.utilization{cpu.mode=user}", "user %", PercentOfCore, Rate,
        "Part of the CPU time that the program's own code took. High values mean computing, not system calls.",
        "/proc/PID/stat utime", |p| p.share(|r| r.user_ticks).into()).reading(&["user_ticks"]),
    entry("cpu_system", "process.cpu.utilization{cpu.mode=system}", "system %", PercentOfCore, Rate,
        "Part of the CPU time that the kernel took on behalf of the program. High values mean many or expensive system calls.",
        "/proc/PID/stat stime", |p| p.share(|r| r.system_ticks).into()).reading(&["system_ticks"]),
    entry("cpu_children", "dozor.process.cpu.reaped", "child %", PercentOfCore, Rate,
        "CPU time of children that ended in this sample, in percent of one core. It may cover time before this sample, since the kernel adds it when the child is waited for.",
        "/proc/PID/stat cutime + cstime", |p| sum(p.share(|r| r.children_user_ticks), p.share(|r| r.children_system_ticks))).reading(&["children_user_ticks", "children_system_ticks"]),
    entry("cpu_time", "process.cpu.time", "cpu time", Seconds, Total,
        "CPU time used since the process started. A large value only says that it has been busy at some time, not that it is now.",
        "/proc/PID/stat utime + stime", |p| p.now.user_ticks.float().zip(p.now.system_ticks.float()).map(|(u, s)| (u + s) / ticks_per_second(p.sample)).into()).reading(&["user_ticks", "system_ticks"]),
    entry("threads", "process.thread.count", "threads", Number, Level,
        "Threads of the process. Many threads do not mean much work; look at CPU for that.",
        "/proc/PID/stat num_threads", |p| p.now.threads.into()).reading(&["threads"]).combining(Combine::Sum),
    entry("core", "dozor.process.cpu.last", "core", Number, Label,
        "Logical processor that it ran on last. A process moves between cores unless it is pinned.",
        "/proc/PID/stat processor", |p| p.now.core.into()).reading(&["core"]),
    entry("core_temp", "dozor.process.cpu.temperature", "core °C", Celsius, Level,
        "Temperature of the core that it ran on last, where it ran. Where one sensor stands for all cores it says nothing of one.",
        "/sys/class/hwmon, topology", core_temp).reading(&["core", "user_ticks", "system_ticks", "run_ns"]),
    entry("priority", "dozor.process.priority", "priority", Number, Level,
        "Priority in the kernel's scale: 20 plus niceness, negative for real-time policies. A lower number is served first.",
        "/proc/PID/stat priority", |p| p.now.priority.into()).reading(&["priority"]),
    entry("nice", "dozor.process.nice", "nice", Number, Level,
        "Niceness from -20 (most CPU) to 19 (least). It only matters when cores are scarce; a nice process on an idle machine still takes a whole core.",
        "/proc/PID/stat nice", |p| p.now.nice.into()).reading(&["nice"]),
    entry("policy", "dozor.process.scheduling.policy", "policy", Text, Label,
        "Scheduling policy: other, batch, idle, or real time (fifo, rr, deadline). A runaway real-time process can starve everything else.",
        "/proc/PID/stat policy", policy).reading(&["policy"]).among(&POLICIES),
    entry("rss", "process.memory.usage", "rss", Bytes, Level,
        "Memory held in RAM, shared parts included. Adding it up over processes counts shared memory many times. Before Linux 6.2 each thread adds its pages to it 64 at a time, so that a small process may show up to a megabyte less.",
        "/proc/PID/status VmRSS", |p| p.now.rss_bytes.into()).reading(&["rss_bytes"]),
    entry("growth", "dozor.process.memory.growth", "growth/s", BytesPerSecond, Rate,
        "How fast the resident memory grows; negative where it shrinks. Growth that never ends is a leak; growth at the start of a program is normal.",
        "/proc/PID/status VmRSS", |p| growth(p).into()).reading(&["rss_bytes"]),
    entry("virtual", "process.memory.virtual", "virtual", Bytes, Level,
        "Address space that was reserved. It says little about memory in use: most of it may never be touched.",
        "/proc/PID/stat vsize", |p| p.now.virtual_bytes.into()).reading(&["virtual_bytes"]),
    entry("shared", "dozor.process.memory.shared", "shared", Bytes, Level,
        "Part of the resident memory that is backed by files or shared with others. It is freed only when the last user ends.",
        "/proc/PID/status RssFile + RssShmem", |p| p.now.shared_bytes.into()).reading(&["shared_bytes"]),
    entry("swap", "dozor.process.memory.swap", "swap", Bytes, Level,
        "Memory moved out to swap. It harms only when the process needs it back; watch major faults.",
        "/proc/PID/status VmSwap", |p| p.now.swap_bytes.into()).reading(&["swap_bytes"]),
    entry("mem", "dozor.process.memory.utilization", "mem %", Percent, Level,
        "Resident memory in percent of the machine's memory. Shared memory is counted in full for each process.",
        "/proc/PID/status VmRSS", |p| share_of_memory(p.sample, p.now.rss_bytes).into()).reading(&["rss_bytes"]).by_number(BY_MEMORY),
    entry("faults_minor", "process.paging.faults{system.paging.fault.type=minor}", "cheap faults/s", PerSecond, Rate,
        "Page faults that needed no disk. They are normal when a program starts or gets new memory.",
        "/proc/PID/stat minflt", |p| p.rate(|r| r.faults_minor).into()).reading(&["faults_minor"]),
    entry("faults_major", "process.paging.faults{system.paging.fault.type=major}", "disk faults/s", PerSecond, Rate,
        "Page faults that had to wait for a disk. A steady rate means that memory is short or files are read through mappings.",
        "/proc/PID/stat majflt", |p| p.rate(|r| r.faults_major).into()).reading(&["faults_major"]),
    entry("switches_wait", "process.context_switches{process.context_switch.type=voluntary}", "waits/s", PerSecond, Rate,
        "How often it gave up the CPU to wait for something. High values are normal for programs that talk a lot.",
        "/proc/PID/task/TID/status voluntary_ctxt_switches", |p| p.rate(|r| r.switches_wait).into()).reading(&["switches_wait"]).needing(Demand::Switches),
    entry("switches_forced", "process.context_switches{process.context_switch.type=involuntary}", "forced/s", PerSecond, Rate,
        "How often it lost the CPU although it wanted to go on. High values mean that cores are scarce.",
        "/proc/PID/task/TID/status nonvoluntary_ctxt_switches", |p| p.rate(|r| r.switches_forced).into()).reading(&["switches_forced"]).needing(Demand::Switches),
    entry("core_wait", "dozor.process.cpu.wait", "core wait%", PercentOfCore, Rate,
        "Time that it was ready to run and had no core, in percent of one core: what others cost it. Several threads that wait add up. The kernel adds a wait when it is over, so who gets no core for long has it in the sample in which he gets one.",
        "/proc/PID/schedstat, /proc/PID/task/TID/schedstat", |p| p.rate(|r| r.core_wait_ns).map(|ns| ns / 1e7).into()).reading(&["core_wait_ns"]).needing(Demand::CoreWait),
    entry("read", "process.disk.io{disk.io.direction=read}", "read/s", BytesPerSecond, Rate,
        "Bytes fetched from storage. Reads answered from the cache do not count; see read_any for those.",
        "/proc/PID/io read_bytes", |p| p.io_rate(|r| r.read_bytes, Some(|r| r.read_bytes)).into()).reading(&["read_bytes"]),
    entry("write", "process.disk.io{disk.io.direction=write}", "write/s", BytesPerSecond, Rate,
        "Bytes sent towards storage, often before the disk sees them; those of pages that it dropped again in the same sample are taken off, so a longer sample may show less than the shorter ones in it together. The kernel counts pages that became dirty (see dirtied), which can be many times what was written: then it is what was handed to write calls, or, for those that write otherwise or into pipes and tmpfs as well, at most (≤) what the devices took and what waits to be written. See write_by for which of them it is.",
        "/proc/PID/io write_bytes, cancelled_write_bytes, wchar, syscw", |p| write(p).into()).reading(written::READS).at_most(may_be_less),
    entry("dirtied", "dozor.process.disk.dirtied", "dirtied/s", BytesPerSecond, Rate,
        "Bytes of pages that it made dirty, as the kernel counts them. Kernels that keep files in large folios count the whole folio for each small write, and again after it was written out: it can be a hundred times what was written.",
        "/proc/PID/io write_bytes", |p| p.io_rate(|r| r.write_bytes, Some(|r| r.write_bytes)).into()).reading(&["write_bytes"]),
    entry("write_by", "dozor.process.disk.io.source", "write by", Text, Label,
        "What write is taken from: pages that became dirty, bytes handed to write calls where those are fewer, or what the devices took where it writes in other ways (shared mappings, asynchronous requests, splice(2)) or hands more to pipes, sockets and tmpfs than to other files. What the devices took bounds it; where requests are counted (see device_write), without what others wrote.",
        "/proc/PID/io, /proc/PID/maps, /proc/PID/fd, /proc/diskstats; tracepoint block_bio_queue", |p| match written(p) {
            Known::Value(written) => Value::Word(written.by),
            Known::Absent => Value::Absent,
            Known::Denied => Value::Denied,
        }).reading(written::READS).among(&WRITTEN_BY),
    entry("read_calls", "dozor.process.io.calls{disk.io.direction=read}", "read calls/s", PerSecond, Rate,
        "Read calls of any kind, also on pipes and sockets. Very many calls with few bytes cost system time.",
        "/proc/PID/io syscr", |p| p.io_rate(|r| r.read_calls, None).into()).reading(&["read_calls"]),
    entry("write_calls", "dozor.process.io.calls{disk.io.direction=write}", "write calls/s", PerSecond, Rate,
        "Write calls of any kind, also on pipes and sockets. Very many calls with few bytes cost system time.",
        "/proc/PID/io syscw", |p| p.io_rate(|r| r.write_calls, None).into()).reading(&["write_calls"]),
    entry("read_any", "dozor.process.io.transferred{disk.io.direction=read}", "any read/s", BytesPerSecond, Rate,
        "Bytes returned by read calls, from the cache, pipes and terminals too. It is not disk traffic.",
        "/proc/PID/io rchar", |p| p.io_rate(|r| r.read_any_bytes, None).into()).reading(&["read_any_bytes"]),
    entry("write_any", "dozor.process.io.transferred{disk.io.direction=write}", "any write/s", BytesPerSecond, Rate,
        "Bytes handed to write calls, to the cache, pipes and terminals too. It is not disk traffic.",
        "/proc/PID/io wchar", |p| p.io_rate(|r| r.write_any_bytes, None).into()).reading(&["write_any_bytes"]),
    entry("disk", "process.disk.io", "disk/s", BytesPerSecond, Rate,
        "Bytes fetched from and sent to storage together. See read and write for what each of them leaves out.",
        "/proc/PID/io", |p| sum(p.io_rate(|r| r.read_bytes, Some(|r| r.read_bytes)), write(p))).reading(&["read_bytes", "write_bytes", "cancelled_bytes", "write_any_bytes", "write_calls", "net_out_bytes", "udp_out_bytes", "writes_otherwise", "kernel"]).at_most(may_be_less),
    entry("device_read", "dozor.process.disk.device.io{disk.io.direction=read}", "dev read/s", BytesPerSecond, Rate,
        "Bytes that it asked block devices for itself: true also where files are mapped, and without what the cache answered. At least so much (≥) in a sample in which the kernel let some requests pass uncounted.",
        "tracepoint block_bio_queue", |p| transfers::rate(p, transfers::READ).into()).reading(&["pid", "start_ticks"]).at_least(|p| transfers::misses(p, transfers::READ)).needing(Demand::Transfers),
    entry("device_write", "dozor.process.disk.device.io{disk.io.direction=write}", "dev write/s", BytesPerSecond, Rate,
        "Bytes that it handed to block devices itself. What it only leaves in memory is written later by a thread of the kernel, and counts for that one; what it waits for (fsync, direct writes) is its own. At least so much (≥) in a sample in which the kernel let some requests pass uncounted.",
        "tracepoint block_bio_queue", |p| transfers::rate(p, transfers::WRITE).into()).reading(&["pid", "start_ticks"]).at_least(|p| transfers::misses(p, transfers::WRITE)).needing(Demand::Transfers),
    entry("device_requests", "dozor.process.disk.device.operations", "dev requests/s", PerSecond, Rate,
        "Requests that it handed to block devices itself. Many small ones make a disk slow long before its bytes do. At least so many (≥) in a sample in which the kernel let some pass uncounted.",
        "tracepoint block_bio_queue", |p| transfers::rate(p, transfers::REQUESTS).into()).reading(&["pid", "start_ticks"]).at_least(|p| transfers::misses(p, transfers::REQUESTS)).needing(Demand::Transfers),
    entry("device", "dozor.process.disk.device", "device", Text, Label,
        "Block device that it handed most to in this sample; nothing where it handed nothing to any.",
        "tracepoint block_bio_queue", transfers::device).reading(&["pid", "start_ticks"]).needing(Demand::Transfers),
    entry("device_for", "dozor.process.disk.device.cgroup", "dev for", Text, Label,
        "Control group other than its own for which it handed most to block devices in this sample: a thread of the kernel writes out what that group left in memory, or serves its device. Nothing where all was its own. The kernel keeps account of whose memory it writes out with control groups of version 2 that have both io and memory.",
        "tracepoint block_bio_queue", transfers::for_group).reading(&["pid", "start_ticks"]).needing(Demand::Transfers),
    entry("disk_wait", "dozor.process.disk.wait", "disk wait%", Percent, Rate,
        "Share of the time that it waited for block devices. It is unknown where the kernel's delay accounting is off (sysctl kernel.task_delayacct).",
        "/proc/PID/stat delayacct_blkio_ticks", |p| p.share(|r| r.disk_wait_ticks).into()).reading(&["disk_wait_ticks"]).combining(Combine::Most),
    entry("start", "process.creation.time", "start", Time, Label,
        "When it started, as seconds since 1970. It is reckoned from the present clock, so a clock change moves it.",
        "/proc/PID/stat starttime", |p| start_of(p.sample, age(p)).into()).reading(&["start_ticks"]).by_number(BY_START_IN_TIME).combining(Combine::Least),
    entry("age", "process.uptime", "age", Seconds, Level,
        "Time since it started, suspend included. A young process in an old service was restarted.",
        "/proc/PID/stat starttime", |p| age(p).into()).reading(&["start_ticks"]).by_number(BY_START),
    entry("pss", "dozor.process.memory.proportional", "pss", Bytes, Level,
        "Resident memory with shared parts divided among those who share them: these add up over processes. Reading it costs the kernel a walk over the whole address space.",
        "/proc/PID/smaps_rollup Pss", |p| p.now.pss_bytes.into()).reading(&["pss_bytes"]).needing(Demand::Proportional),
    entry("net_in", "process.network.io{network.io.direction=receive}", "net in/s", BytesPerSecond, Rate,
        "Bytes received over TCP and UDP, headers excluded. Bytes over UDP are counted where programs in the kernel may, while the machine moves many datagrams (see udp_in); else whoever holds a UDP socket has at least so much (≥), and unknown where nothing came over TCP.",
        "socket diagnostics tcpi_bytes_received; tracepoint sock_recv_length", moved_in).reading(&["net_in_bytes", "udp_in_bytes", "datagram_sockets", "shared_sockets", "run_ns", "user_ticks", "system_ticks"]).at_least(misses_traffic).needing(Demand::Sockets),
    entry("net_out", "process.network.io{network.io.direction=transmit}", "net out/s", BytesPerSecond, Rate,
        "Bytes sent over TCP, each once though it may be sent again, acknowledged or not, and over UDP, headers excluded. Bytes over UDP are counted where programs in the kernel may, while the machine moves many datagrams (see udp_out); else whoever holds a UDP socket has at least so much (≥), and unknown where nothing went over TCP.",
        "socket diagnostics tcpi_bytes_sent − tcpi_bytes_retrans; tracepoint sock_send_length", moved_out).reading(&["net_out_bytes", "net_in_bytes", "udp_out_bytes", "udp_in_bytes", "datagram_sockets", "shared_sockets", "run_ns", "user_ticks", "system_ticks"]).at_least(misses_traffic).needing(Demand::Sockets),
    entry("net", "process.network.io", "net/s", BytesPerSecond, Rate,
        "Bytes received and sent over TCP and UDP together, headers excluded. Where bytes over UDP are not counted, whoever holds a UDP socket has at least so much (≥), and unknown where nothing moved over TCP; of who came and went between two readings and used UDP, those over TCP may be missing (≥). Where connections opened here ended before a reading saw whose they were, every process that ran in that sample has at least so much.",
        "socket diagnostics; tracepoints sock_recv_length, sock_send_length", moved).reading(&["net_in_bytes", "net_out_bytes", "udp_in_bytes", "udp_out_bytes", "datagram_sockets", "shared_sockets", "run_ns", "user_ticks", "system_ticks"]).at_least(misses_traffic).needing(Demand::Sockets),
    entry("udp_in", "dozor.process.network.udp.io{network.io.direction=receive}", "UDP in/s", BytesPerSecond, Rate,
        "Bytes received over UDP, headers excluded, as calls hand them over: what was dropped before is not in it. At least so much (≥) in a sample in which the kernel let some calls pass uncounted. Known where programs in the kernel may count them, from Linux 6.3 on.",
        "tracepoint sock_recv_length", |p| p.rate(|r| r.udp_in_bytes).into()).reading(&["udp_in_bytes", "udp_out_bytes"]).at_least(misses_calls).needing(Demand::Datagrams),
    entry("udp_out", "dozor.process.network.udp.io{network.io.direction=transmit}", "UDP out/s", BytesPerSecond, Rate,
        "Bytes sent over UDP, headers excluded, whether they arrived or not. At least so much (≥) in a sample in which the kernel let some calls pass uncounted. Known where programs in the kernel may count them, from Linux 6.3 on.",
        "tracepoint sock_send_length", |p| p.rate(|r| r.udp_out_bytes).into()).reading(&["udp_in_bytes", "udp_out_bytes"]).at_least(misses_calls).needing(Demand::Datagrams),
    entry("connections", "dozor.process.network.connection.count", "sockets", Number, Level,
        "TCP sockets of the process, listening ones included. A number that only grows is a leak.",
        "socket diagnostics", |p| p.now.connections.into()).reading(&["connections"]).needing(Demand::Sockets).combining(Combine::Sum),
    entry("udp_sockets", "dozor.process.network.udp.socket.count", "UDP sockets", Number, Level,
        "UDP sockets of the process. The kernel itself counts neither bytes nor datagrams for them; see udp_in.",
        "socket diagnostics", |p| p.now.datagram_sockets.into()).reading(&["datagram_sockets"]).needing(Demand::Sockets).combining(Combine::Sum),
    entry("udp_drops", "dozor.process.network.udp.dropped", "UDP drops/s", PerSecond, Rate,
        "Datagrams that came for it and were dropped because its queue was full: it reads too slowly, or too many come at once. Nobody tells the sender.",
        "socket diagnostics SK_MEMINFO_DROPS", |p| p.rate(|r| r.datagram_drops).into()).reading(&["datagram_drops"]).needing(Demand::Sockets),
    entry("shared_sockets", "dozor.process.network.socket.shared", "shared sockets", Number, Level,
        "Sockets of the process that others hold as well. Their bytes are counted for the youngest of the holders that ran, since who serves a connection is mostly a child of who accepted it.",
        "/proc/PID/fd", |p| p.now.shared_sockets.into()).reading(&["shared_sockets"]).needing(Demand::Sockets).combining(Combine::Sum),
    entry("port", "dozor.process.network.port", "port", Number, Label,
        "Port that it listens on, of several the lowest. In expressions it is any port of its sockets, on this side or the other: port = 443.",
        "socket diagnostics", |p| p.sample.ports().listening(p.now.pid)).reading(&["pid"]).needing(Demand::Sockets).several(|p| p.sample.ports().of(p.now.pid)),
    entry("net_namespace", "dozor.process.network.namespace", "net namespace", Number, Label,
        "Network namespace, where it is another than Dozor's own; 0 where it is the same. A container mostly has its own, with its own interfaces, addresses and ports.",
        "/proc/PID/ns/net", |p| p.now.net_namespace.into()).reading(&["net_namespace"]).needing(Demand::Sockets),
    entry("files", "process.unix.file_descriptor.count", "files", Number, Level,
        "Open files, sockets and pipes included. A number that only grows is a leak and ends at the limit.",
        "/proc/PID/fd", |p| p.now.files.into()).reading(&["files"]).needing(Demand::Files).combining(Combine::Sum),
    entry("files_limit", "dozor.process.unix.file_descriptor.limit", "files at most", Number, Level,
        "Most files that it may have open; the program itself may raise it up to a higher limit.",
        "/proc/PID/limits Max open files", |p| p.now.files_limit.into()).reading(&["files_limit"]).needing(Demand::Files),
    entry("files_used", "dozor.process.unix.file_descriptor.utilization", "files used", Percent, Level,
        "Open files against the limit of the process. At 100 it can open nothing more, accept no connection and start no program.",
        "/proc/PID/fd, /proc/PID/limits", |p| limits::usage(p.now.files, p.now.files_limit).into()).reading(&["files", "files_limit"]).needing(Demand::Files).combining(Combine::Most),
    entry("cpu_throttled", "dozor.process.linux.cgroup.cpu.throttled", "held back", Percent, Rate,
        "Share of the periods in which its control group had used up the CPU time that it may use, and was held back. The machine may be idle meanwhile. Of several groups above each other the one that was held back most.",
        "cpu.stat nr_throttled, nr_periods", |p| limits::most_throttled(p).into()).reading(&["limits"]).needing(Demand::ControlGroup).combining(Combine::Most),
    entry("limit_cpu", "dozor.process.linux.cgroup.cpu.limit", "cpu at most", PercentOfCore, Level,
        "CPU time that its control group may use, all its processes together, in percent of one core. Of several groups above each other the strictest.",
        "cpu.max", |p| limits::strictest(p, limits::cpu_limit).into()).reading(&["limits"]).needing(Demand::ControlGroup).combining(Combine::Least),
    entry("limit_memory", "dozor.process.linux.cgroup.memory.limit", "mem at most", Bytes, Level,
        "Memory that its control group may hold, all its processes and their caches together. Of several groups above each other the strictest.",
        "memory.max", |p| limits::strictest(p, |g| g.memory_limit.float()).into()).reading(&["limits"]).needing(Demand::ControlGroup).combining(Combine::Least),
    entry("memory_used", "dozor.process.linux.cgroup.memory.utilization", "of mem limit", Percent, Level,
        "Memory of its control group against its limit. Caches are in it and are given back; when nothing can be given back, the kernel ends a process of the group.",
        "memory.current, memory.max", |p| limits::nearest(p, |g| (g.memory_bytes, g.memory_limit)).into()).reading(&["limits"]).needing(Demand::ControlGroup).combining(Combine::Most),
    entry("limit_tasks", "dozor.process.linux.cgroup.tasks.limit", "tasks at most", Number, Level,
        "Processes and threads that its control group may have. Of several groups above each other the strictest.",
        "pids.max", |p| limits::strictest(p, |g| g.tasks_limit.float()).into()).reading(&["limits"]).needing(Demand::ControlGroup).combining(Combine::Least),
    entry("tasks_used", "dozor.process.linux.cgroup.tasks.utilization", "tasks used", Percent, Level,
        "Processes and threads of its control group against its limit. At 100 no process of the group can start another or a thread.",
        "pids.current, pids.max", |p| limits::nearest(p, |g| (g.tasks, g.tasks_limit)).into()).reading(&["limits"]).needing(Demand::ControlGroup).combining(Combine::Most),
    entry("replaced", "dozor.process.executable.replaced", "replaced", Number, Label,
        "1 where the executable was replaced or removed since the program started: it still runs the old one. Usual after an update, until the service is restarted.",
        "/proc/PID/exe", |p| p.now.replaced.into()).reading(&["replaced"]),
    entry("tty", "dozor.process.tty", "terminal", Text, Label,
        "Terminal that controls it. A service has none.",
        "/proc/PID/stat tty_nr", |p| (&p.now.tty).into()).reading(&["tty"]),
    entry("session", "process.session_leader.pid", "session", Number, Label,
        "Number of its session: all that was started from one terminal. It is the PID of the session's leader.",
        "/proc/PID/stat session", |p| p.now.session.into()).reading(&["session"]),
    entry("cgroup", "process.linux.cgroup", "cgroup", Text, Label,
        "Control group: whose share of the machine it counts against. Processes move between groups only when somebody moves them.",
        "/proc/PID/cgroup", |p| (&p.now.cgroup).into()).reading(&["cgroup"]).needing(Demand::ControlGroup),
    entry("service", "dozor.process.service", "service", Text, Label,
        "Service, session or container that the control group stands for. A process that was started by hand belongs to a session.",
        "/proc/PID/cgroup", |p| (&p.now.service).into()).reading(&["service"]).needing(Demand::ControlGroup),
    entry("mounts", "dozor.process.filesystem.mountpoints", "mounts", Text, Label,
        "File systems that it has open files, its working directory or its executable on. Files that are only mapped into memory are not looked for.",
        "/proc/PID/fd, cwd, exe", |p| match Value::from(&p.now.mounts) {
            // Whose input and output may not be seen does not show its files either.
            Value::Absent if p.now.read_bytes == Raw::DENIED => Value::Denied,
            mounts => mounts,
        }).reading(&["mounts", "read_bytes"]).needing(Demand::Mounts),
    entry("container", "dozor.container.name", "container", Text, Label,
        "Container that it runs in: its name where that can be known, else the first digits of its number. Programs outside of containers have none.",
        "/proc/PID/cgroup", |p| (&p.now.container).into()).reading(&["container"]).needing(Demand::ControlGroup),
    entry("oom_score", "dozor.process.oom_score", "oom score", Number, Level,
        "How likely the kernel ends it first when memory runs out, up to 2000. It follows the memory in use and an adjustment that services set.",
        "/proc/PID/oom_score", |p| p.now.oom_score.into()).reading(&["oom_score"]).needing(Demand::OomScore).combining(Combine::Most),
    entry("wait_on", "dozor.process.wait_channel", "waits in", Text, Label,
        "Function of the kernel that it sleeps in. It tells what a blocked process waits for.",
        "/proc/PID/wchan", |p| (&p.now.wait_on).into()).reading(&["wait_on"]).needing(Demand::WaitChannel),
    entry("gpu", "dozor.process.gpu.utilization", "gpu %", Percent, Rate,
        "Time that engines of graphics processors worked for it. Several engines at once pass 100.",
        "/proc/PID/fdinfo drm-engine-*", |p| Value::from(p.rate(|r| r.gpu_ns).map(|ns| ns / 1e7))).reading(&["gpu_ns"]).needing(Demand::Gpu),
    entry("gpu_memory", "dozor.process.gpu.memory.usage", "gpu mem", Bytes, Level,
        "Memory of graphics processors that it holds. Memory shared between processes is counted for each.",
        "/proc/PID/fdinfo drm-memory-*", |p| p.now.gpu_memory_bytes.into()).reading(&["gpu_memory_bytes"]).needing(Demand::Gpu),
];
