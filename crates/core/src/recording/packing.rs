//! Payloads compressed one after another as a single stream (RFC 8878, Zstandard), so that each gains from those before
//! it. The stream begins anew at key frames and is flushed behind each payload.

use super::format::LONGEST_PAYLOAD;
use std::io;
use zstd::stream::raw::{CParameter, DParameter, Decoder, Encoder, InBuffer, Operation as _, OutBuffer};

/// How hard the compressor tries, and what memory it takes for that.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Effort {
    /// For blocks of some dozen readings in memory: little memory itself.
    Light,
    /// For long blocks in files.
    Full,
}

impl Effort {
    /// The compressor's level, and the bytes that a payload may refer back over, as a power of two.
    const fn level_and_window(self) -> (i32, u32) {
        match self {
            Effort::Light => (3, 16),
            Effort::Full => (18, 19),
        }
    }
}

/// Places that the compressor's tables have, as a power of two.
const TABLES: u32 = 16;
/// The largest such window that a reader accepts.
const WIDEST_WINDOW: u32 = 23;
/// Bytes that are handed to the compressor's output at a time.
const STEP: usize = 8 << 10;

/// Compresses.
pub struct Packer(Encoder<'static>);

impl Packer {
    /// A stream that has not begun.
    pub fn new(effort: Effort) -> io::Result<Packer> {
        let (level, window) = effort.level_and_window();
        let mut encoder = Encoder::new(level)?;
        encoder.set_parameter(CParameter::WindowLog(window))?;
        // Tables that are larger than what can be found in the window would only take memory.
        encoder.set_parameter(CParameter::HashLog(TABLES))?;
        encoder.set_parameter(CParameter::ChainLog(TABLES))?;
        encoder.set_parameter(CParameter::ContentSizeFlag(false))?;
        Ok(Packer(encoder))
    }

    /// Begins anew, as a key frame demands.
    pub fn restart(&mut self) -> io::Result<()> {
        self.0.reinit()
    }

    /// Appends a payload's compressed form.
    pub fn pack(&mut self, payload: &[u8], out: &mut Vec<u8>) -> io::Result<()> {
        let mut input = InBuffer::around(payload);
        while input.pos() < payload.len() {
            grow(out, |output| self.0.run(&mut input, output).map(|_| ()))?;
        }
        loop {
            let mut left = 0;
            grow(out, |output| {
                left = self.0.flush(output)?;
                Ok(())
            })?;
            if left == 0 {
                return Ok(());
            }
        }
    }
}

/// Decompresses.
pub struct Unpacker(Decoder<'static>);

impl Unpacker {
    /// A stream that has not begun.
    pub fn new() -> io::Result<Unpacker> {
        let mut decoder = Decoder::new()?;
        decoder.set_parameter(DParameter::WindowLogMax(WIDEST_WINDOW))?;
        Ok(Unpacker(decoder))
    }

    /// Begins anew, as a key frame demands.
    pub fn restart(&mut self) -> io::Result<()> {
        self.0.reinit()
    }

    /// Puts a payload into `out`, whose old content goes. Foreign bytes give an error, and never more than a payload
    /// may have; `most` bytes where that is less.
    pub fn unpack(&mut self, packed: &[u8], most: usize, out: &mut Vec<u8>) -> io::Result<()> {
        out.clear();
        let mut input = InBuffer::around(packed);
        loop {
            let before = (input.pos(), out.len());
            grow(out, |output| self.0.run(&mut input, output).map(|_| ()))?;
            if out.len() > most.min(LONGEST_PAYLOAD as usize) {
                return Err(io::ErrorKind::FileTooLarge.into());
            }
            // Room that is left says that nothing more will come.
            if input.pos() == packed.len() && out.len() < out.capacity() {
                return Ok(());
            }
            if before == (input.pos(), out.len()) {
                return Err(io::ErrorKind::InvalidData.into());
            }
        }
    }
}

/// Gives `what` room behind the content of `out` to write into.
fn grow(
    out: &mut Vec<u8>,
    what: impl FnOnce(&mut OutBuffer<'_, Vec<u8>>) -> io::Result<()>,
) -> io::Result<()> {
    out.reserve(STEP);
    let old = out.len();
    what(&mut OutBuffer::around_pos(out, old))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        #[test]
        fn payloads_come_back_one_by_one(
            payloads in proptest::collection::vec(proptest::collection::vec(0..6u8, 0..40_000), 1..6),
            restarts in proptest::collection::vec(any::<bool>(), 6),
        ) {
            let effort = if payloads.len() % 2 == 0 { Effort::Light } else { Effort::Full };
            let (mut packer, mut unpacker) = (Packer::new(effort).unwrap(), Unpacker::new().unwrap());
            let (mut packed, mut back) = (vec![], vec![]);
            for (payload, restart) in payloads.iter().zip(restarts) {
                if restart {
                    packer.restart().unwrap();
                    unpacker.restart().unwrap();
                }
                packed.clear();
                packer.pack(payload, &mut packed).unwrap();
                unpacker.unpack(&packed, usize::MAX, &mut back).unwrap();
                prop_assert_eq!(&back, payload);
            }
        }

        #[test]
        fn foreign_bytes_are_an_error_or_something_of_a_bounded_length(
            bytes in proptest::collection::vec(any::<u8>(), 0..300)
        ) {
            let mut back = vec![];
            let _ = Unpacker::new().unwrap().unpack(&bytes, usize::MAX, &mut back);
            prop_assert!(back.len() <= LONGEST_PAYLOAD as usize + STEP);
        }
    }
}
