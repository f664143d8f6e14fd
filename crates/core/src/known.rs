//! Values that may be missing, and why: *not there*, *not permitted* and *zero* are three things.

/// A value, or the reason why there is none.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Known<T> {
    /// The source gave this value.
    Value(T),
    /// The source has no such value: the kernel does not keep it, or it cannot be computed yet.
    #[default]
    Absent,
    /// The value exists, but this user may not read it.
    Denied,
}

impl<T> Known<T> {
    /// The value, where there is one.
    pub fn value(self) -> Option<T> {
        match self {
            Known::Value(value) => Some(value),
            Known::Absent | Known::Denied => None,
        }
    }

    /// Applies `f` to the value and keeps the reason otherwise.
    pub fn map<U>(self, f: impl FnOnce(T) -> U) -> Known<U> {
        match self {
            Known::Value(value) => Known::Value(f(value)),
            Known::Absent => Known::Absent,
            Known::Denied => Known::Denied,
        }
    }

    /// Joins two values; a denial is stronger than an absence, because it tells the reader what to do.
    pub fn zip<U>(self, other: Known<U>) -> Known<(T, U)> {
        match (self, other) {
            (Known::Value(a), Known::Value(b)) => Known::Value((a, b)),
            (Known::Denied, _) | (_, Known::Denied) => Known::Denied,
            _ => Known::Absent,
        }
    }
}

impl<T> From<Option<T>> for Known<T> {
    fn from(value: Option<T>) -> Self {
        value.map_or(Known::Absent, Known::Value)
    }
}

/// A raw number of a reading in eight bytes: a signed integer, *absent* or *denied*.
///
/// The two lowest integers stand for the reasons; no kernel counter ever has them, and [`Raw::new`] moves a
/// value that would collide up by at most two.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Raw(i64);

impl Raw {
    /// The source does not have the number.
    pub const ABSENT: Raw = Raw(i64::MIN);
    /// The source may not read the number.
    pub const DENIED: Raw = Raw(i64::MIN + 1);

    /// A number that the source found.
    pub const fn new(value: i64) -> Raw {
        if value < i64::MIN + 2 { Raw(i64::MIN + 2) } else { Raw(value) }
    }

    /// The number, or why there is none.
    pub const fn get(self) -> Known<i64> {
        match self {
            Raw::ABSENT => Known::Absent,
            Raw::DENIED => Known::Denied,
            Raw(value) => Known::Value(value),
        }
    }

    /// The number, where there is one.
    pub fn value(self) -> Option<i64> {
        self.get().value()
    }

    /// The number as floating point, or why there is none.
    pub fn float(self) -> Known<f64> {
        self.get().map(|value| value as f64)
    }
}

impl Default for Raw {
    fn default() -> Self {
        Raw::ABSENT
    }
}

impl From<i64> for Raw {
    fn from(value: i64) -> Self {
        Raw::new(value)
    }
}

impl From<Option<i64>> for Raw {
    fn from(value: Option<i64>) -> Self {
        value.map_or(Raw::ABSENT, Raw::new)
    }
}

impl From<Known<i64>> for Raw {
    fn from(value: Known<i64>) -> Self {
        match value {
            Known::Value(value) => Raw::new(value),
            Known::Absent => Raw::ABSENT,
            Known::Denied => Raw::DENIED,
        }
    }
}

impl std::fmt::Debug for Raw {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.get() {
            Known::Value(value) => write!(f, "{value}"),
            Known::Absent => f.write_str("absent"),
            Known::Denied => f.write_str("denied"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_three_kinds_of_raw_stay_apart() {
        assert_eq!(Raw::new(0).get(), Known::Value(0));
        assert_eq!(Raw::ABSENT.get(), Known::Absent);
        assert_eq!(Raw::DENIED.get(), Known::Denied);
        assert_eq!(Raw::new(i64::MIN).get(), Known::Value(i64::MIN + 2), "a value never turns into a reason");
    }

    #[test]
    fn a_denial_wins_over_an_absence() {
        assert_eq!(Known::Denied::<i64>.zip(Known::Absent::<i64>), Known::Denied);
        assert_eq!(Known::Absent::<i64>.zip(Known::Value(1)), Known::Absent);
    }
}
