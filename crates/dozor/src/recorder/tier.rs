//! What a folder keeps longer: fewer readings, each of which stands for those since the one before.

use super::error::RecordError;
use super::folder::{Bounds, Folder};
use super::{Recorder, Target, Written};
use dozor_core::lane::PerLane;
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::{Mark, Writer};
use dozor_core::thinning::{Thinned, Thinner, for_years};
use dozor_core::timeline::Moment;
use dozor_core::units::long_duration;
use std::sync::Arc;
use std::time::Duration;

/// How long thinned readings are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Then {
    /// Time between them.
    pub step: Duration,
    /// Those older than this go.
    pub keep: Duration,
}

/// Thinned readings on their way into a folder.
pub struct Tier {
    then: Then,
    thinner: Thinner,
    recorder: Recorder,
    /// Some were lost since the last one that was written, and are told with the next.
    lost: bool,
}

impl Tier {
    /// Thinned readings in a folder, one of so many tiers: all of them together may take half of its limit.
    pub fn beside(
        folder: &Folder,
        (then, tiers): (Then, usize),
        host: &Arc<HostFacts>,
    ) -> Result<Tier, RecordError> {
        let bounds = Bounds {
            keep: Some(then.keep),
            limit: folder.bounds().limit.map(|limit| limit / (2 * tiers as u64)),
            segment: None,
            step: Some(then.step.as_secs()),
        };
        let target = Target::Folder(folder.beside(bounds)?);
        let writer = Writer::new(host.clone(), Some(then.step)).of_thinned();
        let thinner = Thinner::new(i64::try_from(then.step.as_nanos()).unwrap_or(i64::MAX));
        Ok(Tier { then, thinner, recorder: Recorder::of(target, writer, None), lost: false })
    }

    /// Takes in a reading that was written, and what the lanes show of it.
    pub fn take(&mut self, reading: &Arc<Reading>, shown: Option<&Moment>) -> Result<Written, RecordError> {
        let Some(shown) = shown else { return Ok(Written::Done) };
        let points = PerLane::from_fn(|lane| shown.peak(lane));
        match self.thinner.take(reading, &points) {
            Some(thinned) => self.write(&thinned),
            None => Ok(Written::Done),
        }
    }

    fn write(&mut self, thinned: &Thinned) -> Result<Written, RecordError> {
        let kept = Arc::new(for_years(&thinned.reading));
        Ok(match self.recorder.write_given((kept, Some(thinned.peaks)))? {
            // That was told when it happened, and of all that is recorded.
            Written::Again(..) if std::mem::take(&mut self.lost) => Written::Done,
            Written::Lost(reason, first) => {
                let step = long_duration(self.then.step.as_secs_f64());
                Written::Lost(format!("of what is kept at {step}: {reason}"), first)
            }
            written => written,
        })
    }

    /// Readings were lost behind those that were taken in.
    pub fn lose(&mut self, readings: u64, reason: &str) {
        if let Some(thinned) = self.thinner.break_off() {
            // What cannot be written is lost with the others.
            let _ = self.write(&thinned);
        }
        self.lost = true;
        self.recorder.lose(readings, reason.to_owned());
    }

    /// Writes a mark.
    pub fn mark(&mut self, mark: &Mark) -> Result<(), RecordError> {
        self.recorder.mark(mark)
    }

    /// Bytes that it has on the disk.
    pub fn bytes(&self) -> u64 {
        match &self.recorder.target {
            Target::Folder(folder) => folder.bytes(self.recorder.sink.as_ref()),
            _ => 0,
        }
    }

    /// Writes what stands for the readings since the last one, and makes sure that everything is on the disk.
    pub fn finish(mut self) -> Result<(), RecordError> {
        if let Some(thinned) = self.thinner.finish() {
            self.write(&thinned)?;
        }
        self.recorder.finish_own().map(drop)
    }
}
