//! What the kernel has counted since the machine or a process started: for those who reckon rates themselves. Names, units and
//! attributes are those of the OpenTelemetry semantic conventions where they have one; units are UCUM's.

use super::system::one;
use super::{Instances, Value};
use crate::known::{Known, Raw};
use crate::reading::{CoreRow, DiskRow, InterfaceRow, Reading, SystemRow};
use crate::sample::{ProcessView, Sample};
use crate::text::Text;

/// How a total is got.
#[derive(Clone, Copy)]
pub enum CounterOf {
    /// From the machine.
    System(fn(&Sample) -> Instances),
    /// From one process.
    Process(fn(&ProcessView<'_>) -> Value),
    /// The sum over time of this metric of a process, kept since it was first seen: what the kernel counts there is something else.
    Summed(&'static str),
}

/// A total since the machine or the process started.
pub struct Counter {
    /// Its name with attributes, written as in [`super::Metric::name`].
    pub name: &'static str,
    /// Its unit by UCUM.
    pub unit: &'static str,
    /// What it counts.
    pub help: &'static str,
    /// Aliases of the metrics that are its rates.
    pub rates: &'static [&'static str],
    /// How it is got.
    pub of: CounterOf,
}

fn seconds(sample: &Sample, ticks: Raw) -> Known<f64> {
    ticks.float().map(|ticks| ticks / f64::from(sample.host.ticks_per_second.max(1)))
}

fn cores(sample: &Sample, class: fn(&CoreRow) -> Raw) -> Instances {
    let rows = sample.now.cores.iter();
    let value = |row: &CoreRow| Value::from(seconds(sample, class(row)));
    let number = |row: &CoreRow| Text::from(row.number.value().unwrap_or(-1).to_string());
    Instances::Many(rows.map(|row| (number(row), value(row))).collect())
}

fn disks(sample: &Sample, value: fn(&DiskRow) -> Known<f64>) -> Instances {
    Instances::Many(sample.now.disks.iter().map(|row| (row.name.clone(), value(row).into())).collect())
}

fn interfaces(sample: &Sample, value: fn(&InterfaceRow) -> Raw) -> Instances {
    let rows = sample.now.interfaces.iter();
    Instances::Many(rows.map(|row| (row.name.clone(), value(row).float().into())).collect())
}

/// The same for any parts, with a factor.
fn each<R>(
    sample: &Sample,
    rows: fn(&Reading) -> &[R],
    name: fn(&R) -> Text,
    value: fn(&R) -> Raw,
    factor: f64,
) -> Instances {
    let all = rows(&sample.now).iter();
    Instances::Many(
        all.map(|row| (name(row), value(row).float().map(|value| value * factor).into())).collect(),
    )
}

fn machine(sample: &Sample, value: fn(&SystemRow) -> Raw, factor: f64) -> Instances {
    one(value(&sample.now.system).float().map(|value| value * factor))
}

fn ms(value: Raw) -> Known<f64> {
    value.float().map(|ms| ms / 1e3)
}

fn ticks(view: &ProcessView<'_>, value: Raw) -> Value {
    seconds(view.sample, value).into()
}

/// What a process has moved over the network, where that is known.
fn moved(view: &ProcessView<'_>, value: Raw) -> Value {
    // The kernel counts datagrams for nobody: of who holds such sockets only the least is known, which is no total.
    if view.now.datagram_sockets.value().is_some_and(|count| count > 0) {
        Value::Absent
    } else {
        value.into()
    }
}

use CounterOf::{Process, Summed, System};

const CPU: &str = "Time that each logical processor spent in each mode.";
const DISK: &str = "Bytes that were read from and written to the device.";
const REQUESTS: &str = "Requests that the device has done.";
const TOOK: &str = "Time that requests took, summed over requests.";
const NET: &str = "Bytes that the interface received and sent.";
const PACKETS: &str = "Packets that the interface received and sent.";
const ERRORS: &str = "Errors in receiving and sending.";
const DROPS: &str = "Packets that were dropped without an error.";
const STALL: &str =
    "Time in which tasks waited for the resource: some of them, or all that had something to do.";
const PAGING: &str = "Bytes moved in from and out to swap.";

/// All totals.
#[rustfmt::skip]
pub static COUNTERS: &[Counter] = &[
    Counter { name: "system.cpu.time{cpu.logical_number=*,cpu.mode=user}", unit: "s", help: CPU, rates: &["core.user", "cpu.user"], of: System(|s| cores(s, |c| c.user)) },
    Counter { name: "system.cpu.time{cpu.logical_number=*,cpu.mode=nice}", unit: "s", help: CPU, rates: &["core.nice", "cpu.nice"], of: System(|s| cores(s, |c| c.nice)) },
    Counter { name: "system.cpu.time{cpu.logical_number=*,cpu.mode=system}", unit: "s", help: CPU, rates: &["core.system", "cpu.system"], of: System(|s| cores(s, |c| c.system)) },
    Counter { name: "system.cpu.time{cpu.logical_number=*,cpu.mode=idle}", unit: "s", help: CPU, rates: &["cpu.idle"], of: System(|s| cores(s, |c| c.idle)) },
    Counter { name: "system.cpu.time{cpu.logical_number=*,cpu.mode=iowait}", unit: "s", help: CPU, rates: &["core.iowait", "cpu.iowait"], of: System(|s| cores(s, |c| c.iowait)) },
    Counter { name: "system.cpu.time{cpu.logical_number=*,cpu.mode=interrupt}", unit: "s", help: CPU, rates: &["core.irq", "cpu.irq"], of: System(|s| cores(s, |c| c.irq)) },
    Counter { name: "system.cpu.time{cpu.logical_number=*,cpu.mode=softirq}", unit: "s", help: CPU, rates: &["core.softirq", "cpu.softirq"], of: System(|s| cores(s, |c| c.softirq)) },
    Counter { name: "system.cpu.time{cpu.logical_number=*,cpu.mode=steal}", unit: "s", help: CPU, rates: &["core.steal", "cpu.steal"], of: System(|s| cores(s, |c| c.steal)) },
    Counter { name: "system.process.created", unit: "{process}", help: "Processes and threads that were started.", rates: &["forks"], of: System(|s| machine(s, |m| m.forks, 1.0)) },
    Counter { name: "dozor.system.context_switches", unit: "{context_switch}", help: "Changes from one task to another.", rates: &["switches"], of: System(|s| machine(s, |m| m.switches, 1.0)) },
    Counter { name: "dozor.system.interrupts", unit: "{interrupt}", help: "Interrupts that were served.", rates: &["interrupts"], of: System(|s| machine(s, |m| m.interrupts, 1.0)) },
    Counter { name: "system.paging.faults{system.paging.fault.type=major}", unit: "{fault}", help: "Page faults that had to wait for a disk.", rates: &["faults.major"], of: System(|s| machine(s, |m| m.faults_major, 1.0)) },
    Counter { name: "dozor.system.paging.io{system.paging.direction=in}", unit: "By", help: PAGING, rates: &["swap.in"], of: System(|s| machine(s, |m| m.swap_in, 1.0)) },
    Counter { name: "dozor.system.paging.io{system.paging.direction=out}", unit: "By", help: PAGING, rates: &["swap.out"], of: System(|s| machine(s, |m| m.swap_out, 1.0)) },
    Counter { name: "dozor.system.linux.oom_kills", unit: "{process}", help: "Processes that the kernel ended because memory ran out.", rates: &["oom.kills"], of: System(|s| machine(s, |m| m.oom_kills, 1.0)) },
    Counter { name: "dozor.system.linux.pressure.time{dozor.system.resource=cpu,dozor.pressure.kind=some}", unit: "s", help: STALL, rates: &["pressure.cpu.some"], of: System(|s| machine(s, |m| m.pressure_cpu_some, 1e-6)) },
    Counter { name: "dozor.system.linux.pressure.time{dozor.system.resource=cpu,dozor.pressure.kind=full}", unit: "s", help: STALL, rates: &["pressure.cpu.full"], of: System(|s| machine(s, |m| m.pressure_cpu_full, 1e-6)) },
    Counter { name: "dozor.system.linux.pressure.time{dozor.system.resource=memory,dozor.pressure.kind=some}", unit: "s", help: STALL, rates: &["pressure.memory.some"], of: System(|s| machine(s, |m| m.pressure_memory_some, 1e-6)) },
    Counter { name: "dozor.system.linux.pressure.time{dozor.system.resource=memory,dozor.pressure.kind=full}", unit: "s", help: STALL, rates: &["pressure.memory.full"], of: System(|s| machine(s, |m| m.pressure_memory_full, 1e-6)) },
    Counter { name: "dozor.system.linux.pressure.time{dozor.system.resource=io,dozor.pressure.kind=some}", unit: "s", help: STALL, rates: &["pressure.io.some"], of: System(|s| machine(s, |m| m.pressure_io_some, 1e-6)) },
    Counter { name: "dozor.system.linux.pressure.time{dozor.system.resource=io,dozor.pressure.kind=full}", unit: "s", help: STALL, rates: &["pressure.io.full"], of: System(|s| machine(s, |m| m.pressure_io_full, 1e-6)) },
    Counter { name: "system.disk.io{system.device=*,disk.io.direction=read}", unit: "By", help: DISK, rates: &["disk.read"], of: System(|s| disks(s, |d| d.read_bytes.float())) },
    Counter { name: "system.disk.io{system.device=*,disk.io.direction=write}", unit: "By", help: DISK, rates: &["disk.write"], of: System(|s| disks(s, |d| d.write_bytes.float())) },
    Counter { name: "system.disk.operations{system.device=*,disk.io.direction=read}", unit: "{operation}", help: REQUESTS, rates: &["disk.reads"], of: System(|s| disks(s, |d| d.reads.float())) },
    Counter { name: "system.disk.operations{system.device=*,disk.io.direction=write}", unit: "{operation}", help: REQUESTS, rates: &["disk.writes"], of: System(|s| disks(s, |d| d.writes.float())) },
    Counter { name: "system.disk.operation_time{system.device=*,disk.io.direction=read}", unit: "s", help: TOOK, rates: &[], of: System(|s| disks(s, |d| ms(d.read_ms))) },
    Counter { name: "system.disk.operation_time{system.device=*,disk.io.direction=write}", unit: "s", help: TOOK, rates: &[], of: System(|s| disks(s, |d| ms(d.write_ms))) },
    Counter { name: "system.disk.io_time{system.device=*}", unit: "s", help: "Time in which the device had at least one request in flight.", rates: &["disk.busy"], of: System(|s| disks(s, |d| ms(d.busy_ms))) },
    Counter { name: "system.network.io{network.interface.name=*,network.io.direction=receive}", unit: "By", help: NET, rates: &["net.in"], of: System(|s| interfaces(s, |i| i.in_bytes)) },
    Counter { name: "system.network.io{network.interface.name=*,network.io.direction=transmit}", unit: "By", help: NET, rates: &["net.out"], of: System(|s| interfaces(s, |i| i.out_bytes)) },
    Counter { name: "system.network.packet.count{network.interface.name=*,network.io.direction=receive}", unit: "{packet}", help: PACKETS, rates: &["net.packets_in"], of: System(|s| interfaces(s, |i| i.in_packets)) },
    Counter { name: "system.network.packet.count{network.interface.name=*,network.io.direction=transmit}", unit: "{packet}", help: PACKETS, rates: &["net.packets_out"], of: System(|s| interfaces(s, |i| i.out_packets)) },
    Counter { name: "system.network.errors{network.interface.name=*,network.io.direction=receive}", unit: "{error}", help: ERRORS, rates: &["net.errors"], of: System(|s| interfaces(s, |i| i.in_errors)) },
    Counter { name: "system.network.errors{network.interface.name=*,network.io.direction=transmit}", unit: "{error}", help: ERRORS, rates: &["net.errors"], of: System(|s| interfaces(s, |i| i.out_errors)) },
    Counter { name: "system.network.packet.dropped{network.interface.name=*,network.io.direction=receive}", unit: "{packet}", help: DROPS, rates: &["net.drops"], of: System(|s| interfaces(s, |i| i.in_drops)) },
    Counter { name: "system.network.packet.dropped{network.interface.name=*,network.io.direction=transmit}", unit: "{packet}", help: DROPS, rates: &["net.drops"], of: System(|s| interfaces(s, |i| i.out_drops)) },
    Counter { name: "dozor.system.network.tcp.retransmissions", unit: "{segment}", help: "TCP segments that were sent again.", rates: &["tcp.retransmits"], of: System(|s| machine(s, |m| m.tcp_retransmits, 1.0)) },
    Counter { name: "dozor.system.network.udp.errors", unit: "{datagram}", help: "Datagrams that could not be delivered.", rates: &["udp.errors"], of: System(|s| machine(s, |m| m.udp_errors, 1.0)) },
    Counter { name: "dozor.system.network.udp.datagrams{network.io.direction=receive}", unit: "{datagram}", help: "Datagrams that were delivered and sent.", rates: &["udp.in"], of: System(|s| machine(s, |m| m.udp_in, 1.0)) },
    Counter { name: "dozor.system.network.udp.datagrams{network.io.direction=transmit}", unit: "{datagram}", help: "Datagrams that were delivered and sent.", rates: &["udp.out"], of: System(|s| machine(s, |m| m.udp_out, 1.0)) },
    Counter { name: "dozor.system.cpu.throttled{cpu.logical_number=*}", unit: "{event}", help: "Times that the core or its package slowed down because of heat.", rates: &["cpu.throttled"], of: System(|s| each(s, |r| &r.cores, |c| Text::from(c.number.value().unwrap_or(-1).to_string()), |c| c.throttles, 1.0)) },
    Counter { name: "dozor.system.cgroup.cpu.time{dozor.linux.cgroup=*}", unit: "s", help: "CPU time of the control group.", rates: &["group.cpu"], of: System(|s| each(s, |r| &r.groups, |g| g.path.clone(), |g| g.cpu_us, 1e-6)) },
    Counter { name: "dozor.system.cgroup.memory.limit.events{dozor.linux.cgroup=*}", unit: "{event}", help: "Times that the control group met its limit of memory.", rates: &["group.at_limit"], of: System(|s| each(s, |r| &r.groups, |g| g.path.clone(), |g| g.at_limit, 1.0)) },
    Counter { name: "dozor.system.cgroup.memory.oom_kills{dozor.linux.cgroup=*}", unit: "{process}", help: "Processes of the control group that the kernel ended because its memory ran out.", rates: &["group.oom_kills"], of: System(|s| each(s, |r| &r.groups, |g| g.path.clone(), |g| g.oom_kills, 1.0)) },
    Counter { name: "dozor.system.cgroup.disk.io{dozor.linux.cgroup=*,disk.io.direction=read}", unit: "By", help: "Bytes that the control group read from and wrote to devices.", rates: &["group.read"], of: System(|s| each(s, |r| &r.groups, |g| g.path.clone(), |g| g.read_bytes, 1.0)) },
    Counter { name: "dozor.system.cgroup.disk.io{dozor.linux.cgroup=*,disk.io.direction=write}", unit: "By", help: "Bytes that the control group read from and wrote to devices.", rates: &["group.write"], of: System(|s| each(s, |r| &r.groups, |g| g.path.clone(), |g| g.write_bytes, 1.0)) },
    Counter { name: "dozor.nfs.client.io{system.filesystem.mountpoint=*,disk.io.direction=read}", unit: "By", help: "Bytes that came from and went to the server of the network file system.", rates: &["nfs.read"], of: System(|s| each(s, |r| &r.remotes, |r| r.mount.clone(), |r| r.read_bytes, 1.0)) },
    Counter { name: "dozor.nfs.client.io{system.filesystem.mountpoint=*,disk.io.direction=write}", unit: "By", help: "Bytes that came from and went to the server of the network file system.", rates: &["nfs.write"], of: System(|s| each(s, |r| &r.remotes, |r| r.mount.clone(), |r| r.write_bytes, 1.0)) },
    Counter { name: "dozor.nfs.client.operation.count{system.filesystem.mountpoint=*}", unit: "{operation}", help: "Operations of the network file system that ended.", rates: &["nfs.operations"], of: System(|s| each(s, |r| &r.remotes, |r| r.mount.clone(), |r| r.operations, 1.0)) },
    Counter { name: "dozor.nfs.client.rpc.timeout.count{system.filesystem.mountpoint=*}", unit: "{request}", help: "Requests that the server of the network file system did not answer in time.", rates: &["nfs.timeouts"], of: System(|s| each(s, |r| &r.remotes, |r| r.mount.clone(), |r| r.timeouts, 1.0)) },
    Counter { name: "process.cpu.time{cpu.mode=user}", unit: "s", help: "CPU time that the process used.", rates: &["cpu_user"], of: Process(|p| ticks(p, p.now.user_ticks)) },
    Counter { name: "process.cpu.time{cpu.mode=system}", unit: "s", help: "CPU time that the process used.", rates: &["cpu_system", "cpu_time"], of: Process(|p| ticks(p, p.now.system_ticks)) },
    Counter { name: "process.disk.io{disk.io.direction=read}", unit: "By", help: "Bytes that the process fetched from storage since it started, and sent towards it since Dozor first saw it.", rates: &["read"], of: Process(|p| p.now.read_bytes.into()) },
    Counter { name: "process.disk.io{disk.io.direction=write}", unit: "By", help: "Bytes that the process fetched from storage since it started, and sent towards it since Dozor first saw it.", rates: &["write"], of: Summed("write") },
    Counter { name: "dozor.process.disk.dirtied", unit: "By", help: "Bytes of pages that the process made dirty: a page that is rewritten counts each time.", rates: &["dirtied"], of: Process(|p| p.now.write_bytes.into()) },
    Counter { name: "process.paging.faults{system.paging.fault.type=minor}", unit: "{fault}", help: "Page faults of the process.", rates: &["faults_minor"], of: Process(|p| p.now.faults_minor.into()) },
    Counter { name: "process.paging.faults{system.paging.fault.type=major}", unit: "{fault}", help: "Page faults of the process.", rates: &["faults_major"], of: Process(|p| p.now.faults_major.into()) },
    Counter { name: "process.context_switches{process.context_switch.type=voluntary}", unit: "{context_switch}", help: "Times that the process gave up or lost the CPU.", rates: &["switches_wait"], of: Process(|p| p.now.switches_wait.into()) },
    Counter { name: "process.context_switches{process.context_switch.type=involuntary}", unit: "{context_switch}", help: "Times that the process gave up or lost the CPU.", rates: &["switches_forced"], of: Process(|p| p.now.switches_forced.into()) },
    Counter { name: "process.network.io{network.io.direction=receive}", unit: "By", help: "Bytes over TCP, headers excluded; unknown for who holds UDP sockets.", rates: &["net_in"], of: Process(|p| moved(p, p.now.net_in_bytes)) },
    Counter { name: "process.network.io{network.io.direction=transmit}", unit: "By", help: "Bytes over TCP, headers excluded; unknown for who holds UDP sockets.", rates: &["net_out"], of: Process(|p| moved(p, p.now.net_out_bytes)) },
];
