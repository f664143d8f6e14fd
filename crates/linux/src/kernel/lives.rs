//! Lives of processes, told by the kernel as they end: programs that it runs where a process starts another program, where
//! its last thread ends, and where nothing of it is left.
//!
//! At the first the arguments and the parent are kept in the kernel, so that they are known of the shortest life too. At the
//! second everything is told that a process counted; what it ran since the last tick is not among it yet. At the third its
//! counters are final, those of all the threads it ever had. In between it may wait for its parent for as long as that likes.

use super::attached::Attached;
use super::btf::{Btf, Field};
use super::call;
use super::code::{Code, Helper, Label, Operation, Register, When, Width};
use super::layout::Layout;
use super::refused::Refused;
use super::ring::{self, Ring};
use Register::{FP, R0, R1, R2, R3, R4, R6, R7, R8, R9};
use Width::{Eight, Four};
use rustix::event::{EventfdFlags, Timespec, eventfd};
use rustix::io::Errno;
use std::collections::HashMap;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Lives that are kept until somebody takes them; more are lost.
const MOST: usize = 100_000;
/// Bytes of the ring for each core, at least and at most: what a core ends in a fifth of a second at 2,500 a second. A quarter of
/// the ring wakes whoever empties it.
const RING_OF_CORE: usize = 256 << 10;
const RING: [usize; 2] = [1 << 20, 4 << 20];
/// Processes whose arguments are kept at a time; they are needed of those that live shorter than a reading.
const KEPT: u32 = 8 << 10;
/// Bytes of arguments that are kept.
pub const ARGUMENTS: usize = 168;
/// What is kept of a process: its parent and how many bytes of arguments, the parent's name, the arguments.
const VALUE: usize = 24 + ARGUMENTS;
/// Where that is built on the stack, and its key.
const KEPT_AT: i16 = -(VALUE as i16);
const KEY: i16 = KEPT_AT - 8;
/// Words of a record: who it is, what it counted, and of one that ends its names and arguments.
const START: usize = 1;
const COUNTED: usize = 2;
const FREED_WORDS: usize = COUNTED + COUNTERS.len();
const NOW: usize = FREED_WORDS;
const SIGNALS: usize = NOW + 1;
const LEADER: usize = SIGNALS + 1;
const PEAK: usize = LEADER + 1;
const NAME: usize = PEAK + 1;
const KEPT_WORDS: usize = NAME + 2;
const OTHERS: usize = KEPT_WORDS + VALUE / 8;
const ENDED_WORDS: usize = OTHERS + IO;
/// The last of the counters are those of input and output.
const IO: usize = 7;
/// Kinds of records.
const ENDED: u32 = 1;
const FREED: u32 = 2;
/// Counters of a thread, and of those of its process that are gone.
const COUNTERS: [(&str, &str); 14] = [
    ("utime", "utime"),
    ("stime", "stime"),
    ("se.sum_exec_runtime", "sum_sched_runtime"),
    ("min_flt", "min_flt"),
    ("maj_flt", "maj_flt"),
    ("nvcsw", "nvcsw"),
    ("nivcsw", "nivcsw"),
    ("ioac.read_bytes", "ioac.read_bytes"),
    ("ioac.write_bytes", "ioac.write_bytes"),
    ("ioac.cancelled_write_bytes", "ioac.cancelled_write_bytes"),
    ("ioac.syscr", "ioac.syscr"),
    ("ioac.syscw", "ioac.syscw"),
    ("ioac.rchar", "ioac.rchar"),
    ("ioac.wchar", "ioac.wchar"),
];
/// Says that all threads ended for the same reason; include/linux/sched/signal.h.
const GROUP_EXIT: u32 = 4;
/// Structures and places that are looked up.
pub const NAMES: [&str; 7] = [
    "task_struct",
    "signal_struct",
    "mm_struct",
    "cred",
    "btf_trace_sched_process_exec",
    "btf_trace_sched_process_exit",
    "btf_trace_sched_process_free",
];

