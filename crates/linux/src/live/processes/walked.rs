//! What the walks of the reader in the kernel give, put together to processes.
//!
//! It hands over the tasks that ran since the last reading; here they are put together to processes. What the threads of a
//! process counted that have ended is with its main thread. A thread that ends between the two looks keeps for one reading
//! what it had counted.

use super::super::own_io::Files;
use crate::clock::ticks;
use crate::kernel::Refused;
use crate::kernel::tasks::{EndedWait, Missing, Seen, Task, Tasks, Turn, Whole};
use crate::live::rotation::Rotation;
use crate::proc::{pid_io, pid_status};
use dozor_core::known::Raw;
use dozor_core::reading::ProcessRow;
use rustix::io::Errno;
use std::collections::HashMap;

/// The kernel's flag for a thread of its own; `PF_KTHREAD` in include/linux/sched.h.
pub const KERNEL_THREAD: u32 = 0x0020_0000;
/// Its flag for one whose name ends with what it works on; `PF_WQ_WORKER`.
pub const WORKER: u32 = 0x0000_0020;
/// Its flag for a thread that ends; `PF_EXITING`.
const ENDING: u32 = 0x0000_0004;
/// Middle of the priorities of which niceness is made, and the first of those; include/linux/sched/prio.h.
const NICE_ZERO: i64 = 120;
const FIRST_PRIORITY: i64 = 100;

/// A process of which something changed.
#[derive(Clone, Copy)]
pub struct Record<'a> {
    pub main: &'a Task,
    pub whole: &'a Whole,
    /// Its other threads.
    threads: &'a [(Task, u64)],
    sums: Sums,
}

/// Counters of a process: of those of its threads that live and of those that have ended.
#[derive(Clone, Copy, Default)]
struct Sums {
    run_ns: u64,
    user_ns: u64,
    system_ns: u64,
    faults_minor: u64,
    faults_major: u64,
    switches_wait: u64,
    switches_forced: u64,
    core_wait_ns: Option<u64>,
    io: [u64; 7],
}

/// A process with several threads.
#[derive(Default)]
struct Several {
    main: Option<Task>,
    whole: Whole,
    /// In the order of their numbers, with the walk in which each was handed over last.
    threads: Vec<(Task, u64)>,
    /// The walk in which one of its threads was handed over last.
    at: u64,
    sums: Sums,
}

/// The reader in the kernel, and what is kept of processes with several threads.
pub struct Inside {
    tasks: Tasks,
    walks: u64,
    second: i64,
    several: HashMap<u32, Several>,
    seen: Pass,
}

/// In place of a process: that it has several threads.
const SEVERAL: u32 = 1;

/// What one walk gave.
#[derive(Default)]
struct Pass {
    /// Processes in order, with the place of what changed of each: 0 nothing, 1 one with several threads, else two less.
    processes: Vec<(u32, u32)>,
    single: Vec<(Task, Whole)>,
    /// Threads that are as they were.
    same: Vec<u32>,
    /// Processes whose other threads changed.
    touched: Vec<u32>,
    /// The process that was asked for last.
    cursor: usize,
    tasks: usize,
}

impl Inside {
    pub fn new(tasks: Tasks) -> Inside {
        let second = i64::try_from(rustix::param::clock_ticks_per_second()).unwrap_or(100);
        Inside { tasks, walks: 0, second, several: HashMap::new(), seen: Pass::default() }
    }

    /// Looks at all tasks. `everybody`: all count as changed.
    pub fn walk(&mut self, everybody: bool, rotation: &Rotation) -> Result<(), Refused> {
        self.walks += 1;
        let (several, pass, walk) = (&mut self.several, &mut self.seen, self.walks);
        pass.begin();
        let (hand, swept) = rotation.dial();
        let everybody = everybody || walk == 1;
        self.tasks.walk(Turn { everybody, hand, swept }, |seen| pass.see(seen, several, walk))?;
        pass.finish(several, walk);
        Ok(())
    }

    /// The processes of the last walk, in order.
    pub fn pids(&self, pids: &mut Vec<i64>) {
        pids.clear();
        pids.extend(self.seen.processes.iter().map(|(pid, _)| i64::from(*pid)));
    }

