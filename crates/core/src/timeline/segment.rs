//! One recording among those that a timeline is made of.

use super::moment::Moment;
use crate::reading::{HostFacts, Reading};
use crate::recording::{
    Damage, DecodeError, Decoder, Entry, Frames, Mark, Peak, ReadError, Survey, Surveyed,
};
use crate::sample::Sample;
use std::ops::Range;
use std::sync::Arc;

/// A recording whose readings were found.
pub struct Segment {
    survey: Survey,
    entries: Vec<Entry>,
    /// The last reading that was decoded for the lanes, and its place.
    carried: Option<(usize, Arc<Reading>)>,
    /// Readings at its beginning that stand in the segment before it already.
    pub skipped: usize,
    /// The most that processes had, block by block, where an index tells it.
    pub peaks: Vec<(Range<usize>, Vec<Peak>)>,
    /// What happened, in the order of the file.
    pub marks: Vec<Mark>,
    /// What cannot be read.
    pub damages: Vec<Damage>,
    /// From here on it took more to read than it may.
    pub costly: Option<Damage>,
    /// There is more that was not looked at yet: how far it has come.
    pub unfinished: Option<u64>,
    /// What stands behind the last whole reading: cut off, or not there yet.
    pub tail: Option<Damage>,
    /// Of which time it tells, behind the first instant and up to the second, where finer ones tell of another part.
    part: Option<(i64, i64)>,
}

impl Segment {
    /// Finds the readings of a recording. Gives what the lanes show of them as well.
    pub fn open(frames: Arc<dyn Frames>) -> Result<(Segment, Vec<Moment>), ReadError> {
        let survey = Survey::open(frames)?;
        let mut segment = Segment {
            survey,
            entries: vec![],
            carried: None,
            skipped: 0,
            peaks: vec![],
            marks: vec![],
            damages: vec![],
            costly: None,
            unfinished: None,
            tail: None,
            part: None,
        };
        let mut moments = segment.grow(u64::MAX)?;
        while segment.unfinished.is_some() {
            moments.extend(segment.grow(u64::MAX)?);
        }
        Ok((segment, moments))
    }

    /// Whose recording it is.
    pub fn host(&self) -> &Arc<HostFacts> {
        self.survey.host()
    }

    /// Nominal time between readings in seconds, where the recording states one.
    pub fn every(&self) -> Option<f64> {
        self.survey.every()
    }

    /// Milliseconds that each reading stands for, where readings were thinned out for long keeping; else 0.
    pub fn step_ms(&self) -> u64 {
        if self.survey.is_thinned() { (self.survey.every().unwrap_or(0.0) * 1e3).max(1.0) as u64 } else { 0 }
    }

    /// Where it is.
    pub fn frames(&self) -> &Arc<dyn Frames> {
        self.survey.frames()
    }

    /// The same recording, found once more.
    pub fn again(&self) -> Result<(Segment, Vec<Moment>), ReadError> {
        Segment::open(self.survey.frames().clone())
    }

    /// Leaves a part of the readings, since finer ones tell of the rest; `moments` are those of all of them.
    pub fn leave(&mut self, part: Range<usize>, moments: &mut Vec<Moment>) {
        self.forget_newest(moments.len() - part.end);
        moments.truncate(part.end);
        let from = part.start.checked_sub(1).map_or(i64::MIN, |before| moments[before].wall_ns);
        self.part = moments.last().map(|last| (from, last.wall_ns));
        moments.drain(..part.start);
        self.skipped = part.start;
    }

    /// Whether all of it belongs to the timeline.
    pub fn is_whole(&self) -> bool {
        self.part.is_none()
    }

    /// What happened in the time that it is looked at for.
    pub fn marks_there(&self) -> impl Iterator<Item = &Mark> {
        let is_there = |wall: i64| self.part.is_none_or(|(from, until)| from < wall && wall <= until);
        self.marks.iter().filter(move |mark| is_there(mark.wall_ns))
    }

    /// Readings that belong to the timeline.
    pub fn len(&self) -> usize {
        self.entries.len() - self.skipped
    }

