//! Recordings with right checksums and wrong contents: takes frames apart down to their tables, and puts them together
//! again after something was changed in them.
#![allow(dead_code, reason = "not every test program needs all of it")]

use dozor_core::reading::HostFacts;
use dozor_core::recording::Writer;
use dozor_core::recording::format::{FrameHeader, HEADER_BYTES, Kind, MAGIC, header, put_frame};
use std::sync::Arc;
use zstd::stream::raw::{CParameter, Decoder, Encoder, InBuffer, Operation as _, OutBuffer};

/// A frame, its payload unpacked where it holds tables.
#[derive(Clone, Debug)]
pub struct Frame {
    pub kind: Kind,
    /// Symbols that take as much as they are unlikely; none in version 4.
    pub coded: Option<Vec<u8>>,
    /// What was compressed: new texts, in version 4 the tables; or the payload itself.
    pub tables: Vec<u8>,
    /// What stands behind.
    pub bits: Vec<u8>,
}

/// Whether a payload is compressed tables, and whether a stream begins with it.
fn packed(kind: Kind) -> Option<bool> {
    match kind {
        Kind::SystemKey | Kind::ProcessKey | Kind::Index => Some(true),
        Kind::SystemDifference | Kind::ProcessDifference => Some(false),
        _ => None,
    }
}

fn stream_of(kind: Kind) -> usize {
    match kind {
        Kind::SystemKey | Kind::SystemDifference => 0,
        Kind::ProcessKey | Kind::ProcessDifference => 1,
        _ => 2,
    }
}

