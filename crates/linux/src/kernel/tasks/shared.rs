//! Memory that the program and we share: what it is told, how far it came, and the records that it writes.

use super::{Turn, Way};
use crate::kernel::call;
use crate::kernel::mapped::Mapped;
use rustix::io::Errno;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};

/// What it is told, by bytes from the beginning: whether everybody counts as changed, where the hand of the dial is and what it
/// swept over.
pub const EVERYBODY: i16 = 0;
pub const HAND: i16 = 8;
pub const SWEPT: i16 = 12;
/// Bytes of records that are written so far.
pub const CURSOR: i16 = 16;
/// How many tasks may still be looked at.
pub const LEFT: i16 = 24;
/// Where to begin: a process, when it started (nothing where that is no matter), and the first of its threads that is looked at
/// (nothing for all of them). A run that is not done leaves here where the next one begins.
pub const RESUME: i16 = 32;
pub const START: i16 = 40;
pub const SKIP: i16 = 48;
/// A [`State`].
pub const STATE: i16 = 56;
/// Whether threads were passed over because the first of those to be looked at has ended.
pub const LOST: i16 = 64;
/// The process with which the walk began, and ends.
pub const END: i16 = 72;
/// Bytes of all of these.
pub const HEADER: usize = 128;
/// Bytes of records that one run writes at most, or that one reading of the file gives.
pub const PIECE: usize = 256 << 10;

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// Every task was looked at.
    Done = 0,
    /// There are more.
    More = 1,
    /// The process at which it was to begin has ended.
    Lost = 2,
}

/// Where a run begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Place {
    pub process: u64,
    pub start: u64,
    pub thread: u64,
}

impl Place {
    /// At ourselves, who are there as long as we ask.
    pub fn own() -> Place {
        Place { process: u64::from(std::process::id()), start: 0, thread: 0 }
    }
}

/// The memory, as long as it is needed.
pub struct Shared {
    descriptor: OwnedFd,
    mapped: Mapped,
}

impl Shared {
    pub fn new(way: Way) -> Result<Shared, Errno> {
        let bytes = HEADER + if way == Way::List { PIECE } else { 0 };
        let descriptor = call::shared(bytes as u32)?;
        let bytes = bytes.next_multiple_of(rustix::param::page_size());
        let mapped = Mapped::of(descriptor.as_fd(), bytes, libc::PROT_READ | libc::PROT_WRITE, 0)?;
        Ok(Shared { descriptor, mapped })
    }

    /// By which the program names it.
    pub fn descriptor(&self) -> i32 {
        self.descriptor.as_raw_fd()
    }

    /// What the next run is told.
    pub fn begin(&mut self, turn: Turn, place: Place, tasks: u64) {
        let dial = u64::from(turn.hand) | u64::from(turn.swept) << 32;
        let dial = if cfg!(target_endian = "big") { dial.rotate_left(32) } else { dial };
        let words = [
            (EVERYBODY, u64::from(turn.everybody)),
            (HAND, dial),
            (CURSOR, 0),
            (LEFT, tasks),
            (RESUME, place.process),
            (START, place.start),
            (SKIP, place.thread),
            (STATE, State::Done as u64),
            (LOST, 0),
            (END, Place::own().process),
        ];
        for (at, word) in words {
            self.mapped.set(at as usize, word);
        }
    }

    /// The records of the last run.
    pub fn written(&mut self) -> &[u8] {
        let bytes = (self.mapped.word(CURSOR as usize) as usize).min(PIECE);
        // SAFETY: the program writes only while it is run, for which this is borrowed anew.
        unsafe { self.mapped.bytes(HEADER, bytes) }
    }

    /// How it ended.
    pub fn state(&self) -> State {
        match self.mapped.word(STATE as usize) {
            // A thread to begin with that is not there any more leaves its number.
            0 if self.mapped.word(SKIP as usize) == 0 => State::Done,
            1 => State::More,
            _ => State::Lost,
        }
    }

    /// Whether threads were passed over that nobody looked at.
    pub fn has_lost_threads(&self) -> bool {
        let ended_within = self.mapped.word(STATE as usize) == 0 && self.mapped.word(SKIP as usize) != 0;
        self.mapped.word(LOST as usize) != 0 || ended_within
    }

    /// Where the next run begins.
    pub fn place(&self) -> Place {
        let word = |at: i16| self.mapped.word(at as usize);
        Place { process: word(RESUME), start: word(START), thread: word(SKIP) }
    }
}
