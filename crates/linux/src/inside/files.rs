//! Open files of a process; `proc_pid_fd(5)`, `proc_pid_fdinfo(5)`.

use super::{Inside, Peers, REMOVED, told_apart};
use crate::proc::{lines, number, read_file, words};
use dozor_core::inside::{FileKind, OpenFile};
use dozor_core::known::{Known, Raw};
use dozor_core::text::{Text, clean};
use rustix::fs::{AtFlags, CWD, FileType, Statx, StatxFlags, makedev, statx};
use std::path::Path;

/// Bytes of a block as statx(2) counts them.
const BLOCK: u64 = 512;

impl Inside {
    /// Its open files by descriptor.
    pub fn open_files(&self) -> Known<Vec<OpenFile>> {
        told_apart(self.at("fd").and_then(std::fs::read_dir)).map(|entries| {
            let mut files: Vec<OpenFile> =
                entries.flatten().filter_map(|entry| self.open_file(&entry.path())).collect();
            files.sort_by_key(|file| file.descriptor);
            files
        })
    }

    fn open_file(&self, path: &Path) -> Option<OpenFile> {
        let descriptor = number(path.file_name()?.as_encoded_bytes())?;
        let target = std::fs::read_link(path).ok()?;
        let info =
            self.at(&format!("fdinfo/{descriptor}")).and_then(|path| read_file(&path)).unwrap_or_default();
        Some(open_file(descriptor, path, target.as_os_str().as_encoded_bytes(), &info))
    }

    /// What a descriptor leads to, in a word for people: the path of a file, the other side of a connection.
    pub(super) fn name_of_descriptor(&self, descriptor: i64, peers: &mut Peers) -> Option<Text> {
        let path = self.at(&format!("fd/{descriptor}")).ok()?;
        let target = std::fs::read_link(path).ok()?;
        let target = target.as_os_str().as_encoded_bytes();
        match kind_by_name(target) {
            Some(FileKind::Socket(inode)) => Some(peers.name(self, inode)),
            Some(FileKind::Pipe) => Some("a pipe".into()),
            Some(FileKind::Kernel) => {
                let name = clean(target);
                let name = name.strip_prefix("anon_inode:").unwrap_or(&name);
                Some(name.trim_matches(['[', ']']).into())
            }
            _ => Some(clean(target.strip_suffix(REMOVED).unwrap_or(target)).into()),
        }
    }
}

/// The inode of a socket from what its link says: `socket:[123]`.
pub fn socket_inode(target: &[u8]) -> Option<u64> {
    let inode = number(target.strip_prefix(b"socket:[")?.strip_suffix(b"]")?)?;
    u64::try_from(inode).ok()
}

/// The kind as far as the link says it.
fn kind_by_name(target: &[u8]) -> Option<FileKind> {
    if let Some(inode) = socket_inode(target) {
        Some(FileKind::Socket(inode))
    } else if target.starts_with(b"pipe:[") {
        Some(FileKind::Pipe)
    } else if target.starts_with(b"/memfd:")
        || target.starts_with(b"/dev/shm/")
        || target.starts_with(b"/SYSV")
    {
        Some(FileKind::Memory)
    } else if target.starts_with(b"/") {
        None
    } else {
        Some(FileKind::Kernel)
    }
}

/// What the file behind a link is, without asking a file server: its answer might never come.
fn look(path: &Path) -> Option<Statx> {
    let flags = AtFlags::STATX_DONT_SYNC;
    statx(CWD, path, flags, StatxFlags::TYPE | StatxFlags::SIZE | StatxFlags::BLOCKS | StatxFlags::INO).ok()
}

/// Puts together what link, file and fdinfo say.
pub fn open_file(descriptor: i64, path: &Path, target: &[u8], info: &[u8]) -> OpenFile {
    let field = |name: &[u8]| {
        lines(info).find_map(|line| {
            let mut words = words(line);
            (words.next()? == name).then(|| words.next()).flatten()
        })
    };
    let octal = |word: &[u8]| i64::from_str_radix(std::str::from_utf8(word).ok()?, 8).ok();
    // Sockets, pipes and what is the kernel's have no size; most descriptors of a large server are such.
    let by_name = kind_by_name(target);
    let seen = if matches!(by_name, None | Some(FileKind::Memory)) { look(path) } else { None };
    let kind = by_name.unwrap_or_else(|| match &seen {
        Some(seen) => match FileType::from_raw_mode(u32::from(seen.stx_mode)) {
            FileType::Directory => FileKind::Folder,
            FileType::CharacterDevice | FileType::BlockDevice => FileKind::Device,
            FileType::Fifo => FileKind::Pipe,
            _ => FileKind::File,
        },
        None if target.starts_with(b"/dev/") => FileKind::Device,
        None => FileKind::File,
    });
    let sized = seen.filter(|_| matches!(kind, FileKind::File | FileKind::Memory));
    let kept = target.strip_suffix(REMOVED);
    // A file may really be called so; then it still has a name.
    let removed = kept.is_some()
        && seen.is_none_or(|_| !Path::new(std::ffi::OsStr::new(&*String::from_utf8_lossy(target))).exists());
    OpenFile {
        descriptor,
        target: clean(if removed { kept.unwrap_or(target) } else { target }),
        kind,
        offset: field(b"pos:").and_then(number).into(),
        size: sized.and_then(|seen| i64::try_from(seen.stx_size).ok()).into(),
        holds: sized.and_then(|seen| i64::try_from(seen.stx_blocks.saturating_mul(BLOCK)).ok()).into(),
        identity: seen.map_or((0, 0), |seen| (makedev(seen.stx_dev_major, seen.stx_dev_minor), seen.stx_ino)),
        flags: Raw::from(field(b"flags:").and_then(octal)),
        removed,
    }
}
