//! Files of processes that stay open, within a budget, and who is listed in `/proc`.

use super::super::own_io::OwnIo;
use super::super::threads::Summed;
use crate::Roots;
use crate::clock;
use crate::proc::pid::{open_pid, read_pid};
use crate::proc::{lines, number, words};
use dozor_core::known::Raw;
use rustix::fs::{AtFlags, CWD, Mode, OFlags, RawDir, openat, statat};
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;

/// All of `/proc` is listed every so many readings.
pub const LIST_TURN: u64 = 32;
/// New numbers are looked at one by one where they are at most one for so many processes.
const FEW: i64 = 16;
/// Threads whose state is looked at in one reading, over all processes.
const LOOKS: u32 = 256;
/// Files of threads that are read in one reading for what processes with several read and wrote themselves, and as many for how
/// long they waited for a core.
const THREAD_FILES: usize = 512;
/// Share of a core from which on a process whose main thread sleeps is asked which of its threads runs.
const BUSY: f64 = 0.25;
/// Descriptors that are left to everything else.
const RESERVED: u64 = 256;
/// Bytes of `schedstat` that are read, and of the beginning of `statm` that are compared: three numbers of at most 20 digits.
const IDLE_TEXT: usize = 64;
/// Descriptors of one [`Busy`].
const BUSY_FILES: u64 = 4;

/// What whoever counts keeps of a process.
#[derive(Default)]
pub struct Kept {
    pub io: Option<OwnIo>,
    /// What tells whether it is idle; nothing where that does not serve.
    pub idle: Option<Idle>,
    /// The files of one that is read in full again and again.
    pub busy: Option<Busy>,
    /// The reading in which it was read in full last.
    pub full: u64,
    /// Context switches of its threads, where it has several and they are wanted.
    pub switches: Summed<2>,
    /// Waits for a core of its threads, in the same way.
    pub core_wait: Summed<1>,
    /// The thread that was found running last.
    pub worker: Option<i64>,
    /// User and system time in nanoseconds as they were told.
    pub told: (u64, u64),
    /// Whether the reader in the kernel counted it.
    pub inside: bool,
}

/// What may still be opened and asked, and who was there.
pub struct State {
    /// The open `/proc/loadavg`, which ends with the number that was given away last; none of a made-up tree.
    pub latest: Option<OwnedFd>,
    /// That number two readings ago, and one.
    pub last: [Option<i64>; 2],
    /// Whether the clocks of processes tell who ran.
    pub clocks: bool,
    /// Whether the size of `/proc/PID/fd` tells how many files a process has open.
    pub told_by_size: bool,
    pub kept: u64,
    pub budget: u64,
    /// Ticks of CPU time since the last reading from which on a process counts as busy.
    pub busy_ticks: f64,
    pub looks: u32,
    pub thread_files: usize,
    pub wait_files: usize,
}

impl State {
    pub fn new(roots: &Roots, proc: &OwnedFd) -> State {
        let flags = OFlags::RDONLY | OFlags::CLOEXEC;
        let is_here = roots.proc == Roots::default().proc;
        let latest = is_here.then(|| openat(CWD, roots.proc.join("loadavg"), flags, Mode::empty()));
        let latest = latest.and_then(Result::ok);
        State {
            latest,
            last: [None; 2],
            clocks: clock::are_of(proc),
            told_by_size: size_tells_files(proc),
            kept: 0,
            budget: descriptor_budget(),
            busy_ticks: f64::INFINITY,
            looks: 0,
            thread_files: 0,
            wait_files: 0,
        }
    }

    /// A reading begins, so many seconds after the one before.
    pub fn begin(&mut self, seconds: f64) {
        self.busy_ticks = (seconds * rustix::param::clock_ticks_per_second() as f64 * BUSY).max(1.0);
        (self.looks, self.thread_files, self.wait_files) = (LOOKS, THREAD_FILES, THREAD_FILES);
    }

    /// Makes the list of processes that of now; some of them may be gone. All of `/proc` is listed only now and then, and
    /// where many numbers were given away since: else only these can be new. A number is given away a moment before its
    /// process is there, so it is looked at twice.
    pub fn list(&mut self, proc: &OwnedFd, turn: u64, pids: &mut Vec<i64>, buffer: &mut Vec<u8>) {
        let now = self.latest(buffer);
        let [before, _] = self.last;
        self.last = [self.last[1], now];
        let few = |new: &std::ops::Range<i64>| (0..=pids.len() as i64 / FEW).contains(&(new.end - new.start));
        let new = before.zip(now).map(|(before, now)| before + 1..now + 1).filter(few);
        let Some(new) = new.filter(|_| !turn.is_multiple_of(LIST_TURN)) else { return list(proc, pids) };
        let known = pids.len();
        for pid in new {
            if pids[..known].binary_search(&pid).is_err() && is_process(proc, pid, buffer) {
                pids.push(pid);
            }
        }
        if !pids.is_sorted() {
            pids.sort_unstable();
        }
    }

