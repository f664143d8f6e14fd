//! Reading what decides for us (settings with the commands of rules, themes, tokens) only where nobody but root and
//! oneself could have written it. A path is walked component by component on open descriptors (path_resolution(7)), so what
//! was checked is what is read: each folder, link and the file itself belongs to root or to oneself, and nobody else may
//! write it.

use crate::files::{is_writable_for_others, kind_of, text_of};
use dozor_core::text::without_number;
use rustix::fs::{CWD, Mode, OFlags, openat, readlinkat};
use rustix::io::Errno;
use std::collections::VecDeque;
use std::ffi::{OsStr, OsString};
use std::fs::{File, Metadata};
use std::io;
use std::os::unix::ffi::OsStringExt as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Component, Path, PathBuf};

/// Links that are followed on one way, as the kernel has it (`MAXSYMLINKS`).
const MOST_LINKS: usize = 40;

/// Why something is not read.
#[derive(Debug, thiserror::Error)]
pub enum Untrusted {
    /// It is not there.
    #[error("there is no such file")]
    Missing,
    /// A folder, a link or the file belongs to somebody else.
    #[error("{path} belongs to {owner}", path = .0.display(), owner = crate::own::name_of(*.1))]
    Foreign(PathBuf, u32),
    /// Somebody else may write it.
    #[error("others may write {path}", path = .0.display())]
    Writable(PathBuf),
    /// It stands directly in a folder that others may write, as `/tmp`.
    #[error("others may write the folder that {path} is in", path = .0.display())]
    Shared(PathBuf),
    /// It is no regular file.
    #[error("{0}")]
    Kind(&'static str),
    /// The kernel refused.
    #[error("{}", without_number(.0))]
    Failed(#[from] io::Error),
}

impl From<Errno> for Untrusted {
    fn from(errno: Errno) -> Untrusted {
        match errno {
            Errno::NOENT | Errno::NOTDIR => Untrusted::Missing,
            other => Untrusted::Failed(other.into()),
        }
    }
}

/// A folder on the way.
struct Step {
    folder: File,
    path: PathBuf,
    /// Others may put names into it, though it is sticky: they remove and rename nothing of ours there.
    shared: bool,
}

impl Step {
    fn root() -> Result<Step, Untrusted> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = File::from(openat(CWD, "/", flags, Mode::empty())?);
        Step::new(folder, PathBuf::from("/"))
    }

    fn new(folder: File, path: PathBuf) -> Result<Step, Untrusted> {
        let data = folder.metadata()?;
        check_owner(&data, &path)?;
        let shared = is_writable_for_others(&data);
        if shared && data.mode() & 0o1000 == 0 {
            return Err(Untrusted::Writable(path));
        }
        Ok(Step { folder, path, shared })
    }

    fn open(&self, name: &OsStr, flags: OFlags) -> Result<(File, Metadata), Untrusted> {
        let opened = openat(&self.folder, name, flags | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty())?;
        let opened = File::from(opened);
        let data = opened.metadata()?;
        Ok((opened, data))
    }

    /// A link or a file in it: whose it is, and who may write it. Of a link only the first counts (symlink(7)). In a folder that
    /// others may write it may be there under a second name that they gave it.
    fn check(&self, data: &Metadata, path: PathBuf) -> Result<(), Untrusted> {
        check_owner(data, &path)?;
        if self.shared {
            Err(Untrusted::Shared(path))
        } else if !data.is_symlink() && is_writable_for_others(data) {
            Err(Untrusted::Writable(path))
        } else {
            Ok(())
        }
    }
}

fn check_owner(data: &Metadata, path: &Path) -> Result<(), Untrusted> {
    let me = rustix::process::geteuid().as_raw();
    if [0, me].contains(&data.uid()) { Ok(()) } else { Err(Untrusted::Foreign(path.to_owned(), data.uid())) }
}

/// Reads a regular file of at most so many bytes as text; nothing where it is not there. What is wrong is said in words.
pub fn read_text(path: &Path, most: u64) -> Result<Option<String>, String> {
    match open(path) {
        Err(Untrusted::Missing) => Ok(None),
        Err(why) => Err(why.to_string()),
        Ok(file) => text_of(file, most).map(Some),
    }
}

/// The names of a path.
fn names(path: &Path) -> Vec<OsString> {
    let name = |part: Component<'_>| match part {
        Component::Normal(name) => Some(name.to_owned()),
        Component::ParentDir => Some("..".into()),
        Component::Prefix(_) | Component::RootDir | Component::CurDir => None,
    };
    path.components().filter_map(name).collect()
}

