//! Samples in order, from the live machine or from recordings alike.
//!
//! The points of the lanes are kept for every sample ([`moment`]); the readings behind them are kept as frames (in
//! memory for a live source, in files for recordings) and decoded when somebody looks back. A timeline is a number of
//! recordings one after another ([`segment`]), and behind them the live readings ([`memory`]), where there are some.

mod copy;
mod finest;
mod memory;
mod moment;
mod progress;
mod reach;
mod segment;

pub use copy::TimelineCopy;
pub use memory::THIN;
pub use moment::Moment;
pub use progress::Progress;
pub use reach::Reach;

use crate::catalogue::Metric;
use crate::reading::{HostFacts, Reading};
use crate::recording::{Damage, DecodeError, Decoder, Entry, Frames, Light, Mark, Peak, ReadError};
use crate::sample::Sample;
use crate::sorting::ColdSort as _;
use crate::thinning::merged;
use finest::finest;
use memory::{COARSE, FINE, Memory};
use reach::{of_ended, of_machine};
use segment::Segment;
use std::collections::{BTreeMap, HashMap, VecDeque};
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

/// Samples that are kept decoded around the present place, at most.
const DECODED: usize = 96;
/// Readings that are kept decoded, at most: what stepping back needs.
const RECENT: usize = 160;
/// Bytes that either of them takes at most, but for the newest: where thousands of processes change at each reading
/// those are few.
pub const DECODED_BYTES: usize = 12 << 20;

/// Bytes of readings that are taken in at a time when a recording has grown.
const AT_ONCE: u64 = 1 << 20;

/// Samples without an index are looked at in parts of this size.
const REST: usize = 1_500;
/// So many samples at least are worth a part of their own.
const FOLDED: usize = 500;
/// What decoding took so far, on all threads.
#[derive(Debug, Default)]
pub struct Spent(AtomicU64);

/// Parts that each thread is to have.
const PARTS_EACH: usize = 6;

/// Where a reading stands: which recording, counted from the oldest, and which of its readings. The live readings are
/// the last of them.
type Spot = (usize, usize);

/// Samples in order, with their gaps.
pub struct Timeline {
    host: Arc<HostFacts>,
    moments: VecDeque<Moment>,
    /// Number of the oldest sample that is still there.
    first: usize,
    past: Vec<Segment>,
    /// Samples in the recordings.
    in_past: usize,
    live: Option<Box<Memory>>,
    fresh: Decoder,
    position: Option<(Spot, Decoder)>,
    /// With the bytes that each takes.
    decoded: BTreeMap<usize, (Arc<Sample>, usize)>,
    decoded_bytes: usize,
    /// The newest sample that went from them for want of room, before those that stayed.
    evicted: Option<usize>,
    recent: HashMap<Spot, Arc<Reading>>,
    recent_bytes: usize,
    newest: Option<Arc<Reading>>,
}

/// Samples whose index tells what processes had most of a metric, or of which nothing is known.
#[derive(Clone, Debug)]
pub struct Block {
    /// Which samples.
    pub numbers: Range<usize>,
    /// The most that a process had and in which sample; an empty one where nobody had anything. None where that is not
    /// known without looking.
    pub peak: Option<Option<(Peak, usize)>>,
}

/// A recording that cannot be part of a timeline.
#[derive(Debug, thiserror::Error)]
pub enum JoinError {
    /// It cannot be read.
    #[error("{0}")]
    Read(#[from] ReadError),
    /// It is of another machine.
    #[error("it is of the host {0}, not of {1}")]
    OtherHost(String, String),
}

impl Timeline {
    /// An empty timeline that readings are appended to.
    pub fn live(host: Arc<HostFacts>) -> Timeline {
        Timeline { live: Some(Box::default()), ..Timeline::new(host) }
    }

    fn new(host: Arc<HostFacts>) -> Timeline {
        Timeline {
            host,
            moments: VecDeque::new(),
            first: 0,
            past: vec![],
            in_past: 0,
            live: None,
            fresh: Decoder::own(),
            position: None,
            decoded: BTreeMap::new(),
            decoded_bytes: 0,
            evicted: None,
            recent: HashMap::new(),
            recent_bytes: 0,
            newest: None,
        }
    }

