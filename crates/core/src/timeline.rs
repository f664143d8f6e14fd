//! Samples in order, from the live machine or a recording alike.
//!
//! The points of the lanes are kept for every sample; the readings behind them are kept as frames (in memory
//! for a live source, in the file for a recording) and decoded when somebody looks back. In memory the newest
//! readings are kept as they came; once they pass a limit, of the oldest only every [`THIN`]th stays, and once
//! those pass a limit too, the oldest of them go. Rates of thinned samples are right: they cover a longer time.

use crate::lane::{Lane, Point};
use crate::reading::{HostFacts, Reading};
use crate::recording::{Damage, Decoder, Encoder, Entry, Event, Frames, ReadError, StreamReader};
use crate::sample::Sample;
use std::collections::{BTreeMap, VecDeque};
use std::fs::File;
use std::io::{self, BufReader};
use std::sync::Arc;

/// Bytes and readings that a live timeline keeps as they came. At 300 processes of which 30 are active two hours at
/// 1 s; with all of them active in everything more than half an hour (`cargo bench --bench history`).
const FINE: Limit = Limit { bytes: 20 << 20, readings: 7_200 };
/// Bytes and readings that it keeps of the time before.
const COARSE: Limit = Limit { bytes: 8 << 20, readings: 14_400 };
/// Of the time before, every so manieth reading is kept.
pub const THIN: usize = 8;
/// Samples that are kept decoded around the present place.
const DECODED: usize = 96;
/// Records of ended processes that a thinned reading takes over from those left out.
const ENDED: usize = 400;

/// How much is kept.
#[derive(Clone, Copy)]
struct Limit {
    bytes: u64,
    readings: usize,
}

/// One sample on the lanes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Moment {
    /// Wall clock in nanoseconds since 1970 (UTC).
    pub wall_ns: i64,
    /// Seconds that the sample covers, up to its instant; none after a gap.
    pub seconds: Option<f64>,
    /// Readings just before it are lost.
    pub lost: bool,
    /// What the lanes show, in the order of [`Lane::ALL`].
    pub points: [Point; 5],
    /// The highest points within the sample: others than `points` only where readings were thinned.
    pub peaks: [Point; 5],
}

/// Frames in memory, in blocks that begin with a key frame.
#[derive(Default)]
struct MemoryFrames {
    blocks: VecDeque<(u64, Vec<u8>)>,
    end: u64,
}

impl Frames for MemoryFrames {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let at = self.blocks.partition_point(|(start, _)| *start <= offset);
        let block = at.checked_sub(1).and_then(|at| self.blocks.get(at));
        let bytes = block.and_then(|(start, bytes)| {
            let from = (offset - start) as usize;
            bytes.get(from..from + buffer.len())
        });
        buffer.copy_from_slice(bytes.ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }
}

/// Encoded readings in memory.
#[derive(Default)]
struct Tier {
    frames: MemoryFrames,
    encoder: Box<Encoder>,
    entries: VecDeque<Entry>,
}

impl Tier {
    fn put(&mut self, reading: &Arc<Reading>) {
        let mut bytes = vec![];
        let key = self.encoder.put(reading, &mut bytes);
        let system = self.frames.end;
        // The process frame starts behind the system frame, whose length stands in its header.
        let header = crate::recording::format::FrameHeader::parse(&bytes);
        let length = header.map_or(0, |header| u64::from(header.length));
        let process = system + crate::recording::format::FRAME_HEADER_BYTES as u64 + length;
        self.frames.end += bytes.len() as u64;
        match self.frames.blocks.back_mut() {
            Some((_, block)) if !key => block.extend_from_slice(&bytes),
            _ => self.frames.blocks.push_back((system, bytes)),
        }
        self.entries.push_back(Entry { system, process, key });
    }

    fn bytes(&self) -> u64 {
        self.frames.blocks.front().map_or(0, |(start, _)| self.frames.end - start)
    }

    fn is_over(&self, limit: Limit) -> bool {
        self.frames.blocks.len() > 1 && (self.bytes() > limit.bytes || self.entries.len() > limit.readings)
    }

    /// Takes away the oldest block; gives how many readings it held.
    fn drop_oldest(&mut self) -> usize {
        self.frames.blocks.pop_front();
        let start = self.frames.blocks.front().map_or(self.frames.end, |(start, _)| *start);
        let gone = self.entries.iter().take_while(|entry| entry.system < start).count();
        self.entries.drain(..gone);
        gone
    }

    /// The readings of the oldest block.
    fn oldest(&self, decoder: &mut Decoder) -> Result<Vec<Arc<Reading>>, ReadError> {
        let end = self.frames.blocks.get(1).map_or(self.frames.end, |(start, _)| *start);
        let block = self.entries.iter().take_while(|entry| entry.system < end);
        block
            .map(|entry| {
                decoder.load(&self.frames, *entry)?;
                Ok(Arc::new(decoder.reading().clone()))
            })
            .collect()
    }
}

