//! Everything about one process, asked for when somebody looks inside.
//!
//! Each question gives *not permitted* apart from *not there*. The folder of the process is opened once and its start time
//! compared then: what comes through it is of this process, whoever has its PID by now.

mod calls;
pub mod closely;
mod files;
pub mod holding;
mod memory;
mod packages;
mod sockets;

pub use sockets::Peers;

use crate::proc::{lines, number, pid_smaps, pid_stat, pid_task, read_file, words};
use crate::users::Users;
use crate::{Roots, clock, sys};
use dozor_core::cores::CoreSet;
use dozor_core::inside::{Doing, Facts, Limit, Look, Scheduling, Signals, Subject, Thread, Told};
use dozor_core::known::{Known, Raw};
use dozor_core::reading::ProcessKey;
use dozor_core::row::Row;
use dozor_core::signals;
use dozor_core::text::{Text, clean};
use packages::Packages;
use rustix::fs::{CWD, Mode, OFlags, openat};
use std::io;
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::path::PathBuf;
use std::time::Instant;

/// What the kernel appends to the name of a file that was removed.
const REMOVED: &[u8] = b" (deleted)";

/// One process that is looked into.
pub struct Inside {
    roots: Roots,
    /// The folder of the process, opened once: it stays that of this process, whoever has its PID later. None where it is
    /// gone already.
    folder: Option<OwnedFd>,
    key: ProcessKey,
}

/// Looks into processes and remembers what several questions share.
pub struct Looker {
    roots: Roots,
    packages: Packages,
    users: Users,
    /// Names of sockets.
    pub peers: Peers,
    /// The process whose memory was walked over last, what that gave, and when it may be done again.
    walked: Option<(ProcessKey, Raw, Instant)>,
}

impl Looker {
    /// Begins.
    pub fn new(roots: Roots) -> Looker {
        Looker {
            roots,
            packages: Packages::default(),
            users: Users::default(),
            peers: Peers::default(),
            walked: None,
        }
    }

    /// Looks.
    pub fn look(&mut self, key: ProcessKey, subject: Subject) -> Told {
        if subject == Subject::Cores {
            return Told::Cores(sys::cores::places(&self.roots.sys));
        }
        let inside = Inside::of(&self.roots, key);
        if inside.folder.is_none() {
            return Told::Gone;
        }
        match subject {
            Subject::Facts => {
                let mut facts = inside.facts(&mut self.users, &mut self.peers);
                if let Known::Value(path) = &facts.executable {
                    facts.package = self.packages.of(path);
                }
                facts.pss = self.proportional(&inside);
                Told::Facts(Box::new(facts))
            }
            Subject::Threads => {
                let seen = inside.threads(&mut self.peers);
                Told::Threads(Look { at_ns: clock::monotonic_ns(), seen })
            }
            Subject::Files => {
                let seen = inside.open_files();
                Told::Files(Look { at_ns: clock::monotonic_ns(), seen })
            }
            Subject::Sockets => {
                let seen = inside.sockets(&mut self.peers);
                Told::Sockets(Look { at_ns: clock::monotonic_ns(), seen })
            }
            Subject::Memory => Told::Memory(Box::new(inside.memory())),
            Subject::Environment => Told::Environment(inside.environment()),
            Subject::Cores => Told::Cores(sys::cores::places(&self.roots.sys)),
        }
    }
}

impl Looker {
    /// Proportional memory. The kernel walks over all of it, so it is asked for so seldom that it costs at most a twentieth
    /// of a core.
    fn proportional(&mut self, inside: &Inside) -> Raw {
        const REST: u32 = 20;
        match self.walked {
            Some((key, pss, due)) if key == inside.key && Instant::now() < due => return pss,
            _ => {}
        }
        let begin = Instant::now();
        let pss = match inside.file("smaps_rollup") {
            Known::Value(text) => pid_smaps::parse(&text),
            Known::Denied => Raw::DENIED,
            Known::Absent => Raw::ABSENT,
        };
        self.walked = Some((inside.key, pss, Instant::now() + begin.elapsed() * REST));
        pss
    }
}

/// A field of `proc_pid_status(5)`.
fn status_field<'a>(status: &'a [u8], name: &str) -> Option<&'a [u8]> {
    lines(status).find_map(|line| line.strip_prefix(name.as_bytes())?.strip_prefix(b":"))
}

