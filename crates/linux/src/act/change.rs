//! Niceness, scheduling, cores, disk priority, OOM preference, limits: changed, and read back; setpriority(2),
//! sched_setscheduler(2), sched_setaffinity(2), ioprio_set(2), prlimit(2), `proc_pid_oom_score_adj(5)`.
//!
//! The kernel keeps niceness, scheduling, cores and disk priority for each thread; a process is changed with all of them.

use super::refusal::refused;
use super::signal::Held;
use crate::Roots;
use crate::inside::{Inside, online};
use crate::ioprio::{io_priority, set_io_priority};
use crate::proc::{number, pid_stat, read_file, words};
use dozor_core::cores::CoreSet;
use dozor_core::deed::{Account, Deed, Outcome, Resource};
use dozor_core::known::Raw;
use dozor_core::reading::ProcessKey;
use rustix::io::Errno;
use rustix::process::{Pid, Rlimit, prlimit, setpriority_process};
use rustix::thread::{CpuSet, sched_getaffinity, sched_setaffinity};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Write as _;
use std::time::{Duration, Instant};

/// New threads are looked for so often at most.
const ROUNDS: usize = 16;

fn last_error() -> Errno {
    Errno::from_raw_os_error(std::io::Error::last_os_error().raw_os_error().unwrap_or(0))
}

fn pid_of(tid: i64) -> Result<Pid, Errno> {
    i32::try_from(tid).ok().filter(|tid| *tid > 0).and_then(Pid::from_raw).ok_or(Errno::SRCH)
}

/// The cores of a thread; none where that cannot be read.
fn cores_of(tid: i64) -> Option<CoreSet> {
    let set = sched_getaffinity(Some(pid_of(tid).ok()?)).ok()?;
    Some((0..CpuSet::MAX_CPU).filter(|core| set.is_set(*core)).collect())
}

fn set_cores(tid: i64, cores: &CoreSet) -> Result<(), Errno> {
    let mut set = CpuSet::new();
    for core in cores.iter() {
        if core >= CpuSet::MAX_CPU {
            return Err(Errno::INVAL);
        }
        set.set(core);
    }
    sched_setaffinity(Some(pid_of(tid)?), &set)
}

fn set_policy(tid: i64, policy: i32, priority: i32) -> Result<(), Errno> {
    let pid = pid_of(tid)?.as_raw_nonzero().get();
    let parameters = libc::sched_param { sched_priority: priority };
    // SAFETY: the pointer is to a live sched_param, which the call only reads.
    let status = unsafe { libc::syscall(libc::SYS_sched_setscheduler, pid, policy, &raw const parameters) };
    if status == 0 { Ok(()) } else { Err(last_error()) }
}

fn set_of_thread(tid: i64, deed: &Deed) -> Result<(), Errno> {
    match deed {
        Deed::Nice(nice) => setpriority_process(Some(pid_of(tid)?), *nice),
        Deed::Policy(policy, priority) => set_policy(tid, *policy, *priority),
        Deed::Io(value) => set_io_priority(tid, *value),
        Deed::Cores(cores) => set_cores(tid, cores),
        Deed::Signal(_) | Deed::Freeze | Deed::Thaw | Deed::Oom(_) | Deed::Limit(..) => Err(Errno::INVAL),
    }
}

fn resource(resource: Resource) -> rustix::process::Resource {
    match resource {
        Resource::Files => rustix::process::Resource::Nofile,
        Resource::CoreDump => rustix::process::Resource::Core,
        Resource::FileSize => rustix::process::Resource::Fsize,
        Resource::Cpu => rustix::process::Resource::Cpu,
        Resource::AddressSpace => rustix::process::Resource::As,
        Resource::Processes => rustix::process::Resource::Nproc,
        Resource::Stack => rustix::process::Resource::Stack,
        Resource::Locked => rustix::process::Resource::Memlock,
    }
}

/// How a thread is in the respect that a deed changes.
fn read_of_thread(tid: i64, stat: &[u8], deed: &Deed) -> Option<Deed> {
    let stat = pid_stat::parse(stat, 1)?;
    let small = |raw: Raw| raw.value().and_then(|value| i32::try_from(value).ok());
    Some(match deed {
        Deed::Nice(_) => Deed::Nice(small(stat.nice)?),
        Deed::Policy(..) => {
            let priority = small(stat.priority)?;
            Deed::Policy(small(stat.policy)?, if priority < -1 { -1 - priority } else { 0 })
        }
        Deed::Io(_) => Deed::Io(small(io_priority(tid))?),
        Deed::Cores(_) => Deed::Cores(cores_of(tid)?),
        Deed::Signal(_) | Deed::Freeze | Deed::Thaw | Deed::Oom(_) | Deed::Limit(..) => return None,
    })
}

/// How a process is in the respect that a deed changes, its first thread for all.
pub(super) fn read(inside: &Inside, pid: i64, deed: &Deed) -> Option<Deed> {
    match deed {
        Deed::Oom(_) => {
            let value = number(inside.file("oom_score_adj").value()?.trim_ascii())?;
            Some(Deed::Oom(i32::try_from(value).ok()?))
        }
        Deed::Limit(resource, ..) => {
            let limits = inside.limits().value()?;
            let limit = limits.iter().find(|limit| limit.name == resource.kernel_name())?;
            let value = |value: Option<i64>| value.and_then(|value| u64::try_from(value).ok());
            Some(Deed::Limit(*resource, value(limit.soft), value(limit.hard)))
        }
        other => read_of_thread(pid, &inside.file("stat").value()?, other),
    }
}

/// Threads of a process by its open folder.
fn threads(inside: &Inside) -> BTreeSet<i64> {
    let entries = inside.at("task").and_then(std::fs::read_dir);
    let entries = entries.into_iter().flatten().flatten();
    entries.filter_map(|entry| number(entry.file_name().as_encoded_bytes())).collect()
}