/// The life of a process that ended.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Life {
    /// Its number.
    pub pid: u32,
    /// Who started its program, or was its parent when it ended.
    pub parent: u32,
    /// User.
    pub uid: u32,
    /// When it started and ended, nanoseconds after boot.
    pub span_ns: (u64, u64),
    /// As wait(2) tells it.
    pub status: u32,
    /// Its name and its parent's, as the kernel keeps them.
    pub names: [[u8; 16]; 2],
    /// The beginning of its arguments as in `/proc/PID/cmdline`; empty where it never started a program.
    pub arguments: Vec<u8>,
    /// Most memory, in pages.
    pub peak_pages: u64,
    /// Time in user mode and in the kernel, as the ticks found it, nanoseconds.
    pub ticked_ns: [u64; 2],
    /// Time on a core, nanoseconds.
    pub run_ns: u64,
    /// Faults without and with a read, switches of its own will and forced.
    pub events: [u64; 4],
    /// As in `/proc/PID/io`, in the order of [`crate::proc::pid_io::Io`]: with what children had when it waited for them.
    pub io: [u64; IO],
    /// Of that, what its threads that ended before the last and those children had.
    pub others_io: [u64; IO],
    /// Nothing of it is left: the counters are final.
    pub is_final: bool,
}

impl Life {
    fn count(&mut self, words: [u64; COUNTERS.len()]) {
        let [user, system, run, events @ .., _, _, _, _, _, _, _] = words;
        let [.., read, write, cancelled, reads, writes, read_any, write_any] = words;
        (self.ticked_ns, self.run_ns, self.events) = ([user, system], run, events);
        self.io = [read, write, cancelled, reads, writes, read_any, write_any];
    }
}

/// What was told and nobody has taken yet.
#[derive(Default)]
struct Told {
    lives: Vec<Life>,
    /// Places of those who are not gone yet, by number and start.
    waiting: HashMap<(u32, u64), usize>,
    lost: u64,
}

struct Inner {
    ring: Ring,
    told: Told,
}

/// Hears of lives. Whatever hangs on it is gone with it.
pub struct Lives {
    inner: Arc<Mutex<Inner>>,
    lost: OwnedFd,
    /// Tells of ends.
    ends: Attached,
    /// Told when nobody needs this any more.
    over: Arc<OwnedFd>,
    _others: [Attached; 2],
    _kept: OwnedFd,
}

/// A program being put together.
struct Program<'a> {
    code: Code,
    layout: Layout<'a>,
    ring: i32,
    /// Bytes of it.
    size: u32,
    kept: i32,
    lost: i32,
}

