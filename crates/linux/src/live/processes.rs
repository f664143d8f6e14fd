//! The processes.
//!
//! A process that vanishes between listing and reading is normal and simply not in the reading. A process with a
//! single thread that did not run since the last reading (`schedstat` says so in nanoseconds) keeps its row. What others can
//! change without it running is looked at by turns: its memory every few seconds (`statm`), and at once while the machine
//! reclaims memory; its parent, niceness and the like more rarely, and at once when its parent ends. The files that are asked
//! most stay open, within a budget.

use super::own_io::{Files, OwnIo};
use super::rotation::Rotation;
use super::{threads, writing};
use crate::Roots;
use crate::proc::mountinfo::Places;
use crate::proc::pid::{open_pid, read_pid};
use crate::proc::{
    number, pid_cgroup, pid_cmdline, pid_fdinfo, pid_io, pid_limits, pid_smaps, pid_stat, pid_status,
    read_file, words,
};
use crate::sys::cgroups::{self, Groups};
use crate::sys::containers;
use crate::users::Users;
use dozor_core::known::Raw;
use dozor_core::reading::{GroupRow, ProcessRow, ThreadRow};
use dozor_core::text::{Text, clean, no_text};
use dozor_core::wanted::{Demand, Wanted};
use rustix::fs::{AtFlags, CWD, Mode, OFlags, RawDir, openat, readlinkat, statat};
use rustix::io::Errno;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use std::collections::HashMap;
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Instant;

/// What others can change of an idle process is looked at every so many readings.
const TURN: u64 = 32;
/// It is read in full every so many readings.
const FULL_TURN: u64 = 256;
/// Its memory is looked at at least as often as this.
const MEMORY_SECONDS: f64 = super::rotation::SECONDS;
/// Texts are refreshed every so many readings, and while the process is new: it may still start its program.
const TEXT_TURN: u64 = 128;
/// Readings after the first in which a process counts as new.
const NEW: u64 = 3;
/// Threads whose state is looked at in one reading, over all processes.
const LOOKS: u32 = 256;
/// Files of threads that are read in one reading for what processes with several read and wrote themselves.
const THREAD_FILES: usize = 512;
/// Processes that are asked in one reading whether they write otherwise than by write calls, and readings for which the answer
/// stands.
const WRITERS: u32 = 4;
const WRITER_TURN: u64 = 64;
/// Bytes since the last reading by which a process must have dirtied more than it handed over to be asked.
const TOO_MUCH: i64 = 1 << 20;
/// Share of a core from which on a process whose main thread sleeps is asked which of its threads runs.
const BUSY: f64 = 0.25;
/// Descriptors that are left to everything else.
const RESERVED: u64 = 256;

/// What is kept of a process between readings.
struct Tracked {
    row: Arc<ProcessRow>,
    /// The open `schedstat` and `statm` with their texts at the last full reading; none where they do not serve.
    idle: Option<Idle>,
    /// Context switches of each of its threads, where it has several and they are wanted.
    switches: HashMap<i64, [i64; 2]>,
    io: Option<OwnIo>,
    uids: (Option<u32>, Option<u32>),
    /// All its control groups, as they are named in rows.
    groups: Text,
    /// The thread that was found running last.
    worker: Option<i64>,
    /// Readings since it was first seen.
    age: u64,
    seen: u64,
}

/// Bytes of `schedstat` and of the beginning of `statm` that are compared: three numbers of at most 20 digits.
const IDLE_TEXT: usize = 64;

/// An open file of a process and what it said.
struct Watched {
    file: OwnedFd,
    text: [u8; IDLE_TEXT],
}

impl Watched {
    /// Whether it says the same now; `None` when the process is gone.
    fn same(&self, buffer: &mut [u8]) -> Option<bool> {
        idle_text(&self.file, buffer).map(|text| text == self.text)
    }
}

/// The files that tell whether a process is idle.
struct Idle {
    ran: Watched,
    memory: Watched,
}

/// Descriptors of one [`Idle`].
const IDLE_FILES: u64 = 2;

