//! How bad something is, and from which values on.

use crate::catalogue::{disk_busy, disk_wait, link_usage, listed, remote_time};
use crate::known::Known;
use crate::limits::{throttled, usage};
use crate::reading::{BatteryRow, DiskRow, FilesystemRow, GroupRow, InterfaceRow, RemoteRow, SensorRow};
use crate::sample::{PartView, Sample};
use crate::sorting::ColdSort as _;
use serde::{Deserialize, Serialize};

/// How bad it is. Ordered from fine to critical.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
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
    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            Severity::Fine => "fine",
            Severity::Notice => "notice",
            Severity::Warning => "warning",
            Severity::Critical => "critical",
        }
    }

    /// Its sign on the screen.
    pub const fn sign(self) -> char {
        match self {
            Severity::Fine => '·',
            Severity::Notice => '◇',
            Severity::Warning => '▲',
            Severity::Critical => '◆',
        }
    }

    /// The highest of three limits, for notice, warning and critical, that a value reaches.
    pub(crate) fn reached(value: f64, [notice, warning, critical]: [f64; 3]) -> Severity {
        match value {
            v if v >= critical => Severity::Critical,
            v if v >= warning => Severity::Warning,
            v if v >= notice => Severity::Notice,
            _ => Severity::Fine,
        }
    }
}

/// Busy share of the CPU, by work that does not give way to others, at which it is worth a notice. Use alone harms nobody: who
/// waits is found out over time (`findings::rules::cpu_queue`).
pub(super) const CPU: [f64; 3] = [90.0, f64::INFINITY, f64::INFINITY];
/// Percent of memory that is in use and cannot be given back.
pub const MEMORY: [f64; 3] = [88.0, 94.0, 97.5];
/// From where on a disk is busy, and waits are long.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct DiskLimits {
    /// Busy share of a disk without moving parts: it does several things at once, so a high share alone says less.
    pub solid: [f64; 3],
    /// Busy share of a disk that turns.
    pub turning: [f64; 3],
    /// Seconds that requests take on the mean.
    pub wait: [f64; 3],
}

/// From where on disks are busy for the lane.
pub const DISKS: DiskLimits =
    DiskLimits { solid: [80.0, 90.0, 97.0], turning: [60.0, 80.0, 90.0], wait: [0.1, 0.3, 1.0] };
/// Percent of a link's speed in the busier direction: a full link harms who shares it, and loses nothing by itself.
pub const NETWORK: [f64; 3] = [70.0, 90.0, f64::INFINITY];
/// Degrees left to the sensor's limit, from near to nearer.
pub const NEAR_HEAT: [f64; 3] = [20.0, 12.0, 5.0];
/// How full a file system is, in bytes or inodes.
pub const FULL: [f64; 3] = [85.0, 92.0, 97.0];
/// Errors and drops per second of an interface.
const ERRORS: [f64; 3] = [1e-9, 10.0, 1_000.0];
/// Seconds that an operation of a network file system takes.
pub const SLOW_SERVER: [f64; 3] = [0.2, 1.0, 5.0];
/// Percent of the periods in which a control group is held back.
const HELD_BACK: [f64; 3] = [25.0, 75.0, f64::INFINITY];
/// Percent of a number of tasks that may not be passed.
const NEAR_LIMIT: [f64; 3] = [90.0, 98.0, f64::INFINITY];
/// Percent of the charge that a battery has left while it discharges.
pub const CHARGE: [f64; 3] = [25.0, 15.0, 7.0];

fn of(value: Known<f64>, limits: [f64; 3]) -> Severity {
    value.value().map_or(Severity::Fine, |value| Severity::reached(value, limits))
}

/// The same where less is worse.
fn below(value: Known<f64>, limits: [f64; 3]) -> Severity {
    of(value.map(|value| -value), limits.map(|limit| -limit))
}

/// How bad it is with a disk: its busy share counts by its kind, and waiting makes a busy one worse.
pub fn disk_severity(disk: &PartView<'_, DiskRow>, by: &DiskLimits) -> Severity {
    let busy = disk_busy(disk);
    let waits = of(disk_wait(disk), by.wait);
    let limits = if disk.now.rotational.value() == Some(1) { by.turning } else { by.solid };
    let slow = disk_wait(disk).value().is_some_and(|seconds| seconds >= 0.02);
    match of(busy, limits) {
        // Busy and slow at once: requests queue up whatever the device is made of.
        Severity::Notice | Severity::Warning if slow => Severity::Critical,
        // Long waits of a few requests on an idle device hurt nobody.
        Severity::Fine if busy.value().unwrap_or(0.0) < 30.0 => Severity::Fine,
        severity => severity.max(waits),
    }
}

