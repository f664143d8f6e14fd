//! A process that was stopped and not continued.

use super::lasting::{Is, Lasting};
use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::sample::process_state;
use crate::units::long_duration;

const ABOUT: About = About {
    name: "stopped",
    lane: Lane::Cpu,
    title: "a process was stopped and not continued",
    least: 0.0,
    calm: 2.0,
    causes: "a stop signal that somebody forgot; a program in the background that wants the terminal",
    next: &[Advice(Step::Act("CONT"), "continue it")],
    limits: &[STAYS],
    is_of_limits: true,
    ..About::PLAIN
};
/// Seconds after which it is worth a word.
const STAYS: Limit = Limit {
    name: "time",
    what: "for how long a process is stopped",
    of: "",
    unit: Unit::Seconds,
    values: &[5.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Stopped::default())
}

#[derive(Default)]
struct Stopped(Lasting);

impl Rule for Stopped {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        // One that was stopped before watching began is somebody's intention.
        self.0.follow(scene, scene.doers(), |view| match process_state(view.now) {
            Some("stopped") => Is::So,
            _ => Is::Not,
        });
        for (key, seconds) in self.0.for_seconds(scene.one(&STAYS)) {
            let Some(row) = scene.sample.now.process(key) else { continue };
            let one = who(row);
            let text =
                format!("{} is stopped for {} and does nothing.", one.name, long_duration(seconds.round()));
            seen.push(Seen::new(Severity::Notice, one.name.clone(), text).by([one]).with(
                "stopped",
                seconds,
                Unit::Seconds,
            ));
        }
    }
}
