//! What is kept of processes from reading to reading.

use super::super::own_io::OwnIo;
use super::super::rotation::Rotation;
use super::opened::{Kept, State};
use super::walked::Inside;
use crate::Roots;
use crate::clock;
use crate::kernel::Refused;
use crate::kernel::tasks::Tasks;
use crate::proc::mountinfo::Places;
use crate::proc::{pid_status, read_file};
use crate::sys::cgroups::Groups;
use crate::users::Users;
use dozor_core::known::Raw;
use dozor_core::reading::ProcessRow;
use dozor_core::source::Progress;
use dozor_core::text::Text;
use dozor_core::units::NANOS;
use rustix::fs::{CWD, Mode, OFlags, openat};
use rustix::io::Errno;
use std::collections::HashMap;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::Instant;

/// A process is read in full every so many readings, however idle it is.
const FULL_TURN: u64 = 256;
/// Readings after the first in which a process counts as new.
const NEW: u64 = 3;
/// Seconds of its life in which it may.
const YOUNG: i64 = 10;

/// What is kept of a process between readings.
pub struct Tracked {
    pub pid: i64,
    pub ppid: Option<i64>,
    pub row: Arc<ProcessRow>,
    /// The reading in which it was first seen.
    pub since: u64,
    pub rest: Box<Rest>,
}

/// What is kept of a process and not touched while it is as it was: of thousands, each costs the memory's time.
pub struct Rest {
    pub kept: Kept,
    pub uids: (Option<u32>, Option<u32>),
    /// All its control groups, as they are named in rows.
    pub groups: Text,
}

/// What was counted of a process, before its texts are put to it.
pub struct Counted {
    pub row: ProcessRow,
    pub kept: Kept,
    /// Its name, where that is another than before.
    pub name: Option<String>,
    pub kernel_thread: bool,
    /// Its terminal's number, where that was read along.
    pub tty: Option<Raw>,
    pub uids: (Option<u32>, Option<u32>),
}

/// Takes back what the two readers count differently, of a process that the other one counted before: files tell of the thread
/// that is left what the kernel tells of all that ever were. From the next reading on it is told again.
pub fn other_reader(row: &mut ProcessRow) {
    for counted in [&mut row.run_ns, &mut row.switches_wait, &mut row.switches_forced, &mut row.core_wait_ns]
    {
        *counted = Raw::ABSENT;
    }
}

/// Reads the processes.
pub struct Processes {
    pub proc: OwnedFd,
    pub page: i64,
    pub delay_accounting: bool,
    pub turn: u64,
    pub users: Users,
    /// Service and container of each control group.
    pub cgroups: HashMap<Text, (Text, Text)>,
    pub groups: Groups,
    pub roots: Roots,
    /// Those of the last reading, in order.
    pub tracked: Vec<Tracked>,
    /// Room for those of the next.
    pub spare: Vec<Tracked>,
    pub pids: Vec<i64>,
    pub inside: Option<Inside>,
    pub refused: Option<Refused>,
    /// Processes that the reader in the kernel is not shown, and the reading in which they were looked for.
    pub hidden: Vec<i64>,
    pub looked_for_hidden: Option<u64>,
    /// The reader in the kernel while it is loaded.
    pub loads: Option<JoinHandle<Result<Tasks, Refused>>>,
    /// Those of the reading before that are gone.
    pub vanished: Vec<i64>,
    /// When the reading before began.
    pub began: Option<Instant>,
    /// Whose memory is looked at in this reading although they are idle.
    pub memory: Rotation,
    /// … by files, where each look opens one.
    pub memory_seldom: Rotation,
    pub buffer: Vec<u8>,
    pub files: State,
    pub writers: u32,
    /// How many made much more dirty than they handed to write calls.
    pub beyond_calls: u32,
    pub in_full: bool,
    pub forget: bool,
    pub places: Places,
    /// The reading in which they were asked for.
    pub places_of: u64,
    /// How many are still asked in this reading where they have files.
    pub mount_looks: u32,
    pub progress: Arc<Progress>,
}