impl Program<'_> {
    fn task(&self, path: &str) -> Result<Field, Refused> {
        self.layout.need("task_struct", path)
    }

    /// Makes room for a record of so many words; it is in `R9`.
    fn reserve(&mut self, words: usize, kind: u32, out: Label) -> Result<(), Refused> {
        let there = self.code.label();
        self.code.map(R1, self.ring).number(Operation::Set, R2, words as i32 * 8);
        self.code.number(Operation::Set, R3, 0).call(Helper::RingbufReserve);
        self.code.jump_if(R0, When::Different, 0, there);
        // No room: that is counted.
        self.code.put(Four, FP, KEY, 0).map(R1, self.lost).register(Operation::Set, R2, FP);
        self.code.number(Operation::Add, R2, i32::from(KEY)).call(Helper::MapLookupElem);
        self.code.jump_if(R0, When::Equal, 0, out).number(Operation::Set, R1, 1).add_to(R0, 0, R1);
        self.code.jump(out).here(there).register(Operation::Set, R9, R0);
        self.code.put(Four, R9, 0, kind as i32);
        let (number, leader) = (self.task("tgid")?, self.task("group_leader")?);
        let start = self.task("start_boottime")?;
        self.copy(Four, R7, number, 4);
        self.code.load(Eight, R6, R7, leader.offset);
        self.copy(Eight, R6, start, START as i16 * 8);
        Ok(())
    }

    /// Copies a field of what a register points at into the record.
    fn copy(&mut self, width: Width, from: Register, field: Field, to: i16) {
        self.code.load(width, R1, from, field.offset).store(width, R9, to, R1);
    }

    /// Hands the record over. Who empties the ring is woken when there is something to do.
    fn submit(&mut self) {
        /// Flags; include/uapi/linux/bpf.h.
        const NOBODY_IS_WOKEN: i32 = 1;
        const SOMEBODY_IS_WOKEN: i32 = 2;
        let (much, done) = (self.code.label(), self.code.label());
        self.code.map(R1, self.ring).number(Operation::Set, R2, 0).call(Helper::RingbufQuery);
        self.code.jump_if(R0, When::AtLeast, self.size as i32 / 4, much);
        self.code.number(Operation::Set, R2, NOBODY_IS_WOKEN).jump(done);
        self.code.here(much).number(Operation::Set, R2, SOMEBODY_IS_WOKEN).here(done);
        self.code.register(Operation::Set, R1, R9).call(Helper::RingbufSubmit);
    }

    /// Asks for what is kept of the process in `R7`; it is in `R0`.
    fn kept(&mut self, helper: Helper) -> Result<(), Refused> {
        let number = self.task("tgid")?;
        self.code.load(Four, R1, R7, number.offset).store(Four, FP, KEY, R1).map(R1, self.kept);
        self.code.register(Operation::Set, R2, FP).number(Operation::Add, R2, i32::from(KEY));
        if matches!(helper, Helper::MapUpdateElem) {
            self.code.register(Operation::Set, R3, FP).number(Operation::Add, R3, i32::from(KEPT_AT));
            self.code.number(Operation::Set, R4, 0);
        }
        self.code.call(helper);
        Ok(())
    }

    /// Writes the parent's number, how many bytes of arguments, and the parent's name, to where a register points.
    fn parent(&mut self, to: Register, at: i16) -> Result<(), Refused> {
        let (parent, number, name) = (self.task("real_parent")?, self.task("tgid")?, self.task("comm")?);
        self.code.load(Eight, R3, R7, parent.offset).load(Four, R1, R3, number.offset);
        self.code.store(Four, to, at, R1).put(Four, to, at + 4, 0);
        for half in [0, 8] {
            self.code.load(Eight, R1, R3, name.offset + half).store(Eight, to, at + 8 + half, R1);
        }
        Ok(())
    }

    /// A process started another program.
    fn started(mut self) -> Result<Vec<u64>, Refused> {
        let memory = self.task("mm")?;
        let [first, last] = ["arg_start", "arg_end"].map(|path| self.layout.need("mm_struct", path));
        let (first, last) = (first?, last?);
        let [out, short, put] = std::array::from_fn(|_| self.code.label());
        self.code.load(Eight, R7, R1, 0);
        for word in 0..VALUE / 8 {
            self.code.put(Eight, FP, KEPT_AT + word as i16 * 8, 0);
        }
        self.parent(FP, KEPT_AT)?;
        let code = &mut self.code;
        code.load(Eight, R8, R7, memory.offset).jump_if(R8, When::Equal, 0, out);
        code.load(Eight, R3, R8, first.offset).load(Eight, R2, R8, last.offset);
        code.jump_if_register(R3, When::AtLeast, R2, put).register(Operation::Subtract, R2, R3);
        code.jump_if(R2, When::Below, ARGUMENTS as i32, short);
        code.number(Operation::Set, R2, ARGUMENTS as i32).here(short);
        code.store(Four, FP, KEPT_AT + 4, R2);
        code.register(Operation::Set, R1, FP).number(Operation::Add, R1, i32::from(KEPT_AT) + 24);
        code.call(Helper::ProbeReadUser).here(put);
        self.kept(Helper::MapUpdateElem)?;
        self.code.here(out).end(0);
        Ok(self.code.finish())
    }

    /// The last thread of a process ends.
    fn ended(mut self) -> Result<Vec<u64>, Refused> {
        let (signal, name) = (self.task("signal")?, self.task("comm")?);
        let of_signal = |path| self.layout.need("signal_struct", path);
        let (live, flags, code) =
            (of_signal("live.counter")?, of_signal("flags")?, of_signal("group_exit_code")?);
        let (peak, exit, user) = (of_signal("maxrss")?, self.task("exit_code")?, self.task("real_cred")?);
        let uid = self.layout.need("cred", "uid.val")?;
        let [out, alone, none, done] = std::array::from_fn(|_| self.code.label());
        self.code.load(Eight, R7, R1, 0).load(Eight, R8, R7, signal.offset).load(Four, R1, R8, live.offset);
        self.code.jump_if(R1, When::Different, 0, out);
        self.reserve(ENDED_WORDS, ENDED, out)?;
        let numbers = [(R8, flags, SIGNALS, 0), (R8, code, SIGNALS, 4), (R6, exit, LEADER, 0)];
        for (from, field, word, half) in numbers {
            self.copy(Four, from, field, word as i16 * 8 + half);
        }
        self.copy(Eight, R8, peak, PEAK as i16 * 8);
        for half in [0, 8] {
            let field = Field { offset: name.offset + half };
            self.copy(Eight, R6, field, NAME as i16 * 8 + half);
        }
        self.code.load(Eight, R3, R7, user.offset);
        self.copy(Four, R3, uid, LEADER as i16 * 8 + 4);
        for (at, (of_task, of_gone)) in COUNTERS.into_iter().enumerate() {
            let (of_task, of_gone) = (self.task(of_task)?, self.layout.need("signal_struct", of_gone)?);
            let to = (COUNTED + at) as i16 * 8;
            self.code.load(Eight, R1, R8, of_gone.offset).load(Eight, R2, R7, of_task.offset);
            self.code.register(Operation::Add, R1, R2).store(Eight, R9, to, R1);
        }
        // What the kernel has added up so far: of threads that are gone, and of children that were waited for.
        for (at, (_, of_gone)) in COUNTERS.into_iter().skip(COUNTERS.len() - IO).enumerate() {
            let field = self.layout.need("signal_struct", of_gone)?;
            self.copy(Eight, R8, field, (OTHERS + at) as i16 * 8);
        }
        // A first thread that ended before is not among those that are gone.
        let [number, of_process] = ["pid", "tgid"].map(|path| self.task(path));
        self.code.load(Four, R1, R7, number?.offset).load(Four, R2, R7, of_process?.offset);
        self.code.jump_if_register(R1, When::Equal, R2, alone);
        for (at, (of_task, _)) in COUNTERS.into_iter().enumerate() {
            let (field, to) = (self.task(of_task)?, (COUNTED + at) as i16 * 8);
            self.code.load(Eight, R1, R9, to).load(Eight, R2, R6, field.offset);
            self.code.register(Operation::Add, R1, R2).store(Eight, R9, to, R1);
        }
        self.code.here(alone).call(Helper::KtimeGetBootNs).store(Eight, R9, NOW as i16 * 8, R0);
        self.kept(Helper::MapLookupElem)?;
        self.code.jump_if(R0, When::Equal, 0, none);
        for word in 0..VALUE / 8 {
            let (from, to) = (word as i16 * 8, (KEPT_WORDS + word) as i16 * 8);
            self.code.load(Eight, R1, R0, from).store(Eight, R9, to, R1);
        }
        self.code.jump(done).here(none);
        self.parent(R9, KEPT_WORDS as i16 * 8)?;
        for word in 3..VALUE / 8 {
            self.code.put(Eight, R9, (KEPT_WORDS + word) as i16 * 8, 0);
        }
        self.code.here(done);
        self.kept(Helper::MapDeleteElem)?;
        self.submit();
        self.code.here(out).end(0);
        Ok(self.code.finish())
    }

    /// Nothing of a task is left.
    fn freed(mut self) -> Result<Vec<u64>, Refused> {
        let (number, of_process, signal) = (self.task("pid")?, self.task("tgid")?, self.task("signal")?);
        let out = self.code.label();
        self.code.load(Eight, R7, R1, 0).load(Four, R1, R7, number.offset);
        self.code.load(Four, R2, R7, of_process.offset).jump_if_register(R1, When::Different, R2, out);
        self.code.load(Eight, R8, R7, signal.offset).jump_if(R8, When::Equal, 0, out);
        self.reserve(FREED_WORDS, FREED, out)?;
        for (at, (_, path)) in COUNTERS.into_iter().enumerate() {
            let field = self.layout.need("signal_struct", path)?;
            self.copy(Eight, R8, field, (COUNTED + at) as i16 * 8);
        }
        self.submit();
        self.code.here(out).end(0);
        Ok(self.code.finish())
    }
}

