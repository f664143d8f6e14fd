//! How far something is that is worked out elsewhere, and that it is not wanted any more.

use std::io;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

/// Looked at by whoever waits for something that is worked out elsewhere.
#[derive(Debug, Default)]
pub struct Progress {
    stop: AtomicBool,
    read: AtomicU64,
}

impl Progress {
    /// Nobody wants it any more: the next thing that is read there is an error.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }

    /// Whether somebody said so.
    pub fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    /// Readings that were looked at so far, one that is looked at again counting again.
    pub fn read(&self) -> u64 {
        // Each is two frames.
        self.read.load(Ordering::Relaxed) / 2
    }

    pub(super) fn count(&self) -> io::Result<()> {
        self.read.fetch_add(1, Ordering::Relaxed);
        if self.is_stopped() { Err(io::Error::from(io::ErrorKind::Interrupted)) } else { Ok(()) }
    }
}
