//! What a process reads and writes itself.
//!
//! When a process waits for a child that ended, the kernel adds to the parent's `/proc/PID/io` all that the child ever
//! read and wrote, and all that the child had taken over in the same way (kernel/exit.c, `wait_task_zombie`). The file
//! of a single thread (`/proc/PID/task/TID/io`) holds nothing of that. So a process that never waited for a child is read
//! from the one file, and one that did from those of its threads. Page faults of waited-for children (`cminflt`), of which
//! every child has some, tell when that happened.

use crate::proc::pid_io::Io;
use rustix::io::Errno;
use std::collections::HashMap;

/// Readings without another waited-for child after which the threads of a process are no longer asked one by one.
const QUIET: u32 = 60;

/// Where the counters of a process come from.
#[derive(Clone)]
enum Origin {
    /// The file of the process.
    Process,
    /// That of its only thread.
    Thread,
    /// Those of its threads, with what each had counted, and the readings since it waited for a child.
    Threads(HashMap<i64, Io>, u32),
}

/// What is kept of a process between two readings.
#[derive(Clone)]
pub struct OwnIo {
    origin: Origin,
    /// What the file of the process, or of its only thread, said.
    last: Io,
    children_faults: i64,
    several: bool,
    /// Its own counters.
    pub own: Io,
    /// How often they could not be told from those of children.
    pub unknown: i64,
}

/// The files of a process.
pub trait Files {
    /// `/proc/PID/io`, or the file of one thread.
    fn io(&mut self, thread: Option<i64>) -> Result<Io, Errno>;
    /// Its threads; none where too many have been asked for already.
    fn threads(&mut self) -> Option<Vec<i64>>;
}

impl OwnIo {
    /// The counters of a process now. `before` is what was kept of it, `children_faults` and `several` are of now.
    pub fn read(
        before: Option<OwnIo>,
        pid: i64,
        children_faults: i64,
        several: bool,
        files: &mut impl Files,
    ) -> Result<OwnIo, Errno> {
        let Some(before) = before else {
            // What it took over long ago stays in the counters of a process with several threads; only growth matters.
            let alone = children_faults > 0 && !several;
            let last = files.io(alone.then_some(pid))?;
            let origin = if alone { Origin::Thread } else { Origin::Process };
            return Ok(OwnIo { origin, last, children_faults, several, own: last, unknown: 0 });
        };
        let waited = children_faults != before.children_faults;
        let mut now = OwnIo { children_faults, several, ..before };
        match std::mem::replace(&mut now.origin, Origin::Process) {
            Origin::Process if !waited => now.grow_by_process(files.io(None)?),
            Origin::Process => now.begin_apart(pid, before.children_faults == 0 && !before.several, files)?,
            Origin::Thread if !several => {
                now.origin = Origin::Thread;
                now.grow_by_process(files.io(Some(pid))?);
            }
            Origin::Thread => {
                let counted = HashMap::from([(pid, now.last)]);
                now.grow_by_threads(&counted, 0, false, files)?;
            }
            Origin::Threads(_, quiet) if quiet >= QUIET && !waited => now.grow_by_process(files.io(None)?),
            Origin::Threads(counted, quiet) => {
                let quiet = if waited { 0 } else { quiet + 1 };
                now.grow_by_threads(&counted, quiet, !waited, files)?;
            }
        }
        Ok(now)
    }

    fn grow_by_process(&mut self, last: Io) {
        let grown = growth(&last, &self.last);
        add(&mut self.own, &grown);
        self.last = last;
    }

    /// It waited for a child, for the first time since it is read. `pure`: what it counted until now was its only
    /// thread's.
    fn begin_apart(&mut self, pid: i64, pure: bool, files: &mut impl Files) -> Result<(), Errno> {
        if !self.several {
            let last = files.io(Some(pid))?;
            self.origin = Origin::Thread;
            if pure && last.iter().zip(&self.last).all(|(now, before)| now >= before) {
                self.grow_by_process(last);
            } else {
                (self.last, self.unknown) = (last, self.unknown + 1);
            }
            return Ok(());
        }
        self.unknown += 1;
        self.last = files.io(None)?;
        if let Some(counted) = of_threads(files) {
            self.origin = Origin::Threads(counted, 0);
        }
        Ok(())
    }

