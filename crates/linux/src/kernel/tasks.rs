//! The walk over all tasks: the program that the kernel runs for each, and what it writes.
//!
//! The program compares a task's run time with what it was at the walk before (an array that stays in the kernel) and writes
//! all its counters where they differ, else only its number. What others can change of a task that does not run, its memory
//! above all, is compared at its turn. Where the fields are comes from the kernel's type information.

use super::btf::{Btf, Field};
use super::call;
use super::code::{Code, Helper, Label, Operation, Register, When, Width};
use super::layout::Layout;
use super::refused::Refused;
use crate::live::rotation::SPREAD;
use Register::{FP, R0, R1, R2, R3, R6, R7, R8, R9};
use Width::{Eight, Four};
use rustix::io::Errno;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};

/// Words of 64 bits that are written of a task and of what belongs to its whole process.
const WORDS: usize = 52;
/// Where the record is on the program's stack of 512 bytes, and what is kept beside it.
const RECORD: i16 = -(WORDS as i16 * 8);
const KEY: i16 = RECORD - 8;
const DUE: i16 = RECORD - 16;
const PRINT: i16 = RECORD - 24;
const CHANGED: i16 = RECORD - 32;
const PART: i16 = RECORD - 40;
const BASES: i16 = RECORD - 72;
const _: () = assert!(BASES >= -512);

/// Says of a number that the counters follow.
const FOLLOWS: u32 = 1 << 31;
/// Says of a number in the array that it is the main thread of several.
const SEVERAL: i32 = i32::MIN;
/// Bytes that one reading of the walk gives at most.
const PIECE: usize = 256 << 10;
/// Values of the array are a number with [`SEVERAL`], a print of what others can change, and the run time.
const VALUE: u32 = 16;
/// Places of the array for each task there is room for: the more, the rarer two tasks share one and both count as changed.
const SPARE: usize = 8;
/// Cores that the kernel's check still follows one by one in good time.
const MOST_CORES: usize = 1 << 12;
/// Least number of places.
const PLACES: usize = 1 << 16;

/// Structures and functions that are looked up.
pub const NAMES: [&str; 12] = [
    "task_struct",
    "signal_struct",
    "mm_struct",
    "bpf_array",
    "cred",
    "task_delay_info",
    "pid",
    "bpf_iter__task",
    "bpf_iter_meta",
    "bpf_iter_task",
    "upid",
    "taskstats",
];

/// Which parts of a record this kernel does not give.
#[derive(Clone, Copy, Default, Debug, PartialEq, Eq)]
pub struct Missing {
    /// Input and output.
    pub io: bool,
    /// Memory.
    pub memory: bool,
    /// The core, the wait for disks, or the session.
    pub rest: bool,
}

/// What is known of a task, with the counters as the kernel keeps them. Times are nanoseconds, memory is in pages.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[allow(missing_docs, reason = "fields are named as in the reading's process row or in the kernel")]
pub struct Task {
    pub tid: u32,
    pub pid: u32,
    pub start_ns: u64,
    pub run_ns: u64,
    pub user_ns: u64,
    pub system_ns: u64,
    pub faults_minor: u64,
    pub faults_major: u64,
    pub switches_wait: u64,
    pub switches_forced: u64,
    pub state: u32,
    pub exit_state: u32,
    pub flags: u32,
    pub policy: u32,
    pub priority: i32,
    pub static_priority: i32,
    pub core: u32,
    /// As in `/proc/PID/io`, in the order of [`crate::proc::pid_io::Io`].
    pub io: [u64; 7],
    pub disk_wait_ns: u64,
    /// Time ready to run without a core; nothing where the kernel does not count it.
    pub core_wait_ns: Option<u64>,
}

/// What belongs to a process as a whole, above all the counters of its threads that have ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[allow(missing_docs, reason = "fields are named as in the reading's process row or in the kernel")]
pub struct Whole {
    pub parent: u32,
    pub threads: u32,
    pub user_ns: u64,
    pub system_ns: u64,
    pub children_user_ns: u64,
    pub children_system_ns: u64,
    /// What the kernel last told of user and system time.
    pub told_user_ns: u64,
    pub told_system_ns: u64,
    pub run_ns: u64,
    pub switches_wait: u64,
    pub switches_forced: u64,
    pub faults_minor: u64,
    pub faults_major: u64,
    pub children_faults: u64,
    pub io: [u64; 7],
    pub real_uid: u32,
    pub uid: u32,
    /// Whether it has memory of its own.
    pub has_memory: bool,
    pub virtual_pages: u64,
    /// Of files, of its own, in swap, shared.
    pub pages: [i64; 4],
    pub name: [u8; 16],
    pub session: u32,
    pub core_wait: EndedWait,
}

