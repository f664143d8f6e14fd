//! I/O priorities; ioprio_set(2).

use dozor_core::known::Raw;
use rustix::io::Errno;

/// `IOPRIO_WHO_PROCESS`; linux/ioprio.h.
const WHO_PROCESS: libc::c_int = 1;
/// I/O priority as ioprio_get(2) gives it.
pub fn io_priority(tid: i64) -> Raw {
    // SAFETY: the call takes two numbers and touches no memory.
    let value = unsafe { libc::syscall(libc::SYS_ioprio_get, WHO_PROCESS, tid as libc::c_int) };
    if value >= 0 {
        return Raw::new(value);
    }
    match std::io::Error::last_os_error().kind() {
        std::io::ErrorKind::PermissionDenied => Raw::DENIED,
        _ => Raw::ABSENT,
    }
}

/// Sets it.
pub fn set_io_priority(tid: i64, value: i32) -> Result<(), Errno> {
    // SAFETY: the call takes three numbers and touches no memory.
    let status = unsafe { libc::syscall(libc::SYS_ioprio_set, WHO_PROCESS, tid as libc::c_int, value) };
    if status == 0 {
        Ok(())
    } else {
        Err(Errno::from_raw_os_error(std::io::Error::last_os_error().raw_os_error().unwrap_or(0)))
    }
}