impl Processes {
    pub fn open(roots: &Roots) -> Result<Processes, Errno> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let proc = openat(CWD, &roots.proc, flags, Mode::empty())?;
        // Without delay accounting the kernel shows zero for every wait; that is not known, not zero.
        let switch = read_file(&roots.proc.join("sys/kernel/task_delayacct"));
        let files = State::new(roots, &proc);
        Ok(Processes {
            proc,
            files,
            places: Places::default(),
            places_of: 0,
            mount_looks: 0,
            page: rustix::param::page_size() as i64,
            delay_accounting: switch.map_or(true, |text| text.trim_ascii() != b"0"),
            // Behind every turn in which somebody counts as new who was there long before.
            turn: NEW + 1,
            users: Users::default(),
            cgroups: HashMap::new(),
            groups: Groups::find(&read_file(&roots.proc.join("self/mountinfo")).unwrap_or_default()),
            roots: roots.clone(),
            tracked: vec![],
            spare: vec![],
            pids: vec![],
            inside: None,
            refused: None,
            loads: None,
            hidden: vec![],
            looked_for_hidden: None,
            vanished: vec![],
            memory: Rotation::within(5.0),
            memory_seldom: Rotation::within(20.0),
            buffer: vec![0; 16 << 10],
            began: None,
            writers: 0,
            beyond_calls: 0,
            in_full: false,
            forget: false,
            progress: Arc::default(),
        })
    }

    /// Reads every process in full at every reading.
    pub fn always_in_full(&mut self) {
        self.in_full = true;
    }

    /// Reads every process in full at the next reading, since other parts of it are wanted.
    pub fn forget_idleness(&mut self) {
        self.forget = true;
    }

    pub fn is_full_turn(&self, pid: i64) -> bool {
        (pid as u64).wrapping_add(self.turn).is_multiple_of(FULL_TURN)
    }

    /// Whether a process may still be starting its program.
    pub fn is_new(&self, known: &Tracked) -> bool {
        self.turn - known.since <= NEW
    }
}

impl Tracked {
    /// A process that is read for the first time.
    pub fn first(row: ProcessRow, turn: u64, rest: Rest) -> Tracked {
        Tracked {
            pid: row.pid.value().unwrap_or(-1),
            ppid: row.ppid.value(),
            since: if is_young(&row) { turn } else { 0 },
            row: Arc::new(row),
            rest: Box::new(rest),
        }
    }
}

/// Whether a process was started a moment ago; one that was there long before is not new because it is read for the first time.
fn is_young(row: &ProcessRow) -> bool {
    let second = i64::try_from(rustix::param::clock_ticks_per_second()).unwrap_or(100);
    let age = row.start_ticks.value().map(|start| clock::now().boot / (NANOS / second) - start);
    age.is_none_or(|age| age < YOUNG * second)
}

/// Puts what a process read and wrote itself into its row.
pub fn put_io(row: &mut ProcessRow, read: Result<&OwnIo, &Errno>) {
    let [read_bytes, write_bytes, cancelled, read_calls, write_calls, read_any, write_any] = match read {
        Ok(io) => io.own.map(Raw::new),
        Err(&(Errno::ACCESS | Errno::PERM)) => [Raw::DENIED; 7],
        Err(_) => [Raw::ABSENT; 7],
    };
    (row.read_bytes, row.write_bytes, row.cancelled_bytes) = (read_bytes, write_bytes, cancelled);
    (row.read_calls, row.write_calls) = (read_calls, write_calls);
    (row.read_any_bytes, row.write_any_bytes) = (read_any, write_any);
    row.io_unknown = read.map_or(Raw::ABSENT, |io| Raw::new(io.unknown));
}

/// Puts the memory of a process into its row.
pub fn put_memory(row: &mut ProcessRow, status: &pid_status::Status) {
    (row.shared_bytes, row.swap_bytes) = (status.shared, status.swap);
    row.rss_bytes = if status.resident.value().is_some() { status.resident } else { row.rss_bytes };
}