impl Inside {
    /// This process, and no other that has its PID by now.
    pub fn of(roots: &Roots, key: ProcessKey) -> Inside {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = openat(CWD, roots.proc.join(key.pid.to_string()), flags, Mode::empty()).ok();
        let inside = Inside { roots: roots.clone(), folder, key };
        if inside.is_there() { inside } else { Inside { folder: None, ..inside } }
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
    fn link(&self, name: &str) -> Known<(String, bool)> {
        let read = self.at(name).and_then(std::fs::read_link);
        told_apart(read.map(|path| {
            let path = path.as_os_str().as_encoded_bytes();
            let kept = path.strip_suffix(REMOVED);
            (clean(kept.unwrap_or(path)), kept.is_some())
        }))
    }

    /// Who it is and how it is.
    fn facts(&self, users: &mut Users, peers: &mut Peers) -> Facts {
        let status = self.file("status");
        let stat = self.file("stat");
        let stat_of = match &stat {
            Known::Value(text) => pid_stat::parse(text, 1),
            Known::Absent | Known::Denied => None,
        };
        let field = |name: &str| match &status {
            Known::Value(status) => status_field(status, name).map(<[u8]>::trim_ascii),
            Known::Absent | Known::Denied => None,
        };
        let ids = field("Uid").map(|ids| words(ids).filter_map(number).take(3).collect::<Vec<_>>());
        let names = ids.filter(|ids| ids.len() == 3).map(|ids| {
            let mut name = |at: usize| users.name(u32::try_from(ids[at]).unwrap_or(u32::MAX));
            [name(0), name(1), name(2)]
        });
        let cores = field("Cpus_allowed_list").and_then(|list| std::str::from_utf8(list).ok()?.parse().ok());
        let (executable, replaced) = match self.link("exe") {
            Known::Value((path, replaced)) => (Known::Value(path), replaced),
            Known::Absent => (Known::Absent, false),
            Known::Denied => (Known::Denied, false),
        };
        let frozen = self.frozen();
        let number_of = |name: &str| -> Raw {
            match self.file(name) {
                Known::Value(text) => number(text.trim_ascii()).into(),
                Known::Denied => Raw::DENIED,
                Known::Absent => Raw::ABSENT,
            }
        };
        Facts {
            directory: self.link("cwd").map(|(path, _)| path),
            root: self.link("root").map(|(path, _)| path),
            executable,
            replaced,
            package: None,
            arguments: self.arguments(),
            users: names.into(),
            state: stat_of.as_ref().map_or(Raw::ABSENT, |stat| stat.state),
            tracer: field("TracerPid").and_then(number).into(),
            doing: self.doing(&self.file("syscall"), peers),
            wait_channel: channel(self.file("wchan")),
            signals: match &status {
                Known::Value(status) => Known::Value(signal_masks(status)),
                Known::Absent => Known::Absent,
                Known::Denied => Known::Denied,
            },
            limits: self.limits(),
            scheduling: Scheduling {
                nice: stat_of.as_ref().map_or(Raw::ABSENT, |stat| stat.nice),
                policy: stat_of.as_ref().map_or(Raw::ABSENT, |stat| stat.policy),
                real_time: real_time(stat_of.as_ref()),
                io: crate::act::io_priority(self.key.pid),
                cores: Known::from(cores),
                of: online(&self.roots),
            },
            oom_score: number_of("oom_score"),
            oom_adjust: number_of("oom_score_adj"),
            frozen: frozen.is_some(),
            group: frozen.unwrap_or_default(),
            pss: Raw::ABSENT,
            threads: stat_of.as_ref().map_or(Raw::ABSENT, |stat| stat.threads),
            descriptors: self.descriptors(),
        }
    }

    /// The arguments, each as it was given.
    fn arguments(&self) -> Known<Vec<String>> {
        self.file("cmdline").map(|text| {
            let text = text.strip_suffix(b"\0").unwrap_or(&text);
            if text.is_empty() { vec![] } else { text.split(|byte| *byte == 0).map(clean).collect() }
        })
    }

    /// The group that is frozen and has it in it, its own or one above.
    pub(crate) fn frozen(&self) -> Option<String> {
        let Known::Value(groups) = self.file("cgroup") else { return None };
        sys::freezer::frozen_by(&self.roots.sys, &groups)
    }

    /// Its environment, as it was at the start of the program.
    pub fn environment(&self) -> Known<Vec<(String, String)>> {
        self.file("environ").map(|text| {
            let entries = text.split(|byte| *byte == 0).filter(|entry| !entry.is_empty());
            entries
                .map(|entry| {
                    let at = entry.iter().position(|byte| *byte == b'=').unwrap_or(entry.len());
                    (clean(&entry[..at]), clean(entry.get(at + 1..).unwrap_or_default()))
                })
                .collect()
        })
    }

    /// Its limits.
    pub fn limits(&self) -> Known<Vec<Limit>> {
        self.file("limits").map(|text| lines(&text).skip(1).filter_map(limit).collect())
    }

    /// What it does with signals.
    pub fn signals(&self) -> Known<Signals> {
        self.file("status").map(|text| signal_masks(&text))
    }

    /// What a task does, from the text of its `syscall`.
    fn doing(&self, text: &Known<Vec<u8>>, peers: &mut Peers) -> Known<Doing> {
        let text = match text {
            Known::Value(text) => text,
            Known::Absent => return Known::Absent,
            Known::Denied => return Known::Denied,
        };
        Known::from(call(text).map(|call| match call {
            Call::Running => Doing::Running,
            Call::None => Doing::Kernel,
            Call::In { number, first } => {
                let name = calls::name(number);
                let on = name.filter(|name| calls::takes_descriptor(name)).and_then(|_| {
                    // A descriptor is an int, whatever stands in the upper half of the register.
                    self.name_of_descriptor(i64::from(first as i32), peers)
                });
                let name = name.map_or_else(|| Text::from(format!("call {number}")), Text::from);
                Doing::Call { name, on }
            }
        }))
    }

    /// Its threads by number.
    fn threads(&self, peers: &mut Peers) -> Known<Vec<Thread>> {
        told_apart(self.at("task").and_then(std::fs::read_dir)).map(|entries| {
            let mut threads: Vec<Thread> = entries
                .flatten()
                .filter_map(|entry| {
                    let folder = entry.path();
                    let stat = read_file(&folder.join("stat")).ok()?;
                    let ran = read_file(&folder.join("schedstat")).ok();
                    let row = pid_task::parse(self.key.pid, &stat, ran.as_deref())?;
                    let doing = self.doing(&told_apart(read_file(&folder.join("syscall"))), peers);
                    let wait_channel = channel(told_apart(read_file(&folder.join("wchan"))));
                    Some(Thread { row, doing, wait_channel })
                })
                .collect();
            threads.sort_by_key(|thread| Row::key(&thread.row));
            threads
        })
    }

    /// How many descriptors are open: the kernel gives their number as the size of the folder, or they are counted.
    fn descriptors(&self) -> Known<i64> {
        let folder = self.at("fd");
        let size = folder.as_ref().ok().and_then(|path| std::fs::metadata(path).ok()).map(|meta| meta.len());
        match size {
            Some(size)
                if size > 0 && std::fs::read_dir(folder.as_ref().unwrap_or(&PathBuf::new())).is_ok() =>
            {
                Known::Value(size as i64)
            }
            _ => told_apart(folder.and_then(std::fs::read_dir)).map(|entries| entries.count() as i64),
        }
    }
}

/// Cores that are online; Documentation/ABI/stable/sysfs-devices-system-cpu.
pub fn online(roots: &Roots) -> CoreSet {
    let text = read_file(&roots.sys.join("devices/system/cpu/online")).unwrap_or_default();
    std::str::from_utf8(text.trim_ascii()).ok().and_then(|list| list.parse().ok()).unwrap_or_default()
}

/// The priority of a real-time policy: the kernel's scale counts it down from −2; `proc_pid_stat(5)` priority.
fn real_time(stat: Option<&pid_stat::ProcessStat<'_>>) -> Raw {
    let priority = stat.and_then(|stat| stat.priority.value());
    priority.map(|priority| if priority < -1 { -1 - priority } else { 0 }).into()
}

pub(crate) fn told_apart<T>(result: io::Result<T>) -> Known<T> {
    match result {
        Ok(value) => Known::Value(value),
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => Known::Denied,
        Err(_) => Known::Absent,
    }
}

fn channel(text: Known<Vec<u8>>) -> Known<String> {
    text.map(|text| if text == b"0" { String::new() } else { clean(&text) })
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

/// What stands in `proc_pid_syscall(5)`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Call {
    Running,
    None,
    In { number: i64, first: u64 },
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
