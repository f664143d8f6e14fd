//! The simulated machine: `lynx-obs`, a host of a mountain observatory on a winter night, and its relatives.
//!
//! Deterministic from a seed: the same seed and the same times give the same readings. [`site`] says what the
//! machines are made of, [`programs`] who runs there, [`story`] what happens; [`machine`] lets the programs run,
//! [`process`] and [`hardware`] count as a kernel would.

mod chance;
mod hardware;
mod machine;
mod process;
mod programs;
mod site;
pub mod story;

pub use machine::{PRELUDE, Refusal, SimulatedMachine};
pub use site::Site;
