//! Frames back into readings.
//!
//! Everything here takes untrusted input: a hostile file gives an error or a gap, never a panic and never
//! unbounded memory.

use super::codec::DecodeError;
use super::format::{
    FIRST_CODED, HEADER_BYTES, Kind, LEAST_WORK, LONGEST_HEAD, MAGIC, MOST_BYTES, PLAIN_WORK_PER_BYTE,
    PROCESS_WORK, PartKind, ROW_WORK, VERSION, WORK_PER_BYTE, version_of,
};
use super::frames::{Fetched, Frames};
use super::index::{Index, IndexColumns, IndexRow, PeakRow};
use super::mapping::Columns;
use super::marks::{Mark, MarkKind};
use super::numbers::In;
use super::packing::Unpacker;
use super::past::Past;
use super::payload::Pieces;
use super::pool::Pool;
use super::scanner::{Found, Scanner};
use super::schema::{Group, Head};
use super::texts::{Name, Read as Texts};
use crate::reading::all_parts;
#[allow(clippy::wildcard_imports, reason = "all row types, as the list of parts names them")]
use crate::reading::*;
use crate::row::{Cells, Row};
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
    #[error("{}", crate::text::without_number(.0))]
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

        /// What was added to each table since the last key frame.
        #[derive(Default)]
        struct LastAdded {
            machine: Past<SystemRow, Name>,
            $( $system: Past<$system_row, Name>, )*
            $( $process: Past<$process_row, Name>, )*
            processes: Past<ProcessRow, Name>,
        }

        impl Table {
            fn of(group: &Group, version: u16) -> Result<Table, ReadError> {
                Ok(match group.name.as_str() {
                    SystemRow::GROUP => Table::System(columns(group, version)?),
                    $( $system_row::GROUP => Table::$system_name(columns(group, version)?), )*
                    $( $process_row::GROUP => Table::$process_name(columns(group, version)?), )*
                    ProcessRow::GROUP => Table::Process(columns(group, version)?),
                    _ => Table::Unknown(columns(group, version)?),
                })
            }

            /// Whether those who look at processes need it.
            fn matters(&self, light: Light) -> bool {
                match self {
                    Table::System(_) | Table::Ended(_) | Table::Process(_) => true,
                    Table::Disk(_) | Table::Filesystem(_) | Table::Remote(_) | Table::Transfer(_) => light.disks,
                    _ => false,
                }
            }

            /// What holding one of its rows takes.
            fn work(&self) -> u64 {
                if matches!(self, Table::Process(_)) { PROCESS_WORK } else { 1 }
            }

            /// Rows that the table holds.
            fn rows(&self, reading: &Reading, unknown: &[UnknownRow]) -> usize {
                match self {
                    Table::System(_) => 1,
                    $( Table::$system_name(_) => reading.$system.len(), )*
                    $( Table::$process_name(_) => reading.$process.len(), )*
                    Table::Process(_) => reading.processes.len(),
                    Table::Unknown(_) => unknown.len(),
                }
            }

            /// Takes in this table's difference; in a key frame from nothing.
            fn decode(&self, kind: PartKind, state: &mut Tables<'_>, input: &mut In<'_>) -> Result<(), DecodeError> {
                macro_rules! take {
                    ($columns:expr, $rows:expr, $last:expr, $pool:expr) => {{
                        if kind.key {
                            $rows.clear();
                            $last = Default::default();
                        }
                        if kind.packed && state.light.is_some_and(|light| !self.matters(light)) {
                            return $columns.pass(state.passed, &mut $last.models, state.texts, &mut state.room, input);
                        }
                        let pool = $pool;
                        if kind.packed {
                            $columns.change($rows, pool, &mut $last, state.texts, &mut state.room, input)?;
                        } else {
                            $columns.change_row_wise($rows, state.texts, &mut input.bytes)?;
                        }
                        if kind.key || !kind.packed {
                            pool.replaced();
                        }
                        Ok(())
                    }};
                }
                match self {
                    Table::System(columns) => take!(columns, state.system, state.last.machine, &mut *state.machine),
                    $( Table::$system_name(columns) => take!(columns, &mut state.reading.$system, state.last.$system, &mut Pool::default()), )*
                    $( Table::$process_name(columns) => take!(columns, &mut state.reading.$process, state.last.$process, &mut Pool::of(state.cells(self))), )*
                    Table::Process(columns) => take!(columns, &mut state.reading.processes, state.last.processes, &mut *state.pool),
                    Table::Unknown(columns) => take!(columns, state.unknown, *state.unknown_added, &mut Pool::default()),
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
    last: &'a mut LastAdded,
    unknown: &'a mut Vec<UnknownRow>,
    unknown_added: &'a mut Past<UnknownRow, Name>,
    texts: &'a mut Texts,
    machine: &'a mut Pool<SystemRow>,
    pool: &'a mut Pool<Arc<ProcessRow>>,
    /// Bytes of rows that the part may still have.
    room: usize,
    /// Tables that do not matter are passed.
    light: Option<Light>,
    /// How many rows a table has that is passed.
    passed: &'a mut usize,
}

impl Tables<'_> {
    /// What is read of a table's rows.
    fn cells(&self, table: &Table) -> Cells {
        self.light.filter(|_| matches!(table, Table::Ended(_))).map_or(Cells::ALL, |light| light.ended)
    }
}

fn columns<R: Row>(group: &Group, version: u16) -> Result<Columns<R>, ReadError> {
    Columns::by_name(
        group.texts.iter().map(|column| column.name.as_str()),
        group.fields.iter().map(|column| (column.name.as_str(), column.kind.as_str(), column.unit.as_str())),
        version,
    )
    .ok_or_else(|| ReadError::Head("a group has more than 64 columns".to_owned()))
}

/// The tables of both parts, in order, and the columns of an index.
struct Plan {
    system: Vec<Table>,
    process: Vec<Table>,
    index: IndexColumns,
    /// Whether symbols take as much as they are unlikely, as since version 5.
    coded: bool,
}

impl Plan {
    fn new(groups: &[Group], version: u16) -> Result<Plan, ReadError> {
        let coded = version >= FIRST_CODED;
        let index = IndexColumns { coded, ..IndexColumns::default() };
        let mut plan = Plan { system: vec![], process: vec![], index, coded };
        for group in groups {
            match group.part.as_str() {
                "system" => plan.system.push(Table::of(group, version)?),
                "process" => plan.process.push(Table::of(group, version)?),
                "index" if group.name == IndexRow::GROUP => {
                    plan.index.moments = Some(columns(group, version)?);
                }
                "index" if group.name == PeakRow::GROUP => plan.index.peaks = Some(columns(group, version)?),
                // Others stand behind these two.
                "index" => {}
                other => return Err(ReadError::Head(format!("unknown part '{}'", clean(other.as_bytes())))),
            }
        }
        Ok(plan)
    }
}

/// One of the two streams of frames: its texts and its decompressor.
#[derive(Default)]
struct Stream {
    texts: Texts,
    unpacker: Option<Unpacker>,
    payload: Vec<u8>,
}

/// Whether to go on reading, after what reading took and may take so far.
#[derive(Clone, Copy, Debug)]
pub struct Work {
    /// What it took.
    pub spent: u64,
    /// What it may take.
    pub allowed: u64,
}

impl Work {
    /// Without bounds: for what this program itself keeps.
    const FREE: Work = Work { spent: 0, allowed: u64::MAX };

    fn spend(&mut self, work: u64) -> Result<(), DecodeError> {
        self.spent = self.spent.saturating_add(work);
        if self.spent > self.allowed { Err(DecodeError::TooMuch) } else { Ok(()) }
    }
}

impl Stream {
    /// The tables of a frame, as they were before compression. `coded` says that symbols take as much as they are
    /// unlikely; of them as many are taken as `most` says.
    fn unpack<'a>(
        &'a mut self,
        kind: PartKind,
        coded: bool,
        most: u64,
        payload: &'a [u8],
    ) -> Result<(In<'a>, &'a mut Texts), DecodeError> {
        if kind.key {
            self.texts.clear();
        }
        if !kind.packed {
            return Ok((In::new(None, payload, &[], most), &mut self.texts));
        }
        let pieces = Pieces::of(payload, coded)?;
        self.payload.clear();
        if let (true, Some(unpacker)) = (kind.key, &mut self.unpacker) {
            unpacker.restart().map_err(|_| DecodeError::Packing)?;
        }
        if let Some(packed) = pieces.packed {
            let unpacker = match &mut self.unpacker {
                Some(unpacker) => unpacker,
                none => none.insert(Unpacker::new().map_err(|_| DecodeError::Packing)?),
            };
            let unpacked = unpacker.unpack(packed, usize::MAX, &mut self.payload);
            unpacked.map_err(|_| DecodeError::Packing)?;
        }
        Ok((In::new(pieces.coded, &self.payload, pieces.bits, most), &mut self.texts))
    }
}

