//! Files that somebody else may have prepared: a link to what only root may write, a pipe that never answers, a device.
//!
//! Reading takes regular files only and never waits for one to be opened (open(2): `O_NONBLOCK`, `O_NOCTTY`). Writing
//! makes a new file (`O_EXCL`) or takes one of one's own, and never goes through a link (`O_NOFOLLOW`).

use rustix::fs::{FlockOperation, Mode, OFlags, flock};
use std::fs::{self, File, FileType, Metadata, Permissions};
use std::io::{self, ErrorKind, Read as _, Write as _};
use std::os::unix::fs::{
    DirBuilderExt as _, FileTypeExt as _, MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _,
};
use std::path::{Path, PathBuf};

/// A file for its owner alone.
pub const PRIVATE: u32 = 0o600;
const FOLDER: u32 = 0o700;

/// What stands in the place of a file, in words; none where it is one.
pub(crate) fn kind_of(kind: FileType) -> Option<&'static str> {
    Some(if kind.is_file() {
        return None;
    } else if kind.is_dir() {
        "it is a folder, not a file"
    } else if kind.is_fifo() {
        "it is a named pipe, not a file"
    } else if kind.is_socket() {
        "it is a socket, not a file"
    } else if kind.is_symlink() {
        "it is a link, not a file"
    } else {
        "it is a device, not a file"
    })
}

fn refused(reason: impl Into<String>) -> io::Error {
    io::Error::new(ErrorKind::InvalidInput, reason.into())
}

/// The kind of a file that was opened, or that is about to be.
fn regular(data: &Metadata) -> io::Result<()> {
    kind_of(data.file_type()).map_or(Ok(()), |kind| Err(refused(kind)))
}

fn flags(extra: OFlags) -> i32 {
    // Not waiting for the other end of a pipe, not taking a terminal.
    (OFlags::NONBLOCK | OFlags::NOCTTY | extra).bits() as i32
}

/// Opens a regular file for reading; anything else is an error at once, and is not even opened where that can be known.
pub fn open(path: &Path) -> io::Result<File> {
    regular(&fs::metadata(path)?)?;
    let file = File::options().read(true).custom_flags(flags(OFlags::empty())).open(path)?;
    regular(&file.metadata()?)?;
    Ok(file)
}

/// As [`open`], but a link is an error as well.
pub fn open_no_link(path: &Path) -> io::Result<File> {
    regular(&fs::symlink_metadata(path)?)?;
    let file = File::options().read(true).custom_flags(flags(OFlags::NOFOLLOW)).open(path)?;
    regular(&file.metadata()?)?;
    Ok(file)
}

/// Reads a regular file of at most so many bytes as text; nothing where it is not there. What is wrong is said in words.
pub fn read_text(path: &Path, most: u64) -> Result<Option<String>, String> {
    let words = |error: io::Error| dozor_core::text::without_number(&error);
    let file = match open(path) {
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        opened => opened.map_err(words)?,
    };
    text_of(file, most).map(Some)
}

/// What is in an open file of at most so many bytes, as text.
pub fn text_of(file: File, most: u64) -> Result<String, String> {
    let mut bytes = vec![];
    // A file of /proc has no length, and one may grow while it is read.
    let read = file.take(most + 1).read_to_end(&mut bytes);
    read.map_err(|error| dozor_core::text::without_number(&error))?;
    if bytes.len() as u64 > most {
        return Err(format!("it is larger than {}", dozor_core::units::long_bytes(most as f64)));
    }
    String::from_utf8(bytes).map_err(|_| "it is no text in UTF-8".to_owned())
}

/// Makes a new file for reading and writing, with exactly these rights. One that is there, also a link that leads nowhere,
/// is `AlreadyExists`.
pub fn create(path: &Path, mode: u32) -> io::Result<File> {
    let mut options = File::options();
    let options = options.read(true).write(true).create_new(true).mode(mode);
    let file = options.custom_flags(flags(OFlags::NOFOLLOW)).open(path)?;
    // Whatever the mask of the process takes away or leaves.
    file.set_permissions(Permissions::from_mode(mode))?;
    Ok(file)
}

/// Opens a file of one's own for reading and writing: regular, no link, with no second name, and nobody else's.
pub fn open_own(path: &Path) -> io::Result<File> {
    regular(&fs::symlink_metadata(path)?)?;
    let mut options = File::options();
    let file = options.read(true).write(true).custom_flags(flags(OFlags::NOFOLLOW)).open(path)?;
    let data = file.metadata()?;
    regular(&data)?;
    if data.uid() != me() {
        return Err(refused("it belongs to another user: it is not written into"));
    }
    if data.nlink() > 1 {
        return Err(refused("it has a second name: it is not written into"));
    }
    Ok(file)
}