/// Reads the processes.
pub struct Processes {
    proc: OwnedFd,
    page: i64,
    delay_accounting: bool,
    turn: u64,
    users: Users,
    /// Service and container of each control group.
    cgroups: HashMap<Text, (Text, Text)>,
    groups: Groups,
    lib: PathBuf,
    tracked: HashMap<i64, Tracked>,
    pids: Vec<i64>,
    /// Those of the last reading that are gone.
    vanished: Vec<i64>,
    /// Whose memory is looked at in this reading although they are idle.
    memory: Rotation,
    buffer: Vec<u8>,
    kept: u64,
    budget: u64,
    /// When the reading before began, and the ticks of CPU time since then from which on a process counts as busy.
    began: Option<Instant>,
    busy_ticks: f64,
    looks: u32,
    thread_files: usize,
    writers: u32,
    in_full: bool,
    forget: bool,
    mountinfo: PathBuf,
    places: Places,
}

impl Processes {
    pub fn open(roots: &Roots) -> Result<Processes, Errno> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let proc = openat(CWD, &roots.proc, flags, Mode::empty())?;
        // Without delay accounting the kernel shows zero for every wait; that is not known, not zero.
        let switch = read_file(&roots.proc.join("sys/kernel/task_delayacct"));
        Ok(Processes {
            proc,
            mountinfo: roots.proc.join("self/mountinfo"),
            places: Places::default(),
            page: rustix::param::page_size() as i64,
            delay_accounting: switch.map_or(true, |text| text.trim_ascii() != b"0"),
            turn: 0,
            users: Users::default(),
            cgroups: HashMap::new(),
            groups: Groups::find(&read_file(&roots.proc.join("self/mountinfo")).unwrap_or_default()),
            lib: roots.lib.clone(),
            tracked: HashMap::new(),
            pids: vec![],
            vanished: vec![],
            memory: Rotation::default(),
            buffer: vec![0; 16 << 10],
            kept: 0,
            budget: descriptor_budget(),
            began: None,
            busy_ticks: f64::INFINITY,
            looks: 0,
            thread_files: 0,
            writers: 0,
            in_full: false,
            forget: false,
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

    /// All processes. `reclaims`: the machine took memory away from somebody since the last reading.
    pub fn read(&mut self, wanted: Wanted, reclaims: bool) -> Vec<Arc<ProcessRow>> {
        self.turn += 1;
        self.groups.begin();
        let began = Instant::now();
        let seconds =
            self.began.replace(began).map_or(f64::INFINITY, |before| (began - before).as_secs_f64());
        self.busy_ticks = (seconds * rustix::param::clock_ticks_per_second() as f64 * BUSY).max(1.0);
        self.memory.advance(if reclaims { MEMORY_SECONDS } else { seconds });
        (self.looks, self.thread_files, self.writers) = (LOOKS, THREAD_FILES, WRITERS);
        if wanted.has(Demand::Mounts) {
            self.places = Places::new(&read_file(&self.mountinfo).unwrap_or_default());
        }
        let earlier = std::mem::take(&mut self.pids);
        let mut pids = Vec::with_capacity(earlier.len() + 16);
        self.list(&mut pids);
        self.vanished.clear();
        self.vanished.extend(earlier.iter().filter(|pid| pids.binary_search(pid).is_err()));
        let mut buffer = std::mem::take(&mut self.buffer);
        let mut rows = Vec::with_capacity(pids.len());
        for pid in &pids {
            rows.extend(self.process(*pid, wanted, &mut buffer));
        }
        (self.pids, self.buffer) = (pids, buffer);
        self.limits(wanted, &mut rows);
        // Walking over all of them is worth it only when somebody is gone.
        if self.tracked.len() != rows.len() {
            let turn = self.turn;
            self.tracked.retain(|_, tracked| tracked.seen == turn);
            self.kept = self.tracked.values().filter(|tracked| tracked.idle.is_some()).count() as u64;
            self.kept *= IDLE_FILES;
        }
        self.forget = false;
        rows
    }

    /// Threads of these processes, where they are wanted.
    pub fn threads(&mut self, wanted: Wanted, processes: &[Arc<ProcessRow>]) -> Vec<ThreadRow> {
        if !wanted.has(Demand::Threads) {
            return vec![];
        }
        let mut rows = threads::read(&self.proc, processes, &mut self.buffer);
        if !self.delay_accounting {
            for row in &mut rows {
                row.disk_wait_ticks = Raw::ABSENT;
            }
        }
        rows
    }

    /// PIDs that are there now.
    fn list(&self, pids: &mut Vec<i64>) {
        pids.clear();
        if rustix::fs::seek(&self.proc, rustix::fs::SeekFrom::Start(0)).is_err() {
            return;
        }
        let mut space = [MaybeUninit::uninit(); 16 << 10];
        let mut entries = RawDir::new(&self.proc, &mut space);
        while let Some(Ok(entry)) = entries.next() {
            pids.extend(number(entry.file_name().to_bytes()).filter(|pid| *pid > 0));
        }
        // The kernel lists them in order; a made-up tree may not.
        if !pids.is_sorted() {
            pids.sort_unstable();
        }
    }

    /// The row of an idle process, if it is one. At its turn, what others can change is looked at.
    fn idle_row(&mut self, pid: i64, buffer: &mut Vec<u8>) -> Option<Arc<ProcessRow>> {
        let tracked = self.tracked.get_mut(&pid)?;
        let idle = tracked.idle.as_ref()?;
        if self.in_full || self.forget || tracked.age < NEW || !idle.ran.same(buffer)? {
            return None;
        }
        let my_turn = (pid as u64).wrapping_add(self.turn);
        if self.memory.has(pid) && !idle.memory.same(buffer)? {
            return None;
        }
        let orphaned = !self.vanished.is_empty()
            && tracked.row.ppid.value().is_some_and(|parent| self.vanished.binary_search(&parent).is_ok());
        if orphaned || my_turn.is_multiple_of(TURN) {
            if my_turn.is_multiple_of(FULL_TURN) {
                return None;
            }
            let stat = pid_stat::parse(read_pid(&self.proc, pid, "stat", buffer).ok()?, self.page)?;
            if !changed_by_others(&mut tracked.row, &stat) {
                return None;
            }
        }
        tracked.seen = self.turn;
        tracked.age += 1;
        Some(tracked.row.clone())
    }

    fn process(&mut self, pid: i64, wanted: Wanted, buffer: &mut Vec<u8>) -> Option<Arc<ProcessRow>> {
        if let Some(row) = self.idle_row(pid, buffer) {
            return Some(row);
        }
        let mut known = self.tracked.remove(&pid);
        let kept = known.as_mut().and_then(|known| known.idle.take());
        // A kept descriptor of a process that is gone says so; the PID may belong to another by now.
        let kept = kept.filter(|idle| idle.ran.same(buffer).is_some());
        let opened = kept.is_some();
        // The file speaks for one thread only, so it is of no use for a process with several.
        let several = known.as_ref().is_some_and(|known| known.row.threads.value() > Some(1));
        // Read before the counters: what changes in between shows up as having changed next time.
        let idle = if several { kept } else { kept.or_else(|| self.open_idle(pid)) };
        let opened = opened || idle.is_some();
        let idle = idle.and_then(|idle| idle.now(buffer));
        let stat = pid_stat::parse(read_pid(&self.proc, pid, "stat", buffer).ok()?, self.page)?;
        let mut known = known.filter(|known| known.row.start_ticks == Raw::new(stat.start_ticks));
        let (kernel_thread, tty) = (stat.is_kernel_thread, stat.tty);
        // Only another name needs cleaning; a clean one is what it was.
        let same_name = known.as_ref().is_some_and(|known| known.row.name.as_bytes() == stat.name);
        let name = if same_name { None } else { Some(clean(stat.name)) };
        let mut row = counters(pid, &stat);
        if !self.delay_accounting {
            row.disk_wait_ticks = Raw::ABSENT;
        }
        let single = row.threads == Raw::new(1);
        let worker = self.state_of_several(known.as_ref(), &mut row, buffer);
        let ran = idle.as_ref().filter(|_| single).map(|idle| idle.ran.text);
        row.run_ns = ran.and_then(|text| number(words(&text).next()?)).into();
        let kept = known.as_mut().and_then(|known| known.io.take());
        let io = self.input_output(kept, &mut row, buffer);
        self.ways_of_writing(known.as_ref(), &mut row);
        let status = read_pid(&self.proc, pid, "status", buffer).map(pid_status::parse).unwrap_or_default();
        (row.shared_bytes, row.swap_bytes) = (status.shared, status.swap);
        row.rss_bytes = if status.resident.value().is_some() { status.resident } else { row.rss_bytes };
        let mut switches = HashMap::new();
        if single {
            (row.switches_wait, row.switches_forced) = (status.switches_wait, status.switches_forced);
        } else if wanted.has(Demand::Switches) {
            switches = self.switches_of_several(known.as_mut(), &mut row, buffer);
        }
        let uids = (status.uid, status.real_uid);
        let mut groups = known.as_ref().map_or_else(no_text, |known| known.groups.clone());
        let text_turn = (pid as u64).wrapping_add(self.turn).is_multiple_of(TEXT_TURN);
        if let Some(known) = known.as_ref().filter(|known| {
            !self.in_full
                && !self.forget
                && !text_turn
                && known.age >= NEW
                && name.as_ref().is_none_or(|name| *known.row.name == **name)
                && known.uids == uids
        }) {
            keep_texts(&known.row, &mut row);
        } else {
            let kept = known.as_ref().map(|known| known.row.name.clone());
            row.name = name.map(Text::from).or(kept).unwrap_or_else(no_text);
            self.texts(pid, kernel_thread, uids, &mut row, buffer);
            row.tty = pid_stat::terminal(tty);
            if wanted.has(Demand::ControlGroup) {
                groups = self.control_group(pid, &mut row, buffer);
            }
        }
        if let Some(known) = known.as_ref().filter(|_| !text_turn) {
            row.files_limit = known.row.files_limit;
        }
        let files_before = known.as_ref().and_then(|known| known.row.files.value());
        self.on_demand(pid, wanted, &mut row, files_before, buffer);
        let row = match &known {
            Some(known) if *known.row == row => known.row.clone(),
            _ => Arc::new(row),
        };
        let idle = idle.filter(|_| single);
        if opened && idle.is_none() {
            self.kept = self.kept.saturating_sub(IDLE_FILES);
        }
        let age = known.map_or(0, |known| known.age + 1);
        let tracked =
            Tracked { row: row.clone(), idle, switches, io, uids, groups, worker, age, seen: self.turn };
        self.tracked.insert(pid, tracked);
        Some(row)
    }

    /// The state of a process with several threads. The kernel's file tells that of the main thread, which may sleep, or
    /// have ended, while others work: then it is that of a thread that runs, else that of one that waits for a disk, else that
    /// of any that lives. Gives the thread that runs.
    fn state_of_several(
        &mut self,
        known: Option<&Tracked>,
        row: &mut ProcessRow,
        buffer: &mut Vec<u8>,
    ) -> Option<i64> {
        let used = |row: &ProcessRow| Some(row.user_ticks.value()? + row.system_ticks.value()?);
        let ran = known.and_then(|known| Some(used(row)? - used(&known.row)?)).unwrap_or(0);
        let letter = |state: Raw| state.value().and_then(|code| u8::try_from(code).ok()).unwrap_or(0);
        let hides = match letter(row.state) {
            b'R' => false,
            b'Z' => true,
            _ => ran as f64 >= self.busy_ticks,
        };
        let pid = row.pid.value().filter(|_| hides && row.threads.value() > Some(1))?;
        let rank = |state: Raw| match letter(state) {
            b'Z' => 0,
            b'D' => 2,
            b'R' => 3,
            _ => 1,
        };
        let last = known.and_then(|known| known.worker);
        for thread in last.into_iter().chain(threads::numbers(&self.proc, pid)) {
            if self.looks == 0 {
                break;
            }
            self.looks -= 1;
            let stat = read_pid(&self.proc, pid, &format!("task/{thread}/stat"), buffer).ok();
            let Some(state) = stat.and_then(|text| Some(pid_stat::parse(text, 1)?.state)) else { continue };
            if rank(state) > rank(row.state) {
                row.state = state;
            }
            if letter(state) == b'R' {
                return Some(thread);
            }
        }
        last
    }

    /// Context switches of all threads of a process. They only grow: what an ended thread counted stays, but for what it
    /// counted since the last reading.
    fn switches_of_several(
        &self,
        known: Option<&mut Tracked>,
        row: &mut ProcessRow,
        buffer: &mut Vec<u8>,
    ) -> HashMap<i64, [i64; 2]> {
        let Some(pid) = row.pid.value() else { return HashMap::new() };
        let (mut now, mut before, mut sums) = (HashMap::new(), HashMap::new(), [0; 2]);
        if let Some(known) = known.filter(|known| !known.switches.is_empty()) {
            before = std::mem::take(&mut known.switches);
            sums = [&known.row.switches_wait, &known.row.switches_forced].map(|raw| raw.value().unwrap_or(0));
        }
        for thread in threads::numbers(&self.proc, pid) {
            let Ok(text) = read_pid(&self.proc, pid, &format!("task/{thread}/status"), buffer) else {
                continue;
            };
            let status = pid_status::parse(text);
            let counted = [status.switches_wait, status.switches_forced].map(|raw| raw.value().unwrap_or(0));
            let earlier = before.get(&thread).copied().unwrap_or_default();
            for at in 0..sums.len() {
                sums[at] = sums[at].saturating_add(counted[at].saturating_sub(earlier[at]).max(0));
            }
            now.insert(thread, counted);
        }
        [row.switches_wait, row.switches_forced] = sums.map(Raw::new);
        now
    }

    fn open_idle(&mut self, pid: i64) -> Option<Idle> {
        if self.kept + IDLE_FILES > self.budget {
            return None;
        }
        let open = |name| Some(Watched { file: open_pid(&self.proc, pid, name).ok()?, text: [0; IDLE_TEXT] });
        let idle = Idle { ran: open("schedstat")?, memory: open("statm")? };
        self.kept += IDLE_FILES;
        Some(idle)
    }

    /// Puts what a process read and wrote itself into its row; gives what is kept of it.
    fn input_output(
        &mut self,
        kept: Option<OwnIo>,
        row: &mut ProcessRow,
        buffer: &mut Vec<u8>,
    ) -> Option<OwnIo> {
        let pid = row.pid.value()?;
        let mut files = ThreadFiles { proc: &self.proc, pid, left: &mut self.thread_files, buffer };
        let faults = row.children_faults.value().unwrap_or(0);
        let several = row.threads.value() > Some(1);
        let read = OwnIo::read(kept, pid, faults, several, &mut files);
        let [read_bytes, write_bytes, cancelled, read_calls, write_calls, read_any, write_any] = match &read {
            Ok(io) => io.own.map(Raw::new),
            Err(Errno::ACCESS | Errno::PERM) => [Raw::DENIED; 7],
            Err(_) => [Raw::ABSENT; 7],
        };
        (row.read_bytes, row.write_bytes, row.cancelled_bytes) = (read_bytes, write_bytes, cancelled);
        (row.read_calls, row.write_calls) = (read_calls, write_calls);
        (row.read_any_bytes, row.write_any_bytes) = (read_any, write_any);
        row.io_unknown = read.as_ref().map_or(Raw::ABSENT, |io| Raw::new(io.unknown));
        read.ok()
    }

    /// Whether a process that dirtied more than it handed to write calls writes in other ways too.
    fn ways_of_writing(&mut self, known: Option<&Tracked>, row: &mut ProcessRow) {
        let Some(known) = known else { return };
        row.writes_otherwise = known.row.writes_otherwise;
        let grown = |field: fn(&ProcessRow) -> Raw| {
            Some(field(row).value()?.saturating_sub(field(&known.row).value()?))
        };
        let pages = grown(|row| row.write_bytes).zip(grown(|row| row.write_any_bytes));
        let asks = pages.is_some_and(|(pages, calls)| pages.saturating_sub(calls) >= TOO_MUCH);
        let stands = row.writes_otherwise.value().is_some() && !known.age.is_multiple_of(WRITER_TURN);
        let Some(pid) = row.pid.value().filter(|_| asks && !stands && self.writers > 0) else { return };
        self.writers -= 1;
        row.writes_otherwise = writing::otherwise(&self.proc, pid).map(i64::from).into();
    }

    fn texts(
        &mut self,
        pid: i64,
        kernel_thread: bool,
        (uid, real_uid): (Option<u32>, Option<u32>),
        row: &mut ProcessRow,
        buffer: &mut Vec<u8>,
    ) {
        row.replaced = Raw::new(0);
        if kernel_thread {
            row.program = row.name.clone();
            row.command = format!("[{}]", row.name).into();
        } else {
            let arguments = read_pid(&self.proc, pid, "cmdline", buffer).unwrap_or_default();
            let command = pid_cmdline::parse(arguments);
            let first = pid_cmdline::program(arguments);
            row.command = if command.is_empty() { row.name.clone() } else { command.into() };
            let link = readlinkat(&self.proc, format!("{pid}/exe"), Vec::new());
            let exe = link.as_ref().ok().map(|link| link.to_bytes()).and_then(|path| {
                let path = path.strip_suffix(b" (deleted)").unwrap_or(path);
                path.rsplit(|byte| *byte == b'/').next()
            });
            row.replaced = match &link {
                Ok(link) => i64::from(link.to_bytes().ends_with(b" (deleted)")).into(),
                Err(Errno::ACCESS | Errno::PERM) => Raw::DENIED,
                Err(_) => Raw::ABSENT,
            };
            row.program = exe.map(clean).or(first).map_or_else(|| row.name.clone(), Text::from);
        }
        let mut name = |uid: Option<u32>| uid.map_or_else(no_text, |uid| self.users.name(uid));
        (row.user, row.real_user) = (name(uid), name(real_uid));
    }

    /// Puts the control group of a process into its row; gives the names of all its groups.
    fn control_group(&mut self, pid: i64, row: &mut ProcessRow, buffer: &mut Vec<u8>) -> Text {
        let Ok(text) = read_pid(&self.proc, pid, "cgroup", buffer) else { return no_text() };
        let groups = Text::from(cgroups::names(text).join(" "));
        row.limits = self.groups.limiting(&groups);
        let Some(path) = pid_cgroup::parse(text) else { return groups };
        let path = Text::from(path);
        let lib = &self.lib;
        let named = self.cgroups.entry(path.clone()).or_insert_with_key(|path| {
            let service = pid_cgroup::service(path).map_or_else(no_text, Text::from);
            let container = containers::of_group(path).map(|container| containers::name(&container, lib));
            (service, container.map_or_else(no_text, Text::from))
        });
        (row.service, row.container) = named.clone();
        row.cgroup = path;
        groups
    }

    /// The control groups that limit something. Whether they do is looked at by turns.
    fn limits(&mut self, wanted: Wanted, rows: &mut [Arc<ProcessRow>]) {
        if !wanted.has(Demand::ControlGroup) || !self.turn.is_multiple_of(cgroups::TURN) {
            return;
        }
        for row in rows {
            let Some(tracked) = row.pid.value().and_then(|pid| self.tracked.get_mut(&pid)) else { continue };
            let limits = self.groups.limiting(&tracked.groups);
            if limits != row.limits {
                Arc::make_mut(row).limits = limits;
                tracked.row = row.clone();
            }
        }
    }

    /// What the control groups that limit something use.
    pub fn groups(&mut self, wanted: Wanted) -> Vec<GroupRow> {
        if wanted.has(Demand::ControlGroup) { self.groups.rows() } else { vec![] }
    }

    /// What costs a file or more for each process.
    fn on_demand(
        &self,
        pid: i64,
        wanted: Wanted,
        row: &mut ProcessRow,
        files_before: Option<i64>,
        buffer: &mut Vec<u8>,
    ) {
        let told_apart = |result: Result<Raw, Errno>| match result {
            Ok(value) => value,
            Err(Errno::ACCESS | Errno::PERM) => Raw::DENIED,
            Err(_) => Raw::ABSENT,
        };
        if wanted.has(Demand::OomScore) {
            row.oom_score = told_apart(
                read_pid(&self.proc, pid, "oom_score", buffer).map(|text| number(text.trim_ascii()).into()),
            );
        }
        if wanted.has(Demand::Files) {
            row.files = told_apart(count_files(&self.proc, pid));
            // A process may change its limit; the nearer it is to it, and the more files it opens, the more that matters.
            let near =
                row.files.value().zip(row.files_limit.value()).is_none_or(|(now, most)| now >= most / 2);
            let doubled = row
                .files
                .value()
                .zip(files_before)
                .is_some_and(|(now, before)| now.max(1).ilog2() > before.max(1).ilog2());
            if near || doubled || row.files_limit.value().is_none() {
                let text = read_pid(&self.proc, pid, "limits", buffer).map(pid_limits::files);
                row.files_limit = told_apart(text.map(Raw::from));
            }
        }
        if wanted.has(Demand::Proportional) {
            row.pss_bytes =
                told_apart(read_pid(&self.proc, pid, "smaps_rollup", buffer).map(pid_smaps::parse));
        }
        if wanted.has(Demand::WaitChannel) {
            let text = read_pid(&self.proc, pid, "wchan", buffer).unwrap_or_default();
            row.wait_on = if text.is_empty() || text == b"0" { no_text() } else { clean(text).into() };
        }
        if wanted.has(Demand::Mounts) {
            row.mounts = mounts(&self.proc, pid, &self.places);
        }
        if wanted.has(Demand::Gpu) {
            (row.gpu_ns, row.gpu_memory_bytes) = graphics(&self.proc, pid, buffer);
        }
    }
}

/// The files of a process about its input and output.
struct ThreadFiles<'a> {
    proc: &'a OwnedFd,
    pid: i64,
    left: &'a mut usize,
    buffer: &'a mut Vec<u8>,
}

impl Files for ThreadFiles<'_> {
    fn io(&mut self, thread: Option<i64>) -> Result<pid_io::Io, Errno> {
        let text = match thread {
            None => read_pid(self.proc, self.pid, "io", self.buffer),
            Some(thread) => read_pid(self.proc, self.pid, &format!("task/{thread}/io"), self.buffer),
        };
        pid_io::parse(text?).ok_or(Errno::NOENT)
    }

