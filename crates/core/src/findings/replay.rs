//! Findings out of a timeline: the same engine over samples that are there already.

use super::engine::Engine;
use super::history::History;
use crate::recording::ReadError;
use crate::timeline::{Reach, Timeline};
use std::ops::Range;

/// Samples before a range that are looked at first: what begins before it has had its time.
const BEFORE: usize = 60;

/// What an engine finds in a range of samples, and just before it; `each` is told how many are done.
pub fn found_in(
    timeline: &Timeline,
    numbers: Range<usize>,
    each: &mut dyn FnMut(usize),
) -> Result<History, ReadError> {
    let first = numbers.start.saturating_sub(BEFORE).max(timeline.first());
    let mut engine = Engine::default();
    timeline.walk(first..numbers.end, Reach::All, |number, sample| {
        engine.learn(timeline, sample.now.wall_ns());
        engine.look(sample);
        each(number.saturating_sub(numbers.start));
        Ok::<(), ReadError>(())
    })?;
    Ok(engine.into_history())
}
