//! Frames back into readings.
//!
//! Everything here takes untrusted input: a hostile file gives an error or a gap, never a panic and never
//! unbounded memory.

use super::codec::{Bytes, Columns, DecodeError, Read as Texts};
use super::format::{FRAME_HEADER_BYTES, FrameHeader, HEADER_BYTES, Kind, MAGIC, VERSION};
use super::scanner::{Found, Scanner};
use super::writer::{Group, Head};
use crate::reading::all_parts;
#[allow(clippy::wildcard_imports, reason = "all row types, as the list of parts names them")]
use crate::reading::*;
use crate::row::Row;
use crate::text::clean;
use std::io::{self, Read};
use std::sync::Arc;

/// Why bytes cannot be read as a recording at all.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// There is nothing in it.
    #[error("it is empty")]
    Empty,
    /// It begins otherwise than a recording.
    #[error("it is not a Dozor recording")]
    NotARecording,
    /// A later program wrote it.
    #[error("it has format version {0}; this program reads up to {VERSION}")]
    Version(u16),
    /// It ends before the first reading.
    #[error("it is cut off before its first reading")]
    CutAtHead,
    /// Its head cannot be used.
    #[error("its head is damaged: {0}")]
    Head(String),
    /// A frame of a reading that was there before cannot be read again.
    #[error("a frame at byte {0} is damaged")]
    Frame(u64),
    /// A frame's checksum is right, its content is not.
    #[error("{0}")]
    Decode(#[from] DecodeError),
    /// The operating system.
    #[error("{0}")]
    Io(#[from] io::Error),
}

crate::rows! {
    /// A row of a group that this program does not know; only its place in the table matters.
    UnknownRow "" key (): |_row| ();
    texts {}
    fields {}
}

macro_rules! declare_table {
    (
        system { $( $(#[$of_system:meta])* $system:ident: $system_row:ident, $system_name:ident; )* }
        process { $( $(#[$of_process:meta])* $process:ident: $process_row:ident, $process_name:ident; )* }
    ) => {
        /// What each table of a recording is to this program.
        enum Table {
            System(Columns<SystemRow>),
            $( $system_name(Columns<$system_row>), )*
            $( $process_name(Columns<$process_row>), )*
            Process(Columns<ProcessRow>),
            Unknown(Columns<UnknownRow>),
        }

        impl Table {
            fn of(group: &Group) -> Result<Table, ReadError> {
                Ok(match group.name.as_str() {
                    SystemRow::GROUP => Table::System(columns(group)?),
                    $( $system_row::GROUP => Table::$system_name(columns(group)?), )*
                    $( $process_row::GROUP => Table::$process_name(columns(group)?), )*
                    ProcessRow::GROUP => Table::Process(columns(group)?),
                    _ => Table::Unknown(columns(group)?),
                })
            }

            /// Takes in this table's difference; in a key frame from nothing.
            fn decode(&self, key: bool, state: &mut Tables<'_>, bytes: &mut Bytes<'_>) -> Result<(), DecodeError> {
                macro_rules! take {
                    ($columns:expr, $rows:expr) => {{
                        if key {
                            $rows.clear();
                        }
                        $columns.table($rows, state.texts, bytes)
                    }};
                }
                match self {
                    Table::System(columns) => take!(columns, state.system),
                    $( Table::$system_name(columns) => take!(columns, &mut state.reading.$system), )*
                    $( Table::$process_name(columns) => take!(columns, &mut state.reading.$process), )*
                    Table::Process(columns) => take!(columns, &mut state.reading.processes),
                    Table::Unknown(columns) => take!(columns, state.unknown),
                }
            }
        }
    };
}
all_parts!(declare_table);

/// What a table changes.
struct Tables<'a> {
    system: &'a mut Vec<SystemRow>,
    reading: &'a mut Reading,
    unknown: &'a mut Vec<UnknownRow>,
    texts: &'a mut Texts,
}

fn columns<R: Row>(group: &Group) -> Result<Columns<R>, ReadError> {
    Columns::by_name(
        group.texts.iter().map(|column| column.name.as_str()),
        group.fields.iter().map(|column| column.name.as_str()),
    )
    .ok_or_else(|| ReadError::Head("a group has more than 64 columns".to_owned()))
}

/// The tables of both parts, in order.
struct Plan {
    system: Vec<Table>,
    process: Vec<Table>,
}

impl Plan {
    fn new(groups: &[Group]) -> Result<Plan, ReadError> {
        let mut plan = Plan { system: vec![], process: vec![] };
        for group in groups {
            let table = Table::of(group)?;
            match group.part.as_str() {
                "system" => plan.system.push(table),
                "process" => plan.process.push(table),
                other => return Err(ReadError::Head(format!("unknown part '{}'", clean(other.as_bytes())))),
            }
        }
        Ok(plan)
    }
}

/// The tables as they stand after the frames read so far.
#[derive(Clone)]
pub struct Decoder {
    plan: Arc<Plan>,
    system: Vec<SystemRow>,
    reading: Reading,
    unknown: Vec<Vec<UnknownRow>>,
    system_texts: Texts,
    process_texts: Texts,
}

impl Decoder {
    fn new(groups: &[Group]) -> Result<Decoder, ReadError> {
        let plan = Plan::new(groups)?;
        let unknown = vec![vec![]; plan.system.len() + plan.process.len()];
        Ok(Decoder {
            plan: Arc::new(plan),
            system: vec![],
            reading: Reading::default(),
            unknown,
            system_texts: Texts::default(),
            process_texts: Texts::default(),
        })
    }

    /// A decoder for what this program itself writes.
    pub fn own() -> Decoder {
        Decoder::new(&super::writer::groups()).unwrap_or_else(|_| unreachable!("our own schema is sound"))
    }

    /// Takes in a frame of either part. `key` says that it is complete in itself.
    fn part(&mut self, key: bool, system_part: bool, payload: &[u8]) -> Result<(), DecodeError> {
        let plan = self.plan.clone();
        let mut bytes = Bytes(payload);
        let (tables, texts, first) = if system_part {
            (&plan.system, &mut self.system_texts, 0)
        } else {
            (&plan.process, &mut self.process_texts, plan.system.len())
        };
        if key {
            texts.clear();
        }
        for (at, table) in tables.iter().enumerate() {
            let mut state = Tables {
                system: &mut self.system,
                reading: &mut self.reading,
                unknown: &mut self.unknown[first + at],
                texts: &mut *texts,
            };
            table.decode(key, &mut state, &mut bytes)?;
        }
        if system_part {
            self.reading.system = self.system.first().cloned().unwrap_or_default();
        }
        if bytes.0.is_empty() { Ok(()) } else { Err(DecodeError::Trailing) }
    }

    /// Takes in the frame of the system part.
    pub fn system(&mut self, key: bool, payload: &[u8]) -> Result<(), DecodeError> {
        self.part(key, true, payload)
    }

    /// Takes in the frame of the process part.
    pub fn processes(&mut self, key: bool, payload: &[u8]) -> Result<(), DecodeError> {
        self.part(key, false, payload)
    }

    /// The reading as it stands.
    pub fn reading(&self) -> &Reading {
        &self.reading
    }
}

/// Where a reading's frames are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Offset of the system frame.
    pub system: u64,
    /// Offset of the process frame.
    pub process: u64,
    /// Whether decoding can begin here.
    pub key: bool,
}

/// A part of a recording that cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Damage {
    /// Where it starts.
    pub offset: u64,
    /// How many bytes it has.
    pub bytes: u64,
    /// The recording simply ends here, within a reading.
    pub cut: bool,
}

impl std::fmt::Display for Damage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Damage { offset, bytes, cut } = self;
        if *cut {
            write!(f, "cut off at byte {offset}: the last {bytes} bytes are not a whole reading")
        } else {
            write!(f, "damaged at byte {offset}: {bytes} bytes could not be read")
        }
    }
}

/// What a recording holds next.
#[derive(Debug)]
pub enum Event {
    /// A reading and its place. `lost` says that readings before it are missing.
    Reading {
        /// The reading; without processes where they were not asked for.
        reading: Box<Reading>,
        /// Its place.
        entry: Entry,
        /// Readings just before it could not be read.
        lost: bool,
    },
    /// A part that cannot be read.
    Damage(Damage),
}

/// Reads a recording from its beginning to its end, from a file or a pipe.
pub struct StreamReader<R> {
    scanner: Scanner<R>,
    decoder: Decoder,
    host: Arc<HostFacts>,
    every: Option<f64>,
    with_processes: bool,
    /// A system frame whose process frame has not come yet.
    pending: Option<(u64, bool)>,
    /// Differences cannot be applied until the next key frame.
    broken: bool,
    lost: bool,
}

impl<R: Read> StreamReader<R> {
    /// Reads the head. `with_processes` says whether readings shall hold their processes.
    pub fn open(mut input: R, with_processes: bool) -> Result<StreamReader<R>, ReadError> {
        let mut header = vec![];
        input.by_ref().take(HEADER_BYTES as u64).read_to_end(&mut header)?;
        if header.is_empty() {
            return Err(ReadError::Empty);
        }
        let magic = &header[..header.len().min(MAGIC.len())];
        if !MAGIC.starts_with(magic) {
            return Err(ReadError::NotARecording);
        }
        if header.len() < HEADER_BYTES {
            return Err(ReadError::CutAtHead);
        }
        let version = u16::from_le_bytes([header[MAGIC.len()], header[MAGIC.len() + 1]]);
        if version == 0 || version > VERSION {
            return Err(ReadError::Version(version));
        }
        let mut scanner = Scanner::new(input, HEADER_BYTES as u64);
        let head: Head = match scanner.next()? {
            Found::Frame { kind, .. } if kind == Kind::Head as u8 => {
                serde_json::from_slice(scanner.payload())
                    .map_err(|error| ReadError::Head(error.to_string()))?
            }
            Found::Frame { .. } => return Err(ReadError::Head("it does not stand first".to_owned())),
            Found::Damage { .. } => return Err(ReadError::Head("its checksum is wrong".to_owned())),
            Found::Cut { .. } | Found::End => return Err(ReadError::CutAtHead),
        };
        Ok(StreamReader {
            scanner,
            decoder: Decoder::new(&head.groups)?,
            host: Arc::new(cleaned(head.host)),
            every: head.every.filter(|every| every.is_finite() && *every > 0.0),
            with_processes,
            pending: None,
            broken: false,
            lost: false,
        })
    }

    /// Whose recording it is.
    pub fn host(&self) -> &Arc<HostFacts> {
        &self.host
    }

    /// Nominal time between readings in seconds, where the recording states one.
    pub fn every(&self) -> Option<f64> {
        self.every
    }

    /// A decoder in the state before the first reading.
    pub(crate) fn decoder(&self) -> Decoder {
        self.decoder.clone()
    }

    /// The next reading or damage; `None` at the end.
    pub fn next_event(&mut self) -> Result<Option<Event>, ReadError> {
        loop {
            match self.scanner.next()? {
                Found::End => {
                    return Ok(self.pending.take().map(|(offset, _)| self.cut_reading(offset)));
                }
                Found::Cut { offset, bytes } => {
                    let offset_of_reading = self.pending.take().map_or(offset, |(pending, _)| pending);
                    let bytes = bytes + (offset - offset_of_reading);
                    return Ok(Some(Event::Damage(Damage { offset: offset_of_reading, bytes, cut: true })));
                }
                Found::Damage { offset, bytes } => {
                    self.lose();
                    return Ok(Some(Event::Damage(Damage { offset, bytes, cut: false })));
                }
                Found::Frame { offset, kind } => {
                    if let Some(event) = self.frame(offset, kind) {
                        return Ok(Some(event));
                    }
                }
            }
        }
    }

    fn cut_reading(&self, offset: u64) -> Event {
        Event::Damage(Damage { offset, bytes: self.scanner.offset() - offset, cut: true })
    }

    /// From here on differences mean nothing until a key frame comes.
    fn lose(&mut self) {
        (self.broken, self.lost, self.pending) = (true, true, None);
    }

    fn frame(&mut self, offset: u64, kind: u8) -> Option<Event> {
        let payload = self.scanner.payload();
        let bytes = (FRAME_HEADER_BYTES + payload.len()) as u64;
        let result = match Kind::from_number(kind) {
            Some(Kind::SystemKey) => {
                self.broken = false;
                self.pending = Some((offset, true));
                self.decoder.system(true, payload)
            }
            Some(Kind::SystemDifference) if !self.broken => {
                self.pending = Some((offset, false));
                self.decoder.system(false, payload)
            }
            Some(Kind::ProcessKey | Kind::ProcessDifference) if !self.broken => {
                let key = kind == Kind::ProcessKey as u8;
                match self.pending.take() {
                    Some((system, system_key)) if system_key == key => {
                        let decoded =
                            if self.with_processes { self.decoder.processes(key, payload) } else { Ok(()) };
                        if decoded.is_ok() {
                            let entry = Entry { system, process: offset, key };
                            let lost = std::mem::take(&mut self.lost);
                            let reading = Box::new(self.decoder.reading().clone());
                            return Some(Event::Reading { reading, entry, lost });
                        }
                        decoded
                    }
                    _ => Err(DecodeError::NoSuch),
                }
            }
            _ => Ok(()),
        };
        if result.is_err() {
            self.lose();
            return Some(Event::Damage(Damage { offset, bytes, cut: false }));
        }
        None
    }
}

/// Foreign text in the head made harmless.
fn cleaned(host: HostFacts) -> HostFacts {
    let text = |text: String| clean(text.as_bytes());
    HostFacts {
        name: text(host.name),
        kernel: text(host.kernel),
        cpu_model: text(host.cpu_model),
        time_zone: text(host.time_zone),
        note: text(host.note),
        inside: text(host.inside),
        ..host
    }
}

/// Frames by their offset: a file, or the live history in memory.
pub trait Frames: Send {
    /// Fills `buffer` with the bytes from `offset` on.
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()>;
}

impl Frames for std::fs::File {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        std::os::unix::fs::FileExt::read_exact_at(self, buffer, offset)
    }
}

/// The payload of the frame at `offset`, checked.
fn payload_at(frames: &dyn Frames, offset: u64, buffer: &mut Vec<u8>) -> Result<(), ReadError> {
    let mut head = [0; FRAME_HEADER_BYTES];
    frames.bytes_at(offset, &mut head)?;
    let header = FrameHeader::parse(&head).ok_or(ReadError::Frame(offset))?;
    buffer.resize(header.length as usize, 0);
    frames.bytes_at(offset + FRAME_HEADER_BYTES as u64, buffer)?;
    if header.holds(buffer) { Ok(()) } else { Err(ReadError::Frame(offset)) }
}

impl Decoder {
    /// Takes in the reading at `entry`.
    pub fn load(&mut self, frames: &dyn Frames, entry: Entry) -> Result<(), ReadError> {
        let mut payload = vec![];
        payload_at(frames, entry.system, &mut payload)?;
        self.system(entry.key, &payload)?;
        payload_at(frames, entry.process, &mut payload)?;
        self.processes(entry.key, &payload)?;
        Ok(())
    }
}
