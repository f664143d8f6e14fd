//! Signals through `pidfd_open(2)` and `pidfd_send_signal(2)`.
//!
//! The descriptor is opened first and the start time is compared afterwards: from then on the descriptor means
//! that very process, whatever becomes of the PID.

use crate::proc::{pid_stat, read_file};
use dozor_core::reading::ProcessKey;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use rustix::process::{Pid, PidfdFlags, pidfd_open};
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::time::{Duration, Instant};

/// What became of a process within some time after a signal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    /// It is gone from the table of processes, so long after the signal.
    Gone(Duration),
    /// It ended, but its parent, with this PID, has not collected it: a zombie.
    Zombie(i64),
    /// It is still there.
    StillThere,
}

/// Why a signal was not sent.
#[derive(Clone, Copy, Debug, thiserror::Error, PartialEq, Eq)]
pub enum SignalError {
    /// The process ended before; its PID is free or belongs to another by now.
    #[error("it was already gone")]
    Gone,
    /// It is a zombie: it ended before, and its parent with this PID has not collected it.
    #[error("it has ended already; its parent, PID {0}, must collect it")]
    Zombie(i64),
    /// The process belongs to somebody else.
    #[error("not permitted")]
    NotPermitted,
    /// Anything else the kernel says.
    #[error("the kernel refused: {0}")]
    Other(Errno),
}

impl From<Errno> for SignalError {
    fn from(error: Errno) -> Self {
        match error {
            Errno::SRCH => SignalError::Gone,
            Errno::PERM | Errno::ACCESS => SignalError::NotPermitted,
            other => SignalError::Other(other),
        }
    }
}

/// A signal that was sent, and the process that it was sent to.
pub struct Sent {
    process: OwnedFd,
    key: ProcessKey,
    at: Instant,
}

/// The parent of a process that is a zombie; none where it is none, or no longer there at all.
fn uncollected(key: ProcessKey) -> Result<Option<i64>, SignalError> {
    let path = format!("/proc/{}/stat", key.pid);
    let stat = read_file(std::path::Path::new(&path)).map_err(|_| SignalError::Gone)?;
    let stat = pid_stat::parse(&stat, 1).filter(|stat| stat.start_ticks == key.start);
    let stat = stat.ok_or(SignalError::Gone)?;
    // The state is that of the main thread; while others live, the process has not ended.
    let ended = stat.state.value() == Some(i64::from(b'Z')) && stat.threads.value() <= Some(1);
    Ok(ended.then(|| stat.ppid.value().unwrap_or(0)))
}

/// Sends a signal to exactly this process.
pub fn send(key: ProcessKey, number: i32) -> Result<Sent, SignalError> {
    let pid = i32::try_from(key.pid)
        .ok()
        .filter(|pid| *pid > 0)
        .and_then(Pid::from_raw)
        .ok_or(SignalError::Gone)?;
    let process = pidfd_open(pid, PidfdFlags::empty())?;
    if let Some(parent) = uncollected(key)? {
        return Err(SignalError::Zombie(parent));
    }
    // rustix has no safe way to name every real-time signal, so the call is made here.
    // SAFETY: the descriptor is open, the information pointer may be null, the call writes to no memory.
    let status = unsafe {
        libc::syscall(
            libc::SYS_pidfd_send_signal,
            process.as_raw_fd(),
            number,
            std::ptr::null::<libc::siginfo_t>(),
            0,
        )
    };
    if status != 0 {
        let code = std::io::Error::last_os_error().raw_os_error().unwrap_or(0);
        return Err(Errno::from_raw_os_error(code).into());
    }
    Ok(Sent { process, key, at: Instant::now() })
}

impl Sent {
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
                Err(_) => return Ending::Gone(self.at.elapsed()),
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
}