    /// A timeline of one recording.
    pub fn open(frames: impl Frames + 'static) -> Result<Timeline, ReadError> {
        let mut timeline = Timeline::new(Arc::default());
        timeline.join(vec![Segment::open(Arc::new(frames))?]);
        Ok(timeline)
    }

    /// A timeline of several recordings of one machine, whatever their order. Those that cannot be part of it are given
    /// back with the reason, by their place in the list.
    pub fn of_recordings(all: Vec<Arc<dyn Frames>>) -> (Timeline, Vec<(usize, JoinError)>) {
        let mut timeline = Timeline::new(Arc::default());
        let problems = timeline.open_all(all);
        (timeline, problems)
    }

    /// Puts recordings of the time before in front of a live timeline, before its first reading: what they hold from
    /// `since` on, in nanoseconds since 1970. Those that cannot be part of it are given back with the reason.
    pub fn put_before(&mut self, all: Vec<Arc<dyn Frames>>) -> Vec<(usize, JoinError)> {
        self.open_all(all)
    }

    fn open_all(&mut self, all: Vec<Arc<dyn Frames>>) -> Vec<(usize, JoinError)> {
        let (mut opened, mut problems) = (vec![], vec![]);
        let mut name = (!self.host.name.is_empty()).then(|| self.host.name.clone());
        for (place, frames) in all.into_iter().enumerate() {
            match Segment::open(frames) {
                Ok((segment, moments)) => {
                    let host = &segment.host().name;
                    let expected = name.get_or_insert_with(|| host.clone());
                    if host == expected {
                        opened.push((segment, moments));
                    } else {
                        problems.push((place, JoinError::OtherHost(host.clone(), expected.clone())));
                    }
                }
                Err(error) => problems.push((place, error.into())),
            }
        }
        self.join(opened);
        problems
    }

    /// Appends recordings, the earliest first. What two of them have in common is taken from the earlier one, but of the finest
    /// ones before those that were thinned out.
    fn join(&mut self, opened: Vec<(Segment, Vec<Moment>)>) {
        let mut opened = finest(opened, self.spans());
        opened.cold_sort_by_key(|(_, moments)| moments.first().map_or(i64::MAX, |moment| moment.wall_ns));
        for (mut segment, mut moments) in opened {
            let last = self.moments.back().map(|moment| moment.wall_ns);
            let known = last.map_or(0, |last| moments.partition_point(|moment| moment.wall_ns <= last));
            // A recorder begins a new file with the last reading of the one before: then nothing is lost between.
            let goes_on = known > 0 && last == Some(moments[known - 1].wall_ns);
            moments.drain(..known);
            segment.skipped += known;
            if let Some(first) = moments.first_mut().filter(|_| last.is_some() && !goes_on) {
                first.lost = true;
            }
            if self.live.is_none() {
                self.host = segment.host().clone();
            }
            self.in_past += moments.len();
            self.moments.extend(moments);
            self.past.push(segment);
        }
    }

    /// The times that recordings tell of which were not thinned out.
    fn spans(&self) -> Vec<(i64, i64)> {
        let mut begin = 0;
        let mut spans = vec![];
        for segment in &self.past {
            let end = begin + segment.len();
            let of = |at: usize| self.moments.get(at).map(|moment| moment.wall_ns);
            if segment.step_ms() == 0 && end > begin {
                spans.extend(of(begin).zip(of(end - 1)));
            }
            begin = end;
        }
        spans
    }

    /// How far it has come in a recording of which there is more to take in ([`Timeline::grow`]).
    pub fn unfinished(&self) -> Option<u64> {
        self.past.iter().find_map(|segment| segment.unfinished)
    }

