//! What yields readings.

use crate::reading::{HostFacts, Reading};
use crate::wanted::Wanted;

/// Whatever yields readings at the pace of its caller: the machine, or the simulation.
///
/// Recordings and pipes have their own pace and are read through [`crate::recording`]; everything after the
/// reading is the same.
pub trait Source: Send {
    /// What does not change while the source lives.
    fn host(&self) -> HostFacts;
    /// The counters at this instant.
    fn read(&mut self) -> Reading;
    /// What readings shall hold from now on beyond the cheap counters. A source that has it anyway ignores this.
    fn want(&mut self, _wanted: Wanted) {}
    /// The first figures are out: what makes later readings better and takes its time may begin.
    fn settle(&mut self) {}
}
