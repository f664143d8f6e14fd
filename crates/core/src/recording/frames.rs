//! Where the bytes of a recording are. Files are opened by who uses this crate; nothing here asks the system.

use super::format::FrameHeader;
use std::io;
use std::ops::Range;

/// Frames by their offset: a file, or the live history in memory.
pub trait Frames: Send + Sync {
    /// Fills `buffer` with the bytes from `offset` on.
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()>;
    /// Fills as much of `buffer` as there is from `offset` on.
    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<usize>;
    /// Where data stands next, from `offset` on: behind a hole, which holds nothing but zeros.
    fn data_from(&self, offset: u64) -> u64 {
        offset
    }
}

/// A recording in memory.
impl Frames for Vec<u8> {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let whole = self.some_at(offset, buffer)? == buffer.len();
        if whole { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
    }

    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
        let rest = self.get(offset as usize..).unwrap_or_default();
        let there = rest.len().min(buffer.len());
        buffer[..there].copy_from_slice(&rest[..there]);
        Ok(there)
    }
}

/// Bytes that are taken out at once: most often a whole reading.
const AT_ONCE: usize = 4 << 10;
/// Bytes of memory that are kept for the next.
const KEPT: usize = 256 << 10;

/// What was taken out of a recording for one frame, and for those close behind it.
#[derive(Default)]
pub struct Fetched {
    from: u64,
    there: usize,
    bytes: Vec<u8>,
}

impl Fetched {
    /// What was taken out may not be there any more. The memory stays, but for that of a very large frame.
    pub fn forget(&mut self) {
        self.there = 0;
        if self.bytes.len() > KEPT {
            self.bytes = vec![];
        }
    }

    /// The place of a frame among the bytes, with its header, where all of it is there.
    fn find(&self, offset: u64) -> Option<(FrameHeader, Range<usize>)> {
        let begin = usize::try_from(offset.checked_sub(self.from)?).ok()?;
        let header = FrameHeader::parse(self.bytes[..self.there].get(begin..)?)?;
        let payload = begin + header.bytes..begin + header.whole();
        (payload.end <= self.there).then_some((header, payload))
    }

    fn take(&mut self, frames: &dyn Frames, from: u64, bytes: usize) -> io::Result<()> {
        if self.bytes.len() < bytes {
            self.bytes.resize(bytes, 0);
        }
        (self.from, self.there) = (from, 0);
        self.there = frames.some_at(from, &mut self.bytes[..bytes])?;
        Ok(())
    }

    /// The kind and the payload of the frame at `offset`; none where there is no whole one.
    pub fn frame(&mut self, frames: &dyn Frames, offset: u64) -> io::Result<Option<(u8, &[u8])>> {
        let mut found = self.find(offset);
        if found.is_none() {
            self.take(frames, offset, AT_ONCE)?;
            let Some(header) = FrameHeader::parse(&self.bytes[..self.there]) else { return Ok(None) };
            if header.whole() > self.there {
                self.take(frames, offset, header.whole())?;
            }
            found = self.find(offset);
        }
        let (header, payload) = found.ok_or(io::ErrorKind::UnexpectedEof)?;
        let payload = &self.bytes[payload];
        Ok(header.holds(payload).then_some((header.kind, payload)))
    }
}

#[cfg(test)]
mod tests {
    use super::super::format::{Kind, put_frame};
    use super::*;
    use proptest::prelude::*;

    const KINDS: [Kind; 3] = [Kind::SystemKey, Kind::SystemDifference, Kind::ProcessDifference];

    proptest! {
        #[test]
        fn frames_are_found_in_any_order_whatever_was_taken_out_before(
            lengths in proptest::collection::vec(prop_oneof![6 => 0..900usize, 1 => 3_900..4_200usize, 1 => 5_000..9_000usize], 1..12),
            order in proptest::collection::vec((any::<prop::sample::Index>(), any::<bool>()), 1..20),
            cut in any::<prop::sample::Index>(),
        ) {
            let (mut whole, mut places) = (vec![], vec![]);
            for (at, length) in lengths.iter().enumerate() {
                let payload = vec![at as u8; *length];
                let begin = whole.len();
                put_frame(KINDS[at % KINDS.len()], &payload, &mut whole);
                places.push((begin, KINDS[at % KINDS.len()] as u8, payload));
            }
            let there = whole[..cut.index(whole.len() + 1)].to_vec();
            let mut fetched = Fetched::default();
            for (which, forget) in order {
                if forget {
                    fetched.forget();
                }
                let at = which.index(places.len());
                let (offset, kind, payload) = &places[at];
                let end = places.get(at + 1).map_or(whole.len(), |(next, ..)| *next);
                match fetched.frame(&there, *offset as u64) {
                    Ok(Some(found)) => prop_assert_eq!(found, (*kind, &payload[..])),
                    Ok(None) | Err(_) => prop_assert!(there.len() < end, "frame {} is whole", at),
                }
            }
        }
    }

    #[test]
    fn a_changed_frame_is_none() {
        let mut bytes = vec![];
        put_frame(Kind::SystemDifference, &[7; 300], &mut bytes);
        bytes[200] ^= 1;
        assert!(matches!(Fetched::default().frame(&bytes, 0), Ok(None)));
    }

    #[test]
    fn the_memory_of_a_very_large_frame_is_given_back() {
        let mut bytes = vec![];
        put_frame(Kind::SystemKey, &vec![0; KEPT], &mut bytes);
        let mut fetched = Fetched::default();
        assert!(matches!(fetched.frame(&bytes, 0), Ok(Some((_, payload))) if payload.len() == KEPT));
        fetched.forget();
        assert_eq!(fetched.bytes.capacity(), 0);
    }
}
