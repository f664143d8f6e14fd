//! Recordings with right checksums and wrong contents: takes frames apart down to their tables, and puts them together
//! again after something was changed in them.
#![allow(dead_code, reason = "not every test file needs all of it")]

use dozor_core::reading::HostFacts;
use dozor_core::recording::Writer;
use dozor_core::recording::format::{FrameHeader, HEADER_BYTES, Kind, header, put_frame};
use std::sync::Arc;
use zstd::stream::raw::{CParameter, Decoder, Encoder, InBuffer, Operation as _, OutBuffer};

/// A frame, its payload unpacked where it holds tables.
#[derive(Clone, Debug)]
pub struct Frame {
    pub kind: Kind,
    /// The tables, or the payload itself.
    pub tables: Vec<u8>,
    /// What stands behind the compressed bytes.
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

/// The frames of a sound recording.
pub fn apart(mut bytes: &[u8]) -> Vec<Frame> {
    let mut unpackers = [(); 3].map(|()| Decoder::new().expect("memory"));
    bytes = &bytes[HEADER_BYTES..];
    let mut frames = vec![];
    while let Some(header) = FrameHeader::parse(bytes) {
        let payload = &bytes[header.bytes..header.whole()];
        bytes = &bytes[header.whole()..];
        let kind = Kind::from_number(header.kind).expect("one of ours");
        let Some(begins) = packed(kind) else {
            frames.push(Frame { kind, tables: payload.to_vec(), bits: vec![] });
            continue;
        };
        let unpacker = &mut unpackers[stream_of(kind)];
        if begins {
            unpacker.reinit().expect("a new stream");
        }
        let (length, rest) = read_varint(payload);
        let mut tables = vec![0; 4 << 20];
        let mut output = OutBuffer::around(&mut tables[..]);
        let mut input = InBuffer::around(&rest[..length]);
        while input.pos() < length {
            unpacker.run(&mut input, &mut output).expect("sound bytes");
        }
        let length_of_tables = output.pos();
        tables.truncate(length_of_tables);
        frames.push(Frame { kind, tables, bits: rest[length..].to_vec() });
    }
    frames
}

/// A recording of these frames, with right checksums.
pub fn together(frames: &[Frame]) -> Vec<u8> {
    let mut packers = [(); 3].map(|()| {
        let mut packer = Encoder::new(3).expect("memory");
        packer.set_parameter(CParameter::WindowLog(19)).expect("a window");
        packer
    });
    let mut out = header().to_vec();
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
        varint(length as u64, &mut payload);
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

/// Tables of which all are empty but one: that has so many added rows that say nothing.
pub fn rows_of_nothing(tables: usize, which: usize, rows: u64) -> Vec<u8> {
    let mut out = vec![];
    for at in 0..tables {
        out.extend_from_slice(&[0, 0]);
        varint(if at == which { rows } else { 0 }, &mut out);
        if at == which && rows > 0 {
            out.push(0);
        }
    }
    out
}

/// Tables of the system part and of the process part, and the place of the processes among the latter.
pub const SYSTEM_TABLES: usize = 10;
pub const PROCESS_TABLES: usize = 4;

pub fn frame(kind: Kind, tables: Vec<u8>) -> Frame {
    Frame { kind, tables, bits: vec![] }
}
