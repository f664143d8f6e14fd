//! Processes that have ended and that nobody collects.

use super::lasting::{Is, Lasting};
use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::reading::with_pid;
use crate::sample::process_state;
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "zombies",
    lane: Lane::Cpu,
    title: "leaves zombies",
    least: 0.0,
    calm: 5.0,
    causes: "a parent that does not wait for its children; it must be mended or restarted",
    next: &[
        Advice(Step::Inspect(""), "look at the parent"),
        Advice(Step::Act("TERM"), "ending it lets the zombies go"),
    ],
    limits: &[STAYS, MANY],
    is_of_limits: true,
    ..About::PLAIN
};
/// Seconds after which a zombie is nobody's hurry any more.
const STAYS: Limit = Limit {
    name: "time",
    what: "for how long a process has ended without being waited for",
    of: "",
    unit: Unit::Seconds,
    values: &[5.0],
};
/// Zombies of one parent: worth knowing, a warning.
const MANY: Limit = Limit {
    name: "many",
    what: "how many there are",
    of: "",
    unit: Unit::Number,
    values: &[5.0, 500.0, f64::INFINITY],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Zombies::default())
}

#[derive(Default)]
struct Zombies {
    lasting: Lasting,
    begun: bool,
}

impl Rule for Zombies {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let sample = scene.sample;
        // Those of before never change their row again.
        let all: Vec<usize>;
        let places = if std::mem::replace(&mut self.begun, true) {
            scene.active
        } else {
            all = (0..sample.now.processes.len()).collect();
            &all
        };
        let views = places.iter().map(|at| sample.process(*at));
        self.lasting.follow(scene, views, |view| match process_state(view.now) {
            Some("zombie") => Is::So,
            _ => Is::Not,
        });
        let mut parents: BTreeMap<i64, usize> = BTreeMap::new();
        for (key, _) in self.lasting.for_seconds(scene.one(&STAYS)) {
            if let Some(parent) = sample.now.process(key).and_then(|row| row.ppid.value()) {
                *parents.entry(parent).or_default() += 1;
            }
        }
        for (parent, count) in parents {
            let severity = Severity::reached(count as f64, scene.three(&MANY));
            if severity == Severity::Fine {
                continue;
            }
            let row = with_pid(&sample.now.processes, parent);
            let one = row.map_or_else(|| Culprit::thing(format!("process {parent}")), |row| who(row));
            let text = format!("{count} processes have ended and wait to be collected by {}.", one.name);
            seen.push(Seen::new(severity, one.name.clone(), text).by([one]).with(
                "zombies",
                count as f64,
                Unit::Number,
            ));
        }
    }
}
