//! Open files: what they are, how fast a program moves through them, and how far it has come.

use super::Look;
use crate::known::{Known, Raw};
use crate::units::{long_bytes, long_duration};
use std::collections::HashMap;

/// Kinds of open files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum FileKind {
    /// A file with a name.
    File,
    /// A folder.
    Folder,
    /// A device.
    Device,
    /// A socket, with its inode.
    Socket(u64),
    /// A pipe or a FIFO.
    Pipe,
    /// Memory that is shared like a file: memfd_create(2), shm_open(3).
    Memory,
    /// Something of the kernel's without a name: event, timer, watch.
    Kernel,
}

impl FileKind {
    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            FileKind::File => "file",
            FileKind::Folder => "folder",
            FileKind::Device => "device",
            FileKind::Socket(_) => "socket",
            FileKind::Pipe => "pipe",
            FileKind::Memory => "memory",
            FileKind::Kernel => "kernel",
        }
    }
}

/// An open file; `proc_pid_fd(5)`, `proc_pid_fdinfo(5)`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenFile {
    /// Descriptor.
    pub descriptor: i64,
    /// What it leads to, without what the kernel appends to a removed file.
    pub target: String,
    /// Kind of thing.
    pub kind: FileKind,
    /// Place of the next read or write.
    pub offset: Raw,
    /// Size of the file; absent for what has none.
    pub size: Raw,
    /// Bytes that it takes on its file system.
    pub holds: Raw,
    /// Device and inode, which tell files apart whatever they are called; zeros where that is not known.
    pub identity: (u64, u64),
    /// Flags as in open(2).
    pub flags: Raw,
    /// The file was removed while it is open.
    pub removed: bool,
}

/// Flags of open(2) on Linux.
const ACCESS: i64 = 0o3;
const APPEND: i64 = 0o2000;
const NONBLOCK: i64 = 0o4000;
const PATH: i64 = 0o10_000_000;

impl OpenFile {
    /// How it may be used, in words.
    pub fn mode(&self) -> &'static str {
        let Some(flags) = self.flags.value() else { return "" };
        if flags & PATH != 0 {
            return "as a place";
        }
        match (flags & ACCESS, flags & APPEND != 0) {
            (0, _) => "read",
            (1, true) => "append",
            (1, false) => "write",
            (_, true) => "read, append",
            (_, false) => "read, write",
        }
    }

    /// Whether it may be written through this descriptor.
    pub fn writes(&self) -> bool {
        self.flags.value().is_some_and(|flags| flags & PATH == 0 && flags & ACCESS != 0)
    }

    /// Whether calls on it do not wait.
    pub fn is_nonblocking(&self) -> bool {
        self.flags.value().is_some_and(|flags| flags & NONBLOCK != 0)
    }

    /// How far it is through the file, 0 to 1, where that means something: what only grows by what is written is always at
    /// its end.
    pub fn share_done(&self) -> Option<f64> {
        let (offset, size) = (self.offset.value()?, self.size.value().filter(|size| *size > 0)?);
        let at_its_end = self.writes() && offset >= size;
        (self.kind == FileKind::File && !at_its_end && offset > 0)
            .then(|| (offset as f64 / size as f64).min(1.0))
    }
}

/// Bytes a second that the moving offset of each descriptor shows; absent where it was not open before, is another file or
/// has no offset.
pub fn speeds(before: &Look<Known<Vec<OpenFile>>>, now: &Look<Known<Vec<OpenFile>>>) -> HashMap<i64, f64> {
    let (Known::Value(old), Known::Value(new)) = (&before.seen, &now.seen) else { return HashMap::new() };
    let Some(seconds) = now.seconds_since(before) else { return HashMap::new() };
    let old: HashMap<i64, &OpenFile> = old.iter().map(|file| (file.descriptor, file)).collect();
    let speed = |file: &OpenFile| {
        let other = old.get(&file.descriptor)?;
        let same = other.target == file.target && other.identity == file.identity && other.kind == file.kind;
        let moved = file.offset.value()?.checked_sub(other.offset.value()?)?;
        // Whoever goes back in a file begins anew; that is no speed.
        (same && moved >= 0).then(|| (file.descriptor, moved as f64 / seconds))
    };
    new.iter()
        .filter(|file| matches!(file.kind, FileKind::File | FileKind::Device))
        .filter_map(speed)
        .collect()
}

