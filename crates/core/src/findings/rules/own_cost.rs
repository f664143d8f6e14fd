//! Dozor itself costs too much.

use crate::catalogue::{Unit, listed};
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::sample::ProcessView;

const ABOUT: About = About {
    name: "own-cost",
    lane: Lane::Cpu,
    title: "Dozor itself costs too much",
    least: 10.0,
    calm: 10.0,
    causes: "a short interval with very many processes; columns that are dear (dozor metrics says which)",
    next: &[Advice(Step::LongerInterval, "take a longer interval, or fewer columns")],
    limits: &[COST],
    is_of_limits: true,
    ..About::PLAIN
};
/// Percent of a core.
const COST: Limit = Limit {
    name: "cost",
    what: "CPU time of Dozor itself",
    of: "",
    unit: Unit::PercentOfCore,
    values: &[30.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let cpu = listed("cpu");
    let is_ours = |view: &ProcessView<'_>| &*view.now.program == "dozor" || &*view.now.name == "dozor";
    // A load on purpose is no cost.
    let is_meant = |view: &ProcessView<'_>| view.now.command.split(' ').nth(1) == Some("burn");
    for view in scene.doers().filter(|view| is_ours(view) && !is_meant(view)) {
        let Some(used) = cpu.of(&view).number().filter(|used| *used >= scene.one(&COST)) else { continue };
        let one = who(view.now);
        let text = format!("{} uses {used:.0} % of a core itself.", one.name);
        let pid = view.now.pid.value().unwrap_or(0);
        seen.push(Seen::new(Severity::Notice, one.name.clone(), text).by([one]).with(
            format!("cpu@{pid}"),
            used,
            Unit::PercentOfCore,
        ));
    }
}
