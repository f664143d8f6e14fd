//! Everything about one process, asked for when somebody looks at it.
//!
//! Each question gives *not permitted* apart from *not there*. The folder of the process is opened once and its start time
//! compared then: what comes through it is of this process, whoever has its PID by now.

use crate::Roots;
use crate::proc::{lines, number, pid_stat, pid_task, read_file, words};
use dozor_core::known::{Known, Raw};
use dozor_core::reading::{ProcessKey, ThreadRow};
use dozor_core::row::Row;
use dozor_core::signals;
use dozor_core::text::clean;
use rustix::fs::{CWD, Mode, OFlags, openat};
use std::io;
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::path::{Path, PathBuf};

/// A limit of a process; `proc_pid_limits(5)`, getrlimit(2).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Limit {
    /// Its name in the kernel's words.
    pub name: String,
    /// What is enforced; `None` is unlimited.
    pub soft: Option<i64>,
    /// What the process may raise it to; `None` is unlimited.
    pub hard: Option<i64>,
    /// Its unit, empty for a bare number.
    pub unit: String,
}

/// What a process does with signals; `proc_pid_status(5)`. Numbers of signals.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Signals {
    /// Waiting to be delivered.
    pub pending: Vec<i32>,
    /// Held back until the process allows them.
    pub blocked: Vec<i32>,
    /// Thrown away.
    pub ignored: Vec<i32>,
    /// Handled by the program itself.
    pub handled: Vec<i32>,
}

impl Signals {
    /// Why a polite stop may not work; `None` where nothing stands against it.
    pub fn against(&self, signal: i32) -> Option<&'static str> {
        if self.blocked.contains(&signal) {
            Some("held back")
        } else if self.ignored.contains(&signal) {
            Some("ignored")
        } else if self.handled.contains(&signal) {
            Some("handled by the program itself")
        } else {
            None
        }
    }
}

/// The system call that a process is in; `proc_pid_syscall(5)`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Call {
    /// It runs its own code.
    Running,
    /// It is in the kernel, but in no system call.
    None,
    /// Number of the call and its first argument, often a descriptor.
    In {
        /// Number on this architecture.
        number: i64,
        /// First argument.
        first: u64,
    },
}

/// An open file; proc_pid_fd(5), proc_pid_fdinfo(5).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenFile {
    /// Descriptor.
    pub descriptor: i64,
    /// What it leads to.
    pub target: String,
    /// Kind of thing.
    pub kind: FileKind,
    /// Place of the next read or write.
    pub offset: Raw,
    /// Flags as in open(2).
    pub flags: Raw,
    /// The file was removed while it is open.
    pub removed: bool,
}

/// Kinds of open files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileKind {
    /// A file or a folder with a name.
    Named,
    /// A socket, with its inode.
    Socket(u32),
    /// A pipe.
    Pipe,
    /// Something of the kernel's without a name: event, timer, memory.
    Anonymous,
    /// A device.
    Device,
}

/// Asks about one process.
pub struct Detail {
    /// The folder of the process, opened once: it stays that of this process, whoever has its PID later. None where it is
    /// gone already.
    folder: Option<OwnedFd>,
    key: ProcessKey,
}

impl Detail {
    /// About this process, and no other that has its PID by now.
    pub fn of(roots: &Roots, key: ProcessKey) -> Detail {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = openat(CWD, roots.proc.join(key.pid.to_string()), flags, Mode::empty()).ok();
        let detail = Detail { folder, key };
        if detail.is_there() { detail } else { Detail { folder: None, ..detail } }
    }

    /// Whether the process is still there.
    pub fn is_there(&self) -> bool {
        let stat = self.at("stat").and_then(|path| read_file(&path));
        let start = stat.ok().and_then(|text| pid_stat::parse(&text, 1).map(|stat| stat.start_ticks));
        start == Some(self.key.start)
    }

