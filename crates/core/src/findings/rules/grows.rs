//! Levels of processes that only grow: how long, how much, how fast.

use crate::findings::scene::Scene;
use crate::reading::ProcessKey;
use crate::row::Row as _;
use crate::sample::ProcessView;
use crate::units::NANOS;
use std::collections::HashMap;

/// A level that has been growing.
#[derive(Clone, Copy, Debug)]
pub struct Growth {
    first: f64,
    first_ns: i64,
    last: f64,
    last_ns: i64,
    /// Seconds in which it grew.
    grew: f64,
    /// How fast it grew lately, a second.
    recent: f64,
    /// When it last grew.
    grew_ns: i64,
}

impl Growth {
    /// One that begins now.
    fn beginning(value: f64, now: i64) -> Growth {
        Growth {
            first: value,
            first_ns: now,
            last: value,
            last_ns: now,
            grew: 0.0,
            recent: 0.0,
            grew_ns: now,
        }
    }

    /// Whether it grew for long enough to say when it ends: seconds of growth do not tell what comes in minutes.
    pub fn tells(&self, end: f64, least: f64) -> bool {
        /// Part of the time until the end that must have been seen.
        const PART: f64 = 10.0;
        self.seconds() >= (end / PART).clamp(least, LONG)
    }

    /// For how long it has been growing, in seconds.
    pub fn seconds(&self) -> f64 {
        (self.last_ns - self.first_ns) as f64 / NANOS as f64
    }

    /// By how much.
    pub fn gained(&self) -> f64 {
        self.last - self.first
    }

    /// How fast it grew lately, a second.
    pub fn pace(&self) -> f64 {
        self.recent.max(f64::MIN_POSITIVE)
    }

    /// Where it is now.
    pub fn level(&self) -> f64 {
        self.last
    }
}

/// What is kept of processes whose level moves.
#[derive(Default)]
pub struct Growing {
    of: HashMap<ProcessKey, Growth>,
}

/// Part of a level by which it may go back without a new beginning.
const BACK: f64 = 0.02;
/// Seconds below which a process is young: programs take what they need while they start.
pub const YOUNG: f64 = 60.0;
/// Seconds of growth after which nobody asks for more.
pub const LONG: f64 = 30.0;
/// Seconds over which a pace is taken.
const LATELY: f64 = 8.0;
/// Part of the time in which it must grow.
const STEADY: f64 = 0.7;
/// Seconds without growth after which it is over.
const RESTS: f64 = 5.0;

impl Growing {
    /// Takes in a sample, and calls `each` for every process whose level has grown steadily up to now.
    pub fn look<'a>(
        &mut self,
        scene: &Scene<'a>,
        level: impl Fn(&ProcessView<'a>) -> Option<f64>,
        mut each: impl FnMut(ProcessView<'a>, Growth),
    ) {
        for key in &scene.ended {
            self.of.remove(key);
        }
        let now = scene.sample.now.monotonic_ns();
        let begin = now - (scene.seconds * NANOS as f64) as i64;
        for view in scene.doers() {
            let Some(value) = level(&view) else { continue };
            let key = view.now.key();
            let before = view.before.map(|_| ());
            let one = self.of.entry(key).or_insert(Growth {
                // One that is older has its level from before.
                first_ns: if before.is_some() { now } else { begin },
                ..Growth::beginning(value, now)
            });
            if one.last_ns == now {
                continue;
            }
            if value < one.last - one.gained().max(0.0) * BACK {
                *one = Growth::beginning(value, now);
                continue;
            }
            if value > one.last && one.gained() <= 0.0 {
                // It stood still until now.
                (one.first, one.first_ns, one.grew, one.recent) = (one.last, begin, 0.0, 0.0);
                one.last_ns = begin;
            }
            if value > one.last {
                one.grew += scene.seconds;
                one.grew_ns = now;
            }
            // Those that did nothing in between have taken longer.
            let took = ((now - one.last_ns) as f64 / NANOS as f64).max(scene.seconds);
            let pace = (value - one.last).max(0.0) / took;
            let weight = (took / LATELY).min(1.0);
            one.recent += (pace - one.recent) * if one.seconds() <= 0.0 { 1.0 } else { weight };
            (one.last, one.last_ns) = (value.max(one.last), now);
            let is_steady = one.gained() > 0.0 && one.grew >= STEADY * one.seconds();
            // Who has rested for a while has stopped by himself.
            let rests = (now - one.grew_ns) as f64 / NANOS as f64 > RESTS;
            if is_steady && !rests {
                each(view, *one);
            } else if rests || one.seconds() > 30.0 {
                // It has stood still for longer than it grew: a new beginning.
                *one = Growth::beginning(value, now);
            }
        }
    }
}
