//! Counters of processes from `/proc`.
//!
//! A process that did not run since the last reading (its clock says so in nanoseconds; in a tree that is not our kernel's
//! `schedstat`, of those with a single thread) keeps its row; `statm` tells at its turn whether its memory is as it was. The files
//! that are asked most stay open, within a budget.

use super::super::own_io::{Files, OwnIo};
use super::super::threads::{self, Summed};
use super::opened::{Idle, Kept, Stamp};
use super::state::{Counted, Processes, Tracked, other_reader, put_io, put_memory};
use crate::proc::pid::read_pid;
use crate::proc::{number, pid_io, pid_stat, pid_status, words};
use dozor_core::known::Raw;
use dozor_core::reading::ProcessRow;
use dozor_core::text::clean;
use dozor_core::wanted::{Demand, Wanted};
use rustix::io::Errno;
use std::os::fd::OwnedFd;
use std::sync::Arc;

/// What others can change of an idle process is looked at every so many readings.
const TURN: u64 = 32;

impl Processes {
    /// Whether a process is as it was. At its turn, what others can change is looked at.
    fn is_idle(&mut self, known: &mut Tracked, buffer: &mut Vec<u8>) -> Option<bool> {
        let pid = known.pid;
        let is_new = self.is_new(known);
        let Some(idle) = &mut known.rest.kept.idle else { return Some(false) };
        if self.in_full || self.forget || is_new || !idle.has_not_run(&self.proc, pid)? {
            return Some(false);
        }
        if self.memory.has(pid) {
            self.files.open_memory(&self.proc, pid, idle);
            let asks = idle.has_memory_open() || self.memory_seldom.has(pid);
            if asks && !idle.has_same_memory(&self.proc, pid, known.row.rss_bytes, self.page)? {
                return Some(false);
            }
        }
        if self.is_full_turn(pid) {
            return Some(false);
        }
        if (pid as u64).wrapping_add(self.turn).is_multiple_of(TURN) {
            let stat = pid_stat::parse(read_pid(&self.proc, pid, "stat", buffer).ok()?, self.page)?;
            known.ppid = stat.ppid.value();
            return Some(changed_by_others(&mut known.row, &stat));
        }
        Some(true)
    }

    /// A process as the files tell it; nothing when it is gone.
    pub(super) fn by_files(
        &mut self,
        pid: i64,
        mut known: Option<Tracked>,
        wanted: Wanted,
        buffer: &mut Vec<u8>,
    ) -> Option<Tracked> {
        if let Some(idle) = known.take_if(|known| self.is_idle(known, buffer) == Some(true)) {
            return Some(idle);
        }
        let mut kept = known.as_mut().map(|known| std::mem::take(&mut known.rest.kept)).unwrap_or_default();
        self.files.close(&kept);
        // A kept descriptor of a process that is gone says so; the PID may belong to another by now.
        let opened = kept.idle.take().filter(Idle::is_there);
        // The file speaks for one thread only, so it is of no use for a process with several.
        let several = known.as_ref().is_some_and(|known| known.row.threads.value() > Some(1));
        let asks = self.files.clocks || !several;
        let open = || if asks { self.files.open_idle(&self.proc, pid) } else { None };
        // Read before the counters: what changes in between shows up as having changed next time.
        let idle = opened.or_else(open).and_then(|idle| idle.now(&self.proc, pid));
        let was_full = kept.full + 1 == self.turn;
        if kept.busy.is_none() && was_full {
            kept.busy = self.files.open_busy(&self.proc, pid);
        }
        let mut text = text_of(&self.proc, pid, "stat", kept.busy.as_ref().map(|busy| &busy.stat), buffer);
        if text.is_err() && kept.busy.take().is_some() {
            text = text_of(&self.proc, pid, "stat", None, buffer);
        }
        let stat = pid_stat::parse(text.ok()?, self.page)?;
        let known = known.filter(|known| known.row.start_ticks == Raw::new(stat.start_ticks));
        if known.is_none() {
            kept = Kept::default();
        }
        kept.full = self.turn;
        let (kernel_thread, tty) = (stat.is_kernel_thread, stat.tty);
        // Only another name needs cleaning; a clean one is what it was.
        let same_name = known.as_ref().is_some_and(|known| known.row.name.as_bytes() == stat.name);
        let name = if same_name { None } else { Some(clean(stat.name)) };
        let mut row = counters(pid, &stat);
        if !self.delay_accounting {
            row.disk_wait_ticks = Raw::ABSENT;
        }
        let single = row.threads == Raw::new(1);
        kept.worker = self.state_of_several(known.as_ref(), kept.worker, &mut row, buffer);
        let stamp = idle.as_ref().and_then(|idle| idle.stamp(single));
        row.run_ns = stamp.map(|stamp| stamp.ran_ns).into();
        let busy = kept.busy.as_ref();
        kept.io = self.input_output(kept.io.take(), busy.map(|busy| &busy.io), &mut row, buffer);
        let status = text_of(&self.proc, pid, "status", busy.map(|busy| &busy.status), buffer);
        let status = status.map(pid_status::parse).unwrap_or_default();
        put_memory(&mut row, &status);
        if single {
            (row.switches_wait, row.switches_forced) = (status.switches_wait, status.switches_forced);
            (kept.switches, kept.core_wait) = Default::default();
        } else if wanted.has(Demand::Switches) {
            self.switches_of_several(&mut kept.switches, &mut row, buffer);
        }
        if wanted.has(Demand::CoreWait) {
            if single {
                let told = stamp.and_then(|stamp| stamp.wait_ns).or_else(|| {
                    let file = busy.and_then(|busy| busy.schedstat.as_ref());
                    Stamp::parse(text_of(&self.proc, pid, "schedstat", file, buffer).ok()?)?.wait_ns
                });
                row.core_wait_ns = told.into();
            } else {
                self.core_wait_of_several(&mut kept.core_wait, &mut row, buffer);
            }
        }
        if std::mem::replace(&mut kept.inside, false) {
            other_reader(&mut row);
        }
        kept.idle = idle.filter(|idle| single || idle.counts_all());
        self.files.keep(&kept);
        let uids = (status.uid, status.real_uid);
        let counted = Counted { row, kept, name, kernel_thread, tty: Some(tty), uids };
        Some(self.complete(counted, known, wanted, buffer))
    }

