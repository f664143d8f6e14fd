//! Who has what open, over all processes: files, working directories, programs, mapped files.

use super::files::{FileKind, OpenFile};
use crate::known::Raw;
use crate::reading::ProcessKey;
use crate::text::Text;
use std::collections::HashSet;

/// In which way a process holds something.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Way {
    /// Through a descriptor.
    Open,
    /// It works there.
    Directory,
    /// It takes it for `/`.
    Root,
    /// It runs it.
    Program,
    /// It is mapped into its memory.
    Mapped,
}

impl Way {
    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            Way::Open => "open",
            Way::Directory => "works there",
            Way::Root => "its root",
            Way::Program => "runs it",
            Way::Mapped => "mapped",
        }
    }
}

/// Something that a process holds.
#[derive(Clone, Debug, PartialEq)]
pub struct Hold {
    /// The process.
    pub key: ProcessKey,
    /// Its name.
    pub name: Text,
    /// Its user.
    pub user: Text,
    /// In which way.
    pub way: Way,
    /// What; the descriptor is −1 where it is held in another way.
    pub file: OpenFile,
    /// Number of the mount that it was reached through; statx(2) `stx_mnt_id`.
    pub mount: Raw,
    /// Device that a device node stands for, 0 for what is none.
    pub special: u64,
}

/// What is looked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// All that has a name.
    All,
    /// One file, by device and inode.
    File(u64, u64),
    /// A folder and all below it.
    Below(String),
    /// All on a mount, by its number, and its device for mapped files; for people the path.
    Mount(i64, u64, String),
    /// All on a device, and who has its node open.
    Device(u64),
    /// Removed files that are still open.
    Removed,
}

impl Place {
    /// Whether something is there.
    pub fn has(&self, hold: &Hold) -> bool {
        match self {
            Place::All => true,
            Place::File(device, inode) => hold.file.identity == (*device, *inode),
            Place::Below(path) => {
                let rest = hold.file.target.strip_prefix(path.trim_end_matches('/'));
                rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            }
            Place::Mount(number, device, _) => match hold.mount.value() {
                Some(mount) => mount == *number,
                None => hold.file.identity.0 == *device && hold.file.identity.1 != 0,
            },
            Place::Device(device) => {
                hold.special == *device || hold.file.identity.0 == *device && hold.file.identity.1 != 0
            }
            Place::Removed => hold.file.removed && hold.file.kind == FileKind::File,
        }
    }
}

/// Who holds what.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Holders {
    /// What was found, by process.
    pub list: Vec<Hold>,
    /// Processes that may not be looked into.
    pub denied: usize,
    /// Processes that were looked into.
    pub looked: usize,
    /// There is more than is kept.
    pub cut: bool,
}

impl Holders {
    /// Bytes that removed files still take, each file once whoever has it open.
    pub fn removed_bytes(&self) -> i64 {
        let mut seen = HashSet::new();
        self.list
            .iter()
            .map(|hold| &hold.file)
            .filter(|file| file.removed && file.kind == FileKind::File)
            .filter(|file| file.identity == (0, 0) || seen.insert(file.identity))
            .filter_map(|file| file.holds.value())
            .fold(0, i64::saturating_add)
    }

    /// Processes among them.
    pub fn processes(&self) -> usize {
        self.list.iter().map(|hold| hold.key).collect::<HashSet<_>>().len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hold(pid: i64, target: &str, identity: (u64, u64), removed: bool) -> Hold {
        Hold {
            key: ProcessKey { pid, start: 1 },
            name: "p".into(),
            user: "astro".into(),
            way: Way::Open,
            file: OpenFile {
                descriptor: 3,
                target: target.to_owned(),
                kind: FileKind::File,
                offset: Raw::ABSENT,
                size: Raw::new(10),
                holds: Raw::new(4096),
                identity,
                flags: Raw::ABSENT,
                removed,
            },
            mount: Raw::new(7),
            special: 0,
        }
    }

    #[test]
    fn places_take_in_what_is_there_and_nothing_beside_it() {
        let frame = hold(1, "/data/night/frame", (5, 9), false);
        assert!(
            Place::Below("/data/night/".to_owned()).has(&frame)
                && Place::Below("/data".to_owned()).has(&frame)
        );
        assert!(
            !Place::Below("/data/nig".to_owned()).has(&frame),
            "a name that begins alike is another folder"
        );
        assert!(Place::File(5, 9).has(&frame) && !Place::File(5, 8).has(&frame));
        assert!(
            Place::Mount(7, 0, String::new()).has(&frame) && !Place::Mount(8, 5, String::new()).has(&frame)
        );
        let mapped = Hold { mount: Raw::ABSENT, way: Way::Mapped, ..frame.clone() };
        assert!(Place::Mount(8, 5, String::new()).has(&mapped), "a mapping tells its device alone");
        assert!(Place::Device(5).has(&frame) && !Place::Removed.has(&frame));
    }

    #[test]
    fn a_removed_file_counts_once_for_all_who_have_it_open() {
        let list =
            vec![hold(1, "/a", (5, 9), true), hold(2, "/a", (5, 9), true), hold(2, "/b", (5, 10), true)];
        let holders = Holders { list, ..Holders::default() };
        assert_eq!((holders.removed_bytes(), holders.processes()), (8192, 2));
    }
}
