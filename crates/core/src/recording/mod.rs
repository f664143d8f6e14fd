//! The recording: readings kept as bytes, specified in `docs/recording-format.md`.
//!
//! [`mod@format`] is the byte layout, [`writer`] turns readings into frames, [`reader`] turns bytes back into
//! readings and survives what a crash, a full disk or a flipped bit leaves behind. The same frames hold the
//! live history in memory ([`crate::timeline`]).

mod codec;
pub mod format;
mod reader;
mod scanner;
mod writer;

pub use codec::DecodeError;
pub use reader::{Damage, Entry, Event, ReadError, StreamReader};
pub use writer::Encoder;

pub(crate) use reader::{Decoder, Frames};
