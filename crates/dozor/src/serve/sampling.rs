//! The thread that samples for those who are served. It waits for nobody.

use super::current::{Current, Shared};
use super::noted::Noted;
use super::push::Outgoing;
use dozor_core::findings::{Changes, Engine};
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::sample::Sample;
use dozor_core::source::Source;
use dozor_export::open::Told;
use std::collections::VecDeque;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::sync::{broadcast, watch};

/// Readings that wait for a client that follows all of them; who is farther behind is dropped.
const BEHIND: usize = 16;

/// What is sampled, and how.
pub struct Sampling {
    /// Where readings come from.
    pub source: Box<dyn Source>,
    /// Whose they are.
    pub host: Arc<HostFacts>,
    /// Time between them.
    pub every: Duration,
    /// Processes that collectors are told of at most.
    pub told: usize,
    /// Processes on the page at most.
    pub shown: usize,
    /// Leaves out who is not meant.
    pub narrow: Box<dyn FnMut(Arc<Reading>) -> Arc<Reading> + Send>,
    /// What was done and noted lately.
    pub noted: Noted,
    /// Finds what stands out.
    pub engine: Engine,
    /// A collector that is pushed to.
    pub outgoing: Option<Outgoing>,
}

/// Samples on a thread of its own. Gives what is shared, and every reading for those who follow.
pub fn sample_on(mut sampling: Sampling) -> (Shared, broadcast::Sender<Arc<Reading>>) {
    let (newest, receiver) = watch::channel(None);
    let (readings, _) = broadcast::channel(BEHIND);
    let shared = Shared { newest: receiver, lately: Arc::new(Mutex::new(VecDeque::new())) };
    let (given, out) = (shared.clone(), readings.clone());
    std::thread::spawn(move || {
        let mut told = Told::new(sampling.told);
        let mut changes = Changes::default();
        let mut before: Option<Arc<Reading>> = None;
        // The second reading follows soon, so that there are rates at once.
        let mut wait = sampling.every.min(Duration::from_millis(250));
        let mut due = Instant::now();
        loop {
            let reading = (sampling.narrow)(Arc::new(sampling.source.read()));
            let sample = Arc::new(Sample::new(
                sampling.host.clone(),
                before.replace(reading.clone()),
                reading.clone(),
            ));
            shared.remember(&sample);
            let chosen = told.choose(&sample);
            sampling.engine.look(&sample);
            let current = Current::new(
                sample,
                chosen,
                sampling.shown,
                sampling.noted.json(),
                sampling.engine.history(),
            );
            let current = Arc::new(current);
            if let Some(outgoing) = &sampling.outgoing {
                outgoing.put(&current, &changes.look(sampling.engine.history()));
            }
            // Nobody needs to follow.
            let _ = out.send(reading);
            if newest.send(Some(current)).is_err() {
                return;
            }
            due = (due + wait).max(Instant::now());
            wait = sampling.every;
            std::thread::sleep(due.saturating_duration_since(Instant::now()));
        }
    });
    (given, readings)
}