    /// The way to a file of the process through its open folder; proc_pid_fd(5).
    fn at(&self, name: &str) -> io::Result<PathBuf> {
        let folder = self.folder.as_ref().ok_or(io::ErrorKind::NotFound)?;
        Ok(PathBuf::from(format!("/proc/self/fd/{}/{name}", folder.as_raw_fd())))
    }

    fn file(&self, name: &str) -> Known<Vec<u8>> {
        told_apart(self.at(name).and_then(|path| read_file(&path)))
    }

    fn link(&self, name: &str) -> Known<String> {
        let read = self.at(name).and_then(std::fs::read_link);
        told_apart(read.map(|path| clean(path.as_os_str().as_encoded_bytes())))
    }

    /// Its working directory.
    pub fn directory(&self) -> Known<String> {
        self.link("cwd")
    }

    /// Its executable; ends with ` (deleted)` where that was replaced or removed.
    pub fn executable(&self) -> Known<String> {
        self.link("exe")
    }

    /// Its environment, as it was at the start of the program.
    pub fn environment(&self) -> Known<Vec<String>> {
        self.file("environ")
            .map(|text| text.split(|byte| *byte == 0).filter(|entry| !entry.is_empty()).map(clean).collect())
    }

    /// Its limits.
    pub fn limits(&self) -> Known<Vec<Limit>> {
        self.file("limits").map(|text| lines(&text).skip(1).filter_map(limit).collect())
    }

    /// What it does with signals.
    pub fn signals(&self) -> Known<Signals> {
        self.file("status").map(|text| signal_masks(&text))
    }

    /// Memory by kind: the `Vm` and `Rss` lines in bytes, in the kernel's words.
    pub fn memory(&self) -> Known<Vec<(String, i64)>> {
        self.file("status").map(|text| {
            lines(&text)
                .filter_map(|line| {
                    let mut words = words(line);
                    let name = words.next()?.strip_suffix(b":")?;
                    (name.starts_with(b"Vm") || name.starts_with(b"Rss")).then_some(())?;
                    Some((clean(name), number(words.next()?)?.checked_mul(1024)?))
                })
                .collect()
        })
    }

    /// The system call that it is in.
    pub fn call(&self) -> Known<Call> {
        match self.file("syscall").map(|text| call(&text)) {
            Known::Value(Some(call)) => Known::Value(call),
            Known::Denied => Known::Denied,
            _ => Known::Absent,
        }
    }

    /// Function of the kernel that it waits in; empty where it does not wait.
    pub fn wait_channel(&self) -> Known<String> {
        self.file("wchan").map(|text| if text == b"0" { String::new() } else { clean(&text) })
    }

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
        let target = target.as_os_str().as_encoded_bytes();
        let info =
            self.at(&format!("fdinfo/{descriptor}")).and_then(|path| read_file(&path)).unwrap_or_default();
        let field = |name: &[u8]| {
            lines(&info).find_map(|line| {
                let mut words = words(line);
                (words.next()? == name).then(|| words.next()).flatten()
            })
        };
        let octal = |word: &[u8]| i64::from_str_radix(std::str::from_utf8(word).ok()?, 8).ok();
        Some(OpenFile {
            descriptor,
            kind: kind(target),
            removed: target.ends_with(b" (deleted)"),
            target: clean(target),
            offset: field(b"pos:").and_then(number).into(),
            flags: field(b"flags:").and_then(octal).into(),
        })
    }

    /// Its threads by number.
    pub fn threads(&self) -> Known<Vec<ThreadRow>> {
        told_apart(self.at("task").and_then(std::fs::read_dir)).map(|entries| {
            let mut threads: Vec<ThreadRow> = entries
                .flatten()
                .filter_map(|entry| {
                    let stat = read_file(&entry.path().join("stat")).ok()?;
                    let ran = read_file(&entry.path().join("schedstat")).ok();
                    pid_task::parse(self.key.pid, &stat, ran.as_deref())
                })
                .collect();
            threads.sort_by_key(Row::key);
            threads
        })
    }
}

