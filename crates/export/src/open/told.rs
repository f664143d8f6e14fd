//! Which processes are told to other programs: those that use most, and who was told stays told while it is anywhere near them. So
//! a store that remembers every series it ever saw does not fill up because two processes change places.

use dozor_core::catalogue::{Metric, listed};
use dozor_core::reading::ProcessKey;
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use std::collections::HashSet;

/// What makes a process worth telling.
const BY: [&str; 4] = ["cpu", "rss", "disk", "net"];

/// Processes that are told.
#[derive(Clone, Debug)]
pub struct Told {
    most: usize,
    keys: HashSet<ProcessKey>,
}

impl Told {
    /// At most so many.
    pub fn new(most: usize) -> Told {
        Told { most, keys: HashSet::new() }
    }

    /// Chooses for a sample: their places, by PID.
    pub fn choose(&mut self, sample: &Sample) -> Vec<usize> {
        let count = sample.now.processes.len();
        let each = self.most.div_ceil(BY.len());
        let mut near: HashSet<usize> = HashSet::new();
        let mut top: Vec<usize> = vec![];
        let mut ranks: Vec<Vec<usize>> = vec![];
        for alias in BY {
            let metric: &Metric = listed(alias);
            let mut ranked: Vec<(f64, usize)> = (0..count)
                .filter_map(|at| Some((metric.of(&sample.process(at)).number()?, at)))
                .filter(|(value, _)| *value > 0.0)
                .collect();
            ranked.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
            near.extend(ranked.iter().take(each * 3).map(|(_, at)| *at));
            ranks.push(ranked.into_iter().take(self.most).map(|(_, at)| at).collect());
        }
        // Turn by turn, so that each way of using much has its part.
        for rank in 0..self.most {
            top.extend(ranks.iter().filter_map(|ranked| ranked.get(rank)).copied());
        }
        let key = |at: usize| sample.now.processes[at].key();
        let mut chosen: Vec<usize> = vec![];
        let stays = near.iter().copied().filter(|at| self.keys.contains(&key(*at)));
        let mut seen: HashSet<usize> = HashSet::new();
        // The first of each stand before those that stay, those behind them.
        let first: Vec<usize> =
            ranks.iter().flat_map(|ranked| ranked.iter().take(each.div_ceil(2))).copied().collect();
        let mut staying: Vec<usize> = stays.collect();
        staying.sort_unstable();
        for at in first.into_iter().chain(staying).chain(top) {
            // What came and went, or belongs to nobody known, is no process.
            if chosen.len() < self.most && key(at).pid > 0 && seen.insert(at) {
                chosen.push(at);
            }
        }
        self.keys = chosen.iter().map(|at| key(*at)).collect();
        chosen.sort_by_key(|at| key(*at));
        chosen
    }
}
