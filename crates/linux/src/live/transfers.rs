//! What processes hand to block devices, as rows.

use super::tallied::Tallied;
use crate::Roots;
use crate::kernel::requests::Requests;
use crate::kernel::{self, How, Later};
use crate::proc::read_file;
use crate::sys::cgroups::Numbered;
use dozor_core::known::Raw;
use dozor_core::reading::{DiskRow, Reading, TransferRow, with_pid};
use dozor_core::row::Row as _;
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::{Text, clean, no_text};
use std::collections::HashMap;
use std::path::Path;

/// Readings after which what was done for a group is told no more, until there is more of it.
const QUIET: u32 = 64;

/// Counts what processes hand to block devices, where a program in the kernel does.
#[derive(Default)]
pub struct Transfers {
    by_kernel: How,
    requests: Later<Requests>,
    sums: Tallied,
    devices: HashMap<u32, Text>,
    groups: Option<Numbered>,
    reading: u64,
    /// What the devices had counted at the last look.
    disks: Vec<DiskRow>,
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
        // A device counts each request too, from when it begins: where none counted any, there is nothing new.
        let moved = self.disks.is_empty() || self.disks != reading.disks;
        let counted = |requests: &Requests| if moved { requests.counted() } else { Ok(vec![]) };
        let Some(Ok(counted)) = self.requests.get().map(counted) else {
            if self.requests.is_denied() {
                reading.system.transfers_noted = Raw::DENIED;
            }
            return;
        };
        reading.system.transfers_noted = Raw::new(1);
        let missed = self.requests.get().map_or(0, Requests::missed);
        reading.system.transfers_missed = Raw::new(i64::try_from(missed).unwrap_or(i64::MAX));
        self.sums.take(counted);
        if moved {
            self.disks.clone_from(&reading.disks);
        }
        self.reading += 1;
        let groups = self.groups.get_or_insert_with(|| {
            Numbered::find(&read_file(&roots.proc.join("self/mountinfo")).unwrap_or_default())
        });
        // Workers of the kernel are there for ever; groups are not.
        self.sums.rest(QUIET, |key| key.group != 0);
        self.sums.retain(|key, counts| {
            let process = key.process();
            let row = with_pid(&reading.processes, process.pid);
            let is_there = row.is_some_and(|row| row.key() == process);
            if is_there && counts != [0; 3] {
                let name = self.devices.entry(key.with).or_insert_with(|| name(&roots.sys, key.with));
                let group = if key.group == 0 { no_text() } else { groups.path(key.group, self.reading) };
                let [read, write, requests] = counts.map(Raw::new);
                reading.transfers.push(TransferRow {
                    device: name.clone(),
                    group,
                    pid: process.pid.into(),
                    start_ticks: process.start.into(),
                    number: i64::from(key.with).into(),
                    group_number: i64::try_from(key.group).unwrap_or(i64::MAX).into(),
                    read_bytes: read,
                    write_bytes: write,
                    requests,
                });
            }
            is_there
        });
        reading.transfers.cold_sort_by_key(TransferRow::key);
    }
}

/// The name of a device by its number in the kernel; sysfs(5).
fn name(sys: &Path, device: u32) -> Text {
    let (kind, number) = (device >> 20, device & 0xf_ffff);
    let link = std::fs::read_link(sys.join(format!("dev/block/{kind}:{number}"))).unwrap_or_default();
    let name = link.file_name().map(|name| clean(name.as_encoded_bytes()));
    name.unwrap_or_else(|| format!("{kind}:{number}")).into()
}
