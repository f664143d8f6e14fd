//! The host of this virtual machine gives its cores to others.

use crate::catalogue::{Unit, cpu_share};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};

const ABOUT: About = About {
    name: "steal",
    lane: Lane::Cpu,
    title: "the host gives this machine's cores to others",
    least: 5.0,
    calm: 10.0,
    causes: "a host with more virtual cores than real ones; credits of a small machine that are used up",
    next: &[Advice(Step::Yourself, "nothing here helps: a larger or another host does")],
    limits: &[SHARE],
    ..About::PLAIN
};
const SHARE: Limit = Limit {
    name: "share",
    what: "share of the CPU time that the hypervisor withheld",
    of: "",
    unit: Unit::Percent,
    values: &[5.0, 10.0, 30.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let Some(share) = cpu_share(scene.sample, |core| core.steal).value() else { return };
    let severity = Severity::reached(share, scene.three(&SHARE));
    let text = format!("the host gives {share:.0} % of this machine's CPU time to others.");
    seen.push(Seen::new(severity, "", text).by([Culprit::thing("the host")]).with(
        "cpu.steal",
        share,
        Unit::Percent,
    ));
}
