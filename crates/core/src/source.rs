//! What yields readings.

use crate::reading::{HostFacts, Reading};
use crate::wanted::Wanted;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// How far the first reading is, which takes as long for each process as fifty later ones: for who waits for it, in another
/// thread.
#[derive(Debug, Default)]
pub struct Progress(AtomicU64);

impl Progress {
    const OVER: u64 = u64::MAX;

    /// So many processes have been read, of so many.
    pub fn reach(&self, done: u32, of: u32) {
        self.0.store(u64::from(done) << 32 | u64::from(of), Ordering::Relaxed);
    }

    /// The first reading is over.
    pub fn end(&self) {
        self.0.store(Progress::OVER, Ordering::Relaxed);
    }

    /// How many processes have been read, and of how many; nothing once the first reading is over.
    pub fn get(&self) -> Option<(u32, u32)> {
        let both = self.0.load(Ordering::Relaxed);
        (both != Progress::OVER).then_some(((both >> 32) as u32, both as u32))
    }
}

/// Whatever yields readings at the pace of its caller: the machine, or the simulation.
///
/// Recordings and pipes have their own pace and are read through [`crate::recording`]; everything after the
/// reading is the same.
pub trait Source: Send {
    /// What does not change while the source lives.
    fn host(&self) -> HostFacts;
    /// The counters at this instant.
    fn read(&mut self) -> Reading;
    /// A reading that nobody needs any more: the next one may take over the memory of its lists.
    fn reuse(&mut self, _old: Reading) {}
    /// What readings shall hold from now on beyond the cheap counters. A source that has it anyway ignores this.
    fn want(&mut self, _wanted: Wanted) {}
    /// How far the first reading is, of a source for which it can take long.
    fn progress(&self) -> Option<Arc<Progress>> {
        None
    }
    /// The first figures are out: what makes later readings better and takes its time may begin.
    fn settle(&mut self) {}
}
