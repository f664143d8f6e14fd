//! Threads of a process, or processes of a program, that only become more.

use super::grows::{Growing, LONG, YOUNG};
use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::units::short_count;

const ABOUT: About = About {
    name: "thread-leak",
    lane: Lane::Cpu,
    title: "threads that only become more",
    least: 0.0,
    calm: 5.0,
    causes: "a thread for each request that never ends; a pool without a limit",
    next: &[Advice(Step::Inspect("threads"), "look at its threads"), Advice(Step::Act("TERM"), "restart it")],
    limits: &[GAINED],
    is_of_limits: true,
    ..About::PLAIN
};
/// Seconds of growth, of one that has very many.
const STEADY: f64 = 5.0;
const GAINED: Limit = Limit {
    name: "gained",
    what: "threads that a process gained: notice; that it has: warning",
    of: "",
    unit: Unit::Number,
    values: &[100.0, 2_000.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Threads(Growing::default()))
}

struct Threads(Growing);

impl Rule for Threads {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        self.0.look(
            scene,
            |view| view.now.threads.float().value(),
            |view, growth| {
                // A pool is filled while a program starts.
                let needed = if growth.level() >= scene.two(&GAINED)[1] { STEADY } else { LONG };
                let is_young = scene.age(view.now) < YOUNG && needed > STEADY;
                if is_young || growth.seconds() < needed || growth.gained() < scene.two(&GAINED)[0] {
                    return;
                }
                let severity = if growth.level() >= scene.two(&GAINED)[1] {
                    Severity::Warning
                } else {
                    Severity::Notice
                };
                let one = who(view.now);
                let text = format!(
                    "{} starts threads that do not end: {:.0} of them, {} more a second.",
                    one.name,
                    growth.level(),
                    short_count(growth.pace())
                );
                let pid = view.now.pid.value().unwrap_or(0);
                seen.push(Seen::new(severity, one.name.clone(), text).by([one]).with(
                    format!("threads@{pid}"),
                    growth.level(),
                    Unit::Number,
                ));
            },
        );
    }
}
