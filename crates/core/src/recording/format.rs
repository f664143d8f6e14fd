//! The byte layout of a recording, written once. See `docs/recording-format.md`.

/// First bytes of every recording. The line end and the control character show a transfer that changed bytes.
pub const MAGIC: [u8; 8] = *b"DOZOR\r\n\x1a";
/// Version of the format.
///
/// - 1: head as JSON, system and process frames row by row, key frames and differences, no compression.
/// - 2: tables column by column, compressed as a stream from key frame to key frame; short frames without a marker;
///   marks (notes, actions, losses) and an index behind each block.
/// - 3: as 2, with the head compressed.
/// - 4: as 3, with added rows against those of the same name.
/// - 5: all but texts and bits is told by how likely it is; rows tell their columns one by one.
pub const VERSION: u16 = 5;
/// The first version in which added rows are written against those of the same name.
pub const FIRST_BY_KIN: u16 = 4;
/// The first version in which symbols take as much as they are unlikely.
pub const FIRST_CODED: u16 = 5;
/// The magic number, the version, and its bits inverted; before version 5 two zero bytes.
pub const HEADER_BYTES: usize = MAGIC.len() + 2 + 2;

/// First bytes of a frame that can be found behind damage.
pub const MARKER: [u8; 4] = [0xf5, b'D', b'z', b'f'];
const KIND_AT: usize = MARKER.len();
const LENGTH_AT: usize = KIND_AT + 1;
const HEAD_CHECK_AT: usize = LENGTH_AT + 4;
const CHECKSUM_AT: usize = HEAD_CHECK_AT + 2;
/// Bytes before the payload of a frame with a marker.
pub const FRAME_HEADER_BYTES: usize = CHECKSUM_AT + 4;
/// From so many bytes on a payload stands in a frame with a marker, whatever its kind.
const SHORT: usize = 1 << 14;
/// Most bytes before the payload of a frame without one: kind, length, checksum.
const SHORT_HEADER_BYTES: usize = 1 + 2 + 4;
/// Longest payload that a reader accepts.
pub const LONGEST_PAYLOAD: u32 = 32 << 20;
/// Most bytes of a head, not compressed, that a reader accepts; one has some 25 KB.
pub const LONGEST_HEAD: usize = 4 << 20;
/// Most rows of one group in one reading that a reader accepts.
pub const MOST_ROWS: usize = 1 << 18;
/// Most bytes that the rows of one part of a reading take in memory, for a reader: some 150,000 processes.
pub const MOST_BYTES: usize = 96 << 20;
/// Most bytes of texts that a reader keeps from key frame to key frame.
pub const MOST_TEXT: usize = 48 << 20;
/// From so many that came since the last key frame on a writer begins anew with a key frame.
pub const ENOUGH_TEXT: usize = 4 << 20;
/// What reading may take, in rows that are held at a reading: whoever walks over readings looks at each of them.
/// So much whatever the size …
pub const LEAST_WORK: u64 = 8_000_000;
/// … and so much for each byte of the recording: more than a hundred cores and thousands of processes take that do nothing.
pub const WORK_PER_BYTE: u64 = 128;
/// The same before version 5, which took more bytes.
pub const PLAIN_WORK_PER_BYTE: u64 = 48;
/// What a byte of a new text takes.
pub const TEXT_WORK: u64 = 4;
/// What holding a process takes, of what holding any other row takes: most questions ask each of them.
pub const PROCESS_WORK: u64 = 3;
/// What decoding a row takes beside holding one; a byte that is unpacked takes as much as a row that is held.
pub const ROW_WORK: u64 = 16;
/// A key frame comes at least every so many readings: a quarter of an hour at 2 s.
pub const KEY_EVERY: u32 = 450;