    /// Growth of each of several threads. Where nothing was taken over, that of the process holds ended threads too.
    fn grow_by_threads(
        &mut self,
        counted: &HashMap<i64, Io>,
        quiet: u32,
        by_process: bool,
        files: &mut impl Files,
    ) -> Result<(), Errno> {
        let whole = files.io(None)?;
        let from_process = growth(&whole, &self.last);
        let Some(now) = of_threads(files) else {
            self.last = whole;
            if by_process {
                add(&mut self.own, &from_process);
            } else {
                self.unknown += 1;
            }
            return Ok(());
        };
        if by_process {
            add(&mut self.own, &from_process);
        } else if counted.keys().any(|thread| !now.contains_key(thread)) {
            self.unknown += 1;
        } else {
            for (thread, io) in &now {
                let before = counted.get(thread).copied().unwrap_or_default();
                add(&mut self.own, &growth(io, &before));
            }
        }
        (self.origin, self.last) = (Origin::Threads(now, quiet), whole);
        Ok(())
    }
}

fn of_threads(files: &mut impl Files) -> Option<HashMap<i64, Io>> {
    let threads = files.threads()?;
    Some(threads.into_iter().filter_map(|thread| Some((thread, files.io(Some(thread)).ok()?))).collect())
}

fn growth(now: &Io, before: &Io) -> Io {
    std::array::from_fn(|at| now[at].saturating_sub(before[at]).max(0))
}

fn add(sum: &mut Io, more: &Io) {
    for (sum, more) in sum.iter_mut().zip(more) {
        *sum = sum.saturating_add(*more);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A made-up process: what its file says, and what its threads have.
    #[derive(Default)]
    struct MadeUp {
        process: i64,
        threads: Vec<(i64, i64)>,
        full: bool,
    }

    impl Files for MadeUp {
        fn io(&mut self, thread: Option<i64>) -> Result<Io, Errno> {
            let found = self.threads.iter().find(|(tid, _)| Some(*tid) == thread).map(|(_, io)| *io);
            match thread {
                None => Ok([self.process; 7]),
                Some(_) => found.map(|io| [io; 7]).ok_or(Errno::NOENT),
            }
        }

        fn threads(&mut self) -> Option<Vec<i64>> {
            (!self.full).then(|| self.threads.iter().map(|(tid, _)| *tid).collect())
        }
    }

    /// Reads it with so many faults of children; gives its own counter and how often that was not known.
    fn read(kept: &mut Option<OwnIo>, faults: i64, process: i64, threads: &[(i64, i64)]) -> (i64, i64) {
        let mut files = MadeUp { process, threads: threads.to_vec(), full: false };
        let now = OwnIo::read(kept.take(), 9, faults, threads.len() > 1, &mut files).expect("readable");
        let told = (now.own[0], now.unknown);
        *kept = Some(now);
        told
    }

    #[test]
    fn a_shell_counts_what_it_does_itself_whatever_its_children_wrote() {
        let mut kept = None;
        assert_eq!(read(&mut kept, 0, 100, &[(9, 100)]), (100, 0));
        assert_eq!(read(&mut kept, 0, 130, &[(9, 130)]), (130, 0));
        assert_eq!(read(&mut kept, 50, 1_000_140, &[(9, 140)]), (140, 0), "its first child ended");
        assert_eq!(read(&mut kept, 90, 5_000_150, &[(9, 150)]), (150, 0));
        assert_eq!(read(&mut kept, 90, 5_000_170, &[(9, 160), (10, 10)]), (170, 0), "it began a thread");
    }

    #[test]
    fn a_process_with_threads_is_unknown_once_then_exact() {
        let mut kept = None;
        let two = |a, b| [(9, a), (10, b)];
        assert_eq!(read(&mut kept, 0, 100, &two(60, 40)), (100, 0));
        assert_eq!(read(&mut kept, 5, 1_000_110, &two(65, 45)), (100, 1), "its first child ended");
        assert_eq!(read(&mut kept, 9, 2_000_120, &two(70, 50)), (110, 1));
        assert_eq!(read(&mut kept, 9, 2_000_150, &two(80, 70)), (140, 1));
        assert_eq!(read(&mut kept, 12, 3_000_155, &[(9, 85)]), (140, 2), "a thread and a child ended");
    }

    #[test]
    fn too_many_threads_are_told_as_unknown_never_guessed() {
        let mut files = MadeUp { process: 100, threads: vec![(9, 60), (10, 40)], full: true };
        let kept = OwnIo::read(None, 9, 5, true, &mut files).expect("readable");
        files.process = 1_000_100;
        let kept = OwnIo::read(Some(kept), 9, 8, true, &mut files).expect("readable");
        assert_eq!((kept.own[0], kept.unknown), (100, 1));
        files.process = 1_000_120;
        let kept = OwnIo::read(Some(kept), 9, 8, true, &mut files).expect("readable");
        assert_eq!((kept.own[0], kept.unknown), (120, 1));
    }
}
