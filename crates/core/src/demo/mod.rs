//! The simulated machine: `lynx-obs`, a host of a mountain observatory on a winter night, and its relatives.
//!
//! Deterministic from a seed: the same seed and the same times give the same readings. [`site`] says what the
//! machines are made of, [`programs`] who runs there, [`story`] what happens; [`machine`] lets the programs run,
//! [`process`] and [`hardware`] count as a kernel would; [`acting`] is what can be done to processes, [`inside`] what one sees
//! who looks into them. [`incidents`] is a small machine on which everything goes wrong that there is a rule for.

mod acting;
mod chance;
mod hardware;
pub mod incidents;
mod inside;
mod machine;
mod process;
mod programs;
mod site;
pub mod story;
mod ways;

pub use acting::USER;
pub use machine::{PRELUDE, SimulatedMachine};
pub use site::Site;
