//! A wireless link fades.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};

const ABOUT: About = About {
    name: "wireless-fades",
    lane: Lane::Network,
    title: "a wireless link fades",
    least: 5.0,
    calm: 10.0,
    causes: "distance, a wall, another transmitter on the channel",
    next: &[Advice(Step::Lane(Lane::Network), "look at the interfaces; move nearer or use another channel")],
    limits: &[WEAK],
    ..About::PLAIN
};
/// Signal in decibels below a milliwatt: worth knowing, a warning.
const WEAK: Limit = Limit {
    name: "weak",
    what: "how many dB below a milliwatt the signal is",
    of: "",
    unit: Unit::Number,
    values: &[72.0, 82.0, f64::INFINITY],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for link in &scene.sample.now.interfaces {
        let Some(signal) = link.wifi_signal.float().value() else { continue };
        let severity = Severity::reached(-signal, scene.three(&WEAK));
        if severity == Severity::Fine {
            continue;
        }
        let name = &link.name;
        let text = format!("the signal of {name} is weak: {signal:.0} dBm.");
        seen.push(Seen::new(severity, &**name, text).by([Culprit::thing(&**name)]).with(
            format!("wifi.signal{{{name}}}"),
            signal,
            Unit::Dbm,
        ));
    }
}
