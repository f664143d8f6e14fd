//! TCP sends much again: packets get lost on the way.

use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::lane::{Lane, RESENT, Severity};
use crate::units::short_count;

const ABOUT: About = About {
    name: "retransmits",
    lane: Lane::Network,
    title: "packets get lost on the way",
    least: 3.0,
    calm: 10.0,
    explained_by: &["link-errors", "link-full", "backlog"],
    causes: "a lossy or overloaded link; a peer that is gone or too slow",
    next: "look at the connections of who sends (4, or enter)",
    limits: &[AGAIN],
};
/// Share of what is sent, in percent, below which it is nothing out of the ordinary.
const SHARE: f64 = 0.5;

/// Segments a second, as the lane has it.
const AGAIN: Limit = Limit {
    rule: "retransmits",
    name: "again",
    what: "TCP segments that are sent again in a second",
    unit: Unit::PerSecond,
    values: &RESENT,
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let rate =
        |counter: fn(&crate::reading::Reading) -> crate::known::Raw| scene.sample.rate(counter).value();
    let Some(again) = rate(|r| r.system.tcp_retransmits) else { return };
    let mut severity = Severity::reached(again, scene.three(&AGAIN));
    let share = rate(|r| r.system.tcp_segments).filter(|all| *all > 0.0).map(|all| again / all * 100.0);
    if share.is_some_and(|share| share < SHARE) {
        severity = Severity::Fine;
    }
    if severity == Severity::Fine {
        return;
    }
    let culprits = scene.culprits(&scene.ranking("net_out"), None);
    let part = share.map_or(String::new(), |share| format!(", {share:.1} % of all"));
    let mut text =
        format!("{} TCP segments a second are sent again{part}: packets get lost.", short_count(again));
    text += &does(&culprits, "sends", "send", "of what is sent");
    seen.push(Seen::new(severity, "", text).by(culprits).with("tcp.retransmits", again, Unit::PerSecond));
}
