//! What happens in the simulated night, in seconds after its beginning; it comes back every [`PERIOD`] seconds.
//! Every lane has its incident, and each incident its culprit.

use std::ops::Range;

/// Seconds after which the story begins anew.
pub const PERIOD: f64 = 400.0;
/// Disk: the stacker writes its result and saturates the fast disk.
pub const STACK: Range<f64> = 25.0..125.0;
/// CPU: the reader of the guide log turns in a loop of zero-byte reads; it has one thread, so one core is hot.
pub const ZERO_READS: Range<f64> = 75.0..170.0;
/// Network: the link to the second dome loses packets.
pub const LOSSY_LINK: Range<f64> = 100.0..160.0;
/// Heat: a fan stops.
pub const FAN_STOPS: Range<f64> = 130.0..205.0;
/// Memory: the cache of the web board takes all there is, until the kernel ends it.
pub const LEAK: Range<f64> = 190.0..262.0;
/// Network: the copy to the other observatory fills the link.
pub const UPLOAD: Range<f64> = 275.0..340.0;

/// Whether something of the story happens now; nothing does before it begins.
pub fn happens(what: &Range<f64>, seconds: f64) -> bool {
    seconds >= 0.0 && what.contains(&(seconds % PERIOD))
}
