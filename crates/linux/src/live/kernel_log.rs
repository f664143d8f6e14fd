//! Whom the kernel chose when memory ran out, by its log, where one may read it; Documentation/ABI/testing/dev-kmsg.

use dozor_core::known::Raw;
use dozor_core::reading::EndedRow;
use rustix::fs::{Mode, OFlags, SeekFrom, open, seek, stat};
use rustix::io::{Errno, read};
use std::os::fd::OwnedFd;
use std::time::{Duration, Instant};

/// The first PID namespace of a machine, whose numbers the log has; include/linux/proc_ns.h `PROC_PID_INIT_INO`.
const FIRST_NAMESPACE: u64 = 0xEFFF_FFFC;
/// For so long the end of somebody who was chosen is waited for.
const PATIENCE: Duration = Duration::from_secs(20);
/// Bytes of a record at most; a longer one is left out.
const RECORD: usize = 8 << 10;

/// The kernel's log from when it was opened on.
pub struct KernelLog {
    file: Option<OwnedFd>,
    /// How many the kernel had ended so far.
    kills: Raw,
    /// Who was chosen, and when that was read.
    chosen: Vec<(i64, Instant)>,
}

impl KernelLog {
    /// Opens the log at its end; where that is not permitted, or its numbers are not ours, nothing is ever told.
    pub fn open() -> KernelLog {
        let is_first = stat("/proc/self/ns/pid").is_ok_and(|namespace| namespace.st_ino == FIRST_NAMESPACE);
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = is_first.then(|| open("/dev/kmsg", flags, Mode::empty()).ok()).flatten();
        let file = file.filter(|file| seek(file, SeekFrom::End(0)).is_ok());
        KernelLog { file, kills: Raw::ABSENT, chosen: vec![] }
    }

    /// Marks who ended because memory ran out; `kills` is the machine's count of them.
    pub fn mark(&mut self, kills: Raw, ended: &mut [EndedRow]) {
        if std::mem::replace(&mut self.kills, kills) != kills {
            self.read_on();
        }
        if self.chosen.is_empty() {
            return;
        }
        for row in ended {
            let chosen = self.chosen.iter().position(|(pid, _)| row.pid.value() == Some(*pid));
            if let Some(at) = chosen {
                self.chosen.swap_remove(at);
                row.oom = Raw::new(1);
            }
        }
        self.chosen.retain(|(_, when)| when.elapsed() < PATIENCE);
    }

    fn read_on(&mut self) {
        let Some(file) = &self.file else { return };
        let mut record = [0; RECORD];
        loop {
            match read(file, &mut record) {
                Ok(length) => self.chosen.extend(chosen(&record[..length]).map(|pid| (pid, Instant::now()))),
                // What was written over meanwhile, and a record that is too long, are passed over.
                Err(Errno::PIPE | Errno::INVAL) => {}
                Err(_) => return,
            }
        }
    }
}

/// The PID of a record that tells whom the kernel chose: `6,841,123456,-;oom-kill:constraint=…,task=python3,pid=944,uid=0`.
fn chosen(record: &[u8]) -> Option<i64> {
    let text = std::str::from_utf8(record).ok()?;
    let (_, said) = text.split_once(";oom-kill:")?;
    let line = said.lines().next()?;
    // A task's name may hold anything; the PID stands behind it.
    let (_, behind) = line.rsplit_once(",pid=")?;
    behind.split(',').next()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_was_chosen_is_read_from_the_record_of_the_kernel() {
        let record =
            b"6,841,123456,-;oom-kill:constraint=CONSTRAINT_MEMCG,nodemask=(null),cpuset=/,mems_allowed=0,\
            oom_memcg=/small,task_memcg=/small,task=a,pid=7,b,pid=944,uid=0\n SUBSYSTEM=x\n";
        assert_eq!(chosen(record), Some(944));
        assert_eq!(
            chosen(b"6,842,123457,-;Memory cgroup out of memory: Killed process 944 (python3)\n"),
            None
        );
        assert_eq!(chosen(b"\xff;oom-kill:,pid=1,"), None);
    }

    #[test]
    fn only_who_was_chosen_is_marked_and_only_once() {
        let mut log = KernelLog { file: None, kills: Raw::new(3), chosen: vec![(944, Instant::now())] };
        let row = |pid| EndedRow { pid: Raw::new(pid), ..EndedRow::default() };
        let mut ended = [row(943), row(944)];
        log.mark(Raw::new(3), &mut ended);
        assert_eq!(ended.clone().map(|row| row.oom), [Raw::ABSENT, Raw::new(1)]);
        let mut again = [row(944)];
        log.mark(Raw::new(4), &mut again);
        assert_eq!(again[0].oom, Raw::ABSENT, "another one with the same number");
    }
}
