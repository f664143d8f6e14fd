//! How long processes have been near the top: who stays there for minutes is the culprit, a single spike is not.

use super::Order;
use crate::reading::ProcessKey;
use crate::row::Row as _;
use crate::sample::Sample;
use std::collections::HashMap;

/// Near the top are so many processes …
const TOP: usize = 5;
/// … with at least this part of the largest value.
const PART: f64 = 0.1;
/// So many samples elsewhere end a stay.
const MISSES: u32 = 3;

#[derive(Clone, Copy, Debug)]
struct Stay {
    since_ns: i64,
    /// Samples since it was last seen near the top.
    missed: u32,
}

/// Follows one order from sample to sample.
#[derive(Debug, Default)]
pub struct Persistence {
    stays: HashMap<ProcessKey, Stay>,
    last: Option<(usize, Order)>,
    /// When the first sample that was taken in began.
    first_ns: i64,
}

/// How long a process has been near the top.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NearTop {
    /// Since when, in nanoseconds since 1970.
    pub since_ns: i64,
    /// It may have been there before: that is where following began.
    pub at_least: bool,
}

impl Persistence {
    /// Takes in the sample with this number. Says whether it followed the one before; if not, the samples before it
    /// should be taken in first, from [`Persistence::default`] on.
    pub fn follow(&mut self, number: usize, sample: &Sample, order: &Order) -> bool {
        self.follow_values(number, sample, order, &|at| order.first.metric.of(&sample.process(at)).number())
    }

    /// The same, where the values of the first key are known by place.
    pub fn follow_values(
        &mut self,
        number: usize,
        sample: &Sample,
        order: &Order,
        value: &dyn Fn(usize) -> Option<f64>,
    ) -> bool {
        if self.last == Some((number, *order)) {
            return true;
        }
        let follows = self.last.is_some_and(|(last, before)| last + 1 == number && before == *order);
        if !follows {
            self.stays.clear();
        }
        self.last = Some((number, *order));
        if !order.first.descending {
            return follows;
        }
        for stay in self.stays.values_mut() {
            stay.missed += 1;
        }
        // A stay begins with the time that the sample covers.
        let covered = (sample.seconds().unwrap_or(0.0) * 1e9) as i64;
        let begin = sample.now.wall_ns() - covered;
        if !follows {
            self.first_ns = begin;
        }
        for key in top(sample, value) {
            self.stays.entry(key).or_insert(Stay { since_ns: begin, missed: 0 }).missed = 0;
        }
        self.stays.retain(|_, stay| stay.missed < MISSES);
        follows
    }

    /// How long a process has been near the top; none where it is not.
    pub fn of(&self, key: ProcessKey) -> Option<NearTop> {
        let since_ns = self.stays.get(&key)?.since_ns;
        Some(NearTop { since_ns, at_least: since_ns <= self.first_ns })
    }
}

/// Processes near the top by their values.
fn top(sample: &Sample, value: &dyn Fn(usize) -> Option<f64>) -> Vec<ProcessKey> {
    let values = (0..sample.now.processes.len()).filter_map(|at| {
        let value = value(at)?;
        (value > 0.0).then_some((value, at))
    });
    let mut values: Vec<(f64, usize)> = values.collect();
    if values.len() > TOP {
        values.select_nth_unstable_by(TOP - 1, |a, b| b.0.total_cmp(&a.0));
        values.truncate(TOP);
    }
    let largest = values.iter().map(|(value, _)| *value).fold(0.0, f64::max);
    let near = values.into_iter().filter(|(value, _)| *value >= largest * PART);
    near.map(|(_, at)| sample.now.processes[at].key()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalogue::listed;
    use crate::reading::{HostFacts, ProcessRow, Reading, raw};
    use std::sync::Arc;

    fn sample(second: i64, memory: &[i64]) -> Sample {
        let mut reading = Reading::default();
        let ns = raw(second * 1_000_000_000);
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
        reading.processes = memory
            .iter()
            .enumerate()
            .map(|(pid, bytes)| {
                let pid = raw(pid as i64 + 1);
                Arc::new(ProcessRow {
                    pid,
                    start_ticks: raw(1),
                    rss_bytes: raw(*bytes),
                    ..ProcessRow::default()
                })
            })
            .collect();
        Sample::new(Arc::new(HostFacts::default()), None, Arc::new(reading))
    }

    #[test]
    fn who_stays_near_the_top_is_told_from_a_spike() {
        let order = Order::by(listed("rss"));
        let mut persistence = Persistence::default();
        let since = |persistence: &Persistence, pid: i64| {
            persistence.of(ProcessKey { pid, start: 1 }).map(|stay| stay.since_ns / 1_000_000_000)
        };
        assert!(!persistence.follow(10, &sample(100, &[900, 50, 300, 0]), &order));
        assert_eq!(since(&persistence, 1), Some(100));
        assert_eq!(since(&persistence, 2), None, "less than a tenth of the largest");
        assert_eq!(since(&persistence, 4), None, "nothing is not near the top");
        for (number, memory) in [(11, [900, 800, 0, 0]), (12, [900, 0, 300, 0]), (13, [900, 0, 0, 0])] {
            assert!(persistence.follow(number, &sample(90 + number as i64, &memory), &order));
        }
        assert_eq!(since(&persistence, 3), Some(100), "a short absence does not end a stay");
        assert_eq!(since(&persistence, 2), Some(101));
        let at_least = |pid| persistence.of(ProcessKey { pid, start: 1 }).map(|stay| stay.at_least);
        assert_eq!((at_least(1), at_least(2)), (Some(true), Some(false)), "what was before is not known");
        persistence.follow(14, &sample(104, &[900, 0, 0, 0]), &order);
        assert_eq!(since(&persistence, 2), None, "the spike is forgotten");
        assert_eq!(since(&persistence, 1), Some(100));
        assert!(!persistence.follow(40, &sample(200, &[900, 0, 0, 0]), &order));
        assert_eq!(since(&persistence, 1), Some(200), "after a jump in time it begins anew");
    }
}
