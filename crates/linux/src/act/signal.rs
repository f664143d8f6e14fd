//! Signals through `pidfd_open(2)` and `pidfd_send_signal(2)`, and what becomes of the process afterwards.
//!
//! The descriptor is opened first and the start time is compared afterwards: from then on the descriptor means
//! that very process, whatever becomes of the PID.

use super::refusal::refused;
use super::table::{Gone, name_of, uncollected};
use crate::inside::{Inside, Looker};
use crate::proc::{pid_stat, read_file};
use crate::{Roots, clock};
use dozor_core::deed::{Deed, Left, Outcome, Still};
use dozor_core::inside::waits::{Task, words};
use dozor_core::inside::{Facts, Subject, Told, Treatment};
use dozor_core::reading::ProcessKey;
use dozor_core::text::clean;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use rustix::process::{Pid, PidfdFlags, pidfd_open};
use std::collections::HashSet;
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::path::Path;
use std::time::{Duration, Instant};

/// What became of a process within some time after a signal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ending {
    /// It is gone from the table of processes, so long after the signal.
    Gone(Duration),
    /// It ended, but its parent, with this PID, has not collected it: a zombie.
    Zombie(i64),
    /// It is still there.
    StillThere,
}

/// A process that is held by a descriptor.
pub struct Held {
    process: OwnedFd,
    key: ProcessKey,
    at: Instant,
    /// Its process group, and the tick of the signal: for those that it leaves behind.
    group: Option<i64>,
    since: i64,
}

/// Ticks since boot now, as start times are counted; `proc_pid_stat(5)` starttime.
pub fn now_ticks() -> i64 {
    let per_second = rustix::param::clock_ticks_per_second() as i64;
    clock::now().boot / (1_000_000_000 / per_second.max(1))
}

impl Held {
    /// Exactly this process, and no other that has its PID by now; says what became of it where it cannot be held.
    pub fn open(key: ProcessKey) -> Result<Held, Outcome> {
        let pid = i32::try_from(key.pid).ok().filter(|pid| *pid > 0).and_then(Pid::from_raw);
        let pid = pid.ok_or(Outcome::AlreadyGone)?;
        let process = pidfd_open(pid, PidfdFlags::empty()).map_err(|error| match error {
            Errno::SRCH | Errno::INVAL => Outcome::AlreadyGone,
            other => {
                Outcome::Failed(format!("the kernel refused: {}", dozor_core::text::without_number(&other)))
            }
        })?;
        match uncollected(key) {
            Err(Gone) => return Err(Outcome::AlreadyGone),
            Ok(Some(parent)) => return Err(Outcome::Zombie(parent, name_of(parent).into())),
            Ok(None) => {}
        }
        let stat = read_file(Path::new(&format!("/proc/{}/stat", key.pid))).unwrap_or_default();
        let group = pid_stat::parse(&stat, 1).and_then(|stat| stat.group.value());
        Ok(Held { process, key, at: Instant::now(), group, since: now_ticks() })
    }

    /// Its descriptor.
    pub(super) fn descriptor(self) -> OwnedFd {
        self.process
    }

    /// Sends a signal.
    pub fn signal(&mut self, number: i32) -> Result<(), Outcome> {
        (self.at, self.since) = (Instant::now(), now_ticks());
        // rustix has no safe way to name every real-time signal, so the call is made here.
        // SAFETY: the descriptor is open, the information pointer may be null, the call writes to no memory.
        let status = unsafe {
            libc::syscall(
                libc::SYS_pidfd_send_signal,
                self.process.as_raw_fd(),
                number,
                std::ptr::null::<libc::siginfo_t>(),
                0,
            )
        };
        if status != 0 {
            let code = std::io::Error::last_os_error().raw_os_error().unwrap_or(0);
            return Err(refused(self.key, &Deed::Signal(number), Errno::from_raw_os_error(code)));
        }
        Ok(())
    }

    /// Whether it has not ended: its PID is its own as long.
    pub fn lives(&self) -> bool {
        !self.has_ended_by(Instant::now())
    }