/// Opens a file of one's own, or makes a new one that is private.
pub fn open_or_create_own(path: &Path, mode: u32) -> io::Result<File> {
    match create(path, mode) {
        Err(error) if error.kind() == ErrorKind::AlreadyExists => open_own(path),
        other => other,
    }
}

/// Makes a folder, and those above it that are not there, for oneself alone.
pub fn create_folder(path: &Path) -> io::Result<()> {
    fs::DirBuilder::new().recursive(true).mode(FOLDER).create(path)
}

/// The rights of files in a folder, and the group that they are for: a folder that is open to its group and to nobody
/// else has files for its group, any other has private ones.
pub fn rights_in(folder: &Path) -> (u32, Option<u32>) {
    match fs::metadata(folder) {
        Ok(data) if data.mode() & 0o057 == 0o050 => (0o640, Some(data.gid())),
        _ => (PRIVATE, None),
    }
}

/// Gives a file of one's own to a group, where that is permitted.
pub fn give_to_group(file: &File, group: Option<u32>) {
    let Some(group) = group.filter(|group| file.metadata().is_ok_and(|data| data.gid() != *group)) else {
        return;
    };
    if rustix::fs::fchown(file, None, Some(rustix::process::Gid::from_raw(group))).is_err() {
        // Then for another group than is meant: better for none.
        let _ = rustix::fs::fchmod(file, Mode::from_bits_truncate(PRIVATE));
    }
}

/// Writes a file as a whole: a crash leaves the old one or the new one. It is made under a name that nobody can foresee; a
/// link of one's own is followed, what others could have put there is not.
pub fn replace(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut beside = Beside::create(path)?;
    beside.temporary.write_all(bytes)?;
    beside.finish()
}

/// How the names of files begin and end that are not whole yet.
const BESIDE: (&str, &str) = (".dozor-", ".unfinished");

/// Removes what one of ours left that was killed before its file was whole: nobody has it locked any more.
fn remove_left_behind(folder: &Path) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let name = name.as_encoded_bytes();
        let is_beside = name.starts_with(BESIDE.0.as_bytes()) && name.ends_with(BESIDE.1.as_bytes());
        if !is_beside || !entry.file_type().is_ok_and(|kind| kind.is_file()) {
            continue;
        }
        let Ok(file) = open_own(&entry.path()) else { continue };
        if flock(&file, FlockOperation::NonBlockingLockExclusive).is_ok() {
            let _ = fs::remove_file(entry.path());
        }
    }
}

/// A file that takes the place of another one when it is whole; else it goes.
pub struct Beside {
    temporary: tempfile::NamedTempFile,
    path: PathBuf,
    mode: u32,
}

impl Beside {
    /// Begins one for a path; see [`replace`].
    pub fn create(path: &Path) -> io::Result<Beside> {
        let path = own_target(path)?;
        let folder = path.parent().ok_or_else(|| refused("it is no file"))?;
        let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
        // Before anything is made: not even a folder in somebody else's home.
        if let Some(reason) = told_of_others(folder, 0) {
            return Err(refused(reason));
        }
        create_folder(folder)?;
        let mode = match fs::symlink_metadata(&path) {
            Ok(data) => {
                regular(&data)?;
                if data.uid() != me() {
                    return Err(refused("it belongs to another user: it is not written into"));
                }
                data.mode() & 0o777
            }
            Err(_) => PRIVATE,
        };
        remove_left_behind(folder);
        let temporary = tempfile::Builder::new().prefix(BESIDE.0).suffix(BESIDE.1).tempfile_in(folder)?;
        // As long as somebody writes it.
        let _ = flock(temporary.as_file(), FlockOperation::NonBlockingLockExclusive);
        Ok(Beside { temporary, path, mode })
    }

    /// What is written into.
    pub fn file(&self) -> &File {
        self.temporary.as_file()
    }

    /// It is whole: it takes its place.
    pub fn finish(self) -> io::Result<()> {
        self.temporary.as_file().set_permissions(Permissions::from_mode(self.mode))?;
        self.temporary.as_file().sync_all()?;
        self.temporary.persist(&self.path).map_err(|error| error.error)?;
        Ok(())
    }
}

