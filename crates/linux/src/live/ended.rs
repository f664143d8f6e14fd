//! Processes that ended since the last reading, also those that no reading has shown.
//!
//! Programs of ours in the kernel tell of whole processes, where that is allowed. Else the kernel reports the end of every
//! thread. A process ends with its last one, and what it used is what all of its threads did: they are added up as they end,
//! also over several readings.

use crate::Roots;
use crate::clock::{self, Clocks, ticks};
use crate::kernel::lives::{ARGUMENTS, Life, Lives};
use crate::kernel::{self, How, Later};
use crate::netlink::events::{Events, ProcessEvent};
use crate::netlink::exits::{ExitRecord, Exits, MANY_TICKS_US, divided};
use crate::proc::pid_cmdline;
use dozor_core::known::Raw;
use dozor_core::reading::{EndedRow, ProcessRow, with_pid};
use dozor_core::text::{Text, clean, no_text};
use dozor_core::units::NANOS;
use rustix::param::clock_ticks_per_second;
use std::collections::{HashMap, HashSet};
use std::ops::RangeInclusive;
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
    /// Of the kinds of [`bytes_of`].
    bytes: [i64; 6],
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

/// Bytes of all kinds, and write calls.
fn bytes_of(record: &ExitRecord) -> [i64; 6] {
    [
        record.read_bytes,
        record.write_bytes,
        record.cancelled_bytes,
        record.read_any_bytes,
        record.write_any_bytes,
        record.write_calls,
    ]
}

/// When a process that ended started, in clock ticks after boot, as exactly as it is told: numbers come back within seconds,
/// and another one may have this one's by now.
type Born = RangeInclusive<i64>;

/// When somebody may have started who ended between two calls and had lived so long.
fn born(before: Clocks, now: Clocks, lived_us: i64) -> Born {
    let second = clock_ticks_per_second() as i64;
    let tick = NANOS / second.max(1);
    let lived = lived_us.saturating_mul(1_000);
    // Sleep of the machine is not in a life, and may have been at any time.
    let slept = now.boot - now.monotonic;
    (before.boot - slept - lived) / tick - 1..=(now.boot - lived) / tick + 1
}

/// Texts that are kept from call to call: names come again and again.
const TEXTS: usize = 4_096;

/// Since when a process is heard of.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Since {
    /// Its begin: all children that it waited for were told of.
    Begin,
    /// It was there before, and had one thread when it was read last.
    Alone,
    /// It was there before, with several threads: children that it waited for then cannot be told from threads that ended.
    Several,
}

/// Programs in the kernel that tell of ends.
#[derive(Default)]
struct InKernel {
    lives: Later<Lives>,
    /// What was told of since the last call.
    told: Vec<Life>,
    /// Who was told of by accounts when both listened.
    twice: HashSet<i64>,
    lost: u64,
    texts: HashMap<Vec<u8>, Text>,
    page: i64,
    /// By process: what children had that it may have waited for since somebody listens.
    taken_over: HashMap<u32, [u64; 7]>,
}

impl InKernel {
    /// Takes what is told. Says whether this is the first time: then accounts were told as well.
    fn take(&mut self) -> bool {
        let fresh = self.lives.arrives();
        self.told.clear();
        if let Some(lives) = self.lives.get() {
            self.lost = lives.take(&mut self.told);
        }
        fresh
    }

    fn text(&mut self, bytes: &[u8], clean: impl Fn(&[u8]) -> String) -> Text {
        if let Some(text) = self.texts.get(bytes) {
            return text.clone();
        }
        let text = Text::from(clean(bytes));
        if self.texts.len() < TEXTS {
            self.texts.insert(bytes.to_vec(), text.clone());
        }
        text
    }

    fn name(&mut self, bytes: &[u8; 16]) -> Text {
        let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
        self.text(&bytes[..end], clean)
    }

    /// What a process read and wrote itself; nothing where that cannot be told from what its children did. The kernel adds up children
    /// that it waited for (kernel/exit.c, `wait_task_zombie`) and threads that ended together; the last thread stands apart.
    fn own_io(&mut self, life: &Life, since: Since) -> Option<[u64; 7]> {
        let taken = self.taken_over.remove(&life.pid).unwrap_or_default();
        let of_parent = self.taken_over.entry(life.parent).or_default();
        for (sum, bytes) in of_parent.iter_mut().zip(life.io) {
            *sum = sum.saturating_add(bytes);
        }
        let last = |at: usize| life.io[at].saturating_sub(life.others_io[at]);
        // Children that nobody waited for are in no account.
        let waited = (0..taken.len()).all(|at| life.others_io[at] >= taken[at]);
        let threads = |at: usize| if waited { life.others_io[at] - taken[at] } else { 0 };
        match since {
            Since::Begin => Some(std::array::from_fn(|at| last(at) + threads(at))),
            Since::Alone => Some(std::array::from_fn(last)),
            Since::Several if (0..taken.len()).any(|at| threads(at) > 0) => None,
            Since::Several => Some(std::array::from_fn(last)),
        }
    }