/// Opens a regular file that nobody else could have written. What of the way to it is there is checked also where the file is not.
pub fn open(path: &Path) -> Result<File, Untrusted> {
    let mut waiting = VecDeque::from(names(&std::path::absolute(path)?));
    let mut above = vec![];
    let mut here = Step::root()?;
    let mut links = 0;
    while let Some(name) = waiting.pop_front() {
        if name == ".." {
            // Above the root is the root.
            here = above.pop().unwrap_or(here);
            continue;
        }
        let at = here.path.join(&name);
        let (found, data) = here.open(&name, OFlags::PATH)?;
        if data.is_dir() {
            above.push(std::mem::replace(&mut here, Step::new(found, at)?));
        } else if data.is_symlink() {
            links += 1;
            if links > MOST_LINKS {
                return Err(Errno::LOOP.into());
            }
            here.check(&data, at)?;
            let target = PathBuf::from(OsString::from_vec(readlinkat(&found, "", vec![])?.into_bytes()));
            if target.is_absolute() {
                (above, here) = (vec![], Step::root()?);
            }
            names(&target).into_iter().rev().for_each(|name| waiting.push_front(name));
        } else if !waiting.is_empty() {
            return Err(Untrusted::Missing);
        } else {
            if let Some(kind) = kind_of(data.file_type()) {
                return Err(Untrusted::Kind(kind));
            }
            // Opened anew for reading, it may be another one: this is the one that counts. It waits for nobody.
            let (file, data) = here.open(&name, OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY)?;
            if let Some(kind) = kind_of(data.file_type()) {
                return Err(Untrusted::Kind(kind));
            }
            here.check(&data, at)?;
            return Ok(file);
        }
    }
    Err(Untrusted::Kind("it is a folder, not a file"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::{self, Permissions};
    use std::os::unix::fs::{PermissionsExt as _, chown, lchown, symlink};

    const OTHER: u32 = 54_321;

    fn said(path: &Path) -> String {
        match open(path) {
            Ok(_) => "read".to_owned(),
            Err(why) => why.to_string().replace(&format!("{}/", path.parent().unwrap().display()), ""),
        }
    }

    /// A folder as a home is: below a sticky one, for its owner alone.
    fn home() -> (tempfile::TempDir, impl Fn(&str) -> PathBuf) {
        let home = tempfile::tempdir().unwrap();
        let path = fs::canonicalize(home.path()).unwrap();
        (home, move |name: &str| path.join(name))
    }

    #[test]
    fn ones_own_file_is_read_also_through_links_of_ones_own() {
        let (_home, at) = home();
        fs::create_dir_all(at("dotfiles/dozor")).unwrap();
        fs::write(at("dotfiles/dozor/settings.toml"), "x").unwrap();
        symlink("dotfiles/../dotfiles", at("config")).unwrap();
        symlink(at("dotfiles/dozor/settings.toml"), at("link")).unwrap();
        for path in ["dotfiles/dozor/settings.toml", "config/dozor/settings.toml", "link"] {
            assert_eq!(said(&at(path)), "read", "{path}");
            assert_eq!(read_text(&at(path), 9), Ok(Some("x".to_owned())));
        }
        assert_eq!(read_text(&at("config/nothing"), 9), Ok(None));
        assert_eq!(read_text(&at("link/below"), 9), Ok(None));
        assert_eq!(said(&at("dotfiles")), "it is a folder, not a file");
        symlink("round", at("round")).unwrap();
        assert!(read_text(&at("round"), 9).is_err_and(|why| why.contains("symbolic links")));
    }

    #[test]
    fn what_others_may_write_is_not_read_wherever_it_stands() {
        let (_home, at) = home();
        fs::create_dir_all(at("a/b")).unwrap();
        fs::write(at("a/b/file"), "x").unwrap();
        let mode = |name: &str, mode| fs::set_permissions(at(name), Permissions::from_mode(mode)).unwrap();
        mode("a/b/file", 0o666);
        assert_eq!(said(&at("a/b/file")), "others may write file");
        mode("a/b/file", 0o644);
        assert_eq!(said(&at("a/b/file")), "read");
        mode("a", 0o777);
        assert!(said(&at("a/b/file")).ends_with("/a"), "{}", said(&at("a/b/file")));
        // Nobody moves what is ours out of a sticky one, but somebody may put something into it.
        mode("a", 0o1777);
        assert_eq!(said(&at("a/b/file")), "read");
        mode("a/b", 0o1777);
        assert_eq!(said(&at("a/b/file")), "others may write the folder that file is in");
        symlink(at("a/b"), at("to_shared")).unwrap();
        assert!(open(&at("to_shared/file")).is_err());
    }

    #[test]
    fn what_belongs_to_others_is_not_read() {
        if !rustix::process::geteuid().is_root() {
            return;
        }
        let (_home, at) = home();
        fs::create_dir_all(at("theirs")).unwrap();
        fs::write(at("theirs/file"), "x").unwrap();
        fs::write(at("given"), "x").unwrap();
        fs::write(at("mine"), "x").unwrap();
        chown(at("theirs"), Some(OTHER), None).unwrap();
        chown(at("given"), Some(OTHER), None).unwrap();
        symlink(at("theirs"), at("config")).unwrap();
        symlink(at("given"), at("settings.toml")).unwrap();
        symlink(at("mine"), at("foreign_link")).unwrap();
        lchown(at("foreign_link"), Some(OTHER), None).unwrap();
        for path in ["theirs/file", "given", "settings.toml", "config/file", "foreign_link"] {
            assert!(matches!(open(&at(path)), Err(Untrusted::Foreign(_, OTHER))), "{path}");
        }
        assert_eq!(said(&at("given")), "given belongs to 54321");
    }

    #[test]
    fn what_is_no_file_is_told_at_once() {
        let (_home, at) = home();
        rustix::fs::mknodat(CWD, at("pipe"), rustix::fs::FileType::Fifo, 0o600.into(), 0).unwrap();
        symlink(at("pipe"), at("link")).unwrap();
        for name in ["pipe", "link"] {
            assert_eq!(said(&at(name)), "it is a named pipe, not a file");
        }
        assert_eq!(said(Path::new("/dev/null")), "it is a device, not a file");
    }
}
