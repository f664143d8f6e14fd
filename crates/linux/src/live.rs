//! The live machine as a source of readings.
//!
//! A process that vanishes between listing and reading is normal and simply not in the reading. A process with a
//! single thread that did not run since the last reading (`schedstat` says so in nanoseconds) keeps its row;
//! what others can change without it running is refreshed by turns.

use crate::proc::{self, diskstats, pid_cmdline, pid_io, pid_stat, pid_status, read_file};
use crate::sys::{links, sensors::Sensors, sessions};
use crate::users::Users;
use crate::{Roots, clock, host};
use dozor_core::known::Raw;
use dozor_core::reading::{DiskRow, HostFacts, InterfaceRow, ProcessRow, Reading, SystemRow, no_text};
use dozor_core::source::Source;
use dozor_core::text::{Text, clean};
use rustix::fs::{CWD, Mode, OFlags, RawDir, openat, readlinkat};
use rustix::io::Errno;
use std::collections::HashMap;
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;
use std::sync::Arc;

/// An idle process is read in full every so many readings.
const TURN: u64 = 8;
/// Texts are refreshed every so many readings, and while the process is new: it may still start its program.
const TEXT_TURN: u64 = 32;
/// Readings after the first in which a process counts as new.
const NEW: u64 = 3;

/// Why the machine cannot be watched at all.
#[derive(Debug, thiserror::Error)]
#[error("{path} cannot be read")]
pub struct OpenError {
    path: String,
    source: Errno,
}

/// What is kept of a process between readings.
struct Tracked {
    row: Arc<ProcessRow>,
    /// Text of `schedstat` at the last full reading; empty where it does not serve.
    ran: Vec<u8>,
    uids: (Option<u32>, Option<u32>),
    /// Readings since it was first seen.
    age: u64,
    seen: u64,
}

/// Reads the machine that the program runs on.
pub struct LiveSource {
    roots: Roots,
    proc: OwnedFd,
    page: i64,
    delay_accounting: bool,
    turn: u64,
    users: Users,
    sensors: Sensors,
    whole_disks: HashMap<Text, bool>,
    tracked: HashMap<i64, Tracked>,
    buffer: Vec<u8>,
    always_in_full: bool,
}