fn set(inside: &Inside, pid: i64, deed: &Deed) -> Result<(), Errno> {
    match deed {
        Deed::Oom(value) => {
            let error = |error: std::io::Error| Errno::from_io_error(&error).unwrap_or(Errno::IO);
            let path = inside.at("oom_score_adj").map_err(error)?;
            let mut file = std::fs::OpenOptions::new().write(true).open(path).map_err(error)?;
            file.write_all(value.to_string().as_bytes()).map_err(error)
        }
        Deed::Limit(which, soft, hard) => {
            let limit = Rlimit { current: *soft, maximum: *hard };
            prlimit(Some(pid_of(pid)?), resource(*which), limit).map(drop)
        }
        of_threads => {
            // Threads that are made meanwhile inherit from those that made them; they are looked for until none is new.
            let mut done = BTreeSet::new();
            for _ in 0..ROUNDS {
                let fresh: Vec<i64> = threads(inside).difference(&done).copied().collect();
                if fresh.is_empty() {
                    break;
                }
                for tid in fresh {
                    match set_of_thread(tid, of_threads) {
                        // A thread that has ended meanwhile is no failure, the process is.
                        Ok(()) | Err(Errno::SRCH) => done.insert(tid),
                        Err(error) => return Err(error),
                    };
                }
            }
            if done.is_empty() { Err(Errno::SRCH) } else { Ok(()) }
        }
    }
}

/// Whether what was read is what was wanted. The kernel leaves out cores that are offline or that a cpuset forbids.
fn as_wanted(deed: &Deed, now: &Deed) -> bool {
    match (deed, now) {
        (Deed::Cores(wanted), Deed::Cores(now)) => {
            let there = online(&Roots::default());
            let wanted: CoreSet = wanted.iter().filter(|core| there.is_empty() || there.has(*core)).collect();
            !now.is_empty() && now.iter().filter(|core| there.has(*core)).all(|core| wanted.has(core))
        }
        // The class alone counts where the level means nothing.
        (Deed::Io(wanted), Deed::Io(now)) if wanted >> 13 == 3 => now >> 13 == 3,
        (wanted, now) => wanted == now,
    }
}

/// Threads that are not as was wanted.
fn others(inside: &Inside, deed: &Deed) -> usize {
    if let Deed::Oom(_) | Deed::Limit(..) = deed {
        return 0;
    }
    let differs = |tid: &i64| {
        let stat =
            inside.at(&format!("task/{tid}/stat")).and_then(|path| read_file(&path)).unwrap_or_default();
        read_of_thread(*tid, &stat, deed).is_some_and(|now| !as_wanted(deed, &now))
    };
    threads(inside).iter().filter(|tid| differs(tid)).count()
}

/// Changes one process with all its threads; what is before and after is read from the kernel.
pub fn change(key: ProcessKey, deed: &Deed) -> Account {
    let held = match Held::open(key) {
        Ok(held) => held,
        Err(outcome) => return outcome.into(),
    };
    let inside = Inside::of(&Roots::default(), key);
    let before = read(&inside, key.pid, deed);
    let as_before = before.as_ref().is_some_and(|before| before == deed) && others(&inside, deed) == 0;
    let result = if as_before { Ok(()) } else { set(&inside, key.pid, deed) };
    if !held.lives() {
        return Outcome::AlreadyGone.into();
    }
    let after = read(&inside, key.pid, deed);
    let outcome = match (result, &after) {
        (Err(error), _) => refused(key, deed, error),
        (Ok(()), _) if as_before => Outcome::AsBefore,
        (Ok(()), Some(now)) if as_wanted(deed, now) => match others(&inside, deed) {
            0 => Outcome::Changed,
            some => Outcome::Failed(format!("{some} of its threads are not as was wanted")),
        },
        (Ok(()), Some(now)) => {
            Outcome::Failed(format!("the kernel made it {} {}", now.subject(), now.value()))
        }
        (Ok(()), None) => Outcome::Failed("it was changed, but cannot be read back".to_owned()),
    };
    // Threads that ran elsewhere have been moved by the kernel by now.
    let seen_on = match (&outcome, deed) {
        (Outcome::Changed, Deed::Cores(_)) => runs_on(key),
        _ => None,
    };
    Account { before, after, seen_on, ..outcome.into() }
}

/// Run time in nanoseconds and last core of each thread.
fn runs(inside: &Inside) -> BTreeMap<i64, (i64, usize)> {
    let of = |tid: i64| {
        let file = |name: &str| read_file(&inside.at(&format!("task/{tid}/{name}")).ok()?).ok();
        let ran = number(words(&file("schedstat")?).next()?)?;
        let core = pid_stat::parse(&file("stat")?, 1)?.core.value()?;
        Some((tid, (ran, usize::try_from(core).ok()?)))
    };
    threads(inside).into_iter().filter_map(of).collect()
}

/// Cores that threads of a process run on within a moment from now, as proof of where it may; none where none of them ran.
pub fn runs_on(key: ProcessKey) -> Option<CoreSet> {
    const PATIENCE: Duration = Duration::from_millis(200);
    let inside = Inside::of(&Roots::default(), key);
    let (begin, before) = (Instant::now(), runs(&inside));
    let mut seen = BTreeSet::new();
    while begin.elapsed() < PATIENCE {
        std::thread::sleep(Duration::from_millis(20));
        let ran = runs(&inside);
        seen.extend(
            ran.iter()
                .filter(|(tid, (time, _))| before.get(tid).is_some_and(|(old, _)| time > old))
                .map(|(_, (_, core))| *core),
        );
    }
    (!seen.is_empty()).then(|| seen.into_iter().collect())
}
