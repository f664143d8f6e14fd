//! Readings with some processes alone.

use dozor_core::rank::Narrowing;
use dozor_core::reading::{HostFacts, ProcessKey, Reading};
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use std::collections::HashSet;
use std::sync::Arc;

/// The processes that a recording holds. Whoever was meant once stays in it until its end, so that a replay does not show
/// it coming and going.
pub struct Selection {
    pub narrowing: Narrowing,
    meant: HashSet<ProcessKey>,
    before: Option<Arc<Reading>>,
}

impl Selection {
    /// Those of a narrowing.
    pub fn new(narrowing: Narrowing) -> Selection {
        Selection { narrowing, meant: HashSet::new(), before: None }
    }

    /// The reading with those processes alone, and what belongs to them.
    pub fn of(&mut self, host: &Arc<HostFacts>, reading: Arc<Reading>) -> Arc<Reading> {
        if self.narrowing.is_empty() {
            return reading;
        }
        let sample = Sample::new(host.clone(), self.before.replace(reading.clone()), reading.clone());
        self.narrowing.follow(&sample);
        self.meant.retain(|key| sample.find(*key).is_some());
        let filter = self.narrowing.at(&sample);
        let now = (0..reading.processes.len()).map(|at| sample.process(at));
        self.meant.extend(now.filter(|view| filter.matches(view) == Some(true)).map(|view| view.now.key()));
        let mut only = (*reading).clone();
        only.processes.retain(|row| self.meant.contains(&row.key()));
        let pids: HashSet<_> = only.processes.iter().map(|row| row.pid).collect();
        only.connections.retain(|row| pids.contains(&row.pid));
        only.listeners.retain(|row| pids.contains(&row.pid));
        only.threads.retain(|row| pids.contains(&row.pid));
        only.ended.retain(|row| pids.contains(&row.ppid));
        Arc::new(only)
    }
}