/// How long threads of a process that have ended waited for a core.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum EndedWait {
    /// The kernel does not keep it.
    #[default]
    Unknown,
    /// None ended yet while others lived.
    Nobody,
    /// So many nanoseconds; those of a thread are in it as soon as it begins to end.
    Ns(u64),
}

/// One thing that a walk gives.
#[derive(Clone, Copy, Debug)]
#[expect(clippy::large_enum_variant, reason = "it lives for one call")]
pub enum Seen {
    /// A task of which nothing changed.
    Same {
        /// Its number.
        tid: u32,
        /// Its process.
        pid: u32,
    },
    /// A task that ran, or that others changed, and what belongs to its whole process.
    Changed(Task, Whole),
}

/// How a walk is done.
#[derive(Clone, Copy, Debug)]
pub struct Turn {
    /// Everybody counts as changed.
    pub everybody: bool,
    /// Where the hand of [`crate::live::rotation::Rotation`] is.
    pub hand: u32,
    /// The part of the dial that it swept over: the memory of these processes is compared too.
    pub swept: u32,
}

/// The loaded program.
pub struct Tasks {
    last: OwnedFd,
    link: OwnedFd,
    places: u32,
    missing: Missing,
    buffer: Vec<u8>,
}

/// Fields of `task_struct`, `signal_struct` and so on, and the word of the record that each is written to.
const TASK: [(&str, usize); 7] = [
    ("start_boottime", 1),
    ("utime", 3),
    ("stime", 4),
    ("min_flt", 5),
    ("maj_flt", 6),
    ("nvcsw", 7),
    ("nivcsw", 8),
];
const RUN: &str = "se.sum_exec_runtime";
const RUN_WORD: usize = 2;
/// Of half a word each.
const TASK_HALVES: [(&str, usize, i16); 4] =
    [("flags", 10, 0), ("policy", 10, 4), ("exit_state", STATE_WORD, 4), ("__state", STATE_WORD, 0)];
const STATE_WORD: usize = 9;
const PRIORITY_WORD: usize = 11;
const CORE_WORD: usize = 12;
const IO_WORD: usize = 13;
const WAIT_WORD: usize = 20;
const PARENT_WORD: usize = 21;
const SIGNAL: [(&str, usize); 12] = [
    ("utime", 22),
    ("stime", 23),
    ("cutime", 24),
    ("cstime", 25),
    ("prev_cputime.utime", 26),
    ("prev_cputime.stime", 27),
    ("sum_sched_runtime", WHOLE_RUN_WORD),
    ("nvcsw", 29),
    ("nivcsw", 30),
    ("min_flt", 31),
    ("maj_flt", 32),
    ("cmin_flt", WHOLE_WAITED_WORD),
];
const WHOLE_RUN_WORD: usize = 28;
const WHOLE_WAITED_WORD: usize = 33;
const WHOLE_IO_WORD: usize = 34;
const USER_WORD: usize = 41;
const VIRTUAL_WORD: usize = 42;
const PAGES_WORD: usize = 43;
const NAME_WORD: usize = 47;
const SESSION_WORD: usize = 49;
const CORE_WAIT_WORD: usize = 50;
const WHOLE_CORE_WAIT_WORD: usize = 51;
/// Stand for a time that the kernel does not keep, and for nobody whose time that would be.
const UNKNOWN: i32 = -1;
const NOBODY: i32 = -2;
/// In the order of [`crate::proc::pid_io::Io`].
const IO: [&str; 7] =
    ["read_bytes", "write_bytes", "cancelled_write_bytes", "syscr", "syscw", "rchar", "wchar"];
/// Kinds of pages, as the kernel numbers them: of files, anonymous, in swap, shared memory; include/linux/mm_types_task.h.
const KINDS: usize = 4;

fn at(word: usize) -> i16 {
    RECORD + word as i16 * 8
}

/// How the memory of a process is read.
#[derive(Clone, Copy)]
enum Pages {
    /// One number of each kind.
    Whole([Field; KINDS]),
    /// One number of each kind and what each core has not added to it yet: where the number is, and where those of the cores
    /// are.
    PerCore([(Field, Field); KINDS]),
}

