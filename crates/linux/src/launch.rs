//! A command that is started and followed with all that descends from it; prctl(2) `PR_SET_CHILD_SUBREAPER`, waitid(2),
//! wait4(2), `proc_pid_io(5)`.
//!
//! Whatever loses its parent comes to this process, so every one of the family is waited for either by its parent, whose own
//! account then has it, or here: the sum of the accounts of those who are waited for here is that of the whole family.

use crate::proc::{pid_io, pid_stat, read_file};
use dozor_core::cores::CoreSet;
use dozor_core::run::{Reaped, bytes_written};
use dozor_core::text::clean;
use rustix::io::Errno;
use rustix::process::{
    Pid, Signal, set_child_subreaper, set_parent_process_death_signal, setpriority_process, setsid,
};
use rustix::thread::{CpuSet, sched_setaffinity};
use std::ffi::OsString;
use std::io;
use std::os::unix::process::{CommandExt as _, ExitStatusExt as _};
use std::path::Path;
use std::process::{Command, ExitStatus};

/// A command that was started.
pub struct Launched {
    /// Its PID.
    pub pid: i64,
    /// Most memory that this program had held by then, in bytes.
    pub starter: i64,
}

/// A child that was waited for.
pub struct End {
    /// What it used, with all that it waited for.
    pub reaped: Reaped,
    /// How it ended.
    pub status: ExitStatus,
}

/// Starts a command with a niceness and on some cores.
///
/// # Errors
/// Why it cannot be started; what the kernel refuses of niceness and cores as well.
pub fn launch(command: &[OsString], nice: Option<i32>, cores: Option<&CoreSet>) -> io::Result<Launched> {
    let (program, arguments) = command.split_first().ok_or(io::ErrorKind::InvalidInput)?;
    set_child_subreaper(Some(Pid::INIT))?;
    let mut set = CpuSet::new();
    for core in cores.into_iter().flat_map(CoreSet::iter) {
        if core >= CpuSet::MAX_CPU {
            return Err(io::ErrorKind::InvalidInput.into());
        }
        set.set(core);
    }
    let pinned = cores.is_some();
    let mut command = Command::new(program);
    command.args(arguments);
    let prepare = move || {
        if let Some(nice) = nice {
            setpriority_process(None, nice)?;
        }
        if pinned {
            sched_setaffinity(None, &set)?;
        }
        Ok(())
    };
    // SAFETY: between fork and exec the closure makes two system calls and allocates nothing.
    unsafe { command.pre_exec(prepare) };
    let child = command.spawn()?;
    Ok(Launched { pid: i64::from(child.id()), starter: crate::own::peak_rss() })
}

/// Lets a command begin a session of its own: it has no terminal, and all that descends from it can be ended together; setsid(2).
/// Should this program be killed, the command itself ends as well: prctl(2) `PR_SET_PDEATHSIG`. That goes by the thread that starts it.
pub fn in_its_own_session(command: &mut Command) {
    // SAFETY: between fork and exec the closure makes two system calls and allocates nothing.
    unsafe {
        command.pre_exec(|| {
            set_parent_process_death_signal(Some(Signal::KILL))?;
            setsid().map(drop).map_err(io::Error::from)
        });
    }
}

/// Processes of a session; `proc_pid_stat(5)` session.
pub fn of_session(session: Pid) -> Vec<Pid> {
    let entries = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let of = |entry: std::fs::DirEntry| {
        let pid = crate::proc::number(entry.file_name().as_encoded_bytes())?;
        let text = read_file(&entry.path().join("stat")).ok()?;
        let stat = pid_stat::parse(&text, 1)?;
        let is = stat.session.value() == Some(i64::from(session.as_raw_nonzero().get()));
        is.then(|| i32::try_from(pid).ok().and_then(Pid::from_raw))?
    };
    entries.filter_map(of).collect()
}

/// Waits for the end of any child; `None` where there is none any more, or with `at_once` none that has ended.
///
/// # Errors
/// What the kernel says.
pub fn reap(at_once: bool) -> io::Result<Option<End>> {
    let Some(pid) = wait_without_taking(at_once)? else { return Ok(None) };
    let stat = read_file(Path::new(&format!("/proc/{pid}/stat"))).unwrap_or_default();
    let io = read_file(Path::new(&format!("/proc/{pid}/io"))).unwrap_or_default();
    let mut status = 0;
    // SAFETY: rusage is a plain C struct of numbers, for which zeros are valid.
    let mut usage: libc::rusage = unsafe { std::mem::zeroed() };
    // SAFETY: both pointers are to live values that the call fills.
    let taken = unsafe { libc::wait4(pid, &raw mut status, 0, &raw mut usage) };
    if taken != pid {
        return Err(io::Error::last_os_error());
    }
    let us = |time: libc::timeval| time.tv_sec * 1_000_000 + time.tv_usec;
    let stat = pid_stat::parse(&stat, 1);
    let own = stat.as_ref().and_then(|stat| Some(stat.user_ticks.value()? + stat.system_ticks.value()?));
    let io = pid_io::parse(&io);
    let written = io.and_then(|io| bytes_written(io[1].into(), io[2].into(), io[6].into(), io[4].into()));
    Ok(Some(End {
        reaped: Reaped {
            pid: i64::from(pid),
            name: stat.as_ref().map_or_else(String::new, |stat| clean(stat.name)),
            start: stat.as_ref().map_or(-1, |stat| stat.start_ticks),
            own_us: own.unwrap_or(0) * (1_000_000 / (rustix::param::clock_ticks_per_second() as i64).max(1)),
            user_us: us(usage.ru_utime),
            system_us: us(usage.ru_stime),
            switches_wait: usage.ru_nvcsw,
            switches_forced: usage.ru_nivcsw,
            peak_rss: usage.ru_maxrss.saturating_mul(1024),
            read: io.map(|io| io[0]),
            written,
        },
        status: ExitStatus::from_raw(status),
    }))
}

/// The PID of a child that has ended; it stays in the table.
fn wait_without_taking(at_once: bool) -> io::Result<Option<libc::pid_t>> {
    let flags = libc::WEXITED | libc::WNOWAIT | if at_once { libc::WNOHANG } else { 0 };
    loop {
        // SAFETY: siginfo_t is a plain C struct, for which zeros are valid.
        let mut info: libc::siginfo_t = unsafe { std::mem::zeroed() };
        // SAFETY: the pointer is to a live value that the call fills.
        let status = unsafe { libc::waitid(libc::P_ALL, 0, &raw mut info, flags) };
        if status == 0 {
            // SAFETY: of a child that ended the kernel filled the fields that this reads; zeros mean that none has.
            let pid = unsafe { info.si_pid() };
            return Ok((pid != 0).then_some(pid));
        }
        match Errno::from_io_error(&io::Error::last_os_error()) {
            Some(Errno::INTR) => {}
            Some(Errno::CHILD) => return Ok(None),
            _ => return Err(io::Error::last_os_error()),
        }
    }
}
