//! A program of ours at a place of the kernel's.

use super::btf::Btf;
use super::call;
use super::refused::Refused;
use std::os::fd::{AsFd as _, OwnedFd};

/// A program that the kernel runs whenever it comes to a place, until this is dropped.
pub struct Attached {
    program: OwnedFd,
    _link: OwnedFd,
}

impl Attached {
    /// Loads a program and ties it to the place of this name.
    pub fn at(btf: &Btf, place: &str, instructions: &[u64]) -> Result<Attached, Refused> {
        let place = btf.tracepoint(place).ok_or(Refused::Kernel)?;
        let program = call::load_tracepoint(instructions, place).map_err(Refused::said)?;
        let link = call::attach(program.as_fd()).map_err(Refused::of)?;
        Ok(Attached { program, _link: link })
    }

    /// How often the kernel came to the place and did not run it, since it was running on that core already: newer kernels let
    /// others on the core meanwhile.
    pub fn missed(&self) -> u64 {
        call::missed(self.program.as_fd())
    }
}