/// Readings in memory: the newest as they came, and what is left of those before them.
#[derive(Default)]
struct Memory {
    coarse: Tier,
    fine: Tier,
    /// The newest thinned reading.
    last_coarse: Option<Arc<Reading>>,
}

enum Store {
    Memory(Box<Memory>),
    File(File, Vec<Entry>),
}

impl Store {
    /// Place and frames of a reading, counted from the oldest.
    fn find(&self, at: usize) -> Option<(Entry, &dyn Frames)> {
        match self {
            Store::Memory(memory) => {
                let coarse = memory.coarse.entries.len();
                let tier = if at < coarse { &memory.coarse } else { &memory.fine };
                let at = if at < coarse { at } else { at - coarse };
                Some((*tier.entries.get(at)?, &tier.frames))
            }
            Store::File(file, entries) => Some((*entries.get(at)?, file)),
        }
    }
}

/// Samples in order, with their gaps.
pub struct Timeline {
    host: Arc<HostFacts>,
    moments: VecDeque<Moment>,
    /// Number of the oldest sample that is still there.
    first: usize,
    store: Store,
    fresh: Decoder,
    position: Option<(usize, Decoder)>,
    decoded: BTreeMap<usize, Arc<Sample>>,
    newest: Option<Arc<Reading>>,
}

impl Timeline {
    /// An empty timeline that readings are appended to.
    pub fn live(host: Arc<HostFacts>) -> Timeline {
        Timeline::new(host, Store::Memory(Box::default()), Decoder::own())
    }

    fn new(host: Arc<HostFacts>, store: Store, fresh: Decoder) -> Timeline {
        Timeline {
            host,
            moments: VecDeque::new(),
            first: 0,
            store,
            fresh,
            position: None,
            decoded: BTreeMap::new(),
            newest: None,
        }
    }

    /// Opens a recording: its lanes at once, its processes when they are looked at. Gives what could not be
    /// read as well.
    pub fn open(file: File) -> Result<(Timeline, Vec<Damage>), ReadError> {
        let mut stream = StreamReader::open(BufReader::new(file.try_clone()?), false)?;
        let mut timeline = Timeline::new(stream.host().clone(), Store::File(file, vec![]), stream.decoder());
        let mut entries = vec![];
        let mut damages = vec![];
        let mut before: Option<Arc<Reading>> = None;
        while let Some(event) = stream.next_event()? {
            match event {
                Event::Reading { reading, entry, lost } => {
                    let reading = Arc::new(*reading);
                    let sample =
                        Sample::new(timeline.host.clone(), before.take().filter(|_| !lost), reading.clone());
                    timeline.moments.push_back(Moment { lost, ..moment(&sample) });
                    entries.push(entry);
                    before = Some(reading);
                }
                Event::Damage(damage) => damages.push(damage),
            }
        }
        if let Store::File(_, of_file) = &mut timeline.store {
            *of_file = entries;
        }
        Ok((timeline, damages))
    }

    /// Facts of the host.
    pub fn host(&self) -> &Arc<HostFacts> {
        &self.host
    }

    /// Appends a reading to a live timeline; a recording stays as it is. Numbers of thinned samples change with it,
    /// those of the others stay.
    pub fn append(&mut self, reading: Arc<Reading>) {
        let Store::Memory(memory) = &mut self.store else { return };
        memory.fine.put(&reading);
        let sample = Sample::new(self.host.clone(), self.newest.take(), reading.clone());
        self.newest = Some(reading);
        self.moments.push_back(moment(&sample));
        self.remember(self.end() - 1, Arc::new(sample));
        self.make_room();
    }

    fn make_room(&mut self) {
        let Store::Memory(memory) = &mut self.store else { return };
        let mut changed = false;
        while memory.fine.is_over(FINE) {
            let kept_before = memory.coarse.entries.len();
            let readings = memory.fine.oldest(&mut self.fresh.clone()).unwrap_or_default();
            let gone = memory.fine.drop_oldest();
            let moments: Vec<Moment> = self.moments.range(kept_before..kept_before + gone).copied().collect();
            let mut thinned = vec![];
            // The last of each group stays, so the one before the next block does.
            for (group, moments) in readings.chunks(THIN).zip(moments.chunks(THIN)) {
                let reading = merged(group);
                memory.coarse.put(&reading);
                let before = memory.last_coarse.replace(reading.clone());
                let sample = Sample::new(self.host.clone(), before, reading);
                thinned.push(Moment { peaks: peaks(moments), ..moment(&sample) });
            }
            let fewer = gone - thinned.len();
            for (at, moment) in thinned.into_iter().enumerate() {
                self.moments[kept_before + at] = moment;
            }
            let kept = kept_before + (gone - fewer);
            self.moments.drain(kept..kept + fewer);
            self.first += fewer;
            changed = true;
        }
        while memory.coarse.is_over(COARSE) {
            let gone = memory.coarse.drop_oldest();
            self.moments.drain(..gone);
            self.first += gone;
            changed = true;
        }
        if changed {
            let fine = self.first + memory.coarse.entries.len();
            self.decoded = self.decoded.split_off(&fine);
            self.position = None;
        }
    }