    /// The row of a life but for who a reading has shown.
    fn row(&mut self, life: &Life, since: Since) -> EndedRow {
        let us = |ns: u64| (ns / 1000) as i64;
        let ([user, system], run) = (life.ticked_ns.map(us), us(life.run_ns));
        // What it ran since its last tick is in the final counters alone.
        let (user, system) =
            if life.is_final || run >= MANY_TICKS_US { divided(run, user, system) } else { (user, system) };
        let own = self.own_io(life, since);
        let [read, write, cancelled, _, write_calls, read_any, write_any] =
            own.map_or([Raw::ABSENT; 7], |own| own.map(|bytes| Raw::new(bytes as i64)));
        EndedRow {
            name: self.name(&life.names[0]),
            parent: self.name(&life.names[1]),
            command: self.text(&life.arguments, arguments),
            pid: i64::from(life.pid).into(),
            ppid: i64::from(life.parent).into(),
            status: i64::from(life.status).into(),
            elapsed: us(life.span_ns.1.saturating_sub(life.span_ns.0)).into(),
            user: user.into(),
            system: system.into(),
            peak_bytes: (life.peak_pages as i64).saturating_mul(self.page).into(),
            read_bytes: read,
            write_bytes: write,
            cancelled_bytes: cancelled,
            read_any_bytes: read_any,
            write_any_bytes: write_any,
            write_calls,
            ..EndedRow::default()
        }
    }
}

/// Whether a row can be of somebody who started then.
fn is_of(row: &ProcessRow, born: &Born) -> bool {
    row.start_ticks.value().is_some_and(|start| born.contains(&start))
}

/// A command line of which only so much was kept.
fn arguments(bytes: &[u8]) -> String {
    let text = pid_cmdline::parse(bytes);
    if bytes.len() == ARGUMENTS { text + "…" } else { text }
}

/// Hears of ends. Without permission it stays silent.
#[derive(Default)]
pub struct Ended {
    by_kernel: How,
    kernel: InKernel,
    exits: Option<Exits>,
    tried: bool,
    lost: u64,
    /// Those that the last reading showed.
    shown: Vec<Arc<ProcessRow>>,
    /// When that was.
    called: Option<Clocks>,
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
    /// Whether programs in the kernel are to tell of ends.
    pub fn ask_kernel(&mut self, how: How) {
        self.by_kernel = how;
    }

    /// Nobody wants to hear of ends; how they are heard of is kept.
    pub fn silence(&mut self) {
        *self = Ended { by_kernel: self.by_kernel, ..Ended::default() };
    }

    /// How often notifications were lost so far; nothing where none are permitted.
    pub fn lost(&self) -> Option<u64> {
        let listens = self.exits.is_some() || self.kernel.lives.get().is_some();
        listens.then_some(self.lost + self.kernel.lost)
    }

    fn begin(&mut self, processes: &[Arc<ProcessRow>]) {
        self.kernel.page = rustix::param::page_size() as i64;
        if self.kernel.lives.get().is_none() {
            self.exits = Exits::open().ok();
        }
        self.old = processes.iter().filter_map(|row| row.pid.value()).collect();
    }

    /// Rows of the processes that ended since the last call. `processes` are those that are there now.
    pub fn take(&mut self, roots: &Roots, processes: &[Arc<ProcessRow>]) -> Vec<EndedRow> {
        self.kernel.lives.begin(self.by_kernel, roots, kernel::lives);
        if !std::mem::replace(&mut self.tried, true) {
            self.begin(processes);
        }
        let both = self.kernel.take();
        if self.lost().is_none() {
            return vec![];
        }
        let now = clock::now();
        let before = self.called.replace(now).unwrap_or(now);
        let mut ended = self.by_accounts(processes, before, now);
        let skipped = std::mem::take(&mut self.kernel.twice);
        if both {
            // What accounts told last, the programs tell as well, now or at the next call.
            self.kernel.twice = ended.iter().filter_map(|(row, _)| row.pid.value()).collect();
            self.exits = None;
        }
        for life in std::mem::take(&mut self.kernel.told) {
            let pid = i64::from(life.pid);
            if !skipped.contains(&pid) && !self.kernel.twice.contains(&pid) {
                let start = ticks(life.span_ns.0, clock_ticks_per_second() as i64);
                let shown = self.shown(pid, &(start..=start), processes);
                let (seen, alone) =
                    (shown.is_some(), shown.is_some_and(|row| row.threads.value() == Some(1)));
                let since = match (self.old.contains(&pid), alone) {
                    (false, _) => Since::Begin,
                    (true, true) => Since::Alone,
                    (true, false) => Since::Several,
                };
                let mut row = self.kernel.row(&life, since);
                row.seen = i64::from(seen).into();
                ended.push((row, start..=start));
            }
        }
        let lives = |pid: &u32| with_pid(processes, i64::from(*pid)).is_some();
        self.kernel.taken_over.retain(|pid, _| lives(pid));
        if self.kernel.texts.len() >= TEXTS {
            self.kernel.texts.clear();
        }
        self.in_order(ended, processes)
    }

