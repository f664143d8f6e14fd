//! The program that the kernel runs for each task: what it compares, and what it writes.
//!
//! It goes from task to task in one of two ways, whichever this kernel has: along the kernel's list of processes and their
//! threads, in one run for some thousands of them, which is nearly free; or, before Linux 6.7, once for each task as somebody
//! reads a file that lists them.

use super::Missing;
use super::record::{
    BYTES, CORE_WAIT_WORD, CORE_WORD, FOLLOWS, IO_WORD, NAME_WORD, NOBODY, PAGES_WORD, PARENT_WORD,
    PRIORITY_WORD, RUN_WORD, SESSION_WORD, SHORT, STATE_WORD, UNKNOWN, USER_WORD, VIRTUAL_WORD, WAIT_WORD,
    WHOLE_CORE_WAIT_WORD, WHOLE_IO_WORD, WHOLE_RUN_WORD, WHOLE_WAITED_WORD,
};
use super::shared::{
    CURSOR, END, EVERYBODY, HAND, HEADER, LEFT, LOST, PIECE, RESUME, SKIP, START, STATE, SWEPT, State,
};
use crate::kernel::btf::Field;
use crate::kernel::code::{Code, Helper, Label, Operation, Register, When, Width};
use crate::kernel::layout::Layout;
use crate::kernel::refused::Refused;
use crate::live::rotation::SPREAD;
use Register::{FP, R0, R1, R2, R3, R6, R7, R8, R9};
use Width::{Eight, Four};

/// What is kept on the program's stack of 512 bytes.
const KEY: i16 = -8;
const DUE: i16 = -16;
const PRINT: i16 = -24;
const CHANGED: i16 = -32;
const PART: i16 = -40;
const BASES: i16 = -72;
/// Along the list: what counts the turns.
const TURNS: i16 = -80;
/// By the file: what is written to, and the record of the task.
const FILE: i16 = -80;
const RECORD: i16 = FILE - BYTES as i16;
const _: () = assert!(RECORD >= -512);

/// Says of a number in the array that it is the main thread of several.
const SEVERAL: i32 = i32::MIN;

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
/// Of half a word each.
const TASK_HALVES: [(&str, usize, i16); 4] =
    [("flags", 10, 0), ("policy", 10, 4), ("exit_state", STATE_WORD, 4), ("__state", STATE_WORD, 0)];
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
/// In the order of [`crate::proc::pid_io::Io`].
const IO: [&str; 7] =
    ["read_bytes", "write_bytes", "cancelled_write_bytes", "syscr", "syscw", "rchar", "wchar"];
/// Kinds of pages, as the kernel numbers them: of files, anonymous, in swap, shared memory; include/linux/mm_types_task.h.
const KINDS: usize = 4;
/// Turns that one run may take at most, of which the kernel allows eight million.
const MOST_TURNS: i32 = 1 << 20;

fn at(word: usize) -> i16 {
    word as i16 * 8
}

/// How the memory of a process is read.
#[derive(Clone, Copy)]
pub enum Pages {
    /// One number of each kind, in a row: where the first is.
    Whole(Field),
    /// One number of each kind and what each core has not added to it yet: where the number is, and where those of the cores
    /// are.
    PerCore([(Field, Field); KINDS]),
}

impl Pages {
    pub fn find(layout: Layout<'_>) -> Option<Pages> {
        let kinds = |path: fn(usize) -> String| -> Option<[Field; KINDS]> {
            let found: Vec<Field> =
                (0..KINDS).map(|kind| layout.has("mm_struct", &path(kind))).collect::<Option<_>>()?;
            found.try_into().ok()
        };
        if let Some([first, ..]) = kinds(|kind| format!("rss_stat.count[{kind}].counter")) {
            return Some(Pages::Whole(first));
        }
        let counts = kinds(|kind| format!("rss_stat[{kind}].count"))?;
        let cores = kinds(|kind| format!("rss_stat[{kind}].counters"))?;
        Some(Pages::PerCore(std::array::from_fn(|kind| (counts[kind], cores[kind]))))
    }
}

