//! Processes that come and go within a sample.

use crate::catalogue::Unit;
use crate::exited::{processes, unseen, ways};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "short-lived",
    lane: Lane::Cpu,
    title: "short-lived processes",
    least: 3.0,
    calm: 8.0,
    causes: "a script that starts a program for every line; a check that runs too often; a service that fails and is started again",
    next: &[Advice(
        Step::Inspect(""),
        "look at who starts them; their rows carry the sign of those that are gone",
    )],
    limits: &[SHARE],
    ..About::PLAIN
};
/// Share of all CPU time that they use: worth knowing, and harmful where starting them is most of it.
const SHARE: Limit = Limit {
    name: "share",
    what: "share of all CPU time of processes that came and went",
    of: "cpu.total",
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
    let Some((name, rows, cpu)) = programs.first() else { return };
    let mut parents: BTreeMap<i64, i64> = BTreeMap::new();
    for row in rows {
        *parents.entry(row.ppid.value().unwrap_or(0)).or_default() += row.processes();
    }
    let parent = starter(scene, &parents);
    // Whether starting is most of it is asked of those of one origin: a build beside it starts much, too.
    let count = processes(rows);
    let starts_much = count as f64 / scene.seconds >= STARTS.0 && cpu / count.max(1) as f64 <= STARTS.1;
    let most = if starts_much { Severity::Warning } else { Severity::Notice };
    let severity = Severity::reached(share, scene.three(&SHARE)).min(most);
    if severity == Severity::Fine {
        return;
    }
    // What came once or twice has no rate.
    let rate = if count >= FEW {
        format!(" ×{:.0} a minute", count as f64 / scene.seconds * 60.0)
    } else {
        String::new()
    };
    let ways = ways(rows).map_or(String::new(), |ways| format!(", {ways}"));
    let started = parent.as_ref().map_or(String::new(), |(one, _)| format!(", started by {}", one.name));
    let part = cpu / used.max(f64::MIN_POSITIVE) * 100.0;
    let whose = if part >= 80.0 { String::new() } else { format!("{part:.0} % of that to ") };
    let text = format!(
        "{share:.0} % of all CPU time goes to processes gone within a sample: {whose}{name}{rate}{ways}{started}."
    );
    let mut culprits = vec![Culprit { share: Some(part), ..Culprit::thing(format!("{name}{rate}")) }];
    culprits.extend(parent.map(|(one, _)| one));
    let ended = processes(&scene.sample.now.ended.iter().collect::<Vec<_>>()) as f64 / scene.seconds;
    seen.push(Seen::new(severity, "", text).by(culprits).with("ended.unseen", ended, Unit::PerSecond).with(
        "cpu.total",
        share,
        Unit::Percent,
    ));
}

/// Starts within a sample below which there is no rate of them.
const FEW: i64 = 5;

/// Who started most of those with these parents, and how many: the nearest of those who started them that still lives.
pub fn starter(scene: &Scene<'_>, parents: &BTreeMap<i64, i64>) -> Option<(Culprit, i64)> {
    let mut living: BTreeMap<String, (Culprit, i64)> = BTreeMap::new();
    for (pid, count) in parents {
        if let Some(one) = scene.living(*pid) {
            living.entry(one.name.clone()).or_insert((one, 0)).1 += count;
        }
    }
    let all: i64 = parents.values().sum();
    living.into_values().max_by_key(|(_, count)| *count).filter(|(_, count)| count * 2 >= all)
}
