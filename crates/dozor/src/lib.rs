//! Dozor's program: the command line, the screen and what connects them to the core and to the kernel.
//!
//! A library only so that tests and benchmarks reach the parts; nothing here is meant for other programs.
#![forbid(unsafe_code)]

pub mod cli;
mod clock;
mod differing;
mod feed;
mod hands;
mod recorder;
mod recordings;
mod settings;
pub mod ui;