/// The program being put together. While it looks at a task, `R6` points at its record, `R7` at the task, `R9` at its place in
/// the array.
pub struct Program<'a> {
    pub code: Code,
    pub layout: Layout<'a>,
    /// Of this machine.
    pub cores: usize,
    /// The array with what was seen of each task last, by its number; behind those where the parts of the cores are.
    pub last: i32,
    /// How many places there are in it for tasks.
    pub places: u32,
    /// Memory that the program and we share.
    pub shared: i32,
    pub way: Way,
}

/// How the program comes from task to task.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Way {
    /// Along the kernel's list of processes and their threads.
    List,
    /// Once for each task that a file of the kernel lists.
    File,
}

impl Program<'_> {
    /// Copies a field of what a register points at into the record.
    fn copy(&mut self, width: Width, from: Register, field: Field, to: i16) {
        self.code.load(width, R1, from, field.offset).store(width, R6, to, R1);
    }

    /// Loads the address of what a field of the task points at.
    fn follow(&mut self, to: Register, path: &str) -> Result<(), Refused> {
        let field = self.layout.need("task_struct", path)?;
        self.code.load(Eight, to, R7, field.offset);
        Ok(())
    }

    /// Asks the array for a place whose number is in `R1`; the value is in `R0`.
    fn look_up(&mut self, out: Label) {
        self.code.store(Four, FP, KEY, R1).map(R1, self.last).register(Operation::Set, R2, FP);
        self.code.number(Operation::Add, R2, i32::from(KEY)).call(Helper::MapLookupElem);
        self.code.jump_if(R0, When::Equal, 0, out);
    }

    /// Whether it is the task's turn, and whether everybody counts as changed.
    fn turn(&mut self) {
        let code = &mut self.code;
        let (not, done) = (code.label(), code.label());
        code.value(R3, self.shared, 0).load(Eight, R1, R3, EVERYBODY).store(Eight, FP, CHANGED, R1);
        // The place on the dial; see `Rotation`.
        code.load(Four, R1, R3, HAND).load(Four, R2, R6, at(0)).times(R2, SPREAD as i32);
        code.minus(R1, R2).load(Four, R2, R3, SWEPT);
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
        code.load(Eight, R8, R6, at(RUN_WORD)).load(Four, R1, R9, 0).register(Operation::Set, R2, R1);
        code.number(Operation::And, R2, i32::MAX).load(Four, R3, R6, at(0));
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
        code.load(Four, R1, R6, at(0)).load(Four, R2, R6, at(0) + 4);
        code.jump_if_register(R1, When::Different, R2, same).jump(done);
        code.here(changed).put(Eight, FP, CHANGED, 1).here(done);
        Ok(())
    }

    /// What others can change of a process: its memory, its parent, its priority.
    fn changed_by_others(&mut self, pages: Option<Pages>) -> Result<(), Refused> {
        for word in VIRTUAL_WORD..PAGES_WORD + KINDS {
            self.code.put(Eight, R6, at(word), 0);
        }
        self.code.put(Eight, R6, at(SESSION_WORD), 0);
        self.memory(pages)?;
        let parent = self.layout.need("task_struct", "tgid")?;
        self.follow(R1, "real_parent")?;
        self.code.load(Four, R1, R1, parent.offset).store(Four, R6, at(PARENT_WORD), R1);
        // Whatever it was before, another print is told; a print that is the same by chance waits for its next turn.
        self.code.load(Four, R2, R6, at(PRIORITY_WORD)).number(Operation::ShiftLeft, R2, 8);
        self.code.load(Four, R3, R6, at(PRIORITY_WORD) + 4).register(Operation::Add, R2, R3);
        self.code.load(Four, R3, R6, at(PARENT_WORD)).times(R3, 0x85eb_ca6b_u32 as i32);
        self.code.register(Operation::Xor, R2, R3);
        for word in VIRTUAL_WORD..PAGES_WORD + KINDS {
            self.code.load(Eight, R3, R6, at(word)).register(Operation::Add, R2, R3);
            self.code.times(R2, 0x0100_0193);
        }
        self.code.store(Eight, FP, PRINT, R2);
        Ok(())
    }

    fn memory(&mut self, pages: Option<Pages>) -> Result<(), Refused> {
        let virtual_pages = self.layout.need("mm_struct", "total_vm")?;
        let none = self.code.label();
        self.follow(R8, "mm")?;
        self.code.jump_if(R8, When::Equal, 0, none);
        self.code.put(Four, R6, at(SESSION_WORD) + 4, 1);
        self.copy(Eight, R8, virtual_pages, at(VIRTUAL_WORD));
        match pages {
            None => {}
            Some(Pages::Whole(first)) => {
                // The kernels that have them so do not let a program load such a number by itself: its type is one by another name.
                let code = &mut self.code;
                code.register(Operation::Set, R1, R6).number(Operation::Add, R1, i32::from(at(PAGES_WORD)));
                code.number(Operation::Set, R2, KINDS as i32 * 8).register(Operation::Set, R3, R8);
                code.number(Operation::Add, R3, i32::from(first.offset)).call(Helper::ProbeReadKernel);
            }
            Some(Pages::PerCore(fields)) => {
                for (kind, (count, cores)) in fields.into_iter().enumerate() {
                    self.copy(Eight, R8, count, at(PAGES_WORD + kind));
                    self.code.load(Eight, R1, R8, cores.offset).store(Eight, FP, BASES + kind as i16 * 8, R1);
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
                    code.load(Eight, R2, R6, at(PAGES_WORD + kind)).register(Operation::Add, R2, R1);
                    code.store(Eight, R6, at(PAGES_WORD + kind), R2);
                }
                self.code.number(Operation::Add, R8, 1);
                self.code.jump_if(R8, When::Below, self.cores as i32, next).here(end);
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
        self.code.put(Eight, R6, at(CORE_WORD), 0).put(Eight, R6, at(WAIT_WORD), 0);
        let core = self.layout.has("task_struct", "thread_info.cpu");
        let core = core.or_else(|| self.layout.has("task_struct", "cpu"));
        missing.rest |= core.is_none();
        if let Some(field) = core {
            self.copy(Four, R7, field, at(CORE_WORD));
        }
        self.code.put(Eight, R6, at(CORE_WAIT_WORD), UNKNOWN);
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
            self.code.load(Eight, R1, R1, wait.offset).store(Eight, R6, at(WAIT_WORD), R1).here(none);
        }
        Ok(())
    }

    fn io(&mut self, of: &'static str, from: Register, word: usize, missing: &mut Missing) {
        for (place, name) in IO.into_iter().enumerate() {
            let field = self.layout.has(of, &format!("ioac.{name}"));
            missing.io |= field.is_none();
            self.code.put(Eight, R6, at(word + place), 0);
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
            self.code.load(Four, R1, R1, number).store(Four, R6, at(SESSION_WORD), R1).here(none);
        }
        self.follow(R8, "real_cred")?;
        for (path, half) in [("uid.val", 0), ("euid.val", 4)] {
            let field = self.layout.need("cred", path)?;
            self.copy(Four, R8, field, at(USER_WORD) + half);
        }
        let name = self.layout.need("task_struct", "comm")?;
        for half in [0, 8] {
            self.code.load(Eight, R1, R7, name.offset + half).store(Eight, R6, at(NAME_WORD) + half, R1);
        }
        Ok(())
    }

    /// How long threads that ended waited for a core: the kernel adds all delays of one that ends to what it keeps for
    /// accounts of whole processes; kernel/taskstats.c `fill_tgid_exit`. `R8` is the `signal_struct`.
    fn waits_of_ended(&mut self) {
        let kept = self.layout.has("signal_struct", "stats");
        let waits = kept.zip(self.layout.has("taskstats", "cpu_delay_total"));
        let Some((kept, waits)) = waits else {
            self.code.put(Eight, R6, at(WHOLE_CORE_WAIT_WORD), UNKNOWN);
            return;
        };
        let none = self.code.label();
        self.code.put(Eight, R6, at(WHOLE_CORE_WAIT_WORD), NOBODY);
        self.code.load(Eight, R1, R8, kept.offset).jump_if(R1, When::Equal, 0, none);
        self.code.load(Eight, R1, R1, waits.offset).store(Eight, R6, at(WHOLE_CORE_WAIT_WORD), R1).here(none);
    }

    /// Hands over so many bytes of the record.
    fn write(&mut self, bytes: usize, out: Label) {
        match self.way {
            // Where there is no room, the kernel runs the program again for the same task.
            Way::File => {
                self.code.load(Eight, R1, FP, FILE).register(Operation::Set, R2, R6);
                self.code.number(Operation::Set, R3, bytes as i32).call(Helper::SeqWrite);
                self.code.jump_if(R0, When::Different, 0, out);
            }
            // It is where it belongs, and counts from now on.
            Way::List => {
                self.code.value(R3, self.shared, 0).load(Eight, R1, R3, CURSOR);
                self.code.number(Operation::Add, R1, bytes as i32).store(Eight, R3, CURSOR, R1);
            }
        }
    }

    /// Remembers the task as it was written.
    fn remember(&mut self) {
        let code = &mut self.code;
        let alone = code.label();
        code.load(Four, R1, R6, at(0)).number(Operation::And, R1, i32::MAX);
        code.load(Eight, R2, R6, at(RUN_WORD));
        code.load(Four, R3, R6, at(0) + 4).jump_if_register(R1, When::Different, R3, alone);
        code.load(Four, R3, FP, PRINT).store(Four, R9, 4, R3);
        code.load(Four, R3, R6, at(PARENT_WORD) + 4).number(Operation::ShiftRight, R3, 1);
        code.jump_if(R3, When::Equal, 0, alone);
        for word in [WHOLE_RUN_WORD, WHOLE_WAITED_WORD] {
            code.load(Eight, R3, R6, at(word)).register(Operation::Add, R2, R3);
        }
        code.number(Operation::Or, R1, SEVERAL);
        code.here(alone).store(Four, R9, 0, R1).store(Eight, R9, 8, R2);
    }

    /// Puts all of it together. `pages`: how the resident memory is read, if it can be.
    pub fn build(mut self, pages: Option<Pages>) -> Result<(Vec<u64>, Missing), Refused> {
        let mut missing = Missing { memory: pages.is_none(), ..Missing::default() };
        match self.way {
            Way::List => self.along_the_list(pages, &mut missing)?,
            Way::File => self.by_the_file(pages, &mut missing)?,
        }
        Ok((self.code.finish(), missing))
    }

    fn by_the_file(&mut self, pages: Option<Pages>, missing: &mut Missing) -> Result<(), Refused> {
        let out = self.code.label();
        let meta = self.layout.need("bpf_iter__task", "meta").map(|field| field.offset)?;
        let task = self.layout.need("bpf_iter__task", "task").map(|field| field.offset)?;
        let file = self.layout.need("bpf_iter_meta", "seq").map(|field| field.offset)?;
        self.code.load(Eight, R6, R1, meta).load(Eight, R7, R1, task);
        self.code.jump_if(R7, When::Equal, 0, out).load(Eight, R6, R6, file).store(Eight, FP, FILE, R6);
        self.code.register(Operation::Set, R6, FP).number(Operation::Add, R6, i32::from(RECORD));
        self.numbers()?;
        self.one(pages, missing, out, out)?;
        self.code.here(out).end(0);
        Ok(())
    }

    /// Begins at the process where the last run left off, and goes along the ring of all processes and the threads of each, as
    /// include/linux/sched/signal.h does, up to the process with which the first run began.
    ///
    /// All of it is one section in which the kernel keeps every task that is looked at, which is why a run is short.
    fn along_the_list(&mut self, pages: Option<Pages>, missing: &mut Missing) -> Result<(), Refused> {
        let [turn, next, look, full, done, gone, lost, unlock] = std::array::from_fn(|_| self.code.label());
        let [pid, process, start, leader] = ["pid", "tgid", "start_boottime", "group_leader"]
            .map(|path| self.layout.need("task_struct", path).map(|field| field.offset));
        let (pid, process, start, leader) = (pid?, process?, start?, leader?);
        let shared = self.shared;
        self.call("bpf_rcu_read_lock")?.value(R8, shared, 0).load(Eight, R1, R8, RESUME);
        self.call("bpf_task_from_pid")?.jump_if(R0, When::Equal, 0, lost).register(Operation::Set, R6, R0);
        // Another may have its number by now.
        let code = &mut self.code;
        code.load(Four, R1, R6, pid).load(Four, R2, R6, process);
        code.jump_if_register(R1, When::Different, R2, gone);
        code.load(Eight, R1, R6, start).load(Eight, R2, R8, START);
        let same = code.label();
        code.jump_if(R2, When::Equal, 0, same).jump_if_register(R1, When::Different, R2, gone).here(same);
        code.register(Operation::Set, R1, R6);
        self.as_task(0)?;
        self.code.register(Operation::Set, R1, R6);
        self.call("bpf_task_release")?;
        self.turns().number(Operation::Set, R2, 0).number(Operation::Set, R3, MOST_TURNS);
        self.call("bpf_iter_num_new")?;
        // Whatever was found of the task before is forgotten: the kernel's check follows every way through here, and this makes
        // them one.
        self.code.here(turn);
        let bases = (0..KINDS as i16).map(|kind| BASES + kind * 8);
        for slot in [KEY, DUE, PRINT, CHANGED, PART].into_iter().chain(bases) {
            self.code.put(Eight, FP, slot, 0);
        }
        for register in [R6, R8, R9] {
            self.code.number(Operation::Set, register, 0);
        }
        self.turns();
        self.call("bpf_iter_num_next")?.jump_if(R0, When::Equal, 0, full).value(R8, shared, 0);
        // The ring's beginning is what a core does that has nothing to do.
        self.code.load(Four, R1, R7, pid).jump_if(R1, When::Equal, 0, next);
        self.code.load(Eight, R1, R8, CURSOR).jump_if(R1, When::AtLeast, (PIECE - BYTES + 1) as i32, full);
        self.code.value(R6, self.shared, HEADER as i32).register(Operation::Add, R6, R1);
        self.numbers()?;
        self.room_and_place(next, look, full)?;
        self.code.here(look);
        self.one(pages, missing, next, done)?;
        self.code.here(next);
        self.advance([pid, process, leader], done)?;
        self.code.jump(turn);
        // The next run goes on at this task, which is found by its process.
        let code = &mut self.code;
        let alone = code.label();
        code.here(full).value(R8, self.shared, 0).put(Eight, R8, STATE, State::More as i32);
        code.load(Four, R1, R7, pid).load(Four, R2, R7, process).store(Eight, R8, RESUME, R2);
        code.put(Eight, R8, SKIP, 0).jump_if_register(R1, When::Equal, R2, alone).store(Eight, R8, SKIP, R1);
        code.here(alone).load(Eight, R1, R7, leader).load(Eight, R1, R1, start).store(Eight, R8, START, R1);
        self.code.here(done);
        self.turns();
        self.call("bpf_iter_num_destroy")?.jump(unlock).here(gone).register(Operation::Set, R1, R6);
        self.call("bpf_task_release")?;
        self.code.here(lost).value(R8, self.shared, 0).put(Eight, R8, STATE, State::Lost as i32).here(unlock);
        self.call("bpf_rcu_read_unlock")?.end(0);
        Ok(())
    }

    /// Calls one of the kernel's own functions.
    fn call(&mut self, name: &str) -> Result<&mut Code, Refused> {
        let function = self.layout.0.function(name).ok_or(Refused::Kernel)?;
        Ok(self.code.call_kernel(function))
    }

    /// Loads the address of what counts the turns into `R1`.
    fn turns(&mut self) -> &mut Code {
        self.code.register(Operation::Set, R1, FP).number(Operation::Add, R1, i32::from(TURNS))
    }

    /// The task so many bytes before the address in `R1` is looked at from here on: `R7`.
    fn as_task(&mut self, before: i16) -> Result<(), Refused> {
        let task = self.layout.0.structure("task_struct").ok_or(Refused::Kernel)?;
        self.code.number(Operation::Add, R1, -i32::from(before)).number(Operation::Set, R2, task as i32);
        self.call("bpf_rdonly_cast")?.register(Operation::Set, R7, R0);
        Ok(())
    }

    /// Goes to the next thread, else to the next process, or to `done` where that is the one that was begun with.
    fn advance(&mut self, [pid, process, leader]: [i16; 3], done: Label) -> Result<(), Refused> {
        let node = self.layout.need("task_struct", "thread_node")?.offset;
        let next_thread = self.layout.need("task_struct", "thread_node.next")?.offset;
        let next_process = self.layout.need("task_struct", "tasks.next")?.offset;
        let processes = self.layout.need("task_struct", "tasks")?.offset;
        let threads = self.layout.need("signal_struct", "thread_head")?.offset;
        let (last, advanced) = (self.code.label(), self.code.label());
        self.follow(R2, "signal")?;
        self.code.number(Operation::Add, R2, i32::from(threads)).load(Eight, R1, R7, next_thread);
        self.code.jump_if_register(R1, When::Equal, R2, last);
        self.as_task(node)?;
        self.code.jump(advanced).here(last).load(Eight, R1, R7, next_process);
        // Most are alone, and their own leaders: then the way on does not wait for two places in memory.
        let alone = self.code.label();
        self.code.load(Four, R2, R7, pid).load(Four, R3, R7, process);
        self.code.jump_if_register(R2, When::Equal, R3, alone);
        self.code.load(Eight, R1, R7, leader).load(Eight, R1, R1, next_process).here(alone);
        self.as_task(processes)?;
        self.code.value(R8, self.shared, 0).load(Four, R1, R7, process).load(Eight, R2, R8, END);
        self.code.jump_if_register(R1, When::Equal, R2, done).here(advanced);
        Ok(())
    }

    /// Whether this run looks at the task: it ends before a process when it looked at enough of them, and a task that the run
    /// before already looked at is passed over. `R8` points at what is shared.
    fn room_and_place(&mut self, next: Label, look: Label, full: Label) -> Result<(), Refused> {
        let code = &mut self.code;
        let (some, goes_on, here) = (code.label(), code.label(), code.label());
        code.load(Eight, R1, R8, LEFT).jump_if(R1, When::Different, 0, some);
        code.load(Four, R1, R6, at(0)).load(Four, R2, R6, at(0) + 4);
        code.jump_if_register(R1, When::Different, R2, goes_on);
        // Some kernels do not find every process for us; then the next will do.
        self.call("bpf_task_from_pid")?.jump_if(R0, When::Equal, 0, goes_on).register(Operation::Set, R1, R0);
        self.call("bpf_task_release")?.jump(full);
        let code = &mut self.code;
        code.here(some).number(Operation::Add, R1, -1).store(Eight, R8, LEFT, R1).here(goes_on);
        code.load(Eight, R1, R8, SKIP).jump_if(R1, When::Equal, 0, look);
        code.load(Four, R2, R6, at(0)).jump_if_register(R1, When::Equal, R2, here);
        code.load(Four, R2, R6, at(0) + 4).load(Eight, R3, R8, RESUME);
        code.jump_if_register(R2, When::Equal, R3, next);
        // The thread has ended meanwhile: who was behind it was passed over.
        code.put(Eight, R8, LOST, 1).here(here).put(Eight, R8, SKIP, 0);
        Ok(())
    }

    /// Writes the numbers of the task and of its process, and its run time.
    fn numbers(&mut self) -> Result<(), Refused> {
        for (path, to) in [("pid", at(0)), ("tgid", at(0) + 4)] {
            let field = self.layout.need("task_struct", path)?;
            self.copy(Four, R7, field, to);
        }
        let run = self.layout.need("task_struct", RUN)?;
        self.copy(Eight, R7, run, at(RUN_WORD));
        Ok(())
    }

    /// Looks at one task; goes to `next` when it is done with it, and to `out` where it cannot go on.
    fn one(
        &mut self,
        pages: Option<Pages>,
        missing: &mut Missing,
        next: Label,
        out: Label,
    ) -> Result<(), Refused> {
        let [same, changed] = std::array::from_fn(|_| self.code.label());
        self.turn();
        self.code.load(Four, R1, R6, at(0)).number(Operation::And, R1, self.places as i32 - 1);
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
        if self.way == Way::List {
            // Processes that this kernel keeps from programs like this one stay unseen, as in its file: nothing is remembered of
            // them, so each time they come here.
            self.code.load(Four, R1, R6, at(0) + 4);
            self.call("bpf_task_from_pid")?.jump_if(R0, When::Equal, 0, next);
            self.code.register(Operation::Set, R1, R0);
            self.call("bpf_task_release")?;
        }
        self.task(missing)?;
        self.whole(missing)?;
        self.code.load(Four, R1, R6, at(0)).number(Operation::Or, R1, FOLLOWS as i32);
        self.code.store(Four, R6, at(0), R1);
        self.write(BYTES, out);
        self.remember();
        self.code.jump(next).here(same);
        self.write(SHORT, out);
        self.code.jump(next);
        Ok(())
    }
}
