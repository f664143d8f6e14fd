//! Ways of writing to files that no write call shows: shared mappings of files, and asynchronous requests.

use crate::proc::pid::open_pid;
use crate::proc::{lines, words};
use rustix::fs::{RawDir, readlinkat};
use std::io::Read as _;
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;

/// Bytes of `/proc/PID/maps` that are looked at.
const LONGEST: u64 = 4 << 20;

/// Whether a process has a shared mapping of a file that it may write to, or rings for asynchronous requests; nothing
/// where that may not be seen. proc_pid_maps(5), proc_pid_fd(5).
pub fn otherwise(proc: &OwnedFd, pid: i64) -> Option<bool> {
    let mut text = vec![];
    let maps = open_pid(proc, pid, "maps").ok()?;
    std::fs::File::from(maps).take(LONGEST).read_to_end(&mut text).ok()?;
    if text.len() as u64 >= LONGEST {
        return Some(true);
    }
    Some(lines(&text).any(writes_a_file) || has_ring(proc, pid)?)
}

/// Whether a line of the file stands for a shared mapping of a file on a disk that may be written, or for the ring of
/// asynchronous requests of io_setup(2).
fn writes_a_file(line: &[u8]) -> bool {
    let mut words = words(line);
    let (_addresses, rights) = (words.next(), words.next());
    let (_offset, _device, _inode) = (words.next(), words.next(), words.next());
    let shared = rights.is_some_and(|rights| rights.get(1) == Some(&b'w') && rights.get(3) == Some(&b's'));
    // What has no file behind it on a disk: devices and memory.
    let memory = [&b"/dev/"[..], b"/memfd:", b"/SYSV", b"/run/", b"/anon_hugepage"];
    shared
        && words.next().is_some_and(|path| {
            path.starts_with(b"/") && !memory.iter().any(|prefix| path.starts_with(prefix))
        })
}

fn has_ring(proc: &OwnedFd, pid: i64) -> Option<bool> {
    let folder = open_pid(proc, pid, "fd").ok()?;
    let mut space = [MaybeUninit::uninit(); 4 << 10];
    let mut entries = RawDir::new(&folder, &mut space);
    while let Some(Ok(entry)) = entries.next() {
        let target = readlinkat(&folder, entry.file_name(), Vec::new());
        if target.is_ok_and(|target| target.to_bytes() == b"anon_inode:[io_uring]") {
            return Some(true);
        }
    }
    Some(false)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_shared_writable_mappings_of_files_write_otherwise() {
        for (line, writes) in [
            ("7f00-7f01 rw-s 00000000 fe:00 77 /data/plates.db", true),
            ("7f00-7f01 rw-s 00000000 00:0e 9 /[aio] (deleted)", true),
            ("7f00-7f01 rw-p 00000000 fe:00 77 /data/plates.db", false),
            ("7f00-7f01 r--s 00000000 fe:00 77 /data/plates.db", false),
            ("7f00-7f01 rw-s 00000000 00:01 5 /dev/zero (deleted)", false),
            ("7f00-7f01 rw-s 00000000 00:01 5 /memfd:frames (deleted)", false),
            ("7f00-7f01 rw-s 00000000 00:0e 0 anon_inode:[perf_event]", false),
            ("7f00-7f01 rw-p 00000000 00:00 0", false),
            ("", false),
        ] {
            assert_eq!(writes_a_file(line.as_bytes()), writes, "{line}");
        }
    }
}
