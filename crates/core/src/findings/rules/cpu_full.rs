//! All cores are busy, with nobody waiting.

use crate::catalogue::{Unit, cpu_busy};
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};

const ABOUT: About = About {
    name: "cpu-full",
    lane: Lane::Cpu,
    title: "all cores are busy",
    least: 5.0,
    calm: 8.0,
    explained_by: &["cpu-queue", "short-lived", "forks", "unexplained-cpu"],
    causes: "work that takes all there is, as a build does; nothing is wrong while nobody waits",
    next: &[
        Advice(Step::Lane(Lane::Cpu), "look at who uses the CPU"),
        Advice(Step::Act("nice"), "give it less if others need it"),
    ],
    limits: &[BUSY],
    is_of_lane: true,
    ..About::PLAIN
};
/// Percent of all cores.
const BUSY: Limit = Limit {
    name: "busy",
    what: "share of the CPU that is in use, from which on it is worth knowing",
    of: "",
    unit: Unit::Percent,
    values: &[90.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let Some(busy) = cpu_busy(scene.sample).value().filter(|busy| *busy >= scene.one(&BUSY)) else { return };
    let nice = scene.nice_share();
    let culprits = scene.culprits(scene.cpu_users(), Some(scene.cpu_in_use()));
    let kind = if nice >= 0.5 * busy { ", most of it work that gives way to others" } else { "" };
    let mut sentence = format!("all cores are busy ({busy:.0} %){kind}.");
    sentence += &does(&culprits, "uses", "use", "of it");
    let mut one =
        Seen::new(Severity::Notice, "", sentence).by(culprits).with("cpu.total", busy, Unit::Percent);
    if nice >= 1.0 {
        one = one.with("cpu.nice", nice, Unit::Percent);
    }
    seen.push(one);
}
