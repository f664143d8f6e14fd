//! What the kernel refused, with what would allow it; capabilities(7).

use crate::proc::{pid_status, read_file};
use crate::users::Users;
use dozor_core::deed::{Deed, Outcome};
use dozor_core::reading::ProcessKey;
use rustix::io::Errno;
use std::path::Path;

/// What would allow a deed that the kernel refused; capabilities(7).
fn needs(key: ProcessKey, deed: &Deed) -> String {
    let status = read_file(Path::new(&format!("/proc/{}/status", key.pid))).unwrap_or_default();
    let uid = pid_status::parse(&status).real_uid;
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

/// What became of a deed that ended with an error.
pub(super) fn refused(key: ProcessKey, deed: &Deed, error: Errno) -> Outcome {
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
