//! What pauses several processes one after the other is done as a whole or not at all, also where this program is killed in between: a
//! small child holds the processes and the groups meanwhile, and lets them go on when the pipe from us ends without a word.

use super::signal::Held;
use crate::sys::freezer::Group;
use dozor_core::reading::ProcessKey;
use std::fs::File;
use std::io::{PipeWriter, Write as _, pipe};
use std::os::fd::{AsRawFd as _, OwnedFd, RawFd};

/// The word that all is done.
const DONE: u8 = b'd';

/// As long as it lives without [`Undoing::keep`], the end of this program, or its own, lets the processes go on again.
pub struct Undoing {
    pipe: Option<PipeWriter>,
    child: libc::pid_t,
}

impl Undoing {
    /// For these processes, and the groups that they may be frozen by. Those that are paused already stay so. Without a child
    /// to be had nothing stands by, which keeps nobody from acting.
    pub fn stand_by(keys: &[ProcessKey], groups: &[Group]) -> Undoing {
        let processes: Vec<OwnedFd> =
            keys.iter().filter_map(|key| Held::open(*key).ok()).map(Held::descriptor).collect();
        let groups: Vec<(File, &'static [u8])> = groups.iter().filter_map(Group::thawing).collect();
        let none = Undoing { pipe: None, child: 0 };
        let Ok((read, write)) = pipe() else { return none };
        let processes_raw: Vec<RawFd> = processes.iter().map(OwnedFd::as_raw_fd).collect();
        let groups_raw: Vec<(RawFd, &[u8])> =
            groups.iter().map(|(file, text)| (file.as_raw_fd(), *text)).collect();
        // SAFETY: the child makes only calls that signal-safety(7) permits and ends by `_exit`; what it reads was made before.
        match unsafe { libc::fork() } {
            -1 => none,
            0 => unsafe { watch(read.as_raw_fd(), write.as_raw_fd(), &processes_raw, &groups_raw) },
            child => Undoing { pipe: Some(write), child },
        }
    }

    /// All is done, and stays.
    pub fn keep(mut self) {
        if let Some(pipe) = &mut self.pipe {
            let _ = pipe.write_all(&[DONE]);
        }
    }
}

impl Drop for Undoing {
    fn drop(&mut self) {
        if self.pipe.take().is_some() {
            // SAFETY: it is our own child, which ends when its pipe does; no status is asked for.
            unsafe { libc::waitpid(self.child, std::ptr::null_mut(), 0) };
        }
    }
}

/// The child: waits for the word, or for the end of who should say it.
unsafe fn watch(read: RawFd, write: RawFd, processes: &[RawFd], groups: &[(RawFd, &[u8])]) -> ! {
    // SAFETY: calls on descriptors and memory that were there before the fork.
    unsafe {
        libc::close(write);
        // Of its own, so that what ends the job of the terminal does not end it first.
        libc::setsid();
        for signal in [libc::SIGTERM, libc::SIGINT, libc::SIGHUP, libc::SIGQUIT] {
            libc::signal(signal, libc::SIG_IGN);
        }
        let mut word = 0u8;
        while libc::read(read, (&raw mut word).cast(), 1) < 0 {}
        if word != DONE {
            for (group, text) in groups {
                libc::write(*group, text.as_ptr().cast(), text.len());
            }
            for process in processes {
                libc::syscall(libc::SYS_pidfd_send_signal, *process, libc::SIGCONT, 0usize, 0);
            }
        }
        libc::_exit(0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::{Child, Command};
    use std::time::{Duration, Instant};

    struct Sleeper(Child);

    impl Drop for Sleeper {
        fn drop(&mut self) {
            let _ = self.0.kill();
            let _ = self.0.wait();
        }
    }

    fn state(pid: i64) -> char {
        let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).expect("it lives");
        stat.rsplit_once(") ").and_then(|(_, rest)| rest.chars().next()).expect("a state")
    }

    fn wait_for(pid: i64, wanted: fn(char) -> bool) -> bool {
        let begin = Instant::now();
        while !wanted(state(pid)) {
            if begin.elapsed() > Duration::from_secs(10) {
                return false;
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        true
    }

    #[test]
    fn who_was_paused_goes_on_where_nobody_says_that_it_is_done() {
        let sleeper = Sleeper(Command::new("sleep").arg("60").spawn().expect("sleep"));
        let pid = i64::from(sleeper.0.id());
        let stat = std::fs::read(format!("/proc/{pid}/stat")).expect("its stat");
        let start = crate::proc::pid_stat::parse(&stat, 1).expect("its start").start_ticks;
        let key = ProcessKey { pid, start };
        for kept in [true, false] {
            let undoing = Undoing::stand_by(&[key], &[]);
            assert!(undoing.pipe.is_some(), "a child stands by");
            Held::open(key).expect("it lives").signal(dozor_core::signals::STOP).expect("ours");
            assert!(wait_for(pid, |state| state == 'T'));
            if kept {
                undoing.keep();
                std::thread::sleep(Duration::from_millis(50));
                assert_eq!(state(pid), 'T', "it stays as it was wanted");
                Held::open(key).expect("it lives").signal(dozor_core::signals::CONT).expect("ours");
                assert!(wait_for(pid, |state| state != 'T'));
            } else {
                // As when this program ends: its end of the pipe is closed.
                drop(undoing);
                assert!(wait_for(pid, |state| state != 'T'), "it goes on");
            }
        }
    }
}
