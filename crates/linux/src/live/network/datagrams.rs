//! Bytes over UDP, as programs in the kernel count them.

use super::super::tallied::{Key, Tallied};
use crate::Roots;
use crate::kernel::{self, How, Later};
use dozor_core::reading::ProcessKey;
use std::collections::{HashMap, HashSet};

/// Readings in which the end of a process may still be told.
const PATIENCE: u64 = 3;

/// What is known of bytes over UDP.
#[derive(Default)]
pub struct Datagrams {
    loaded: Later<kernel::datagrams::Datagrams>,
    tallied: Tallied,
    /// Bytes received and sent of processes that are there.
    there: HashMap<ProcessKey, [i64; 2]>,
    /// Those of processes that are not, and the reading that missed them first: until their end is told.
    gone: HashMap<ProcessKey, ([i64; 2], u64)>,
    /// Processes that are not there, and of which the kernel still has counts.
    missed: HashSet<Key>,
    reading: u64,
}

impl Datagrams {
    /// Looks at what was counted so far. `is_there` knows the processes of this reading.
    pub fn take(&mut self, how: How, roots: &Roots, is_there: impl Fn(ProcessKey) -> bool) {
        self.loaded.begin(how, roots, kernel::datagrams);
        self.loaded.arrives();
        let Some(Ok(counted)) = self.loaded.get().map(kernel::datagrams::Datagrams::counted) else { return };
        self.reading += 1;
        self.tallied.take(counted);
        let (there, gone, reading) = (&mut self.there, &mut self.gone, self.reading);
        there.clear();
        let mut missed = HashSet::new();
        let before = &self.missed;
        self.tallied.retain(|key, [received, sent, _]| {
            let process = key.process();
            if is_there(process) {
                there.insert(process, [received, sent]);
                // It was too young for the reading before.
                gone.remove(&process);
                return true;
            }
            missed.insert(key);
            if !before.contains(&key) {
                gone.insert(process, ([received, sent], reading));
            }
            false
        });
        self.missed = missed;
        gone.retain(|_, (_, since)| *since + PATIENCE > reading);
    }

    /// Bytes received and sent of a process; nothing where nobody counts.
    pub fn of(&self, process: ProcessKey) -> Option<[i64; 2]> {
        self.loaded.get()?;
        Some(self.there.get(&process).copied().unwrap_or_default())
    }

    /// The same of one that ended since the last reading.
    pub fn of_gone(&mut self, pid: i64) -> Option<[i64; 2]> {
        self.loaded.get()?;
        let process = self.gone.keys().copied().filter(|key| key.pid == pid).min_by_key(|key| key.start);
        Some(process.and_then(|key| self.gone.remove(&key)).map_or([0; 2], |(bytes, _)| bytes))
    }
}