/// What a frame holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Kind {
    /// Host facts and schema as JSON, as versions 1 and 2 wrote it; the first frame.
    Head = 1,
    /// System part of a reading, complete, as version 1 wrote it.
    PlainSystemKey = 2,
    /// Process part of a reading, complete, as version 1 wrote it.
    PlainProcessKey = 3,
    /// System part as the difference from the reading before, as version 1 wrote it.
    PlainSystemDifference = 4,
    /// Process part as the difference from the reading before, as version 1 wrote it.
    PlainProcessDifference = 5,
    /// System part of a reading, complete.
    SystemKey = 6,
    /// Process part of a reading, complete.
    ProcessKey = 7,
    /// System part as the difference from the reading before.
    SystemDifference = 8,
    /// Process part as the difference from the reading before.
    ProcessDifference = 9,
    /// A note, an action, a loss: something at an instant.
    Mark = 10,
    /// What the lanes show of the readings since the last key frame.
    Index = 11,
    /// Host facts and schema as JSON, compressed; the first frame.
    PackedHead = 12,
}

/// What a frame of a reading is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PartKind {
    /// The system part, not the process part.
    pub system: bool,
    /// Complete in itself.
    pub key: bool,
    /// Compressed and column by column; else as in version 1.
    pub packed: bool,
}

impl Kind {
    const ALL: [Kind; 12] = [
        Kind::Head,
        Kind::PlainSystemKey,
        Kind::PlainProcessKey,
        Kind::PlainSystemDifference,
        Kind::PlainProcessDifference,
        Kind::SystemKey,
        Kind::ProcessKey,
        Kind::SystemDifference,
        Kind::ProcessDifference,
        Kind::Mark,
        Kind::Index,
        Kind::PackedHead,
    ];

    /// The kind with this number; a reader skips frames of other kinds.
    pub fn from_number(number: u8) -> Option<Kind> {
        Kind::ALL.into_iter().find(|kind| *kind as u8 == number)
    }

    /// What it is of a reading, if that.
    pub fn part(self) -> Option<PartKind> {
        let (system, key, packed) = match self {
            Kind::PlainSystemKey => (true, true, false),
            Kind::PlainProcessKey => (false, true, false),
            Kind::PlainSystemDifference => (true, false, false),
            Kind::PlainProcessDifference => (false, false, false),
            Kind::SystemKey => (true, true, true),
            Kind::ProcessKey => (false, true, true),
            Kind::SystemDifference => (true, false, true),
            Kind::ProcessDifference => (false, false, true),
            Kind::Head | Kind::PackedHead | Kind::Mark | Kind::Index => return None,
        };
        Some(PartKind { system, key, packed })
    }

    /// Whether it may stand in a frame without a marker: nothing can begin behind damage there anyway.
    fn may_be_short(self) -> bool {
        matches!(self, Kind::SystemDifference | Kind::ProcessDifference)
    }
}

/// The first bytes of a recording.
pub fn header() -> [u8; HEADER_BYTES] {
    let mut bytes = [0; HEADER_BYTES];
    bytes[..MAGIC.len()].copy_from_slice(&MAGIC);
    bytes[MAGIC.len()..][..2].copy_from_slice(&VERSION.to_le_bytes());
    bytes[MAGIC.len() + 2..].copy_from_slice(&(!VERSION).to_le_bytes());
    bytes
}

/// The version that a header tells; none where the two places do not agree.
pub fn version_of(header: &[u8; HEADER_BYTES]) -> Option<u16> {
    let number = |at: usize| u16::from_le_bytes([header[at], header[at + 1]]);
    let (version, check) = (number(MAGIC.len()), number(MAGIC.len() + 2));
    let expected = if version < FIRST_CODED { 0 } else { !version };
    (check == expected && version > 0).then_some(version)
}

