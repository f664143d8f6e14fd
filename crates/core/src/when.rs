//! A place in time as people type it: `02:10`, `yesterday 14:00`, `2031-02-14 02:10`, `-5m`, `10m ago`.

use crate::catalogue::Unit;
use crate::expr::amount;
use crate::units::NANOS;
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _, Zoned};

/// A place in time, which depends on where somebody stands.
#[derive(Clone, Debug, PartialEq)]
pub enum When {
    /// So many seconds on from the moment that is shown, or back from it.
    From(f64),
    /// So many seconds before the newest moment.
    Ago(f64),
    /// A time of the clock, on the day that brings it nearest to the shown moment.
    Clock(Time),
    /// So many days before the newest moment's day, at a time.
    DaysBefore(i64, Time),
    /// A day and a time.
    On(Date, Time),
}

/// What a place in time depends on, in nanoseconds since 1970 (UTC).
#[derive(Clone, Copy, Debug)]
pub struct Standpoint {
    /// The first moment there is.
    pub first: i64,
    /// The newest.
    pub newest: i64,
    /// The one that is shown.
    pub shown: i64,
}

/// What a wrong one should look like.
const EXPECTED: &str = "such as 02:10, yesterday 14:00, 2031-02-14 02:10, -5m, +30s or 10m ago";

impl When {
    /// Reads a place in time.
    pub fn parse(text: &str) -> Result<When, String> {
        let text = text.trim();
        let wrong = || format!("'{text}' is no time; expected one {EXPECTED}");
        if text.is_empty() {
            return Err(format!("a time is missing, {EXPECTED}"));
        }
        let seconds = |text: &str| amount(text.trim(), Unit::Seconds).map_err(|_| wrong());
        let unsigned = |text: &str| -> Result<f64, String> {
            if text.trim_start().starts_with(|letter: char| letter.is_ascii_digit()) {
                seconds(text)
            } else {
                Err(wrong())
            }
        };
        if let Some(length) = text.strip_suffix("ago") {
            return unsigned(length).map(When::Ago);
        }
        if let Some(length) = text.strip_prefix('+') {
            return unsigned(length).map(When::From);
        }
        if let Some(length) = text.strip_prefix(['-', '−']) {
            return unsigned(length).map(|seconds| When::From(-seconds));
        }
        let time = |text: &str| text.trim().parse::<Time>().ok().filter(|_| text.contains(':'));
        if let Some(time) = time(text).filter(|_| !text.contains('-')) {
            return Ok(When::Clock(time));
        }
        let (day, rest) = text.split_once([' ', 'T']).unwrap_or((text, ""));
        let at = if rest.trim().is_empty() { Time::midnight() } else { time(rest).ok_or_else(wrong)? };
        match day {
            "today" => Ok(When::DaysBefore(0, at)),
            "yesterday" => Ok(When::DaysBefore(1, at)),
            _ => Ok(When::On(day.parse().map_err(|_| wrong())?, at)),
        }
    }

    /// The instant that is meant, in nanoseconds since 1970 (UTC); none where the day does not exist.
    pub fn resolve(&self, from: Standpoint, zone: &TimeZone) -> Option<i64> {
        let zoned = |wall: i64| -> Option<Zoned> {
            Some(Timestamp::from_nanosecond(i128::from(wall)).ok()?.to_zoned(zone.clone()))
        };
        let at = |date: Date, time: Time| -> Option<i64> {
            let zoned = zone.to_zoned(date.to_datetime(time)).ok()?;
            i64::try_from(zoned.timestamp().as_nanosecond()).ok()
        };
        let on = |seconds: f64| (seconds * NANOS as f64) as i64;
        match self {
            When::From(seconds) => Some(from.shown.saturating_add(on(*seconds))),
            When::Ago(seconds) => Some(from.newest.saturating_sub(on(*seconds))),
            When::On(date, time) => at(*date, *time),
            When::DaysBefore(days, time) => {
                at(zoned(from.newest)?.date().checked_sub(i64::from(*days as i32).days()).ok()?, *time)
            }
            When::Clock(time) => {
                let day = zoned(from.shown)?.date();
                let days = [day.yesterday().ok(), Some(day), day.tomorrow().ok()];
                let instants = days.into_iter().flatten().filter_map(|day| at(day, *time));
                // One that there are readings of, before one that is merely near.
                instants.min_by_key(|wall| {
                    let outside = *wall < from.first || *wall > from.newest;
                    (outside, wall.abs_diff(from.shown))
                })
            }
        }
    }
}

/// The time zone that a recording names: by its IANA name, or by the rules of the `TZ` variable where the host had no name
/// for it; tzset(3). UTC where it is empty or not known here.
pub fn zone(name: &str) -> TimeZone {
    TimeZone::get(name).or_else(|_| TimeZone::posix(name)).unwrap_or(TimeZone::UTC)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    // 2031-02-14 02:04:00 in a zone one hour east.
    const NIGHT: i64 = 1_928_797_440 * NANOS;

    fn seconds_from_night(text: &str, first: i64, newest: i64) -> i64 {
        let zone = TimeZone::fixed(jiff::tz::offset(1));
        let from = Standpoint { first: NIGHT + first * NANOS, newest: NIGHT + newest * NANOS, shown: NIGHT };
        let wall = When::parse(text).expect("a time").resolve(from, &zone).expect("a day that exists");
        (wall - NIGHT) / NANOS
    }

    #[test]
    fn a_zone_is_known_by_its_name_and_by_its_rules() {
        let offset = |name: &str, text: &str| {
            let time: Timestamp = text.parse().expect("an instant");
            zone(name).to_offset(time).seconds()
        };
        for name in ["CET-1CEST,M3.5.0,M10.5.0/3", "Europe/Berlin"] {
            assert_eq!(offset(name, "2031-02-14T02:00:00Z"), 3600, "{name}");
            assert_eq!(offset(name, "2031-07-14T02:00:00Z"), 7200, "{name}");
        }
        assert_eq!(offset("", "2031-07-14T02:00:00Z"), 0);
        assert_eq!(offset("No/Such", "2031-07-14T02:00:00Z"), 0);
    }

    #[test]
    fn times_are_read_as_people_type_them() {
        let day = 86_400;
        for (text, expected) in [
            ("02:10", 360),
            ("02:10:30", 390),
            ("-5m", -300),
            ("+30s", 30),
            ("10m ago", 3_000),
            ("today 03:00", 3_360),
            ("yesterday 14:00", -12 * 3_600 - 240),
            ("2031-02-14 02:10", 360),
            ("2031-02-14T02:10", 360),
            ("2031-02-13", -26 * 3_600 - 240),
        ] {
            assert_eq!(seconds_from_night(text, -day, 3_600), expected, "{text}");
        }
        // Of the days, the one that there are readings of.
        assert_eq!(seconds_from_night("01:00", -60, 2 * day), day - 3_840);
        assert_eq!(seconds_from_night("01:00", -day, 60), -3_840);
    }

    #[test]
    fn what_is_no_time_says_what_one_looks_like() {
        for text in ["", "tomorrow", "25:00", "5m", "-", "ago", "2031-02-30", "- 5 parsecs", "--5m"] {
            let message = When::parse(text).expect_err(text);
            assert!(message.contains("02:10"), "{message}");
        }
    }

    proptest! {
        #[test]
        fn any_text_gives_a_time_or_a_message(text in "\\PC{0,24}", shown in any::<i64>()) {
            if let Ok(when) = When::parse(&text) {
                let from = Standpoint { first: 0, newest: i64::MAX, shown };
                let _ = when.resolve(from, &TimeZone::UTC);
            }
        }
    }
}
