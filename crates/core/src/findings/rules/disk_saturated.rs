//! A disk is the bottleneck: busy, with requests that wait.

use crate::catalogue::{Unit, disk_busy, disk_wait, handed_by, handed_for};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::findings::step::{Advice, Step};
use crate::known::Raw;
use crate::lane::{DISKS, DiskLimits, Lane, Severity, disk_severity};
use crate::limits;
use crate::reading::{DiskRow, ProcessRow, with_pid};
use crate::sample::PartView;
use crate::text::Text;
use crate::units::{long_bytes, short_wait};
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "disk-saturated",
    lane: Lane::Disk,
    title: "a disk is saturated",
    least: 3.0,
    calm: 8.0,
    explained_by: &["swapping"],
    causes: "a job that reads or writes without pause; a sync after every block; a failing device (then the kernel log has errors)",
    next: &[
        Advice(Step::Inspect(""), "look at who does it"),
        Advice(Step::Act("disk idle"), "give its disk work a lower priority"),
        Advice(Step::Lane(Lane::Disk), "the parts of the disk"),
    ],
    limits: &[STALLED, WAITED, BUSY, BUSY_TURNING, WAIT],
    is_of_lane: true,
    ..About::PLAIN
};
/// Percent of the time that tasks wait for disks, from which on somebody is harmed.
const STALLED: Limit = Limit {
    name: "stalled",
    what: "share of the time that tasks wait for disks, from which on somebody is harmed",
    of: "pressure.io.some",
    unit: Unit::Percent,
    values: &[20.0],
};

/// Percent of the time that tasks wait for disks, from which on it is worth a word although no disk is saturated: many small
/// writes, each made safe before the next.
const WAITED: Limit = Limit {
    name: "waited",
    what: "share of the time that tasks wait for a disk that has room, from which on it is worth knowing",
    of: "pressure.io.some",
    unit: Unit::Percent,
    values: &[30.0],
};

/// How busy a disk without moving parts is, as the lane has it.
const BUSY: Limit = Limit {
    name: "busy",
    what: "share of the time that a disk without moving parts is busy",
    of: "",
    unit: Unit::Percent,
    values: &DISKS.solid,
};

/// The same of a disk that turns.
const BUSY_TURNING: Limit = Limit {
    name: "busy_turning",
    what: "share of the time that a disk that turns is busy",
    of: "",
    unit: Unit::Percent,
    values: &DISKS.turning,
};

/// How long requests take.
const WAIT: Limit = Limit {
    name: "wait",
    what: "time that requests of a disk take on the mean",
    of: "",
    unit: Unit::Delay,
    values: &DISKS.wait,
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Disks::default())
}

/// A disk that is less busy is not what tasks wait for.
const ROOM: f64 = 30.0;

/// What a disk usually takes for a request while it has room, in seconds.
#[derive(Default)]
struct Disks {
    usual: BTreeMap<String, f64>,
}

impl Rule for Disks {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let disks = scene.sample.parts(|reading| &reading.disks[..]);
        for disk in disks.filter(|disk| disk.now.whole.is_empty()) {
            let (Some(busy), wait) = (disk_busy(&disk).value(), disk_wait(&disk).value()) else { continue };
            if busy < 50.0
                && let Some(wait) = wait
            {
                let usual = self.usual.entry(disk.now.name.to_string()).or_insert(wait);
                *usual += (wait - *usual) * 0.1;
            }
        }
        self.tell(scene, seen);
    }

    fn tell(&self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let disks = scene.sample.parts(|reading| &reading.disks[..]);
        for disk in disks.filter(|disk| disk.now.whole.is_empty()) {
            let Some(busy) = disk_busy(&disk).value() else { continue };
            let usual = self.usual.get(&*disk.now.name).copied();
            seen.extend(saturated(scene, &disk, busy, disk_wait(&disk).value(), usual));
        }
    }
}

/// The control group for which threads of the kernel hand over most of what a disk moves, and that part in percent: what the group
/// left in memory before, or what another device asks in its name. Not where the main one is in that group, and so says it.
fn for_group<'a>(
    scene: &Scene<'a>,
    disk: &'a Text,
    reads: bool,
    main: Option<&Culprit>,
) -> Option<(&'a Text, f64)> {
    let (group, share) = handed_for(scene.sample, disk, reads)?;
    let main = main.and_then(|main| with_pid(&scene.sample.now.processes, main.pid?));
    let is_in = |row: &ProcessRow| {
        row.cgroup.strip_prefix(&**group).is_some_and(|below| below.is_empty() || below.starts_with('/'))
    };
    (share >= 0.5 && !main.is_some_and(|main| is_in(main))).then_some((group, share * 100.0))
}

