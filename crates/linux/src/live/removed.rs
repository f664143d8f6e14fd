//! Removed files that are still open. Looking for them goes over the open files of all processes, so it is done on a thread of
//! its own, once in a while, and where a file system is nearly full: elsewhere they harm nobody.

use crate::Roots;
use crate::inside::files::described;
use crate::inside::holding::holders;
use dozor_core::inside::holders::{Hold, Place};
use dozor_core::known::Raw;
use dozor_core::reading::{FilesystemRow, ProcessKey, ProcessRow, RemovedRow};
use dozor_core::row::Row as _;
use dozor_core::sorting::ColdSort as _;
use std::collections::HashSet;
use std::os::unix::ffi::OsStrExt as _;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// They are looked for so often.
const EVERY: Duration = Duration::from_secs(60);
/// Percent of a file system from which on it counts as nearly full.
const NEARLY_FULL: f64 = 80.0;
/// Files with a row of their own, the largest.
const MOST: usize = 32;

/// What was found, and whether somebody is looking.
#[derive(Default)]
struct Found {
    rows: Vec<RemovedRow>,
    looking: bool,
}

/// Looks for removed files.
#[derive(Default)]
pub struct Removed {
    found: Arc<Mutex<Found>>,
    asked: Option<Instant>,
}

fn lock(found: &Mutex<Found>) -> MutexGuard<'_, Found> {
    found.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Removed {
    /// Those that were found at the last look and are still open and removed, with what they take now.
    pub fn read(
        &mut self,
        roots: &Roots,
        filesystems: &[FilesystemRow],
        processes: &[Arc<ProcessRow>],
    ) -> Vec<RemovedRow> {
        if !filesystems.iter().any(is_nearly_full) {
            *self = Removed::default();
            return vec![];
        }
        let mut found = lock(&self.found);
        if !found.looking && self.asked.is_none_or(|asked| asked.elapsed() >= EVERY) {
            self.asked = Some(Instant::now());
            let (roots, later) = (roots.clone(), self.found.clone());
            let look = move || {
                let rows = removed(&roots);
                *lock(&later) = Found { rows, looking: false };
            };
            // Where no thread may be started any more nobody looks.
            found.looking = std::thread::Builder::new().spawn(look).is_ok();
        }
        let is_there = |row: &RemovedRow| {
            let key = row.pid.value().zip(row.start_ticks.value());
            key.is_none_or(|(pid, start)| {
                processes.binary_search_by_key(&ProcessKey { pid, start }, |row| row.key()).is_ok()
            })
        };
        found.rows.iter().filter(|row| is_there(row)).filter_map(|row| again(roots, row)).collect()
    }
}

/// A file system of this machine that has little room left, or few inodes.
fn is_nearly_full(row: &FilesystemRow) -> bool {
    let full = |used: f64, left: f64| used + left > 0.0 && used / (used + left) * 100.0 >= NEARLY_FULL;
    let room = row.used.float().zip(row.available.float()).value();
    let inodes = row.inodes.float().zip(row.inodes_free.float()).value();
    row.remote.value() != Some(1)
        && (room.is_some_and(|(used, left)| full(used, left))
            || inodes.is_some_and(|(all, free)| full(all - free, free)))
}

/// The same file as it is now; none where it is closed, or another one.
fn again(roots: &Roots, row: &RemovedRow) -> Option<RemovedRow> {
    let Some((pid, descriptor)) = row.pid.value().zip(row.descriptor.value()) else {
        return Some(row.clone());
    };
    let path = roots.proc.join(format!("{pid}/fd/{descriptor}"));
    let target = std::fs::read_link(&path).ok()?;
    let (file, ..) = described(&path, descriptor, target.as_os_str().as_bytes());
    let is_same = file.removed && *file.target == *row.path;
    is_same.then(|| RemovedRow { bytes: file.holds, ..row.clone() })
}

