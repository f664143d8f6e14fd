//! A process that was stopped and not continued.

use crate::catalogue::Unit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::lane::{Lane, Severity};
use crate::reading::ProcessKey;
use crate::row::Row as _;
use crate::sample::process_state;
use crate::units::{NANOS, long_duration};
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "stopped",
    lane: Lane::Cpu,
    title: "a process was stopped and not continued",
    least: 0.0,
    calm: 2.0,
    explained_by: &[],
    causes: "a stop signal that somebody forgot; a program in the background that wants the terminal",
    next: "continue it (x)",
};
/// Seconds after which it is worth a word.
const STAYS: f64 = 5.0;

pub fn rule() -> Box<dyn Rule> {
    Box::new(Stopped::default())
}

#[derive(Default)]
struct Stopped {
    since: BTreeMap<ProcessKey, i64>,
}

impl Rule for Stopped {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let now = scene.sample.now.monotonic_ns();
        for key in &scene.ended {
            self.since.remove(key);
        }
        // One that was stopped before watching began is somebody's intention.
        for view in scene.doers() {
            if process_state(view.now) == Some("stopped") {
                self.since.entry(view.now.key()).or_insert(now);
            } else {
                self.since.remove(&view.now.key());
            }
        }
        for (key, since) in &self.since {
            let seconds = (now - since) as f64 / NANOS as f64;
            let Some(row) = scene.sample.now.process(*key).filter(|_| seconds >= STAYS) else { continue };
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
