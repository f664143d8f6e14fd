//! Counters of processes from the reader in the kernel.

use super::super::own_io::OwnIo;
use super::state::{Counted, Processes, Tracked, other_reader, put_io, put_memory};
use super::walked::{KERNEL_THREAD, Record, WORKER};
use crate::clock::ticks;
use crate::kernel::tasks::Missing;
use crate::proc::pid::read_pid;
use crate::proc::{pid_stat, pid_status};
use dozor_core::known::Raw;
use dozor_core::text::clean;
use dozor_core::wanted::{Demand, Wanted};

impl Processes {
    /// A process of which something changed.
    pub(super) fn by_kernel(
        &mut self,
        mut record: Record<'_>,
        known: Option<Tracked>,
        wanted: Wanted,
        buffer: &mut Vec<u8>,
        (missing, second): (Missing, i64),
    ) -> Option<Tracked> {
        let pid = i64::from(record.main.pid);
        let start = Raw::new(ticks(record.main.start_ns, second));
        let mut known = known.filter(|known| known.row.start_ticks == start);
        let mut kept = known.as_mut().map(|known| std::mem::take(&mut known.rest.kept)).unwrap_or_default();
        self.files.close(&kept);
        (kept.idle, kept.busy) = (None, None);
        let kernel_thread = record.main.flags & KERNEL_THREAD != 0;
        let mut row = record.row(&mut kept.told, second, self.page);
        row.kernel = i64::from(kernel_thread).into();
        // Some of these have longer names than a task has room for, and behind those of workers is the work that they do last.
        let known_name = known.as_ref().map(|known| known.row.name.clone());
        let is_told = kernel_thread
            && (record.main.flags & WORKER != 0
                || known_name.as_ref().is_none_or(|name| !name.as_bytes().starts_with(record.name())));
        let told = if is_told { read_pid(&self.proc, pid, "comm", buffer).ok() } else { None };
        let told = told.map(|text| text.strip_suffix(b"\n").unwrap_or(text));
        let bytes = match &known_name {
            Some(name) if kernel_thread && !is_told => name.as_bytes(),
            _ => told.unwrap_or(record.name()),
        };
        let same_name = known_name.as_ref().is_some_and(|name| name.as_bytes() == bytes);
        let name = if same_name { None } else { Some(clean(bytes)) };
        if !wanted.has(Demand::CoreWait) {
            row.core_wait_ns = Raw::ABSENT;
        }
        if !self.delay_accounting {
            row.disk_wait_ticks = Raw::ABSENT;
        }
        if !std::mem::replace(&mut kept.inside, true) && known.is_some() {
            other_reader(&mut row);
        }
        let mut tty = None;
        if missing.rest {
            let stat = pid_stat::parse(read_pid(&self.proc, pid, "stat", buffer).ok()?, self.page)?;
            (row.core, row.session, tty) = (stat.core, stat.session, Some(stat.tty));
            row.disk_wait_ticks = if self.delay_accounting { stat.disk_wait_ticks } else { Raw::ABSENT };
        }
        if missing.memory {
            let status = read_pid(&self.proc, pid, "status", buffer).map(pid_status::parse);
            put_memory(&mut row, &status.unwrap_or_default());
        } else if record.whole.has_memory && !kernel_thread {
            put_memory(&mut row, &record.memory(self.page));
        }
        kept.io = if missing.io {
            self.input_output(kept.io.take(), None, &mut row, buffer)
        } else {
            let faults = row.children_faults.value().unwrap_or(0);
            let several = row.threads.value() > Some(1);
            let read = OwnIo::read(kept.io.take(), pid, faults, several, &mut record);
            put_io(&mut row, read.as_ref());
            read.ok()
        };
        let uids = (Some(record.whole.uid), Some(record.whole.real_uid));
        let counted = Counted { row, kept, name, kernel_thread, tty, uids };
        Some(self.complete(counted, known, wanted, buffer))
    }
}
