//! A file system is full, or will be soon.

use crate::catalogue::{Unit, handed_by, listed};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{FULL, Lane, Severity, filesystem_severity};
use crate::parts::mounts_of;
use crate::reading::{FilesystemRow, mount_word};
use crate::sample::ProcessView;
use crate::text::Text;
use crate::units::{NANOS, long_bytes, long_duration, short_count};
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "filesystem-full",
    lane: Lane::Disk,
    title: "a file system fills up",
    least: 0.0,
    calm: 5.0,
    causes: "a log or a cache that grows; removed files that somebody still holds open (dozor files --removed)",
    next: &[
        Advice(Step::Holders, "look at who writes there"),
        Advice(Step::Removed, "removed files that are still held"),
    ],
    limits: &[END, USED],
    is_of_limits: true,
    ..About::PLAIN
};
/// Seconds until it is full: worth knowing, a warning, critical.
const END: Limit = Limit {
    name: "end",
    what: "time until it is full",
    of: "",
    unit: Unit::Seconds,
    values: &[24.0 * 3600.0, 1_800.0, 60.0],
};
/// How full it is, as the parts have it.
const USED: Limit = Limit {
    name: "used",
    what: "share of its room, or of its inodes, that is used",
    of: "fs.usage",
    unit: Unit::Percent,
    values: &FULL,
};
/// Seconds over which the pace is taken.
const PACE: f64 = 5.0;
/// Below this share of its size that is gained a second it is not growth but noise.
const LITTLE: f64 = 1e-6;

pub fn rule() -> Box<dyn Rule> {
    Box::new(Full::default())
}

/// What each had at the last look.
#[derive(Default)]
struct Full {
    before: BTreeMap<String, Filling>,
}

/// How a file system fills.
#[derive(Clone, Copy, Default)]
struct Filling {
    used: f64,
    when_ns: i64,
    /// Bytes a second, lately.
    pace: f64,
    /// Seconds for which it has been growing, and what it had before.
    grew: f64,
    first: f64,
    /// Seconds for which it has rested.
    rested: f64,
}

impl Filling {
    fn now(self, used: f64, when_ns: i64) -> Filling {
        let seconds = (when_ns - self.when_ns) as f64 / NANOS as f64;
        if self.when_ns == 0 || used < self.used || seconds <= 0.0 {
            return Filling { used, when_ns, ..Filling::default() };
        }
        let rate = (used - self.used) / seconds;
        let weight = if self.grew == 0.0 { 1.0 } else { (seconds / PACE).min(1.0) };
        let pace = self.pace + (rate - self.pace) * weight;
        // What is written comes in lumps; who has rested for longer begins anew.
        let rested = if rate > 0.0 { 0.0 } else { self.rested + seconds };
        if pace <= 0.0 || rested > PACE {
            return Filling { used, when_ns, ..Filling::default() };
        }
        let first = if self.grew == 0.0 { self.used } else { self.first };
        Filling { used, when_ns, pace, grew: self.grew + seconds, first, rested }
    }

    /// How fast it fills, as far as that is sure: lately, and no faster than over all the time that it has grown.
    fn sure_pace(self) -> f64 {
        if self.grew > 0.0 { self.pace.min((self.used - self.first) / self.grew) } else { 0.0 }
    }

    /// Seconds until there is no room left, where it has grown for long enough to say so: a copy of some seconds does not fill
    /// what has room for half an hour of it.
    fn end(self, left: f64) -> f64 {
        const PART: f64 = 40.0;
        let pace = self.sure_pace();
        let end = if pace > LITTLE * (self.used + left) { left / pace } else { f64::INFINITY };
        let needed = (end / PART).clamp(PACE, 60.0);
        if self.grew >= needed { end } else { f64::INFINITY }
    }
}

impl Rule for Full {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let now = scene.sample.now.monotonic_ns();
        for row in &scene.sample.now.filesystems {
            if let (Some(used), Some(_)) = (row.used.float().value(), row.available.float().value()) {
                let filling = self.before.entry(row.mount.to_string()).or_default();
                *filling = filling.now(used, now);
            }
        }
        self.tell(scene, seen);
    }

    fn tell(&self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        seen.extend(scene.sample.now.filesystems.iter().filter_map(|row| self.full(scene, row)));
    }
}

