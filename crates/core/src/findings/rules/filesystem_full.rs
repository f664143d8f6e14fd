//! A file system is full, or will be soon.

use crate::catalogue::{Unit, listed};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::lane::{FULL, Lane, Severity, filesystem_severity};
use crate::units::{NANOS, long_bytes, long_duration};
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "filesystem-full",
    lane: Lane::Disk,
    title: "a file system fills up",
    least: 0.0,
    calm: 5.0,
    explained_by: &[],
    causes: "a log or a cache that grows; removed files that somebody still holds open (dozor files --removed)",
    next: "look at who writes (3) and at removed files that are still held (: who has it open)",
    limits: &[END, USED],
};
/// Seconds until it is full: worth knowing, a warning, critical.
const END: Limit = Limit {
    rule: "filesystem-full",
    name: "end",
    what: "time until it is full",
    unit: Unit::Seconds,
    values: &[24.0 * 3600.0, 1_800.0, 60.0],
};
/// How full it is, as the parts have it.
const USED: Limit = Limit {
    rule: "filesystem-full",
    name: "used",
    what: "share of its room, or of its inodes, that is used",
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
            let (Some(used), Some(left)) = (row.used.float().value(), row.available.float().value()) else {
                continue;
            };
            let filling = self.before.entry(row.mount.to_string()).or_default();
            *filling = filling.now(used, now);
            let pace = filling.sure_pace();
            let end = filling.end(left);
            let grows = end.is_finite();
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
                continue;
            }
            let no_inodes = row.inodes_free.value() == Some(0) && row.inodes.value() > Some(0);
            let (mount, size) = (&row.mount, long_bytes(left));
            let culprits = if grows { writer(scene, mount, pace) } else { vec![] };
            let mut text = format!("{mount} is {full:.0} % full, {size} left");
            if no_inodes {
                text += ", and has no inodes left";
            }
            if end.is_finite() {
                text += &format!("; at this pace for {}", long_duration(end.round()));
            }
            text += ".";
            if let Some(one) = culprits.first() {
                text += &format!(" {} writes as much.", one.name);
            }
            let mut one = Seen::new(severity, &**mount, text)
                .by(culprits)
                .with(format!("fs.usage{{{mount}}}"), full, Unit::Percent)
                .with(format!("fs.available{{{mount}}}"), left, Unit::Bytes);
            if grows {
                one = one.with("pace", pace, Unit::BytesPerSecond);
            }
            seen.push(one);
        }
    }
}

/// Who writes it: of those that have files there, where that was asked for; else the only one that writes as much.
fn writer(scene: &Scene<'_>, mount: &str, pace: f64) -> Vec<Culprit> {
    let written = listed("write_any");
    let all = scene.doers().filter_map(|view| Some((view, written.of(&view).number()?)));
    let (mut there, mut able) = (vec![], vec![]);
    for (view, rate) in all.filter(|(_, rate)| *rate >= 0.5 * pace) {
        if view.now.mounts.split(' ').any(|word| word == mount) {
            there.push((view, rate));
        }
        able.push(view);
    }
    let most = there.into_iter().max_by(|a, b| a.1.total_cmp(&b.1)).map(|(view, _)| view);
    let mut only = || able.pop().filter(|_| able.is_empty());
    most.or_else(&mut only).map(|view| who(view.now)).into_iter().collect()
}