/// What is read of recordings by those who look at processes: the rest is most of the work.
#[derive(Clone, Copy, Debug)]
pub struct Light {
    /// What of the machine's own row.
    pub machine: Cells,
    /// What of processes.
    pub processes: Cells,
    /// What of those that ended.
    pub ended: Cells,
    /// Disks and servers of files, and what was handed to disks, as well.
    pub disks: bool,
}

/// The tables as they stand after the frames read so far.
pub struct Decoder {
    plan: Arc<Plan>,
    system: Vec<SystemRow>,
    reading: Reading,
    last: Box<LastAdded>,
    unknown: Vec<(Vec<UnknownRow>, Past<UnknownRow, Name>)>,
    system_part: Stream,
    process_part: Stream,
    machine: Pool<SystemRow>,
    pool: Pool<Arc<ProcessRow>>,
    /// Not all of it is read.
    light: Option<Light>,
    /// Rows of the tables that are passed.
    passed: Vec<usize>,
    /// Bytes of the reading that was loaded.
    fetched: Fetched,
    /// What reading took, and may take.
    pub work: Work,
}

impl Decoder {
    fn new(groups: &[Group], version: u16) -> Result<Decoder, ReadError> {
        Ok(Decoder::of(Arc::new(Plan::new(groups, version)?)))
    }

