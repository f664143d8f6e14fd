//! Recorders of Dozor that run on this machine, and the folders that they write into.
//!
//! A recorder keeps its segment open: `/proc/PID/fd` leads to it (proc_pid_fd(5)). Only recorders of root and of the
//! same user are believed: nobody else can put a made-up past before somebody's eyes.

use rustix::fs::{FlockOperation, flock};
use std::fs;
use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// The folder that a recorder of this machine writes segments into now: one whose open files can be seen, else the
/// service's, which need not be open to everybody.
pub fn running(proc: &Path) -> Option<PathBuf> {
    folders(proc).into_iter().next().or_else(|| held_by_root(Path::new(USUAL)))
}

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

/// A folder of root's, where a recorder holds it now: the open files of root's processes are not everybody's to see, the
/// lock is. One that may not be looked into is given as well: whoever looks then learns why not.
fn held_by_root(folder: &Path) -> Option<PathBuf> {
    let of_root = fs::metadata(folder).is_ok_and(|data| data.uid() == 0);
    let held = match fs::File::open(folder.join(LOCK)) {
        Ok(lock) => flock(&lock, FlockOperation::NonBlockingLockShared).is_err(),
        Err(error) => error.kind() == ErrorKind::PermissionDenied,
    };
    (of_root && held).then(|| folder.to_owned())
}

/// The file that a recorder keeps open in its folder.
pub const LOCK: &str = ".recorder";

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt as _;

    #[test]
    fn a_folder_that_may_not_be_looked_into_is_told_from_one_that_nobody_holds() {
        let scratch = tempfile::tempdir().unwrap();
        let folder = scratch.path().join("recordings");
        fs::create_dir(&folder).unwrap();
        assert!(held_by_root(&folder).is_none(), "nobody has ever recorded there");
        fs::write(folder.join(LOCK), "1\n").unwrap();
        assert!(held_by_root(&folder).is_none(), "whoever did is gone");
        let lock = fs::File::open(folder.join(LOCK)).unwrap();
        flock(&lock, FlockOperation::NonBlockingLockExclusive).unwrap();
        let (held, looked) = (held_by_root(&folder), rustix::process::geteuid().is_root());
        assert_eq!(held, looked.then(|| folder.clone()), "only root's is believed");
        if !looked {
            return;
        }
        for (path, mode) in [(scratch.path(), 0o711), (&folder, 0o700)] {
            fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        }
        // Somebody else, in a thread of its own: the call changes that thread alone.
        let error = std::thread::spawn(move || {
            let nobody = rustix::process::Uid::from_raw(65_534);
            rustix::thread::set_thread_res_uid(nobody, nobody, nobody).unwrap();
            let found = held_by_root(&folder).expect("it is there");
            fs::read_dir(found).expect_err("it is not theirs")
        });
        assert_eq!(error.join().unwrap().kind(), ErrorKind::PermissionDenied);
    }
}