    /// What changed of a process, asked in order; nothing where it is as it was.
    pub fn record(&mut self, pid: i64) -> Option<Record<'_>> {
        let at = self.seen.cursor;
        let (found, place) = *self.seen.processes.get(at)?;
        debug_assert_eq!(i64::from(found), pid, "they are asked for in order");
        self.seen.cursor += 1;
        match place {
            0 => None,
            SEVERAL => {
                let Several { main, whole, threads, sums, .. } = self.several.get(&found)?;
                Some(Record { main: main.as_ref()?, whole, threads, sums: *sums })
            }
            place => {
                let (main, whole) = self.seen.single.get(place as usize - 2)?;
                Some(Record { main, whole, threads: &[], sums: Sums::of(main, whole, &[]) })
            }
        }
    }

    /// Whether so many tasks share their places in the kernel that it costs time.
    pub fn is_crowded(&self) -> bool {
        self.seen.tasks > self.tasks.room()
    }

    /// What this kernel does not give, and the clock ticks of a second.
    pub fn gives(&self) -> (Missing, i64) {
        (self.tasks.missing(), self.second)
    }
}

impl Pass {
    fn begin(&mut self) {
        self.processes.clear();
        self.single.clear();
        self.same.clear();
        self.touched.clear();
        (self.cursor, self.tasks) = (0, 0);
    }

    fn see(&mut self, seen: &Seen, several: &mut HashMap<u32, Several>, walk: u64) {
        self.tasks += 1;
        match *seen {
            Seen::Same { tid, pid } if tid == pid => self.processes.push((pid, 0)),
            Seen::Same { tid, .. } => self.same.push(tid),
            Seen::Changed(task, whole) => {
                let is_main = task.tid == task.pid;
                if is_main && whole.threads <= 1 && !several.contains_key(&task.pid) {
                    self.single.push((task, whole));
                    self.processes.push((task.pid, self.single.len() as u32 + 1));
                    return;
                }
                several.entry(task.pid).or_default().see(task, whole, walk);
                if is_main {
                    self.processes.push((task.pid, SEVERAL));
                } else if self.touched.last() != Some(&task.pid) {
                    self.touched.push(task.pid);
                }
            }
        }
    }

    /// Puts together what came in pieces.
    fn finish(&mut self, several: &mut HashMap<u32, Several>, walk: u64) {
        // They come in a few runs of ascending numbers, some perhaps twice, of which what was seen last holds and what changed
        // goes before what did not.
        if !self.processes.is_sorted_by(|one, other| one.0 < other.0) {
            // In the order in which they were seen, and a few runs are merged in no time.
            self.processes.sort_by_key(|(pid, _)| *pid);
            self.processes.dedup_by(|later, kept| {
                let twice = later.0 == kept.0;
                if twice && kept.1 != SEVERAL {
                    kept.1 = later.1;
                }
                twice
            });
        }
        if !self.same.is_sorted() {
            self.same.sort_by_key(|tid| *tid);
        }
        for pid in &self.touched {
            if let Ok(at) = self.processes.binary_search_by_key(pid, |(pid, _)| *pid) {
                self.processes[at].1 = SEVERAL;
            }
        }
        several.retain(|pid, process| {
            if process.at == walk {
                process.finish(&self.same, walk);
            }
            self.processes.binary_search_by_key(pid, |(pid, _)| *pid).is_ok()
        });
    }
}

impl Several {
    /// One of its threads was handed over.
    fn see(&mut self, task: Task, whole: Whole, walk: u64) {
        if task.tid == task.pid && self.main.is_some_and(|before| before.start_ns != task.start_ns) {
            // Another process with the same number.
            self.threads.retain(|(_, at)| *at == walk);
            self.sums = Sums::default();
        }
        let is_main = task.tid == task.pid;
        // Each thread has a name and users of its own.
        let Whole { name, uid, real_uid, .. } = if is_main { whole } else { self.whole };
        if self.at != walk {
            // Of threads that end from here on, their own counters are in it below.
            (self.whole, self.at) = (whole, walk);
        }
        (self.whole.name, self.whole.uid, self.whole.real_uid) = (name, uid, real_uid);
        if is_main {
            self.main = Some(task);
            return;
        }
        match self.threads.binary_search_by_key(&task.tid, |(known, _)| known.tid) {
            Ok(at) => self.threads[at] = (task, walk),
            Err(at) => self.threads.insert(at, (task, walk)),
        }
    }