impl Full {
    fn full(&self, scene: &Scene<'_>, row: &FilesystemRow) -> Option<Seen> {
        let (used, left) = row.used.float().value().zip(row.available.float().value())?;
        let filling = self.before.get(&*row.mount).copied().unwrap_or_default();
        let (pace, end) = (filling.sure_pace(), filling.end(left));
        let soon = match end {
            end if end <= scene.three(&END)[2] => Severity::Critical,
            end if end <= scene.three(&END)[1] => Severity::Warning,
            end if end <= scene.three(&END)[0] => Severity::Notice,
            _ => Severity::Fine,
        };
        // Full and at rest has been so for long: it is worth knowing, and hurts who wants to write.
        let is_full = filesystem_severity(row, scene.three(&USED));
        let now_full = if left <= 0.0 { Severity::Critical } else { is_full.min(Severity::Warning) };
        let severity = now_full.max(soon);
        let full = used / (used + left).max(1.0) * 100.0;
        if severity == Severity::Fine
            || row.answers.value() == Some(0)
            || (soon < Severity::Warning && full < scene.three(&USED)[0] && is_full == Severity::Fine)
        {
            return None;
        }
        let (mount, grows) = (&row.mount, end.is_finite() && left > 0.0);
        let inodes =
            row.inodes.float().value().zip(row.inodes_free.float().value()).filter(|(all, _)| *all > 0.0);
        let inodes = inodes.map(|(all, free)| ((all - free) / all * 100.0, free));
        // What is short: inodes where they are fuller than the bytes.
        let short_of_inodes = inodes.filter(|(part, _)| *part > full);
        let culprits = if grows { writer(scene, row, pace) } else { vec![] };
        let mut text = match short_of_inodes {
            Some((_, 0.0)) => {
                format!(
                    "{mount} has no inodes left: no file can be created there, however much space is free."
                )
            }
            Some((part, free)) => {
                format!("{mount} has {} inodes left ({part:.0} % used).", short_count(free))
            }
            None if left <= 0.0 => format!("{mount} is full: all of its {} are used.", long_bytes(used)),
            None => format!("{mount} is {full:.0} % full, {} left.", long_bytes(left)),
        };
        if grows {
            text += &format!(
                " It fills at {}/s and will be full in {}.",
                long_bytes(pace),
                long_duration(end.max(1.0).round())
            );
            text += &match culprits.first() {
                Some(one) => format!(" {} writes at that rate and has files open there.", one.name),
                None => format!(
                    " No process that writes at that rate is known to have files open there.{}",
                    scene.hidden_io()
                ),
            };
        }
        let mut one = Seen::new(severity, &**mount, text).by(culprits);
        one = match short_of_inodes {
            Some((part, _)) => one.with(format!("fs.inodes_usage{{{mount}}}"), part, Unit::Percent),
            None => one.with(format!("fs.usage{{{mount}}}"), full, Unit::Percent).with(
                format!("fs.available{{{mount}}}"),
                left,
                Unit::Bytes,
            ),
        };
        if grows {
            one = one.with("pace", pace, Unit::BytesPerSecond);
        }
        Some(one)
    }
}

/// Who writes it: of those that write as much the one that has files there, or hands as much to the device on which nothing else
/// is mounted.
fn writer(scene: &Scene<'_>, row: &FilesystemRow, pace: f64) -> Vec<Culprit> {
    let written = listed("write_any");
    let mount = mount_word(&row.mount);
    let device = row.device.strip_prefix("/dev/").map(Text::from);
    let disks = &scene.sample.now.disks;
    let whole = device
        .and_then(|device| disks.iter().find(|disk| disk.name == device))
        .map(|disk| if disk.whole.is_empty() { &disk.name } else { &disk.whole });
    let alone = whole.filter(|whole| mounts_of(scene.sample, whole).count() == 1);
    let is_there = |view: &ProcessView<'_>| {
        view.now.mounts.split(' ').any(|word| word == &*mount)
            || alone.is_some_and(|whole| {
                let pid = view.now.pid.value().unwrap_or(-1);
                handed_by(scene.sample, whole, pid, false).is_some_and(|handed| handed >= 0.5 * pace)
            })
    };
    let all = scene.doers().filter_map(|view| Some((view, written.of(&view).number()?)));
    let there = all.filter(|(view, rate)| *rate >= 0.5 * pace && is_there(view));
    let most = there.max_by(|a, b| a.1.total_cmp(&b.1));
    most.map(|(view, _)| who(view.now)).into_iter().collect()
}
