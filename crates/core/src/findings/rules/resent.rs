//! TCP sends much again: packets get lost on the way.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::{MAIN, Scene, does, who};
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, RESENT, Severity};
use crate::reading::with_pid;
use crate::sorting::ColdSort as _;
use crate::units::short_count;
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "retransmits",
    lane: Lane::Network,
    title: "packets get lost on the way",
    least: 3.0,
    calm: 10.0,
    explained_by: &["link-errors", "link-full", "backlog"],
    causes: "a lossy or overloaded link; a peer that is gone or too slow",
    next: &[
        Advice(Step::Inspect("sockets"), "look at the connections of who sends"),
        Advice(Step::Lane(Lane::Network), "and at the interfaces"),
    ],
    limits: &[AGAIN],
    ..About::PLAIN
};
/// Share of what is sent, in percent, below which it is nothing out of the ordinary.
const SHARE: f64 = 0.5;

/// Segments a second, as the lane has it.
const AGAIN: Limit = Limit {
    name: "again",
    what: "TCP segments that are sent again in a second",
    of: "",
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
    let share = rate(|r| r.system.tcp_segments).map(|first| again / (first + again).max(1e-9) * 100.0);
    if share.is_some_and(|share| share < SHARE) {
        severity = Severity::Fine;
    }
    if severity == Severity::Fine {
        return;
    }
    let (culprits, ownerless) = senders(scene, again);
    let part = share.map_or(String::new(), |share| format!(", {share:.1} % of all"));
    let mut text =
        format!("{} TCP segments a second are sent again{part}: packets get lost.", short_count(again));
    text += &does(&culprits, "sends", "send", "of them");
    if culprits.is_empty() && ownerless >= MAIN * again {
        let share = (ownerless / again * 100.0).min(100.0);
        text += &format!(
            " {share:.0} % of them belong to connections whose owner only root can see (dozor access)."
        );
    } else if culprits.is_empty() {
        text += " No open connection accounts for them: unanswered connection requests, or connections that are closed by now.";
    }
    seen.push(Seen::new(severity, "", text).by(culprits).with("tcp.retransmits", again, Unit::PerSecond));
}

/// Whose connections send again, by the kernel's count of each of them: the most first, with their share of all; and how much
/// those send again whose owner is not known.
fn senders(scene: &Scene<'_>, again: f64) -> (Vec<Culprit>, f64) {
    let mut ownerless = 0.0;
    let mut by_pid: BTreeMap<i64, f64> = BTreeMap::new();
    // The machine's count is that of our own network namespace.
    let ours = scene
        .sample
        .parts(|reading| &reading.connections[..])
        .filter(|one| one.now.namespace.value().unwrap_or(0) == 0);
    for connection in ours {
        let Some(rate) = connection.rate(|c| c.resent).value() else { continue };
        match connection.now.pid.value() {
            Some(pid) => *by_pid.entry(pid).or_default() += rate,
            None => ownerless += rate,
        }
    }
    let mut named: Vec<(f64, i64)> =
        by_pid.into_iter().map(|(pid, rate)| (rate, pid)).filter(|(rate, _)| *rate >= MAIN * again).collect();
    named.cold_sort_by(|a, b| b.0.total_cmp(&a.0));
    let culprit = |(rate, pid): (f64, i64)| {
        let row = with_pid(&scene.sample.now.processes, pid)?;
        Some(Culprit { share: Some((rate / again * 100.0).min(100.0)), ..who(row) })
    };
    (named.into_iter().take(3).filter_map(culprit).collect(), ownerless)
}
