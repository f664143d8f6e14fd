//! Processes that have ended and that nobody collects.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::lane::{Lane, Severity};
use crate::reading::{ProcessKey, with_pid};
use crate::row::Row as _;
use crate::sample::process_state;
use crate::units::NANOS;
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "zombies",
    lane: Lane::Cpu,
    title: "leaves zombies",
    least: 0.0,
    calm: 5.0,
    explained_by: &[],
    causes: "a parent that does not wait for its children; it must be mended or restarted",
    next: "look at the parent; ending it lets the zombies go (x)",
};
/// Seconds after which a zombie is nobody's hurry any more.
const STAYS: f64 = 5.0;
/// Zombies of one parent: worth knowing, a warning.
const MANY: [f64; 3] = [5.0, 500.0, f64::INFINITY];

pub fn rule() -> Box<dyn Rule> {
    Box::new(Zombies::default())
}

/// Since when who is one.
#[derive(Default)]
struct Zombies {
    since: BTreeMap<ProcessKey, i64>,
    begun: bool,
}

impl Rule for Zombies {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let sample = scene.sample;
        let now = sample.now.monotonic_ns();
        for key in &scene.ended {
            self.since.remove(key);
        }
        // Those of before never change their row again.
        let places: Vec<usize> = if std::mem::replace(&mut self.begun, true) {
            scene.active.clone()
        } else {
            (0..sample.now.processes.len()).collect()
        };
        for at in places {
            let row = &sample.now.processes[at];
            if process_state(row) == Some("zombie") {
                self.since.entry(row.key()).or_insert(now);
            } else {
                self.since.remove(&row.key());
            }
        }
        let mut parents: BTreeMap<i64, usize> = BTreeMap::new();
        for (key, since) in &self.since {
            if (now - since) as f64 / NANOS as f64 >= STAYS
                && let Some(parent) = sample.now.process(*key).and_then(|row| row.ppid.value())
            {
                *parents.entry(parent).or_default() += 1;
            }
        }
        for (parent, count) in parents {
            let severity = Severity::reached(count as f64, MANY);
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
