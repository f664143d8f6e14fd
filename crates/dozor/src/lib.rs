//! Dozor's program: the command line, the screen and what connects them to the core and to the kernel.
//!
//! A library only so that tests and benchmarks reach the parts; nothing here is meant for other programs.
#![forbid(unsafe_code)]

pub mod cli;
mod draw;
pub mod feed;
pub mod look;
mod machine;
mod panes;
mod recorder;
mod recordings;
pub mod run;
pub mod screen;
mod serve;
mod settings;
mod sheets;
pub mod state;
mod usual;
