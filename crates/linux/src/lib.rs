//! What Dozor asks of the Linux kernel: the live source and the actions.
//!
//! [`proc`] and [`sys`] hold one file per kernel interface, each a pure `parse` over bytes and a thin reader;
//! [`live`] puts them together into readings; [`act`] sends signals. The roots of `/proc` and `/sys` are
//! arguments, so that a made-up tree can stand in for hardware that is not there.
#![deny(unsafe_op_in_unsafe_fn)]

pub mod access;
pub mod act;
pub mod burn;
pub mod clock;
pub mod files;
pub mod host;
pub mod inside;
mod ioprio;
pub mod kernel;
pub mod last_words;
pub mod launch;
pub mod live;
pub mod netlink;
pub mod own;
pub mod proc;
pub mod recorders;
pub mod stand_in;
pub mod sys;
pub mod trusted;
mod users;

pub use live::LiveSource;

use std::path::PathBuf;

/// Where the kernel's files are.
#[derive(Clone, Debug)]
pub struct Roots {
    /// Usually `/proc`.
    pub proc: PathBuf,
    /// Usually `/sys`.
    pub sys: PathBuf,
    /// Usually `/run`: who is logged in.
    pub run: PathBuf,
    /// Usually `/var/lib`: names of containers.
    pub lib: PathBuf,
}

impl Default for Roots {
    fn default() -> Self {
        Roots { proc: "/proc".into(), sys: "/sys".into(), run: "/run".into(), lib: "/var/lib".into() }
    }
}