    fn threads(&mut self) -> Option<Vec<i64>> {
        let threads: Vec<i64> = threads::numbers(self.proc, self.pid).into_iter().collect();
        *self.left = self.left.checked_sub(threads.len())?;
        Some(threads)
    }
}

/// Descriptors that may be kept open: all but a reserve. The soft limit is raised to the hard one first, which is
/// what that is for.
fn descriptor_budget() -> u64 {
    let limit = getrlimit(Resource::Nofile);
    let raised = Rlimit { current: limit.maximum, maximum: limit.maximum };
    let now = if setrlimit(Resource::Nofile, raised).is_ok() { limit.maximum } else { limit.current };
    now.unwrap_or(u64::MAX).saturating_sub(RESERVED).min(1 << 20)
}

impl Idle {
    /// With what the files say now; `None` when the process is gone.
    fn now(mut self, buffer: &mut [u8]) -> Option<Idle> {
        self.ran.text = idle_text(&self.ran.file, buffer)?;
        self.memory.text = idle_text(&self.memory.file, buffer)?;
        Some(self)
    }
}

/// The beginning of what an open file says now; `None` when the process is gone.
fn idle_text(file: &OwnedFd, buffer: &mut [u8]) -> Option<[u8; IDLE_TEXT]> {
    let got = rustix::io::pread(file, buffer.get_mut(..IDLE_TEXT)?, 0).ok()?;
    let mut text = [0; IDLE_TEXT];
    text[..got].copy_from_slice(&buffer[..got]);
    Some(text)
}

