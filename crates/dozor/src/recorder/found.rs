//! What stands out while it is recorded, as marks in the recording: who opens a year of it need not go through every reading.

use dozor_core::findings::{Changes, Engine};
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::{Found, Mark, MarkKind};
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
        let mark = |(one, is_over): (&dozor_core::findings::Finding, bool)| {
            let found = Found {
                rule: one.about.name.to_owned(),
                subject: one.subject.clone(),
                lane: one.about.lane,
                severity: one.worst,
                from_ns: one.from_ns,
                until_ns: is_over.then_some(one.until_ns),
            };
            let text = one.worst_told().sentence.clone();
            Mark { found: Some(found), ..Mark::new(reading.wall_ns(), MarkKind::Finding, text) }
        };
        self.changes.look(self.engine.history()).into_iter().map(mark).collect()
    }
}
