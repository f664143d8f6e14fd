//! Tasks wait for memory.

use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};

const ABOUT: About = About {
    name: "memory-pressure",
    lane: Lane::Memory,
    title: "tasks wait for memory",
    least: 4.0,
    calm: 10.0,
    explained_by: &["memory-short", "swapping", "leak", "group-memory", "oom-kill"],
    causes: "memory that is short, of the machine or of a group; pages that are read again and again",
    next: &[Advice(Step::Lane(Lane::Memory), "look at who grew, and at groups at their limit")],
    limits: &[SOME, ALL],
    ..About::PLAIN
};
/// Percent of the time in which some wait, and in which all do.
const SOME: Limit = Limit {
    name: "some",
    what: "share of the time in which some wait for memory",
    of: "pressure.memory.some",
    unit: Unit::Percent,
    values: &[10.0, 30.0, f64::INFINITY],
};
const ALL: Limit = Limit {
    name: "all",
    what: "share of the time in which all wait for memory",
    of: "pressure.memory.full",
    unit: Unit::Percent,
    values: &[5.0, 10.0, 30.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let part = |counter: fn(&crate::reading::Reading) -> crate::known::Raw| {
        scene.sample.rate(counter).value().map_or(0.0, |us| (us / 1e4).min(100.0))
    };
    let (some, all) = (part(|r| r.system.pressure_memory_some), part(|r| r.system.pressure_memory_full));
    let severity = Severity::reached(some, scene.three(&SOME)).max(Severity::reached(all, scene.three(&ALL)));
    if severity == Severity::Fine {
        return;
    }
    let culprits = scene.culprits(&scene.ranking("faults_major"), None);
    let mut text = format!("tasks wait for memory {some:.0} % of the time, all of them {all:.0} %.");
    text += &does(&culprits, "causes", "cause", "of the faults that wait for a disk");
    seen.push(
        Seen::new(severity, "", text).by(culprits).with("pressure.memory.some", some, Unit::Percent).with(
            "pressure.memory.full",
            all,
            Unit::Percent,
        ),
    );
}
