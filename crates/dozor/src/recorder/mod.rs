//! Writing a recording to a file, a pipe, or a folder of segments that stays within its bounds.
//!
//! Each reading is handed to the system with one call, so that a crash of Dozor loses at most the last one. What the
//! system has taken is made safe on the disk every [`SAFE_EVERY`] and when a file is finished, by a thread of its own: a
//! crash of the whole machine loses about so much. What cannot be written is counted and leaves a gap; trying goes on
//! with each reading.

mod error;
mod folder;
mod found;
mod notes;
mod sink;
#[cfg(test)]
mod tests;
mod tier;

pub use error::RecordError;
pub use folder::{Bounds, SMALLEST_LIMIT, in_file_name, segment_begin};
pub use notes::{Notes, add as add_mark};
pub use tier::Then;

use crate::recordings::Recorded;
use dozor_core::lane::{PerLane, Point};
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::{Mark, MarkKind, Writer};
use dozor_core::sample::gap_between;
use dozor_core::timeline::Timeline;
use dozor_core::units::long_bytes;
use dozor_linux::files;
use error::failed;
use folder::Folder;
use found::Finding;
use sink::Sink;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tier::Tier;

/// What became of a reading.
#[derive(Debug, PartialEq, Eq)]
pub enum Written {
    /// It is written.
    Done,
    /// It is written, and so many before it were lost, for this reason.
    Again(u64, String),
    /// It is lost, for this reason; so are others before it where `false` stands.
    Lost(String, bool),
}

/// Where a recording goes.
enum Target {
    File(PathBuf),
    Pipe,
    Folder(Folder),
}

/// A reading, and where it stands for several the highest points of the lanes.
type Given = (Arc<Reading>, Option<PerLane<Point>>);

/// A recording that is being written.
pub struct Recorder {
    target: Target,
    writer: Writer,
    /// None where what is written was looked at already.
    finding: Option<Finding>,
    /// What is kept longer, in fewer readings.
    tiers: Vec<Tier>,
    sink: Option<Sink>,
    buffer: Vec<u8>,
    last: Option<Given>,
    /// Readings lost since the last one that was written, and why.
    missing: Option<(u64, String)>,
    readings: u64,
    /// Readings in the file that is being written.
    in_file: u64,
    lost: u64,
    bytes: u64,
    files: u64,
}

impl Recorder {
    /// Begins a recording in a new file; `-` is standard output. An existing file with content stays as it is.
    pub fn create(path: &Path, host: Arc<HostFacts>, every: Duration) -> Result<Recorder, RecordError> {
        let target = if path == Path::new("-") { Target::Pipe } else { Target::File(path.to_owned()) };
        Recorder::begin(target, host, every)
    }

    /// Begins a recording in a folder, beside what is there of the same host.
    pub fn in_folder(
        path: &Path,
        bounds: Bounds,
        host: Arc<HostFacts>,
        every: Duration,
    ) -> Result<Recorder, RecordError> {
        let folder = Folder::open(path, bounds, &host.name)?;
        Recorder::begin(Target::Folder(folder), host, every)
    }

    /// Keeps some of the readings of a host longer, in the same folder.
    pub fn keeping(self, then: &[Then], host: &Arc<HostFacts>) -> Result<Recorder, RecordError> {
        let Target::Folder(folder) = &self.target else { return Ok(self) };
        let tiers = then.iter().map(|one| Tier::beside(folder, (*one, then.len()), host));
        let tiers = tiers.collect::<Result<_, _>>()?;
        Ok(Recorder { tiers, ..self })
    }

    fn begin(target: Target, host: Arc<HostFacts>, every: Duration) -> Result<Recorder, RecordError> {
        let finding = Finding::new(host.clone());
        let writer = Writer::new(host, Some(every));
        let mut recorder = Recorder::of(target, writer, Some(finding));
        // A folder's first segment is named after its first reading.
        if !matches!(recorder.target, Target::Folder(_)) {
            recorder.begin_file(0)?;
            recorder.writer.begin(&mut recorder.buffer);
            recorder.hand_over()?;
        }
        Ok(recorder)
    }

    fn of(target: Target, writer: Writer, finding: Option<Finding>) -> Recorder {
        Recorder {
            target,
            writer,
            finding,
            tiers: vec![],
            sink: None,
            buffer: vec![],
            last: None,
            missing: None,
            readings: 0,
            in_file: 0,
            lost: 0,
            bytes: 0,
            files: 0,
        }
    }

    /// Where it is written.
    pub fn path(&self) -> &Path {
        match &self.target {
            Target::File(path) => path,
            Target::Pipe => Path::new("-"),
            Target::Folder(folder) => folder.path(),
        }
    }