fn told_apart<T>(result: io::Result<T>) -> Known<T> {
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

fn signal_masks(status: &[u8]) -> Signals {
    let mask = |name: &[u8]| -> u64 {
        lines(status)
            .find_map(|line| {
                let mut words = words(line);
                (words.next()? == name).then(|| words.next()).flatten()
            })
            .and_then(|word| u64::from_str_radix(std::str::from_utf8(word).ok()?, 16).ok())
            .unwrap_or(0)
    };
    let numbers = |mask: u64| -> Vec<i32> {
        (1..=64)
            .filter(|number| mask >> (number - 1) & 1 == 1 && signals::by_number(*number).is_some())
            .collect()
    };
    Signals {
        pending: numbers(mask(b"SigPnd:") | mask(b"ShdPnd:")),
        blocked: numbers(mask(b"SigBlk:")),
        ignored: numbers(mask(b"SigIgn:")),
        handled: numbers(mask(b"SigCgt:")),
    }
}

fn call(text: &[u8]) -> Option<Call> {
    let mut words = words(text.trim_ascii());
    let first = words.next()?;
    if first == b"running" {
        return Some(Call::Running);
    }
    let number = number(first)?;
    if number < 0 {
        return Some(Call::None);
    }
    let argument = std::str::from_utf8(words.next()?.strip_prefix(b"0x")?).ok()?;
    Some(Call::In { number, first: u64::from_str_radix(argument, 16).ok()? })
}

fn kind(target: &[u8]) -> FileKind {
    let inode = target.strip_prefix(b"socket:[").and_then(|rest| number(rest.strip_suffix(b"]")?));
    if let Some(inode) = inode.and_then(|inode| u32::try_from(inode).ok()) {
        FileKind::Socket(inode)
    } else if target.starts_with(b"pipe:[") {
        FileKind::Pipe
    } else if target.starts_with(b"/dev/") {
        FileKind::Device
    } else if target.starts_with(b"/") {
        FileKind::Named
    } else {
        FileKind::Anonymous
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::sample::state_word;
    use std::io::{Seek as _, SeekFrom, Write as _};

    fn own() -> Detail {
        let pid = i64::from(std::process::id());
        let text = read_file(Path::new("/proc/self/stat")).expect("our own file");
        let start = pid_stat::parse(&text, 1).expect("a whole line").start_ticks;
        Detail::of(&Roots::default(), ProcessKey { pid, start })
    }

    #[test]
    fn an_open_file_is_listed_with_its_offset_and_its_removal() {
        let mut file = tempfile::tempfile().expect("a file without a name");
        file.write_all(&[7; 5000])
            .and_then(|()| file.seek(SeekFrom::Start(1234)).map(drop))
            .expect("writing");
        let (ours, theirs) = std::os::unix::net::UnixStream::pair().expect("sockets");
        let files = own().open_files().value().expect("our own files");
        let find = |fd: i32| files.iter().find(|open| open.descriptor == i64::from(fd)).expect("the file");
        let found = find(file.as_raw_fd());
        assert_eq!((found.offset, found.kind, found.removed), (Raw::new(1234), FileKind::Named, true));
        assert!(matches!(find(ours.as_raw_fd()).kind, FileKind::Socket(_)));
        drop((ours, theirs));
    }

    #[test]
    fn a_process_that_ends_is_not_there_and_no_other_with_its_pid_is_taken_for_it() {
        let mut shell = std::process::Command::new("/bin/sh");
        let mut child =
            shell.args(["-c", "read x"]).stdin(std::process::Stdio::piped()).spawn().expect("a shell");
        let pid = i64::from(child.id());
        let text = read_file(Path::new(&format!("/proc/{pid}/stat"))).expect("its file");
        let start = pid_stat::parse(&text, 1).expect("a whole line").start_ticks;
        let [there, other] =
            [start, start + 1].map(|start| Detail::of(&Roots::default(), ProcessKey { pid, start }));
        assert!(there.is_there() && there.environment().value().is_some());
        assert!(!other.is_there() && other.limits().value().is_none(), "another start time, another process");
        child.kill().and_then(|()| child.wait()).expect("its end");
        assert!(!there.is_there());
        assert!(there.open_files().value().is_none() && there.directory() == Known::Absent);
    }

    #[test]
    fn threads_have_names_and_states() {
        let (stop, wait) = std::sync::mpsc::channel::<()>();
        let thread = std::thread::Builder::new()
            .name("dozor-test".to_owned())
            .spawn(move || wait.recv())
            .expect("a thread");
        let found = (0..1000).find_map(|_| {
            std::thread::sleep(std::time::Duration::from_millis(1));
            let threads = own().threads().value().expect("our own threads");
            // Its time is counted when it goes to sleep, a moment after the state says so.
            threads.into_iter().find(|thread| {
                let (sleeps, ran) =
                    (state_word(thread.state) == Some("sleeping"), thread.run_ns.value() > Some(0));
                &*thread.name == "dozor-test" && sleeps && ran
            })
        });
        assert!(found.is_some(), "the thread, asleep, with its CPU time");
        drop(stop);
        let _ = thread.join().expect("its end");
    }

    #[test]
    fn environment_limits_memory_and_directory_are_our_own() {
        let detail = own();
        let path = std::env::var("PATH").expect("a path");
        let environment = detail.environment().value().expect("our own environment");
        assert!(environment.contains(&format!("PATH={path}")));
        let limits = detail.limits().value().expect("our own limits");
        let files = limits.iter().find(|limit| limit.name == "Max open files").expect("a limit");
        assert!(files.soft.is_some() && files.unit == "files");
        assert!(
            detail
                .memory()
                .value()
                .expect("our memory")
                .iter()
                .any(|(name, bytes)| name == "VmRSS" && *bytes > 0)
        );
        let here = std::env::current_dir().expect("a directory");
        assert_eq!(detail.directory(), Known::Value(here.display().to_string()));
        assert!(detail.call().value().is_some() && detail.wait_channel().value().is_some());
        let another = Detail::of(&Roots::default(), ProcessKey { start: 1, ..detail.key });
        assert_eq!(
            another.environment(),
            Known::Absent,
            "another process under the same PID is not described"
        );
    }

    #[test]
    fn signals_calls_and_limits_are_read() {
        let masks = signal_masks(b"SigPnd:\t0000000000000000\nShdPnd:\t0000000000000200\nSigBlk:\t0000000000004000\nSigIgn:\t0000000000001000\nSigCgt:\t0000000200000001\n");
        assert_eq!((masks.pending.as_slice(), masks.blocked.as_slice()), (&[10][..], &[15][..]));
        assert_eq!((masks.ignored.as_slice(), masks.handled.as_slice()), (&[13][..], &[1, 34][..]));
        assert_eq!(masks.against(15), Some("held back"));
        assert_eq!(masks.against(9), None);
        assert_eq!(call(b"running\n"), Some(Call::Running));
        assert_eq!(call(b"-1 0x7ffc 0x7f\n"), Some(Call::None));
        assert_eq!(call(b"0 0x3 0x7fc8 0x20000\n"), Some(Call::In { number: 0, first: 3 }));
        assert_eq!(call(b"garbage"), None);
        let line = b"Max locked memory         8388608              unlimited            bytes     ";
        let expected = Limit {
            name: "Max locked memory".to_owned(),
            soft: Some(8_388_608),
            hard: None,
            unit: "bytes".to_owned(),
        };
        assert_eq!(limit(line), Some(expected));
        assert_eq!(limit(b"short"), None);
    }
}