impl LiveSource {
    /// Opens the machine.
    pub fn open(roots: Roots) -> Result<LiveSource, OpenError> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let proc = openat(CWD, &roots.proc, flags, Mode::empty())
            .map_err(|source| OpenError { path: roots.proc.display().to_string(), source })?;
        // Without delay accounting the kernel shows zero for every wait; that is not known, not zero.
        let switch = read_file(&roots.proc.join("sys/kernel/task_delayacct"));
        Ok(LiveSource {
            delay_accounting: switch.map_or(true, |text| text.trim_ascii() != b"0"),
            sensors: Sensors::find(&roots.sys),
            roots,
            proc,
            page: rustix::param::page_size() as i64,
            turn: 0,
            users: Users::default(),
            whole_disks: HashMap::new(),
            tracked: HashMap::new(),
            buffer: vec![0; 16 << 10],
            always_in_full: false,
        })
    }

    /// Reads every process in full at every reading. For comparing: it costs several times as much.
    #[must_use]
    pub fn always_in_full(mut self) -> LiveSource {
        self.always_in_full = true;
        self
    }

    fn file(&self, name: &str) -> Vec<u8> {
        read_file(&self.roots.proc.join(name)).unwrap_or_default()
    }

    fn system(&mut self) -> Reading {
        let clocks = clock::now();
        let stat = proc::stat::parse(&self.file("stat"));
        let ([load_1, load_5, load_15], threads) = proc::loadavg::parse(&self.file("loadavg"));
        let memory = proc::meminfo::parse(&self.file("meminfo"));
        let paging = proc::vmstat::parse(&self.file("vmstat"), self.page);
        let total = stat.total;
        let system = SystemRow {
            wall_ns: Raw::new(clocks.wall),
            monotonic_ns: Raw::new(clocks.monotonic),
            boot_ns: Raw::new(clocks.boot),
            user: total.user,
            nice: total.nice,
            system: total.system,
            idle: total.idle,
            iowait: total.iowait,
            irq: total.irq,
            softirq: total.softirq,
            steal: total.steal,
            guest: total.guest,
            guest_nice: total.guest_nice,
            switches: stat.switches,
            interrupts: stat.interrupts,
            forks: stat.forks,
            running: stat.running,
            blocked: stat.blocked,
            load_1,
            load_5,
            load_15,
            threads,
            mem_total: memory.total,
            mem_free: memory.free,
            mem_available: memory.available,
            mem_buffers: memory.buffers,
            mem_cached: memory.cached,
            mem_shared: memory.shared,
            mem_slab: memory.slab,
            mem_reclaimable: memory.reclaimable,
            mem_dirty: memory.dirty,
            swap_total: memory.swap_total,
            swap_free: memory.swap_free,
            swap_in: paging.swap_in,
            swap_out: paging.swap_out,
            faults_major: paging.faults_major,
            oom_kills: paging.oom_kills,
            users: sessions::count(&self.roots.run),
        };
        Reading {
            system,
            cores: stat.cores,
            disks: self.disks(),
            interfaces: self.interfaces(),
            sensors: self.sensors.read(),
            processes: vec![],
        }
    }

    /// Whole devices that have ever been used; partitions have no folder of their own in `/sys/block`.
    fn disks(&mut self) -> Vec<DiskRow> {
        let mut disks = diskstats::parse(&self.file("diskstats"));
        disks.retain(|disk| {
            let sys = &self.roots.sys;
            diskstats::was_used(disk)
                && *self
                    .whole_disks
                    .entry(disk.name.clone())
                    .or_insert_with(|| sys.join("block").join(disk.name.replace('/', "!")).exists())
        });
        disks
    }

    fn interfaces(&self) -> Vec<InterfaceRow> {
        let mut interfaces = proc::net_dev::parse(&self.file("net/dev"));
        for interface in &mut interfaces {
            interface.speed_bits = links::speed_bits(&self.roots.sys, &interface.name);
        }
        interfaces
    }

    /// PIDs that are there now.
    fn pids(&self) -> Vec<i64> {
        let mut pids = Vec::with_capacity(self.tracked.len() + 16);
        let Ok(()) = rustix::fs::seek(&self.proc, rustix::fs::SeekFrom::Start(0)).map(drop) else {
            return pids;
        };
        let mut buffer = [MaybeUninit::uninit(); 16 << 10];
        let mut entries = RawDir::new(&self.proc, &mut buffer);
        while let Some(Ok(entry)) = entries.next() {
            pids.extend(proc::number(entry.file_name().to_bytes()).filter(|pid| *pid > 0));
        }
        pids
    }

    fn processes(&mut self) -> Vec<Arc<ProcessRow>> {
        let pids = self.pids();
        let mut rows = Vec::with_capacity(pids.len());
        for pid in pids {
            if let Some(row) = self.process(pid) {
                rows.push(row);
            }
        }
        let turn = self.turn;
        self.tracked.retain(|_, tracked| tracked.seen == turn);
        rows
    }

    fn process(&mut self, pid: i64) -> Option<Arc<ProcessRow>> {
        let mut buffer = std::mem::take(&mut self.buffer);
        let row = self.process_with(pid, &mut buffer);
        self.buffer = buffer;
        row
    }

    fn process_with(&mut self, pid: i64, buffer: &mut Vec<u8>) -> Option<Arc<ProcessRow>> {
        let my_turn = (pid as u64).wrapping_add(self.turn);
        if let Some(tracked) = self.tracked.get_mut(&pid)
            && !self.always_in_full
            && !my_turn.is_multiple_of(TURN)
            && tracked.age >= NEW
            && !tracked.ran.is_empty()
            && read_pid(&self.proc, pid, "schedstat", buffer).is_ok_and(|now| now == tracked.ran)
        {
            tracked.seen = self.turn;
            tracked.age += 1;
            return Some(tracked.row.clone());
        }
        // Read before the counters: what runs in between shows up as having run next time.
        let ran = read_pid(&self.proc, pid, "schedstat", buffer).map(<[u8]>::to_vec).unwrap_or_default();
        let stat = pid_stat::parse(read_pid(&self.proc, pid, "stat", buffer).ok()?, self.page)?;
        let mut row = ProcessRow {
            pid: Raw::new(pid),
            start_ticks: Raw::new(stat.start_ticks),
            ppid: stat.ppid,
            state: stat.state,
            faults_minor: stat.faults_minor,
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
            disk_wait_ticks: if self.delay_accounting { stat.disk_wait_ticks } else { Raw::ABSENT },
            ..ProcessRow::default()
        };
        let (kernel_thread, name) = (stat.is_kernel_thread, clean(stat.name));
        let known = self.tracked.remove(&pid).filter(|tracked| tracked.row.start_ticks == row.start_ticks);
        let io = match read_pid(&self.proc, pid, "io", buffer) {
            Ok(text) => pid_io::parse(text),
            Err(Errno::ACCESS | Errno::PERM) => pid_io::Io::DENIED,
            Err(_) => pid_io::Io::default(),
        };
        (row.read_bytes, row.write_bytes) = (io.read_bytes, io.write_bytes);
        (row.read_calls, row.write_calls) = (io.read_calls, io.write_calls);
        (row.read_any_bytes, row.write_any_bytes) = (io.read_any, io.write_any);
        let status = read_pid(&self.proc, pid, "status", buffer).map(pid_status::parse).unwrap_or_default();
        (row.shared_bytes, row.swap_bytes) = (status.shared, status.swap);
        (row.switches_wait, row.switches_forced) = (status.switches_wait, status.switches_forced);
        let uids = (status.uid, status.real_uid);
        let fresh_texts = self.always_in_full
            || my_turn.is_multiple_of(TEXT_TURN)
            || known
                .as_ref()
                .is_none_or(|known| known.age < NEW || *known.row.name != name || known.uids != uids);
        if let Some(known) = known.as_ref().filter(|_| !fresh_texts) {
            row.name = known.row.name.clone();
            row.program = known.row.program.clone();
            row.command = known.row.command.clone();
            row.user = known.row.user.clone();
            row.real_user = known.row.real_user.clone();
        } else {
            row.name = name.into();
            self.texts(pid, kernel_thread, uids, &mut row, buffer);
        }
        let row = match &known {
            Some(known) if *known.row == row => known.row.clone(),
            _ => Arc::new(row),
        };
        let ran = if row.threads == Raw::new(1) { ran } else { vec![] };
        let age = known.map_or(0, |known| known.age + 1);
        self.tracked.insert(pid, Tracked { row: row.clone(), ran, uids, age, seen: self.turn });
        Some(row)
    }

    fn texts(
        &mut self,
        pid: i64,
        kernel_thread: bool,
        (uid, real_uid): (Option<u32>, Option<u32>),
        row: &mut ProcessRow,
        buffer: &mut Vec<u8>,
    ) {
        if kernel_thread {
            row.program = row.name.clone();
            row.command = format!("[{}]", row.name).into();
        } else {
            let arguments = read_pid(&self.proc, pid, "cmdline", buffer).unwrap_or_default();
            let command = pid_cmdline::parse(arguments);
            let first = pid_cmdline::program(arguments);
            row.command = if command.is_empty() { row.name.clone() } else { command.into() };
            let link = readlinkat(&self.proc, format!("{pid}/exe"), Vec::new()).ok();
            let exe = link.as_ref().map(|link| link.to_bytes()).and_then(|path| {
                let path = path.strip_suffix(b" (deleted)").unwrap_or(path);
                path.rsplit(|byte| *byte == b'/').next()
            });
            row.program = exe.map(clean).or(first).map_or_else(|| row.name.clone(), Text::from);
        }
        let mut name = |uid: Option<u32>| uid.map_or_else(no_text, |uid| self.users.name(uid));
        (row.user, row.real_user) = (name(uid), name(real_uid));
    }
}