/// Where a path leads to: itself, or through a link of root's or one's own. One of somebody else is an error.
pub fn own_target(path: &Path) -> io::Result<PathBuf> {
    // Without a slash at the end, which would look behind the link.
    let path: &Path = &path.components().collect::<PathBuf>();
    match fs::symlink_metadata(path) {
        Ok(data) if data.is_symlink() && ![0, me()].contains(&data.uid()) => {
            Err(refused("it is a link of another user: it is not followed"))
        }
        Ok(data) if data.is_symlink() => fs::canonicalize(path),
        _ => Ok(path.to_owned()),
    }
}

fn me() -> u32 {
    rustix::process::geteuid().as_raw()
}

/// Why somebody else than oneself and root could change what is in a folder, or put another one in its place; none where
/// nobody can. Of a folder that is not there yet, those above it.
pub fn changed_by_others(folder: &Path) -> Option<String> {
    told_of_others(folder, 1)
}

/// The same, where folders from so many levels up on may be sticky: nobody moves there what others have in it. A file under a
/// name that nobody can foresee is safe in such a folder itself, as in `/tmp`.
fn told_of_others(folder: &Path, sticky_from: usize) -> Option<String> {
    let there = folder.ancestors().find(|part| fs::symlink_metadata(part).is_ok()).unwrap_or(Path::new("."));
    let whole = match fs::canonicalize(there) {
        Ok(whole) => whole,
        Err(error) => return Some(dozor_core::text::without_number(&error)),
    };
    for (above, part) in whole.ancestors().enumerate() {
        let data = match fs::symlink_metadata(part) {
            Ok(data) => data,
            Err(error) => return Some(dozor_core::text::without_number(&error)),
        };
        let sticky = above >= sticky_from && data.mode() & 0o1000 != 0;
        let why = if ![0, me()].contains(&data.uid()) {
            "belongs to another user"
        } else if is_writable_for_others(&data) && !sticky {
            "may be written by others"
        } else {
            continue;
        };
        return Some(format!("{} {why}", part.display()));
    }
    None
}

/// Whether others may write it. A user's private group, by convention with the same number (pam_umask(8), `usergroups`), has
/// nobody else in it.
pub fn is_writable_for_others(data: &Metadata) -> bool {
    data.mode() & 0o002 != 0 || data.mode() & 0o020 != 0 && data.gid() != data.uid()
}

