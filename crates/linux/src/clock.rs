//! The three clocks of a reading, and the clock of each process; `clock_gettime(2)`.

use crate::proc::{lines, words};
use dozor_core::units::NANOS;
use rustix::fs::{Mode, OFlags, PROC_SUPER_MAGIC, fstatfs, openat};
use rustix::time::{ClockId, clock_gettime};
use std::os::fd::AsFd;

/// The clocks at one instant, in nanoseconds.
#[derive(Clone, Copy, Debug)]
pub struct Clocks {
    /// Since 1970 (UTC).
    pub wall: i64,
    /// Since boot, without suspend.
    pub monotonic: i64,
    /// Since boot, with suspend.
    pub boot: i64,
}

/// Reads the three clocks one after another, some tens of nanoseconds apart.
pub fn now() -> Clocks {
    let read = |id| {
        let time = clock_gettime(id);
        time.tv_sec.saturating_mul(NANOS).saturating_add(time.tv_nsec)
    };
    Clocks {
        wall: read(ClockId::Realtime),
        monotonic: read(ClockId::Monotonic),
        boot: read(ClockId::Boottime),
    }
}

/// Nanoseconds since boot, without suspend.
pub fn monotonic_ns() -> i64 {
    now().monotonic
}

/// Nanoseconds that all threads of a process, ended ones too, were on a core since its start; `None` when it is gone.
/// `clock_getcpuclockid(3)`, `include/linux/posix-timers.h`.
pub fn of_process(pid: i64) -> Option<i64> {
    // The number of such a clock: all bits of the process's number turned over, then three for what it counts, of which 2 is
    // the time on a core as the scheduler has it.
    let clock = !libc::clockid_t::try_from(pid).ok()? << 3 | 2;
    let mut time = libc::timespec { tv_sec: 0, tv_nsec: 0 };
    // SAFETY: the kernel writes one `timespec`, which is there.
    if unsafe { libc::clock_gettime(clock, &raw mut time) } != 0 {
        return None;
    }
    Some(time.tv_sec.saturating_mul(NANOS).saturating_add(time.tv_nsec))
}

/// Whether a directory of processes and their clocks speak of the same ones: the kernel made it, and numbers them as it does
/// for us. `NSpid` of `proc_pid_status(5)` has one number for each namespace from that of the directory down to ours.
pub fn are_of(proc: impl AsFd) -> bool {
    let is_kernels = fstatfs(&proc).is_ok_and(|about| about.f_type == PROC_SUPER_MAGIC);
    let status = openat(&proc, "self/status", OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty());
    let mut text = vec![0; 4096];
    let got = status.and_then(|file| rustix::io::read(file, &mut text[..])).unwrap_or(0);
    let numbers = lines(&text[..got]).find_map(|line| line.strip_prefix(b"NSpid:"));
    let own = i64::from(rustix::process::getpid().as_raw_nonzero().get());
    is_kernels && numbers.is_some_and(|numbers| words(numbers).count() == 1) && of_process(own).is_some()
}

/// Nanoseconds in clock ticks, as the kernel tells them.
pub fn ticks(nanoseconds: u64, second: i64) -> i64 {
    (nanoseconds / (NANOS as u64 / second.max(1) as u64).max(1)) as i64
}