/// Reads a file of a process into the buffer, which grows for a long one (a huge command line).
fn read_pid<'a>(proc: &OwnedFd, pid: i64, name: &str, buffer: &'a mut Vec<u8>) -> Result<&'a [u8], Errno> {
    use std::io::Write as _;
    const LONGEST: usize = 1 << 20;
    let mut path = [0u8; 40];
    let mut rest = &mut path[..];
    write!(rest, "{pid}/{name}\0").map_err(|_| Errno::NAMETOOLONG)?;
    let path = std::ffi::CStr::from_bytes_until_nul(&path).map_err(|_| Errno::INVAL)?;
    let file = openat(proc, path, OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty())?;
    let mut filled = 0;
    loop {
        if filled == buffer.len() {
            if filled >= LONGEST {
                break;
            }
            buffer.resize(filled * 2, 0);
        }
        match rustix::io::read(&file, &mut buffer[filled..]) {
            Ok(0) => break,
            Ok(got) => {
                filled += got;
                // The kernel gives these small files whole; a short read is their end.
                if name != "cmdline" && filled < buffer.len() {
                    break;
                }
            }
            Err(Errno::INTR) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(&buffer[..filled])
}

impl Source for LiveSource {
    fn host(&self) -> HostFacts {
        host::facts(&self.roots)
    }

    fn read(&mut self) -> Reading {
        self.turn += 1;
        let mut reading = self.system();
        reading.processes = self.processes();
        reading.sort();
        reading
    }
}
