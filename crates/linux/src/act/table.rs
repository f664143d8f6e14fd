//! The table of processes: who is in it, and who has ended without being collected.

use crate::proc::{pid_stat, read_file};
use dozor_core::reading::ProcessKey;
use dozor_core::text::clean;
use std::path::Path;

/// Name of a process by PID; empty where it is not there.
pub fn name_of(pid: i64) -> String {
    let stat = read_file(Path::new(&format!("/proc/{pid}/stat"))).unwrap_or_default();
    pid_stat::parse(&stat, 1).map_or(String::new(), |stat| clean(stat.name))
}

/// The parent of a process that has ended and was not collected; none where it lives.
pub(super) fn uncollected(key: ProcessKey) -> Result<Option<i64>, Gone> {
    let path = format!("/proc/{}/stat", key.pid);
    let stat = read_file(Path::new(&path)).map_err(|_| Gone)?;
    let stat = pid_stat::parse(&stat, 1).filter(|stat| stat.start_ticks == key.start).ok_or(Gone)?;
    // The state is that of the main thread; while others live, the process has not ended.
    let ended = stat.state.value() == Some(i64::from(b'Z')) && stat.threads.value() <= Some(1);
    Ok(ended.then(|| stat.ppid.value().unwrap_or(0)))
}

/// The process is not there any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Gone;
