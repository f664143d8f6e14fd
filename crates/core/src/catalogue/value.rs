//! Values of metrics and how a unit is shown.

use crate::known::{Known, Raw};
use crate::text::Text;
use crate::units;
use std::cmp::Ordering;

/// Unit of a metric. Machine output holds plain numbers in the base unit; shares are in percent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unit {
    /// A name or a word.
    Text,
    /// A bare number.
    Number,
    /// Percent of one core.
    PercentOfCore,
    /// Percent of a whole.
    Percent,
    /// Bytes.
    Bytes,
    /// Bytes per second.
    BytesPerSecond,
    /// Events per second.
    PerSecond,
    /// Seconds.
    Seconds,
    /// Seconds, mostly less than one.
    Delay,
    /// An instant: seconds since 1970 (UTC).
    Time,
    /// Degrees Celsius.
    Celsius,
    /// Bits per second.
    BitsPerSecond,
    /// Hertz.
    Hertz,
    /// Revolutions per minute.
    Rpm,
    /// Watts.
    Watts,
    /// Volts.
    Volts,
    /// Decibels above a milliwatt.
    Dbm,
}

impl Unit {
    /// All of them.
    pub const ALL: [Unit; 17] = [
        Unit::Text,
        Unit::Number,
        Unit::PercentOfCore,
        Unit::Percent,
        Unit::Bytes,
        Unit::BytesPerSecond,
        Unit::PerSecond,
        Unit::Seconds,
        Unit::Delay,
        Unit::Time,
        Unit::Celsius,
        Unit::BitsPerSecond,
        Unit::Hertz,
        Unit::Rpm,
        Unit::Watts,
        Unit::Volts,
        Unit::Dbm,
    ];

    /// The unit as written in documents.
    pub const fn word(self) -> &'static str {
        match self {
            Unit::Text => "text",
            Unit::Number => "–",
            Unit::PercentOfCore => "% of one core",
            Unit::Percent => "%",
            Unit::Bytes => "bytes",
            Unit::BytesPerSecond => "bytes/s",
            Unit::PerSecond => "/s",
            Unit::Seconds | Unit::Delay => "s",
            Unit::Time => "time",
            Unit::Celsius => "°C",
            Unit::BitsPerSecond => "bit/s",
            Unit::Hertz => "Hz",
            Unit::Rpm => "rpm",
            Unit::Watts => "W",
            Unit::Volts => "V",
            Unit::Dbm => "dBm",
        }
    }

    /// Places that a cell of this unit needs.
    pub const fn width(self) -> usize {
        match self {
            Unit::Text => 9,
            Unit::Time => 10,
            Unit::Seconds => 8,
            Unit::Number | Unit::Celsius => 5,
            _ => 6,
        }
    }

    /// Whether its cells stand at the left of their column.
    pub const fn is_text(self) -> bool {
        matches!(self, Unit::Text)
    }

    /// A number with its unit, for a text: `181 MiB/s`, `41 ms`, `92 %`.
    pub fn long(self, value: f64) -> String {
        let spaced = |prefixed: String, word: &str| match prefixed.split_once(' ') {
            Some((number, prefix)) => format!("{number} {prefix}{word}"),
            None => format!("{prefixed} {word}"),
        };
        match self {
            Unit::Text | Unit::Number | Unit::Time => self.short(value),
            Unit::Bytes => units::long_bytes(value),
            Unit::BytesPerSecond => format!("{}/s", units::long_bytes(value)),
            Unit::PerSecond => format!("{}/s", units::short_count(value)),
            Unit::BitsPerSecond | Unit::Hertz => spaced(units::short_count(value), self.word()),
            Unit::Seconds => units::long_duration(value),
            Unit::Delay => units::short_wait(value),
            Unit::PercentOfCore => format!("{} %", units::share(value)),
            _ => format!("{} {}", self.short(value), self.word()),
        }
    }

    /// A number of this unit for a table cell.
    pub fn short(self, value: f64) -> String {
        match self {
            Unit::Text | Unit::Number => {
                if value.fract() == 0.0 {
                    format!("{value:.0}")
                } else {
                    format!("{value:.2}")
                }
            }
            Unit::PercentOfCore | Unit::Percent => units::share(value),
            Unit::Bytes | Unit::BytesPerSecond => units::short_bytes(value),
            Unit::PerSecond | Unit::BitsPerSecond | Unit::Hertz => units::short_count(value),
            Unit::Seconds => units::short_duration(value),
            Unit::Delay => units::short_wait(value),
            Unit::Time => format!("{value:.0}"),
            Unit::Celsius | Unit::Rpm | Unit::Dbm => format!("{value:.0}"),
            Unit::Watts | Unit::Volts => format!("{value:.1}"),
        }
    }
}

