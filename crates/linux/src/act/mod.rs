//! Actions on processes. A target is named by PID *and* start time, so that a recycled PID is never hit: a descriptor of the
//! process is opened, the start time compared, and for calls that take a bare PID it is looked afterwards whether the
//! process lived through them, so that the number was its own all the time.
//!
//! What was changed is read back from the kernel; what the kernel refuses is said with what would allow it.

mod change;
mod freeze;
mod signal;

pub use change::{change, io_priority, runs_on};
pub use freeze::freeze;
pub use signal::{Ending, Held, left_behind, now_ticks, why_still};

use crate::proc::{pid_stat, read_file};
use crate::users::Users;
use dozor_core::deed::{Deed, Outcome};
use dozor_core::known::Known;
use dozor_core::reading::ProcessKey;
use dozor_core::text::clean;
use rustix::io::Errno;
use std::path::Path;

/// Sends a signal to exactly this process.
///
/// # Errors
/// What became of it where it could not be sent: it was gone, a zombie, somebody else's.
pub fn send(key: ProcessKey, number: i32) -> Result<Held, Outcome> {
    let mut held = Held::open(key)?;
    held.signal(number)?;
    Ok(held)
}

/// What is at present, in the respect that a deed changes; none where that cannot be read.
pub fn present(key: ProcessKey, deed: &Deed) -> Option<Deed> {
    let inside = crate::inside::Inside::of(&crate::Roots::default(), key);
    if let Deed::Freeze | Deed::Thaw = deed {
        let stat = inside.file("stat").value()?;
        let stopped = pid_stat::parse(&stat, 1)?.state.value() == Some(i64::from(b'T'));
        return Some(if stopped || inside.frozen().is_some() { Deed::Freeze } else { Deed::Thaw });
    }
    change::read(&inside, key.pid, deed)
}

/// Name of a process by PID; empty where it is not there.
pub fn name_of(pid: i64) -> String {
    let stat = read_file(Path::new(&format!("/proc/{pid}/stat"))).unwrap_or_default();
    pid_stat::parse(&stat, 1).map_or(String::new(), |stat| clean(stat.name))
}

/// What would allow a deed that the kernel refused; capabilities(7).
fn needs(key: ProcessKey, deed: &Deed) -> String {
    let status = read_file(Path::new(&format!("/proc/{}/status", key.pid))).unwrap_or_default();
    let uid = crate::proc::pid_status::parse(&status).real_uid;
    let me = rustix::process::geteuid().as_raw();
    let user = uid.map(|uid| Users::default().name(uid)).filter(|user| **user != *"root");
    if uid != Some(me) && me != 0 {
        return match user {
            Some(user) => format!("run dozor as {user} or root"),
            None => "run dozor as root".to_owned(),
        };
    }
    let (what, capability) = match deed {
        Deed::Nice(_) => ("giving it more CPU needs root", "CAP_SYS_NICE, or a higher limit RLIMIT_NICE"),
        Deed::Policy(..) => ("real-time scheduling needs root", "CAP_SYS_NICE, or a limit RLIMIT_RTPRIO"),
        Deed::Io(_) => ("that disk priority needs root", "CAP_SYS_NICE"),
        Deed::Oom(_) => ("a lower value than it was given needs root", "CAP_SYS_RESOURCE"),
        Deed::Limit(..) => ("raising the upper limit needs root", "CAP_SYS_RESOURCE"),
        Deed::Freeze | Deed::Thaw => {
            ("its control group belongs to root: run dozor as root", "write access to the group")
        }
        Deed::Signal(_) => ("the kernel or its security module forbids it", "CAP_KILL"),
        Deed::Cores(_) => ("the kernel or its security module forbids it", "CAP_SYS_NICE"),
    };
    format!("{what} ({capability})")
}

fn refused(key: ProcessKey, deed: &Deed, error: Errno) -> Outcome {
    match error {
        Errno::SRCH => Outcome::AlreadyGone,
        Errno::PERM | Errno::ACCESS => Outcome::NotPermitted(needs(key, deed)),
        Errno::INVAL => Outcome::Failed(match deed {
            Deed::Cores(_) => {
                "none of these cores is there for it: they are offline or outside of its cpuset".to_owned()
            }
            other => format!("the kernel takes no {} for it", other.name()),
        }),
        other => Outcome::Failed(format!("the kernel refused: {}", dozor_core::text::without_number(&other))),
    }
}

/// The parent of a process that has ended and was not collected; none where it lives.
fn uncollected(key: ProcessKey) -> Result<Option<i64>, Gone> {
    let path = format!("/proc/{}/stat", key.pid);
    let stat = read_file(Path::new(&path)).map_err(|_| Gone)?;
    let stat = pid_stat::parse(&stat, 1).filter(|stat| stat.start_ticks == key.start).ok_or(Gone)?;
    // The state is that of the main thread; while others live, the process has not ended.
    let ended = stat.state.value() == Some(i64::from(b'Z')) && stat.threads.value() <= Some(1);
    Ok(ended.then(|| stat.ppid.value().unwrap_or(0)))
}

/// The process is not there any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Gone;

/// Whether a process that is looked into is frozen with its group, and by which.
pub fn frozen_by(key: ProcessKey) -> Option<String> {
    crate::inside::Inside::of(&crate::Roots::default(), key).frozen()
}

/// What a process does with signals.
pub fn signals_of(key: ProcessKey) -> Known<dozor_core::inside::Signals> {
    crate::inside::Inside::of(&crate::Roots::default(), key).signals()
}
