//! How full file systems are; `statvfs(3)`.
//!
//! A mount whose server does not answer blocks whoever asks. So a thread asks, and after [`PATIENCE`] another one
//! takes over the rest; what hangs is said to hang until it answers.

use crate::proc::mountinfo::Mount;
use dozor_core::known::Raw;
use dozor_core::reading::FilesystemRow;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// A question may wait so long before its mount counts as not answering.
pub const PATIENCE: Duration = Duration::from_secs(2);
/// A reading waits so long for answers: the first one longer, so that a single snapshot has them.
const FIRST: Duration = Duration::from_millis(150);
const LATER: Duration = Duration::from_millis(20);
/// Never more threads than this wait for mounts that hang.
const MOST_THREADS: usize = 8;

/// What a file system says of itself, in bytes and inodes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Space {
    size: i64,
    used: i64,
    available: i64,
    inodes: i64,
    inodes_free: i64,
}

/// Asks a file system; may take forever.
pub type Ask = fn(&Path) -> Option<Space>;

/// Asks the kernel.
pub fn ask(path: &Path) -> Option<Space> {
    let answer = rustix::fs::statvfs(path).ok()?;
    let bytes = |blocks: u64| i64::try_from(blocks.saturating_mul(answer.f_frsize)).unwrap_or(i64::MAX);
    let count = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
    Some(Space {
        size: bytes(answer.f_blocks),
        used: bytes(answer.f_blocks.saturating_sub(answer.f_bfree)),
        available: bytes(answer.f_bavail),
        inodes: count(answer.f_files),
        inodes_free: count(answer.f_ffree),
    })
}

#[derive(Default)]
struct Answers {
    spaces: HashMap<PathBuf, Option<Space>>,
    /// Since when each unanswered question has been waiting.
    waiting: HashMap<PathBuf, Instant>,
}

/// Asks all mounts without ever waiting for one that hangs.
pub struct Filesystems {
    ask: Ask,
    answers: Arc<Mutex<Answers>>,
    /// The thread that is asked now.
    worker: Option<Sender<PathBuf>>,
    /// Mounts whose question holds a thread of its own.
    stuck: HashSet<PathBuf>,
    asked_before: bool,
    /// Mounts that did not answer while a reading waited; they are not waited for again until they do.
    slow: HashSet<PathBuf>,
}

impl Default for Filesystems {
    fn default() -> Self {
        Filesystems::asking(ask)
    }
}

fn lock(answers: &Mutex<Answers>) -> MutexGuard<'_, Answers> {
    answers.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Filesystems {
    /// Asks in this way.
    pub fn asking(ask: Ask) -> Filesystems {
        Filesystems {
            ask,
            answers: Arc::default(),
            worker: None,
            stuck: HashSet::new(),
            asked_before: false,
            slow: HashSet::new(),
        }
    }

    /// Rows with the answers to a question of now; of those that do not answer at once the last one that they gave.
    pub fn read(&mut self, mounts: &[Mount]) -> Vec<FilesystemRow> {
        self.question(mounts);
        let patience = if std::mem::replace(&mut self.asked_before, true) { LATER } else { FIRST };
        let until = Instant::now() + patience;
        let mut pause = Duration::from_micros(50);
        let mut answers = lock(&self.answers);
        while answers.waiting.keys().any(|path| !self.slow.contains(path)) && Instant::now() < until {
            drop(answers);
            std::thread::sleep(pause);
            pause = (pause * 2).min(Duration::from_millis(2));
            answers = lock(&self.answers);
        }
        self.slow = answers.waiting.keys().cloned().collect();
        mounts.iter().map(|mount| row(mount, &answers)).collect()
    }

    fn question(&mut self, mounts: &[Mount]) {
        let mut answers = lock(&self.answers);
        self.stuck.retain(|path| answers.waiting.contains_key(path));
        let asked = answers.waiting.iter().filter(|(path, _)| !self.stuck.contains(*path));
        let oldest = asked.min_by_key(|(_, since)| **since).map(|(path, since)| (path.clone(), *since));
        if let Some((path, _)) = oldest.filter(|(_, since)| since.elapsed() > PATIENCE) {
            // The thread hangs at the question asked first; the others go to a new thread.
            self.worker = None;
            self.stuck.insert(path);
            answers.waiting.retain(|path, _| self.stuck.contains(path));
        }
        answers.spaces.retain(|path, _| mounts.iter().any(|mount| mount.path == *path));
        if self.worker.is_none() && Arc::strong_count(&self.answers) <= MOST_THREADS {
            self.worker = Some(start(self.ask, self.answers.clone()));
        }
        let Some(worker) = &self.worker else { return };
        let mut at = Instant::now();
        for mount in mounts.iter().filter(|mount| !self.stuck.contains(&mount.path)) {
            if !answers.waiting.contains_key(&mount.path) {
                // Each question a nanosecond later than the one before, so that the first of them is known.
                at += Duration::from_nanos(1);
                answers.waiting.insert(mount.path.clone(), at);
                let _ = worker.send(mount.path.clone());
            }
        }
    }
}

