//! What Dozor itself costs.

use rustix::time::{ClockId, clock_gettime};
use std::time::Duration;

/// CPU time of all threads of this process so far; `clock_gettime(2)` `CLOCK_PROCESS_CPUTIME_ID`.
pub fn cpu_time() -> Duration {
    let time = clock_gettime(ClockId::ProcessCPUTime);
    Duration::new(time.tv_sec.try_into().unwrap_or(0), time.tv_nsec.try_into().unwrap_or(0))
}

/// Memory of a few megabytes at once goes back to the system when it is free again, however often that happens; mallopt(3). Else the
/// C library keeps what was once needed to load programs into the kernel for as long as Dozor runs, in several copies.
pub fn give_large_memory_back() {
    #[cfg(target_env = "gnu")]
    {
        const LARGE: libc::c_int = 4 << 20;
        // SAFETY: it takes two numbers; one that it does not like changes nothing.
        unsafe { libc::mallopt(libc::M_MMAP_THRESHOLD, LARGE) };
    }
}

/// Memory that is free within this program goes back to the system; malloc_trim(3). It takes some milliseconds.
pub fn give_free_memory_back() {
    #[cfg(target_env = "gnu")]
    // SAFETY: it takes a number of bytes to keep at the end of the heap, and touches only what is free.
    unsafe {
        libc::malloc_trim(0);
    }
}

/// Name of the user that this program runs as; the effective one, as in `getpwuid_r(3)`.
pub fn user() -> dozor_core::text::Text {
    name_of(rustix::process::geteuid().as_raw())
}

/// Whether this machine has a user of this name, or the name is a number, which needs no entry.
pub fn has_user(name: &str) -> bool {
    name.parse::<u32>().is_ok() || crate::users::exists(name)
}

/// Name of a user; the number where there is none, as in `getpwuid_r(3)`.
pub fn name_of(user: u32) -> dozor_core::text::Text {
    crate::users::Users::default().name(user)
}

/// Most memory that this process has held, in bytes; getrusage(2) ru_maxrss.
pub fn peak_rss() -> i64 {
    // SAFETY: rusage is a plain C struct of numbers, for which zeros are valid, and the pointer is good.
    let usage = unsafe {
        let mut usage: libc::rusage = std::mem::zeroed();
        libc::getrusage(libc::RUSAGE_SELF, &raw mut usage);
        usage
    };
    usage.ru_maxrss.saturating_mul(1024)
}

/// CPU time in seconds of this process, or of the children that it waited for; getrusage(2).
pub fn usage(children: bool) -> f64 {
    let who = if children { libc::RUSAGE_CHILDREN } else { libc::RUSAGE_SELF };
    // SAFETY: rusage is a plain C struct of numbers, for which zeros are valid, and the pointer is good.
    let usage = unsafe {
        let mut usage: libc::rusage = std::mem::zeroed();
        libc::getrusage(who, &raw mut usage);
        usage
    };
    let seconds = |time: libc::timeval| time.tv_sec as f64 + time.tv_usec as f64 / 1e6;
    seconds(usage.ru_utime) + seconds(usage.ru_stime)
}

#[cfg(test)]
#[cfg(target_env = "gnu")]
mod tests {
    use super::*;

    /// Bytes in memory; `proc_pid_statm(5)`.
    fn resident() -> u64 {
        let text = std::fs::read_to_string("/proc/self/statm").expect("our own file");
        let pages = text.split(' ').nth(1).and_then(|pages| pages.parse::<u64>().ok()).expect("a number");
        pages * rustix::param::page_size() as u64
    }

    #[test]
    fn what_is_free_goes_back_though_something_behind_it_stays() {
        const MIB: u64 = 1 << 20;
        let mut rows: Vec<Box<[u8; 1024]>> = (0..100 * 1024).map(|at| Box::new([at as u8; 1024])).collect();
        let last = rows.pop();
        let with_all = resident();
        drop(rows);
        give_free_memory_back();
        let after = resident();
        assert!(after + 70 * MIB < with_all, "{} of {} MiB are left", after / MIB, with_all / MIB);
        assert_eq!(last.map(|last| last[1]), Some(((100 * 1024 - 1) % 256) as u8));
    }
}
