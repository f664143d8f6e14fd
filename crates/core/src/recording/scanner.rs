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
    /// No frame was found in a good many bytes; to be asked again, it goes on from there.
    Searching,
}

/// How to move within an input that is a file.
pub struct Jump<R> {
    /// Where data stands next, from a place on: a hole in a file is skipped as one.
    pub data_from: fn(&R, u64) -> u64,
    /// Goes to a place.
    pub go_to: fn(&mut R, u64),
}

/// A search for the next frame that has not ended.
#[derive(Clone, Copy)]
struct Search {
    begin: u64,
    cut: bool,
    tried: u64,
}

/// Where a marker stands among bytes.
fn find_marker(bytes: &[u8]) -> Option<usize> {
    memchr::memchr_iter(MARKER[0], bytes).find(|at| bytes[*at..].starts_with(&MARKER))
}

/// Most bytes whose checksums are tried for finding the next frame behind damage; keeps a hostile file from
/// taking forever.
const TRIES: u64 = 256 << 20;

/// Finds frames one after another. Holds at most one frame and what was read ahead.
pub struct Scanner<R> {
    input: R,
    /// What was read ahead, from `start` to `end`.
    buffer: Vec<u8>,
    start: usize,
    end: usize,
    offset: u64,
    payload: Range<usize>,
    ended: bool,
    jump: Option<Jump<R>>,
    search: Option<Search>,
    /// Up to here nothing was found before, should no frame stand at the present place.
    barren: u64,
    /// The first place where a frame may begin of which not all is there.
    unfinished: Option<u64>,
}

/// Bytes that are searched before whoever asks gets a word.
const SEARCHED_AT_ONCE: u64 = 16 << 20;

impl<R: Read> Scanner<R> {
    /// Scans from the present place of the stream, which stands at `offset`.
    pub fn new(input: R, offset: u64) -> Scanner<R> {
        let (buffer, jump, search, unfinished) = (vec![], None, None, None);
        Scanner {
            input,
            buffer,
            start: 0,
            end: 0,
            offset,
            payload: 0..0,
            ended: false,
            jump,
            search,
            barren: 0,
            unfinished,
        }
    }

    /// The same over a file: holes are skipped, and what was searched in vain before, up to `barren`.
    #[must_use]
    pub fn over_file(self, jump: Jump<R>, barren: u64) -> Scanner<R> {
        Scanner { jump: Some(jump), barren, ..self }
    }

    /// Up to where a search that came to the end found nothing that could still become a frame.
    pub fn searched_to(&self) -> u64 {
        self.unfinished.unwrap_or(self.offset.saturating_sub(FRAME_HEADER_BYTES as u64))
    }

    /// Goes on at a place ahead; what is in the buffer is forgotten.
    fn go_to(&mut self, offset: u64) {
        if let Some(jump) = &self.jump {
            (jump.go_to)(&mut self.input, offset);
            (self.start, self.end, self.offset) = (0, 0, offset);
        }
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
        &self.buffer[self.start..self.end]
    }

    /// Makes `wanted` bytes available; says whether there are so many.
    fn fill(&mut self, wanted: usize) -> io::Result<bool> {
        const STEP: usize = 128 << 10;
        while self.ahead().len() < wanted && !self.ended {
            if self.start > 0 {
                self.buffer.copy_within(self.start..self.end, 0);
                (self.start, self.end) = (0, self.end - self.start);
            }
            if self.buffer.len() < self.end + STEP {
                self.buffer.resize(self.end + STEP, 0);
            }
            let got = loop {
                // No further ahead behind a frame that was large: much of it may be jumped over.
                match self.input.read(&mut self.buffer[self.end..self.end + STEP]) {
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    other => break other?,
                }
            };
            self.end += got;
            self.ended = got == 0;
        }
        Ok(self.ahead().len() >= wanted)
    }

    fn skip(&mut self, bytes: usize) {
        self.start += bytes;
        self.offset += bytes as u64;
    }

    /// The next frame or what stands in its place.
    pub fn next(&mut self) -> io::Result<Found> {
        let search = self.search.take();
        if search.is_none() {
            if !self.fill(1)? {
                return Ok(Found::End);
            }
            if let Some(found) = self.frame_here()? {
                return Ok(found);
            }
        }
        let Search { begin, cut, mut tried } = match search {
            Some(search) => search,
            None => self.begin_search()?,
        };
        let until = self.offset + SEARCHED_AT_ONCE;
        loop {
            let more = self.seek_marker(until)?;
            if more && self.offset >= until {
                self.search = Some(Search { begin, cut, tried });
                return Ok(Found::Searching);
            }
            if !more || tried > TRIES {
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
                if self.ended && self.ahead().len() < header.whole() {
                    self.unfinished.get_or_insert(self.offset);
                }
            }
            self.skip(1);
        }
    }

    /// No frame stands here: goes to where the next one is to be looked for.
    fn begin_search(&mut self) -> io::Result<Search> {
        // A frame that merely is not there to its end, and one that was changed, look alike only at the end.
        let cut = match self.header()? {
            None => self.ended && self.ahead().len() < FRAME_HEADER_BYTES,
            Some(header) => self.ended && self.ahead().len() < header.whole(),
        };
        let begin = self.offset;
        if self.barren > begin && self.jump.is_some() {
            self.go_to(self.barren);
        } else {
            self.skip(1);
        }
        Ok(Search { begin, cut, tried: 0 })
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

    /// Goes forward to the next marker with room for a header, or about to a place; says whether the stream goes on there.
    fn seek_marker(&mut self, until: u64) -> io::Result<bool> {
        while self.fill(FRAME_HEADER_BYTES)? {
            if let Some(at) = find_marker(self.ahead()) {
                self.skip(at);
                return self.fill(FRAME_HEADER_BYTES);
            }
            self.skip(self.ahead().len() - (MARKER.len() - 1));
            // What is left could only be the beginning of a marker.
            if !self.ahead().contains(&MARKER[0])
                && let Some(jump) = &self.jump
            {
                let here = self.offset + self.ahead().len() as u64;
                let data = (jump.data_from)(&self.input, here);
                if data > here {
                    self.go_to(data);
                }
            }
            if self.offset >= until {
                return Ok(true);
            }
        }
        Ok(false)
    }
}
