//! Everything about one process, as somebody sees it who looks inside.
//!
//! What is in a reading is not here again: this is what is asked for one process while somebody looks at it. Where the
//! kernel does not tell, a value is *absent*; where this user may not see it, *denied*; neither is zero.

pub mod close;
pub mod files;
pub mod holders;
pub mod waits;
pub mod words;

use crate::cores::CoreSet;
use crate::known::{Known, Raw};
use crate::reading::ThreadRow;
use crate::text::Text;
pub use files::{FileKind, OpenFile};

/// What is asked of one process.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Subject {
    /// Who it is and how it is.
    Facts,
    /// Its threads.
    Threads,
    /// Its open files.
    Files,
    /// Its sockets.
    Sockets,
    /// Its memory by kind and by mapping.
    Memory,
    /// Its environment.
    Environment,
    /// What the cores of the machine share.
    Cores,
}

/// What was told, at an instant of the monotonic clock, so that two answers give rates.
#[derive(Clone, Debug, PartialEq)]
pub struct Look<T> {
    /// Nanoseconds since boot; clock_gettime(2) CLOCK_MONOTONIC.
    pub at_ns: i64,
    /// What was seen.
    pub seen: T,
}

impl<T> Look<T> {
    /// Seconds since an earlier look; none where the clock says nothing.
    pub fn seconds_since<U>(&self, before: &Look<U>) -> Option<f64> {
        let ns = self.at_ns.checked_sub(before.at_ns).filter(|ns| *ns > 0)?;
        Some(ns as f64 / 1e9)
    }
}

/// The answer.
#[derive(Clone, Debug, PartialEq)]
pub enum Told {
    /// Who it is and how it is.
    Facts(Box<Facts>),
    /// Its threads.
    Threads(Look<Known<Vec<Thread>>>),
    /// Its open files.
    Files(Look<Known<Vec<OpenFile>>>),
    /// Its sockets.
    Sockets(Look<Known<Vec<Connection>>>),
    /// Its memory.
    Memory(Box<Memory>),
    /// Its environment: names and values as they were at its start.
    Environment(Known<Vec<(String, String)>>),
    /// What the cores of the machine share, by number.
    Cores(Vec<CorePlace>),
    /// It is not there any more.
    Gone,
}

/// Where a core is, and what it shares with others; Documentation/ABI/stable/sysfs-devices-system-cpu,
/// Documentation/ABI/stable/sysfs-devices-node.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CorePlace {
    /// Its number.
    pub number: usize,
    /// Memory node that is near to it.
    pub node: Raw,
    /// Logical processors of the same core, itself among them.
    pub siblings: CoreSet,
    /// Those that share its largest cache, itself among them.
    pub cache: CoreSet,
    /// Size of that cache in bytes.
    pub cache_bytes: Raw,
}

/// A limit of a process; `proc_pid_limits(5)`, getrlimit(2).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Limit {
    /// Its name in the kernel's words.
    pub name: String,
    /// What is enforced; `None` is unlimited.
    pub soft: Option<i64>,
    /// What the process may raise it to; `None` is unlimited.
    pub hard: Option<i64>,
    /// Its unit, empty for a bare number.
    pub unit: String,
}

/// What a process does with signals; `proc_pid_status(5)`. Numbers of signals.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Signals {
    /// Waiting to be delivered.
    pub pending: Vec<i32>,
    /// Held back until the process allows them.
    pub blocked: Vec<i32>,
    /// Thrown away.
    pub ignored: Vec<i32>,
    /// Handled by the program itself.
    pub handled: Vec<i32>,
}

/// What a process does with one signal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Treatment {
    /// The kernel does what it does by itself; mostly it ends the process.
    Usual,
    /// Held back until the process allows it.
    Blocked,
    /// Thrown away.
    Ignored,
    /// The program has something of its own for it.
    Handled,
}

impl Signals {
    /// What becomes of a signal. Nothing stands against KILL and STOP; signal(7).
    pub fn treatment(&self, signal: i32) -> Treatment {
        if signal == crate::signals::KILL || signal == crate::signals::STOP {
            Treatment::Usual
        } else if self.blocked.contains(&signal) {
            Treatment::Blocked
        } else if self.ignored.contains(&signal) {
            Treatment::Ignored
        } else if self.handled.contains(&signal) {
            Treatment::Handled
        } else {
            Treatment::Usual
        }
    }
}

/// What a task does at an instant; `proc_pid_syscall(5)`.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Doing {
    /// It runs, or waits for a core.
    Running,
    /// It is in the kernel, but in no system call.
    Kernel,
    /// It is in a system call.
    Call {
        /// Its name; a number where it has none here.
        name: Text,
        /// The file or the peer that its first argument names.
        on: Option<Text>,
    },
}

/// A package of the system's package database.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Package {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// When it was installed or last changed, in seconds since 1970; absent where the database does not tell.
    pub installed: Option<i64>,
}

/// How it gets CPU time and disk time; sched(7), ioprio_set(2).
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Scheduling {
    /// Niceness, −20 (most CPU) to 19 (least).
    pub nice: Raw,
    /// Policy as the kernel's number; sched(7).
    pub policy: Raw,
    /// Priority of a real-time policy, 1 to 99, else 0.
    pub real_time: Raw,
    /// I/O priority as ioprio_get(2) gives it: class and level.
    pub io: Raw,
    /// Cores that it may use.
    pub cores: Known<CoreSet>,
    /// Cores that the machine has online.
    pub of: CoreSet,
}