    /// The state of a process with several threads. The kernel's file tells that of the main thread, which may sleep, or
    /// have ended, while others work: then it is that of a thread that runs, else that of one that waits for a disk, else that
    /// of any that lives. Gives the thread that runs.
    fn state_of_several(
        &mut self,
        known: Option<&Tracked>,
        last: Option<i64>,
        row: &mut ProcessRow,
        buffer: &mut Vec<u8>,
    ) -> Option<i64> {
        let used = |row: &ProcessRow| Some(row.user_ticks.value()? + row.system_ticks.value()?);
        let ran = known.and_then(|known| Some(used(row)? - used(&known.row)?)).unwrap_or(0);
        let letter = |state: Raw| state.value().and_then(|code| u8::try_from(code).ok()).unwrap_or(0);
        let hides = match letter(row.state) {
            b'R' => false,
            b'Z' => true,
            _ => ran as f64 >= self.files.busy_ticks,
        };
        let pid = row.pid.value().filter(|_| hides && row.threads.value() > Some(1))?;
        let rank = |state: Raw| match letter(state) {
            b'Z' => 0,
            b'D' => 2,
            b'R' => 3,
            _ => 1,
        };
        for thread in last.into_iter().chain(threads::numbers(&self.proc, pid)) {
            if self.files.looks == 0 {
                break;
            }
            self.files.looks -= 1;
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

    /// Context switches of all threads of a process.
    fn switches_of_several(&self, summed: &mut Summed<2>, row: &mut ProcessRow, buffer: &mut Vec<u8>) {
        let Some(pid) = row.pid.value() else { return };
        let numbers = threads::numbers(&self.proc, pid);
        [row.switches_wait, row.switches_forced] = summed.read(&numbers, |thread| {
            let status =
                pid_status::parse(read_pid(&self.proc, pid, &format!("task/{thread}/status"), buffer).ok()?);
            Some([status.switches_wait, status.switches_forced].map(|raw| raw.value().unwrap_or(0)))
        });
    }

    /// How long all threads of a process waited for a core; unknown where too many have been asked in this reading.
    fn core_wait_of_several(
        &mut self,
        summed: &mut Summed<1>,
        row: &mut ProcessRow,
        buffer: &mut Vec<u8>,
    ) -> Option<()> {
        let pid = row.pid.value()?;
        let numbers = threads::numbers(&self.proc, pid);
        self.files.wait_files = self.files.wait_files.checked_sub(numbers.len())?;
        [row.core_wait_ns] = summed.read(&numbers, |thread| {
            let text = read_pid(&self.proc, pid, &format!("task/{thread}/schedstat"), buffer).ok()?;
            Some([number(words(text).nth(1)?)?])
        });
        Some(())
    }

    /// Puts what a process read and wrote itself into its row; gives what is kept of it.
    pub(super) fn input_output(
        &mut self,
        kept: Option<OwnIo>,
        file: Option<&OwnedFd>,
        row: &mut ProcessRow,
        buffer: &mut Vec<u8>,
    ) -> Option<OwnIo> {
        let pid = row.pid.value()?;
        let left = &mut self.files.thread_files;
        let mut files = ThreadFiles { proc: &self.proc, pid, file, left, buffer };
        let faults = row.children_faults.value().unwrap_or(0);
        let several = row.threads.value() > Some(1);
        let read = OwnIo::read(kept, pid, faults, several, &mut files);
        put_io(row, read.as_ref());
        read.ok()
    }
}

/// What a file of a process says, which may be open already.
fn text_of<'a>(
    proc: &OwnedFd,
    pid: i64,
    name: &str,
    file: Option<&OwnedFd>,
    buffer: &'a mut Vec<u8>,
) -> Result<&'a [u8], Errno> {
    let Some(file) = file else { return read_pid(proc, pid, name, buffer) };
    // These files are given whole, and are far shorter than the buffer.
    let got = rustix::io::pread(file, &mut buffer[..], 0)?;
    Ok(&buffer[..got])
}

/// The files of a process about its input and output.
struct ThreadFiles<'a> {
    proc: &'a OwnedFd,
    pid: i64,
    /// That of the process, where it is open.
    file: Option<&'a OwnedFd>,
    left: &'a mut usize,
    buffer: &'a mut Vec<u8>,
}

impl Files for ThreadFiles<'_> {
    fn io(&mut self, thread: Option<i64>) -> Result<pid_io::Io, Errno> {
        let text = match thread {
            None => text_of(self.proc, self.pid, "io", self.file, self.buffer),
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
