//! Samples in order, from the live machine or a recording alike.
//!
//! The points of the lanes are kept for every sample; the readings behind them are kept as frames (in memory
//! for a live source, in the file for a recording) and decoded when somebody looks back. In memory the oldest
//! frames go first once a limit is reached.

use crate::lane::{Lane, Point};
use crate::reading::{HostFacts, Reading};
use crate::recording::{Damage, Decoder, Encoder, Entry, Event, Frames, ReadError, StreamReader};
use crate::sample::Sample;
use std::collections::{BTreeMap, VecDeque};
use std::fs::File;
use std::io::{self, BufReader};
use std::sync::Arc;

/// Bytes of frames that a live timeline keeps: at 300 processes of which 30 are active about five hours at 2 s.
pub const KEEP_BYTES: usize = 16 << 20;
/// Samples that are kept decoded around the present place.
const DECODED: usize = 160;

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

enum Store {
    Memory(MemoryFrames, Box<Encoder>),
    File(File),
}

impl Store {
    fn frames(&self) -> &dyn Frames {
        match self {
            Store::Memory(frames, _) => frames,
            Store::File(file) => file,
        }
    }
}

/// Samples in order, with their gaps.
pub struct Timeline {
    host: Arc<HostFacts>,
    moments: VecDeque<Moment>,
    entries: VecDeque<Entry>,
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
        Timeline::new(host, Store::Memory(MemoryFrames::default(), Box::default()), Decoder::own())
    }

    fn new(host: Arc<HostFacts>, store: Store, fresh: Decoder) -> Timeline {
        Timeline {
            host,
            moments: VecDeque::new(),
            entries: VecDeque::new(),
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
        let mut timeline = Timeline::new(stream.host().clone(), Store::File(file), stream.decoder());
        let mut damages = vec![];
        let mut before: Option<Arc<Reading>> = None;
        while let Some(event) = stream.next_event()? {
            match event {
                Event::Reading { reading, entry, lost } => {
                    let reading = Arc::new(*reading);
                    let sample =
                        Sample::new(timeline.host.clone(), before.take().filter(|_| !lost), reading.clone());
                    timeline.moments.push_back(Moment { lost, ..moment(&sample) });
                    timeline.entries.push_back(entry);
                    before = Some(reading);
                }
                Event::Damage(damage) => damages.push(damage),
            }
        }
        Ok((timeline, damages))
    }

    /// Facts of the host.
    pub fn host(&self) -> &Arc<HostFacts> {
        &self.host
    }

    /// Appends a reading to a live timeline; a recording stays as it is.
    pub fn append(&mut self, reading: Arc<Reading>) {
        let Store::Memory(frames, encoder) = &mut self.store else { return };
        let mut bytes = vec![];
        let key = encoder.put(&reading, &mut bytes);
        let system = frames.end;
        // The process frame starts behind the system frame, whose length stands in its header.
        let header = crate::recording::format::FrameHeader::parse(&bytes);
        let length = header.map_or(0, |header| u64::from(header.length));
        let process = system + crate::recording::format::FRAME_HEADER_BYTES as u64 + length;
        frames.end += bytes.len() as u64;
        match frames.blocks.back_mut() {
            Some((_, block)) if !key => block.extend_from_slice(&bytes),
            _ => frames.blocks.push_back((system, bytes)),
        }
        self.entries.push_back(Entry { system, process, key });
        let sample = Sample::new(self.host.clone(), self.newest.take(), reading.clone());
        self.newest = Some(reading);
        self.moments.push_back(moment(&sample));
        self.remember(self.end() - 1, Arc::new(sample));
        self.forget_oldest();
    }

    fn forget_oldest(&mut self) {
        let Store::Memory(frames, _) = &mut self.store else { return };
        while frames.blocks.len() > 1 && frames.end - frames.blocks[0].0 > KEEP_BYTES as u64 {
            frames.blocks.pop_front();
            let start = frames.blocks[0].0;
            while self.entries.front().is_some_and(|entry| entry.system < start) {
                self.entries.pop_front();
                self.moments.pop_front();
                self.decoded.remove(&self.first);
                self.first += 1;
            }
        }
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
        let entry = |number: usize| {
            number
                .checked_sub(self.first)
                .and_then(|at| self.entries.get(at))
                .copied()
                .ok_or(ReadError::Empty)
        };
        entry(number)?;
        let mut key = number;
        while !entry(key)?.key {
            key = key.checked_sub(1).ok_or(ReadError::Empty)?;
        }
        let (mut next, mut decoder) = match self.position.take() {
            Some((at, decoder)) if at >= key && at <= number => (at + 1, decoder),
            _ => (key, self.fresh.clone()),
        };
        while next <= number {
            decoder.load(self.store.frames(), entry(next)?)?;
            next += 1;
        }
        let reading = Arc::new(decoder.reading().clone());
        self.position = Some((number, decoder));
        Ok(reading)
    }
}

fn moment(sample: &Sample) -> Moment {
    Moment {
        wall_ns: sample.now.wall_ns(),
        seconds: sample.seconds(),
        lost: false,
        points: Lane::ALL.map(|lane| lane.point(sample)),
    }
}
