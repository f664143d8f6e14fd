//! Processes that ended since the last reading, also those that no reading has shown.
//!
//! The kernel reports the end of every thread. A process ends with its last one, and what it used is what all of its
//! threads did: they are added up as they end, also over several readings.

use crate::netlink::events::{Events, ProcessEvent};
use crate::netlink::exits::{ExitRecord, Exits, divided};
use dozor_core::known::Raw;
use dozor_core::reading::{EndedRow, ProcessRow, with_pid};
use dozor_core::text::{Text, no_text};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// State of a process that ended and was not waited for; proc_pid_stat(5).
const ZOMBIE: Raw = Raw::new(b'Z' as i64);

/// What the threads of a process that ended so far used.
#[derive(Clone, Default)]
struct Threads {
    /// Name of the first thread, which is that of the process: others may have names of their own.
    name: Option<Text>,
    used_us: [i64; 2],
    peak_bytes: i64,
    bytes: [i64; 5],
    /// It had threads before anybody listened, whose bytes are not among these.
    incomplete: bool,
}

impl Threads {
    fn add(&mut self, record: &ExitRecord, pid: i64) {
        if record.tid == pid {
            self.name = Some(record.name.clone());
        }
        self.used_us[0] += record.user_us;
        self.used_us[1] += record.system_us;
        self.peak_bytes = self.peak_bytes.max(record.peak_bytes);
        for (sum, bytes) in self.bytes.iter_mut().zip(bytes_of(record)) {
            *sum = sum.saturating_add(bytes);
        }
    }
}

fn bytes_of(record: &ExitRecord) -> [i64; 5] {
    [
        record.read_bytes,
        record.write_bytes,
        record.cancelled_bytes,
        record.read_any_bytes,
        record.write_any_bytes,
    ]
}

/// Hears of ends. Without permission it stays silent.
#[derive(Default)]
pub struct Ended {
    exits: Option<Exits>,
    tried: bool,
    lost: u64,
    /// Those that the last reading showed.
    shown: Vec<Arc<ProcessRow>>,
    /// Those that were there when listening began.
    old: HashSet<i64>,
    /// By process: what its ended threads used.
    threads: HashMap<i64, Threads>,
    /// Ends of processes that the reading still showed alive: they belong to the next one.
    held: Vec<EndedRow>,
    records: Vec<ExitRecord>,
    /// Before version 12 an account does not tell its process; then events do.
    events: Option<Older>,
}

/// What kernels need that do not tell which account is that of a process.
struct Older {
    events: Events,
    happened: Vec<ProcessEvent>,
    /// Accounts and ends that nothing matched yet: they wait for one more reading, since the one comes after the other.
    records: Vec<ExitRecord>,
    ends: HashSet<i64>,
}

impl Ended {
    /// How often notifications were lost so far; nothing where none are permitted.
    pub fn lost(&self) -> Option<u64> {
        self.exits.as_ref().map(|_| self.lost)
    }

    /// Rows of the processes that ended since the last call. `processes` are those that are there now.
    pub fn take(&mut self, processes: &[Arc<ProcessRow>]) -> Vec<EndedRow> {
        let first = !std::mem::replace(&mut self.tried, true);
        if first {
            self.exits = Exits::open().ok();
        }
        let Some(exits) = &mut self.exits else { return vec![] };
        self.lost += exits.take(&mut self.records);
        if first {
            self.old = processes.iter().filter_map(|row| row.pid.value()).collect();
        }
        self.tell_older_apart();
        let mut rows = std::mem::take(&mut self.held);
        for record in std::mem::take(&mut self.records) {
            let pid = record.pid.unwrap_or(record.tid);
            if record.last == Some(false) {
                let old = self.old.contains(&pid);
                let threads = self
                    .threads
                    .entry(pid)
                    .or_insert_with(|| Threads { incomplete: old, ..Threads::default() });
                threads.add(&record, pid);
                continue;
            }
            let row = self.row(pid, &record, processes);
            // One that ended after it was read is among the living of this reading.
            match with_pid(processes, pid) {
                Some(shown) if shown.state != ZOMBIE => self.held.push(row),
                _ => rows.push(row),
            }
        }
        for (order, row) in rows.iter_mut().enumerate() {
            row.order = Raw::new(order as i64);
        }
        if !rows.is_empty() {
            self.threads.retain(|pid, _| with_pid(processes, *pid).is_some());
            self.old.retain(|pid| with_pid(processes, *pid).is_some());
        }
        self.shown.clear();
        self.shown.extend_from_slice(processes);
        rows
    }

    fn row(&mut self, pid: i64, record: &ExitRecord, alive: &[Arc<ProcessRow>]) -> EndedRow {
        let mut all = self.threads.remove(&pid).unwrap_or_default();
        // Threads that ended before anybody listened are in the group's CPU time alone.
        all.incomplete |= record.group_us.is_some() && self.old.contains(&pid);
        all.add(record, pid);
        let [mut user, mut system] = all.used_us;
        if let Some(group) = record.group_us.filter(|group| *group > user + system) {
            (user, system) = divided(group, user, system);
        }
        let incomplete = all.incomplete || record.last.is_none() && record.group_us.is_some();
        let bytes = all.bytes.map(|bytes| if incomplete { Raw::ABSENT } else { Raw::new(bytes) });
        let [read_bytes, write_bytes, cancelled_bytes, read_any_bytes, write_any_bytes] = bytes;
        let shown = |pid: i64| with_pid(alive, pid).or_else(|| with_pid(&self.shown, pid));
        let name = all.name.or_else(|| shown(pid).map(|row| row.name.clone()));
        EndedRow {
            name: name.unwrap_or_else(|| record.name.clone()),
            parent: shown(record.ppid).map_or_else(no_text, |row| row.name.clone()),
            order: Raw::ABSENT,
            pid: pid.into(),
            ppid: record.ppid.into(),
            seen: i64::from(shown(pid).is_some()).into(),
            elapsed: record.elapsed_us.into(),
            user: user.into(),
            system: system.into(),
            peak_bytes: all.peak_bytes.into(),
            read_bytes,
            write_bytes,
            cancelled_bytes,
            read_any_bytes,
            write_any_bytes,
            ..EndedRow::default()
        }
    }

    /// Before version 12: an account is that of a process where an event names its task; the others are threads, whose
    /// process is not told.
    fn tell_older_apart(&mut self) {
        if self.events.is_none() && self.records.iter().any(|record| record.last.is_none()) {
            self.events = Events::open().ok().map(|events| Older {
                events,
                happened: vec![],
                records: vec![],
                ends: HashSet::new(),
            });
        }
        let Some(older) = &mut self.events else { return };
        self.lost += older.events.take(&mut older.happened);
        let waited = std::mem::take(&mut older.records);
        let ends = older.happened.iter().filter_map(|event| match event {
            ProcessEvent::Exit { pid, .. } => Some(*pid),
            _ => None,
        });
        let now: HashSet<i64> = ends.collect();
        let mut unmatched: HashSet<i64> = now.clone();
        let mut is_process = |record: &ExitRecord| {
            unmatched.remove(&record.tid);
            now.contains(&record.tid) || older.ends.contains(&record.tid)
        };
        let mut matched: Vec<ExitRecord> = waited.into_iter().filter(|record| is_process(record)).collect();
        for record in std::mem::take(&mut self.records) {
            if is_process(&record) {
                matched.push(record);
            } else {
                older.records.push(record);
            }
        }
        older.ends = unmatched;
        self.records = matched;
    }
}
