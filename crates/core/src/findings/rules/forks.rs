//! A storm of new processes.

use crate::catalogue::Unit;
use crate::exited::unseen;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::lane::{Lane, Severity};
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "forks",
    lane: Lane::Cpu,
    title: "a storm of new processes",
    least: 3.0,
    calm: 8.0,
    explained_by: &["short-lived"],
    causes: "a loop in a script; a program that starts another one for each request; a bomb",
    next: "look at who starts them and stop it (x)",
    limits: &[RATE],
};
/// New processes and threads a second: worth knowing, harmful, and that will end badly.
const RATE: Limit = Limit {
    rule: "forks",
    name: "rate",
    what: "processes and threads that start in a second",
    unit: Unit::PerSecond,
    values: &[250.0, 1_500.0, 20_000.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let sample = scene.sample;
    let Some(rate) = sample.rate(|reading| reading.system.forks).value() else { return };
    let severity = Severity::reached(rate, scene.three(&RATE));
    if severity == Severity::Fine {
        return;
    }
    let mut parents: BTreeMap<(String, i64), usize> = BTreeMap::new();
    for (_, rows, _) in unseen(sample) {
        for row in rows.iter().filter(|row| !row.parent.is_empty()) {
            *parents.entry((row.parent.to_string(), row.ppid.value().unwrap_or(0))).or_default() += 1;
        }
    }
    let named: Option<Culprit> = match parents.iter().max_by_key(|(_, count)| **count) {
        Some(((name, pid), _)) => Some(Culprit {
            pid: Some(*pid),
            start: crate::reading::with_pid(&sample.now.processes, *pid)
                .and_then(|row| row.start_ticks.value()),
            name: format!("{name}[{pid}]"),
            share: None,
        }),
        None => scene.culprits(&scene.ranking("cpu_children"), None).into_iter().next(),
    };
    let by = named.as_ref().map_or(String::new(), |one| format!(", most of them of {}", one.name));
    let text = format!("{} processes and threads start every second{by}.", crate::units::short_count(rate));
    seen.push(Seen::new(severity, "", text).by(named).with("forks", rate, Unit::PerSecond));
}
