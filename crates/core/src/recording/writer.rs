//! Readings into frames.

use super::columnar::put_table;
use super::format::{ENOUGH_TEXT, KEY_EVERY, Kind, MOST_TEXT, header, put_frame};
use super::index::{self, IndexRow, PeakRow, Peaks};
use super::marks::{Mark, MarkKind};
use super::numbers::Out;
use super::packing::{Effort, Packer};
use super::past::Past;
use super::payload::Pieces;
use super::schema::{Group, Head, group};
use super::texts::Written;
use crate::lane::{PerLane, Point};
use crate::reading::all_parts;
#[allow(clippy::wildcard_imports, reason = "all row types, as the list of parts names them")]
use crate::reading::*;
use crate::sample::Sample;
use crate::text::Text;
use crate::timeline::Moment;
use std::io;
use std::sync::Arc;
use std::time::Duration;

macro_rules! declare_tables {
    (
        system { $( $(#[$of_system:meta])* $system:ident: $system_row:ident, $system_name:ident; )* }
        process { $( $(#[$of_process:meta])* $process:ident: $process_row:ident, $process_name:ident; )* }
    ) => {
        /// The schema that this version writes: the tables of each kind of frame, in order.
        pub fn groups() -> Vec<Group> {
            vec![
                group::<SystemRow>("system"),
                $( group::<$system_row>("system"), )*
                group::<ProcessRow>("process"),
                $( group::<$process_row>("process"), )*
                group::<IndexRow>("index"),
                group::<PeakRow>("index"),
            ]
        }

        /// What was added to each table of the system part since the last key frame.
        #[derive(Default)]
        struct AddedToSystem { system: Past<SystemRow, Text>, $( $system: Past<$system_row, Text>, )* }

        /// What was added to each table of the process part since the last key frame.
        #[derive(Default)]
        struct AddedToProcesses { $( $process: Past<$process_row, Text>, )* processes: Past<ProcessRow, Text> }

        /// Appends the tables of the system part, but for the machine's own row.
        fn put_system_parts(
            now: &Reading, before: &Reading, added: &mut AddedToSystem, texts: &mut Written, out: &mut Out,
        ) {
            $( put_table(&now.$system, &before.$system, &mut added.$system, texts, out); )*
        }

        /// Appends the tables of the process part, those first that most ask for.
        fn put_process_parts(
            now: &Reading, before: &Reading, added: &mut AddedToProcesses, texts: &mut Written, out: &mut Out,
        ) {
            put_table(&now.processes, &before.processes, &mut added.processes, texts, out);
            $( put_table(&now.$process, &before.$process, &mut added.$process, texts, out); )*
        }
    };
}
all_parts!(declare_tables);

/// One of the two streams of frames: its texts and its compressor.
struct Stream {
    texts: Written,
    /// Made when the first reading comes.
    packer: Option<Packer>,
    effort: Effort,
    tables: Out,
    packed: Vec<u8>,
    payload: Vec<u8>,
}

impl Stream {
    fn new(effort: Effort) -> Stream {
        let (texts, tables) = (Written::default(), Out::default());
        Stream { texts, packer: None, effort, tables, packed: vec![], payload: vec![] }
    }

    fn packer(&mut self) -> io::Result<&mut Packer> {
        Ok(match &mut self.packer {
            Some(packer) => packer,
            none => none.insert(Packer::new(self.effort)?),
        })
    }

    fn restart(&mut self) -> io::Result<()> {
        self.texts.clear();
        self.packer()?.restart()
    }

    /// Appends the tables as a frame.
    fn put(&mut self, kind: Kind, out: &mut Vec<u8>) -> io::Result<()> {
        self.tables.finish();
        self.packed.clear();
        let texts = &self.tables.texts;
        if !texts.is_empty() {
            let packer = self.packer.as_mut().ok_or(io::ErrorKind::OutOfMemory)?;
            packer.pack(texts, &mut self.packed)?;
        }
        let packed = (!texts.is_empty()).then_some(&self.packed[..]);
        let coded = Some(self.tables.coder.bytes());
        Pieces { coded, packed, bits: &self.tables.bits }.put(&mut self.payload);
        put_frame(kind, &self.payload, out);
        Ok(())
    }
}

/// Turns readings into frames, each as the difference from the one before, with a key frame now and then.
pub struct Encoder {
    previous: Option<Arc<Reading>>,
    since_key: u32,
    key_every: u32,
    /// Bytes of the texts of the last key frame.
    key_texts: usize,
    system: Stream,
    process: Stream,
    added_to_system: AddedToSystem,
    added_to_processes: AddedToProcesses,
}

impl Encoder {
    /// An encoder that writes a key frame at least every so many readings.
    pub fn new(key_every: u32) -> Encoder {
        let effort = if key_every < KEY_EVERY { Effort::Light } else { Effort::Full };
        Encoder {
            previous: None,
            since_key: 0,
            key_every,
            key_texts: 0,
            system: Stream::new(effort),
            process: Stream::new(effort),
            added_to_system: AddedToSystem::default(),
            added_to_processes: AddedToProcesses::default(),
        }
    }

    /// Whether the next reading becomes a key frame.
    pub fn key_is_next(&self) -> bool {
        // A hundred thousand processes have more than enough text to begin with: what came since then counts.
        let came = self.texts().saturating_sub(self.key_texts);
        let enough = ENOUGH_TEXT.max(self.key_texts.min(MOST_TEXT / 4));
        self.previous.is_none() || self.since_key + 1 >= self.key_every || came > enough
    }

    /// Bytes of all texts since the last key frame, which a reader keeps.
    fn texts(&self) -> usize {
        self.system.texts.bytes() + self.process.texts.bytes()
    }

    /// Bytes of the two payloads of the reading that was put last; for measuring.
    pub fn last_payloads(&self) -> [usize; 2] {
        [self.system.payload.len(), self.process.payload.len()]
    }

    /// The compressor between two streams: the next reading becomes a key frame.
    fn packer(&mut self) -> io::Result<&mut Packer> {
        self.restart();
        self.system.packer()
    }

    /// The next reading becomes a key frame.
    pub fn restart(&mut self) {
        self.previous = None;
    }

    /// Appends a reading's two frames; says whether they are key frames. An error is the compressor's, which got no memory:
    /// what was appended is of no use then, and the next reading becomes a key frame.
    pub fn put(&mut self, reading: &Arc<Reading>, out: &mut Vec<u8>) -> io::Result<bool> {
        let key = self.key_is_next();
        let before = self.previous.take().filter(|_| !key);
        if key {
            self.since_key = 0;
            self.system.restart()?;
            self.process.restart()?;
            self.added_to_system = AddedToSystem::default();
            self.added_to_processes = AddedToProcesses::default();
        } else {
            self.since_key += 1;
        }
        let empty = Reading::default();
        let system_before = before.as_ref().map(|before| std::slice::from_ref(&before.system));
        let before = before.as_deref().unwrap_or(&empty);
        let (part, added) = (&mut self.system, &mut self.added_to_system);
        part.tables.clear();
        let system = std::slice::from_ref(&reading.system);
        let system_before = system_before.unwrap_or(&[]);
        put_table(system, system_before, &mut added.system, &mut part.texts, &mut part.tables);
        put_system_parts(reading, before, added, &mut part.texts, &mut part.tables);
        part.put(if key { Kind::SystemKey } else { Kind::SystemDifference }, out)?;
        let (part, added) = (&mut self.process, &mut self.added_to_processes);
        part.tables.clear();
        put_process_parts(reading, before, added, &mut part.texts, &mut part.tables);
        part.put(if key { Kind::ProcessKey } else { Kind::ProcessDifference }, out)?;
        if key {
            self.key_texts = self.texts();
        }
        self.previous = Some(reading.clone());
        Ok(key)
    }
}

/// Writes a whole recording: its head, readings with an index behind each block, and marks. What it gives is handed on
/// in the same order without anything between.
pub struct Writer {
    encoder: Encoder,
    host: Arc<HostFacts>,
    every: Option<Duration>,
    thinned: bool,
    /// Its beginning, once it was made: that of the next one is the same.
    beginning: Vec<u8>,
    before: Option<Arc<Reading>>,
    block: Vec<IndexRow>,
    peaks: Peaks,
    /// Bytes that were given so far.
    offset: u64,
    lost: bool,
}

impl Writer {
    /// A recording of a host; `every` is the nominal time between readings, where there is one.
    pub fn new(host: Arc<HostFacts>, every: Option<Duration>) -> Writer {
        Writer {
            encoder: Encoder::new(KEY_EVERY),
            host,
            every,
            thinned: false,
            beginning: vec![],
            before: None,
            block: vec![],
            peaks: Peaks::default(),
            offset: 0,
            lost: false,
        }
    }

    /// With a key frame at least every so many readings.
    #[must_use]
    pub fn with_keys_every(self, readings: u32) -> Writer {
        Writer { encoder: Encoder::new(readings), ..self }
    }

    /// Of readings that stand for several that were left out.
    #[must_use]
    pub fn of_thinned(self) -> Writer {
        Writer { thinned: true, ..self }
    }

    /// What the lanes show of the reading that was put last.
    pub fn newest(&self) -> Option<Moment> {
        self.block.last().map(IndexRow::moment)
    }

    /// Begins another recording of the same host.
    pub fn begin_anew(&mut self) {
        self.before = None;
        self.lost = false;
        self.cut_to(0);
    }

    /// Appends the beginning of a recording: header and head frame. Once, before everything else.
    pub fn begin(&mut self, out: &mut Vec<u8>) {
        if self.beginning.is_empty() {
            self.beginning = self.made_beginning();
        }
        out.extend_from_slice(&self.beginning);
        self.offset += self.beginning.len() as u64;
    }

    fn made_beginning(&self) -> Vec<u8> {
        let head = Head {
            program: concat!("dozor ", env!("CARGO_PKG_VERSION")).to_owned(),
            every: self.every.map(|every| every.as_secs_f64()),
            thinned: self.thinned,
            host: (*self.host).clone(),
            groups: groups(),
        };
        let json =
            serde_json::to_vec(&head).unwrap_or_else(|_| unreachable!("the head has only plain fields"));
        let mut out = header().to_vec();
        let mut packed = vec![];
        match Packer::new(Effort::Light).and_then(|mut packer| packer.pack(&json, &mut packed)) {
            Ok(()) => put_frame(Kind::PackedHead, &packed, &mut out),
            // Without the memory for a compressor it stands there as it is.
            Err(_) => put_frame(Kind::Head, &json, &mut out),
        }
        out
    }

    /// Appends a reading. After an error what was appended is of no use: the file is to be cut to where it ended
    /// ([`Writer::cut_to`]).
    pub fn put(&mut self, reading: &Arc<Reading>, out: &mut Vec<u8>) -> io::Result<()> {
        self.put_with(reading, None, out)
    }

    /// The same of a reading that stands for several: with the highest points of the lanes.
    pub fn put_with(
        &mut self,
        reading: &Arc<Reading>,
        peaks: Option<&PerLane<Point>>,
        out: &mut Vec<u8>,
    ) -> io::Result<()> {
        if self.encoder.key_is_next() {
            self.put_index(out);
        }
        let old = out.len();
        let lost = std::mem::take(&mut self.lost);
        let before = self.before.replace(reading.clone()).filter(|_| !lost);
        let sample = Sample::new(self.host.clone(), before, reading.clone());
        self.block.push(IndexRow::new(self.offset, &sample, lost).with_peaks(peaks));
        self.peaks.take(self.offset, &sample);
        self.encoder.put(reading, out)?;
        self.offset += (out.len() - old) as u64;
        Ok(())
    }

    /// Appends a mark. Where readings were lost the next one begins a new block.
    pub fn mark(&mut self, mark: &Mark, out: &mut Vec<u8>) {
        if mark.kind == MarkKind::Lost {
            self.put_index(out);
            self.encoder.restart();
            self.lost = true;
        }
        let old = out.len();
        put_frame(Kind::Mark, &mark.payload(), out);
        self.offset += (out.len() - old) as u64;
    }

    /// Appends what a recording ends with.
    pub fn finish(&mut self, out: &mut Vec<u8>) {
        self.put_index(out);
        self.encoder.restart();
    }

    /// The file ends at `offset` again: what was given since then was not written.
    pub fn cut_to(&mut self, offset: u64) {
        // What was counted of a reading that is not there cannot be taken off again: this block gets no index.
        self.block.clear();
        self.peaks.clear();
        self.offset = offset;
        self.encoder.restart();
    }

    fn put_index(&mut self, out: &mut Vec<u8>) {
        if self.block.is_empty() {
            return;
        }
        let old = out.len();
        // Without memory for it there is no index, which is only slower.
        if let Ok(payload) =
            self.encoder.packer().and_then(|packer| index::payload(&self.block, &self.peaks, packer))
        {
            put_frame(Kind::Index, &payload, out);
        }
        self.block.clear();
        self.peaks.clear();
        self.offset += (out.len() - old) as u64;
    }
}

/// The bytes of a mark's frame, for adding it to a recording that is finished.
pub fn mark_frame(mark: &Mark) -> Vec<u8> {
    let mut out = vec![];
    put_frame(Kind::Mark, &mark.payload(), &mut out);
    out
}
