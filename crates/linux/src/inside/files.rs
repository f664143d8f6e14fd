//! Open files of a process; `proc_pid_fd(5)`, `proc_pid_fdinfo(5)`.

use super::process::{Inside, REMOVED, socket_inode, told_apart};
use crate::proc::{lines, number, words};
use dozor_core::inside::{FileKind, OpenFile};
use dozor_core::known::{Known, Raw};
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::clean;
use rustix::fs::{
    AtFlags, CWD, Dir, DirEntry, FileType, Mode, OFlags, Statx, StatxFlags, makedev, open, openat,
    readlinkat, statx,
};
use std::ffi::CStr;
use std::os::fd::{AsFd, OwnedFd};
use std::path::Path;

/// Bytes of a block as statx(2) counts them.
const BLOCK: u64 = 512;

impl Inside {
    /// Its open files by descriptor.
    pub fn open_files(&self) -> Known<Vec<OpenFile>> {
        let folder = |name: &str| {
            let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
            Ok(open(self.at(name)?, flags, Mode::empty())?)
        };
        let folders = folder("fd").and_then(|links| Ok((links, folder("fdinfo")?)));
        told_apart(folders.and_then(|(links, infos)| Ok((Dir::read_from(&links)?, links, infos)))).map(
            |(entries, links, infos)| {
                let mut buffer = vec![0; 4096];
                let one = |entry: rustix::io::Result<DirEntry>| {
                    let entry = entry.ok()?;
                    one_of(&links, &infos, entry.file_name(), &mut buffer)
                };
                let mut files: Vec<OpenFile> = entries.filter_map(one).collect();
                files.cold_sort_by_key(|file| file.descriptor);
                files
            },
        )
    }
}

/// One descriptor, by the open folders of links and of their accounts: ways that the kernel does not have to walk anew for
/// each of thousands.
fn one_of(links: &OwnedFd, infos: &OwnedFd, name: &CStr, buffer: &mut [u8]) -> Option<OpenFile> {
    let descriptor = number(name.to_bytes())?;
    let target = readlinkat(links, name, Vec::new()).ok()?;
    let (file, ..) = described_at(links, name, descriptor, target.to_bytes());
    let info = openat(infos, name, OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty()).ok();
    let length = info.and_then(|info| rustix::io::read(&info, &mut *buffer).ok()).unwrap_or(0);
    Some(with_info(file, &buffer[..length]))
}

/// The kind as far as the link says it.
pub(super) fn kind_by_name(target: &[u8]) -> Option<FileKind> {
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
fn look(folder: impl AsFd, path: impl rustix::path::Arg) -> Option<Statx> {
    let wanted = StatxFlags::TYPE
        | StatxFlags::SIZE
        | StatxFlags::BLOCKS
        | StatxFlags::INO
        | StatxFlags::NLINK
        | StatxFlags::MNT_ID;
    statx(folder, path, AtFlags::STATX_DONT_SYNC, wanted).ok()
}

/// What is behind a link: the file, the mount that it was reached through, and the device that a node stands for.
pub fn described(path: &Path, descriptor: i64, target: &[u8]) -> (OpenFile, Raw, u64) {
    described_at(CWD, path, descriptor, target)
}

fn described_at(
    folder: impl AsFd,
    path: impl rustix::path::Arg,
    descriptor: i64,
    target: &[u8],
) -> (OpenFile, Raw, u64) {
    // Sockets, pipes and what is the kernel's have no size; most descriptors of a large server are such.
    let by_name = kind_by_name(target);
    let seen = if matches!(by_name, None | Some(FileKind::Memory)) { look(folder, path) } else { None };
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
    // A file may really be called so; while it has a name it is not removed.
    let removed = kept.is_some() && seen.is_none_or(|seen| seen.stx_nlink == 0);
    let file = OpenFile {
        descriptor,
        target: clean(if removed { kept.unwrap_or(target) } else { target }),
        kind,
        offset: Raw::ABSENT,
        size: sized.and_then(|seen| i64::try_from(seen.stx_size).ok()).into(),
        holds: sized.and_then(|seen| i64::try_from(seen.stx_blocks.saturating_mul(BLOCK)).ok()).into(),
        identity: seen.map_or((0, 0), |seen| (makedev(seen.stx_dev_major, seen.stx_dev_minor), seen.stx_ino)),
        flags: Raw::ABSENT,
        removed,
    };
    let mount = seen.filter(|seen| seen.stx_mask & StatxFlags::MNT_ID.bits() != 0);
    let special = seen.filter(|_| kind == FileKind::Device);
    (
        file,
        mount.and_then(|seen| i64::try_from(seen.stx_mnt_id).ok()).into(),
        special.map_or(0, |seen| makedev(seen.stx_rdev_major, seen.stx_rdev_minor)),
    )
}

/// Puts together what link, file and fdinfo say.
pub fn open_file(descriptor: i64, path: &Path, target: &[u8], info: &[u8]) -> OpenFile {
    let (file, ..) = described(path, descriptor, target);
    with_info(file, info)
}

fn with_info(file: OpenFile, info: &[u8]) -> OpenFile {
    let field = |name: &[u8]| {
        lines(info).find_map(|line| {
            let mut words = words(line);
            (words.next()? == name).then(|| words.next()).flatten()
        })
    };
    let octal = |word: &[u8]| i64::from_str_radix(std::str::from_utf8(word).ok()?, 8).ok();
    OpenFile {
        offset: field(b"pos:").and_then(number).into(),
        flags: field(b"flags:").and_then(octal).into(),
        ..file
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Roots;
    use crate::proc::read_file;
    use dozor_core::known::Known;
    use dozor_core::reading::ProcessKey;
    use std::io::{Seek as _, SeekFrom, Write as _};
    use std::os::fd::AsRawFd as _;

    #[test]
    fn an_open_file_is_listed_with_its_offset_and_its_removal() {
        let mut file = tempfile::tempfile().expect("a file without a name");
        file.write_all(&[7; 5000])
            .and_then(|()| file.seek(SeekFrom::Start(1234)).map(drop))
            .expect("writing");
        let (ours, theirs) = std::os::unix::net::UnixStream::pair().expect("sockets");
        let stat = read_file(Path::new("/proc/self/stat")).expect("our own file");
        let start = crate::proc::pid_stat::parse(&stat, 1).expect("a whole line").start_ticks;
        let key = ProcessKey { pid: i64::from(std::process::id()), start };
        let Known::Value(files) = Inside::of(&Roots::default(), key).open_files() else {
            panic!("our own files")
        };
        let find = |fd: i32| files.iter().find(|open| open.descriptor == i64::from(fd)).expect("the file");
        let found = find(file.as_raw_fd());
        assert_eq!((found.offset, found.kind, found.removed), (Raw::new(1234), FileKind::File, true));
        assert_eq!((found.size, found.mode()), (Raw::new(5000), "read, write"));
        assert!(matches!(find(ours.as_raw_fd()).kind, FileKind::Socket(_)));
        drop((ours, theirs));
    }
}
