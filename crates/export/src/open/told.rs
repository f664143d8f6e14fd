//! Which processes are told to other programs: those that use most, and who was told stays told while it is anywhere near them. So
//! a store that remembers every series it ever saw does not fill up because two processes change places.

use dozor_core::catalogue::{Metric, listed};
use dozor_core::reading::ProcessKey;
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use dozor_core::sorting::ColdSort as _;
use std::collections::{HashMap, HashSet};

/// What makes a process worth telling.
const BY: [&str; 4] = ["cpu", "rss", "disk", "net"];

/// A process that is told.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ToldProcess {
    /// Its place in the sample.
    pub place: usize,
    /// Bytes that it sent towards storage since it was first seen, and when that was, in nanoseconds since 1970; none where that
    /// is not known.
    pub written: Option<(f64, i64)>,
}

/// Processes that are told.
#[derive(Clone, Debug)]
pub struct Told {
    most: usize,
    keys: HashSet<ProcessKey>,
    /// What each sent towards storage so far, as the screen shows it.
    written: HashMap<ProcessKey, (f64, i64)>,
}

impl Told {
    /// At most so many.
    pub fn new(most: usize) -> Told {
        Told { most, keys: HashSet::new(), written: HashMap::new() }
    }

    /// Adds up what each process sent towards storage.
    fn add_up(&mut self, sample: &Sample) {
        let (write, wall) = (listed("write"), sample.now.wall_ns());
        let mut written = HashMap::with_capacity(self.written.len());
        for at in 0..sample.now.processes.len() {
            let view = sample.process(at);
            let key = view.now.key();
            let before = self.written.get(&key).copied();
            let more = write.of(&view).number().zip(sample.seconds()).map(|(rate, seconds)| rate * seconds);
            let since =
                sample.before.as_ref().filter(|_| more.is_some()).map_or(wall, |before| before.wall_ns());
            let sum = match (before, more) {
                (Some((sum, since)), more) => Some((sum + more.unwrap_or(0.0), since)),
                (None, Some(more)) => Some((more, since)),
                (None, None) => None,
            };
            written.extend(sum.map(|sum| (key, sum)));
        }
        self.written = written;
    }

    /// Chooses for a sample: processes by PID.
    pub fn choose(&mut self, sample: &Sample) -> Vec<ToldProcess> {
        self.add_up(sample);
        let places = self.choose_places(sample).into_iter();
        let written = |place: usize| self.written.get(&sample.now.processes[place].key()).copied();
        places.map(|place| ToldProcess { place, written: written(place) }).collect()
    }

    fn choose_places(&mut self, sample: &Sample) -> Vec<usize> {
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
            ranked.cold_sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
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
        chosen.cold_sort_by_key(|at| key(*at));
        chosen
    }
}