/// One value of a metric.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum Value {
    /// A number in the metric's unit.
    Number(f64),
    /// Text from the machine, cleaned.
    Text(Text),
    /// One of our own words, such as a state.
    Word(&'static str),
    /// Unknown: the machine does not have it, or a rate is not known yet.
    #[default]
    Absent,
    /// Not permitted.
    Denied,
}

impl Value {
    /// The number, where it is one.
    pub fn number(&self) -> Option<f64> {
        match self {
            Value::Number(number) => Some(*number),
            _ => None,
        }
    }

    /// The text, where it is one.
    pub fn text(&self) -> Option<&str> {
        match self {
            Value::Text(text) => Some(text),
            Value::Word(word) => Some(word),
            _ => None,
        }
    }

    /// The value for a table cell: `–` where it is unknown, `×` where it is not permitted.
    pub fn short(&self, unit: Unit) -> String {
        match self {
            Value::Number(number) => unit.short(*number),
            Value::Text(text) => text.to_string(),
            Value::Word(word) => (*word).to_owned(),
            Value::Absent => "–".to_owned(),
            Value::Denied => "×".to_owned(),
        }
    }

    /// Order of values, smallest first; what is unknown comes after everything in either direction.
    pub fn compare(&self, other: &Value, descending: bool) -> Ordering {
        let turned = |ordering: Ordering| if descending { ordering.reverse() } else { ordering };
        match (self.place(), other.place()) {
            (0, 0) => match (self, other) {
                (Value::Number(a), Value::Number(b)) => turned(a.total_cmp(b)),
                _ => Ordering::Equal,
            },
            (1, 1) => turned(compare_text(self.text().unwrap_or(""), other.text().unwrap_or(""))),
            (a, b) if a < 2 && b < 2 => turned(a.cmp(&b)),
            (a, b) => a.cmp(&b),
        }
    }

    fn place(&self) -> u8 {
        match self {
            Value::Number(_) => 0,
            Value::Text(_) | Value::Word(_) => 1,
            Value::Denied => 2,
            Value::Absent => 3,
        }
    }
}

/// Compares without regard to letter case first, so that `Xvfb` stands beside `xterm`.
fn compare_text(a: &str, b: &str) -> Ordering {
    let folded = a.chars().flat_map(char::to_lowercase).cmp(b.chars().flat_map(char::to_lowercase));
    folded.then_with(|| a.cmp(b))
}

impl From<Value> for Known<f64> {
    fn from(value: Value) -> Self {
        match value {
            Value::Number(number) => Known::Value(number),
            Value::Denied => Known::Denied,
            Value::Text(_) | Value::Word(_) | Value::Absent => Known::Absent,
        }
    }
}

impl From<Known<f64>> for Value {
    fn from(value: Known<f64>) -> Self {
        match value {
            // A sum of nothing is negative zero, which would be written as such.
            Known::Value(number) => Value::Number(number + 0.0),
            Known::Absent => Value::Absent,
            Known::Denied => Value::Denied,
        }
    }
}

impl From<Raw> for Value {
    fn from(value: Raw) -> Self {
        value.float().into()
    }
}

impl From<&Text> for Value {
    fn from(text: &Text) -> Self {
        if text.is_empty() { Value::Absent } else { Value::Text(text.clone()) }
    }
}
