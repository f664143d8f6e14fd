//! What stands out while it is recorded, as marks in the recording: who opens a year of it need not go through every reading.

use dozor_core::findings::{Changes, Engine, mark};
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::Mark;
use dozor_core::sample::Sample;
use std::sync::Arc;

/// Goes over what is written.
pub struct Finding {
    host: Arc<HostFacts>,
    engine: Engine,
    before: Option<Arc<Reading>>,
    changes: Changes,
}

impl Finding {
    /// Has seen nothing yet.
    pub fn new(host: Arc<HostFacts>) -> Finding {
        Finding { host, engine: Engine::default(), before: None, changes: Changes::default() }
    }

    /// Looks at a reading that was written, and says what has begun and what is over; `lost` says that readings before it are
    /// missing.
    pub fn look(&mut self, reading: &Arc<Reading>, lost: bool) -> Vec<Mark> {
        let before = self.before.replace(reading.clone()).filter(|_| !lost);
        self.engine.look(&Sample::new(self.host.clone(), before, reading.clone()));
        let mark = |(one, is_over)| mark(one, is_over, reading.wall_ns());
        self.changes.look(self.engine.history()).into_iter().map(mark).collect()
    }
}
