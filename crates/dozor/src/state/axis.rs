//! The time axis of the strips: which span of time each column stands for, and what the strips show there.

use dozor_core::known::Known;
use dozor_core::lane::{Lane, PerLane, Severity};
use dozor_core::timeline::{Moment, Timeline};
use std::time::Duration;

/// The paper moves by this part of its width at a time, so that between two moves only the pen does.
const MOVES: u16 = 12;
const NANOS: i64 = 1_000_000_000;
/// Spans of a column that zooming goes through, in seconds; before them stands the interval between readings.
const SPANS: [u64; 11] = [1, 2, 5, 10, 30, 60, 300, 600, 1_800, 3_600, 10_800];

/// How much time a column stands for, and how several samples become one column.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Zoom {
    /// Time of a column; none is one reading.
    pub span: Option<Duration>,
    /// The mean of the column's samples, else the largest of them.
    pub mean: bool,
}

impl Zoom {
    /// More or less time on the strips.
    #[must_use]
    pub fn step(self, wider: bool, every: Duration) -> Zoom {
        let spans = SPANS.map(Duration::from_secs).into_iter().filter(|span| *span > every);
        let span = match (self.span.filter(|span| *span > every), wider) {
            (None, true) => spans.min(),
            (None, false) => None,
            (Some(now), true) => spans.filter(|span| *span > now).min().or(Some(now)),
            (Some(now), false) => spans.filter(|span| *span < now).max(),
        };
        Zoom { span, ..self }
    }
}

/// The span of time that the strips show: each column ends one step after the one before.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Axis {
    /// Wall clock at the right edge, in nanoseconds.
    pub end: i64,
    /// Nanoseconds of a column.
    pub step: i64,
    /// Columns.
    pub columns: u16,
}

impl Axis {
    /// Reaches to the newest sample; when the shown one is not among the columns then, it goes back to it.
    pub fn new(timeline: &Timeline, shown: usize, zoom: Zoom, every: Duration, columns: u16) -> Option<Axis> {
        let newest = timeline.moment(timeline.end().checked_sub(1)?)?.wall_ns;
        let shown = timeline.moment(shown)?.wall_ns;
        let step = zoom.span.unwrap_or(every).max(every.min(Duration::from_millis(200)));
        let step = (step.as_nanos() as i64).max(NANOS / 20);
        // The edge stands at whole steps, so that columns do not change their content while time goes on.
        let jump = step * i64::from((columns / MOVES).max(1));
        let mut end = newest.div_euclid(jump) * jump + jump;
        let span = step * i64::from(columns);
        if shown < end - span + step {
            end = ((shown + span / 2).div_euclid(jump) * jump + jump).min(end);
        }
        Some(Axis { end, step, columns })
    }

    /// The column of an instant.
    pub fn column(&self, wall: i64) -> Option<u16> {
        let from_end = (self.end - 1 - wall).div_euclid(self.step);
        u16::try_from(from_end).ok().filter(|at| *at < self.columns).map(|at| self.columns - 1 - at)
    }

    /// The first instant of a column.
    pub fn begin(&self, column: u16) -> i64 {
        self.end - self.step * i64::from(self.columns - column)
    }

    /// Number of the sample that a click on a column means: the last one in it, or before it.
    pub fn sample_at(&self, timeline: &Timeline, column: u16) -> Option<usize> {
        let wall = self.begin(column) + self.step - 1;
        (wall >= timeline.moment(timeline.first())?.wall_ns).then(|| timeline.at(wall))
    }

    /// Round times in the shown zone, far enough from each other, as columns and instants.
    pub fn ticks(&self, offset_seconds: i64) -> Vec<(u16, i64)> {
        const STEPS: [i64; 11] = [10, 30, 60, 120, 300, 600, 1_800, 3_600, 10_800, 21_600, 43_200];
        const APART: i64 = 14;
        let tick = STEPS.iter().map(|seconds| seconds * NANOS).find(|tick| tick / self.step >= APART);
        let tick = tick.unwrap_or(86_400 * NANOS);
        let offset = offset_seconds * NANOS;
        let mut wall = (self.begin(0) + offset).div_euclid(tick) * tick + tick - offset;
        let mut ticks = vec![];
        while let Some(column) = self.column(wall) {
            ticks.push((column, wall));
            wall += tick;
        }
        ticks
    }

