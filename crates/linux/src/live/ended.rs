//! Processes that ended since the last reading, also those that no reading has shown.

use crate::netlink::events::{Events, ProcessEvent};
use crate::netlink::exits::{ExitRecord, Exits};
use dozor_core::known::Raw;
use dozor_core::reading::{EndedRow, ProcessRow, no_text};
use dozor_core::text::Text;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// Hears of ends. Without permission it stays silent.
#[derive(Default)]
pub struct Ended {
    exits: Option<Exits>,
    events: Option<Events>,
    tried: bool,
    lost: u64,
    names: HashMap<i64, Text>,
    records: Vec<ExitRecord>,
    happened: Vec<ProcessEvent>,
}

impl Ended {
    /// How often notifications were lost so far; nothing where none are permitted.
    pub fn lost(&self) -> Option<u64> {
        self.exits.as_ref().map(|_| self.lost)
    }

    /// Rows of the processes that ended since the last call. `processes` are those that are there now.
    pub fn take(&mut self, processes: &[Arc<ProcessRow>]) -> Vec<EndedRow> {
        if !std::mem::replace(&mut self.tried, true) {
            self.events = Events::open().ok();
            self.exits = Exits::open().ok();
        }
        let Some(exits) = &mut self.exits else { return vec![] };
        self.lost += exits.take(&mut self.records);
        // The account of a thread looks like that of a process; events tell which is which.
        let mut first_threads: Option<HashSet<i64>> = None;
        if let Some(events) = &mut self.events {
            self.lost += events.take(&mut self.happened);
            first_threads = Some(
                self.happened
                    .iter()
                    .filter_map(|event| match event {
                        ProcessEvent::Exit { pid, .. } => Some(*pid),
                        _ => None,
                    })
                    .collect(),
            );
        }
        let names: HashMap<i64, Text> =
            processes.iter().filter_map(|row| Some((row.pid.value()?, row.name.clone()))).collect();
        let is_process =
            |record: &&ExitRecord| first_threads.as_ref().is_none_or(|set| set.contains(&record.pid));
        let rows = self
            .records
            .iter()
            .filter(is_process)
            .enumerate()
            .map(|(order, record)| EndedRow {
                name: record.name.clone(),
                parent: names
                    .get(&record.ppid)
                    .or_else(|| self.names.get(&record.ppid))
                    .cloned()
                    .unwrap_or_else(no_text),
                order: Raw::new(order as i64),
                pid: record.pid.into(),
                ppid: record.ppid.into(),
                seen: i64::from(self.names.contains_key(&record.pid)).into(),
                elapsed: record.elapsed_us.into(),
                user: record.user_us.into(),
                system: record.system_us.into(),
                peak_bytes: record.peak_bytes.into(),
                read_bytes: record.read_bytes.into(),
                write_bytes: record.write_bytes.into(),
            })
            .collect();
        self.names = names;
        rows
    }
}
