//! The same samples for another thread: what is in memory is copied, recordings are found anew there.

use super::Timeline;
use super::memory::Memory;
use super::moment::Moment;
use super::progress::Progress;
use crate::reading::HostFacts;
use crate::recording::Frames;
use std::collections::VecDeque;
use std::io;
use std::ops::Range;
use std::sync::Arc;

/// Frames that can be stopped.
struct Watched(Arc<dyn Frames>, Arc<Progress>);

impl Frames for Watched {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.1.count()?;
        self.0.bytes_at(offset, buffer)
    }

    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
        self.1.count()?;
        self.0.some_at(offset, buffer)
    }

    fn data_from(&self, offset: u64) -> u64 {
        self.0.data_from(offset)
    }
}

/// What another thread needs.
pub struct TimelineCopy {
    host: Arc<HostFacts>,
    recordings: Vec<Arc<dyn Frames>>,
    live: Option<Box<Memory>>,
    /// Those of the live readings.
    moments: VecDeque<Moment>,
}

impl Timeline {
    /// The samples as they are now, for another thread.
    pub fn copy(&self, progress: &Arc<Progress>) -> TimelineCopy {
        let watched = |frames: &Arc<dyn Frames>| -> Arc<dyn Frames> {
            Arc::new(Watched(frames.clone(), progress.clone()))
        };
        TimelineCopy {
            host: self.host.clone(),
            recordings: self.past.iter().map(|segment| watched(segment.frames())).collect(),
            live: self.live.as_ref().map(|memory| Box::new(memory.copy(progress))),
            moments: self.moments.range(self.in_past..).cloned().collect(),
        }
    }
}

impl TimelineCopy {
    /// The samples between two instants of the wall clock, both of them among these, with the timeline that they are in. Numbers are
    /// its own: a recording that has grown meanwhile has more.
    pub fn open(self, from_ns: i64, until_ns: i64) -> (Timeline, Range<usize>) {
        let mut timeline = Timeline::new(Arc::default());
        let _ = timeline.open_all(self.recordings);
        timeline.host = self.host;
        timeline.live = self.live;
        timeline.moments.extend(self.moments);
        let numbers = timeline.at(from_ns)..timeline.at(until_ns) + 1;
        let numbers = numbers.start.max(timeline.first())..numbers.end.min(timeline.end());
        (timeline, numbers)
    }
}
