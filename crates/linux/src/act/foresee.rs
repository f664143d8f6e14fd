//! What the kernel would refuse, found out without doing it: for `--dry-run`; kill(2), setpriority(2), sched_setaffinity(2).

use super::present::present;
use super::refusal::refused;
use super::signal::Held;
use crate::Roots;
use crate::access::capabilities;
use crate::inside::online;
use crate::proc::{pid_status, read_file};
use dozor_core::deed::{Deed, Outcome};
use dozor_core::reading::ProcessKey;
use rustix::io::Errno;
use rustix::process::{Resource, geteuid, getrlimit};
use std::path::Path;

/// Bit of CAP_SYS_NICE; capabilities(7).
const SYS_NICE: u64 = 23;
/// Lowest priority, from which RLIMIT_NICE counts; getrlimit(2).
const LOWEST: i64 = 20;

/// What would become of a deed that cannot be done to a process; none where the kernel would take it, as far as that is known
/// beforehand. Signals are asked for with signal 0; for niceness and cores the rules of the kernel are followed.
pub fn foresee(key: ProcessKey, deed: &Deed) -> Option<Outcome> {
    let mut held = match Held::open(key) {
        Ok(held) => held,
        Err(outcome) => return Some(outcome),
    };
    match deed {
        Deed::Signal(_) => held.signal(0).err().map(|outcome| match outcome {
            Outcome::NotPermitted(_) => refused(key, deed, Errno::PERM),
            other => other,
        }),
        Deed::Nice(nice) => {
            let lowers = present(key, deed).is_none_or(|now| matches!(now, Deed::Nice(now) if *nice < now));
            let limit = getrlimit(Resource::Nice).current.and_then(|limit| i64::try_from(limit).ok());
            let allowed = limit.is_none_or(|limit| LOWEST - i64::from(*nice) <= limit);
            let may = may_schedule_others() || is_ours(key) && (!lowers || allowed);
            (!may).then(|| refused(key, deed, Errno::PERM))
        }
        Deed::Cores(cores) => {
            let there = online(&Roots::default());
            if !there.is_empty() && !cores.iter().any(|core| there.has(core)) {
                return Some(refused(key, deed, Errno::INVAL));
            }
            let may = may_schedule_others() || is_ours(key);
            (!may).then(|| refused(key, deed, Errno::PERM))
        }
        _ => None,
    }
}

fn may_schedule_others() -> bool {
    let status = read_file(Path::new("/proc/self/status")).unwrap_or_default();
    capabilities(&status).is_some_and(|bits| bits >> SYS_NICE & 1 == 1)
}

/// Whether our effective user is the real or the effective user of a process.
fn is_ours(key: ProcessKey) -> bool {
    let status = read_file(Path::new(&format!("/proc/{}/status", key.pid))).unwrap_or_default();
    let status = pid_status::parse(&status);
    [status.real_uid, status.uid].contains(&Some(geteuid().as_raw()))
}
