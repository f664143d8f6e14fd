//! A link carries all that it can.

use crate::catalogue::{Unit, link_usage};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::{MAIN, Scene, does};
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, NETWORK, Severity};
use crate::parts::{Peer, address, connection_rates, peers};

const ABOUT: About = About {
    name: "link-full",
    lane: Lane::Network,
    title: "a link is full",
    least: 3.0,
    calm: 8.0,
    causes: "a copy or a backup without a limit; a flood",
    next: &[Advice(Step::Lane(Lane::Network), "look at who moves it and to whom")],
    limits: &[USED],
    is_of_lane: true,
    ..About::PLAIN
};
/// Percent of a link, as the lane has it.
const USED: Limit = Limit {
    name: "used",
    what: "share of the speed of a link, in the busier direction",
    of: "",
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
        culprits.retain(|one| leaves(scene, one, received > sent, most));
        let mut peers = peers(scene.sample).into_iter().filter(|peer| !is_loopback(&peer.address));
        let moved = |peer: &Peer| if received > sent { peer.received } else { peer.sent }.value();
        let peer = peers.next().filter(|peer| moved(peer).is_some_and(|rate| rate >= MAIN * most));
        let peer = peer.map(|peer| peer.address.to_string());
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

fn is_loopback(address: &str) -> bool {
    address.starts_with("127.") || address == "::1"
}

/// Whether what somebody moves surely leaves the machine: his connections to others carry a good part of the link's bytes, or
/// there is no traffic of the machine with itself that it could be.
fn leaves(scene: &Scene<'_>, one: &Culprit, receives: bool, most: f64) -> bool {
    let sample = scene.sample;
    let mut interfaces = sample.parts(|reading| &reading.interfaces[..]);
    let own =
        interfaces.find(|link| &*link.now.name == "lo").and_then(|link| link.rate(|i| i.in_bytes).value());
    if own.unwrap_or(0.0) < MAIN * most {
        return true;
    }
    let of_him = sample.parts(|reading| &reading.connections[..]).filter(|connection| {
        let [here, there] = [&connection.now.local, &connection.now.remote].map(|end| address(end));
        connection.now.pid.value().is_some()
            && connection.now.pid.value() == one.pid
            && !is_loopback(there)
            && here != there
    });
    let rates = of_him.filter_map(|connection| connection_rates(&connection)[usize::from(!receives)].value());
    rates.sum::<f64>() >= MAIN * most
}
