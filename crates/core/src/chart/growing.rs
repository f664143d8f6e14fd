//! Values of series while a timeline is gone through.

use super::series::Point;
use crate::catalogue::Value;
use crate::rank::Total;
use crate::text::Text;
use std::collections::{BTreeMap, HashMap};

/// Programs and processes of which values are kept while a timeline is gone through; of more the smallest give way, and
/// are part of what is left.
const KEPT: usize = 2_000;
/// What those that are too small to be kept are called.
pub(super) const OTHERS: &str = "others";

#[derive(Clone, Copy)]
pub(super) struct Gathering {
    point: Point,
    sum: f64,
    pub(super) seconds: f64,
    known: usize,
}

impl Gathering {
    fn join(&mut self, later: &Gathering) {
        self.point.from_ns = self.point.from_ns.min(later.point.from_ns);
        self.point.until_ns = self.point.until_ns.max(later.point.until_ns);
        self.point.low = self.point.low.min(later.point.low);
        self.point.high = self.point.high.max(later.point.high);
        self.sum += later.sum;
        self.seconds += later.seconds;
        self.known += later.known;
    }

    /// Another one of the same time, which is added to this one.
    pub(super) fn add(&mut self, other: &Gathering) {
        self.point.from_ns = self.point.from_ns.min(other.point.from_ns);
        self.point.until_ns = self.point.until_ns.max(other.point.until_ns);
        self.point.high += other.point.high;
        self.point.mean += other.point.mean;
        self.sum += other.sum;
        self.seconds = self.seconds.max(other.seconds);
        self.known = self.known.max(other.known);
    }
}

/// When a sample was, and which of the points it belongs to.
#[derive(Clone, Copy)]
pub(super) struct Time {
    pub(super) slot: usize,
    pub(super) from_ns: i64,
    pub(super) until_ns: i64,
    pub(super) seconds: f64,
}

/// Values of one series while it is gathered.
#[derive(Default)]
pub(super) struct Growing {
    /// By the number of their point, ascending.
    pub(super) points: Vec<(usize, Gathering)>,
    pub(super) denied: usize,
    pub(super) at_least: bool,
}

impl Growing {
    pub(super) fn put(&mut self, time: Time, value: &Value) {
        match value {
            Value::Number(value) if value.is_finite() => {
                let Time { slot, from_ns, until_ns, seconds } = time;
                let point = Point { from_ns, until_ns, low: *value, high: *value, mean: *value };
                self.push(slot, Gathering { point, sum: value * seconds, seconds, known: 1 });
            }
            Value::Denied => self.denied += 1,
            _ => {}
        }
    }

    fn push(&mut self, slot: usize, one: Gathering) {
        match self.points.last_mut() {
            Some((last, all)) if *last == slot => all.join(&one),
            _ => self.points.push((slot, one)),
        }
    }

    /// What comes after it in time.
    pub(super) fn append(&mut self, later: Growing) {
        self.denied += later.denied;
        self.at_least |= later.at_least;
        later.points.into_iter().for_each(|(slot, one)| self.push(slot, one));
    }

    /// Another one of the same time, which is added to this one.
    pub(super) fn add(&mut self, other: Growing) {
        self.denied += other.denied;
        self.at_least |= other.at_least;
        let mut all: BTreeMap<usize, Gathering> = std::mem::take(&mut self.points).into_iter().collect();
        for (slot, one) in other.points {
            all.entry(slot).and_modify(|all| all.add(&one)).or_insert(one);
        }
        self.points = all.into_iter().collect();
    }

    fn weight(&self) -> f64 {
        self.points.iter().map(|(_, point)| point.sum).sum()
    }
}

/// The series of one wish, by name.
#[derive(Default)]
pub(super) struct OfWish {
    ids: HashMap<Text, usize>,
    pub(super) names: Vec<Text>,
    pub(super) series: Vec<Growing>,
    /// Which series each process of the sample before belongs to.
    pub(super) rows: Vec<usize>,
    /// The same where there is one series of all that are meant.
    pub(super) meant: Vec<Resting>,
    /// Places of those of them that did something when they were looked at last.
    pub(super) restless: Vec<usize>,
    /// What those have whose counters stand still, and how many they are: nothing, or it is not known, or not permitted.
    pub(super) resting: Vec<(Total, usize)>,
}

/// What is known of a process of the sample before.
#[derive(Clone, Copy)]
pub(super) enum Resting {
    /// It is not meant.
    NotMeant,
    /// It is, and did something when it was looked at last.
    Unknown,
    /// As long as it does nothing, it has what stands in this place among what those have who rest.
    Known(usize),
}

impl OfWish {
    pub(super) fn id(&mut self, name: &Text) -> usize {
        if let Some(id) = self.ids.get(name) {
            return *id;
        }
        let id = self.names.len();
        self.ids.insert(name.clone(), id);
        self.names.push(name.clone());
        self.series.push(Growing::default());
        id
    }

    pub(super) fn put(&mut self, name: &Text, time: Time, value: &Value) {
        let id = self.id(name);
        self.series[id].put(time, value);
    }

    /// How one rests that has this.
    pub(super) fn rests(&mut self, total: &Total) -> Resting {
        let known = self.resting.iter().position(|(one, _)| one == total);
        let how = known.unwrap_or_else(|| {
            self.resting.push((total.clone(), 0));
            self.resting.len() - 1
        });
        self.resting[how].1 += 1;
        Resting::Known(how)
    }

    /// Where there are too many, the smallest become one.
    pub(super) fn keep_few(&mut self) {
        if self.names.len() <= 2 * KEPT {
            return;
        }
        let weights: Vec<f64> = self.series.iter().map(Growing::weight).collect();
        let mut sorted = weights.clone();
        let at = sorted.len() - KEPT;
        sorted.select_nth_unstable_by(at, f64::total_cmp);
        let least = sorted[at];
        let before = std::mem::take(self);
        let others = Text::from(OTHERS);
        for ((name, series), weight) in before.names.iter().zip(before.series).zip(weights) {
            if weight >= least {
                let id = self.id(name);
                self.series[id].append(series);
            } else {
                let id = self.id(&others);
                self.series[id].add(series);
            }
        }
    }
}

/// A point of what was gathered. A part of a whole that is not there in some samples of the slot has nothing in them.
pub(super) fn point(gathering: &Gathering, slot: Option<&(i64, i64, f64, usize)>) -> Point {
    let Gathering { point, sum, seconds, known } = *gathering;
    let Some((from_ns, until_ns, whole, samples)) = slot.copied() else {
        return Point { mean: if seconds > 0.0 { sum / seconds } else { point.mean }, ..point };
    };
    let share = known.min(samples) as f64 / samples.max(1) as f64;
    let mean = if whole > 0.0 { sum / whole } else { point.mean * share };
    let low = if known < samples { 0.0 } else { point.low };
    Point { from_ns, until_ns, low, high: point.high, mean }
}
