//! The recording: readings kept as bytes, specified in `docs/recording-format.md`.
//!
//! [`mod@format`] is the byte layout, [`writer`] turns readings into frames, [`reader`] turns bytes back into
//! readings and survives what a crash, a full disk or a flipped bit leaves behind. The same frames hold the
//! live history in memory ([`crate::timeline`]).

mod codec;
mod coder;
mod columnar;
pub mod format;
mod frames;
mod index;
mod mapping;
mod marks;
mod models;
mod numbers;
mod packing;
mod past;
mod payload;
mod pool;
mod reader;
mod row_wise;
mod scanner;
mod schema;
mod survey;
mod tables;
mod texts;
mod writer;

pub use codec::DecodeError;
pub use frames::Frames;
pub use index::{Peak, has_peaks};
pub use marks::{Found, Mark, MarkKind};
pub use reader::{Damage, Entry, Event, ReadError, StreamReader};
pub use writer::{Encoder, Writer, mark_frame};

pub(crate) use reader::{Decoder, Light};
pub(crate) use survey::{Survey, Surveyed};