/// What a disk's time goes to: seconds of requests a second, by kind.
struct Takes {
    read: f64,
    write: f64,
    discard: f64,
    flush: f64,
}

impl Takes {
    fn of(disk: &PartView<'_, DiskRow>) -> Takes {
        let time = |ms: fn(&DiskRow) -> Raw| disk.rate(ms).value().unwrap_or(0.0) / 1000.0;
        Takes {
            read: time(|d| d.read_ms),
            write: time(|d| d.write_ms),
            discard: time(|d| d.discard_ms),
            flush: time(|d| d.flush_ms),
        }
    }

    /// What all but one of them take.
    fn rest(&self, one: f64) -> f64 {
        self.read + self.write + self.discard + self.flush - one
    }

    /// Whether it goes to what programs read and write, or make safe, so that their bytes can be the cause.
    fn is_of_programs(&self, busy: f64) -> bool {
        /// Part of the busy time that requests account for at least.
        const PART: f64 = 0.3;
        let theirs = self.rest(self.discard);
        theirs > self.discard && theirs >= PART * busy / 100.0
    }

    /// In words, where it is neither reading nor writing.
    fn said(&self, disk: &PartView<'_, DiskRow>) -> String {
        let all = self.rest(0.0);
        if all <= 0.0 {
            return String::new();
        }
        if self.discard >= self.rest(self.discard) {
            let share = self.discard / all * 100.0;
            let bytes = disk
                .rate(|d| d.discard_bytes)
                .value()
                .map_or(String::new(), |bytes| format!(" ({}/s)", long_bytes(bytes)));
            format!(" Discards of freed blocks{bytes} take {share:.0} % of its time.")
        } else if self.flush >= self.rest(self.flush) {
            format!(" Flushes take {:.0} % of its time.", self.flush / all * 100.0)
        } else {
            String::new()
        }
    }
}

/// Whether a disk reads more than it writes, by what it does: requests, and so many more as large ones stand for. How long they took
/// does not tell; a few reads that wait behind many writes take longest.
fn reads_more(disk: &PartView<'_, DiskRow>) -> bool {
    const LARGE: f64 = 65_536.0;
    let work = |requests: fn(&DiskRow) -> Raw, bytes: fn(&DiskRow) -> Raw| {
        disk.rate(requests).value().unwrap_or(0.0) + disk.rate(bytes).value().unwrap_or(0.0) / LARGE
    };
    work(|d| d.reads, |d| d.read_bytes) > work(|d| d.writes, |d| d.write_bytes)
}

/// Whether somebody's bytes surely go to or come from this disk: the kernel noted his requests to it, or no other disk has
/// any to speak of.
fn is_of_device(scene: &Scene<'_>, disk: &PartView<'_, DiskRow>, reads: bool, one: &Culprit) -> bool {
    /// Part of the device's bytes that he has at least.
    const PART: f64 = 0.1;
    /// Part of all disks' bytes from which on it is this one.
    const ONLY: f64 = 0.8;
    let bytes = |disk: &PartView<'_, DiskRow>| {
        let rate = if reads { disk.rate(|d| d.read_bytes) } else { disk.rate(|d| d.write_bytes) };
        rate.value().unwrap_or(0.0)
    };
    let (own, stacked) = (bytes(disk), is_stacked(&disk.now.name));
    let wholes = scene.sample.parts(|reading| &reading.disks[..]).filter(|disk| disk.now.whole.is_empty());
    let all: f64 = wholes.filter(|disk| is_stacked(&disk.now.name) == stacked).map(|disk| bytes(&disk)).sum();
    if own >= ONLY * all {
        return true;
    }
    let handed = one.pid.and_then(|pid| handed_by(scene.sample, &disk.now.name, pid, reads));
    handed.is_some_and(|handed| handed >= PART * own)
}

/// Whether a device has others below it, which count the same bytes.
fn is_stacked(name: &str) -> bool {
    ["dm-", "md", "loop", "zram", "bcache"].iter().any(|kind| name.starts_with(kind))
}