impl Pages {
    fn find(layout: Layout<'_>) -> Option<Pages> {
        let kinds = |path: fn(usize) -> String| -> Option<[Field; KINDS]> {
            let found: Vec<Field> =
                (0..KINDS).map(|kind| layout.has("mm_struct", &path(kind))).collect::<Option<_>>()?;
            found.try_into().ok()
        };
        if let Some(whole) = kinds(|kind| format!("rss_stat.count[{kind}].counter")) {
            return Some(Pages::Whole(whole));
        }
        let counts = kinds(|kind| format!("rss_stat[{kind}].count"))?;
        let cores = kinds(|kind| format!("rss_stat[{kind}].counters"))?;
        Some(Pages::PerCore(std::array::from_fn(|kind| (counts[kind], cores[kind]))))
    }
}

/// The program being put together.
struct Program<'a> {
    code: Code,
    layout: Layout<'a>,
    cores: i32,
    map: i32,
    places: u32,
}

impl Program<'_> {
    /// Copies a field of what a register points at into the record.
    fn copy(&mut self, width: Width, from: Register, field: Field, to: i16) {
        self.code.load(width, R1, from, field.offset).store(width, FP, to, R1);
    }

    /// Loads the address of what a field of the task points at.
    fn follow(&mut self, to: Register, path: &str) -> Result<(), Refused> {
        let field = self.layout.need("task_struct", path)?;
        self.code.load(Eight, to, R7, field.offset);
        Ok(())
    }

    /// Asks the array for a place whose number is in `R1`; the value is in `R0`.
    fn look_up(&mut self, out: Label) {
        self.code.store(Four, FP, KEY, R1).map(R1, self.map).register(Operation::Set, R2, FP);
        self.code.number(Operation::Add, R2, i32::from(KEY)).call(Helper::MapLookupElem);
        self.code.jump_if(R0, When::Equal, 0, out);
    }

    /// Whether it is the task's turn, and whether everybody counts as changed.
    fn turn(&mut self, out: Label) {
        self.code.number(Operation::Set, R1, self.places as i32);
        self.look_up(out);
        let code = &mut self.code;
        let (not, done) = (code.label(), code.label());
        code.load(Four, R1, R0, 0).store(Eight, FP, CHANGED, R1);
        // The place on the dial; see `Rotation`.
        code.load(Four, R1, R0, 4).load(Four, R2, FP, at(0)).times(R2, SPREAD as i32);
        code.minus(R1, R2).load(Four, R2, R0, 8);
        code.jump_if_register(R1, When::AtLeast, R2, not);
        code.put(Eight, FP, DUE, 1).jump(done);
        code.here(not).put(Eight, FP, DUE, 0).here(done);
    }

    /// Compares the run time with that of the walk before. `R9` is the task's place in the array.
    fn compare(&mut self, same: Label) -> Result<(), Refused> {
        let ended = self.layout.need("signal_struct", "sum_sched_runtime")?;
        let waited = self.layout.need("signal_struct", "cmin_flt")?;
        let state = self.layout.need("task_struct", "__state")?;
        let code = &mut self.code;
        let (changed, alone, done) = (code.label(), code.label(), code.label());
        code.load(Eight, R8, FP, at(RUN_WORD)).load(Four, R1, R9, 0).register(Operation::Set, R2, R1);
        code.number(Operation::And, R2, i32::MAX).load(Four, R3, FP, at(0));
        code.jump_if_register(R2, When::Different, R3, changed);
        code.number(Operation::ShiftRight, R1, 31).jump_if(R1, When::Equal, 0, alone);
        // A thread that ended leaves its run time to the process, and each may wait for a child, which had faults.
        self.follow(R1, "signal")?;
        self.code.load(Eight, R2, R1, ended.offset).register(Operation::Add, R8, R2);
        self.code.load(Eight, R2, R1, waited.offset).register(Operation::Add, R8, R2);
        let code = &mut self.code;
        code.here(alone).load(Eight, R1, R9, 8);
        code.jump_if_register(R1, When::Different, R8, changed);
        // One that waits for a core has not run, but neither does it sleep any more.
        code.load(Four, R1, R7, state.offset).jump_if(R1, When::Equal, 0, changed);
        // The same as before. Only of a main thread whose turn it is there is more to compare.
        code.load(Eight, R1, FP, CHANGED).jump_if(R1, When::Different, 0, done);
        code.load(Eight, R1, FP, DUE).jump_if(R1, When::Equal, 0, same);
        code.load(Four, R1, FP, at(0)).load(Four, R2, FP, at(0) + 4);
        code.jump_if_register(R1, When::Different, R2, same).jump(done);
        code.here(changed).put(Eight, FP, CHANGED, 1).here(done);
        Ok(())
    }

    /// What others can change of a process: its memory, its parent, its priority.
    fn changed_by_others(&mut self, pages: Option<Pages>) -> Result<(), Refused> {
        for word in VIRTUAL_WORD..PAGES_WORD + KINDS {
            self.code.put(Eight, FP, at(word), 0);
        }
        self.code.put(Eight, FP, at(SESSION_WORD), 0);
        if let Some(pages) = pages {
            self.memory(pages)?;
        }
        let parent = self.layout.need("task_struct", "tgid")?;
        self.follow(R1, "real_parent")?;
        self.code.load(Four, R1, R1, parent.offset).store(Four, FP, at(PARENT_WORD), R1);
        // Whatever it was before, another print is told; a print that is the same by chance waits for its next turn.
        self.code.load(Four, R2, FP, at(PRIORITY_WORD)).number(Operation::ShiftLeft, R2, 8);
        self.code.load(Four, R3, FP, at(PRIORITY_WORD) + 4).register(Operation::Add, R2, R3);
        self.code.load(Four, R3, FP, at(PARENT_WORD)).times(R3, 0x85eb_ca6b_u32 as i32);
        self.code.register(Operation::Xor, R2, R3);
        for word in VIRTUAL_WORD..PAGES_WORD + KINDS {
            self.code.load(Eight, R3, FP, at(word)).register(Operation::Add, R2, R3);
            self.code.times(R2, 0x0100_0193);
        }
        self.code.store(Eight, FP, PRINT, R2);
        Ok(())
    }

    fn memory(&mut self, pages: Pages) -> Result<(), Refused> {
        let virtual_pages = self.layout.need("mm_struct", "total_vm")?;
        let none = self.code.label();
        self.follow(R8, "mm")?;
        self.code.jump_if(R8, When::Equal, 0, none);
        self.code.put(Four, FP, at(SESSION_WORD) + 4, 1);
        self.copy(Eight, R8, virtual_pages, at(VIRTUAL_WORD));
        match pages {
            Pages::Whole(fields) => {
                for (kind, field) in fields.into_iter().enumerate() {
                    self.copy(Eight, R8, field, at(PAGES_WORD + kind));
                }
            }
            Pages::PerCore(fields) => {
                for (kind, (count, cores)) in fields.into_iter().enumerate() {
                    self.copy(Eight, R8, count, at(PAGES_WORD + kind));
                    self.copy(Eight, R8, cores, BASES + kind as i16 * 8);
                }
                let (next, end) = (self.code.label(), self.code.label());
                self.code.number(Operation::Set, R8, 0).here(next);
                self.code.register(Operation::Set, R1, R8).number(Operation::Add, R1, self.places as i32 + 1);
                self.look_up(end);
                self.code.load(Eight, R1, R0, 8).store(Eight, FP, KEY, R1);
                for kind in 0..KINDS {
                    let code = &mut self.code;
                    code.load(Eight, R3, FP, BASES + kind as i16 * 8).load(Eight, R1, FP, KEY);
                    code.register(Operation::Add, R3, R1).put(Eight, FP, PART, 0);
                    code.number(Operation::Set, R2, 4).register(Operation::Set, R1, FP);
                    code.number(Operation::Add, R1, i32::from(PART)).call(Helper::ProbeReadKernel);
                    code.load(Four, R1, FP, PART).number(Operation::ShiftLeft, R1, 32);
                    code.number(Operation::ShiftArithmetic, R1, 32);
                    code.load(Eight, R2, FP, at(PAGES_WORD + kind)).register(Operation::Add, R2, R1);
                    code.store(Eight, FP, at(PAGES_WORD + kind), R2);
                }
                self.code.number(Operation::Add, R8, 1);
                self.code.jump_if(R8, When::Below, self.cores, next).here(end);
            }
        }
        self.code.here(none);
        Ok(())
    }

    /// The counters of the task itself.
    fn task(&mut self, missing: &mut Missing) -> Result<(), Refused> {
        for (path, word) in TASK {
            let field = self.layout.need("task_struct", path)?;
            self.copy(Eight, R7, field, at(word));
        }
        for (path, word, half) in TASK_HALVES {
            let field = self.layout.need("task_struct", path)?;
            self.copy(Four, R7, field, at(word) + half);
        }
        self.code.put(Eight, FP, at(CORE_WORD), 0).put(Eight, FP, at(WAIT_WORD), 0);
        let core = self.layout.has("task_struct", "thread_info.cpu");
        let core = core.or_else(|| self.layout.has("task_struct", "cpu"));
        missing.rest |= core.is_none();
        if let Some(field) = core {
            self.copy(Four, R7, field, at(CORE_WORD));
        }
        self.code.put(Eight, FP, at(CORE_WAIT_WORD), UNKNOWN);
        if let Some(field) = self.layout.has("task_struct", "sched_info.run_delay") {
            self.copy(Eight, R7, field, at(CORE_WAIT_WORD));
        }
        self.io("task_struct", R7, IO_WORD, missing);
        let delays = self.layout.has("task_struct", "delays");
        let wait = delays.zip(self.layout.has("task_delay_info", "blkio_delay"));
        missing.rest |= wait.is_none();
        if let Some((delays, wait)) = wait {
            let none = self.code.label();
            self.code.load(Eight, R1, R7, delays.offset).jump_if(R1, When::Equal, 0, none);
            self.code.load(Eight, R1, R1, wait.offset).store(Eight, FP, at(WAIT_WORD), R1).here(none);
        }
        Ok(())
    }

    fn io(&mut self, of: &'static str, from: Register, word: usize, missing: &mut Missing) {
        for (place, name) in IO.into_iter().enumerate() {
            let field = self.layout.has(of, &format!("ioac.{name}"));
            missing.io |= field.is_none();
            self.code.put(Eight, FP, at(word + place), 0);
            if let Some(field) = field {
                self.copy(Eight, from, field, at(word + place));
            }
        }
    }

    /// What belongs to the process as a whole.
    fn whole(&mut self, missing: &mut Missing) -> Result<(), Refused> {
        self.follow(R8, "signal")?;
        for (path, word) in SIGNAL {
            let field = self.layout.need("signal_struct", path)?;
            self.copy(Eight, R8, field, at(word));
        }
        let threads = self.layout.need("signal_struct", "nr_threads")?;
        self.copy(Four, R8, threads, at(PARENT_WORD) + 4);
        self.io("signal_struct", R8, WHOLE_IO_WORD, missing);
        self.waits_of_ended();
        let session = self.layout.has("signal_struct", "pids[3]");
        let session = session.zip(self.layout.has("pid", "numbers")).zip(self.layout.has("upid", "nr"));
        missing.rest |= session.is_none();
        if let Some(((session, numbers), number)) = session {
            let none = self.code.label();
            let number = numbers.offset + number.offset;
            self.code.load(Eight, R1, R8, session.offset).jump_if(R1, When::Equal, 0, none);
            self.code.load(Four, R1, R1, number).store(Four, FP, at(SESSION_WORD), R1).here(none);
        }
        self.follow(R8, "real_cred")?;
        for (path, half) in [("uid.val", 0), ("euid.val", 4)] {
            let field = self.layout.need("cred", path)?;
            self.copy(Four, R8, field, at(USER_WORD) + half);
        }
        let name = self.layout.need("task_struct", "comm")?;
        for half in [0, 8] {
            self.code.load(Eight, R1, R7, name.offset + half).store(Eight, FP, at(NAME_WORD) + half, R1);
        }
        Ok(())
    }

    /// How long threads that ended waited for a core: the kernel adds all delays of one that ends to what it keeps for
    /// accounts of whole processes; kernel/taskstats.c `fill_tgid_exit`. `R8` is the `signal_struct`.
    fn waits_of_ended(&mut self) {
        let kept = self.layout.has("signal_struct", "stats");
        let waits = kept.zip(self.layout.has("taskstats", "cpu_delay_total"));
        let Some((kept, waits)) = waits else {
            self.code.put(Eight, FP, at(WHOLE_CORE_WAIT_WORD), UNKNOWN);
            return;
        };
        let none = self.code.label();
        self.code.put(Eight, FP, at(WHOLE_CORE_WAIT_WORD), NOBODY);
        self.code.load(Eight, R1, R8, kept.offset).jump_if(R1, When::Equal, 0, none);
        self.code.load(Eight, R1, R1, waits.offset).store(Eight, FP, at(WHOLE_CORE_WAIT_WORD), R1).here(none);
    }

    /// Writes so many bytes of the record; where there is no room, the kernel runs the program again for the same task.
    fn write(&mut self, bytes: usize, out: Label) {
        self.code.register(Operation::Set, R1, R6).register(Operation::Set, R2, FP);
        self.code.number(Operation::Add, R2, i32::from(RECORD)).number(Operation::Set, R3, bytes as i32);
        self.code.call(Helper::SeqWrite).jump_if(R0, When::Different, 0, out);
    }

    /// Remembers the task as it was written.
    fn remember(&mut self) {
        let code = &mut self.code;
        let alone = code.label();
        code.load(Four, R1, FP, at(0)).number(Operation::And, R1, i32::MAX);
        code.load(Eight, R2, FP, at(RUN_WORD));
        code.load(Four, R3, FP, at(0) + 4).jump_if_register(R1, When::Different, R3, alone);
        code.load(Four, R3, FP, PRINT).store(Four, R9, 4, R3);
        code.load(Four, R3, FP, at(PARENT_WORD) + 4).number(Operation::ShiftRight, R3, 1);
        code.jump_if(R3, When::Equal, 0, alone);
        for word in [WHOLE_RUN_WORD, WHOLE_WAITED_WORD] {
            code.load(Eight, R3, FP, at(word)).register(Operation::Add, R2, R3);
        }
        code.number(Operation::Or, R1, SEVERAL);
        code.here(alone).store(Four, R9, 0, R1).store(Eight, R9, 8, R2);
    }

    fn build(mut self, pages: Option<Pages>) -> Result<(Vec<u64>, Missing), Refused> {
        let mut missing = Missing { memory: pages.is_none(), ..Missing::default() };
        let [out, same, changed] = std::array::from_fn(|_| self.code.label());
        let meta = self.layout.need("bpf_iter__task", "meta").map(|field| field.offset)?;
        let task = self.layout.need("bpf_iter__task", "task").map(|field| field.offset)?;
        let file = self.layout.need("bpf_iter_meta", "seq").map(|field| field.offset)?;
        self.code.load(Eight, R6, R1, meta).load(Eight, R7, R1, task);
        self.code.jump_if(R7, When::Equal, 0, out).load(Eight, R6, R6, file);
        for (path, to) in [("pid", at(0)), ("tgid", at(0) + 4)] {
            let field = self.layout.need("task_struct", path)?;
            self.copy(Four, R7, field, to);
        }
        let run = self.layout.need("task_struct", RUN)?;
        self.copy(Eight, R7, run, at(RUN_WORD));
        self.turn(out);
        self.code.load(Four, R1, FP, at(0)).number(Operation::And, R1, self.places as i32 - 1);
        self.look_up(out);
        self.code.register(Operation::Set, R9, R0);
        self.compare(same)?;
        for (path, half) in [("prio", 0), ("static_prio", 4)] {
            let field = self.layout.need("task_struct", path)?;
            self.copy(Four, R7, field, at(PRIORITY_WORD) + half);
        }
        self.changed_by_others(pages)?;
        self.code.load(Eight, R1, FP, CHANGED).jump_if(R1, When::Different, 0, changed);
        self.code.load(Four, R1, FP, PRINT).load(Four, R2, R9, 4);
        self.code.jump_if_register(R1, When::Equal, R2, same).here(changed);
        self.task(&mut missing)?;
        self.whole(&mut missing)?;
        self.code.load(Four, R1, FP, at(0)).number(Operation::Or, R1, FOLLOWS as i32).store(
            Four,
            FP,
            at(0),
            R1,
        );
        self.write(WORDS * 8, out);
        self.remember();
        self.code.end(0).here(same);
        self.write(8, out);
        self.code.here(out).end(0);
        Ok((self.code.finish(), missing))
    }
}

