//! The simulated machine: `lynx-obs`, a host of a mountain observatory on a winter night.
//!
//! Deterministic from a seed: the same seed and the same times give the same readings. [`programs`] says who
//! runs there, [`machine`] lets them run and counts as a kernel would.

mod chance;
mod machine;
mod programs;

pub use machine::{PRELUDE, Refusal, SimulatedMachine};
