//! What stands out while it is recorded, as marks in the recording: who opens a year of it need not go through every reading.

use dozor_core::findings::Engine;
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::{Found, Mark, MarkKind};
use dozor_core::sample::Sample;
use std::collections::BTreeSet;
use std::sync::Arc;

/// Goes over what is written.
pub struct Finding {
    host: Arc<HostFacts>,
    engine: Engine,
    before: Option<Arc<Reading>>,
    /// Findings from this number on have no mark yet.
    next: usize,
    /// Numbers of those that stand.
    standing: BTreeSet<usize>,
}

impl Finding {
    /// Has seen nothing yet.
    pub fn new(host: Arc<HostFacts>) -> Finding {
        Finding { host, engine: Engine::default(), before: None, next: 0, standing: BTreeSet::new() }
    }

    /// Looks at a reading that was written, and says what has begun and what is over; `lost` says that readings before it are
    /// missing.
    pub fn look(&mut self, reading: &Arc<Reading>, lost: bool) -> Vec<Mark> {
        let before = self.before.replace(reading.clone()).filter(|_| !lost);
        self.engine.look(&Sample::new(self.host.clone(), before, reading.clone()));
        let history = self.engine.history();
        let mut marks = vec![];
        let mark = |one: &dozor_core::findings::Finding, until_ns: Option<i64>| {
            let told = one.worst_told();
            let found = Found {
                rule: one.about.name.to_owned(),
                subject: one.subject.clone(),
                lane: one.about.lane,
                severity: one.worst,
                from_ns: one.from_ns,
                until_ns,
            };
            let text = told.sentence.clone();
            Mark { found: Some(found), ..Mark::new(reading.wall_ns(), MarkKind::Finding, text) }
        };
        self.standing.retain(|number| {
            let Some(one) = history.find(*number) else { return false };
            if one.over {
                marks.push(mark(one, Some(one.until_ns)));
            }
            !one.over
        });
        // Consequences are told with their causes.
        for one in history.all().iter().filter(|one| one.number >= self.next) {
            if one.under.is_none() && !one.over {
                self.standing.insert(one.number);
                marks.push(mark(one, None));
            }
        }
        self.next = history.next_number();
        marks
    }
}