/// How far each core's own part of the memory is from where the kernel's pointers to such parts point. No symbol of the
/// kernel is needed: a map with a part for each core knows both its pointer and where the parts are.
fn offsets(layout: Layout<'_>, function: u32, cores: usize) -> Option<Vec<u64>> {
    // The pointers of such a map follow its description.
    let first = i32::try_from(layout.0.bytes("bpf_array")?).ok()?;
    let map = call::of_cores(8).ok()?;
    let [meta, task] = ["meta", "task"].map(|path| layout.has("bpf_iter__task", path));
    let file = layout.has("bpf_iter_meta", "seq")?;
    let mut code = Code::default();
    let (out, next) = (code.label(), code.label());
    let write = |code: &mut Code, from: i16| {
        code.register(Operation::Set, R1, R6).register(Operation::Set, R2, FP);
        code.number(Operation::Add, R2, i32::from(from)).number(Operation::Set, R3, 8).call(Helper::SeqWrite);
    };
    let copy = |code: &mut Code, to: i16| {
        code.register(Operation::Set, R1, FP).number(Operation::Add, R1, i32::from(to));
        code.number(Operation::Set, R2, 8).call(Helper::ProbeReadKernel);
    };
    code.load(Eight, R6, R1, meta?.offset).load(Eight, R7, R1, task?.offset);
    code.jump_if(R7, When::Equal, 0, out).load(Eight, R6, R6, file.offset);
    // A pointer on the stack becomes a number by being copied.
    code.put(Eight, FP, -16, 0).put(Eight, FP, -24, 0).map(R1, map.as_raw_fd()).store(Eight, FP, -8, R1);
    code.register(Operation::Set, R3, FP).number(Operation::Add, R3, -8);
    copy(&mut code, -16);
    code.load(Eight, R3, FP, -16).number(Operation::Add, R3, first);
    copy(&mut code, -24);
    write(&mut code, -24);
    code.number(Operation::Set, R8, 0).here(next).put(Eight, FP, -16, 0);
    code.map(R1, map.as_raw_fd()).register(Operation::Set, R2, FP).number(Operation::Add, R2, -16);
    code.register(Operation::Set, R3, R8).call(Helper::MapLookupPercpuElem);
    code.jump_if(R0, When::Equal, 0, out).store(Eight, FP, -8, R0);
    write(&mut code, -8);
    code.number(Operation::Add, R8, 1).jump_if(R8, When::Below, cores as i32, next);
    code.here(out).end(0);
    let program = call::load_iterator(&code.finish(), function).ok()?;
    let link = call::link_iterator(program.as_fd()).ok()?;
    // The first task has told all that is asked.
    let mut told = vec![0; 8 * (cores + 1)];
    let got = rustix::io::read(call::walk(link.as_fd()).ok()?, &mut told[..]).ok()?;
    let words: Vec<u64> =
        told.get(..got)?.as_chunks().0.iter().map(|word| u64::from_ne_bytes(*word)).collect();
    let (pointer, places) =
        words.split_first().filter(|(pointer, places)| **pointer != 0 && places.len() == cores)?;
    Some(places.iter().map(|place| place.wrapping_sub(*pointer)).collect())
}