/// Takes over what others can change of a process that did not run. Says no where anything else differs, which
/// only a full reading can tell.
fn changed_by_others(row: &mut Arc<ProcessRow>, stat: &pid_stat::ProcessStat<'_>) -> bool {
    let ran = (stat.user_ticks, stat.system_ticks, stat.threads, stat.faults_minor)
        != (row.user_ticks, row.system_ticks, row.threads, row.faults_minor);
    if ran || Raw::new(stat.start_ticks) != row.start_ticks || row.name.as_bytes() != stat.name {
        return false;
    }
    let now = (stat.ppid, stat.state, stat.priority, stat.nice, stat.policy, stat.core);
    if now != (row.ppid, row.state, row.priority, row.nice, row.policy, row.core) {
        let row = Arc::make_mut(row);
        (row.ppid, row.state, row.priority, row.nice, row.policy, row.core) = now;
    }
    true
}

fn counters(pid: i64, stat: &pid_stat::ProcessStat<'_>) -> ProcessRow {
    ProcessRow {
        pid: Raw::new(pid),
        start_ticks: Raw::new(stat.start_ticks),
        ppid: stat.ppid,
        session: stat.session,
        state: stat.state,
        kernel: i64::from(stat.is_kernel_thread).into(),
        faults_minor: stat.faults_minor,
        children_faults: stat.children_faults,
        faults_major: stat.faults_major,
        user_ticks: stat.user_ticks,
        system_ticks: stat.system_ticks,
        children_user_ticks: stat.children_user_ticks,
        children_system_ticks: stat.children_system_ticks,
        priority: stat.priority,
        nice: stat.nice,
        policy: stat.policy,
        threads: stat.threads,
        virtual_bytes: stat.virtual_bytes,
        rss_bytes: stat.rss_bytes,
        core: stat.core,
        disk_wait_ticks: stat.disk_wait_ticks,
        ..ProcessRow::default()
    }
}