/// Whether a program is one that nobody but root and oneself can have put in its place: `/proc/PID/exe` (proc_pid_exe(5)).
pub fn is_own_program(exe: &Path) -> bool {
    let trusted = |data: &Metadata| [0, me()].contains(&data.uid()) && !is_writable_for_others(data);
    let (Ok(place), Ok(data)) = (fs::read_link(exe), fs::metadata(exe)) else { return false };
    // One that was replaced while it runs has " (deleted)" behind its name; its folder is the same.
    let folder = place.parent().filter(|folder| folder.is_absolute());
    trusted(&data) && folder.is_some_and(|folder| changed_by_others(folder).is_none())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;
    use std::os::unix::net::UnixListener;

    fn said<T>(result: io::Result<T>) -> String {
        result.err().map_or("no error".to_owned(), |error| dozor_core::text::without_number(&error))
    }

    #[test]
    fn what_is_no_regular_file_is_told_at_once() {
        let scratch = tempfile::tempdir().unwrap();
        let at = |name: &str| scratch.path().join(name);
        rustix::fs::mknodat(rustix::fs::CWD, at("pipe"), rustix::fs::FileType::Fifo, 0o600.into(), 0)
            .unwrap();
        let _socket = UnixListener::bind(at("socket")).unwrap();
        fs::create_dir(at("folder")).unwrap();
        symlink(at("pipe"), at("link")).unwrap();
        let cases =
            [("pipe", "named pipe"), ("socket", "socket"), ("folder", "folder"), ("link", "named pipe")];
        for (name, kind) in cases {
            assert_eq!(said(open(&at(name))), format!("it is a {kind}, not a file"), "{name}");
            assert_eq!(read_text(&at(name), 9), Err(format!("it is a {kind}, not a file")));
        }
        assert_eq!(said(open(Path::new("/dev/null"))), "it is a device, not a file");
        assert_eq!(said(open_own(&at("link"))), "it is a link, not a file");
        assert_eq!(said(open_no_link(&at("link"))), "it is a link, not a file");
        assert_eq!(read_text(&at("nothing"), 9), Ok(None));
        fs::write(at("long"), "0123456789").unwrap();
        assert_eq!(read_text(&at("long"), 9), Err("it is larger than 9 B".to_owned()));
        assert_eq!(read_text(&at("long"), 10), Ok(Some("0123456789".to_owned())));
    }

    #[test]
    fn nothing_is_written_through_a_link_or_under_a_second_name() {
        let scratch = tempfile::tempdir().unwrap();
        let at = |name: &str| scratch.path().join(name);
        fs::write(at("precious"), "precious").unwrap();
        symlink(at("precious"), at("link")).unwrap();
        symlink(at("nowhere"), at("dangling")).unwrap();
        fs::hard_link(at("precious"), at("second")).unwrap();
        assert_eq!(create(&at("link"), PRIVATE).unwrap_err().kind(), ErrorKind::AlreadyExists);
        assert_eq!(create(&at("dangling"), PRIVATE).unwrap_err().kind(), ErrorKind::AlreadyExists);
        assert!(open_or_create_own(&at("dangling"), PRIVATE).is_err() && !at("nowhere").exists());
        assert_eq!(said(open_own(&at("second"))), "it has a second name: it is not written into");
        assert_eq!(fs::read(at("precious")).unwrap(), b"precious");
    }

    #[test]
    fn a_file_is_replaced_as_a_whole_with_its_rights_and_behind_ones_own_link() {
        let scratch = tempfile::tempdir().unwrap();
        let at = |name: &str| scratch.path().join(name);
        replace(&at("deep/new"), b"new").unwrap();
        let mode = |name: &str| fs::metadata(at(name)).unwrap().mode() & 0o777;
        assert_eq!((mode("deep"), mode("deep/new")), (0o700, 0o600));
        fs::set_permissions(at("deep/new"), Permissions::from_mode(0o644)).unwrap();
        symlink(at("deep/new"), at("link")).unwrap();
        replace(&at("link"), b"newer").unwrap();
        assert!(fs::symlink_metadata(at("link")).unwrap().is_symlink());
        assert_eq!((fs::read(at("deep/new")).unwrap(), mode("deep/new")), (b"newer".to_vec(), 0o644));
        assert_eq!(fs::read_dir(at("deep")).unwrap().count(), 1, "nothing is left beside it");
        fs::set_permissions(at("deep"), Permissions::from_mode(0o777)).unwrap();
        assert!(said(replace(&at("link"), b"x")).ends_with("deep may be written by others"));
        fs::set_permissions(at("deep"), Permissions::from_mode(0o1777)).unwrap();
        replace(&at("deep/new"), b"in a sticky folder").unwrap();
        assert!(changed_by_others(&at("deep")).is_some(), "what stands in it may be anybody's");
    }

    #[test]
    fn what_a_killed_one_left_is_removed_by_the_next_and_nothing_else() {
        let scratch = tempfile::tempdir().unwrap();
        let at = |name: &str| scratch.path().join(name);
        fs::write(at(".dozor-left.unfinished"), "half of it").unwrap();
        fs::write(at(".dozor-notes"), "somebody's").unwrap();
        let writing = Beside::create(&at("report")).unwrap();
        assert!(!at(".dozor-left.unfinished").exists() && at(".dozor-notes").exists());
        // Another one at the same time leaves the one that is being written.
        replace(&at("other"), b"x").unwrap();
        writing.finish().unwrap();
        assert!(at("report").exists() && at("other").exists());
        assert_eq!(fs::read_dir(scratch.path()).unwrap().count(), 3);
    }

    #[test]
    fn a_folder_that_somebody_else_could_change_is_told() {
        let scratch = tempfile::tempdir().unwrap();
        let inner = scratch.path().join("a/b");
        create_folder(&inner).unwrap();
        assert_eq!(changed_by_others(&inner), None);
        assert_eq!(rights_in(&inner), (PRIVATE, None));
        fs::set_permissions(&inner, Permissions::from_mode(0o750)).unwrap();
        assert_eq!(rights_in(&inner), (0o640, Some(fs::metadata(&inner).unwrap().gid())));
        fs::set_permissions(&inner, Permissions::from_mode(0o755)).unwrap();
        assert_eq!(rights_in(&inner), (PRIVATE, None), "open to everybody is not meant for a group");
        fs::set_permissions(scratch.path().join("a"), Permissions::from_mode(0o702)).unwrap();
        assert!(changed_by_others(&inner).is_some_and(|why| why.ends_with("/a may be written by others")));
        // This test's own program, wherever it was built.
        let built = std::env::current_exe().unwrap();
        let sound = changed_by_others(built.parent().unwrap()).is_none()
            && !is_writable_for_others(&fs::metadata(&built).unwrap());
        assert_eq!(is_own_program(Path::new("/proc/self/exe")), sound);
    }
}