    /// Takes in what was written since the recordings were opened; says whether there was something. What takes longer than
    /// a screen may stand still is left for the next time ([`Timeline::unfinished`]).
    pub fn grow(&mut self) -> Result<bool, ReadError> {
        let mut more = false;
        for place in 0..self.past.len() {
            let segment = &mut self.past[place];
            let (marks, empty) = (segment.marks.len(), segment.len() == 0);
            let moments = segment.grow(AT_ONCE)?;
            more |= segment.marks.len() > marks;
            if moments.is_empty() {
                continue;
            }
            let newest =
                self.past[place + 1..].iter().all(|later| later.len() == 0) && self.past[place].is_whole();
            if empty {
                // One that was begun and has its first readings now belongs behind those that have some.
                let segment = self.past.remove(place);
                self.join(vec![(segment, moments)]);
                return Ok(true);
            }
            if newest && self.live.is_none() {
                more = true;
                self.in_past += moments.len();
                self.moments.extend(moments);
            } else {
                // What came in between has its place already: this stays as it was.
                self.past[place].forget_newest(moments.len());
            }
        }
        Ok(more)
    }

    /// Appends a recording that was begun since.
    pub fn append_recording(&mut self, frames: Arc<dyn Frames>) -> Result<(), JoinError> {
        let (segment, moments) = Segment::open(frames)?;
        if segment.host().name != self.host.name {
            return Err(JoinError::OtherHost(segment.host().name.clone(), self.host.name.clone()));
        }
        self.join(vec![(segment, moments)]);
        Ok(())
    }

    /// Facts of the host.
    pub fn host(&self) -> &Arc<HostFacts> {
        &self.host
    }

    /// What happened, as the recordings say, oldest first.
    pub fn marks(&self) -> Vec<Mark> {
        let mut marks: Vec<Mark> = self.past.iter().flat_map(Segment::marks_there).cloned().collect();
        marks.cold_sort_by_key(|mark| mark.wall_ns);
        // What was kept for long tells of them as well; of one instant there are few.
        let mut told: Vec<Mark> = Vec::with_capacity(marks.len());
        for mark in marks {
            let of_instant = told.iter().rev().take(64).take_while(|other| other.wall_ns == mark.wall_ns);
            if !of_instant.into_iter().any(|other| *other == mark) {
                told.push(mark);
            }
        }
        told
    }

    /// Whether nothing of it is as it was read: each reading stands for several that were left out.
    pub fn is_thinned(&self) -> bool {
        !self.past.is_empty() && self.past.iter().all(|segment| segment.step_ms() > 0)
    }

    /// What cannot be read.
    pub fn damages(&self) -> Vec<Damage> {
        self.past
            .iter()
            .flat_map(|segment| segment.damages.iter().chain(&segment.costly).chain(&segment.tail))
            .copied()
            .collect()
    }

    /// Nominal time between readings in seconds, where the newest recording states one.
    pub fn every(&self) -> Option<f64> {
        self.past.last().and_then(Segment::every)
    }

    /// Appends a reading to a live timeline; a recording stays as it is. Numbers of thinned samples, and of those before
    /// them, change with it; those of the others stay.
    pub fn append(&mut self, reading: Arc<Reading>) {
        let Some(memory) = &mut self.live else { return };
        memory.fine.put(&reading);
        let sample = Sample::new(self.host.clone(), self.newest.take(), reading.clone());
        // What came between the last recorded reading and the first of our own is not known.
        let lost = sample.before.is_none() && self.moments.len() == self.in_past && self.in_past > 0;
        self.newest = Some(reading);
        self.moments.push_back(Moment::of(&sample, lost));
        let number = self.end() - 1;
        self.count_on(&sample, number);
        self.remember(number, Arc::new(sample));
        self.make_room();
    }

