//! Who holds a socket: processes by the inodes that their descriptors lead to; proc_pid_fd(5).

use super::members::Member;
use crate::proc::number;
use dozor_core::reading::ProcessKey;
use rustix::fs::{CWD, Mode, OFlags, RawDir, openat, readlinkat};
use std::collections::{HashMap, HashSet};
use std::mem::MaybeUninit;
use std::path::{Path, PathBuf};

/// Holders of sockets by inode. Only the inodes that are keys are looked for.
pub type Holders = HashMap<u32, Vec<ProcessKey>>;

/// Looks for the holders of sockets among some processes.
pub fn look<'a>(proc: &Path, among: impl Iterator<Item = &'a Member>, holders: &mut Holders) {
    if holders.is_empty() {
        return;
    }
    for member in among.filter(|member| member.base.kernel.value() != Some(1)) {
        sockets_of(proc, member.key.pid, |_, inode| {
            if let Some(found) = holders.get_mut(&inode)
                && found.last() != Some(&member.key)
            {
                found.push(member.key);
            }
        });
    }
}

/// The one of several holders that bytes are counted for: of those that ran, else of all, the youngest, since who serves a
/// connection is mostly a child of who accepted it.
pub fn of_several(holders: &[ProcessKey], ran: &HashSet<ProcessKey>) -> Option<ProcessKey> {
    holders.iter().copied().max_by_key(|key| (ran.contains(key), key.start, key.pid))
}

/// Calls `each` with the descriptor and the inode of every socket that a process holds.
fn sockets_of(proc: &Path, pid: i64, mut each: impl FnMut(i32, u32)) {
    let path: PathBuf = proc.join(pid.to_string()).join("fd");
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let Ok(folder) = openat(CWD, &path, flags, Mode::empty()) else { return };
    let mut space = [MaybeUninit::uninit(); 8 << 10];
    let mut entries = RawDir::new(&folder, &mut space);
    let mut target = Vec::with_capacity(64);
    while let Some(Ok(entry)) = entries.next() {
        target.clear();
        let Ok(link) = readlinkat(&folder, entry.file_name(), target) else {
            target = Vec::with_capacity(64);
            continue;
        };
        let inode =
            link.to_bytes().strip_prefix(b"socket:[").and_then(|rest| number(rest.strip_suffix(b"]")?));
        let descriptor = number(entry.file_name().to_bytes()).and_then(|number| i32::try_from(number).ok());
        if let (Some(descriptor), Some(inode)) =
            (descriptor, inode.and_then(|inode| u32::try_from(inode).ok()))
        {
            each(descriptor, inode);
        }
        target = link.into_bytes();
    }
}