    /// Waits until the process is gone from the table, at most so long after the signal was sent. The descriptor of a process
    /// tells its end, not that its parent collected it (pidfd_open(2)), so the table is looked at as well.
    pub fn wait_gone(&self, at_most: Duration) -> Ending {
        const LOOK_AGAIN: Duration = Duration::from_millis(10);
        let end = self.at + at_most;
        if !self.has_ended_by(end) {
            return Ending::StillThere;
        }
        loop {
            match uncollected(self.key) {
                Err(Gone) => return Ending::Gone(self.at.elapsed()),
                Ok(parent) if Instant::now() >= end => {
                    return parent.map_or(Ending::StillThere, Ending::Zombie);
                }
                Ok(_) => std::thread::sleep(LOOK_AGAIN),
            }
        }
    }

    fn has_ended_by(&self, end: Instant) -> bool {
        loop {
            let left = end.saturating_duration_since(Instant::now());
            let mut descriptors = [PollFd::new(&self.process, PollFlags::IN)];
            let time = Timespec { tv_sec: left.as_secs() as i64, tv_nsec: i64::from(left.subsec_nanos()) };
            match poll(&mut descriptors, Some(&time)) {
                Ok(0) => return false,
                Ok(_) => return true,
                Err(Errno::INTR) => {}
                Err(_) => return false,
            }
        }
    }

    /// Processes of its process group that were started since the signal, and live.
    pub fn left_behind(&self) -> Vec<Left> {
        self.group.map_or(vec![], |group| left_behind(group, self.since, self.key.pid))
    }
}

/// Processes of a process group that were started at a tick or later, and live; one of them is left out. Those whose parent
/// was there before and lives are its own doing, not what somebody left behind.
pub fn left_behind(group: i64, since: i64, but: i64) -> Vec<Left> {
    let Ok(entries) = std::fs::read_dir("/proc") else { return vec![] };
    let (mut old, mut fresh) = (HashSet::new(), vec![]);
    for entry in entries.flatten() {
        let Some(pid) = crate::proc::number(entry.file_name().as_encoded_bytes()) else { continue };
        let Ok(text) = read_file(&entry.path().join("stat")) else { continue };
        let Some(stat) = pid_stat::parse(&text, 1).filter(|stat| stat.group.value() == Some(group)) else {
            continue;
        };
        if pid == but || stat.state.value() == Some(i64::from(b'Z')) {
            continue;
        }
        if stat.start_ticks < since {
            old.insert(pid);
        } else {
            let key = ProcessKey { pid, start: stat.start_ticks };
            fresh.push((Left { key, name: clean(stat.name).into() }, stat.ppid.value()));
        }
    }
    let is_left = |parent: &Option<i64>| parent.is_none_or(|parent| !old.contains(&parent));
    fresh.into_iter().filter(|(_, parent)| is_left(parent)).map(|(left, _)| left).collect()
}

/// Why a process is still there after a signal.
pub fn why_still(key: ProcessKey, number: i32) -> Still {
    const LOOKS: usize = 5;
    let mut looker = Looker::new(Roots::default());
    let mut found = Still::Unknown;
    for _ in 0..LOOKS {
        let Told::Facts(facts) = looker.look(key, Subject::Facts) else { return Still::Unknown };
        found = still(&facts, &Inside::of(&Roots::default(), key), number);
        // Programs hold signals back, and are blocked, for a moment while they start others; what lasts is the reason.
        if !matches!(found, Still::HoldsBack | Still::Blocked(_)) {
            break;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    found
}

fn still(facts: &Facts, inside: &Inside, number: i32) -> Still {
    let state = facts.state.value().and_then(|code| u8::try_from(code).ok()).map(char::from);
    if inside.frozen().is_some() {
        return Still::Frozen;
    }
    match state {
        Some('D') => {
            let task = Task { state, doing: &facts.doing, wait_channel: &facts.wait_channel, frozen: false };
            return Still::Blocked(words(task));
        }
        Some('T') if number != dozor_core::signals::KILL => return Still::Stopped,
        _ => {}
    }
    match facts.signals.clone().value().map(|masks| masks.treatment(number)) {
        Some(Treatment::Handled) => Still::Handles,
        Some(Treatment::Ignored) => Still::Ignores,
        Some(Treatment::Blocked) => Still::HoldsBack,
        Some(Treatment::Usual) | None => Still::Unknown,
    }
}

/// Sends a signal to exactly this process.
///
/// # Errors
/// What became of it where it could not be sent: it was gone, a zombie, somebody else's.
pub fn send(key: ProcessKey, number: i32) -> Result<Held, Outcome> {
    let mut held = Held::open(key)?;
    held.signal(number)?;
    Ok(held)
}