    /// The number that was given to a task last; `proc_loadavg(5)`.
    pub fn latest(&self, buffer: &mut [u8]) -> Option<i64> {
        let got = rustix::io::pread(self.latest.as_ref()?, &mut *buffer, 0).ok()?;
        number(words(buffer.get(..got)?.trim_ascii()).last()?)
    }

    /// Whether there is a descriptor for what tells who ran.
    fn has_one(&self) -> bool {
        self.kept < self.budget
    }

    /// Whether there are some for what saves less, which may take half of them.
    fn is_ample(&self) -> bool {
        self.kept < self.budget / 2
    }

    /// Opens what tells whether a process is idle; `None` when it is gone, or nothing does.
    pub fn open_idle(&self, proc: &OwnedFd, pid: i64) -> Option<Idle> {
        let open = |name: &str| open_pid(proc, pid, name).ok();
        let ran = match (self.clocks, self.has_one()) {
            (true, _) => Ran::Clock,
            (false, true) => Ran::File(Some(open("schedstat")?)),
            (false, false) => Ran::File(None),
        };
        Some(Idle { ran, stamp: Stamp::default(), memory: None, memory_text: None })
    }

    /// Opens what tells of the memory of an idle process, where that may be kept.
    pub fn open_memory(&mut self, proc: &OwnedFd, pid: i64, idle: &mut Idle) {
        if idle.memory.is_none() && self.is_ample() {
            idle.memory = open_pid(proc, pid, "statm").ok();
            self.kept += u64::from(idle.memory.is_some());
        }
    }

    /// Opens what a busy process is read from.
    pub fn open_busy(&self, proc: &OwnedFd, pid: i64) -> Option<Busy> {
        // With clocks nothing else takes the other half.
        if !if self.clocks { self.has_one() } else { self.is_ample() } {
            return None;
        }
        let open = |name| open_pid(proc, pid, name).ok();
        Some(Busy {
            stat: open("stat")?,
            io: open("io")?,
            status: open("status")?,
            schedstat: open("schedstat"),
        })
    }

    /// Files of a process are kept.
    pub fn keep(&mut self, kept: &Kept) {
        self.kept += descriptors(kept);
    }

    /// What is kept of a process is given up, and its files are closed.
    pub fn close(&mut self, kept: &Kept) {
        self.kept = self.kept.saturating_sub(descriptors(kept));
    }
}

/// What tells whether a process is idle, and what it said at the last full reading.
pub struct Idle {
    ran: Ran,
    stamp: Stamp,
    /// Opened when it is asked for first, and each time where descriptors are short.
    memory: Option<OwnedFd>,
    /// Nothing where it was not asked since all of the process was read.
    memory_text: Option<IdleText>,
}

/// What tells how long a process was on a core.
enum Ran {
    /// Its clock, which counts all its threads.
    Clock,
    /// `schedstat`, which counts one thread. Opened each time where there are no descriptors left: that is still a third of
    /// reading all of the process.
    File(Option<OwnedFd>),
}

/// How long a process was on a core, and where a file says it, how long it waited for one; nanoseconds.
#[derive(Clone, Copy, Default, PartialEq, Eq)]
pub struct Stamp {
    pub ran_ns: i64,
    pub wait_ns: Option<i64>,
}

impl Stamp {
    /// `schedstat`; Documentation/scheduler/sched-stats.rst.
    pub fn parse(text: &[u8]) -> Option<Stamp> {
        let mut numbers = words(text).map(number);
        Some(Stamp { ran_ns: numbers.next()??, wait_ns: numbers.next()? })
    }
}

/// The beginning of a file's text.
type IdleText = [u8; IDLE_TEXT];

/// The beginning of what an open file says now; `None` when its process is gone.
fn idle_text(file: &OwnedFd) -> Option<IdleText> {
    let mut text = [0; IDLE_TEXT];
    rustix::io::pread(file, &mut text[..], 0).ok()?;
    Some(text)
}

/// Descriptors that are kept of a process.
fn descriptors(kept: &Kept) -> u64 {
    let idle = kept.idle.as_ref();
    let idle = idle.map_or(0, |idle| {
        u64::from(matches!(idle.ran, Ran::File(Some(_)))) + u64::from(idle.memory.is_some())
    });
    idle + if kept.busy.is_some() { BUSY_FILES } else { 0 }
}

/// The open files of a process that is read in full again and again.
pub struct Busy {
    pub stat: OwnedFd,
    pub io: OwnedFd,
    pub status: OwnedFd,
    /// Nothing where the kernel does not count waits.
    pub schedstat: Option<OwnedFd>,
}

