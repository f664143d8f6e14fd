//! The memory of a graphics processor is full.

use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::units::long_bytes;

const ABOUT: About = About {
    name: "gpu-memory",
    lane: Lane::Heat,
    title: "the memory of a graphics processor is full",
    least: 3.0,
    calm: 8.0,
    causes: "a model or a batch that is too large for it",
    next: &[Advice(Step::Lane(Lane::Heat), "look at who uses it")],
    limits: &[USED],
    ..About::PLAIN
};
const USED: Limit = Limit {
    name: "used",
    what: "memory of a GPU in use",
    of: "",
    unit: Unit::Percent,
    values: &[93.0, 98.0, f64::INFINITY],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for gpu in &scene.sample.now.gpus {
        let (Some(used), Some(total)) = (gpu.memory_used.float().value(), gpu.memory_total.float().value())
        else {
            continue;
        };
        let severity = Severity::reached(used / total.max(1.0) * 100.0, scene.three(&USED));
        if severity == Severity::Fine {
            continue;
        }
        let culprits = scene.culprits(&scene.ranking("gpu_memory"), Some(total));
        let name = &gpu.name;
        let mut text = format!("{name} has {} of its {} in use.", long_bytes(used), long_bytes(total));
        text += &does(&culprits, "holds", "hold", "of it");
        seen.push(Seen::new(severity, &**name, text).by(culprits).with(
            format!("gpu.memory{{{name}}}"),
            used,
            Unit::Bytes,
        ));
    }
}
