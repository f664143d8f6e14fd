//! What a cell of the table shows: a value in the units that somebody chose.

use crate::look::columns::Scale;
use crate::state::State;
use dozor_core::catalogue::{Metric, Unit, Value};
use dozor_core::units::short_duration;

/// The text of a value.
pub fn text(state: &State, metric: &Metric, scale: Option<Scale>, value: &Value) -> String {
    let Value::Number(number) = *value else { return value.short(metric.unit) };
    if let Some(scale) = scale {
        return fixed(number / scale.size);
    }
    match metric.unit {
        Unit::Percent | Unit::PercentOfCore if number == 0.0 => "0".to_owned(),
        Unit::PercentOfCore if state.values.of_machine => {
            metric.unit.short(number / f64::from(state.time().timeline.host().cores.max(1)))
        }
        Unit::Time => time(state, number),
        unit => unit.short(number),
    }
}

/// A number in a unit that does not change: with so many places that a cell has about four digits.
fn fixed(number: f64) -> String {
    match number.abs() {
        0.0 => "0".to_owned(),
        size if size < 9.995 => format!("{number:.2}"),
        size if size < 99.95 => format!("{number:.1}"),
        _ => format!("{number:.0}"),
    }
}

/// An instant: on the same day its time, else its day; or how long ago it was.
pub fn time(state: &State, seconds: f64) -> String {
    let now = state.moment().sample.as_ref().map_or(0, |sample| sample.now.wall_ns());
    let then = (seconds * 1e9) as i64;
    if state.values.times_relative {
        return format!("-{}", short_duration((now - then) as f64 / 1e9));
    }
    if state.time().zone.day(now) == state.time().zone.day(then) {
        state.time().zone.time(then)
    } else {
        state.time().zone.day(then)
    }
}