fn saturated(
    scene: &Scene<'_>,
    disk: &PartView<'_, DiskRow>,
    busy: f64,
    wait: Option<f64>,
    usual: Option<f64>,
) -> Option<Seen> {
    // The lane says how bad it is with the device; here it is asked whether anybody is harmed.
    let of_device = disk_severity(
        disk,
        &DiskLimits {
            solid: scene.three(&BUSY),
            turning: scene.three(&BUSY_TURNING),
            wait: scene.three(&WAIT),
        },
    );
    let stalled = scene.sample.rate(|r| r.system.pressure_io_some).value().map(|us| (us / 1e4).min(100.0));
    let is_waited_for = busy >= ROOM && stalled.is_some_and(|stalled| stalled >= scene.one(&WAITED));
    if of_device == Severity::Fine && !is_waited_for {
        return None;
    }
    let blocked = scene.sample.now.system.blocked.value().unwrap_or(0);
    let severity = match stalled {
        _ if of_device == Severity::Fine => Severity::Notice,
        Some(stalled) if stalled < scene.one(&STALLED) && blocked == 0 => of_device.min(Severity::Notice),
        Some(stalled) if stalled < scene.one(&STALLED) => of_device.min(Severity::Warning),
        _ => of_device,
    };
    let takes = Takes::of(disk);
    let reads = reads_more(disk);
    let (alias, one, many, of_what) = if reads {
        ("read", "reads", "read", "of what is read")
    } else {
        ("write", "writes", "write", "of what is written")
    };
    let of_disk = if reads { disk.rate(|d| d.read_bytes) } else { disk.rate(|d| d.write_bytes) };
    let mut culprits = if takes.is_of_programs(busy) {
        let mut named = scene.culprits(&scene.ranking(alias), of_disk.value());
        named.retain(|one| is_of_device(scene, disk, reads, one));
        named
    } else {
        vec![]
    };
    let name = &disk.now.name;
    let for_group = for_group(scene, name, reads, culprits.first());
    let waits = wait.map_or(String::new(), |wait| format!(", requests take {}", short_wait(wait)));
    let than = match (wait, usual) {
        (Some(wait), Some(usual)) if usual > 0.0 && wait > 3.0 * usual => {
            format!(" instead of {}", short_wait(usual))
        }
        _ => String::new(),
    };
    let mut text = if of_device == Severity::Fine {
        let stalled = stalled.unwrap_or(0.0);
        format!("tasks wait {stalled:.0} % of the time for {name}, which is {busy:.0} % busy{waits}{than}.")
    } else {
        format!("{name} is saturated: {busy:.0} % busy{waits}{than}.")
    };
    text += &takes.said(disk);
    text += &does(&culprits, one, many, of_what);
    if let Some((group, share)) = for_group {
        let group = limits::short(group);
        text += &format!(" For {group} threads of the kernel hand over {share:.0} % {of_what}.");
        culprits.push(Culprit { share: Some(share), ..Culprit::thing(group) });
    }
    if culprits.is_empty() && takes.is_of_programs(busy) {
        text += scene.hidden_io();
    }
    let mut found = Seen::new(severity, &**name, text);
    found = found.with(format!("disk.busy{{{name}}}"), busy, Unit::Percent);
    if let Some(wait) = wait {
        found = found.with(format!("disk.wait{{{name}}}"), wait, Unit::Delay);
    }
    if let Some(queue) = disk.rate(|d| d.queue_ms).value() {
        found = found.with(format!("disk.queue{{{name}}}"), queue / 1000.0, Unit::Number);
    }
    if takes.discard >= takes.rest(takes.discard)
        && let Some(bytes) = disk.rate(|d| d.discard_bytes).value()
    {
        found = found.with(format!("disk.discard{{{name}}}"), bytes, Unit::BytesPerSecond);
    }
    if takes.flush >= takes.rest(takes.flush)
        && let Some(flushes) = disk.rate(|d| d.flushes).value()
    {
        found = found.with(format!("disk.flushes{{{name}}}"), flushes, Unit::PerSecond);
    }
    if let Some(bytes) = of_disk.value() {
        found = found.with(format!("disk.{alias}{{{name}}}"), bytes, Unit::BytesPerSecond);
    }
    if let Some(pid) = culprits.first().and_then(|one| one.pid)
        && let Some(at) =
            scene.active.iter().find(|at| scene.sample.now.processes[**at].pid.value() == Some(pid))
        && let Some(bytes) = crate::catalogue::listed(alias).of(&scene.sample.process(*at)).number()
    {
        found = found.with(format!("{alias}@{pid}"), bytes, Unit::BytesPerSecond);
    }
    if let Some(stalled) = stalled {
        found = found.with("pressure.io.some", stalled, Unit::Percent);
    }
    Some(found.by(culprits))
}
