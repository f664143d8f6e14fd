//! Memory is moved to swap and back.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::units::long_bytes;

const ABOUT: About = About {
    name: "swapping",
    lane: Lane::Memory,
    title: "memory is moved to swap and back",
    least: 3.0,
    calm: 10.0,
    explained_by: &["memory-short", "leak", "group-memory"],
    causes: "more memory in use than there is",
    next: &[
        Advice(Step::Lane(Lane::Memory), "look at who is in swap"),
        Advice(Step::Act("TERM"), "end or limit the largest"),
    ],
    limits: &[BACK, OUT],
    ..About::PLAIN
};
/// Bytes a second that come back from swap: whoever needs them waits for a disk.
const BACK: Limit = Limit {
    name: "in",
    what: "bytes a second that come back from swap",
    of: "swap.in",
    unit: Unit::BytesPerSecond,
    values: &[1e6, 8e6, 100e6],
};
/// Bytes a second that go out.
const OUT: Limit = Limit {
    name: "out",
    what: "bytes a second that go out to swap",
    of: "swap.out",
    unit: Unit::BytesPerSecond,
    values: &[4e6, 32e6, f64::INFINITY],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let rate =
        |counter: fn(&crate::reading::Reading) -> crate::known::Raw| scene.sample.rate(counter).value();
    let (Some(back), Some(out)) = (rate(|r| r.system.swap_in), rate(|r| r.system.swap_out)) else { return };
    let severity = Severity::reached(back, scene.three(&BACK)).max(Severity::reached(out, scene.three(&OUT)));
    if severity == Severity::Fine {
        return;
    }
    let (culprits, said) = movers(scene, out, back);
    let mut text = format!("{}/s go to swap, {}/s come back.", long_bytes(out), long_bytes(back));
    text += &said;
    seen.push(Seen::new(severity, "", text).by(culprits).with("swap.out", out, Unit::BytesPerSecond).with(
        "swap.in",
        back,
        Unit::BytesPerSecond,
    ));
}

/// Who makes it so: who grows by a good part of what goes out, or else who faults in a good part of what comes back.
fn movers(scene: &Scene<'_>, out: f64, back: f64) -> (Vec<Culprit>, String) {
    /// Bytes that a fault brings back at least.
    const PAGE: f64 = 4_096.0;
    let grows = scene.culprits(&scene.ranking("growth"), Some(out));
    if out > 0.0 && !grows.is_empty() {
        let said = does(&grows, "grows by", "grow by", "of what goes out");
        return (grows, said);
    }
    let faults = scene.culprits(&scene.ranking("faults_major"), Some(back / PAGE));
    let said = does(&faults, "waits for", "wait for", "of what comes back");
    (if back > 0.0 { faults } else { vec![] }, said)
}