    fn make_room(&mut self) {
        let Some(memory) = &mut self.live else { return };
        let past = self.in_past;
        let mut changed = false;
        while memory.fine.is_over(FINE) {
            let kept_before = past + memory.coarse.entries.len();
            let readings = memory.fine.oldest(&mut self.fresh.anew()).unwrap_or_default();
            let gone = memory.fine.drop_oldest();
            let moments: Vec<Moment> = self.moments.range(kept_before..kept_before + gone).cloned().collect();
            let mut thinned = vec![];
            // The last of each group stays, so the one before the next block does.
            for (group, moments) in readings.chunks(THIN).zip(moments.chunks(THIN)) {
                let reading = merged(group, memory.last_coarse.as_deref());
                memory.coarse.put(&reading);
                let before = memory.last_coarse.replace(reading.clone());
                let lost = before.is_none() && past > 0;
                let sample = Sample::new(self.host.clone(), before, reading);
                thinned.push(Moment::of(&sample, lost).standing_for(moments));
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
            self.moments.drain(past..past + gone);
            self.first += gone;
            changed = true;
        }
        if changed {
            let fine = self.first + past + memory.coarse.entries.len();
            self.decoded = self.decoded.split_off(&fine);
            self.decoded_bytes = self.decoded.values().map(|(_, bytes)| bytes).sum();
            self.position = None;
            self.forget_recent();
        }
    }

    /// Bytes of memory that the frames and points take.
    pub fn bytes(&self) -> u64 {
        let live = self.live.as_ref().map_or(0, |memory| memory.coarse.bytes() + memory.fine.bytes());
        let places: u64 = self.past.iter().map(Segment::bytes).sum();
        live + places + (self.moments.len() * size_of::<Moment>()) as u64
    }

    /// Whether recordings are part of it.
    pub fn has_past(&self) -> bool {
        self.in_past > 0
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
        if let Some((sample, _)) = self.decoded.get(&number) {
            return Ok(sample.clone());
        }
        let spot = self.spot(number).ok_or(ReadError::Empty)?;
        // Very large ones make room before another one is decoded, not after.
        if self.decoded_bytes > DECODED_BYTES {
            self.decoded.clear();
            self.decoded_bytes = 0;
            self.forget_recent();
        }
        let lost = self.moment(number).is_none_or(|moment| moment.lost);
        // The later one first: the way to it leads over the other.
        let now = self.reading(spot)?;
        let before = if lost || spot.1 == 0 { None } else { Some(self.reading((spot.0, spot.1 - 1))?) };
        let host = self.past.get(spot.0).map_or(&self.host, Segment::host).clone();
        let sample = Arc::new(Sample::new(host, before, now));
        self.count_on(&sample, number);
        self.remember(number, sample.clone());
        Ok(sample)
    }

    /// From which sample on those up to `number` are kept together; none where all that are wanted can be. To be asked after
    /// that sample was.
    pub fn decoded_from(&self, number: usize) -> Option<usize> {
        let newest = self.decoded.get(&number).map(|(_, bytes)| *bytes)?;
        let kept: Vec<usize> = self.decoded.range(..=number).rev().map(|(at, _)| *at).collect();
        let run = kept.iter().zip(0..).take_while(|(at, back)| **at + back == number).count();
        let bytes: usize = self.decoded.range(number + 1 - run..=number).map(|(_, (_, bytes))| bytes).sum();
        // Those that went for want of room are not asked for again: each would push out another.
        if self.evicted.is_some_and(|evicted| evicted + run >= number && evicted < number) {
            return Some(number + 1 - run);
        }
        // As many more as there is room for, if they are about alike.
        let room = DECODED_BYTES.saturating_sub(bytes) / newest.max(1);
        (bytes + newest * DECODED > DECODED_BYTES).then(|| (number + 1).saturating_sub((run + room).max(2)))
    }

    /// Where a sample's reading stands.
    fn spot(&self, number: usize) -> Option<Spot> {
        let mut at = number.checked_sub(self.first)?;
        if at >= self.moments.len() {
            return None;
        }
        for (place, segment) in self.past.iter().enumerate() {
            if at < segment.len() {
                return Some((place, at + segment.skipped));
            }
            at -= segment.len();
        }
        Some((self.past.len(), at))
    }

    fn find(&self, (place, at): Spot) -> Result<(Entry, &dyn Frames), ReadError> {
        let found = match self.past.get(place) {
            Some(segment) => segment.find(at),
            None => self.live.as_ref().and_then(|memory| memory.find(at)),
        };
        found.ok_or(ReadError::Empty)
    }

    /// A range of samples in parts: blocks of which it is known what processes had most of a metric, and the rest. With
    /// the peak comes the number of its sample.
    pub fn blocks(&self, numbers: Range<usize>, metric: &Metric) -> Vec<Block> {
        let mut blocks = vec![];
        let rest = |from: usize, until: usize, blocks: &mut Vec<Block>| {
            let parts = (from..until).step_by(REST);
            blocks.extend(parts.map(|begin| Block { numbers: begin..(begin + REST).min(until), peak: None }));
        };
        let (mut next, mut first) = (numbers.start.max(self.first), self.first);
        let end = numbers.end.min(self.end());
        for segment in &self.past {
            for (entries, peaks) in &segment.peaks {
                let Some(begin) = entries.start.checked_sub(segment.skipped).map(|begin| first + begin)
                else {
                    continue;
                };
                let until = begin + entries.len();
                // What a thinned or joined timeline left out has no whole block.
                if begin < next || until > end || until > first + segment.len() {
                    continue;
                }
                rest(next, begin, &mut blocks);
                let peak = peaks.iter().find(|peak| std::ptr::eq(peak.metric, metric)).cloned();
                let at = peak.as_ref().and_then(|peak| segment.place(peak.offset));
                let peak = match (peak, at) {
                    (Some(peak), Some(at)) => Some(Some((peak, first + at))),
                    // Nobody had a value.
                    (None, _) => Some(None),
                    (Some(_), None) => None,
                };
                blocks.push(Block { numbers: begin..until, peak });
                next = until;
            }
            first += segment.len();
        }
        rest(next, end, &mut blocks);
        blocks
    }

    /// Goes through samples in order, each reading decoded once, on several threads at a time: every thread has a part of
    /// the range and a result of its own, which `start` gives. The results come in the order of time.
    pub fn fold<T: Send>(
        &self,
        numbers: Range<usize>,
        threads: usize,
        reach: Reach,
        start: impl Fn() -> T + Sync,
        each: impl Fn(&mut T, usize, &Sample) + Sync,
    ) -> Result<Vec<T>, ReadError> {
        self.fold_on(&Spent::default(), numbers, threads, reach, start, each)
    }

    /// The same as one of several steps of a question, which together may take no more than one of them.
    pub fn fold_on<T: Send>(
        &self,
        spent: &Spent,
        numbers: Range<usize>,
        threads: usize,
        reach: Reach,
        start: impl Fn() -> T + Sync,
        each: impl Fn(&mut T, usize, &Sample) + Sync,
    ) -> Result<Vec<T>, ReadError> {
        let numbers = numbers.start.max(self.first)..numbers.end.min(self.end());
        // More parts than threads: one that has less of a processor takes fewer.
        let share = numbers.len().div_ceil(threads.max(1) * PARTS_EACH).max(FOLDED);
        let parts = self.parts(&numbers, share);
        let (start, each, parts, next) = (&start, &each, &parts, &AtomicUsize::new(0));
        let allowed = self.allowed();
        let work = move || -> Result<Vec<(usize, T)>, ReadError> {
            let mut results = vec![];
            loop {
                let number = next.fetch_add(1, Ordering::Relaxed);
                let Some(part) = parts.get(number) else { return Ok(results) };
                // Each part alone may take as much as all of them together; where they meet, readings are decoded twice.
                if spent.0.load(Ordering::Relaxed) > allowed.saturating_mul(2) {
                    return Err(DecodeError::TooMuch.into());
                }
                let mut result = start();
                self.fold_part(part.clone(), reach, spent, &mut result, each)?;
                results.push((number, result));
            }
        };
        std::thread::scope(|scope| {
            let others: Vec<_> = (1..threads.min(parts.len())).map(|_| scope.spawn(work)).collect();
            let mut results = work()?;
            for other in others {
                results.extend(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?);
            }
            results.cold_sort_by_key(|(number, _)| *number);
            Ok(results.into_iter().map(|(_, result)| result).collect())
        })
    }

    /// A range of samples in parts of about so many. A sample needs the reading before it as well: a part begins where that is
    /// a key frame, or all readings from the last one on would be decoded for nothing.
    fn parts(&self, numbers: &Range<usize>, share: usize) -> Vec<Range<usize>> {
        let is_behind_key = |number: usize| {
            let entry = self.spot(number - 1).map(|spot| self.find(spot));
            matches!(entry, Some(Ok((Entry { key: true, .. }, _))))
        };
        let begin_near = |number: usize| {
            (number + 1 - share / 2..=number).rev().find(|number| is_behind_key(*number)).unwrap_or(number)
        };
        let mut begins = vec![numbers.start];
        begins.extend(numbers.clone().step_by(share).skip(1).map(begin_near));
        begins.push(numbers.end);
        begins.windows(2).map(|pair| pair[0]..pair[1]).filter(|part| !part.is_empty()).collect()
    }

    /// What decoding all recordings once may take.
    fn allowed(&self) -> u64 {
        self.past.iter().map(Segment::allowed).reduce(u64::saturating_add).unwrap_or(u64::MAX)
    }

    fn fold_part<T>(
        &self,
        part: Range<usize>,
        reach: Reach,
        spent: &Spent,
        result: &mut T,
        each: impl Fn(&mut T, usize, &Sample),
    ) -> Result<(), ReadError> {
        self.walk_counted(part, reach, spent, |number, sample| {
            each(result, number, sample);
            Ok(())
        })
    }

    /// Goes through samples in order, each reading decoded once, until something goes wrong.
    pub fn walk<E: From<ReadError>>(
        &self,
        numbers: Range<usize>,
        reach: Reach,
        each: impl FnMut(usize, &Sample) -> Result<(), E>,
    ) -> Result<(), E> {
        self.walk_counted(numbers, reach, &Spent::default(), each)
    }

    /// The same; adds to `spent` what it took.
    fn walk_counted<E: From<ReadError>>(
        &self,
        numbers: Range<usize>,
        reach: Reach,
        spent: &Spent,
        mut each: impl FnMut(usize, &Sample) -> Result<(), E>,
    ) -> Result<(), E> {
        let count = |decoder: Option<(Spot, Decoder)>| {
            let took = decoder.map_or(0, |(_, decoder)| decoder.work.spent);
            spent.0.fetch_add(took, Ordering::Relaxed);
        };
        let mut decoder: Option<(Spot, Decoder)> = None;
        let mut before: Option<(Spot, Arc<Reading>)> = None;
        // A reading that nobody needs any more: its memory is that of the one two places on.
        let mut old: Option<(Spot, Reading)> = None;
        for number in numbers {
            let spot = self.spot(number).ok_or(ReadError::Empty)?;
            let lost = self.moment(number).is_none_or(|moment| moment.lost);
            let needed = if lost || spot.1 == 0 { spot } else { (spot.0, spot.1 - 1) };
            if before.as_ref().is_none_or(|(there, _)| *there != needed) || lost {
                (before, old) = (None, None);
                let mut key = needed;
                while !self.find(key)?.0.key {
                    key.1 = key.1.checked_sub(1).ok_or(ReadError::Empty)?;
                }
                let fresh = self.past.get(key.0).map_or_else(|| self.fresh.anew(), Segment::decoder);
                let reaching = match reach {
                    Reach::Processes { cells, disks } => fresh.light(Light {
                        machine: of_machine(cells),
                        processes: cells,
                        ended: of_ended(cells),
                        disks,
                    }),
                    Reach::All | Reach::Machine => fresh,
                };
                count(decoder.replace((key, reaching)));
            }
            let Some((next, decoder)) = &mut decoder else { continue };
            let mut now = None;
            while *next <= spot {
                let (entry, frames) = self.find(*next)?;
                if reach == Reach::Machine {
                    decoder.load_system(frames, entry)?;
                } else {
                    decoder.load(frames, entry)?;
                }
                if *next >= needed {
                    let old = old.take().filter(|(spot, _)| *spot == (next.0, next.1.wrapping_sub(2)));
                    let reading = Arc::new(decoder.renewed(old.map(|(_, reading)| reading)));
                    if *next == spot {
                        now = Some(reading);
                    } else {
                        before = Some((*next, reading));
                    }
                }
                next.1 += 1;
            }
            let Some(now) = now else { continue };
            let host = self.past.get(spot.0).map_or(&self.host, Segment::host).clone();
            let earlier = before.take().filter(|_| !lost).map(|(_, reading)| reading);
            let changed = decoder.changed().filter(|_| earlier.is_some());
            let mut sample = Sample::following(host, earlier, now.clone(), changed);
            each(number, &sample)?;
            let earlier = sample.before.take().and_then(Arc::into_inner);
            old = earlier.map(|reading| ((spot.0, spot.1.wrapping_sub(1)), reading));
            before = Some((spot, now));
        }
        count(decoder);
        Ok(())
    }

    /// What is known of the sample before needs not be found out anew.
    fn count_on(&self, sample: &Sample, number: usize) {
        if let Some((earlier, _)) = number.checked_sub(1).and_then(|number| self.decoded.get(&number)) {
            sample.count_on(earlier);
        }
    }

    fn remember(&mut self, number: usize, sample: Arc<Sample>) {
        let bytes = sample.own_bytes();
        self.decoded_bytes += bytes;
        if let Some((_, before)) = self.decoded.insert(number, (sample, bytes)) {
            self.decoded_bytes -= before;
        }
        while self.decoded.len() > DECODED || self.decoded.len() > 1 && self.decoded_bytes > DECODED_BYTES {
            // What is farthest from the present place is needed last.
            let (Some((&low, _)), Some((&high, _))) =
                (self.decoded.first_key_value(), self.decoded.last_key_value())
            else {
                return;
            };
            let far = if number - low >= high - number { low } else { high };
            if far == low && self.decoded.len() <= DECODED {
                self.evicted = Some(low);
            }
            self.decoded_bytes -= self.decoded.remove(&far).map_or(0, |(_, bytes)| bytes);
        }
    }

    fn forget_recent(&mut self) {
        self.recent.clear();
        self.recent_bytes = 0;
    }

    fn reading(&mut self, spot: Spot) -> Result<Arc<Reading>, ReadError> {
        if let Some(reading) = self.recent.get(&spot) {
            return Ok(reading.clone());
        }
        let (place, at) = spot;
        let mut key = at;
        while !self.find((place, key))?.0.key {
            key = key.checked_sub(1).ok_or(ReadError::Empty)?;
        }
        let (mut next, mut decoder) = match self.position.take() {
            Some(((there, last), decoder)) if there == place && last >= key && last < at => {
                (last + 1, decoder)
            }
            _ => (key, self.past.get(place).map_or_else(|| self.fresh.anew(), Segment::decoder)),
        };
        if self.recent.len() > RECENT || self.recent_bytes > DECODED_BYTES {
            self.forget_recent();
        }
        let mut before: Option<Arc<Reading>> = None;
        loop {
            let (entry, frames) = self.find((place, next))?;
            decoder.load(frames, entry)?;
            if next + RECENT / 2 > at {
                let reading = Arc::new(decoder.reading().clone());
                let bytes = reading.own_bytes(before.as_deref());
                // What is before the one that is asked for makes room for it.
                if self.recent_bytes + bytes > DECODED_BYTES {
                    self.forget_recent();
                }
                self.recent_bytes += bytes;
                before = Some(reading.clone());
                self.recent.insert((place, next), reading);
            }
            if next == at {
                break;
            }
            next += 1;
        }
        self.position = Some((spot, decoder));
        self.recent.get(&spot).cloned().ok_or(ReadError::Empty)
    }
}