    /// All of its threads were handed over that are not as they were. `same`: those that are.
    fn finish(&mut self, same: &[u32], walk: u64) {
        if self.threads.len() + 1 > self.whole.threads as usize {
            // What an ended thread counted is with the whole process by now.
            self.threads.retain(|(task, at)| *at == walk || same.binary_search(&task.tid).is_ok());
        }
        if let Some(main) = &self.main {
            let now = Sums::of(main, &self.whole, &self.threads);
            self.sums = now.not_less_than(&self.sums);
        }
    }
}

impl Sums {
    fn of(main: &Task, whole: &Whole, threads: &[(Task, u64)]) -> Sums {
        let sum = |ended: u64, of: fn(&Task) -> u64| {
            threads.iter().map(|(task, _)| of(task)).fold(ended.saturating_add(of(main)), u64::saturating_add)
        };
        let mut io = whole.io;
        for task in threads.iter().map(|(task, _)| task).chain([main]) {
            for (sum, more) in io.iter_mut().zip(task.io) {
                *sum = sum.saturating_add(more);
            }
        }
        Sums {
            run_ns: sum(whole.run_ns, |task| task.run_ns),
            user_ns: sum(whole.user_ns, |task| task.user_ns),
            system_ns: sum(whole.system_ns, |task| task.system_ns),
            faults_minor: sum(whole.faults_minor, |task| task.faults_minor),
            faults_major: sum(whole.faults_major, |task| task.faults_major),
            switches_wait: sum(whole.switches_wait, |task| task.switches_wait),
            switches_forced: sum(whole.switches_forced, |task| task.switches_forced),
            core_wait_ns: core_wait(main, whole, threads),
            io,
        }
    }

    /// A thread that ended between the two looks is missed in both for one reading.
    fn not_less_than(self, before: &Sums) -> Sums {
        Sums {
            run_ns: self.run_ns.max(before.run_ns),
            user_ns: self.user_ns.max(before.user_ns),
            system_ns: self.system_ns.max(before.system_ns),
            faults_minor: self.faults_minor.max(before.faults_minor),
            faults_major: self.faults_major.max(before.faults_major),
            switches_wait: self.switches_wait.max(before.switches_wait),
            switches_forced: self.switches_forced.max(before.switches_forced),
            core_wait_ns: self.core_wait_ns.map(|now| now.max(before.core_wait_ns.unwrap_or(0))),
            io: std::array::from_fn(|at| self.io[at].max(before.io[at])),
        }
    }
}

/// How long all threads of a process waited for a core.
fn core_wait(main: &Task, whole: &Whole, threads: &[(Task, u64)]) -> Option<u64> {
    let (ended, counts_ending) = match whole.core_wait {
        EndedWait::Unknown if whole.threads > 1 => return None,
        EndedWait::Unknown | EndedWait::Nobody => (0, true),
        EndedWait::Ns(ns) => (ns, false),
    };
    let counted = threads.iter().map(|(task, _)| task).chain([main]);
    let counted = counted.filter(|task| counts_ending || task.flags & ENDING == 0);
    counted.map(|task| task.core_wait_ns).try_fold(ended, |sum, wait| Some(sum.saturating_add(wait?)))
}