fn keep_texts(known: &ProcessRow, row: &mut ProcessRow) {
    row.name = known.name.clone();
    row.program = known.program.clone();
    row.command = known.command.clone();
    row.user = known.user.clone();
    row.real_user = known.real_user.clone();
    row.tty = known.tty.clone();
    row.cgroup = known.cgroup.clone();
    row.service = known.service.clone();
    row.limits = known.limits.clone();
    row.container = known.container.clone();
    row.replaced = known.replaced;
}

/// File systems that a process has files on, as far as its links may be read.
fn mounts(proc: &OwnedFd, pid: i64, places: &Places) -> Text {
    let mut found: Vec<&Text> = vec![];
    let mut add = |link: Result<std::ffi::CString, Errno>| {
        let mount = link.ok().and_then(|link| places.of(link.to_bytes()));
        found.extend(mount.filter(|mount| !found.contains(mount)));
    };
    add(readlinkat(proc, format!("{pid}/cwd"), Vec::new()));
    add(readlinkat(proc, format!("{pid}/exe"), Vec::new()));
    if let Ok(files) = open_pid(proc, pid, "fd") {
        let mut space = [MaybeUninit::uninit(); 4 << 10];
        let mut entries = RawDir::new(&files, &mut space);
        while let Some(Ok(entry)) = entries.next() {
            add(readlinkat(&files, entry.file_name(), Vec::new()));
        }
    }
    found.sort();
    let words: Vec<&str> = found.iter().map(|mount| &***mount).collect();
    words.join(" ").into()
}