impl Tasks {
    /// Puts the program together and loads it. `tasks`: about how many there are.
    pub fn load(btf: &Btf, tasks: usize, cores: usize) -> Result<Tasks, Refused> {
        let function = btf.function("bpf_iter_task").ok_or(Refused::Kernel)?;
        let places = (tasks.saturating_mul(SPARE)).clamp(PLACES, 1 << 24).next_power_of_two() as u32;
        let layout = Layout(btf);
        let cores = cores.clamp(1, MOST_CORES);
        let last = call::array(places + 1 + cores as u32, VALUE).map_err(Refused::of)?;
        let mut pages = Pages::find(layout);
        if let Some(Pages::PerCore(_)) = pages {
            match offsets(layout, function, cores) {
                Some(offsets) => {
                    for (offset, at) in offsets.into_iter().zip(places + 1..) {
                        call::set(last.as_fd(), at, &[0, offset]).map_err(Refused::of)?;
                    }
                }
                None => pages = None,
            }
        }
        let program =
            Program { code: Code::default(), layout, cores: cores as i32, map: last.as_raw_fd(), places };
        let (instructions, missing) = program.build(pages)?;
        let program = call::load_iterator(&instructions, function).map_err(Refused::said)?;
        let link = call::link_iterator(program.as_fd()).map_err(Refused::of)?;
        Ok(Tasks { last, link, places, missing, buffer: vec![0; PIECE] })
    }