    /// Bytes of memory that the frames and points take.
    pub fn bytes(&self) -> u64 {
        let frames = match &self.store {
            Store::Memory(memory) => memory.coarse.bytes() + memory.fine.bytes(),
            Store::File(_, entries) => size_of_val(&entries[..]) as u64,
        };
        frames + (self.moments.len() * size_of::<Moment>()) as u64
    }

    /// Number of the oldest sample.
    pub fn first(&self) -> usize {
        self.first
    }

    /// One more than the number of the newest sample.
    pub fn end(&self) -> usize {
        self.first + self.moments.len()
    }

    /// Whether there is no sample.
    pub fn is_empty(&self) -> bool {
        self.moments.is_empty()
    }

    /// What the lanes show of a sample.
    pub fn moment(&self, number: usize) -> Option<&Moment> {
        self.moments.get(number.checked_sub(self.first)?)
    }

    /// Number of the last sample that is not later than a wall clock time; the first where all are later.
    pub fn at(&self, wall_ns: i64) -> usize {
        let later = self.moments.partition_point(|moment| moment.wall_ns <= wall_ns);
        self.first + later.saturating_sub(1)
    }

    /// The sample with this number.
    pub fn sample(&mut self, number: usize) -> Result<Arc<Sample>, ReadError> {
        if let Some(sample) = self.decoded.get(&number) {
            return Ok(sample.clone());
        }
        let lost = self.moment(number).is_none_or(|moment| moment.lost);
        let before = if !lost && number > self.first { Some(self.reading(number - 1)?) } else { None };
        let now = self.reading(number)?;
        let sample = Arc::new(Sample::new(self.host.clone(), before, now));
        self.remember(number, sample.clone());
        Ok(sample)
    }

    fn remember(&mut self, number: usize, sample: Arc<Sample>) {
        self.decoded.insert(number, sample);
        while self.decoded.len() > DECODED {
            // What is farthest from the present place is needed last.
            let (Some((&low, _)), Some((&high, _))) =
                (self.decoded.first_key_value(), self.decoded.last_key_value())
            else {
                return;
            };
            let far = if number - low >= high - number { low } else { high };
            self.decoded.remove(&far);
        }
    }

    fn reading(&mut self, number: usize) -> Result<Arc<Reading>, ReadError> {
        if let Some(sample) = self.decoded.get(&number) {
            return Ok(sample.now.clone());
        }
        let find = |number: usize| {
            let at = number.checked_sub(self.first).ok_or(ReadError::Empty)?;
            self.store.find(at).ok_or(ReadError::Empty)
        };
        find(number)?;
        let mut key = number;
        while !find(key)?.0.key {
            key = key.checked_sub(1).ok_or(ReadError::Empty)?;
        }
        let (mut next, mut decoder) = match self.position.take() {
            Some((at, decoder)) if at >= key && at <= number => (at + 1, decoder),
            _ => (key, self.fresh.clone()),
        };
        while next <= number {
            let (entry, frames) = find(next)?;
            decoder.load(frames, entry)?;
            next += 1;
        }
        let reading = Arc::new(decoder.reading().clone());
        self.position = Some((number, decoder));
        Ok(reading)
    }
}

/// The last of some readings, with the records of ended processes of all of them.
fn merged(group: &[Arc<Reading>]) -> Arc<Reading> {
    let Some((last, others)) = group.split_last() else { return Arc::default() };
    if others.iter().all(|reading| reading.ended.is_empty()) {
        return last.clone();
    }
    let mut reading = (**last).clone();
    let ended = group.iter().flat_map(|reading| &reading.ended).take(ENDED).cloned();
    reading.ended = ended.collect();
    for (order, row) in reading.ended.iter_mut().enumerate() {
        row.order = crate::known::Raw::new(order as i64);
    }
    Arc::new(reading)
}

/// The highest points of some moments.
fn peaks(moments: &[Moment]) -> [Point; 5] {
    let mut peaks = moments.last().map_or_else(|| unreachable!("a group has a reading"), |last| last.peaks);
    for moment in moments {
        for (peak, point) in peaks.iter_mut().zip(&moment.peaks) {
            peak.severity = peak.severity.max(point.severity);
            if point.value.value() > peak.value.value() {
                (peak.value, peak.full) = (point.value, point.full);
            }
        }
    }
    peaks
}

fn moment(sample: &Sample) -> Moment {
    let points = Lane::ALL.map(|lane| lane.point(sample));
    Moment { wall_ns: sample.now.wall_ns(), seconds: sample.seconds(), lost: false, points, peaks: points }
}
