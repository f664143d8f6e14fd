//! Looking for the moment at which a process had most of something. It goes on in small parts, so that the screen does
//! not stand still.

use super::state::State;
use dozor_core::catalogue::Metric;
use dozor_core::reading::ProcessKey;
use dozor_core::recording::ReadError;

/// Samples that are looked at between two frames.
const PART: usize = 1_500;

/// What is looked for, and how far that is.
#[derive(Clone, Debug)]
pub struct Search {
    /// Whose.
    pub key: ProcessKey,
    /// Its name.
    pub name: String,
    /// What it had most of.
    pub metric: &'static Metric,
    /// The next sample.
    pub next: usize,
    /// The largest so far, and where.
    pub best: Option<(f64, usize)>,
}

impl Search {
    /// How much of it is done, in percent.
    pub fn done(&self, state: &State) -> usize {
        let (first, end) = (state.timeline.first(), state.timeline.end());
        (self.next.saturating_sub(first)) * 100 / (end - first).max(1)
    }

    /// Looks at some more samples; says whether that was all.
    pub fn go_on(&mut self, state: &State) -> Result<bool, ReadError> {
        let end = state.timeline.end();
        let from = self.next.max(state.timeline.first());
        let until = (from + PART).min(end);
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        let (key, metric) = (self.key, self.metric);
        let parts = state.timeline.fold(from..until, threads, || None, |best: &mut Option<(f64, usize)>, number, sample| {
            let value = sample.find(key).and_then(|at| metric.of(&sample.process(at)).number());
            if let Some(value) = value.filter(|value| best.is_none_or(|(most, _)| *value > most)) {
                *best = Some((value, number));
            }
        })?;
        for (value, number) in parts.into_iter().flatten() {
            if self.best.is_none_or(|(most, _)| value > most) {
                self.best = Some((value, number));
            }
        }
        self.next = until;
        Ok(until >= end)
    }
}
