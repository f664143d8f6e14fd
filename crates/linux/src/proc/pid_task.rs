//! `/proc/PID/task/TID/stat` and `schedstat`; `proc_pid_task(5)`.

use super::{number, pid_stat, words};
use dozor_core::known::Raw;
use dozor_core::reading::ThreadRow;
use dozor_core::text::clean;

/// One thread of a process, from the texts of its two files; the second may be missing.
pub fn parse(pid: i64, stat: &[u8], schedstat: Option<&[u8]>) -> Option<ThreadRow> {
    // No value of a thread is counted in pages.
    let stat = pid_stat::parse(stat, 1)?;
    Some(ThreadRow {
        name: clean(stat.name).into(),
        tid: Raw::new(stat.pid),
        pid: Raw::new(pid),
        start_ticks: Raw::new(stat.start_ticks),
        state: stat.state,
        user_ticks: stat.user_ticks,
        system_ticks: stat.system_ticks,
        run_ns: schedstat.and_then(|text| number(words(text).next()?)).into(),
        faults_minor: stat.faults_minor,
        faults_major: stat.faults_major,
        priority: stat.priority,
        nice: stat.nice,
        policy: stat.policy,
        core: stat.core,
        disk_wait_ticks: stat.disk_wait_ticks,
        core_wait_ns: schedstat.and_then(|text| number(words(text).nth(1)?)).into(),
    })
}
