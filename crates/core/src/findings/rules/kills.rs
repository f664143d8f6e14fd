//! The kernel ended a process because memory ran out.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::{Scene, who};
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::limits;
use crate::reading::{EndedRow, with_pid};
use crate::units::long_bytes;

const ABOUT: About = About {
    name: "oom-kill",
    lane: Lane::Memory,
    title: "the kernel ends processes because memory ran out",
    least: 0.0,
    calm: 30.0,
    causes: "memory, or the limit of a group, that is too small for what runs; a leak",
    next: &[
        Advice(Step::Yourself, "look whether what is gone came back; raise the limit"),
        Advice(Step::Difference, "or find what grew"),
    ],
    ..About::PLAIN
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

/// The signal that the kernel ends them by; signal(7).
const KILL: i64 = 9;

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let sample = scene.sample;
    let kills = sample.rate(|reading| reading.system.oom_kills).value().unwrap_or(0.0) * scene.seconds;
    // The kernel also counts in the group; older ones there alone.
    let group = sample
        .parts(|reading| &reading.groups[..])
        .filter(|group| group.rate(|g| g.oom_kills).value().is_some_and(|rate| rate > 0.0))
        .max_by_key(|group| group.now.path.len());
    if kills < 0.5 && group.is_none() {
        return;
    }
    let in_group = group.as_ref().and_then(|group| group.rate(|g| g.oom_kills).value());
    let count = in_group.map_or(0.0, |rate| rate * scene.seconds).max(kills).round().max(1.0);
    // Who was ended by KILL now, and was in the group whose limit it was.
    let before = sample.before.as_deref();
    let killed =
        sample.now.ended.iter().filter(|row| row.status.value().is_some_and(|how| how & 0x7f == KILL));
    // Whom the kernel log names is known for sure.
    let is_logged = killed.clone().any(|row| row.oom.value() == Some(1));
    let told: Vec<&EndedRow> = killed.filter(|row| !is_logged || row.oom.value() == Some(1)).collect();
    let victims: Vec<(f64, Culprit)> = told
        .into_iter()
        .filter_map(|row| {
            // The record of an end has the name of the thread that was the last.
            let known = before.and_then(|before| with_pid(&before.processes, row.pid.value()?));
            if let Some(group) = group.as_ref().filter(|_| !is_logged) {
                known?.limits.split(' ').find(|path| *path == &*group.now.path)?;
            }
            let one = known.map_or_else(
                || Culprit::thing(format!("{}[{}]", row.name, row.pid.value().unwrap_or(0))),
                |known| who(known),
            );
            let held = row.peak_bytes.float().value().or_else(|| known?.rss_bytes.float().value());
            Some((held.unwrap_or(0.0), Culprit { pid: row.pid.value(), ..one }))
        })
        .collect();
    let whose = group.map_or("because memory ran out".to_owned(), |group| {
        let limit = group.now.memory_limit.float().value();
        let limit = limit.map_or(String::new(), |limit| format!(" of {}", long_bytes(limit)));
        format!("in control group {}, at its limit{limit} of memory", limits::short(&group.now.path))
    });
    let many = if count > 1.0 { format!("{count:.0} processes") } else { "a process".to_owned() };
    // Somebody else may have sent KILL as well: then nobody knows whom the kernel meant.
    let victims = if is_logged || victims.len() as f64 <= count { victims } else { vec![] };
    let who = match &victims[..] {
        [] if sample.now.system.notifications_lost.value().is_none() => {
            " Only root can see which one (dozor access).".to_owned()
        }
        [] => " Which one is unknown; the kernel log names it.".to_owned(),
        all => {
            let said = |(held, one): &(f64, Culprit)| match *held {
                0.0 => one.name.clone(),
                held => format!("{}, which had {}", one.name, long_bytes(held)),
            };
            let names: Vec<String> = all.iter().take(3).map(said).collect();
            format!(" It was {}.", names.join("; "))
        }
    };
    let text = format!("the kernel ended {many} {whose}.{who}");
    let named = victims.into_iter().map(|(_, one)| one).take(3);
    seen.push(Seen::new(Severity::Critical, "", text).by(named).with(
        "oom.kills",
        count / scene.seconds,
        Unit::PerSecond,
    ));
}