    /// Whether ticks are so near that their seconds matter.
    pub fn shows_seconds(&self) -> bool {
        self.step < 4 * NANOS
    }
}

/// What a strip shows in one column.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub enum Bar {
    /// Before the beginning or after the end.
    #[default]
    Nothing,
    /// A gap, or a value that is not known.
    Gap,
    /// Not permitted.
    Denied,
    /// A value.
    Value {
        /// In the lane's unit.
        value: f64,
        /// What fills the lane, where that is known.
        full: Option<f64>,
        /// The worst in the column.
        severity: Severity,
    },
}

/// The strips of all lanes, worked out once for each new sample.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Strips {
    /// The axis that they are for.
    pub axis: Option<Axis>,
    mean: bool,
    end: usize,
    /// A bar for each column.
    pub bars: PerLane<Vec<Bar>>,
}

impl Strips {
    /// Works them out anew where anything changed.
    pub fn follow(&mut self, state_axis: Option<Axis>, zoom: Zoom, timeline: &Timeline) {
        if self.axis == state_axis && self.mean == zoom.mean && self.end == timeline.end() {
            return;
        }
        (self.axis, self.mean, self.end) = (state_axis, zoom.mean, timeline.end());
        let Some(axis) = state_axis else {
            self.bars = PerLane::default();
            return;
        };
        let moments = by_column(timeline, &axis);
        self.bars =
            PerLane::from_fn(|lane| moments.iter().map(|moments| bar(moments, lane, zoom.mean)).collect());
    }
}

/// Samples of each column. A sample stands for the time since the one before, so it fills all columns of that time.
pub fn by_column<'a>(timeline: &'a Timeline, axis: &Axis) -> Vec<Vec<&'a Moment>> {
    let mut columns = vec![vec![]; usize::from(axis.columns)];
    for number in timeline.at(axis.begin(0))..timeline.end() {
        let Some(moment) = timeline.moment(number) else { break };
        if moment.wall_ns >= axis.end {
            break;
        }
        // Over a gap nothing is known; the time before it is one as well.
        let before = number.checked_sub(1).and_then(|before| timeline.moment(before));
        let since_before = before.map_or(0, |before| moment.wall_ns - before.wall_ns);
        let covered = moment.seconds.map_or(since_before, |seconds| (seconds * 1e9) as i64).max(0);
        let begin = (moment.wall_ns - covered + axis.step).min(moment.wall_ns).max(axis.begin(0));
        if let (Some(begin), Some(last)) = (axis.column(begin), axis.column(moment.wall_ns)) {
            for column in &mut columns[usize::from(begin)..=usize::from(last)] {
                column.push(moment);
            }
        }
    }
    columns
}

