//! Cores are slowed down because of heat.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};

const ABOUT: About = About {
    name: "throttled-by-heat",
    lane: Lane::Heat,
    title: "cores are slowed down because of heat",
    least: 2.0,
    calm: 15.0,
    explained_by: &["fan", "heat"],
    causes: "cooling that is too weak for the work; a fan that stands",
    next: &[Advice(Step::Lane(Lane::Heat), "look at the cores and sensors")],
    ..About::PLAIN
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let cores = scene.sample.parts(|reading| &reading.cores[..]);
    let slowed: Vec<(i64, f64, Option<f64>)> = cores
        .filter_map(|core| {
            let rate = core.rate(|c| c.throttles).value().filter(|rate| *rate > 0.0)?;
            let speed = core.now.frequency.float().zip(core.now.frequency_max.float()).value();
            Some((core.now.number.value()?, rate, speed.map(|(now, most)| now / most.max(1.0) * 100.0)))
        })
        .collect();
    let Some((number, rate, speed)) = slowed.iter().copied().max_by(|a, b| a.1.total_cmp(&b.1)) else {
        return;
    };
    let speed =
        speed.map_or(String::new(), |percent| format!(", core {number} to {percent:.0} % of its speed"));
    let many = slowed.len();
    let text = format!("heat slows down {many} of {:.0} cores{speed}.", scene.cores());
    seen.push(Seen::new(Severity::Warning, "", text).by([Culprit::thing("heat")]).with(
        format!("cpu.throttled{{{number}}}"),
        rate,
        Unit::PerSecond,
    ));
}
