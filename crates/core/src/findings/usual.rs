//! What is usual on a machine at an hour of the day: from what the lanes showed at the same hour of the days before, which the
//! indexes of recordings tell without decoding a reading.

use super::rule::About;
use crate::known::Known;
use crate::lane::{Lane, PerLane, Point};
use crate::timeline::Timeline;
use crate::units::NANOS;

/// Days that are looked at.
const DAYS: i64 = 14;
/// So many of them at least make a custom.
const ENOUGH: usize = 3;
/// How far before and behind the same time of a day it is still the same hour.
const AROUND: i64 = 1_800 * NANOS;
const DAY: i64 = 86_400 * NANOS;
/// Samples of a day that say something about it.
const LEAST: usize = 20;
/// Part of what fills a lane by which a value may be above what is usual and still be so.
const ROOM: f64 = 0.05;

/// What a lane has at this hour on most days.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Normal {
    /// What it has mostly, on the day when that was least.
    pub low: f64,
    /// What it seldom goes beyond, on the day when that was most.
    pub high: f64,
    /// Of how many days that is known.
    pub days: usize,
}

/// What is usual at an hour.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Usual {
    hour: i64,
    lanes: PerLane<Option<Normal>>,
}

/// The hour that an instant is in, since 1970.
pub fn hour_of(wall_ns: i64) -> i64 {
    wall_ns.div_euclid(3_600 * NANOS)
}

/// The spans of the days before that are the same hour as an instant's, the latest first.
pub fn same_hours(wall_ns: i64) -> impl Iterator<Item = (i64, i64)> {
    (1..=DAYS).map(move |day| {
        let then = wall_ns.saturating_sub(day * DAY);
        (then.saturating_sub(AROUND), then.saturating_add(AROUND))
    })
}

impl Usual {
    /// What is usual at the hour of an instant.
    pub fn of(timeline: &Timeline, wall_ns: i64) -> Usual {
        let hour = hour_of(wall_ns);
        // The middle of the hour, so that the whole of it is told the same.
        let middle = hour.saturating_mul(3_600 * NANOS).saturating_add(AROUND);
        let mut days: PerLane<Vec<(f64, f64)>> = PerLane::default();
        for (from, until) in same_hours(middle) {
            let begin = timeline.at(from);
            let of_day = (begin..timeline.end()).map_while(|number| timeline.moment(number));
            let of_day = of_day.skip_while(|moment| moment.wall_ns < from);
            let mut values: PerLane<Vec<f64>> = PerLane::default();
            for moment in of_day.take_while(|moment| moment.wall_ns < until) {
                for lane in Lane::ALL {
                    values[lane].extend(moment.point(lane).value.value());
                }
            }
            for lane in Lane::ALL {
                let values = &mut values[lane];
                if values.len() < LEAST {
                    continue;
                }
                values.sort_by(f64::total_cmp);
                let at = |part: f64| values[((values.len() - 1) as f64 * part) as usize];
                days[lane].push((at(0.25), at(0.9)));
            }
        }
        let lanes = PerLane::from_fn(|lane| {
            let days = &days[lane];
            (days.len() >= ENOUGH).then(|| Normal {
                low: days.iter().map(|day| day.0).fold(f64::INFINITY, f64::min),
                high: days.iter().map(|day| day.1).fold(0.0, f64::max),
                days: days.len(),
            })
        });
        Usual { hour, lanes }
    }

    /// The hour that it is of, since 1970.
    pub fn hour(&self) -> i64 {
        self.hour
    }

    /// What a lane has at this hour; none where that is not known.
    pub fn lane(&self, lane: Lane) -> Option<Normal> {
        self.lanes[lane]
    }

    /// What is said of what a rule found, and whether it is usual; none where the lane does not measure it, or nothing is known
    /// of the days before.
    pub fn says(&self, about: &About, now: &Point) -> Option<(String, bool)> {
        let lane = about.lane;
        let normal = self.lane(lane).filter(|_| about.is_of_lane)?;
        let value = now.value.value()?;
        let room = now.full.value().unwrap_or(normal.high) * ROOM;
        let label = |value: f64| lane.label(&Point { value: Known::Value(value), ..*now });
        let (low, high) = (label(normal.low), label(normal.high));
        // `8 to 20 %`, and both units where they differ.
        let low = match (low.split_once(' '), high.split_once(' ')) {
            (Some((number, unit)), Some((_, other))) if unit == other => number.to_owned(),
            _ => low,
        };
        let days = normal.days;
        Some(if value <= normal.high + room {
            (format!(" Usual at this hour: {low} to {high} on the last {days} days."), true)
        } else {
            (format!(" On the last {days} days at this hour: {low} to {high}."), false)
        })
    }
}