fn start(ask: Ask, answers: Arc<Mutex<Answers>>) -> Sender<PathBuf> {
    let (sender, questions) = channel::<PathBuf>();
    std::thread::spawn(move || {
        for path in questions {
            let space = ask(&path);
            let mut answers = lock(&answers);
            answers.waiting.remove(&path);
            answers.spaces.insert(path, space);
        }
    });
    sender
}

fn row(mount: &Mount, answers: &Answers) -> FilesystemRow {
    let hangs = answers.waiting.get(&mount.path).is_some_and(|since| since.elapsed() > PATIENCE);
    let space = answers.spaces.get(&mount.path).copied().flatten().filter(|_| !hangs);
    let part = |get: fn(&Space) -> i64| Raw::from(space.as_ref().map(get));
    FilesystemRow {
        mount: mount.shown.as_str().into(),
        device: mount.device.as_str().into(),
        kind: mount.kind.as_str().into(),
        remote: i64::from(mount.remote).into(),
        answers: i64::from(!hangs).into(),
        read_only: i64::from(mount.read_only).into(),
        size: part(|space| space.size),
        used: part(|space| space.used),
        available: part(|space| space.available),
        inodes: part(|space| space.inodes),
        inodes_free: part(|space| space.inodes_free),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mount(path: &str) -> Mount {
        Mount {
            path: path.into(),
            shown: path.to_owned(),
            device: "server:/".to_owned(),
            kind: "nfs4".to_owned(),
            remote: true,
            read_only: false,
        }
    }

    fn hang_on_dead(path: &Path) -> Option<Space> {
        if path == Path::new("/dead") {
            std::thread::sleep(Duration::from_secs(600));
        }
        if path == Path::new("/gone") {
            return None;
        }
        Some(Space { size: 100, used: 60, available: 35, inodes: 10, inodes_free: 4 })
    }

    #[test]
    fn a_mount_that_hangs_blocks_nobody_and_is_said_to_hang() {
        let mounts = [mount("/alive"), mount("/gone"), mount("/dead"), mount("/other")];
        let mut filesystems = Filesystems::asking(hang_on_dead);
        let begin = Instant::now();
        let mut rows = filesystems.read(&mounts);
        assert!(begin.elapsed() < PATIENCE, "the reading does not wait");
        let of = |rows: &[FilesystemRow], name: &str| {
            rows.iter().find(|row| &*row.mount == name).expect("a row").clone()
        };
        assert_eq!(of(&rows, "/alive").used, Raw::new(60));
        while of(&rows, "/dead").answers == Raw::new(1) || of(&rows, "/other").size == Raw::ABSENT {
            assert!(begin.elapsed() < Duration::from_secs(60), "{rows:?}");
            std::thread::sleep(Duration::from_millis(50));
            rows = filesystems.read(&mounts);
        }
        assert_eq!(of(&rows, "/dead").used, Raw::ABSENT);
        assert_eq!((of(&rows, "/gone").used, of(&rows, "/gone").answers), (Raw::ABSENT, Raw::new(1)));
        assert_eq!((of(&rows, "/other").used, of(&rows, "/other").answers), (Raw::new(60), Raw::new(1)));
    }

    #[test]
    fn the_root_has_a_size() {
        let space = ask(Path::new("/")).expect("an answer");
        assert!(space.size > 0 && space.used > 0 && space.used <= space.size);
        assert_eq!(ask(Path::new("/no/such/place")), None);
    }
}