/// Descriptors that may be kept open: all but a reserve. The soft limit is raised to the hard one first, which is
/// what that is for.
pub fn descriptor_budget() -> u64 {
    let limit = getrlimit(Resource::Nofile);
    let raised = Rlimit { current: limit.maximum, maximum: limit.maximum };
    let now = if setrlimit(Resource::Nofile, raised).is_ok() { limit.maximum } else { limit.current };
    now.unwrap_or(u64::MAX).saturating_sub(RESERVED).min(1 << 20)
}

impl Idle {
    /// Whether a process was on no core since the last full reading; `None` when it is gone. Where no file of it is kept, it may be
    /// another one with the same number, but hardly one that ran as long.
    pub fn has_not_run(&self, proc: &OwnedFd, pid: i64) -> Option<bool> {
        self.stamp_now(proc, pid).map(|now| now == self.stamp)
    }

    fn stamp_now(&self, proc: &OwnedFd, pid: i64) -> Option<Stamp> {
        match &self.ran {
            Ran::Clock => Some(Stamp { ran_ns: clock::of_process(pid)?, wait_ns: None }),
            Ran::File(Some(file)) => Stamp::parse(&idle_text(file)?),
            Ran::File(None) => Stamp::parse(&idle_text(&open_pid(proc, pid, "schedstat").ok()?)?),
        }
    }

    /// Whether its process is there, as far as what is asked anyway can tell: a clock is that of whoever has the number, and the
    /// file about memory is opened anew once it says that its process is gone.
    pub fn is_there(&self) -> bool {
        let Ran::File(Some(file)) = &self.ran else { return true };
        idle_text(file).is_some()
    }

    /// What was said of its time on a core, where that counts all threads of a process with one or several.
    pub fn stamp(&self, single: bool) -> Option<Stamp> {
        Some(self.stamp).filter(|_| single || self.counts_all())
    }

    /// Whether all threads are counted.
    pub fn counts_all(&self) -> bool {
        matches!(self.ran, Ran::Clock)
    }

    /// Whether to ask for its memory opens nothing.
    pub fn has_memory_open(&self) -> bool {
        self.memory.is_some()
    }

    /// Whether its memory is as it was, by what was said last, else by the bytes that were read then; `None` when the process is gone.
    pub fn has_same_memory(&mut self, proc: &OwnedFd, pid: i64, resident: Raw, page: i64) -> Option<bool> {
        let now = self.memory_now(proc, pid)?;
        let same = match self.memory_text {
            Some(text) => text == now,
            None => words(&now).nth(1).and_then(number).map(|pages| pages * page) == resident.value(),
        };
        self.memory_text = Some(now);
        Some(same)
    }

    fn memory_now(&self, proc: &OwnedFd, pid: i64) -> Option<IdleText> {
        match &self.memory {
            Some(file) => idle_text(file),
            None => idle_text(&open_pid(proc, pid, "statm").ok()?),
        }
    }

    /// With what is said now; `None` when the process is gone.
    pub fn now(mut self, proc: &OwnedFd, pid: i64) -> Option<Idle> {
        let stamp = self.stamp_now(proc, pid)?;
        // Whether the memory of one that runs is as it was nobody asks: it is read.
        self.memory_text = if stamp == self.stamp { Some(self.memory_now(proc, pid)?) } else { None };
        self.stamp = stamp;
        Some(self)
    }
}

/// Whether the size of `/proc/PID/fd` tells how many files are open, as since Linux 6.2; of our own some are.
fn size_tells_files(proc: &OwnedFd) -> bool {
    statat(proc, "self/fd", AtFlags::empty()).is_ok_and(|about| about.st_size > 0)
}

/// Processes that are there now, in the order of their numbers.
pub fn list(proc: &OwnedFd, pids: &mut Vec<i64>) {
    pids.clear();
    if rustix::fs::seek(proc, rustix::fs::SeekFrom::Start(0)).is_err() {
        return;
    }
    let mut space = [MaybeUninit::uninit(); 16 << 10];
    let mut entries = RawDir::new(proc, &mut space);
    while let Some(Ok(entry)) = entries.next() {
        pids.extend(number(entry.file_name().to_bytes()).filter(|pid| *pid > 0));
    }
    // The kernel lists them in order; a made-up tree may not.
    if !pids.is_sorted() {
        pids.sort_unstable();
    }
}

/// Whether a number is that of a process, not of one of its threads, which are there as well but not listed.
pub fn is_process(proc: &OwnedFd, pid: i64, buffer: &mut Vec<u8>) -> bool {
    let status = read_pid(proc, pid, "status", buffer).unwrap_or_default();
    let group = lines(status).find_map(|line| line.strip_prefix(b"Tgid:"));
    group.and_then(|text| number(text.trim_ascii())) == Some(pid)
}
