//! Memory is nearly used up.

use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, MEMORY, Severity};
use crate::units::long_bytes;

const ABOUT: About = About {
    name: "memory-short",
    lane: Lane::Memory,
    title: "memory is nearly used up",
    least: 3.0,
    calm: 10.0,
    explained_by: &["leak"],
    causes: "programs that need more than there is; a leak; limits that are missing",
    next: &[
        Advice(Step::Lane(Lane::Memory), "look at who holds it"),
        Advice(Step::Difference, "and who grew, compared with before"),
        Advice(Step::Act("TERM"), "end or limit the largest"),
    ],
    limits: &[USED],
    is_of_lane: true,
    ..About::PLAIN
};
/// Percent of the memory, as the lane has it.
const USED: Limit = Limit {
    name: "used",
    what: "share of the memory that is in use and cannot be given back",
    of: "",
    unit: Unit::Percent,
    values: &MEMORY,
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let system = &scene.sample.now.system;
    let (Some(total), Some(available)) =
        (system.mem_total.float().value(), system.mem_available.float().value())
    else {
        return;
    };
    let severity = Severity::reached(100.0 - available / total.max(1.0) * 100.0, scene.three(&USED));
    if severity == Severity::Fine {
        return;
    }
    let culprits = scene.culprits(&scene.ranking("rss"), Some(total));
    let mut text = format!("{} of {} memory is available.", long_bytes(available), long_bytes(total));
    text += &does(&culprits, "holds", "hold", "of all");
    let mut one = Seen::new(severity, "", text).by(culprits).with("mem.available", available, Unit::Bytes);
    if let Some(stalled) = scene.sample.rate(|r| r.system.pressure_memory_some).value() {
        one = one.with("pressure.memory.some", stalled / 1e4, Unit::Percent);
    }
    seen.push(one);
}