    /// Puts what ended in order, but for those that the reading still shows alive.
    fn in_order(&mut self, ended: Vec<(EndedRow, Born)>, processes: &[Arc<ProcessRow>]) -> Vec<EndedRow> {
        let mut rows = std::mem::take(&mut self.held);
        for (row, born) in ended {
            // One that ended after it was read is among the living of this reading.
            let alive = row.pid.value().and_then(|pid| with_pid(processes, pid));
            match alive.filter(|alive| is_of(alive, &born)) {
                Some(alive) if alive.state != ZOMBIE => self.held.push(row),
                _ => rows.push(row),
            }
        }
        for (order, row) in rows.iter_mut().enumerate() {
            row.order = Raw::new(order as i64);
        }
        self.shown.clear();
        self.shown.extend_from_slice(processes);
        rows
    }

    /// A process as this reading shows it, or the one before.
    fn shown<'a>(&'a self, pid: i64, born: &Born, now: &'a [Arc<ProcessRow>]) -> Option<&'a ProcessRow> {
        let of = |rows: &'a [Arc<ProcessRow>]| with_pid(rows, pid).filter(|row| is_of(row, born));
        of(now).or_else(|| of(&self.shown)).map(|row| &**row)
    }

    /// What the kernel's accounts of tasks tell.
    fn by_accounts(
        &mut self,
        processes: &[Arc<ProcessRow>],
        before: Clocks,
        now: Clocks,
    ) -> Vec<(EndedRow, Born)> {
        let Some(exits) = &mut self.exits else { return vec![] };
        self.lost += exits.take(&mut self.records);
        self.tell_older_apart();
        let mut rows = vec![];
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
            // An account tells how long a thread lived, which of all but the first says nothing of the process.
            let is_first = record.tid == pid;
            let born = if is_first { born(before, now, record.elapsed_us) } else { i64::MIN..=i64::MAX };
            rows.push((self.row(pid, &record, &born, processes), born));
        }
        if !rows.is_empty() {
            self.threads.retain(|pid, _| with_pid(processes, *pid).is_some());
            self.old.retain(|pid| with_pid(processes, *pid).is_some());
        }
        rows
    }

    fn row(&mut self, pid: i64, record: &ExitRecord, born: &Born, alive: &[Arc<ProcessRow>]) -> EndedRow {
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
        let [read_bytes, write_bytes, cancelled_bytes, read_any_bytes, write_any_bytes, write_calls] = bytes;
        let shown = self.shown(pid, born, alive);
        let parent = self.shown(record.ppid, &(i64::MIN..=i64::MAX), alive);
        let name = all.name.or_else(|| shown.map(|row| row.name.clone()));
        EndedRow {
            name: name.unwrap_or_else(|| record.name.clone()),
            parent: parent.map_or_else(no_text, |row| row.name.clone()),
            order: Raw::ABSENT,
            pid: pid.into(),
            ppid: record.ppid.into(),
            seen: i64::from(shown.is_some()).into(),
            elapsed: record.elapsed_us.into(),
            user: user.into(),
            system: system.into(),
            peak_bytes: all.peak_bytes.into(),
            read_bytes,
            write_bytes,
            cancelled_bytes,
            read_any_bytes,
            write_any_bytes,
            write_calls,
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

#[cfg(test)]
mod tests {
    use super::*;

    fn alive(pid: i64, start: i64) -> Arc<ProcessRow> {
        Arc::new(ProcessRow { pid: pid.into(), start_ticks: start.into(), ..ProcessRow::default() })
    }

    #[test]
    fn who_has_the_number_of_one_that_ended_is_not_taken_for_it() {
        let mut ended = Ended::default();
        let row = |pid: i64| EndedRow { pid: pid.into(), ..EndedRow::default() };
        let now = [alive(7, 500), alive(8, 500)];
        let told = vec![(row(7), 300..=300), (row(8), 500..=500), (row(9), 400..=400)];
        let pids = |rows: Vec<EndedRow>| rows.iter().filter_map(|row| row.pid.value()).collect::<Vec<_>>();
        assert_eq!(pids(ended.in_order(told, &now)), [7, 9]);
        assert_eq!(pids(ended.in_order(vec![], &[])), [8], "it was read before it ended");
        assert!(ended.shown(7, &(300..=300), &now).is_none());
        assert!(ended.shown(7, &(500..=500), &now).is_some());
    }

    #[test]
    fn when_somebody_started_follows_from_the_life() {
        let at = |boot: i64| Clocks { wall: 0, monotonic: boot - 3 * NANOS, boot };
        // Called at 100 and 102 seconds, of which the machine slept 3; the life was 10.
        let ticks = clock_ticks_per_second() as i64;
        let range = born(at(100 * NANOS), at(102 * NANOS), 10_000_000);
        assert_eq!(range, 87 * ticks - 1..=92 * ticks + 1);
    }
}
