//! Processes that come and go within a sample.

use crate::catalogue::Unit;
use crate::exited::{processes, unseen, ways};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::lane::{Lane, Severity};
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "short-lived",
    lane: Lane::Cpu,
    title: "short-lived processes",
    least: 3.0,
    calm: 8.0,
    explained_by: &[],
    causes: "a script that starts a program for every line; a check that runs too often; a service that fails and is started again",
    next: "look at who starts them; their rows carry the sign of those that are gone",
    limits: &[SHARE],
};
/// Share of all CPU time that they use: worth knowing, and harmful where starting them is most of it.
const SHARE: Limit = Limit {
    rule: "short-lived",
    name: "share",
    what: "share of all CPU time of processes that came and went",
    unit: Unit::Percent,
    values: &[5.0, 20.0, f64::INFINITY],
};
/// From so many a second on, with less than so many seconds of CPU time each, starting is most of it: a build starts much too,
/// but each of its processes works.
const STARTS: (f64, f64) = (20.0, 0.04);

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let programs = unseen(scene.sample);
    let used: f64 = programs.iter().map(|(.., cpu)| cpu).sum();
    let share = used / scene.seconds / scene.cores() * 100.0;
    let count: i64 = programs.iter().map(|(_, rows, _)| processes(rows)).sum();
    let starts_much = count as f64 / scene.seconds >= STARTS.0 && used / count.max(1) as f64 <= STARTS.1;
    let most = if starts_much { Severity::Warning } else { Severity::Notice };
    let severity = Severity::reached(share, scene.three(&SHARE)).min(most);
    let Some((name, rows, cpu)) = programs.first().filter(|_| severity > Severity::Fine) else { return };
    let mut parents: BTreeMap<(&str, i64), i64> = BTreeMap::new();
    for row in rows.iter().filter(|row| !row.parent.is_empty()) {
        *parents.entry((&row.parent, row.ppid.value().unwrap_or(0))).or_default() += row.processes();
    }
    let parent = parents.into_iter().max_by_key(|(_, count)| *count).map(|(who, _)| who);
    let a_minute = processes(rows) as f64 / scene.seconds * 60.0;
    let ways = ways(rows).map_or(String::new(), |ways| format!(", {ways}"));
    let started = parent.map_or(String::new(), |(name, pid)| format!(", started by {name}[{pid}]"));
    let part = cpu / used.max(f64::MIN_POSITIVE) * 100.0;
    let whose = if part >= 80.0 { String::new() } else { format!("{part:.0} % of that to ") };
    let text = format!(
        "{share:.0} % of all CPU time goes to processes gone within a sample: {whose}{name} ×{a_minute:.0} a minute{ways}{started}."
    );
    let mut culprits =
        vec![Culprit { share: Some(part), ..Culprit::thing(format!("{name} ×{a_minute:.0} a minute")) }];
    if let Some((name, pid)) = parent {
        let start =
            crate::reading::with_pid(&scene.sample.now.processes, pid).map(|row| row.start_ticks.value());
        culprits.push(Culprit {
            pid: Some(pid),
            start: start.flatten(),
            name: format!("{name}[{pid}]"),
            share: None,
        });
    }
    let ended = processes(&scene.sample.now.ended.iter().collect::<Vec<_>>()) as f64 / scene.seconds;
    seen.push(Seen::new(severity, "", text).by(culprits).with("ended.unseen", ended, Unit::PerSecond).with(
        "cpu.total",
        share,
        Unit::Percent,
    ));
}