    /// What this kernel does not give.
    pub fn missing(&self) -> Missing {
        self.missing
    }

    /// How many tasks there is room for before too many share a place.
    pub fn room(&self) -> usize {
        self.places as usize / 2
    }

    /// Walks over all tasks, in the order of their numbers.
    pub fn walk(&mut self, turn: Turn, mut see: impl FnMut(&Seen)) -> Result<(), Refused> {
        call::set(self.last.as_fd(), self.places, &[u32::from(turn.everybody), turn.hand, turn.swept, 0])
            .map_err(Refused::of)?;
        let walk = call::walk(self.link.as_fd()).map_err(Refused::of)?;
        loop {
            let got = match rustix::io::read(&walk, &mut self.buffer[..]) {
                Ok(0) => return Ok(()),
                Ok(got) => got,
                // Where nothing fitted, or it was interrupted, it goes on at the same task.
                Err(Errno::INTR | Errno::AGAIN) => continue,
                Err(error) => return Err(Refused::of(error)),
            };
            records(self.buffer.get(..got).unwrap_or_default(), &mut see).ok_or(Refused::Other(Errno::IO))?;
        }
    }
}

/// Splits what was read into records; `None` where one is cut off, which the kernel does not do.
fn records(bytes: &[u8], see: &mut impl FnMut(&Seen)) -> Option<()> {
    let mut rest = bytes;
    while let Some((head, _)) = rest.split_first_chunk::<8>() {
        let record = Record(rest);
        let (tid, pid) = (record.half(0, 0), record.half(0, 1));
        if tid & FOLLOWS == 0 {
            see(&Seen::Same { tid, pid });
            rest = &rest[head.len()..];
            continue;
        }
        let after = rest.get(8 * WORDS..)?;
        see(&Seen::Changed(record.task(tid & !FOLLOWS, pid), record.whole()));
        rest = after;
    }
    rest.is_empty().then_some(())
}

