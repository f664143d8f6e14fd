//! Tasks that stay blocked in the kernel.

use super::lasting::{Is, Lasting};
use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::lane::{Lane, Severity};
use crate::reading::ProcessKey;
use crate::sample::process_state;
use crate::sorting::ColdSort as _;
use crate::units::long_duration;

const ABOUT: About = About {
    name: "blocked",
    lane: Lane::Disk,
    title: "tasks stay blocked in the kernel",
    least: 0.0,
    calm: 3.0,
    explained_by: &["filesystem-silent", "remote-slow", "disk-saturated"],
    causes: "a server or a device that does not answer; a saturated disk; a fault of a driver",
    next: "look at what it waits for (enter); no signal is taken until that ends",
    limits: &[STAYS],
};
/// Seconds in the same state, with no work done: a warning, critical.
const STAYS: Limit = Limit {
    rule: "blocked",
    name: "time",
    what: "for how long a task is blocked: warning, critical",
    unit: Unit::Seconds,
    values: &[8.0, 120.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Blocked::default())
}

#[derive(Default)]
struct Blocked(Lasting);

impl Rule for Blocked {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        self.0.follow(scene, scene.doers(), |view| {
            // Who ran in between was only caught waiting.
            let ran = view.before.is_none_or(|before| {
                before.run_ns != view.now.run_ns || before.system_ticks != view.now.system_ticks
            });
            match (process_state(view.now), ran) {
                (Some("blocked"), false) => Is::So,
                (Some("blocked"), true) => Is::Anew,
                _ => Is::Not,
            }
        });
        let mut all: Vec<(ProcessKey, f64)> = self.0.for_seconds(scene.two(&STAYS)[0]).collect();
        all.cold_sort_by(|a, b| b.1.total_cmp(&a.1));
        let Some((first, longest)) = all.first().copied() else { return };
        let Some(row) = scene.sample.now.process(first) else { return };
        let severity = if longest >= scene.two(&STAYS)[1] { Severity::Critical } else { Severity::Warning };
        let others = match all.len() {
            1 => String::new(),
            many => format!(" and {} more", many - 1),
        };
        let main = who(row);
        let text = format!(
            "{}{others} blocked in the kernel for {}: no signal is taken until that ends.",
            main.name,
            long_duration(longest.round())
        );
        let named = all.iter().take(3).filter_map(|(key, _)| scene.sample.now.process(*key));
        seen.push(Seen::new(severity, "", text).by(named.map(|row| who(row))).with(
            "tasks.blocked",
            all.len() as f64,
            Unit::Number,
        ));
    }
}
