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

/// Why a signal was not sent.
#[derive(Clone, Copy, Debug, thiserror::Error, PartialEq, Eq)]
pub enum SignalError {
    /// The process ended before; its PID is free or belongs to another by now.
    #[error("it was already gone")]
    Gone,
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
    at: Instant,
}

/// Sends a signal to exactly this process.
pub fn send(key: ProcessKey, number: i32) -> Result<Sent, SignalError> {
    let pid = i32::try_from(key.pid)
        .ok()
        .filter(|pid| *pid > 0)
        .and_then(Pid::from_raw)
        .ok_or(SignalError::Gone)?;
    let process = pidfd_open(pid, PidfdFlags::empty())?;
    let stat =
        read_file(std::path::Path::new(&format!("/proc/{}/stat", key.pid))).map_err(|_| SignalError::Gone)?;
    if pid_stat::parse(&stat, 1).is_none_or(|stat| stat.start_ticks != key.start) {
        return Err(SignalError::Gone);
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
    Ok(Sent { process, at: Instant::now() })
}

impl Sent {
    /// Waits until the process has ended, at most so long. Gives the time since the signal was sent, or nothing
    /// when it is still there.
    pub fn wait_gone(&self, at_most: Duration) -> Option<Duration> {
        let end = self.at + at_most;
        loop {
            let left = end.saturating_duration_since(Instant::now());
            let mut descriptors = [PollFd::new(&self.process, PollFlags::IN)];
            let time = Timespec { tv_sec: left.as_secs() as i64, tv_nsec: i64::from(left.subsec_nanos()) };
            match poll(&mut descriptors, Some(&time)) {
                Ok(0) => return None,
                Ok(_) => return Some(self.at.elapsed()),
                Err(Errno::INTR) => {}
                Err(_) => return None,
            }
        }
    }
}