/// How far it is and when it will be done, in words; empty where nothing can be said.
pub fn progress(file: &OpenFile, speed: Option<f64>) -> String {
    let (Some(offset), Some(size)) = (file.offset.value(), file.size.value()) else { return String::new() };
    let Some(_) = file.share_done() else { return String::new() };
    let place = format!("at {} of {}", long_bytes(offset as f64), long_bytes(size as f64));
    let left = (size - offset).max(0) as f64;
    match speed.filter(|speed| *speed >= 1.0) {
        Some(_) if left <= 0.0 => format!("{place}, at its end"),
        Some(speed) => format!("{place}, done in about {}", long_duration((left / speed).max(1.0).round())),
        None => place,
    }
}

/// Bytes that removed files hold, each file once.
pub fn held_by_removed<'a>(files: impl IntoIterator<Item = &'a OpenFile>) -> i64 {
    let mut seen = std::collections::HashSet::new();
    files
        .into_iter()
        .filter(|file| file.removed && file.kind == FileKind::File)
        .filter(|file| file.identity == (0, 0) || seen.insert(file.identity))
        .filter_map(|file| file.holds.value())
        .fold(0, i64::saturating_add)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(descriptor: i64, offset: i64, flags: i64) -> OpenFile {
        OpenFile {
            descriptor,
            target: "/data/frame".to_owned(),
            kind: FileKind::File,
            offset: Raw::new(offset),
            size: Raw::new(4_000_000),
            holds: Raw::new(4_000_000),
            identity: (1, 7),
            flags: Raw::new(flags),
            removed: false,
        }
    }

    #[test]
    fn a_moving_offset_is_a_speed_and_one_that_goes_back_is_none() {
        let look = |at_ns, files| Look { at_ns, seen: Known::Value(files) };
        let before = look(0, vec![file(3, 0, 0), file(4, 900, 0), file(5, 1, 0)]);
        let other = OpenFile { identity: (1, 8), ..file(5, 500, 0) };
        let now = look(2_000_000_000, vec![file(3, 2_000_000, 0), file(4, 100, 0), other, file(6, 9, 0)]);
        assert_eq!(speeds(&before, &now), HashMap::from([(3, 1_000_000.0)]));
        assert!(speeds(&now, &before).is_empty(), "time that goes back gives nothing");
    }

    #[test]
    fn what_is_read_gets_done_and_what_is_only_written_on_has_no_end() {
        let reading = file(3, 1_000_000, 0);
        assert_eq!(progress(&reading, Some(1_000_000.0)), "at 977 KiB of 3.8 MiB, done in about 3 s");
        assert_eq!(progress(&reading, Some(0.0)), "at 977 KiB of 3.8 MiB");
        let growing = file(3, 4_000_000, 1);
        assert_eq!(progress(&growing, Some(1e6)), "", "its end goes on with it");
        assert_eq!(progress(&file(3, 0, 0), None), "", "at the beginning it has done nothing");
    }

    #[test]
    fn a_removed_file_counts_once_however_often_it_is_open() {
        let removed = |descriptor| OpenFile { removed: true, ..file(descriptor, 0, 0) };
        assert_eq!(held_by_removed(&[removed(3), removed(4), file(5, 0, 0)]), 4_000_000);
    }

    #[test]
    fn modes_are_words() {
        let modes = [0, 1, 2, 0o2001, 0o10_000_000].map(|flags| file(3, 0, flags).mode());
        assert_eq!(modes, ["read", "write", "read, write", "append", "as a place"]);
    }
}
