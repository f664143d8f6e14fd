//! Actions on processes. A target is named by PID *and* start time, so that a recycled PID is never hit: a descriptor of the
//! process is opened, the start time compared, and for calls that take a bare PID it is looked afterwards whether the
//! process lived through them, so that the number was its own all the time.
//!
//! What was changed is read back from the kernel; what the kernel refuses is said with what would allow it.

mod change;
mod foresee;
mod freeze;
mod present;
mod refusal;
mod signal;
mod table;
mod undoing;

pub use change::{change, runs_on};
pub use foresee::foresee;
pub use freeze::{freeze, stop};
pub use present::present;
pub use signal::{Ending, Held, left_behind, now_ticks, send, why_still};
pub use table::name_of;