pub fn varint(mut value: u64, out: &mut Vec<u8>) {
    while value >= 0x80 {
        out.push(value as u8 | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

fn read_varint(bytes: &[u8]) -> (usize, &[u8]) {
    let (mut value, mut shift) = (0, 0);
    for (at, byte) in bytes.iter().enumerate() {
        value |= usize::from(byte & 0x7f) << shift;
        shift += 7;
        if *byte < 0x80 {
            return (value, &bytes[at + 1..]);
        }
    }
    (value, &[])
}

/// The frames of a sound recording of the newest version.
pub fn apart(mut bytes: &[u8]) -> Vec<Frame> {
    let mut unpackers = [(); 3].map(|()| Decoder::new().expect("memory"));
    bytes = &bytes[HEADER_BYTES..];
    let mut frames = vec![];
    while let Some(header) = FrameHeader::parse(bytes) {
        let payload = &bytes[header.bytes..header.whole()];
        bytes = &bytes[header.whole()..];
        let kind = Kind::from_number(header.kind).expect("one of ours");
        let Some(begins) = packed(kind) else {
            frames.push(Frame { kind, coded: None, tables: payload.to_vec(), bits: vec![] });
            continue;
        };
        let unpacker = &mut unpackers[stream_of(kind)];
        if begins {
            unpacker.reinit().expect("a new stream");
        }
        let (first, mut rest) = read_varint(payload);
        let (coded, mut length) = (first >> 1, 0);
        if first & 1 == 1 {
            (length, rest) = read_varint(rest);
        }
        let (coded, rest) = rest.split_at(coded);
        let mut tables = vec![0; 4 << 20];
        let mut output = OutBuffer::around(&mut tables[..]);
        let mut input = InBuffer::around(&rest[..length]);
        while input.pos() < length {
            unpacker.run(&mut input, &mut output).expect("sound bytes");
        }
        let length_of_tables = output.pos();
        tables.truncate(length_of_tables);
        frames.push(Frame { kind, coded: Some(coded.to_vec()), tables, bits: rest[length..].to_vec() });
    }
    frames
}

/// A recording of these frames, with right checksums; of version 4 where none has symbols.
pub fn together(frames: &[Frame]) -> Vec<u8> {
    let mut packers = [(); 3].map(|()| {
        let mut packer = Encoder::new(3).expect("memory");
        packer.set_parameter(CParameter::WindowLog(19)).expect("a window");
        packer
    });
    let plain = frames.iter().all(|frame| frame.coded.is_none());
    let mut out = if plain { [&MAGIC[..], &[4, 0, 0, 0]].concat() } else { header().to_vec() };
    for frame in frames {
        let Some(begins) = packed(frame.kind) else {
            put_frame(frame.kind, &frame.tables, &mut out);
            continue;
        };
        let packer = &mut packers[stream_of(frame.kind)];
        if begins {
            packer.reinit().expect("a new stream");
        }
        let mut room = vec![0; frame.tables.len() + frame.tables.len() / 8 + 1024];
        let mut output = OutBuffer::around(&mut room[..]);
        let mut input = InBuffer::around(&frame.tables[..]);
        while input.pos() < frame.tables.len() {
            packer.run(&mut input, &mut output).expect("room");
        }
        while packer.flush(&mut output).expect("room") > 0 {}
        let length = output.pos();
        let mut payload = vec![];
        match &frame.coded {
            None => varint(length as u64, &mut payload),
            Some(coded) => {
                varint((coded.len() as u64) << 1 | 1, &mut payload);
                varint(length as u64, &mut payload);
                payload.extend_from_slice(coded);
            }
        }
        payload.extend_from_slice(&room[..length]);
        payload.extend_from_slice(&frame.bits);
        put_frame(frame.kind, &payload, &mut out);
    }
    out
}

/// The head of a recording that this program would write.
pub fn head() -> Frame {
    let mut bytes = vec![];
    let host = HostFacts { name: "lynx-obs".to_owned(), ..HostFacts::default() };
    Writer::new(Arc::new(host), None).begin(&mut bytes);
    apart(&bytes).remove(0)
}

/// A version of the format in which frames are made up.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Made {
    /// Version 4: tables as bytes.
    Plain,
    /// The newest: symbols.
    Coded,
}

/// Where a table stands among those of its part, and how many these are.
pub fn place_of(name: &str, part: &str) -> (usize, usize) {
    let (mut text, packed) = (vec![], head().tables);
    let mut head = zstd::stream::read::Decoder::new(&packed[..]).expect("memory");
    // It is flushed, not ended.
    let _ = std::io::Read::read_to_end(&mut head, &mut text);
    let text = String::from_utf8(text).expect("text");
    let of_part = format!("\"part\":\"{part}\"");
    let (before, _) = text.split_once(&format!("\"name\":\"{name}\",{of_part}")).expect("the table");
    (before.matches(&of_part).count(), text.matches(&of_part).count())
}

/// Symbols that stand in their place for the first time: bytes that are all equally likely, one after another. Whatever
/// comes behind them is what came first in its place, or nothing.
#[derive(Default)]
struct Bytes {
    low: u128,
    range: u32,
    shifts: u32,
}

impl Bytes {
    fn put(&mut self, before: u32, own: u32, of: u32) {
        let unit = if self.range == 0 { u32::MAX } else { self.range } / of;
        self.low += u128::from(before * unit);
        self.range = own * unit;
        while self.range < 1 << 24 {
            (self.low, self.range, self.shifts) = (self.low << 8, self.range << 8, self.shifts + 1);
        }
    }

    /// The lowest end of the range, so that what comes first in its place is all that follows.
    fn finish(&self) -> Vec<u8> {
        assert!(self.shifts <= 12, "too many symbols");
        self.low.to_be_bytes()[12 - self.shifts as usize..].to_vec()
    }
}

/// Tables of which all are empty but one: that has so many added rows. The first of them says that it has something in these
/// columns, of so many, and all others say the same.
pub fn added_rows(made: Made, kind: Kind, (which, tables): (usize, usize), rows: u64, map: u8) -> Frame {
    let (mut plain, mut coded) = (vec![], Bytes::default());
    for at in 0..tables {
        plain.extend_from_slice(&[0, 0]);
        let rows = if at == which { rows } else { 0 };
        varint(rows, &mut plain);
        if rows > 0 {
            plain.push(map);
        }
    }
    // What stands in a place for the first time takes nothing to be told from what stood there, and eight bits itself.
    (0..which * 3 + 2).for_each(|_| coded.put(0, 1, 256));
    let mut bytes = vec![];
    varint(rows, &mut bytes);
    for (at, byte) in bytes.iter().enumerate() {
        // The third byte has one before it in its place.
        if at == 2 && bytes[1] == *byte {
            coded.put(0, 1, 2);
            continue;
        } else if at == 2 {
            coded.put(1, 1, 2);
        }
        coded.put(u32::from(*byte), 1, 256);
    }
    coded.put(u32::from(map), 1, 256);
    let (coded, tables) = match made {
        Made::Plain => (None, plain),
        Made::Coded => (Some(if rows > 0 { coded.finish() } else { vec![] }), vec![]),
    };
    Frame { kind, coded, tables, bits: vec![] }
}