/// How bad it is with a file system: full in bytes or in inodes, or not answering.
pub fn filesystem_severity(filesystem: &FilesystemRow, by: [f64; 3]) -> Severity {
    if filesystem.answers.value() == Some(0) {
        // Whose program serves its files is somebody's own affair; a disk or a server is everybody's.
        return if filesystem.kind.starts_with("fuse") { Severity::Warning } else { Severity::Critical };
    }
    let full = |part: Known<f64>, rest: Known<f64>| match part.zip(rest) {
        Known::Value((part, rest)) if part + rest > 0.0 => {
            Severity::reached(part / (part + rest) * 100.0, by)
        }
        _ => Severity::Fine,
    };
    let inodes = filesystem.inodes.float().zip(filesystem.inodes_free.float()).map(|(all, free)| all - free);
    full(filesystem.used.float(), filesystem.available.float())
        .max(full(inodes, filesystem.inodes_free.float()))
}

/// How bad it is with a network file system: operations take long, or the server does not answer in time.
pub fn remote_severity(remote: &PartView<'_, RemoteRow>, by: [f64; 3]) -> Severity {
    let unanswered = remote.rate(|r| r.timeouts).value().is_some_and(|rate| rate > 0.0);
    let slow = of(remote_time(remote, |r| r.whole_ms), by);
    if unanswered { slow.max(Severity::Warning) } else { slow }
}

/// How bad it is with a control group: held back, its tasks or its memory at the limit. Caches fill a group as they fill a
/// machine; it is short where something had to be taken away.
pub fn group_severity(group: &PartView<'_, GroupRow>) -> Severity {
    let grows = |rate: Known<f64>| rate.value().is_some_and(|rate| rate > 0.0);
    let held = of(throttled(group), HELD_BACK);
    let tasks = of(usage(group.now.tasks, group.now.tasks_limit), NEAR_LIMIT);
    let memory = match (grows(group.rate(|g| g.oom_kills)), grows(group.rate(|g| g.at_limit))) {
        (true, _) => Severity::Critical,
        (_, true) => Severity::Notice,
        _ => Severity::Fine,
    };
    held.max(tasks).max(memory)
}

/// How bad it is with errors and drops of an interface.
pub(super) fn errors_severity(interface: &PartView<'_, InterfaceRow>) -> Severity {
    let errors = interface.rate(|i| i.in_errors).zip(interface.rate(|i| i.out_errors));
    of(errors.map(|(a, b)| a + b), ERRORS)
}

/// How bad it is with an interface: its link is full, or it has errors or drops.
pub fn interface_severity(interface: &PartView<'_, InterfaceRow>) -> Severity {
    of(link_usage(interface), NETWORK).max(errors_severity(interface))
}

/// How bad it is with what TCP has to send again, per second of the machine.
pub const RESENT: [f64; 3] = [5.0, 25.0, 200.0];
/// How bad it is with UDP datagrams that arrived and were not delivered, per second of the machine.
pub const UNDELIVERED: [f64; 3] = [1.0, 50.0, 500.0];

/// How bad it is with the protocols: their kinds of trouble that are there, in words, the worst first.
pub(super) fn protocols(sample: &Sample) -> Vec<(Severity, String)> {
    let per_second = |rate: f64| format!("{}/s", crate::units::short_count(rate));
    // What a socket of a process dropped counts as well: it may be in another network namespace.
    let drops = listed("udp_drops");
    let dropped = sample.active().iter().filter_map(|at| drops.of(&sample.process(*at)).number());
    let dropped = dropped.fold(0.0, f64::max);
    let kinds = [
        (
            sample.rate(|r| r.system.udp_errors).map(|lost| lost.max(dropped)),
            UNDELIVERED,
            "UDP datagrams not delivered",
        ),
        (sample.rate(|r| r.system.tcp_retransmits), RESENT, "TCP segments sent again"),
    ];
    let mut found: Vec<(Severity, String)> = kinds
        .into_iter()
        .filter_map(|(rate, limits, words)| Some((rate.value()?, limits, words)))
        .map(|(rate, limits, words)| {
            (Severity::reached(rate, limits), format!("{} {words}", per_second(rate)))
        })
        .filter(|(severity, _)| *severity > Severity::Fine)
        .collect();
    found.cold_sort_by_key(|(severity, _)| std::cmp::Reverse(*severity));
    found
}

/// How near a temperature is to the limit that its sensor states.
pub fn temperature_severity(sensor: &SensorRow, by: [f64; 3]) -> Severity {
    let left = sensor.temperature.float().zip(sensor.limit.float());
    below(left.map(|(now, limit)| (limit - now) / 1000.0), by)
}

/// A fan that is slower than its board allows; one that stands although it must not is worse.
pub fn fan_severity(sensor: &SensorRow) -> Severity {
    match (sensor.fan.value(), sensor.fan_min.value()) {
        (Some(0), Some(least)) if least > 0 => Severity::Warning,
        (Some(speed), Some(least)) if speed < least => Severity::Notice,
        _ => Severity::Fine,
    }
}

/// A battery that is nearly empty while it discharges.
pub fn battery_severity(battery: &BatteryRow, by: [f64; 3]) -> Severity {
    let drains = battery.status.eq_ignore_ascii_case("discharging");
    if drains { below(battery.charge.float().map(|charge| charge / 100.0), by) } else { Severity::Fine }
}