impl Lives {
    /// Puts the programs together and loads them.
    pub fn load(btf: &Btf, cores: usize) -> Result<Lives, Refused> {
        let [least, most] = RING;
        let ring = cores.saturating_mul(RING_OF_CORE).clamp(least, most).next_power_of_two();
        Lives::with_ring(btf, ring as u32)
    }

    fn with_ring(btf: &Btf, size: u32) -> Result<Lives, Refused> {
        let layout = Layout(btf);
        let ring = Ring::new(size).map_err(Refused::of)?;
        let kept = call::recent(KEPT, 4, VALUE as u32).map_err(Refused::of)?;
        let lost = call::array(1, 8).map_err(Refused::of)?;
        let program = || Program {
            code: Code::default(),
            layout,
            ring: ring.descriptor(),
            size,
            kept: kept.as_raw_fd(),
            lost: lost.as_raw_fd(),
        };
        // Who ends before the last is attached is told without an end of all.
        let starts = Attached::at(btf, "btf_trace_sched_process_exec", &program().started()?)?;
        let frees = Attached::at(btf, "btf_trace_sched_process_free", &program().freed()?)?;
        let ends = Attached::at(btf, "btf_trace_sched_process_exit", &program().ended()?)?;
        let over = Arc::new(eventfd(0, EventfdFlags::CLOEXEC).map_err(Refused::of)?);
        let waits = ring.waits().map_err(Refused::of)?;
        let inner = Arc::new(Mutex::new(Inner { ring, told: Told::default() }));
        let (emptied, until) = (inner.clone(), over.clone());
        std::thread::Builder::new()
            .name("lives".to_owned())
            .spawn(move || {
                while !ring::wait(waits.as_fd(), until.as_fd(), Timespec { tv_sec: 3600, tv_nsec: 0 }) {
                    locked(&emptied).empty();
                }
            })
            .map_err(|_| Refused::Other(Errno::AGAIN))?;
        Ok(Lives { inner, lost, ends, over, _others: [starts, frees], _kept: kept })
    }

