//! Looking for the moment at which a process had most of something. It goes on in small parts, so that the screen does
//! not stand still; where indexes tell what any process had most, the blocks that cannot hold it are left out.

use dozor_core::catalogue::Metric;
use dozor_core::reading::ProcessKey;
use dozor_core::recording::ReadError;
use dozor_core::sorting::ColdSort as _;
use dozor_core::timeline::{Reach, Timeline};
use std::ops::Range;

/// Samples that are looked at between two frames, at least.
const PART: usize = 1_000;

/// What is looked for, and how far that is.
#[derive(Clone, Debug)]
pub struct Search {
    /// Whose.
    pub key: ProcessKey,
    /// Its name.
    pub name: String,
    /// What it had most of.
    pub metric: &'static Metric,
    /// What is left to look at, with the most that any process had there, the least promising first.
    left: Vec<(f64, Range<usize>)>,
    parts: usize,
    /// The largest so far, and where.
    pub best: Option<(f64, usize)>,
}

impl Search {
    /// Begins.
    pub fn new(timeline: &Timeline, key: ProcessKey, name: String, metric: &'static Metric) -> Search {
        let numbers = timeline.first()..timeline.end();
        let mut left: Vec<(f64, Range<usize>)> = timeline
            .blocks(numbers, metric)
            .into_iter()
            .filter_map(|block| match block.peak {
                None => Some((f64::INFINITY, block.numbers)),
                Some(peak) => peak.map(|(peak, _)| (peak.value, block.numbers)),
            })
            .collect();
        left.cold_sort_by(|a, b| a.0.total_cmp(&b.0));
        let parts = left.len();
        Search { key, name, metric, left, parts, best: None }
    }

    /// How much of it is done, in percent.
    pub fn done(&self) -> usize {
        (self.parts - self.left.len()) * 100 / self.parts.max(1)
    }

    /// Looks at some more samples; says whether that was all.
    pub fn go_on(&mut self, timeline: &Timeline) -> Result<bool, ReadError> {
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        let (key, metric) = (self.key, self.metric);
        let mut looked_at = 0;
        while looked_at < PART
            && let Some((most, numbers)) = self.left.pop()
        {
            if self.best.is_some_and(|(best, _)| best >= most) {
                self.left.clear();
                break;
            }
            looked_at += numbers.len();
            let start = || None;
            let parts = timeline.fold(
                numbers,
                threads,
                Reach::of(metric),
                start,
                |best: &mut Option<(f64, usize)>, number, sample| {
                    let value = sample.find(key).and_then(|at| metric.of(&sample.process(at)).number());
                    if let Some(value) = value.filter(|value| best.is_none_or(|(most, _)| *value > most)) {
                        *best = Some((value, number));
                    }
                },
            )?;
            for (value, number) in parts.into_iter().flatten() {
                // Of several equal ones the first in time.
                let better =
                    self.best.is_none_or(|(most, at)| value > most || (value >= most && number < at));
                if better {
                    self.best = Some((value, number));
                }
            }
        }
        Ok(self.left.is_empty())
    }
}