impl Record<'_> {
    pub fn name(&self) -> &[u8] {
        self.whole.name.split(|byte| *byte == 0).next().unwrap_or_default()
    }

    pub fn row(&self, told: &mut (u64, u64), second: i64, page: i64) -> ProcessRow {
        let (main, whole) = (self.main, self.whole);
        let raw = |value: u64| Raw::new(i64::try_from(value).unwrap_or(i64::MAX));
        let Sums { run_ns: run, user_ns: user, system_ns: system, .. } = self.sums;
        let before = (told.0.max(whole.told_user_ns), told.1.max(whole.told_system_ns));
        *told = adjusted(user, system, run, before);
        let priority = i64::from(main.priority) - FIRST_PRIORITY;
        ProcessRow {
            pid: Raw::new(i64::from(main.pid)),
            start_ticks: Raw::new(ticks(main.start_ns, second)),
            ppid: Raw::new(i64::from(whole.parent)),
            session: Raw::new(i64::from(whole.session)),
            state: Raw::new(i64::from(self.state())),
            faults_minor: raw(self.sums.faults_minor),
            children_faults: raw(whole.children_faults),
            faults_major: raw(self.sums.faults_major),
            user_ticks: Raw::new(ticks(told.0, second)),
            system_ticks: Raw::new(ticks(told.1, second)),
            run_ns: raw(run),
            children_user_ticks: Raw::new(ticks(whole.children_user_ns, second)),
            children_system_ticks: Raw::new(ticks(whole.children_system_ns, second)),
            switches_wait: raw(self.sums.switches_wait),
            switches_forced: raw(self.sums.switches_forced),
            core_wait_ns: self.sums.core_wait_ns.map_or(Raw::ABSENT, raw),
            priority: Raw::new(priority),
            nice: Raw::new(i64::from(main.static_priority) - NICE_ZERO),
            policy: Raw::new(i64::from(main.policy)),
            threads: Raw::new(i64::from(whole.threads)),
            virtual_bytes: Raw::new((whole.virtual_pages as i64).saturating_mul(page)),
            rss_bytes: Raw::new(0),
            core: Raw::new(i64::from(main.core)),
            disk_wait_ticks: Raw::new(ticks(main.disk_wait_ns, second)),
            ..ProcessRow::default()
        }
    }

    /// As `/proc/PID/status` tells it.
    pub fn memory(&self, page: i64) -> pid_status::Status {
        let [files, own, swap, shared] = self.whole.pages.map(|pages| pages.saturating_mul(page));
        pid_status::Status {
            resident: Raw::new(files.saturating_add(own).saturating_add(shared)),
            shared: Raw::new(files.saturating_add(shared)),
            swap: Raw::new(swap),
            ..pid_status::Status::default()
        }
    }

    /// The letter of its state: of a thread that runs, else of one that waits for a disk, else of any that lives.
    fn state(&self) -> u8 {
        let rank = |letter: u8| match letter {
            b'Z' | b'X' => 0,
            b'D' => 2,
            b'R' => 3,
            _ => 1,
        };
        let others = self.threads.iter().map(|(task, _)| letter(task));
        others.fold(letter(self.main), |best, other| if rank(other) > rank(best) { other } else { best })
    }
}

impl Files for Record<'_> {
    fn io(&mut self, thread: Option<i64>) -> Result<pid_io::Io, Errno> {
        let signed = |io: [u64; 7]| io.map(|count| i64::try_from(count).unwrap_or(i64::MAX));
        match thread {
            None => Ok(signed(self.sums.io)),
            Some(tid) => {
                let mut tasks = self.threads.iter().map(|(task, _)| task).chain([self.main]);
                tasks.find(|task| i64::from(task.tid) == tid).map(|task| signed(task.io)).ok_or(Errno::NOENT)
            }
        }
    }

    fn threads(&mut self) -> Option<Vec<i64>> {
        let others = self.threads.iter().map(|(task, _)| task);
        Some(others.chain([self.main]).map(|task| i64::from(task.tid)).collect())
    }
}

/// User and system time as the kernel tells them: the exact time on a core, divided as the samples at the ticks say, and never
/// less than what was told before; `cputime_adjust` in kernel/sched/cputime.c.
fn adjusted(user: u64, system: u64, run: u64, told: (u64, u64)) -> (u64, u64) {
    if told.0.saturating_add(told.1) >= run {
        return told;
    }
    let part = match (user, system) {
        (_, 0) => 0,
        (0, _) => run,
        _ => {
            let sampled = u128::from(user) + u128::from(system);
            u64::try_from(u128::from(system) * u128::from(run) / sampled).unwrap_or(run).min(run)
        }
    };
    let system = part.max(told.1);
    let user = run - system.min(run);
    if user < told.0 { (told.0, run - told.0.min(run)) } else { (user, system) }
}

