//! Threads of processes with several. They cost two files each, so they are read only where somebody asks.

use crate::proc::pid::{open_pid, read_pid};
use crate::proc::{number, pid_task};
use dozor_core::known::Raw;
use dozor_core::reading::{ProcessRow, ThreadRow};
use rustix::fs::RawDir;
use std::collections::HashMap;
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

/// Counters of the threads of a process, each with what it had counted, and their sums. Those only grow: what an ended thread
/// counted stays, but for what it counted since it was read last.
pub struct Summed<const N: usize> {
    each: HashMap<i64, [i64; N]>,
    sums: [i64; N],
}

impl<const N: usize> Default for Summed<N> {
    fn default() -> Self {
        Summed { each: HashMap::new(), sums: [0; N] }
    }
}

impl<const N: usize> Summed<N> {
    /// The sums now. `of` says what a thread has counted; one that is gone says nothing.
    pub fn read(&mut self, threads: &[i64], mut of: impl FnMut(i64) -> Option<[i64; N]>) -> [Raw; N] {
        let mut now = HashMap::with_capacity(threads.len());
        for thread in threads {
            let Some(counted) = of(*thread) else { continue };
            let earlier = self.each.get(thread).copied().unwrap_or([0; N]);
            for (sum, (counted, earlier)) in self.sums.iter_mut().zip(counted.iter().zip(earlier)) {
                *sum = sum.saturating_add(counted.saturating_sub(earlier).max(0));
            }
            now.insert(*thread, counted);
        }
        self.each = now;
        self.sums.map(Raw::new)
    }
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
