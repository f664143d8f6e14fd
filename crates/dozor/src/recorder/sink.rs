//! One file or pipe that a recording is written into.

use super::error::{RecordError, SAFE_EVERY, failed};
use dozor_linux::files;
use rustix::fs::{FlockOperation, flock};
use std::fs::{File, Permissions};
use std::io::{self, Write as _};
use std::os::unix::fs::{FileExt as _, MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

enum Out {
    /// A file that keeps what is written.
    File(File),
    StandardOutput,
}

/// Takes bytes.
pub struct Sink {
    path: PathBuf,
    out: Out,
    bytes: u64,
    safe: Instant,
}

/// A thread is making sure that a file is on the disk; one at a time is enough.
static BUSY: AtomicBool = AtomicBool::new(false);

impl Sink {
    fn new(path: PathBuf, out: Out) -> Sink {
        Sink { path, out, bytes: 0, safe: Instant::now() }
    }

    /// Standard output.
    pub fn standard_output() -> Sink {
        Sink::new(PathBuf::from("standard output"), Out::StandardOutput)
    }

    /// A file that is new, or empty and one's own, with these rights and for this group. Nobody else may be writing into it.
    pub fn create(path: &Path, (mode, group): (u32, Option<u32>)) -> Result<Sink, RecordError> {
        let failed = |error| failed(path, error);
        let opened = match files::create(path, mode) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => files::open_own(path),
            other => other,
        };
        let file = opened.map_err(failed)?;
        if flock(&file, FlockOperation::NonBlockingLockExclusive).is_err() {
            return Err(RecordError::Taken { folder: path.to_owned(), pid: None });
        }
        if file.metadata().map_err(failed)?.len() > 0 {
            return Err(RecordError::Exists(path.to_owned()));
        }
        // One that was there empty becomes as private as a new one.
        file.set_permissions(Permissions::from_mode(mode)).map_err(failed)?;
        files::give_to_group(&file, group);
        Ok(Sink::new(path.to_owned(), Out::File(file)))
    }

    /// The file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Bytes that were taken.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Somebody took away what was written: so many bytes are left, and the file, for looking at.
    pub fn truncated(&self) -> Option<(u64, &File)> {
        let Out::File(file) = &self.out else { return None };
        let left = file.metadata().ok()?.len();
        (left < self.bytes).then_some((left, file))
    }

    /// Goes on behind so many bytes.
    pub fn go_on_at(&mut self, bytes: u64) -> io::Result<()> {
        let Out::File(file) = &self.out else { return Ok(()) };
        file.set_len(bytes)?;
        self.bytes = bytes;
        Ok(())
    }

    /// Somebody removed the file.
    pub fn is_removed(&self) -> bool {
        match &self.out {
            Out::File(file) => file.metadata().is_ok_and(|data| data.nlink() == 0),
            Out::StandardOutput => false,
        }
    }

    /// Hands bytes to the system. Where that fails none of them stay.
    pub fn write(&mut self, bytes: &[u8]) -> Result<(), RecordError> {
        let result = match &mut self.out {
            // At its place: what a failed attempt left behind is written over.
            Out::File(file) => {
                let result = file.write_all_at(bytes, self.bytes);
                if result.is_err() {
                    let _ = file.set_len(self.bytes);
                }
                result
            }
            Out::StandardOutput => {
                let mut out = io::stdout().lock();
                out.write_all(bytes).and_then(|()| out.flush())
            }
        };
        result.map_err(|error| failed(&self.path, error))?;
        self.bytes += bytes.len() as u64;
        if self.safe.elapsed() >= SAFE_EVERY {
            self.safe = Instant::now();
            self.make_safe();
        }
        Ok(())
    }

    /// Has a thread make sure that the file is on the disk; a slow disk does not hold up the readings.
    fn make_safe(&self) {
        let Out::File(file) = &self.out else { return };
        let Ok(file) = file.try_clone() else { return };
        if !BUSY.swap(true, Ordering::AcqRel) {
            std::thread::spawn(move || {
                let _ = file.sync_data();
                BUSY.store(false, Ordering::Release);
            });
        }
    }

    /// Takes away a file into which nothing could be written.
    pub fn remove(&self) {
        if let Out::File(_) = self.out {
            let _ = std::fs::remove_file(&self.path);
        }
    }

    /// Nothing more will come; does not wait for the disk.
    pub fn finish_later(self) {
        self.make_safe();
    }

    /// Nothing more will come; waits until it is on the disk.
    pub fn finish(self) -> io::Result<()> {
        match &self.out {
            Out::File(file) => file.sync_all(),
            Out::StandardOutput => Ok(()),
        }
    }
}