/// Appends a frame.
pub fn put_frame(kind: Kind, payload: &[u8], out: &mut Vec<u8>) {
    let length = (payload.len() as u32).to_le_bytes();
    if kind.may_be_short() && payload.len() < SHORT {
        out.push(kind as u8);
        if payload.len() < 0x80 {
            out.push(payload.len() as u8);
        } else {
            out.extend_from_slice(&[payload.len() as u8 | 0x80, (payload.len() >> 7) as u8]);
        }
    } else {
        out.extend_from_slice(&MARKER);
        out.push(kind as u8);
        out.extend_from_slice(&length);
        out.extend_from_slice(&head_check(kind as u8, length).to_le_bytes());
    }
    out.extend_from_slice(&checksum(kind as u8, length, payload).to_le_bytes());
    out.extend_from_slice(payload);
}

/// Low half of the CRC-32C over kind and length: a flipped length is found out without reading that far.
fn head_check(kind: u8, length: [u8; 4]) -> u16 {
    crc32c::crc32c(&[kind, length[0], length[1], length[2], length[3]]) as u16
}

/// CRC-32C over kind, length (four bytes, however it is written) and payload.
pub fn checksum(kind: u8, length: [u8; 4], payload: &[u8]) -> u32 {
    let mut head = [kind; 5];
    head[1..].copy_from_slice(&length);
    crc32c::crc32c_append(crc32c::crc32c(&head), payload)
}

/// What stands before the payload of a frame.
#[derive(Clone, Copy, Debug)]
pub struct FrameHeader {
    /// Number of the kind.
    pub kind: u8,
    /// Bytes before the payload.
    pub bytes: usize,
    /// Bytes of the payload.
    pub length: u32,
    /// Checksum as written.
    pub checksum: u32,
}

impl FrameHeader {
    /// Most bytes that a header has.
    pub const LONGEST: usize = FRAME_HEADER_BYTES;

    /// Reads a header, with a marker or without; `None` where no frame starts here.
    pub fn parse(bytes: &[u8]) -> Option<FrameHeader> {
        if bytes.first() == Some(&MARKER[0]) {
            return FrameHeader::parse_marked(bytes);
        }
        let kind = Kind::from_number(*bytes.first()?).filter(|kind| kind.may_be_short())?;
        let (low, high) = (*bytes.get(1)?, *bytes.get(2)?);
        let at = FrameHeader::length_of(bytes[0], low) - 4;
        let length = match (low, high) {
            (0..0x80, _) => u32::from(low),
            (_, 0..0x80) => u32::from(low & 0x7f) | u32::from(high) << 7,
            _ => return None,
        };
        let checksum = u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?);
        Some(FrameHeader { kind: kind as u8, bytes: at + 4, length, checksum })
    }

    /// Reads a header with a marker.
    pub fn parse_marked(bytes: &[u8]) -> Option<FrameHeader> {
        let bytes = bytes.get(..FRAME_HEADER_BYTES)?;
        let number = |at: usize| u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
        let header = FrameHeader {
            kind: bytes[KIND_AT],
            bytes: FRAME_HEADER_BYTES,
            length: number(LENGTH_AT),
            checksum: number(CHECKSUM_AT),
        };
        let check = u16::from_le_bytes([bytes[HEAD_CHECK_AT], bytes[HEAD_CHECK_AT + 1]]);
        let whole = check == head_check(header.kind, header.length.to_le_bytes());
        (bytes.starts_with(&MARKER) && whole && header.length <= LONGEST_PAYLOAD).then_some(header)
    }

    /// The bytes that a header has, by its first two.
    pub fn length_of(first: u8, second: u8) -> usize {
        match (first, second) {
            (first, _) if first == MARKER[0] => FRAME_HEADER_BYTES,
            (_, 0..0x80) => SHORT_HEADER_BYTES - 1,
            _ => SHORT_HEADER_BYTES,
        }
    }

    /// Whether the payload is what was written.
    pub fn holds(&self, payload: &[u8]) -> bool {
        checksum(self.kind, self.length.to_le_bytes(), payload) == self.checksum
    }

    /// Bytes of the frame.
    pub fn whole(&self) -> usize {
        self.bytes + self.length as usize
    }
}