    fn of(plan: Arc<Plan>) -> Decoder {
        let tables = plan.system.len() + plan.process.len();
        Decoder {
            plan,
            system: vec![],
            reading: Reading::default(),
            last: Box::default(),
            unknown: (0..tables).map(|_| <(Vec<UnknownRow>, Past<UnknownRow, Name>)>::default()).collect(),
            system_part: Stream::default(),
            process_part: Stream::default(),
            machine: Pool::default(),
            pool: Pool::default(),
            light: None,
            passed: vec![0; tables],
            fetched: Fetched::default(),
            work: Work::FREE,
        }
    }

    /// Reads no more than that.
    #[must_use]
    pub fn light(mut self, light: Light) -> Decoder {
        (self.machine.cells, self.pool.cells) = (light.machine, light.processes);
        Decoder { light: Some(light), ..self }
    }

    /// A decoder for what this program itself writes.
    pub fn own() -> Decoder {
        Decoder::new(&super::writer::groups(), VERSION)
            .unwrap_or_else(|_| unreachable!("our own schema is sound"))
    }

    /// A decoder of the same columns that has read nothing.
    #[must_use]
    pub fn anew(&self) -> Decoder {
        Decoder::of(self.plan.clone())
    }

    /// What reading takes together is bounded by so many bytes of the recording.
    pub fn allow(&mut self, bytes: u64) {
        self.work.allowed = self.allowed_for(bytes);
    }

    /// What reading so many bytes of the recording may take.
    pub fn allowed_for(&self, bytes: u64) -> u64 {
        let each = if self.plan.coded { WORK_PER_BYTE } else { PLAIN_WORK_PER_BYTE };
        LEAST_WORK.saturating_add(bytes.saturating_mul(each))
    }

    /// Takes in a frame of either part.
    pub fn part(&mut self, kind: PartKind, payload: &[u8]) -> Result<(), DecodeError> {
        self.work.spend(1)?;
        let plan = self.plan.clone();
        let (tables, part, first) = if kind.system {
            (&plan.system, &mut self.system_part, 0)
        } else {
            (&plan.process, &mut self.process_part, plan.system.len())
        };
        let most = self.work.allowed.saturating_sub(self.work.spent);
        let (mut input, texts) = part.unpack(kind, plan.coded, most, payload)?;
        let mut charged = 0;
        let mut room = MOST_BYTES;
        // Behind the last table that matters nothing does but new texts, which stand among the rest before version 5.
        let light = self.light.filter(|light| plan.coded || kind.system && !light.disks);
        let matters = |table: &Table| light.is_none_or(|light| table.matters(light));
        let last = tables.iter().rposition(matters).map_or(0, |last| last + 1);
        for (at, table) in tables.iter().enumerate().take(last) {
            let (unknown, unknown_added) = &mut self.unknown[first + at];
            let mut state = Tables {
                system: &mut self.system,
                reading: &mut self.reading,
                last: &mut self.last,
                unknown,
                unknown_added,
                texts: &mut *texts,
                machine: &mut self.machine,
                pool: &mut self.pool,
                room,
                light: self.light,
                passed: &mut self.passed[first + at],
            };
            if kind.key {
                *state.passed = 0;
            }
            let before = if kind.key { 0 } else { table.rows(state.reading, state.unknown) + *state.passed };
            let decoded = table.decode(kind, &mut state, &mut input);
            room = state.room;
            // What is taken out of a frame is looked at, each byte and each symbol.
            self.work.spend(input.spent() - charged)?;
            charged = input.spent();
            decoded?;
            let rows = table.rows(&self.reading, &self.unknown[first + at].0) + self.passed[first + at];
            let added = rows.saturating_sub(before) as u64;
            self.work.spend(rows as u64 * table.work() + added * ROW_WORK)?;
        }
        let done = if last == tables.len() {
            input.is_done()
        } else {
            texts.rest(&mut input)?;
            true
        };
        if kind.system {
            match self.system.first() {
                Some(row) => self.reading.system.clone_from(row),
                None => self.reading.system = SystemRow::default(),
            }
        }
        if done { Ok(()) } else { Err(DecodeError::Trailing) }
    }