/// Who it is and how it is.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Facts {
    /// Where it works.
    pub directory: Known<String>,
    /// What it takes for `/`.
    pub root: Known<String>,
    /// Its executable, without what the kernel appends where it is gone.
    pub executable: Known<String>,
    /// The executable was replaced or removed since the start.
    pub replaced: bool,
    /// Where its executable came from; absent where no database knows it.
    pub package: Option<Package>,
    /// The arguments, each as it was given.
    pub arguments: Known<Vec<String>>,
    /// Names of the real, effective and saved user.
    pub users: Known<[Text; 3]>,
    /// State as the kernel's letter code.
    pub state: Raw,
    /// PID of who traces it, 0 where nobody does.
    pub tracer: Raw,
    /// What it does now.
    pub doing: Known<Doing>,
    /// Function of the kernel that it waits in; empty where it does not wait.
    pub wait_channel: Known<String>,
    /// What it does with signals.
    pub signals: Known<Signals>,
    /// Its limits.
    pub limits: Known<Vec<Limit>>,
    /// How it gets CPU time and disk time.
    pub scheduling: Scheduling,
    /// How likely it is killed when memory runs out, 0 to 2000; `proc_pid_oom_score(5)`.
    pub oom_score: Raw,
    /// What was added to it on purpose, −1000 to 1000; `proc_pid_oom_score_adj(5)`.
    pub oom_adjust: Raw,
    /// Its control group is frozen; Documentation/admin-guide/cgroup-v2.rst `cgroup.events`.
    pub frozen: bool,
    /// The group that is frozen, its own or one above it.
    pub group: String,
    /// Its part of the memory that it shares, with all of its own; `proc_pid_smaps(5)` rollup.
    pub pss: Raw,
    /// Threads that it has.
    pub threads: Raw,
    /// Descriptors that are open.
    pub descriptors: Known<i64>,
}

/// One thread.
#[derive(Clone, Debug, PartialEq)]
pub struct Thread {
    /// Its counters.
    pub row: ThreadRow,
    /// What it does now.
    pub doing: Known<Doing>,
    /// Function of the kernel that it waits in.
    pub wait_channel: Known<String>,
}

/// One socket of a process.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Connection {
    /// Lowest descriptor that leads to it.
    pub descriptor: i64,
    /// TCP, UDP, Unix, or another family in a word.
    pub protocol: Text,
    /// This side.
    pub local: Text,
    /// The other side; empty where there is none.
    pub remote: Text,
    /// State in a word; empty where it has none.
    pub state: Text,
    /// Bytes received; absent where the kernel counts none.
    pub received: Raw,
    /// Bytes sent, each once.
    pub sent: Raw,
    /// Bytes sent again; absent where that is not counted.
    pub again: Raw,
    /// Bytes that wait to be read; of a listening socket connections that wait to be accepted.
    pub to_read: Raw,
    /// Bytes that wait to be sent or acknowledged; of a listening socket the most that may wait.
    pub to_send: Raw,
    /// Dropped for want of room.
    pub drops: Raw,
    /// Smoothed round trip time in microseconds.
    pub round_trip_us: Raw,
}

/// One thing that memory is mapped from, with all its mappings together; `proc_pid_smaps(5)`.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Mapping {
    /// The file, or what the kernel calls it: `[heap]`, `[stack]`; *own memory* for what has no name.
    pub name: String,
    /// Mappings that were taken together.
    pub count: i64,
    /// Address space.
    pub size: i64,
    /// In RAM.
    pub resident: Raw,
    /// Its part of what is shared with others.
    pub proportional: Raw,
    /// Changed since it was mapped.
    pub dirty: Raw,
    /// In swap.
    pub swap: Raw,
    /// The file was removed.
    pub removed: bool,
}

/// Memory by kind and by mapping.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Memory {
    /// By kind, in bytes, in the kernel's words; `proc_pid_status(5)`.
    pub kinds: Known<Vec<(String, i64)>>,
    /// By what it is mapped from, most resident first.
    pub mappings: Known<Vec<Mapping>>,
}

/// One task at one look of a close look.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Sighting {
    /// Number of the thread.
    pub tid: i64,
    /// Its name.
    pub name: Text,
    /// State as the kernel's letter.
    pub state: char,
    /// Name of the system call; empty where it is in none or that is not known.
    pub call: Text,
    /// The file or the peer of the call; empty where there is none.
    pub on: Text,
    /// Function of the kernel that it waits in; empty where it waits in none or that is not known.
    pub wait_channel: Text,
    /// Functions of the kernel that it is in, the innermost first; empty where that may not be seen.
    pub stack: Vec<Text>,
    /// What it had spent by then; none where that is not known.
    pub spent: Option<Spent>,
}

/// What a thread has spent since it started; `proc_pid_schedstat`, Documentation/scheduler/sched-stats.rst, `proc_pid_stat(5)`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Spent {
    /// Time on a core, nanoseconds.
    pub run_ns: u64,
    /// Time ready to run without one, nanoseconds.
    pub wait_ns: u64,
    /// Ticks in its own code.
    pub user_ticks: u64,
    /// Ticks in the kernel.
    pub system_ticks: u64,
}