/// A record as it was written; it is long enough for what is asked.
struct Record<'a>(&'a [u8]);

impl Record<'_> {
    fn word(&self, at: usize) -> u64 {
        self.0.get(at * 8..).and_then(|rest| rest.first_chunk()).map_or(0, |word| u64::from_ne_bytes(*word))
    }

    fn half(&self, at: usize, half: usize) -> u32 {
        let rest = self.0.get(at * 8 + half * 4..);
        rest.and_then(|rest| rest.first_chunk()).map_or(0, |word| u32::from_ne_bytes(*word))
    }

    fn task(&self, tid: u32, pid: u32) -> Task {
        Task {
            tid,
            pid,
            start_ns: self.word(1),
            run_ns: self.word(RUN_WORD),
            user_ns: self.word(3),
            system_ns: self.word(4),
            faults_minor: self.word(5),
            faults_major: self.word(6),
            switches_wait: self.word(7),
            switches_forced: self.word(8),
            state: self.half(STATE_WORD, 0),
            exit_state: self.half(STATE_WORD, 1),
            flags: self.half(10, 0),
            policy: self.half(10, 1),
            priority: self.half(PRIORITY_WORD, 0) as i32,
            static_priority: self.half(PRIORITY_WORD, 1) as i32,
            core: self.half(CORE_WORD, 0),
            io: std::array::from_fn(|at| self.word(IO_WORD + at)),
            disk_wait_ns: self.word(WAIT_WORD),
            core_wait_ns: Some(self.word(CORE_WAIT_WORD)).filter(|word| *word as i64 != i64::from(UNKNOWN)),
        }
    }

    fn whole(&self) -> Whole {
        let mut name = [0; 16];
        for (half, bytes) in name.chunks_exact_mut(8).enumerate() {
            bytes.copy_from_slice(&self.word(NAME_WORD + half).to_ne_bytes());
        }
        Whole {
            parent: self.half(PARENT_WORD, 0),
            threads: self.half(PARENT_WORD, 1),
            user_ns: self.word(22),
            system_ns: self.word(23),
            children_user_ns: self.word(24),
            children_system_ns: self.word(25),
            told_user_ns: self.word(26),
            told_system_ns: self.word(27),
            run_ns: self.word(WHOLE_RUN_WORD),
            switches_wait: self.word(29),
            switches_forced: self.word(30),
            faults_minor: self.word(31),
            faults_major: self.word(32),
            children_faults: self.word(WHOLE_WAITED_WORD),
            io: std::array::from_fn(|at| self.word(WHOLE_IO_WORD + at)),
            real_uid: self.half(USER_WORD, 0),
            uid: self.half(USER_WORD, 1),
            has_memory: self.half(SESSION_WORD, 1) == 1,
            virtual_pages: self.word(VIRTUAL_WORD),
            // What the cores have not added yet may make a sum of few pages negative for a moment.
            pages: std::array::from_fn(|kind| (self.word(PAGES_WORD + kind) as i64).max(0)),
            name,
            session: self.half(SESSION_WORD, 0),
            core_wait: match self.word(WHOLE_CORE_WAIT_WORD) {
                word if word as i64 == i64::from(UNKNOWN) => EndedWait::Unknown,
                word if word as i64 == i64::from(NOBODY) => EndedWait::Nobody,
                word => EndedWait::Ns(word),
            },
        }
    }
}