/// Number of open files: the size of the folder, which newer kernels give without listing it.
fn count_files(proc: &OwnedFd, pid: i64) -> Result<Raw, Errno> {
    let folder = open_pid(proc, pid, "fd")?;
    let size = statat(&folder, "", AtFlags::EMPTY_PATH)?.st_size;
    if size > 0 {
        return Ok(Raw::new(size));
    }
    let mut space = [MaybeUninit::uninit(); 4 << 10];
    let mut entries = RawDir::new(&folder, &mut space);
    let mut count = 0;
    while let Some(entry) = entries.next() {
        count += i64::from(number(entry?.file_name().to_bytes()).is_some());
    }
    Ok(Raw::new(count))
}

/// Work of graphics processors for a process, over its clients.
fn graphics(proc: &OwnedFd, pid: i64, buffer: &mut Vec<u8>) -> (Raw, Raw) {
    let folder = match open_pid(proc, pid, "fd") {
        Ok(folder) => folder,
        Err(Errno::ACCESS | Errno::PERM) => return (Raw::DENIED, Raw::DENIED),
        Err(_) => return (Raw::ABSENT, Raw::ABSENT),
    };
    let mut space = [MaybeUninit::uninit(); 4 << 10];
    let mut entries = RawDir::new(&folder, &mut space);
    let mut clients: Vec<pid_fdinfo::Client> = vec![];
    while let Some(Ok(entry)) = entries.next() {
        let Some(descriptor) = number(entry.file_name().to_bytes()) else { continue };
        let target = readlinkat(&folder, entry.file_name(), Vec::new());
        if !target.is_ok_and(|target| target.to_bytes().starts_with(b"/dev/dri/")) {
            continue;
        }
        let text = read_pid(proc, pid, &format!("fdinfo/{descriptor}"), buffer).unwrap_or_default();
        clients.extend(
            pid_fdinfo::parse(text).filter(|new| !clients.iter().any(|old| old.client == new.client)),
        );
    }
    pid_fdinfo::sum(&clients)
}
