//! The kernel ended a process because memory ran out.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::lane::{Lane, Severity};
use crate::limits;
use crate::reading::with_pid;
use crate::units::long_bytes;

const ABOUT: About = About {
    name: "oom-kill",
    lane: Lane::Memory,
    title: "the kernel ends processes because memory ran out",
    least: 0.0,
    calm: 30.0,
    explained_by: &[],
    causes: "memory, or the limit of a group, that is too small for what runs; a leak",
    next: "look at what is gone and whether it came back; raise the limit or find what grew (d)",
    limits: &[],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

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
    // The victim is the largest of those that are gone; the record of its end says what it had at most.
    let before = sample.before.as_deref();
    let gone = sample.gone_places().filter_map(|place| before.map(|before| &before.processes[place]));
    let seen_before = gone
        .filter_map(|row| Some((row.rss_bytes.value()?, crate::findings::scene::who(row))))
        .max_by_key(|(bytes, _)| *bytes);
    let told = sample
        .now
        .ended
        .iter()
        .filter_map(|row| {
            // The record of an end has the name of the thread that was the last.
            let known = before.and_then(|before| with_pid(&before.processes, row.pid.value()?));
            let name = known.map_or(&row.name, |known| &known.name);
            let name = format!("{name}[{}]", row.pid.value()?);
            Some((row.peak_bytes.value()?, Culprit { pid: row.pid.value(), ..Culprit::thing(name) }))
        })
        .max_by_key(|(bytes, _)| *bytes);
    let victim = match (seen_before, told) {
        (Some(a), Some(b)) => Some(if b.0 > a.0 { b } else { a }),
        (a, b) => a.or(b),
    };
    let whose = group.map_or("memory".to_owned(), |group| {
        let limit = group.now.memory_limit.float().value();
        let limit = limit.map_or(String::new(), |limit| format!(" of {}", long_bytes(limit)));
        format!("the limit{limit} of {}", limits::short(&group.now.path))
    });
    let count = kills.round().max(1.0);
    let who = victim.as_ref().map_or(String::new(), |(bytes, one)| {
        format!(" {} is gone, which had {}.", one.name, long_bytes(*bytes as f64))
    });
    let many = if count > 1.0 { format!("{count:.0} processes") } else { "a process".to_owned() };
    let text = format!("the kernel ended {many} because {whose} ran out.{who}");
    seen.push(Seen::new(Severity::Critical, "", text).by(victim.map(|(_, one)| one)).with(
        "oom.kills",
        count / scene.seconds,
        Unit::PerSecond,
    ));
}
