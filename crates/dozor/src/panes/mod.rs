//! What always stands on the screen: each part draws itself from the state, which it only reads.

pub mod bottom;
pub mod cell;
mod command;
pub mod hints;
pub mod lanes;
pub mod parts;
pub mod table;
pub mod top;