    /// The lives that ended since the last call, in the order of their ends, into an empty list; and how many were lost
    /// since the beginning.
    pub fn take(&self, lives: &mut Vec<Life>) -> u64 {
        let mut inner = locked(&self.inner);
        inner.empty();
        inner.told.waiting.clear();
        std::mem::swap(lives, &mut inner.told.lives);
        inner.told.lives.clear();
        let without_room = call::get(self.lost.as_fd(), &0u32).map_or(0, |[lost]| lost);
        inner.told.lost + without_room + self.ends.missed()
    }
}

impl Drop for Lives {
    fn drop(&mut self) {
        // Adding one to such a descriptor cannot fail.
        let _ = rustix::io::write(&*self.over, &1u64.to_ne_bytes());
    }
}

fn locked(inner: &Mutex<Inner>) -> MutexGuard<'_, Inner> {
    inner.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Inner {
    /// Takes over what stands in the ring.
    fn empty(&mut self) {
        let Inner { ring, told } = self;
        ring.take(|record| told.add(record));
    }
}

impl Told {
    /// A record of the programs; one that they do not write is passed.
    fn add(&mut self, record: &[u8]) {
        let (words, _) = record.as_chunks::<8>();
        let words: Vec<u64> = words.iter().map(|word| u64::from_ne_bytes(*word)).collect();
        let Some((head, counted)) = words.split_first_chunk::<COUNTED>() else { return };
        let (kind, pid, start) = (head[0] as u32, (head[0] >> 32) as u32, head[START]);
        let Some((counters, _)) = counted.split_first_chunk() else { return };
        if kind == FREED {
            // Its last thread may have ended before anybody listened, or was told of before.
            let known = self.waiting.remove(&(pid, start)).and_then(|place| self.lives.get_mut(place));
            if let Some(life) = known {
                life.count(*counters);
                life.is_final = true;
            }
        } else if self.lives.len() >= MOST {
            self.lost += 1;
        } else if kind == ENDED && words.len() == ENDED_WORDS {
            let mut life = ended(&words, record);
            (life.pid, life.span_ns.0) = (pid, start);
            life.count(*counters);
            self.waiting.insert((pid, start), self.lives.len());
            self.lives.push(life);
        }
    }
}

