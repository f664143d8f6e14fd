//! Values over time, as they are drawn.

use crate::catalogue::Metric;
use crate::units::NANOS;

/// Values of one or several samples.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// Where the first sample begins.
    pub from_ns: i64,
    /// The instant of the last.
    pub until_ns: i64,
    /// The smallest value.
    pub low: f64,
    /// The largest.
    pub high: f64,
    /// The mean over time. Of a part of a whole over all the time, so that parts add up.
    pub mean: f64,
}

/// Values over time.
#[derive(Clone, Debug, PartialEq)]
pub struct Series {
    /// The metric.
    pub metric: &'static Metric,
    /// Of what: an instance, a program, a process; empty for the machine.
    pub name: String,
    /// In the order of time; where nothing is known there are none.
    pub points: Vec<Point>,
    /// Samples in which it is not permitted to see it.
    pub denied: usize,
    /// Some values are only the least that they may be.
    pub at_least: bool,
}

impl Series {
    /// Whether the values go on from one point to the next: nothing between them is missing.
    pub fn joined(before: &Point, next: &Point) -> bool {
        next.from_ns - before.until_ns <= NANOS / 4
    }

    /// The parts without a gap within.
    pub fn runs(&self) -> impl Iterator<Item = &[Point]> {
        self.points.chunk_by(Series::joined)
    }

    /// The largest value.
    pub fn most(&self) -> f64 {
        self.points.iter().map(|point| point.high).fold(0.0, f64::max)
    }
}
