//! Processes that stay in a state: since when.

use crate::findings::scene::Scene;
use crate::reading::ProcessKey;
use crate::row::Row as _;
use crate::sample::ProcessView;
use crate::units::NANOS;
use std::collections::BTreeMap;

/// Since when who is in a state.
#[derive(Default)]
pub struct Lasting {
    since: BTreeMap<ProcessKey, i64>,
    now: i64,
}

/// What a process is at a sample.
pub enum Is {
    /// In another state.
    Not,
    /// In the state, and it may have been before.
    So,
    /// In the state anew: it did something in between.
    Anew,
}

impl Lasting {
    /// Takes in a sample: whose row did not change is as before.
    pub fn follow<'a>(
        &mut self,
        scene: &Scene<'a>,
        views: impl Iterator<Item = ProcessView<'a>>,
        is: impl Fn(&ProcessView<'a>) -> Is,
    ) {
        self.now = scene.sample.now.monotonic_ns();
        for key in &scene.ended {
            self.since.remove(key);
        }
        for view in views {
            let key = view.now.key();
            match is(&view) {
                Is::Not => drop(self.since.remove(&key)),
                Is::So => drop(self.since.entry(key).or_insert(self.now)),
                Is::Anew => drop(self.since.insert(key, self.now)),
            }
        }
    }

    /// Who has stayed so for so many seconds, and for how long, in the order of their PIDs.
    pub fn for_seconds(&self, least: f64) -> impl Iterator<Item = (ProcessKey, f64)> + '_ {
        let all = self.since.iter().map(|(key, since)| (*key, (self.now - since) as f64 / NANOS as f64));
        all.filter(move |(_, seconds)| *seconds >= least)
    }
}
