//! Recorders of Dozor that run on this machine, and the folders that they write into.
//!
//! A recorder holds the lock of its folder: `/proc/PID/fd` leads to it (proc_pid_fd(5)), `/proc/PID/fdinfo` says that it is
//! held (proc_pid_fdinfo(5)). Only what nobody but root and oneself can have made is believed: the process, its program,
//! the lock, the folder and every folder above it. Nobody else can put a made-up past before somebody's eyes.

use crate::files;
use std::fs;
use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// The folder that a recorder of this machine writes segments into now: one whose open files can be seen, else the
/// service's, which need not be open to everybody. Where only such are found as are not believed, one is named with the
/// reason.
pub fn running(proc: &Path) -> Result<Option<PathBuf>, String> {
    let (found, refused) = folders(proc);
    let believed = found.into_iter().next().or_else(|| held_by_root(Path::new(USUAL), proc));
    match (believed, refused) {
        (None, Some(reason)) => Err(reason),
        (believed, _) => Ok(believed),
    }
}

/// Folders that recorders write segments into now, and why one that seems to be such is not believed.
pub fn folders(proc: &Path) -> (Vec<PathBuf>, Option<String>) {
    /// A recorder opens its lock among the first.
    const DESCRIPTORS: usize = 256;
    let own = std::process::id().to_string();
    let me = rustix::process::geteuid().as_raw();
    let (mut found, mut refused) = (vec![], None);
    let Ok(entries) = fs::read_dir(proc) else { return (found, refused) };
    for entry in entries.flatten() {
        let (name, process) = (entry.file_name(), entry.path());
        let is_other =
            name.to_str().is_some_and(|name| name.bytes().all(|byte| byte.is_ascii_digit()) && name != own);
        let is_dozor = || fs::read(process.join("comm")).is_ok_and(|comm| comm.trim_ascii_end() == b"dozor");
        let trusted = || entry.metadata().is_ok_and(|data| data.uid() == 0 || data.uid() == me);
        if !is_other || !trusted() || !is_dozor() {
            continue;
        }
        for fd in fs::read_dir(process.join("fd")).into_iter().flatten().flatten().take(DESCRIPTORS) {
            let Ok(file) = fs::read_link(fd.path()) else { continue };
            // The lock, and no file that was merely opened for reading.
            let Some(folder) = file.parent().filter(|_| file.file_name().is_some_and(|name| name == LOCK))
            else {
                continue;
            };
            if found.iter().any(|other| other == folder) {
                continue;
            }
            let held =
                fs::read(process.join("fdinfo").join(fd.file_name())).is_ok_and(|info| says_held(&info));
            let reason = if !files::is_own_program(&process.join("exe")) {
                Some("its program is one that others can have chosen".to_owned())
            } else if !held {
                Some("it does not hold the lock".to_owned())
            } else {
                unbelievable(folder)
            };
            match reason {
                None => found.push(folder.to_owned()),
                Some(reason) => {
                    let (folder, pid) = (folder.display(), name.to_string_lossy());
                    let said = format!("{folder}: PID {pid} claims to record there: {reason}");
                    refused.get_or_insert(dozor_core::text::clean(said.as_bytes()));
                }
            }
        }
    }
    (found, refused)
}

/// Whether a descriptor holds a lock for writing.
fn says_held(fdinfo: &[u8]) -> bool {
    let lines = fdinfo.split(|byte| *byte == b'\n').filter_map(|line| std::str::from_utf8(line).ok());
    lines.filter_map(|line| line.strip_prefix("lock:")).any(|lock| {
        let words: Vec<&str> = lock.split_whitespace().collect();
        matches!(words[..], [_, "FLOCK", _, "WRITE", ..])
    })
}

/// Why the lock of a folder, or the folder, could have been made by somebody else.
fn unbelievable(folder: &Path) -> Option<String> {
    let me = rustix::process::geteuid().as_raw();
    match fs::symlink_metadata(folder.join(LOCK)) {
        Ok(lock)
            if lock.is_file() && [0, me].contains(&lock.uid()) && !files::is_writable_for_others(&lock) =>
        {
            files::changed_by_others(folder)
        }
        Ok(_) => Some("its lock is not root's or one's own".to_owned()),
        Err(error) => Some(dozor_core::text::without_number(&error)),
    }
}

/// The folder that the service writes into.
const USUAL: &str = "/var/lib/dozor";

