//! A storm of context switches.

use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};

const ABOUT: About = About {
    name: "switches",
    lane: Lane::Cpu,
    title: "a storm of context switches",
    least: 5.0,
    calm: 8.0,
    explained_by: &["cpu-queue", "link-full", "disk-saturated", "udp-lost"],
    causes: "threads that hand one lock to and fro; a program that asks for little things one by one",
    next: &[
        Advice(Step::Inspect("threads"), "look at its threads"),
        Advice(Step::Closely, "and closely at where its time goes"),
    ],
    limits: &[RATE],
    ..About::PLAIN
};
/// Switches a second for each core.
const RATE: Limit = Limit {
    name: "rate",
    what: "context switches a second and core",
    of: "",
    unit: Unit::PerSecond,
    values: &[60_000.0, f64::INFINITY, f64::INFINITY],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let Some(rate) = scene.sample.rate(|reading| reading.system.switches).value() else { return };
    let severity = Severity::reached(rate / scene.cores(), scene.three(&RATE));
    if severity == Severity::Fine {
        return;
    }
    let culprits = scene.culprits(&scene.ranking("switches_wait"), Some(rate));
    let mut text = format!("the cores change tasks {} times a second.", crate::units::short_count(rate));
    text += &does(&culprits, "causes", "cause", "of that by waiting");
    seen.push(Seen::new(severity, "", text).by(culprits).with("switches", rate, Unit::PerSecond));
}