    /// What an index says of at most so many readings.
    pub fn index(&mut self, payload: &[u8], readings: usize) -> Result<Index, DecodeError> {
        self.work.spend(1)?;
        let (index, work) = self.plan.index.read(payload, readings)?;
        self.work.spend(work)?;
        Ok(index)
    }

    /// The reading as it stands.
    pub fn reading(&self) -> &Reading {
        &self.reading
    }

    /// Places of the processes that the newest frame changed; none where some came or went.
    pub fn changed(&self) -> Option<Vec<usize>> {
        self.pool.newest().map(<[usize]>::to_vec)
    }

    /// The reading as it stands, made of the one that stood two frames before, where somebody has that and needs it no
    /// more.
    pub fn renewed(&mut self, old: Option<Reading>) -> Reading {
        let Some(mut old) = old else { return self.reading.clone() };
        self.pool.renew(&mut old.processes, &self.reading.processes, |row| Arc::strong_count(row) == 1);
        old.parts_from(&self.reading);
        old
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
    /// From here on it takes more to read than a recording of its size should.
    pub costly: bool,
}

impl Damage {
    /// Bytes that cannot be read.
    pub fn of(offset: u64, bytes: u64) -> Damage {
        Damage { offset, bytes, cut: false, costly: false }
    }
}

impl std::fmt::Display for Damage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Damage { offset, bytes, cut, costly } = self;
        if *costly {
            write!(
                f,
                "left out from byte {offset} on: it takes more to read than a recording of its size should"
            )
        } else if *cut {
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
    /// Something at an instant.
    Mark(Mark),
    /// A part that cannot be read.
    Damage(Damage),
}

/// A recording whose head was read.
pub struct Opened<R> {
    /// Stands behind the head.
    pub scanner: Scanner<R>,
    /// Knows the columns.
    pub decoder: Decoder,
    /// Whose recording it is.
    pub host: Arc<HostFacts>,
    /// Nominal time between readings in seconds, where the recording states one.
    pub every: Option<f64>,
    /// Whether each reading stands for several that were left out.
    pub thinned: bool,
}

impl<R: Read> Opened<R> {
    /// Reads the head.
    pub fn read(mut input: R) -> Result<Opened<R>, ReadError> {
        let mut header = vec![];
        input.by_ref().take(HEADER_BYTES as u64).read_to_end(&mut header)?;
        if header.is_empty() {
            return Err(ReadError::Empty);
        }
        let magic = &header[..header.len().min(MAGIC.len())];
        if !MAGIC.starts_with(magic) {
            return Err(ReadError::NotARecording);
        }
        let Ok(header) = <&[u8; HEADER_BYTES]>::try_from(&header[..]) else {
            return Err(ReadError::CutAtHead);
        };
        let version = version_of(header)
            .ok_or_else(|| ReadError::Head("the version of its format is not certain".to_owned()))?;
        if version > VERSION {
            return Err(ReadError::Version(version));
        }
        let mut scanner = Scanner::new(input, HEADER_BYTES as u64);
        let head: Head = match scanner.next()? {
            Found::Frame { kind, .. } if kind == Kind::Head as u8 => {
                serde_json::from_slice(scanner.payload())
                    .map_err(|error| ReadError::Head(error.to_string()))?
            }
            Found::Frame { kind, .. } if kind == Kind::PackedHead as u8 => {
                let mut json = vec![];
                Unpacker::new()
                    .and_then(|mut unpacker| unpacker.unpack(scanner.payload(), LONGEST_HEAD, &mut json))
                    .map_err(|error| ReadError::Head(error.to_string()))?;
                serde_json::from_slice(&json).map_err(|error| ReadError::Head(error.to_string()))?
            }
            Found::Frame { .. } => return Err(ReadError::Head("it does not stand first".to_owned())),
            Found::Damage { .. } => return Err(ReadError::Head("its checksum is wrong".to_owned())),
            Found::Cut { .. } | Found::End => return Err(ReadError::CutAtHead),
            Found::Searching => return Err(ReadError::Head("it does not stand first".to_owned())),
        };
        let every = head.every.filter(|every| every.is_finite() && *every > 0.0);
        let host = Arc::new(cleaned(head.host));
        let thinned = head.thinned;
        Ok(Opened { scanner, decoder: Decoder::new(&head.groups, version)?, host, every, thinned })
    }
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
    pub fn open(input: R, with_processes: bool) -> Result<StreamReader<R>, ReadError> {
        let Opened { scanner, decoder, host, every, .. } = Opened::read(input)?;
        let (pending, broken, lost) = (None, false, false);
        Ok(StreamReader { scanner, decoder, host, every, with_processes, pending, broken, lost })
    }