/// The letter of a task's state; `task_state_to_char` in include/linux/sched.h.
fn letter(task: &Task) -> u8 {
    const DISK: u32 = 0x0002;
    const UNLOADED: u32 = 0x0400;
    const LOCK: u32 = 0x1000;
    const FROZEN: u32 = 0x8000;
    /// What is told of a state, in the order of the bits.
    const LETTERS: &[u8] = b"SDTtXZP";
    if task.state & (DISK | UNLOADED) == DISK | UNLOADED {
        return b'I';
    }
    if task.state & (LOCK | FROZEN) != 0 {
        return b'D';
    }
    let told = (task.state | task.exit_state) & 0x7f;
    told.checked_ilog2().and_then(|bit| LETTERS.get(bit as usize)).copied().unwrap_or(b'R')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn time_on_a_core_is_divided_as_the_kernel_divides_it() {
        // Nothing sampled in the kernel, nothing in user mode, both.
        assert_eq!(adjusted(5, 0, 100, (0, 0)), (100, 0));
        assert_eq!(adjusted(0, 5, 100, (0, 0)), (0, 100));
        assert_eq!(adjusted(30, 10, 100, (0, 0)), (75, 25));
        // What was told once is never taken back.
        assert_eq!(adjusted(30, 10, 100, (70, 40)), (70, 40));
        assert_eq!(adjusted(30, 10, 120, (70, 40)), (80, 40));
        assert_eq!(adjusted(10, 30, 120, (70, 40)), (70, 50));
        assert_eq!(adjusted(u64::MAX / 2, u64::MAX / 2, u64::MAX / 2, (0, 0)).0, u64::MAX / 4 + 1);
    }

    #[test]
    fn states_have_the_letters_of_the_kernel() {
        let of = |state, exit_state| letter(&Task { state, exit_state, ..Task::default() }) as char;
        let told =
            [(0, 0), (1, 0), (0x2001, 0), (2, 0), (0x402, 0), (4, 0), (8, 0), (0x8000, 0), (0x80, 0x20)];
        assert_eq!(told.map(|(state, exit)| of(state, exit)).iter().collect::<String>(), "RSSDITtDZ");
    }

    #[test]
    fn who_is_seen_twice_is_as_seen_last() {
        let (mut pass, mut several) = (Pass::default(), HashMap::new());
        let changed = |pid: u32, run_ns: u64, threads: u32| {
            let task = Task { tid: pid, pid, run_ns, ..Task::default() };
            Seen::Changed(task, Whole { threads, ..Whole::default() })
        };
        // The walk began with number 7, came to 3 and began again: 5 changed before, 8 and 9 between the two.
        let first = [Seen::Same { tid: 7, pid: 7 }, changed(8, 1, 1), changed(9, 1, 1), changed(5, 1, 1)];
        let again = [
            Seen::Same { tid: 7, pid: 7 },
            changed(8, 2, 1),
            changed(9, 2, 2),
            Seen::Same { tid: 3, pid: 3 },
        ];
        let again = again.into_iter().chain([changed(5, 2, 1)]);
        for seen in first.into_iter().chain(again) {
            pass.see(&seen, &mut several, 1);
        }
        pass.finish(&mut several, 1);
        let run = |place: u32| pass.single[place as usize - 2].0.run_ns;
        let pids: Vec<u32> = pass.processes.iter().map(|(pid, _)| *pid).collect();
        assert_eq!(pids, [3, 5, 7, 8, 9]);
        let places: Vec<u32> = pass.processes.iter().map(|(_, place)| *place).collect();
        assert_eq!((places[0], run(places[1]), places[2], run(places[3])), (0, 2, 0, 2));
        assert_eq!((places[4], several[&9].sums.run_ns), (SEVERAL, 2));
    }
}
