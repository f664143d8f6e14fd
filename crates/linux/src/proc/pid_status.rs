//! `/proc/PID/status`; `proc_pid_status(5)`.

use super::{lines, next, number, scaled, words};
use dozor_core::known::Raw;

/// The lines that no cheaper file has.
#[derive(Clone, Copy, Default, Debug, PartialEq, Eq)]
pub struct Status {
    /// Real user.
    pub real_uid: Option<u32>,
    /// Effective user.
    pub uid: Option<u32>,
    /// Resident memory; absent for a kernel thread.
    pub resident: Raw,
    /// Resident memory backed by files or shared; absent for a kernel thread.
    pub shared: Raw,
    /// Memory in swap; absent for a kernel thread.
    pub swap: Raw,
    /// Context switches because it waited.
    pub switches_wait: Raw,
    /// Context switches because its turn was over.
    pub switches_forced: Raw,
}

/// Reads the file's text. The name in its first line is escaped by the kernel and cannot fake another line.
pub fn parse(bytes: &[u8]) -> Status {
    let mut status = Status::default();
    let (mut file, mut shmem) = (Raw::ABSENT, Raw::ABSENT);
    for line in lines(bytes) {
        let mut words = words(line);
        match words.next() {
            Some(b"Uid:") => {
                let mut uid = || words.next().and_then(number).and_then(|uid| u32::try_from(uid).ok());
                (status.real_uid, status.uid) = (uid(), uid());
            }
            Some(b"VmRSS:") => status.resident = scaled(next(&mut words), 1024),
            Some(b"RssFile:") => file = scaled(next(&mut words), 1024),
            Some(b"RssShmem:") => shmem = scaled(next(&mut words), 1024),
            Some(b"VmSwap:") => status.swap = scaled(next(&mut words), 1024),
            Some(b"voluntary_ctxt_switches:") => status.switches_wait = next(&mut words),
            Some(b"nonvoluntary_ctxt_switches:") => status.switches_forced = next(&mut words),
            _ => {}
        }
    }
    status.shared = file.get().zip(shmem.get()).map(|(file, shmem)| file.saturating_add(shmem)).into();
    status
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read() {
        let status = parse(include_bytes!("../../tests/fixtures/pid_status"));
        assert_eq!((status.real_uid, status.uid), (Some(1000), Some(0)));
        assert_eq!((status.shared, status.swap), (Raw::new(1632 * 1024), Raw::new(8 * 1024)));
        assert_eq!(status.resident, Raw::new(1744 * 1024));
        assert_eq!((status.switches_wait, status.switches_forced), (Raw::new(5), Raw::new(7)));
    }

    #[test]
    fn a_kernel_thread_has_no_memory_lines() {
        let status = parse(b"Name:\tkthreadd\nUid:\t0\t0\t0\t0\nvoluntary_ctxt_switches:\t9\n");
        assert_eq!((status.shared, status.swap), (Raw::ABSENT, Raw::ABSENT));
    }
}
