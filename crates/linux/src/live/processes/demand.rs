//! What costs a file or more for each process and is read only where somebody asks for it.

use super::state::{Processes, Tracked};
use crate::proc::mountinfo::Places;
use crate::proc::pid::{open_pid, read_pid};
use crate::proc::read_file;
use crate::proc::{number, pid_fdinfo, pid_limits, pid_smaps};
use dozor_core::known::Raw;
use dozor_core::reading::ProcessRow;
use dozor_core::text::{Text, clean, no_text};
use dozor_core::wanted::{Demand, Wanted};
use rustix::fs::{AtFlags, RawDir, readlinkat, statat};
use rustix::io::Errno;
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;

/// State of one that waits in the kernel and takes no signal; proc_pid_stat(5).
const BLOCKED: Raw = Raw::new(b'D' as i64);

impl Processes {
    /// What costs a file or more for each process.
    pub(super) fn on_demand(
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
            row.files = match row.kernel.value() {
                // The kernel's own threads open none.
                Some(1) => Raw::new(0),
                _ => told_apart(count_files(&self.proc, pid, self.files.told_by_size)),
            };
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
        // What somebody is blocked in tells what can end it.
        if wanted.has(Demand::WaitChannel) || row.state == BLOCKED {
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

impl Processes {
    /// File systems on which somebody has files who writes much: that decides whether it is he who fills one.
    pub(super) fn mounts_of_writers(&mut self, pid: i64, known: &Tracked, row: &mut ProcessRow) {
        /// Bytes since the last reading.
        const MUCH: i64 = 1 << 20;
        /// Readings for which the answer stands.
        const TURN: u64 = 16;
        let grown = row.write_any_bytes.value().zip(known.row.write_any_bytes.value());
        let writes = grown.is_some_and(|(now, before)| now.saturating_sub(before) >= MUCH);
        if !writes {
            return;
        }
        row.mounts = known.row.mounts.clone();
        let stands = !row.mounts.is_empty() && !(self.turn - known.since).is_multiple_of(TURN);
        if stands || self.mount_looks == 0 {
            return;
        }
        if std::mem::replace(&mut self.places_of, self.turn) != self.turn {
            self.places =
                Places::new(&read_file(&self.roots.proc.join("self/mountinfo")).unwrap_or_default());
        }
        self.mount_looks -= 1;
        row.mounts = mounts(&self.proc, pid, &self.places);
    }
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

/// Number of open files: the size of the folder, which may be asked of any process, or what is listed in it.
fn count_files(proc: &OwnedFd, pid: i64, told_by_size: bool) -> Result<Raw, Errno> {
    if told_by_size {
        return Ok(Raw::new(statat(proc, format!("{pid}/fd"), AtFlags::empty())?.st_size));
    }
    let folder = open_pid(proc, pid, "fd")?;
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