    /// Finds what was written since the last time, about so many bytes of it: what takes longer is `unfinished`, and goes on
    /// when it is asked for again.
    pub fn grow(&mut self, at_once: u64) -> Result<Vec<Moment>, ReadError> {
        let mut moments = vec![];
        self.tail = None;
        let begin = self.survey.place();
        self.unfinished = None;
        // Readings whose index has not come yet, and whether those before them are lost.
        let mut block: Vec<(usize, bool)> = vec![];
        while let Some(found) = self.survey.next()? {
            match found {
                Surveyed::Searching => {
                    self.unfinished = Some(self.survey.place());
                    break;
                }
                Surveyed::Reading { entry, lost } => {
                    // Between two blocks, so that each is decoded once.
                    if entry.key && self.survey.place() - begin > at_once {
                        self.unfinished = Some(self.survey.place());
                    }
                    if entry.key {
                        self.decode(&mut block, &mut moments);
                    }
                    block.push((self.entries.len(), lost));
                    self.entries.push(entry);
                    if self.unfinished.is_some() {
                        break;
                    }
                }
                Surveyed::Index(index) => {
                    let rows = index.moments;
                    if let Some(first) = self.entries.len().checked_sub(rows.len()) {
                        let agree = rows
                            .iter()
                            .zip(&self.entries[first..])
                            .all(|((at, _), entry)| *at == entry.system);
                        if agree && !rows.is_empty() {
                            self.peaks.push((first..self.entries.len(), index.peaks));
                        }
                    }
                    let there = rows.len().checked_sub(block.len()).map(|first| &rows[first..]);
                    match there {
                        Some(rows) if agree(rows, &block, &self.entries) => {
                            moments.extend(rows.iter().map(|(_, moment)| moment.clone()));
                            block.clear();
                        }
                        _ => self.decode(&mut block, &mut moments),
                    }
                }
                Surveyed::Mark(mark) => self.marks.push(mark),
                Surveyed::Damage(damage) if damage.cut => {
                    self.tail = Some(damage);
                    break;
                }
                Surveyed::Damage(damage) => self.damages.push(damage),
            }
        }
        self.decode(&mut block, &mut moments);
        Ok(moments)
    }

    /// Works out what the lanes show of readings that no index tells of.
    fn decode(&mut self, block: &mut Vec<(usize, bool)>, moments: &mut Vec<Moment>) {
        let Some((first, lost)) = block.first() else { return };
        let mut decoder = self.survey.decoder();
        // Each block has a decoder of its own, all together one budget.
        decoder.work = *self.survey.work();
        let mut before = self.carried.take().filter(|(at, _)| at + 1 == *first).map(|(_, reading)| reading);
        // Rates of the first need the reading before it, which may stand in the block before.
        let mut at = if before.is_none() && !lost { first.saturating_sub(1) } else { *first };
        while at > 0 && !self.entries[at].key {
            at -= 1;
        }
        let mut sound = true;
        for place in at..self.entries.len() {
            let lost = place.checked_sub(*first).and_then(|at| block.get(at)).map(|(_, lost)| *lost);
            // What its checksum calls whole but makes no sense is as good as lost; so is what is written against it.
            let loaded = sound.then(|| decoder.load_system(&**self.survey.frames(), self.entries[place]));
            if let Some(Err(ReadError::Decode(DecodeError::TooMuch))) = &loaded
                && self.costly.is_none()
            {
                let damage = Damage::of(self.entries[place].system, 0);
                self.costly = Some(Damage { costly: true, ..damage });
            }
            sound = matches!(loaded, Some(Ok(())));
            let reading = sound.then(|| Arc::new(decoder.reading().clone()));
            if let Some(lost) = lost {
                moments.push(match &reading {
                    Some(reading) => {
                        let before = before.take().filter(|_| !lost);
                        Moment::of(&Sample::new(self.host().clone(), before, reading.clone()), lost)
                    }
                    None => Moment::unreadable(moments.last().map_or(0, |moment| moment.wall_ns)),
                });
            }
            // A key frame means something without what stands before it.
            sound |= self.entries.get(place + 1).is_some_and(|next| next.key);
            if place >= first.saturating_sub(1) {
                before = reading;
            }
        }
        self.survey.work().spent = decoder.work.spent;
        self.carried = before.map(|reading| (self.entries.len() - 1, reading));
        block.clear();
    }

    /// The newest readings do not belong to the timeline.
    pub fn forget_newest(&mut self, readings: usize) {
        self.entries.truncate(self.entries.len().saturating_sub(readings));
    }

    /// What decoding all of it once may take.
    pub fn allowed(&self) -> u64 {
        self.survey.allowed()
    }

    /// A decoder that has read nothing.
    pub fn decoder(&self) -> Decoder {
        self.survey.decoder()
    }

    /// The place of a reading of the timeline, counted from the first of this segment, and the frames.
    pub fn find(&self, at: usize) -> Option<(Entry, &dyn Frames)> {
        Some((*self.entries.get(at)?, &**self.survey.frames()))
    }

    /// The place of a reading among those of the timeline, counted from the first of this segment.
    pub fn place(&self, offset: u64) -> Option<usize> {
        self.entries.binary_search_by_key(&offset, |entry| entry.system).ok()?.checked_sub(self.skipped)
    }

    /// Bytes of memory that its places take.
    pub fn bytes(&self) -> u64 {
        size_of_val(&self.entries[..]) as u64
    }
}

/// Whether the rows of an index tell of the readings of a block.
fn agree(rows: &[(u64, Moment)], block: &[(usize, bool)], entries: &[Entry]) -> bool {
    let pairs = rows.iter().zip(block);
    rows.len() == block.len()
        && pairs
            .into_iter()
            .all(|((offset, moment), (at, lost))| *offset == entries[*at].system && moment.lost == *lost)
}
