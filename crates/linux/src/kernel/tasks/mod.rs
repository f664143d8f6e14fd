//! The walk over all tasks: the program that the kernel runs for each, and what it writes.
//!
//! The program compares a task's run time with what it was at the walk before (an array that stays in the kernel) and writes
//! all its counters where they differ, else only its number. What others can change of a task that does not run, its memory
//! above all, is compared at its turn. Where the fields are comes from the kernel's type information.

mod offsets;
mod program;
mod record;
mod shared;
#[cfg(test)]
mod tests;

use super::btf::Btf;
use super::call;
use super::code::Code;
use super::layout::Layout;
use super::refused::Refused;
use offsets::offsets;
pub use program::Way;
use program::{Pages, Program};
use record::records;
use rustix::io::Errno;
use shared::{PIECE, Place, Shared, State};
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};

/// Values of the array are a number with a mark of several, a print of what others can change, and the run time.
const VALUE: u32 = 16;
/// Places of the array for each task there is room for: the more, the rarer two tasks share one and both count as changed.
const SPARE: usize = 8;
/// Cores that the kernel's check still follows one by one in good time.
const MOST_CORES: usize = 1 << 12;
/// Least number of places.
const PLACES: usize = 1 << 16;
/// Tasks that one run along the list looks at: about a millisecond, in which the kernel lets nothing go that ended.
const RUN: u64 = 4096;
/// How often a walk begins again because the process at which it was to go on has ended; from the second time on in one run.
const MOST_RESTARTS: u32 = 8;
/// More tasks than there can be: every number that the kernel gives to one, twice over.
const MOST_SEEN: u64 = 2 * (1 << 22);

/// Structures and functions that are looked up.
pub const NAMES: [&str; 20] = [
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
    "bpf_rcu_read_lock",
    "bpf_rcu_read_unlock",
    "bpf_task_from_pid",
    "bpf_task_release",
    "bpf_rdonly_cast",
    "bpf_iter_num_new",
    "bpf_iter_num_next",
    "bpf_iter_num_destroy",
];

/// Which parts of a record this kernel does not give.
#[derive(Clone, Copy, Default, Debug, PartialEq, Eq)]
pub struct Missing {
    /// Input and output.
    pub io: bool,
    /// Resident memory.
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
    /// What was seen last; the program has it open.
    _last: OwnedFd,
    shared: Shared,
    places: u32,
    missing: Missing,
    way: Loaded,
    /// Tasks that one run along the list looks at.
    run: u64,
}

/// What is run, or read.
enum Loaded {
    List(OwnedFd),
    File { link: OwnedFd, buffer: Vec<u8> },
}

impl Tasks {
    /// Puts the program together and loads it. `tasks`: about how many there are. The faster way is taken where this
    /// kernel has it and lets us.
    pub fn load(btf: &Btf, tasks: usize, cores: usize) -> Result<Tasks, Refused> {
        let either = |memory| {
            let way = |way| Tasks::load_for(way, memory, btf, tasks, cores);
            way(Way::List).or_else(|_| way(Way::File))
        };
        match either(true) {
            // Some machines do not let a program copy what it may not load, and that may be the resident memory alone.
            Err(Refused::Program(_)) => either(false),
            loaded => loaded,
        }
    }

    /// The same for one of the ways, with or without the resident memory of processes.
    pub fn load_for(way: Way, memory: bool, btf: &Btf, tasks: usize, cores: usize) -> Result<Tasks, Refused> {
        let function = btf.function("bpf_iter_task").ok_or(Refused::Kernel)?;
        let places = (tasks.saturating_mul(SPARE)).clamp(PLACES, 1 << 24).next_power_of_two() as u32;
        let layout = Layout(btf);
        let cores = cores.clamp(1, MOST_CORES);
        let last = call::array(places + 1 + cores as u32, VALUE).map_err(Refused::of)?;
        let shared = Shared::new(way).map_err(Refused::of)?;
        let mut pages = Pages::find(layout).filter(|_| memory);
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
        let (code, shares) = (Code::default(), shared.descriptor());
        let program = Program { code, layout, cores, last: last.as_raw_fd(), places, shared: shares, way };
        let (instructions, missing) = program.build(pages)?;
        let way = match way {
            Way::List => Loaded::List(call::load_runnable(&instructions).map_err(Refused::said)?),
            Way::File => {
                let program = call::load_iterator(&instructions, function).map_err(Refused::said)?;
                let link = call::link_iterator(program.as_fd()).map_err(Refused::of)?;
                Loaded::File { link, buffer: vec![0; PIECE] }
            }
        };
        Ok(Tasks { _last: last, shared, places, missing, way, run: RUN })
    }

    /// What this kernel does not give.
    pub fn missing(&self) -> Missing {
        self.missing
    }

    /// How many tasks there is room for before too many share a place.
    pub fn room(&self) -> usize {
        self.places as usize / 2
    }

    /// Walks over all tasks, about in the order of their numbers. Where a walk has to begin again, some are seen twice, and what
    /// is seen last holds.
    pub fn walk(&mut self, turn: Turn, mut see: impl FnMut(&Seen)) -> Result<(), Refused> {
        let (shared, place) = (&mut self.shared, Place::own());
        match &mut self.way {
            Loaded::List(program) => along_the_list(program, shared, self.run, turn, &mut see),
            Loaded::File { link, buffer } => {
                shared.begin(turn, place, 0);
                by_the_file(link, buffer, &mut see)
            }
        }
    }
}

fn by_the_file(link: &OwnedFd, buffer: &mut [u8], see: &mut impl FnMut(&Seen)) -> Result<(), Refused> {
    let walk = call::walk(link.as_fd()).map_err(Refused::of)?;
    loop {
        let got = match rustix::io::read(&walk, &mut *buffer) {
            Ok(0) => return Ok(()),
            Ok(got) => got,
            // Where nothing fitted, or it was interrupted, it goes on at the same task.
            Err(Errno::INTR | Errno::AGAIN) => continue,
            Err(error) => return Err(Refused::of(error)),
        };
        records(buffer.get(..got).unwrap_or_default(), see).ok_or(Refused::Other(Errno::IO))?;
    }
}

fn along_the_list(
    program: &OwnedFd,
    shared: &mut Shared,
    run: u64,
    mut turn: Turn,
    see: &mut impl FnMut(&Seen),
) -> Result<(), Refused> {
    let (mut place, mut restarts, mut count) = (Place::own(), 0, 0);
    // A list that goes round would never end.
    while count <= MOST_SEEN {
        shared.begin(turn, place, if restarts < 2 { run } else { u64::MAX });
        call::run(program.as_fd()).map_err(Refused::of)?;
        let mut see = |seen: &Seen| {
            count += 1;
            see(seen);
        };
        records(shared.written(), &mut see).ok_or(Refused::Other(Errno::IO))?;
        let lost_threads = shared.has_lost_threads();
        match shared.state() {
            State::Done if !lost_threads => return Ok(()),
            State::More if !lost_threads && shared.place() != place => place = shared.place(),
            _ if restarts < MOST_RESTARTS => {
                // Who was passed over was not compared either.
                turn.everybody |= lost_threads;
                (place, restarts) = (Place::own(), restarts + 1);
            }
            _ => break,
        }
    }
    Err(Refused::Other(Errno::AGAIN))
}
