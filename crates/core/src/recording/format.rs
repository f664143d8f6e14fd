//! The byte layout of a recording, written once. See `docs/recording-format.md`.

/// First bytes of every recording. The line end and the control character show a transfer that changed bytes.
pub const MAGIC: [u8; 8] = *b"DOZOR\r\n\x1a";
/// Version of the format.
///
/// - 1: head as JSON, system and process frames, key frames and differences, no compression.
pub const VERSION: u16 = 1;
/// The magic number, the version and two zero bytes.
pub const HEADER_BYTES: usize = MAGIC.len() + 2 + 2;

/// First bytes of every frame, for finding the next one behind damage.
pub const MARKER: [u8; 4] = [0xf5, b'D', b'z', b'f'];
const KIND_AT: usize = MARKER.len();
const LENGTH_AT: usize = KIND_AT + 1;
const HEAD_CHECK_AT: usize = LENGTH_AT + 4;
const CHECKSUM_AT: usize = HEAD_CHECK_AT + 2;
/// Bytes before the payload of a frame.
pub const FRAME_HEADER_BYTES: usize = CHECKSUM_AT + 4;
/// Longest payload that a reader accepts.
pub const LONGEST_PAYLOAD: u32 = 32 << 20;
/// Most rows of one group in one reading that a reader accepts.
pub const MOST_ROWS: usize = 1 << 18;
/// A key frame comes at least every so many readings.
pub const KEY_EVERY: u32 = 32;

/// What a frame holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Kind {
    /// Host facts and schema as JSON; the first frame.
    Head = 1,
    /// System part of a reading, complete.
    SystemKey = 2,
    /// Process part of a reading, complete.
    ProcessKey = 3,
    /// System part as the difference from the reading before.
    SystemDifference = 4,
    /// Process part as the difference from the reading before.
    ProcessDifference = 5,
}

impl Kind {
    /// The kind with this number; a reader skips frames of other kinds.
    pub fn from_number(number: u8) -> Option<Kind> {
        [Kind::Head, Kind::SystemKey, Kind::ProcessKey, Kind::SystemDifference, Kind::ProcessDifference]
            .into_iter()
            .find(|kind| *kind as u8 == number)
    }
}

/// The first bytes of a recording.
pub fn header() -> [u8; HEADER_BYTES] {
    let mut bytes = [0; HEADER_BYTES];
    bytes[..MAGIC.len()].copy_from_slice(&MAGIC);
    bytes[MAGIC.len()..MAGIC.len() + 2].copy_from_slice(&VERSION.to_le_bytes());
    bytes
}

/// Appends a frame.
pub fn put_frame(kind: Kind, payload: &[u8], out: &mut Vec<u8>) {
    let length = (payload.len() as u32).to_le_bytes();
    out.extend_from_slice(&MARKER);
    out.push(kind as u8);
    out.extend_from_slice(&length);
    out.extend_from_slice(&head_check(kind as u8, length).to_le_bytes());
    out.extend_from_slice(&checksum(kind as u8, length, payload).to_le_bytes());
    out.extend_from_slice(payload);
}

/// Low half of the CRC-32C over kind and length: a flipped length is found out without reading that far.
fn head_check(kind: u8, length: [u8; 4]) -> u16 {
    crc32c::crc32c(&[kind, length[0], length[1], length[2], length[3]]) as u16
}

/// CRC-32C over kind, length and payload.
pub fn checksum(kind: u8, length: [u8; 4], payload: &[u8]) -> u32 {
    let mut head = [kind; 5];
    head[1..].copy_from_slice(&length);
    crc32c::crc32c_append(crc32c::crc32c(&head), payload)
}

/// The fixed part of a frame.
#[derive(Clone, Copy, Debug)]
pub struct FrameHeader {
    /// Number of the kind.
    pub kind: u8,
    /// Bytes of the payload.
    pub length: u32,
    /// Checksum as written.
    pub checksum: u32,
}

impl FrameHeader {
    /// Reads the fixed part; `None` where no frame starts here.
    pub fn parse(bytes: &[u8]) -> Option<FrameHeader> {
        let bytes = bytes.get(..FRAME_HEADER_BYTES)?;
        let number = |at: usize| u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
        let header =
            FrameHeader { kind: bytes[KIND_AT], length: number(LENGTH_AT), checksum: number(CHECKSUM_AT) };
        let check = u16::from_le_bytes([bytes[HEAD_CHECK_AT], bytes[HEAD_CHECK_AT + 1]]);
        let whole = check == head_check(header.kind, header.length.to_le_bytes());
        (bytes.starts_with(&MARKER) && whole && header.length <= LONGEST_PAYLOAD).then_some(header)
    }

    /// Whether the payload is what was written.
    pub fn holds(&self, payload: &[u8]) -> bool {
        checksum(self.kind, self.length.to_le_bytes(), payload) == self.checksum
    }
}
