//! Datagrams that arrive and are not delivered, and whose they are.

use crate::catalogue::{Unit, listed};
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::{MAIN, Scene, who};
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity, UNDELIVERED};
use crate::units::short_count;

const ABOUT: About = About {
    name: "udp-lost",
    lane: Lane::Network,
    title: "datagrams are not delivered",
    least: 2.0,
    calm: 8.0,
    causes: "a program that reads too slowly for what comes, or a buffer that is too small; a flood",
    next: &[Advice(Step::Inspect("sockets"), "look at the sockets of who loses them")],
    limits: &[LOST],
    ..About::PLAIN
};

/// Datagrams a second, as the lane has it.
const LOST: Limit = Limit {
    name: "lost",
    what: "datagrams that are not delivered in a second, of the machine or of a process",
    of: "",
    unit: Unit::PerSecond,
    values: &UNDELIVERED,
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let drops = listed("udp_drops");
    // Who does nothing may lose them all the same: its row changes with its drops.
    let worst = scene
        .doers()
        .filter_map(|view| Some((view, drops.of(&view).number().filter(|lost| *lost >= 1.0)?)))
        .max_by(|a, b| a.1.total_cmp(&b.1));
    let all = scene.sample.rate(|reading| reading.system.udp_errors).value().unwrap_or(0.0);
    let lost = worst.as_ref().map_or(all, |(_, lost)| all.max(*lost));
    // Who loses a little beside what others lose is not it.
    let worst = worst.filter(|(_, own)| *own >= MAIN * all);
    let severity = Severity::reached(lost, scene.three(&LOST));
    if severity == Severity::Fine {
        return;
    }
    // The socket that drops most, of those that are asked for.
    let socket = |is_his: &dyn Fn(Option<i64>) -> bool| {
        let sockets = scene.sample.parts(|reading| &reading.listeners[..]);
        let drops = sockets
            .filter(|socket| is_his(socket.now.pid.value()))
            .filter_map(|socket| Some((socket.now.local.clone(), socket.rate(|s| s.drops).value()?)));
        drops.max_by(|a, b| a.1.total_cmp(&b.1)).filter(|(_, rate)| *rate > 0.0)
    };
    let text = if let Some((view, own)) = &worst {
        let place = socket(&|pid| pid == view.now.pid.value());
        let place = place.map_or(String::new(), |(local, _)| format!(" on {local}"));
        let (who, own) = (who(view.now).name, short_count(*own));
        format!("{who} loses {own} datagrams a second{place}: it reads too slowly.")
    } else {
        let ownerless = socket(&|pid| pid.is_none()).filter(|(_, rate)| *rate >= MAIN * all);
        let place = ownerless.map_or(String::new(), |(local, _)| {
            format!(" Most are lost on {local}, whose owner only root can see (dozor access).")
        });
        format!("{} UDP datagrams a second arrive and are not delivered.{place}", short_count(all))
    };
    let mut one = Seen::new(severity, "", text).by(worst.iter().map(|(view, _)| who(view.now)));
    if let Some((view, own)) = &worst {
        one = one.with(format!("udp_drops@{}", view.now.pid.value().unwrap_or(0)), *own, Unit::PerSecond);
    }
    seen.push(one.with("udp.errors", all, Unit::PerSecond));
}
