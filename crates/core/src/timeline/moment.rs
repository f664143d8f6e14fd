//! What the lanes show of one sample, in little room: a month of them is kept.

use crate::known::Known;
use crate::lane::{Lane, PerLane, Point, Severity};
use crate::sample::Sample;

/// A value of a lane in four bytes; what is not there and what is not permitted are numbers that are none.
#[derive(Clone, Copy, Debug)]
struct Short(f32);

const ABSENT: u32 = 0x7fc0_0001;
const DENIED: u32 = 0x7fc0_0002;

impl Short {
    fn new(value: Known<f64>) -> Short {
        Short(match value {
            Known::Value(value) => value as f32,
            Known::Absent => f32::from_bits(ABSENT),
            Known::Denied => f32::from_bits(DENIED),
        })
    }

    fn get(self) -> Known<f64> {
        match self.0.to_bits() {
            ABSENT => Known::Absent,
            DENIED => Known::Denied,
            _ => Known::Value(f64::from(self.0)),
        }
    }
}

impl PartialEq for Short {
    fn eq(&self, other: &Short) -> bool {
        self.0.to_bits() == other.0.to_bits()
    }
}

/// A [`Point`] in little room.
#[derive(Clone, Copy, Debug, PartialEq)]
struct ShortPoint {
    value: Short,
    full: Short,
    severity: Severity,
}

impl ShortPoint {
    fn new(point: &Point) -> ShortPoint {
        ShortPoint { value: Short::new(point.value), full: Short::new(point.full), severity: point.severity }
    }

    fn get(self) -> Point {
        Point { value: self.value.get(), full: self.full.get(), severity: self.severity }
    }
}

/// One sample on the lanes.
#[derive(Clone, Debug, PartialEq)]
pub struct Moment {
    /// Wall clock in nanoseconds since 1970 (UTC).
    pub wall_ns: i64,
    /// Seconds that the sample covers, up to its instant; none after a gap.
    pub seconds: Option<f64>,
    /// Readings just before it are lost.
    pub lost: bool,
    points: PerLane<ShortPoint>,
    /// The highest points within the sample, where readings were thinned.
    peaks: Option<Box<PerLane<ShortPoint>>>,
}

impl Moment {
    /// What a sample shows on the lanes.
    pub fn new(wall_ns: i64, seconds: Option<f64>, lost: bool, points: &PerLane<Point>) -> Moment {
        let points = PerLane::from_fn(|lane| ShortPoint::new(&points[lane]));
        Moment { wall_ns, seconds, lost, points, peaks: None }
    }

    /// The moment of a sample.
    pub fn of(sample: &Sample, lost: bool) -> Moment {
        let points = PerLane::from_fn(|lane| lane.point(sample));
        Moment::new(sample.now.wall_ns(), sample.seconds(), lost, &points)
    }

    /// A reading that is there and makes no sense.
    pub fn unreadable(wall_ns: i64) -> Moment {
        let nothing = Point { value: Known::Absent, full: Known::Absent, severity: Severity::Fine };
        Moment::new(wall_ns, None, true, &PerLane::from_fn(|_| nothing))
    }

    /// What a lane shows.
    pub fn point(&self, lane: Lane) -> Point {
        self.points[lane].get()
    }

    /// The highest that a lane had within the sample: another than [`Moment::point`] only where readings were thinned.
    pub fn peak(&self, lane: Lane) -> Point {
        self.peaks.as_ref().map_or(self.points[lane], |peaks| peaks[lane]).get()
    }

    /// The worst of its lanes.
    pub fn severity(&self) -> Severity {
        Lane::ALL.into_iter().map(|lane| self.peak(lane).severity).max().unwrap_or_default()
    }

    /// The moment with the highest points of those that it stands for.
    #[must_use]
    pub fn standing_for(self, moments: &[Moment]) -> Moment {
        moments.iter().fold(self, |all, one| all.with_peaks(&PerLane::from_fn(|lane| one.peak(lane))))
    }

    /// The moment with these points where they are higher, or worse.
    #[must_use]
    pub fn with_peaks(mut self, points: &PerLane<Point>) -> Moment {
        let mut peaks = self.peaks.as_deref().copied().unwrap_or(self.points);
        for (lane, point) in points.iter() {
            let peak = &mut peaks[lane];
            peak.severity = peak.severity.max(point.severity);
            if point.value.value() > peak.value.get().value() {
                (peak.value, peak.full) = (Short::new(point.value), Short::new(point.full));
            }
        }
        self.peaks = (peaks != self.points).then(|| Box::new(peaks));
        self
    }
}
