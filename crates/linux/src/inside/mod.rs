//! Everything about one process, asked for when somebody looks inside.
//!
//! Each question gives *not permitted* apart from *not there*. The folder of the process is opened once and its start time
//! compared then: what comes through it is of this process, whoever has its PID by now.

mod calls;
mod calls_32;
pub mod closely;
mod facts;
pub(crate) mod files;
pub mod holding;
mod looker;
mod memory;
mod packages;
mod process;
mod sockets;

pub use looker::Looker;
pub use process::{Inside, online};
pub use sockets::Peers;
