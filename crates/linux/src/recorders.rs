//! Recorders of Dozor that run on this machine, and the folders that they write into.
//!
//! A recorder keeps its segment open: `/proc/PID/fd` leads to it (proc_pid_fd(5)). Only recorders of root and of the
//! same user are believed: nobody else can put a made-up past before somebody's eyes.

use rustix::fs::{FlockOperation, flock};
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// Folders that recorders write segments into now.
pub fn folders(proc: &Path) -> Vec<PathBuf> {
    let own = std::process::id().to_string();
    let me = rustix::process::geteuid().as_raw();
    let mut found: Vec<PathBuf> = vec![];
    let Ok(entries) = fs::read_dir(proc) else { return found };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let is_other =
            name.to_str().is_some_and(|name| name.bytes().all(|byte| byte.is_ascii_digit()) && name != own);
        let comm = fs::read_to_string(entry.path().join("comm")).unwrap_or_default();
        if !is_other || comm.trim_end() != "dozor" {
            continue;
        }
        let trusted = entry.metadata().is_ok_and(|data| data.uid() == 0 || data.uid() == me);
        if !trusted {
            continue;
        }
        for fd in fs::read_dir(entry.path().join("fd")).into_iter().flatten().flatten() {
            let Ok(file) = fs::read_link(fd.path()) else { continue };
            // The lock, and no file that was merely opened for reading.
            if file.file_name().is_some_and(|name| name == LOCK)
                && let Some(folder) = file.parent()
                && !found.iter().any(|other| other == folder)
            {
                found.push(folder.to_owned());
            }
        }
    }
    found
}

/// The folder that the service writes into.
const USUAL: &str = "/var/lib/dozor";

/// The folder of the service, where a recorder holds it now: the open files of root's processes are not everybody's to
/// see, the lock is.
pub fn of_the_service() -> Option<PathBuf> {
    let folder = PathBuf::from(USUAL);
    let of_root = fs::metadata(&folder).is_ok_and(|data| data.uid() == 0);
    let lock = fs::File::open(folder.join(LOCK)).ok()?;
    let held = flock(&lock, FlockOperation::NonBlockingLockShared).is_err();
    (of_root && held).then_some(folder)
}

/// The file that a recorder keeps open in its folder.
pub const LOCK: &str = ".recorder";
