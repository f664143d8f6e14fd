//! The overview strip: all of a recording on one line, with the part of it that the other strips show.

use crate::state::axis::{Axis, Bar, Zoom, bar, by_column};
use dozor_core::lane::Lane;
use dozor_core::timeline::Timeline;

/// The strip, worked out once for each new sample.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Overview {
    /// All the time there is.
    pub axis: Option<Axis>,
    /// The lane that it shows.
    pub lane: Option<Lane>,
    end: usize,
    /// A mark for each column.
    pub bars: Vec<Bar>,
    /// Gaps in it.
    pub gaps: usize,
}

impl Overview {
    /// Works it out anew where anything changed.
    pub fn follow(&mut self, columns: Option<u16>, lane: Option<Lane>, timeline: &Timeline) {
        let lane = lane.unwrap_or(Lane::Cpu);
        let axis = columns.and_then(|columns| whole(timeline, columns));
        if self.axis == axis && self.lane == Some(lane) && self.end == timeline.end() {
            return;
        }
        (self.axis, self.lane, self.end) = (axis, Some(lane), timeline.end());
        self.bars.clear();
        if let Some(axis) = &axis {
            let moments = by_column(timeline, axis);
            self.bars.extend(moments.iter().map(|moments| bar(moments, lane, Zoom::default().mean)));
        }
        let numbers = timeline.first() + 1..timeline.end();
        self.gaps =
            numbers.filter(|number| timeline.moment(*number).is_some_and(|m| m.seconds.is_none())).count();
    }
}

/// The axis from the first to the last sample.
fn whole(timeline: &Timeline, columns: u16) -> Option<Axis> {
    let begin = timeline.moment(timeline.first())?.wall_ns;
    let last = timeline.moment(timeline.end().checked_sub(1)?)?.wall_ns;
    // The last instant belongs to the last column.
    let span = (last - begin + 1).max(1);
    let step = (span + i64::from(columns) - 1) / i64::from(columns.max(1));
    Some(Axis { end: begin + step * i64::from(columns), step, columns })
}
