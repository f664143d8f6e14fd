//! Frames out of a stream of bytes, over damaged parts if need be.

use super::format::{FRAME_HEADER_BYTES, FrameHeader, MARKER};
use std::io::{self, Read};
use std::ops::Range;

/// What stands next in the stream.
pub enum Found {
    /// A whole frame; its payload is at [`Scanner::payload`].
    Frame {
        /// Where it starts.
        offset: u64,
        /// Number of its kind.
        kind: u8,
    },
    /// Bytes that are not a frame, with a whole frame behind them.
    Damage {
        /// Where they start.
        offset: u64,
        /// How many they are.
        bytes: u64,
    },
    /// The stream ends within a frame.
    Cut {
        /// Where the frame starts.
        offset: u64,
        /// Bytes after that.
        bytes: u64,
    },
    /// The stream ends after a whole frame.
    End,
}

/// Most bytes whose checksums are tried for finding the next frame behind damage; keeps a hostile file from
/// taking forever.
const TRIES: u64 = 256 << 20;

/// Finds frames one after another. Holds at most one frame and what was read ahead.
pub struct Scanner<R> {
    input: R,
    buffer: Vec<u8>,
    start: usize,
    offset: u64,
    payload: Range<usize>,
    ended: bool,
}

impl<R: Read> Scanner<R> {
    /// Scans from the present place of the stream, which stands at `offset`.
    pub fn new(input: R, offset: u64) -> Scanner<R> {
        Scanner { input, buffer: vec![], start: 0, offset, payload: 0..0, ended: false }
    }

    /// Payload of the frame found last.
    pub fn payload(&self) -> &[u8] {
        &self.buffer[self.payload.clone()]
    }

    /// Where the next frame starts.
    pub fn offset(&self) -> u64 {
        self.offset
    }

    /// Bytes that are there without reading, from the present place on.
    fn ahead(&self) -> &[u8] {
        &self.buffer[self.start..]
    }

    /// Makes `wanted` bytes available; says whether there are so many.
    fn fill(&mut self, wanted: usize) -> io::Result<bool> {
        const STEP: usize = 128 << 10;
        while self.ahead().len() < wanted && !self.ended {
            if self.start > 0 {
                self.buffer.drain(..self.start);
                self.start = 0;
            }
            let old = self.buffer.len();
            self.buffer.resize(old + STEP, 0);
            let got = loop {
                match self.input.read(&mut self.buffer[old..]) {
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    other => break other,
                }
            };
            self.buffer.truncate(old + *got.as_ref().unwrap_or(&0));
            self.ended = got? == 0;
        }
        Ok(self.ahead().len() >= wanted)
    }

    fn skip(&mut self, bytes: usize) {
        self.start += bytes;
        self.offset += bytes as u64;
    }

    /// The next frame or what stands in its place.
    pub fn next(&mut self) -> io::Result<Found> {
        let begin = self.offset;
        if !self.fill(1)? {
            return Ok(Found::End);
        }
        if let Some(found) = self.frame_here()? {
            return Ok(found);
        }
        // A frame that merely is not there to its end, and one that was changed, look alike only at the end.
        let cut = match self.header()? {
            None => self.ended && self.ahead().len() < FRAME_HEADER_BYTES,
            Some(header) => self.ended && self.ahead().len() < header.whole(),
        };
        let mut tried = 0;
        loop {
            self.skip(1);
            if !self.seek_marker()? || tried > TRIES {
                while self.fill(1)? {
                    let rest = self.ahead().len();
                    self.skip(rest);
                }
                let bytes = self.offset - begin;
                return Ok(if cut || bytes < FRAME_HEADER_BYTES as u64 {
                    Found::Cut { offset: begin, bytes }
                } else {
                    Found::Damage { offset: begin, bytes }
                });
            }
            if let Some(header) = FrameHeader::parse_marked(self.ahead()) {
                tried += u64::from(header.length) + 1;
                if self.is_whole(header)? {
                    return Ok(Found::Damage { offset: begin, bytes: self.offset - begin });
                }
            }
        }
    }

    /// The header at the present place, where there is a sound one.
    fn header(&mut self) -> io::Result<Option<FrameHeader>> {
        if !self.fill(2)? {
            return Ok(None);
        }
        let length = FrameHeader::length_of(self.ahead()[0], self.ahead()[1]);
        Ok(if self.fill(length)? { FrameHeader::parse(self.ahead()) } else { None })
    }

    fn frame_here(&mut self) -> io::Result<Option<Found>> {
        let Some(header) = self.header()? else { return Ok(None) };
        if !self.is_whole(header)? {
            return Ok(None);
        }
        let offset = self.offset;
        self.payload = self.start + header.bytes..self.start + header.whole();
        self.skip(header.whole());
        Ok(Some(Found::Frame { offset, kind: header.kind }))
    }

    fn is_whole(&mut self, header: FrameHeader) -> io::Result<bool> {
        Ok(self.fill(header.whole())? && header.holds(&self.ahead()[header.bytes..header.whole()]))
    }

    /// Goes forward to the next marker with room for a header; says whether there is one.
    fn seek_marker(&mut self) -> io::Result<bool> {
        while self.fill(FRAME_HEADER_BYTES)? {
            let found = self.ahead().windows(MARKER.len()).position(|window| window == MARKER);
            let step = found.unwrap_or(self.ahead().len() - (MARKER.len() - 1));
            self.skip(step);
            if found.is_some() {
                return self.fill(FRAME_HEADER_BYTES);
            }
        }
        Ok(false)
    }
}
