//! A storm of new processes.

use super::short_lived::starter;
use crate::catalogue::Unit;
use crate::exited::unseen;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
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
    next: &[Advice(Step::Inspect(""), "look at who starts them"), Advice(Step::Act("TERM"), "stop it")],
    limits: &[RATE],
    ..About::PLAIN
};
/// New processes and threads a second: worth knowing, harmful, and that will end badly.
const RATE: Limit = Limit {
    name: "rate",
    what: "processes and threads that start in a second",
    of: "",
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
    let mut parents: BTreeMap<i64, i64> = BTreeMap::new();
    for row in unseen(sample).iter().flat_map(|(_, rows, _)| rows) {
        *parents.entry(row.ppid.value().unwrap_or(0)).or_default() += row.processes();
    }
    let named = starter(scene, &parents).map(|(one, _)| one);
    // Where ends are not told, who collects them has their time.
    let named = named.or_else(|| scene.culprits(&scene.ranking("cpu_children"), None).into_iter().next());
    let by = named.as_ref().map_or(String::new(), |one| format!(", most of them started by {}", one.name));
    let text = format!("{} processes and threads start every second{by}.", crate::units::short_count(rate));
    seen.push(Seen::new(severity, "", text).by(named).with("forks", rate, Unit::PerSecond));
}