/// A folder of root's, where a recorder holds it now: the open files of root's processes are not everybody's to see, the
/// locks of the machine are (proc_locks(5)). One that may not be looked into is given as well: whoever looks then learns
/// why not.
fn held_by_root(folder: &Path, proc: &Path) -> Option<PathBuf> {
    let of_root = fs::metadata(folder).is_ok_and(|data| data.uid() == 0);
    let held = || match fs::symlink_metadata(folder.join(LOCK)) {
        Ok(lock) => unbelievable(folder).is_none() && is_locked(proc, lock.ino()),
        Err(error) => error.kind() == ErrorKind::PermissionDenied,
    };
    (of_root && held()).then(|| folder.to_owned())
}

/// Whether somebody holds a lock for writing on a file with this number.
fn is_locked(proc: &Path, inode: u64) -> bool {
    let locks = fs::read(proc.join("locks")).unwrap_or_default();
    String::from_utf8_lossy(&locks).lines().any(|line| {
        let words: Vec<&str> = line.split_whitespace().collect();
        let file = words.get(5).and_then(|file| file.rsplit(':').next());
        matches!(words[..], [_, "FLOCK", _, "WRITE", ..]) && file.is_some_and(|n| n.parse() == Ok(inode))
    })
}

/// The file that a recorder keeps open in its folder.
pub const LOCK: &str = ".recorder";

#[cfg(test)]
mod tests {
    use super::*;
    use rustix::fs::{FlockOperation, flock};
    use std::os::unix::fs::PermissionsExt as _;

    #[test]
    fn a_folder_that_may_not_be_looked_into_is_told_from_one_that_nobody_holds() {
        let held_by_root = |folder: &Path| held_by_root(folder, Path::new("/proc"));
        let scratch = tempfile::tempdir().unwrap();
        let folder = scratch.path().join("recordings");
        fs::create_dir(&folder).unwrap();
        assert!(held_by_root(&folder).is_none(), "nobody has ever recorded there");
        fs::write(folder.join(LOCK), "1\n").unwrap();
        fs::set_permissions(folder.join(LOCK), fs::Permissions::from_mode(0o600)).unwrap();
        assert!(held_by_root(&folder).is_none(), "whoever did is gone");
        let lock = fs::File::open(folder.join(LOCK)).unwrap();
        flock(&lock, FlockOperation::NonBlockingLockExclusive).unwrap();
        let (held, looked) = (held_by_root(&folder), rustix::process::geteuid().is_root());
        assert_eq!(held, looked.then(|| folder.clone()), "only root's is believed");
        if !looked {
            return;
        }
        // Somebody else, in a thread of its own: the call changes that thread alone.
        let as_nobody = |folder: PathBuf| {
            std::thread::spawn(move || {
                let nobody = rustix::process::Uid::from_raw(65_534);
                rustix::thread::set_thread_res_uid(nobody, nobody, nobody).unwrap();
                (super::held_by_root(&folder, Path::new("/proc")), fs::read_dir(&folder).map(|_| ()))
            })
            .join()
            .unwrap()
        };
        fs::set_permissions(scratch.path(), fs::Permissions::from_mode(0o711)).unwrap();
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o755)).unwrap();
        assert_eq!(as_nobody(folder.clone()).0, Some(folder.clone()), "the lock need not be readable");
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o700)).unwrap();
        let (found, looked) = as_nobody(folder.clone());
        assert_eq!((found, looked.unwrap_err().kind()), (Some(folder), ErrorKind::PermissionDenied));
    }

    #[test]
    fn a_lock_is_held_where_the_kernel_says_so() {
        let scratch = tempfile::tempdir().unwrap();
        let file = fs::File::create(scratch.path().join("lock")).unwrap();
        let info = || {
            let fd = std::os::fd::AsRawFd::as_raw_fd(&file);
            fs::read(format!("/proc/self/fdinfo/{fd}")).unwrap()
        };
        assert!(!says_held(&info()));
        flock(&file, FlockOperation::NonBlockingLockShared).unwrap();
        assert!(!says_held(&info()), "a reader's lock is no recorder's");
        flock(&file, FlockOperation::NonBlockingLockExclusive).unwrap();
        assert!(says_held(&info()));
        assert!(is_locked(Path::new("/proc"), file.metadata().unwrap().ino()));
    }
}
