//! What processes hand to block devices, as rows.

use crate::Roots;
use crate::clock::ticks;
use crate::kernel::requests::{Handed, Requests};
use crate::kernel::{self, How, Later};
use dozor_core::known::Raw;
use dozor_core::reading::{Reading, TransferRow, with_pid};
use dozor_core::row::Row as _;
use dozor_core::text::{Text, clean};
use std::collections::HashMap;
use std::path::Path;

/// A process by number and start, and a device.
type Key = (u32, u64, u32);

/// What is kept of a process and a device: what the kernel counted last, and all of it. The kernel counts anew what it has no
/// more room for.
#[derive(Clone, Copy, Default)]
struct Sums {
    last: [u64; 3],
    all: [u64; 3],
}

/// Counts what processes hand to block devices, where a program in the kernel does.
#[derive(Default)]
pub struct Transfers {
    by_kernel: How,
    requests: Later<Requests>,
    sums: HashMap<Key, Sums>,
    devices: HashMap<u32, Text>,
}

impl Transfers {
    /// Whether a program in the kernel is to count.
    pub fn ask_kernel(&mut self, how: How) {
        self.by_kernel = how;
    }

    /// Nobody wants to know; how it is known is kept.
    pub fn silence(&mut self) {
        *self = Transfers { by_kernel: self.by_kernel, ..Transfers::default() };
    }

    /// Adds the rows of the processes that are there.
    pub fn complete(&mut self, roots: &Roots, reading: &mut Reading) {
        // Whoever asks for a rate wants it from the second reading on: it is loaded at once, within milliseconds.
        let how = if self.by_kernel == How::No { How::No } else { How::AtOnce };
        self.requests.begin(how, roots, kernel::requests);
        let Some(Ok(counted)) = self.requests.get().map(Requests::counted) else { return };
        reading.system.transfers_noted = Raw::new(1);
        for handed in counted {
            let sums = self.sums.entry((handed.pid, handed.start_ns, handed.device)).or_default();
            sums.take(&handed);
        }
        let second = rustix::param::clock_ticks_per_second() as i64;
        self.sums.retain(|(pid, start_ns, device), sums| {
            let row = with_pid(&reading.processes, i64::from(*pid));
            let start = Raw::new(ticks(*start_ns, second));
            let is_there = row.is_some_and(|row| row.start_ticks == start);
            if is_there {
                let name = self.devices.entry(*device).or_insert_with(|| name(&roots.sys, *device));
                let [read, write, requests] = sums.all.map(|count| Raw::new(count as i64));
                reading.transfers.push(TransferRow {
                    device: name.clone(),
                    pid: i64::from(*pid).into(),
                    start_ticks: start,
                    number: i64::from(*device).into(),
                    read_bytes: read,
                    write_bytes: write,
                    requests,
                });
            }
            is_there
        });
        reading.transfers.sort_by_key(TransferRow::key);
    }
}

impl Sums {
    fn take(&mut self, handed: &Handed) {
        let begins_anew = handed.counts[2] < self.last[2];
        for ((all, last), now) in self.all.iter_mut().zip(&mut self.last).zip(handed.counts) {
            *all += if begins_anew { now } else { now.saturating_sub(*last) };
            *last = now;
        }
    }
}

/// The name of a device by its number in the kernel; sysfs(5).
fn name(sys: &Path, device: u32) -> Text {
    let (kind, number) = (device >> 20, device & 0xf_ffff);
    let link = std::fs::read_link(sys.join(format!("dev/block/{kind}:{number}"))).unwrap_or_default();
    let name = link.file_name().map(|name| clean(name.as_encoded_bytes()));
    name.unwrap_or_else(|| format!("{kind}:{number}")).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_kernel_counts_anew_is_added_to_what_was_counted_before() {
        let mut sums = Sums::default();
        for counts in [[4096, 0, 1], [4096, 8192, 3], [0, 512, 1], [512, 512, 2]] {
            sums.take(&Handed { pid: 1, start_ns: 0, device: 0, counts });
        }
        assert_eq!(sums.all, [4096 + 512, 8192 + 512, 5]);
    }
}