    /// Whose recording it is.
    pub fn host(&self) -> &Arc<HostFacts> {
        &self.host
    }

    /// Nominal time between readings in seconds, where the recording states one.
    pub fn every(&self) -> Option<f64> {
        self.every
    }

    /// The next reading or damage; `None` at the end.
    pub fn next_event(&mut self) -> Result<Option<Event>, ReadError> {
        loop {
            match self.scanner.next()? {
                Found::Searching => {}
                Found::End => {
                    return Ok(self.pending.take().map(|(offset, _)| self.cut_reading(offset)));
                }
                Found::Cut { offset, bytes } => {
                    let offset_of_reading = self.pending.take().map_or(offset, |(pending, _)| pending);
                    let bytes = bytes + (offset - offset_of_reading);
                    return Ok(Some(Event::Damage(Damage {
                        cut: true,
                        ..Damage::of(offset_of_reading, bytes)
                    })));
                }
                Found::Damage { offset, bytes } => {
                    self.lose();
                    return Ok(Some(Event::Damage(Damage::of(offset, bytes))));
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
        Event::Damage(Damage { cut: true, ..Damage::of(offset, self.scanner.offset() - offset) })
    }

    /// From here on differences mean nothing until a key frame comes.
    fn lose(&mut self) {
        (self.broken, self.lost, self.pending) = (true, true, None);
    }

    fn frame(&mut self, offset: u64, kind: u8) -> Option<Event> {
        let payload = self.scanner.payload();
        let kind = Kind::from_number(kind)?;
        if kind == Kind::Mark {
            let mark = Mark::parse(payload)?;
            self.lost |= mark.kind == MarkKind::Lost;
            return Some(Event::Mark(mark));
        }
        let part = kind.part()?;
        self.decoder.allow(self.scanner.offset());
        let result = if part.system {
            // A system frame without its process frame: what came before is not whole.
            if part.key {
                self.broken = false;
            } else if self.broken {
                return None;
            }
            self.pending = Some((offset, part.key));
            self.decoder.part(part, payload)
        } else if self.broken {
            return None;
        } else {
            match self.pending.take() {
                Some((system, key)) if key == part.key => {
                    let decoded = if self.with_processes { self.decoder.part(part, payload) } else { Ok(()) };
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
        };
        let error = result.err()?;
        let bytes = self.scanner.offset() - offset;
        self.lose();
        Some(Event::Damage(Damage { costly: error == DecodeError::TooMuch, ..Damage::of(offset, bytes) }))
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

impl Decoder {
    fn frame(&mut self, offset: u64, frames: &dyn Frames, fetched: &mut Fetched) -> Result<(), ReadError> {
        let (kind, payload) = fetched.frame(frames, offset)?.ok_or(ReadError::Frame(offset))?;
        let part = Kind::from_number(kind).and_then(Kind::part).ok_or(ReadError::Frame(offset))?;
        Ok(self.part(part, payload)?)
    }

    /// Takes in the frames at these places, one after another.
    fn load_all(&mut self, frames: &dyn Frames, offsets: &[u64]) -> Result<(), ReadError> {
        // Its memory is needed for the next as well.
        let mut fetched = std::mem::take(&mut self.fetched);
        let loaded = offsets.iter().try_for_each(|offset| self.frame(*offset, frames, &mut fetched));
        fetched.forget();
        self.fetched = fetched;
        loaded
    }

    /// Takes in the reading at `entry`.
    pub fn load(&mut self, frames: &dyn Frames, entry: Entry) -> Result<(), ReadError> {
        self.load_all(frames, &[entry.system, entry.process])
    }

    /// Takes in the system part alone of the reading at `entry`.
    pub fn load_system(&mut self, frames: &dyn Frames, entry: Entry) -> Result<(), ReadError> {
        self.load_all(frames, &[entry.system])
    }
}
