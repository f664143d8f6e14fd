//! Threads of processes with several. They cost two files each, so they are read only where somebody asks.

use crate::proc::pid::{open_pid, read_pid};
use crate::proc::{number, pid_task};
use dozor_core::reading::{ProcessRow, ThreadRow};
use rustix::fs::RawDir;
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;
use std::sync::Arc;

/// Threads of all processes that have several. One that ends in between is left out.
pub fn read(proc: &OwnedFd, processes: &[Arc<ProcessRow>], buffer: &mut Vec<u8>) -> Vec<ThreadRow> {
    let mut rows = vec![];
    for process in processes.iter().filter(|row| row.threads.value() > Some(1)) {
        let Some(pid) = process.pid.value() else { continue };
        for tid in numbers(proc, pid) {
            let Ok(stat) = read_pid(proc, pid, &format!("task/{tid}/stat"), buffer).map(<[u8]>::to_vec)
            else {
                continue;
            };
            let ran = read_pid(proc, pid, &format!("task/{tid}/schedstat"), buffer).ok();
            rows.extend(pid_task::parse(pid, &stat, ran));
        }
    }
    rows
}

/// The threads that a process has now.
pub fn numbers(proc: &OwnedFd, pid: i64) -> Vec<i64> {
    let mut numbers = vec![];
    if let Ok(folder) = open_pid(proc, pid, "task") {
        let mut space = [MaybeUninit::uninit(); 4 << 10];
        let mut entries = RawDir::new(&folder, &mut space);
        while let Some(Ok(entry)) = entries.next() {
            numbers.extend(number(entry.file_name().to_bytes()));
        }
    }
    numbers
}
