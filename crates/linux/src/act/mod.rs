//! Actions on processes. A target is named by PID *and* start time, so that a recycled PID is never hit.

mod signal;

pub use signal::{Ending, Sent, SignalError, send};
