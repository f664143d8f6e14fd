//! Memory is moved to swap and back.

use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
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
    next: "look at who is in swap (2); end or limit the largest (x)",
    limits: &[BACK, OUT],
};
/// Bytes a second that come back from swap: whoever needs them waits for a disk.
const BACK: Limit = Limit {
    rule: "swapping",
    name: "in",
    what: "bytes a second that come back from swap",
    unit: Unit::BytesPerSecond,
    values: &[1e6, 8e6, 100e6],
};
/// Bytes a second that go out.
const OUT: Limit = Limit {
    rule: "swapping",
    name: "out",
    what: "bytes a second that go out to swap",
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
    let culprits = scene.culprits(&scene.ranking("swap"), None);
    let mut text = format!("{}/s go to swap, {}/s come back.", long_bytes(out), long_bytes(back));
    text += &does(&culprits, "has", "have", "of what is in swap");
    seen.push(Seen::new(severity, "", text).by(culprits).with("swap.out", out, Unit::BytesPerSecond).with(
        "swap.in",
        back,
        Unit::BytesPerSecond,
    ));
}
