//! Threads as rows: they are put into a sample of their own as if they were processes, so that every metric of the
//! catalogue is got for them in the same way.

use crate::reading::{HostFacts, ProcessRow, Reading, ThreadRow};
use crate::sample::Sample;
use std::collections::HashMap;
use std::sync::Arc;

/// The sample of threads; none where they were not collected. The parent of a thread is its process.
pub fn threads(sample: &Sample) -> Option<Sample> {
    if sample.now.threads.is_empty() {
        return None;
    }
    let host: Arc<HostFacts> = sample.host.clone();
    let before = sample.before.as_deref().map(|before| Arc::new(as_processes(before)));
    Some(Sample::new(host, before, Arc::new(as_processes(&sample.now))))
}

fn as_processes(reading: &Reading) -> Reading {
    let owners: HashMap<_, &Arc<ProcessRow>> = reading.processes.iter().map(|row| (row.pid, row)).collect();
    let rows = reading.threads.iter().map(|row| Arc::new(as_process(row, owners.get(&row.pid).copied())));
    // Cores and sensors tell how warm it is where a thread runs.
    Reading {
        system: reading.system.clone(),
        cores: reading.cores.clone(),
        sensors: reading.sensors.clone(),
        processes: rows.collect(),
        ..Reading::default()
    }
}

fn as_process(thread: &ThreadRow, owner: Option<&Arc<ProcessRow>>) -> ProcessRow {
    let owner = owner.map(|owner| &**owner);
    let text = |of: fn(&ProcessRow) -> &crate::text::Text| owner.map(of).cloned().unwrap_or_default();
    ProcessRow {
        name: thread.name.clone(),
        command: thread.name.clone(),
        program: text(|row| &row.program),
        user: text(|row| &row.user),
        real_user: text(|row| &row.real_user),
        service: text(|row| &row.service),
        cgroup: text(|row| &row.cgroup),
        pid: thread.tid,
        ppid: thread.pid,
        start_ticks: thread.start_ticks,
        state: thread.state,
        user_ticks: thread.user_ticks,
        system_ticks: thread.system_ticks,
        run_ns: thread.run_ns,
        faults_minor: thread.faults_minor,
        faults_major: thread.faults_major,
        priority: thread.priority,
        nice: thread.nice,
        policy: thread.policy,
        core: thread.core,
        disk_wait_ticks: thread.disk_wait_ticks,
        core_wait_ns: thread.core_wait_ns,
        ..ProcessRow::default()
    }
}
