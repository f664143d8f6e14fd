//! Connections wait for somebody who does not accept them.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::reading::with_pid;

const ABOUT: About = About {
    name: "backlog",
    lane: Lane::Network,
    title: "connections wait to be accepted",
    least: 2.0,
    calm: 5.0,
    causes: "a server that is stuck or has too few workers; a queue that is too short for bursts",
    next: &[
        Advice(Step::Inspect(""), "look at the server: is it blocked, stopped or full?"),
        Advice(Step::Ports, "all ports, with how many wait"),
    ],
    ..About::PLAIN
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for socket in &scene.sample.now.listeners {
        let (Some(queue), Some(most)) = (socket.queue.value(), socket.queue_most.value()) else { continue };
        // The queue holds one more than it says (net/sock.h, sk_acceptq_is_full).
        let is_full = most > 0 && queue >= most;
        let is_long = queue >= 16 && queue * 2 >= most;
        let severity = match (is_full, is_long) {
            (true, _) => Severity::Warning,
            (false, true) => Severity::Notice,
            _ => continue,
        };
        let owner = socket.pid.value().and_then(|pid| with_pid(&scene.sample.now.processes, pid));
        let server = owner.map_or_else(|| Culprit::thing(&*socket.local), |row| who(row));
        let then = if is_full { "; further ones are turned away" } else { "" };
        let text = format!(
            "{queue} connections wait for {} on {}, which takes {most}{then}.",
            if owner.is_some() { server.name.as_str() } else { "the server" },
            socket.local
        );
        seen.push(Seen::new(severity, &*socket.local, text).by([server]).with(
            "queue",
            queue as f64,
            Unit::Number,
        ));
    }
}