    fn begin_file(&mut self, wall_ns: i64) -> Result<(), RecordError> {
        self.sink = Some(match &mut self.target {
            Target::Pipe => Sink::standard_output(),
            Target::File(path) => Sink::create(path, (files::PRIVATE, None))?,
            Target::Folder(folder) => folder.begin_segment(wall_ns)?,
        });
        self.files += 1;
        self.in_file = 0;
        self.writer.begin_anew();
        self.buffer.clear();
        Ok(())
    }

    /// Writes a reading. An error means that there is no sense in going on.
    pub fn write(&mut self, reading: &Arc<Reading>) -> Result<Written, RecordError> {
        if let (Target::Folder(folder), false) = (&mut self.target, self.tiers.is_empty()) {
            folder.leave_room_for(self.tiers.iter().map(Tier::bytes).sum());
        }
        let written = self.write_given((reading.clone(), None))?;
        if matches!(written, Written::Lost(..)) {
            return Ok(written);
        }
        let shown = self.writer.newest();
        let mut of_tiers = Written::Done;
        for tier in &mut self.tiers {
            let written = tier.take(reading, shown.as_ref())?;
            of_tiers = if of_tiers == Written::Done { written } else { of_tiers };
        }
        Ok(if written == Written::Done { of_tiers } else { written })
    }

    fn write_given(&mut self, given: Given) -> Result<Written, RecordError> {
        let result = self.try_write(&given);
        match result {
            Ok(()) => {
                self.readings += 1;
                let lost = self.missing.is_some();
                let found = self.finding.as_mut().map_or(vec![], |finding| finding.look(&given.0, lost));
                self.last = Some(given);
                for mark in found {
                    // One that cannot be written is found again by who looks through the readings.
                    if matches!(self.mark(&mark), Err(RecordError::PipeClosed)) {
                        return Err(RecordError::PipeClosed);
                    }
                }
                Ok(self
                    .missing
                    .take()
                    .map_or(Written::Done, |(missing, reason)| Written::Again(missing, reason)))
            }
            Err(RecordError::PipeClosed) => Err(RecordError::PipeClosed),
            Err(error) => Ok(self.lose(1, error.to_string())),
        }
    }

    /// Counts readings that were not taken or not written.
    pub fn lose(&mut self, readings: u64, reason: String) -> Written {
        for tier in &mut self.tiers {
            tier.lose(readings, &reason);
        }
        self.lost += readings;
        let first = self.missing.is_none();
        let (missing, _) = self.missing.get_or_insert_with(|| (0, reason.clone()));
        *missing += readings;
        Written::Lost(reason, first)
    }

    /// Where somebody truncated the file, goes on behind what is left of it and counts what is lost.
    fn look_for_truncation(&mut self) -> Result<(), RecordError> {
        let Some((left, file)) = self.sink.as_ref().and_then(Sink::truncated) else { return Ok(()) };
        // What is still readable stays; without a whole head that is nothing.
        let whole = file.try_clone().ok().and_then(|file| Timeline::open(Recorded(file)).ok());
        let kept = whole.as_ref().map_or(0, |timeline| timeline.end() as u64);
        let missing = self.in_file.saturating_sub(kept);
        let end = if kept > 0 { left } else { 0 };
        if let Some(sink) = &mut self.sink {
            sink.go_on_at(end).map_err(|error| failed(sink.path(), error))?;
        }
        self.in_file = kept;
        if missing > 0 {
            self.readings = self.readings.saturating_sub(missing);
            self.lose(missing, "the file was truncated by somebody else".to_owned());
        }
        if end == 0 {
            self.writer.begin_anew();
            self.buffer.clear();
            self.writer.begin(&mut self.buffer);
            return self.hand_over();
        }
        self.writer.cut_to(end);
        Ok(())
    }

    fn try_write(&mut self, given: &Given) -> Result<(), RecordError> {
        let result = self.encode_and_write(given);
        if matches!(result, Err(ref error) if !matches!(error, RecordError::PipeClosed)) {
            self.forget_unwritten();
        }
        result
    }

