//! Who a process is and how it is, its threads, its environment.

use super::calls;
use super::process::{Inside, online, signal_masks, status_field, told_apart};
use super::sockets::Peers;
use crate::ioprio::io_priority;
use crate::proc::pid::{is_from_memory, read_pid};
use crate::proc::{number, pid_stat, pid_task, words};
use crate::users::Users;
use dozor_core::inside::{Doing, Facts, Scheduling, Thread};
use dozor_core::known::{Known, Raw};
use dozor_core::row::Row;
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::{Text, clean};
use rustix::fs::{Dir, Mode, OFlags, open};
use std::io;
use std::os::unix::fs::FileExt as _;
use std::path::PathBuf;

impl Inside {
    /// Who it is and how it is.
    pub(super) fn facts(&self, users: &mut Users, peers: &mut Peers) -> Facts {
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
            Known::Value((path, gone)) => {
                let replaced = gone && !is_from_memory(path.as_bytes());
                (Known::Value(path), replaced)
            }
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
                io: io_priority(self.key.pid),
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

    /// What a task does, from the text of its `syscall`.
    pub(super) fn doing(&self, text: &Known<Vec<u8>>, peers: &mut Peers) -> Known<Doing> {
        let text = match text {
            Known::Value(text) => text,
            Known::Absent => return Known::Absent,
            Known::Denied => return Known::Denied,
        };
        Known::from(call(text).map(|call| match call {
            Call::Running => Doing::Running,
            Call::None => Doing::Kernel,
            Call::In { number, arguments } => {
                let name = calls::name(number, self.is_of_other_width().unwrap_or(false));
                let on = name.and_then(|name| match calls::path_argument(name) {
                    Some(place) => self.path_at(arguments[place]),
                    // A descriptor is an int, whatever stands in the upper half of the register.
                    None if calls::takes_descriptor(name) => {
                        self.name_of_descriptor(i64::from(arguments[0] as i32), peers)
                    }
                    None => None,
                });
                let name = name.map_or_else(|| Text::from(format!("call {number}")), Text::from);
                Doing::Call { name, on }
            }
        }))
    }

    /// A path in the memory of the process, where that may be read; `proc_pid_mem(5)`.
    fn path_at(&self, address: u64) -> Option<Text> {
        const LONGEST: usize = 512;
        let memory = std::fs::File::open(self.at("mem").ok()?).ok()?;
        let mut bytes = [0; LONGEST];
        // Behind the page there may be nothing.
        let within = LONGEST.min(4096 - (address % 4096) as usize);
        let first = memory.read_at(&mut bytes[..within], address).ok()?;
        let more = if first == within && !bytes[..first].contains(&0) {
            memory.read_at(&mut bytes[within..], address + within as u64).unwrap_or(0)
        } else {
            0
        };
        let read = &bytes[..first + more];
        let end = read.iter().position(|byte| *byte == 0)?;
        (end > 0).then(|| clean(&read[..end]).into())
    }

    /// Its threads by number. Their files are opened below the open folder, which the kernel need not walk to anew for each.
    pub(super) fn threads(&self, peers: &mut Peers) -> Known<Vec<Thread>> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = self.at("task").and_then(|path| Ok(open(path, flags, Mode::empty())?));
        told_apart(folder.and_then(|folder| Ok((Dir::read_from(&folder)?, folder)))).map(
            |(entries, folder)| {
                let mut buffer = vec![0; 4096];
                let mut threads: Vec<Thread> = entries
                    .filter_map(|entry| {
                        let tid = number(entry.ok()?.file_name().to_bytes())?;
                        let mut file = |name: &str| -> Known<Vec<u8>> {
                            let read = read_pid(&folder, tid, name, &mut buffer).map(<[u8]>::to_vec);
                            told_apart(read.map_err(io::Error::from))
                        };
                        let (stat, ran) = (file("stat").value()?, file("schedstat").value());
                        let (call, channel_text) = (file("syscall"), file("wchan"));
                        let row = pid_task::parse(self.key.pid, &stat, ran.as_deref())?;
                        let doing = self.doing(&call, peers);
                        Some(Thread { row, doing, wait_channel: channel(channel_text) })
                    })
                    .collect();
                threads.cold_sort_by_key(|thread| Row::key(&thread.row));
                threads
            },
        )
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

/// The priority of a real-time policy: the kernel's scale counts it down from −2; `proc_pid_stat(5)` priority.
fn real_time(stat: Option<&pid_stat::ProcessStat<'_>>) -> Raw {
    let priority = stat.and_then(|stat| stat.priority.value());
    priority.map(|priority| if priority < -1 { -1 - priority } else { 0 }).into()
}

pub(super) fn channel(text: Known<Vec<u8>>) -> Known<String> {
    text.map(|text| if text == b"0" { String::new() } else { clean(&text) })
}

/// What stands in `proc_pid_syscall(5)`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Call {
    Running,
    None,
    In { number: i64, arguments: [u64; 6] },
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
    let mut arguments = [0; 6];
    for argument in &mut arguments {
        let digits = std::str::from_utf8(words.next()?.strip_prefix(b"0x")?).ok()?;
        *argument = u64::from_str_radix(digits, 16).ok()?;
    }
    Some(Call::In { number, arguments })
}