/// All removed files that are open: each once, the largest by themselves, the others in one row.
pub fn removed(roots: &Roots) -> Vec<RemovedRow> {
    let size = |hold: &Hold| hold.file.holds.value().unwrap_or(0);
    let mut seen = HashSet::new();
    let mut all = holders(roots, &Place::Removed).list;
    all.retain(|hold| size(hold) > 0 && (hold.file.identity == (0, 0) || seen.insert(hold.file.identity)));
    all.cold_sort_by_key(|hold| std::cmp::Reverse(size(hold)));
    let (large, small) = all.split_at(all.len().min(MOST));
    let mut rows: Vec<RemovedRow> = large
        .iter()
        .map(|hold| RemovedRow {
            path: hold.file.target.as_str().into(),
            name: hold.name.clone(),
            pid: Raw::new(hold.key.pid),
            start_ticks: Raw::new(hold.key.start),
            // One that is mapped only has no number.
            descriptor: Raw::from(Some(hold.file.descriptor).filter(|number| *number >= 0)),
            bytes: hold.file.holds,
        })
        .collect();
    let rest = small.iter().map(size).fold(0, i64::saturating_add);
    if rest > 0 {
        rows.push(RemovedRow { bytes: Raw::new(rest), ..RemovedRow::default() });
    }
    rows.cold_sort_by_key(RemovedRow::key);
    rows
}

#[cfg(test)]
mod tests {
    use super::*;

    fn filesystem(used: i64, available: i64) -> FilesystemRow {
        let (used, available) = (Raw::new(used), Raw::new(available));
        FilesystemRow { used, available, ..FilesystemRow::default() }
    }

    /// This process as it is among the processes of a reading.
    fn ourselves() -> Arc<ProcessRow> {
        let pid = i64::from(std::process::id());
        let stat = std::fs::read_to_string("/proc/self/stat").expect("our own");
        let start = stat.rsplit(')').next().and_then(|rest| rest.split_whitespace().nth(19)?.parse().ok());
        Arc::new(ProcessRow {
            pid: Raw::new(pid),
            start_ticks: Raw::new(start.expect("a start")),
            ..ProcessRow::default()
        })
    }

    #[test]
    fn a_file_system_of_few_inodes_or_of_any_numbers_is_judged_by_its_share() {
        let inodes = |all: i64, free: i64| FilesystemRow {
            inodes: Raw::new(all),
            inodes_free: Raw::new(free),
            ..filesystem(1, 99)
        };
        assert!(!is_nearly_full(&inodes(50, 40)) && is_nearly_full(&inodes(50, 5)));
        assert!(is_nearly_full(&filesystem(i64::MAX, 1)) && !is_nearly_full(&filesystem(0, i64::MAX)));
    }

    #[test]
    fn they_are_looked_for_where_a_file_system_is_nearly_full_and_are_gone_with_their_descriptor() {
        let mut file = tempfile::tempfile().expect("a removed file");
        std::io::Write::write_all(&mut file, &vec![7; 3 << 20]).expect("room");
        file.sync_all().expect("a disk");
        let (roots, processes) = (Roots::default(), [ourselves()]);
        let mut removed = Removed::default();
        assert!(removed.read(&roots, &[filesystem(50, 50)], &processes).is_empty());
        assert!(removed.asked.is_none(), "nobody needs it");
        let full = [filesystem(50, 50), filesystem(85, 15)];
        let ours = |rows: &[RemovedRow]| {
            use std::os::fd::AsRawFd as _;
            let descriptor = i64::from(file.as_raw_fd());
            let pid = i64::from(std::process::id());
            rows.iter()
                .find(|row| row.pid.value() == Some(pid) && row.descriptor.value() == Some(descriptor))
                .cloned()
        };
        let begin = Instant::now();
        let row = loop {
            let rows = removed.read(&roots, &full, &processes);
            if let Some(row) = ours(&rows) {
                break row;
            }
            assert!(begin.elapsed() < Duration::from_secs(60), "{rows:?}");
            std::thread::sleep(Duration::from_millis(5));
        };
        assert!(row.bytes.value() >= Some(3 << 20), "{row:?}");
        // Nobody looks again so soon: what is closed, and whose process is gone, is left out all the same.
        assert!(removed.read(&roots, &full, &[]).iter().all(|row| row.pid.value().is_none()));
        let again = again(&roots, &row).expect("it is open");
        assert_eq!(again, row);
        drop(file);
        assert_eq!(super::again(&roots, &row), None);
    }
}