    fn encode_and_write(&mut self, given: &Given) -> Result<(), RecordError> {
        let reading = &given.0;
        let wall = reading.wall_ns();
        if let Target::Folder(folder) = &mut self.target {
            let gap = self.last.as_ref().and_then(|(last, _)| gap_between(last, reading));
            folder.look_at_clock(reading.boot_ns(), gap);
        }
        let removed = self.sink.as_ref().is_some_and(Sink::is_removed);
        let full = match (&self.target, &self.sink) {
            (Target::Folder(folder), Some(sink)) => folder.is_segment_over(sink, wall),
            _ => false,
        };
        if removed || full {
            self.end_file();
        }
        self.look_for_truncation()?;
        if self.sink.is_none() {
            self.begin_file(wall)?;
            self.writer.begin(&mut self.buffer);
            // With the last reading of the file before, the rates of the next one are known here as well.
            if let Some(last) = self.last.clone().filter(|_| self.missing.is_none()) {
                self.put(&last)?;
                self.in_file += 1;
            }
            if removed {
                let note = Mark::new(wall, MarkKind::Note, "the file before this one was removed");
                self.writer.mark(&note, &mut self.buffer);
            }
        } else {
            self.buffer.clear();
        }
        if let Some((missing, reason)) = &self.missing {
            let mark = Mark { readings: Some(*missing), ..Mark::new(wall, MarkKind::Lost, reason.clone()) };
            self.writer.mark(&mark, &mut self.buffer);
        }
        self.put(given)?;
        self.hand_over()?;
        self.in_file += 1;
        Ok(())
    }

    /// Appends a reading to the buffer.
    fn put(&mut self, (reading, peaks): &Given) -> Result<(), RecordError> {
        let put = self.writer.put_with(reading, peaks.as_ref(), &mut self.buffer);
        put.map_err(|error| failed(self.path(), error))
    }

    /// What is in the buffer was not written: the file ends where it ended before.
    fn forget_unwritten(&mut self) {
        let Some(sink) = &self.sink else { return };
        self.writer.cut_to(sink.bytes());
        if sink.bytes() == 0 && !matches!(self.target, Target::Pipe) {
            // Not even the head is there; next time it begins anew.
            sink.remove();
            self.sink = None;
        }
    }

    /// Writes a mark; one that cannot be written is told.
    pub fn mark(&mut self, mark: &Mark) -> Result<(), RecordError> {
        let own = self.mark_here(mark);
        self.tiers.iter_mut().map(|tier| tier.mark(mark)).fold(own, Result::and)
    }

    fn mark_here(&mut self, mark: &Mark) -> Result<(), RecordError> {
        self.look_for_truncation()?;
        if self.sink.is_none() {
            self.begin_file(mark.wall_ns)?;
            self.writer.begin(&mut self.buffer);
        } else {
            self.buffer.clear();
        }
        self.writer.mark(mark, &mut self.buffer);
        self.hand_over()
    }

    /// Hands the buffer to the system. Where that fails, the file ends where it ended before.
    fn hand_over(&mut self) -> Result<(), RecordError> {
        let Some(sink) = &mut self.sink else { return Ok(()) };
        let room = match &mut self.target {
            Target::Folder(folder) => folder.make_room(sink, self.buffer.len() as u64),
            _ => Ok(()),
        };
        if let Err(error) = room.and_then(|()| sink.write(&self.buffer)) {
            self.forget_unwritten();
            return Err(error);
        }
        self.bytes += self.buffer.len() as u64;
        Ok(())
    }

    fn end_file(&mut self) {
        self.buffer.clear();
        self.writer.finish(&mut self.buffer);
        // Without its last index a file is only read more slowly.
        let _ = self.hand_over();
        let Some(sink) = self.sink.take() else { return };
        if let Target::Folder(folder) = &mut self.target {
            folder.end_segment(&sink);
        }
        sink.finish_later();
    }

    /// Makes sure that everything is on the disk and gives an account.
    pub fn finish(mut self) -> Result<String, RecordError> {
        let tiers = std::mem::take(&mut self.tiers);
        let (account, tiers) = (self.finish_own()?, tiers.into_iter().map(Tier::finish));
        // What is kept longer is told where something went wrong.
        tiers.collect::<Result<Vec<()>, _>>().map(|_| account)
    }

    fn finish_own(mut self) -> Result<String, RecordError> {
        self.look_for_truncation()?;
        self.buffer.clear();
        self.writer.finish(&mut self.buffer);
        match self.hand_over() {
            Ok(()) | Err(RecordError::PipeClosed) => {}
            Err(_) if self.missing.is_some() => {}
            Err(error) => return Err(error),
        }
        let safe = self.sink.take().map_or(Ok(()), Sink::finish);
        let account = self.account();
        match safe {
            Ok(()) => Ok(account),
            Err(error) => Err(RecordError::NotSafe { account, error }),
        }
    }

    fn account(&self) -> String {
        let readings =
            if self.readings == 1 { "1 reading".to_owned() } else { format!("{} readings", self.readings) };
        let files = if self.files > 1 { format!(" ({} files)", self.files) } else { String::new() };
        let lost = match &self.missing {
            _ if self.lost == 0 => String::new(),
            Some((_, reason)) => format!("; {} lost: {reason}", self.lost),
            None => format!("; {} lost", self.lost),
        };
        let bytes = long_bytes(self.bytes as f64);
        format!("{readings}, {bytes} in {}{files}{lost}", self.path().display())
    }
}