/// What a record of an end tells but for who it is and the counters.
fn ended(words: &[u64], record: &[u8]) -> Life {
    let halves = |word: usize| (words[word] as u32, (words[word] >> 32) as u32);
    let ((flags, of_all), (of_first, uid)) = (halves(SIGNALS), halves(LEADER));
    let (parent, length) = halves(KEPT_WORDS);
    let name = |word: usize| {
        let mut name = [0; 16];
        name.copy_from_slice(&record[word * 8..word * 8 + 16]);
        name
    };
    let arguments = &record[(KEPT_WORDS + 3) * 8..OTHERS * 8];
    Life {
        parent,
        uid,
        span_ns: (0, words[NOW]),
        status: if flags & GROUP_EXIT != 0 { of_all } else { of_first },
        names: [name(NAME), name(KEPT_WORDS + 1)],
        arguments: arguments[..arguments.len().min(length as usize)].to_vec(),
        peak_pages: words[PEAK],
        others_io: std::array::from_fn(|at| words[OTHERS + at]),
        ..Life::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn record(kind: u32, pid: u32, start: u64, counters: u64, words: usize) -> Vec<u8> {
        let mut all = vec![0u64; words];
        (all[0], all[START]) = (u64::from(kind) | u64::from(pid) << 32, start);
        all[COUNTED..FREED_WORDS].fill(counters);
        all.iter().flat_map(|word| word.to_ne_bytes()).collect()
    }

    fn end(pid: u32, start: u64, counters: u64) -> Vec<u8> {
        record(ENDED, pid, start, counters, ENDED_WORDS)
    }

    fn free(pid: u32, start: u64, counters: u64) -> Vec<u8> {
        record(FREED, pid, start, counters, FREED_WORDS)
    }

    #[test]
    fn counters_are_those_of_the_later_record_of_the_same_process() {
        let mut told = Told::default();
        for record in [free(7, 1, 99), end(7, 1, 5), end(8, 1, 6), end(7, 2, 7), free(7, 1, 8), free(7, 1, 9)]
        {
            told.add(&record);
        }
        let lives: Vec<_> = told.lives.iter().map(|life| (life.pid, life.run_ns, life.is_final)).collect();
        assert_eq!(lives, [(7, 8, true), (8, 6, false), (7, 7, false)]);
        assert_eq!((told.lives[0].io, told.lives[0].events), ([8; 7], [8; 4]));
    }

    /// Ends of processes while nobody empties a ring that has no room for them, and after.
    #[test]
    fn a_ring_that_runs_over_says_so_and_goes_on() {
        const ENDS: usize = 300;
        let types = match super::super::types(&crate::Roots::default()) {
            Ok(types) => types,
            Err(refused) => return println!("not tested here: {refused}"),
        };
        let lives = match Lives::with_ring(&types, 16 << 10) {
            Ok(lives) => lives,
            Err(refused) => return println!("not tested here: {refused}"),
        };
        let child = || {
            let mut child = std::process::Command::new("true").spawn().expect("a child");
            child.wait().expect("its end");
            child.id()
        };
        let emptied = locked(&lives.inner);
        let ended: Vec<u32> = (0..ENDS).map(|_| child()).collect();
        drop(emptied);
        let mut told = vec![];
        let lost = lives.take(&mut told);
        let named = ended.iter().filter(|pid| told.iter().any(|life| life.pid == **pid)).count();
        assert!(named > 0 && named < ENDS / 2, "{named}");
        assert!(lost as usize >= ENDS - named, "{lost} lost, {named} named of {ENDS}");
        // Room is there again.
        let later: Vec<u32> = (0..5).map(|_| child()).collect();
        std::thread::sleep(std::time::Duration::from_millis(100));
        lives.take(&mut told);
        assert!(later.iter().all(|pid| told.iter().any(|life| life.pid == *pid)));
    }

    #[test]
    fn what_nobody_takes_is_bounded_and_counted() {
        let mut told = Told::default();
        for pid in 0..MOST as u32 + 3 {
            told.add(&end(pid, 1, 5));
        }
        assert_eq!((told.lives.len(), told.lost), (MOST, 3));
    }

    #[test]
    fn an_end_says_how_and_by_whom_and_a_broken_record_nothing() {
        let mut record = end(7, 1, 5);
        let put = |record: &mut Vec<u8>, word: usize, low: u32, high: u32| {
            let value = u64::from(low) | u64::from(high) << 32;
            record[word * 8..word * 8 + 8].copy_from_slice(&value.to_ne_bytes());
        };
        put(&mut record, SIGNALS, 0, 9);
        put(&mut record, LEADER, 3 << 8, 1_000);
        put(&mut record, KEPT_WORDS, 44, 8);
        record[(KEPT_WORDS + 3) * 8..(KEPT_WORDS + 4) * 8].copy_from_slice(b"solve\0x\0");
        let life = |record: &[u8]| {
            let mut told = Told::default();
            told.add(record);
            told.lives.pop()
        };
        let one = life(&record).expect("an end");
        assert_eq!(
            (one.status, one.uid, one.parent, &one.arguments[..]),
            (3 << 8, 1_000, 44, &b"solve\0x\0"[..])
        );
        put(&mut record, SIGNALS, GROUP_EXIT, 9);
        assert_eq!(life(&record).map(|one| one.status), Some(9), "all were ended for the same reason");
        // More bytes than there are.
        put(&mut record, KEPT_WORDS, 44, u32::MAX);
        assert_eq!(life(&record).map(|one| one.arguments.len()), Some(ARGUMENTS));
        for cut in 0..record.len() {
            assert_eq!(life(&record[..cut]), None, "{cut}");
        }
        put(&mut record, 0, 77, 7);
        assert_eq!(life(&record), None, "another kind");
    }
}
