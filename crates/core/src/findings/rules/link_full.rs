//! A link carries all that it can.

use crate::catalogue::{Unit, link_usage};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::lane::{Lane, NETWORK, Severity};
use crate::parts::peers;

const ABOUT: About = About {
    name: "link-full",
    lane: Lane::Network,
    title: "a link is full",
    least: 3.0,
    calm: 8.0,
    explained_by: &[],
    causes: "a copy or a backup without a limit; a flood",
    next: "look at who moves it and to whom (4)",
    limits: &[USED],
};
/// Percent of a link, as the lane has it.
const USED: Limit = Limit {
    rule: "link-full",
    name: "used",
    what: "share of the speed of a link, in the busier direction",
    unit: Unit::Percent,
    values: &NETWORK,
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for link in scene.sample.parts(|reading| &reading.interfaces[..]) {
        let Some(used) = link_usage(&link).value() else { continue };
        let severity = Severity::reached(used, scene.three(&USED));
        if severity == Severity::Fine {
            continue;
        }
        let rate =
            |counter: fn(&crate::reading::InterfaceRow) -> crate::known::Raw| link.rate(counter).value();
        let (received, sent) = (rate(|i| i.in_bytes).unwrap_or(0.0), rate(|i| i.out_bytes).unwrap_or(0.0));
        let (alias, verb, most) =
            if received > sent { ("net_in", "receives", received) } else { ("net_out", "sends", sent) };
        let mut culprits = scene.culprits(&scene.ranking(alias), Some(most));
        let peer = peers(scene.sample).into_iter().next().map(|peer| peer.address.to_string());
        let name = &link.now.name;
        let mut text = format!("{name} is full: {used:.0} % of its link.");
        text += &does(&culprits, verb, verb.trim_end_matches('s'), "of it");
        if let Some(peer) = &peer {
            text.truncate(text.len() - 1);
            text += &format!(", most with {peer}.");
            culprits.push(Culprit::thing(peer));
        }
        let metric = if received > sent { "net.in" } else { "net.out" };
        seen.push(
            Seen::new(severity, &**name, text)
                .by(culprits)
                .with(format!("net.usage{{{name}}}"), used, Unit::Percent)
                .with(format!("{metric}{{{name}}}"), most, Unit::BytesPerSecond),
        );
    }
}