/// What a lane shows in a column of these moments: the mean over time, else the largest.
pub fn bar(moments: &[&Moment], lane: Lane, mean: bool) -> Bar {
    let mut found: Option<(f64, f64, Option<f64>, Severity)> = None;
    let mut missing = Bar::Nothing;
    for moment in moments {
        let point = if mean { moment.point(lane) } else { moment.peak(lane) };
        let value = match point.value {
            Known::Value(value) => value,
            Known::Denied => {
                missing = Bar::Denied;
                continue;
            }
            Known::Absent => {
                // A lane without its resource stays empty; a sample without rates is a gap.
                if moment.seconds.is_none() && missing == Bar::Nothing {
                    missing = Bar::Gap;
                }
                continue;
            }
        };
        let full = point.full.value().filter(|full| *full > 0.0);
        let weight = if mean { moment.seconds.unwrap_or(1.0) } else { 1.0 };
        found = Some(match found {
            None => (value * weight, weight, full, point.severity),
            Some((sum, all, before, severity)) if mean => {
                (sum + value * weight, all + weight, full.or(before), severity.max(point.severity))
            }
            Some((most, all, before, severity)) => {
                (most.max(value), all, full.or(before), severity.max(point.severity))
            }
        });
    }
    match found {
        Some((sum, all, full, severity)) => {
            let value = if mean { sum / all.max(f64::EPSILON) } else { sum };
            Bar::Value { value, full, severity }
        }
        None => missing,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::lane::Point;
    use proptest::prelude::*;

    fn moment(value: Known<f64>, seconds: Option<f64>) -> Moment {
        let point = Point { value, full: Known::Value(100.0), severity: Severity::Fine };
        Moment::new(0, seconds, false, &PerLane::from_fn(|_| point))
    }

    #[test]
    fn a_column_is_the_largest_or_the_mean_over_time_of_its_samples() {
        let (short, long) = (moment(Known::Value(90.0), Some(1.0)), moment(Known::Value(10.0), Some(3.0)));
        let value = |mean| match bar(&[&short, &long], Lane::Cpu, mean) {
            Bar::Value { value, .. } => value,
            other => panic!("{other:?}"),
        };
        assert_eq!((value(false), value(true)), (90.0, 30.0));
    }

    #[test]
    fn a_gap_a_denial_and_zero_are_three_things() {
        assert_eq!(bar(&[&moment(Known::Absent, None)], Lane::Cpu, false), Bar::Gap);
        assert_eq!(bar(&[&moment(Known::Denied, Some(1.0))], Lane::Cpu, false), Bar::Denied);
        assert_eq!(bar(&[], Lane::Cpu, false), Bar::Nothing);
        let zero = bar(&[&moment(Known::Value(0.0), Some(1.0))], Lane::Cpu, false);
        assert!(matches!(zero, Bar::Value { value: 0.0, .. }));
    }

    #[test]
    fn zooming_goes_from_one_reading_to_hours_and_back() {
        let every = Duration::from_secs(2);
        let mut zoom = Zoom::default();
        let mut spans = vec![];
        for _ in 0..12 {
            zoom = zoom.step(true, every);
            spans.push(zoom.span.expect("a span").as_secs());
        }
        assert_eq!(spans[..3], [5, 10, 30]);
        assert_eq!(spans[11], 10_800, "the widest is the end");
        for _ in 0..12 {
            zoom = zoom.step(false, every);
        }
        assert_eq!(zoom, Zoom::default());
    }

    proptest! {
        #[test]
        fn every_instant_of_the_axis_is_in_exactly_one_column(
            end in 1_000_000_000_000i64..2_000_000_000_000_000_000,
            step in 50_000_000i64..20_000_000_000_000,
            columns in 1u16..240,
            part in 0.0f64..1.0,
        ) {
            let axis = Axis { end, step, columns };
            let begin = axis.begin(0);
            let wall = begin + ((end - begin - 1) as f64 * part) as i64;
            let column = axis.column(wall).expect("within");
            prop_assert!(axis.begin(column) <= wall && wall < axis.begin(column) + step);
            prop_assert_eq!(axis.column(end), None);
            prop_assert_eq!(axis.column(begin - 1), None);
        }

        #[test]
        fn ticks_are_round_far_apart_and_on_the_axis(
            end in 1_000_000_000_000_000_000i64..2_000_000_000_000_000_000,
            step in 1_000_000_000i64..600_000_000_000,
            columns in 60u16..240,
            offset in -12i64..14,
        ) {
            let axis = Axis { end, step, columns };
            let ticks = axis.ticks(offset * 3600);
            for (column, wall) in &ticks {
                prop_assert_eq!(axis.column(*wall), Some(*column));
                prop_assert_eq!((wall / NANOS + offset * 3600) % 10, 0);
            }
            for pair in ticks.windows(2) {
                prop_assert!(pair[1].0 - pair[0].0 >= 12, "{:?}", ticks);
            }
        }
    }
}
