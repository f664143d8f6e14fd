//! One process that is looked into: its folder, opened once, and its files below that.

use crate::Roots;
use crate::proc::{lines, number, pid_stat, read_file, words};
use crate::sys;
use dozor_core::cores::CoreSet;
use dozor_core::inside::{Limit, Signals};
use dozor_core::known::Known;
use dozor_core::reading::ProcessKey;
use dozor_core::signals;
use dozor_core::text::clean;
use rustix::fs::{CWD, Mode, OFlags, openat};
use std::cell::OnceCell;
use std::io;
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::path::PathBuf;

/// What the kernel appends to the name of a file that was removed.
pub(super) const REMOVED: &[u8] = b" (deleted)";

/// One process that is looked into.
pub struct Inside {
    pub(super) roots: Roots,
    /// The folder of the process, opened once: it stays that of this process, whoever has its PID later. None where it is
    /// gone already.
    pub(super) folder: Option<OwnedFd>,
    pub(super) key: ProcessKey,
    other_width: OnceCell<Option<bool>>,
}

/// A field of `proc_pid_status(5)`.
pub(super) fn status_field<'a>(status: &'a [u8], name: &str) -> Option<&'a [u8]> {
    lines(status).find_map(|line| line.strip_prefix(name.as_bytes())?.strip_prefix(b":"))
}

impl Inside {
    /// This process, and no other that has its PID by now.
    pub fn of(roots: &Roots, key: ProcessKey) -> Inside {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = openat(CWD, roots.proc.join(key.pid.to_string()), flags, Mode::empty()).ok();
        let inside = Inside { roots: roots.clone(), folder, key, other_width: OnceCell::new() };
        if inside.is_there() { inside } else { Inside { folder: None, ..inside } }
    }

    /// Whether its program has numbers of another width than Dozor, and so other numbers of system calls; nothing where that may
    /// not be known. By what the kernel gave it at its start (proc_pid_auxv(5)), which are small numbers each with a value; its file
    /// may be where nobody answers.
    pub(super) fn is_of_other_width(&self) -> Option<bool> {
        *self.other_width.get_or_init(|| {
            let Known::Value(given) = self.file("auxv") else { return None };
            let first = u64::from_ne_bytes(*given.first_chunk()?);
            // Two numbers of 32 bits, taken for one.
            let is_narrow = first > u64::from(u32::MAX);
            Some(is_narrow == cfg!(target_pointer_width = "64"))
        })
    }

    /// Whether the process is still there.
    pub fn is_there(&self) -> bool {
        let stat = self.at("stat").and_then(|path| read_file(&path));
        let start = stat.ok().and_then(|text| pid_stat::parse(&text, 1).map(|stat| stat.start_ticks));
        start == Some(self.key.start)
    }

    /// The way to a file of the process through its open folder; `proc_pid_fd(5)`.
    pub(crate) fn at(&self, name: &str) -> io::Result<PathBuf> {
        let folder = self.folder.as_ref().ok_or(io::ErrorKind::NotFound)?;
        Ok(PathBuf::from(format!("/proc/self/fd/{}/{name}", folder.as_raw_fd())))
    }

    pub(crate) fn file(&self, name: &str) -> Known<Vec<u8>> {
        told_apart(self.at(name).and_then(|path| read_file(&path)))
    }

    /// Where a link leads to, and whether that was removed.
    pub(super) fn link(&self, name: &str) -> Known<(String, bool)> {
        let read = self.at(name).and_then(std::fs::read_link);
        told_apart(read.map(|path| {
            let path = path.as_os_str().as_encoded_bytes();
            let kept = path.strip_suffix(REMOVED);
            (clean(kept.unwrap_or(path)), kept.is_some())
        }))
    }

    /// The group that is frozen and has it in it, its own or one above.
    pub(crate) fn frozen(&self) -> Option<String> {
        let Known::Value(groups) = self.file("cgroup") else { return None };
        sys::freezer::frozen_by(&self.roots.sys, &groups)
    }

    /// Its limits.
    pub fn limits(&self) -> Known<Vec<Limit>> {
        self.file("limits").map(|text| lines(&text).skip(1).filter_map(limit).collect())
    }

    /// What it does with signals.
    pub fn signals(&self) -> Known<Signals> {
        self.file("status").map(|text| signal_masks(&text))
    }
}

/// Cores that are online; Documentation/ABI/stable/sysfs-devices-system-cpu.
pub fn online(roots: &Roots) -> CoreSet {
    let text = read_file(&roots.sys.join("devices/system/cpu/online")).unwrap_or_default();
    std::str::from_utf8(text.trim_ascii()).ok().and_then(|list| list.parse().ok()).unwrap_or_default()
}

pub(crate) fn told_apart<T>(result: io::Result<T>) -> Known<T> {
    match result {
        Ok(value) => Known::Value(value),
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => Known::Denied,
        Err(_) => Known::Absent,
    }
}

/// One line: the name takes 26 places, each limit 21; the unit may be missing.
fn limit(line: &[u8]) -> Option<Limit> {
    let name = clean(line.get(..26)?.trim_ascii());
    let mut rest = words(line.get(26..)?);
    let mut value = || -> Option<Option<i64>> {
        let word = rest.next()?;
        if word == b"unlimited" { Some(None) } else { number(word).map(Some) }
    };
    Some(Limit { name, soft: value()?, hard: value()?, unit: rest.next().map(clean).unwrap_or_default() })
}

/// What a process does with signals, from `proc_pid_status(5)`.
pub(crate) fn signal_masks(status: &[u8]) -> Signals {
    let mask = |name: &str| -> u64 {
        let word = status_field(status, name).map(<[u8]>::trim_ascii);
        word.and_then(|word| u64::from_str_radix(std::str::from_utf8(word).ok()?, 16).ok()).unwrap_or(0)
    };
    let numbers = |mask: u64| -> Vec<i32> {
        (1..=64)
            .filter(|number| mask >> (number - 1) & 1 == 1 && signals::by_number(*number).is_some())
            .collect()
    };
    Signals {
        pending: numbers(mask("SigPnd") | mask("ShdPnd")),
        blocked: numbers(mask("SigBlk")),
        ignored: numbers(mask("SigIgn")),
        handled: numbers(mask("SigCgt")),
    }
}

/// The inode of a socket from what its link says: `socket:[123]`.
pub(super) fn socket_inode(target: &[u8]) -> Option<u64> {
    let inode = number(target.strip_prefix(b"socket:[")?.strip_suffix(b"]")?)?;
    u64::try_from(inode).ok()
}
