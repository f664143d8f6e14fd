//! Numbers with their units, and times.

use crate::catalogue::Unit;
use crate::text::nearest;
use jiff::civil::{Date, DateTime, Time};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _};

/// Units of sizes; the ones of one letter are binary, as cells of the table show them.
const BYTES: &[(&str, f64)] = &[
    ("B", 1.0),
    ("k", 1024.0),
    ("M", 1_048_576.0),
    ("G", 1_073_741_824.0),
    ("T", 1_099_511_627_776.0),
    ("KiB", 1024.0),
    ("MiB", 1_048_576.0),
    ("GiB", 1_073_741_824.0),
    ("TiB", 1_099_511_627_776.0),
    ("kB", 1e3),
    ("MB", 1e6),
    ("GB", 1e9),
    ("TB", 1e12),
];
const BYTES_PER_SECOND: &[(&str, f64)] = &[
    ("B/s", 1.0),
    ("KiB/s", 1024.0),
    ("MiB/s", 1_048_576.0),
    ("GiB/s", 1_073_741_824.0),
    ("kB/s", 1e3),
    ("MB/s", 1e6),
    ("GB/s", 1e9),
    ("k/s", 1024.0),
    ("M/s", 1_048_576.0),
    ("G/s", 1_073_741_824.0),
];
const TIME: &[(&str, f64)] = &[
    ("us", 1e-6),
    ("ms", 1e-3),
    ("s", 1.0),
    ("m", 60.0),
    ("min", 60.0),
    ("h", 3600.0),
    ("d", 86_400.0),
    ("w", 604_800.0),
];

/// Units that a value of a metric may be written in, with the factor to the metric's own.
pub fn units(unit: Unit) -> &'static [(&'static str, f64)] {
    match unit {
        Unit::Percent => &[("%", 1.0)],
        Unit::PercentOfCore => &[("%", 1.0), ("cores", 100.0), ("core", 100.0)],
        Unit::Bytes => BYTES,
        Unit::BytesPerSecond => BYTES_PER_SECOND,
        Unit::PerSecond => &[("/s", 1.0), ("k/s", 1e3), ("M/s", 1e6)],
        Unit::Seconds | Unit::Delay => TIME,
        Unit::Celsius => &[("°C", 1.0), ("C", 1.0)],
        Unit::BitsPerSecond => &[("bit/s", 1.0), ("kbit/s", 1e3), ("Mbit/s", 1e6), ("Gbit/s", 1e9)],
        Unit::Hertz => &[("Hz", 1.0), ("kHz", 1e3), ("MHz", 1e6), ("GHz", 1e9)],
        Unit::Rpm => &[("rpm", 1.0)],
        Unit::Watts => &[("W", 1.0), ("mW", 1e-3)],
        Unit::Volts => &[("V", 1.0), ("mV", 1e-3)],
        Unit::Dbm => &[("dBm", 1.0)],
        Unit::Number => &[("k", 1e3), ("M", 1e6)],
        Unit::Text | Unit::Time => &[],
    }
}

/// Whether a word begins like a number.
pub fn begins_number(text: &str) -> bool {
    let rest = text.strip_prefix(['-', '+']).unwrap_or(text);
    rest.trim_start_matches('.').starts_with(|letter: char| letter.is_ascii_digit())
}

/// The number at the beginning of a text and what stands behind it.
fn number(text: &str) -> Option<(f64, &str)> {
    let sign = usize::from(text.starts_with(['-', '+']));
    let end = text[sign..].find(|c: char| !c.is_ascii_digit() && c != '.').map_or(text.len(), |at| at + sign);
    Some((text[..end].parse().ok()?, text[end..].trim_start()))
}

/// A value of a metric in the metric's own unit. A number without a unit is in that unit. `Err` says what is wrong.
pub fn amount(text: &str, unit: Unit) -> Result<f64, String> {
    let wrong = || format!("'{text}' is not a number; expected one such as {}", example(unit));
    let (value, rest) = number(text).ok_or_else(wrong)?;
    if rest.is_empty() {
        return Ok(value);
    }
    if let Some((_, factor)) = units(unit).iter().find(|(name, _)| *name == rest) {
        return Ok(value * factor);
    }
    // 1m30s
    if matches!(unit, Unit::Seconds | Unit::Delay) && rest.contains(|letter: char| letter.is_ascii_digit()) {
        let begin = rest.find(|letter: char| letter.is_ascii_digit()).unwrap_or(0);
        if let Some((_, factor)) = units(unit).iter().find(|(name, _)| *name == rest[..begin].trim()) {
            return Ok(value * factor + amount(&rest[begin..], unit)?);
        }
    }
    let known = units(unit);
    let own = unit.word();
    // The unit of something else, or one that does not exist.
    let foreign = Unit::ALL.iter().any(|other| units(*other).iter().any(|(name, _)| *name == rest));
    let per_second = known.iter().find(|(name, _)| name.strip_suffix("/s") == Some(rest));
    if known.is_empty() || unit == Unit::Number && foreign {
        return Err(format!("this is a number without a unit, not '{rest}'"));
    }
    if let Some((name, _)) = per_second {
        return Err(format!("the unit is {own}, not '{rest}'; write {value} {name}"));
    }
    let hint = match nearest(rest, known.iter().map(|(name, _)| *name)) {
        Some(near) if !foreign => format!("did you mean {near}?"),
        _ => {
            let names: Vec<&str> = known.iter().map(|(name, _)| *name).take(13).collect();
            format!("expected {}", names.join(", "))
        }
    };
    let what = if foreign {
        format!("the unit is {own}, not '{rest}'")
    } else {
        format!("no unit is called '{rest}'")
    };
    Err(format!("{what}; {hint}"))
}

/// A value as somebody would write it.
pub fn example(unit: Unit) -> &'static str {
    match unit {
        Unit::Percent | Unit::PercentOfCore => "20%",
        Unit::Bytes => "500 MiB",
        Unit::BytesPerSecond => "5 MiB/s",
        Unit::PerSecond => "100/s",
        Unit::Seconds => "10s",
        Unit::Delay => "20ms",
        Unit::Time => "02:14 or 10m ago",
        Unit::Celsius => "80 °C",
        Unit::BitsPerSecond => "1 Gbit/s",
        Unit::Hertz => "2 GHz",
        Unit::Rpm => "900 rpm",
        Unit::Watts => "20 W",
        Unit::Volts => "1.1 V",
        Unit::Dbm => "-60 dBm",
        Unit::Number => "4",
        Unit::Text => "text",
    }
}

/// An instant, which may depend on the moment that is looked at.
#[derive(Clone, Debug, PartialEq)]
pub enum Instant {
    /// So many seconds before the moment.
    Ago(f64),
    /// The last time before the moment that a clock showed this.
    Clock(Time),
    /// This day and time.
    On(DateTime),
}

/// Reads an instant: `02:14`, `2031-02-14`, `2031-02-14 02:14`, `10m ago`.
pub fn instant(text: &str) -> Result<Instant, String> {
    let wrong = || format!("'{text}' is no time; expected one such as 02:14, 2031-02-14 02:14, or 10m ago");
    if let Some(length) = text.strip_suffix("ago") {
        return amount(length.trim(), Unit::Seconds).map(Instant::Ago);
    }
    let time = |text: &str| text.parse::<Time>().ok();
    if let Some(time) = time(text).filter(|_| text.contains(':') && !text.contains('-')) {
        return Ok(Instant::Clock(time));
    }
    let (day, rest) = text.split_once([' ', 'T']).unwrap_or((text, "00:00"));
    let day: Date = day.parse().map_err(|_| wrong())?;
    Ok(Instant::On(day.to_datetime(time(rest.trim()).ok_or_else(wrong)?)))
}

impl Instant {
    /// Seconds since 1970, seen from a moment in a time zone; none where the day does not exist.
    pub fn seconds(&self, wall_ns: i64, zone: &TimeZone) -> Option<f64> {
        let now = Timestamp::from_nanosecond(i128::from(wall_ns)).ok()?.to_zoned(zone.clone());
        let seconds = |date_time: DateTime| {
            zone.to_zoned(date_time).ok().map(|zoned| zoned.timestamp().as_nanosecond() as f64 / 1e9)
        };
        match self {
            Instant::Ago(ago) => Some(wall_ns as f64 / 1e9 - ago),
            Instant::On(date_time) => seconds(*date_time),
            Instant::Clock(time) => {
                let today = now.date().to_datetime(*time);
                let day = if today > now.datetime() { today.checked_sub(1.day()).ok()? } else { today };
                seconds(day)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn amounts_come_in_the_metrics_own_unit() {
        for (text, unit, value) in [
            ("20%", Unit::PercentOfCore, 20.0),
            ("2 cores", Unit::PercentOfCore, 200.0),
            ("500 MiB", Unit::Bytes, 524_288_000.0),
            ("1.5GB", Unit::Bytes, 1.5e9),
            ("5 MiB/s", Unit::BytesPerSecond, 5_242_880.0),
            ("1m30s", Unit::Seconds, 90.0),
            ("20ms", Unit::Delay, 0.02),
            ("-5", Unit::Number, -5.0),
            ("-60 dBm", Unit::Dbm, -60.0),
        ] {
            assert_eq!(amount(text, unit), Ok(value), "{text}");
        }
    }

    #[test]
    fn a_wrong_unit_says_what_was_expected() {
        let message = |text, unit| amount(text, unit).expect_err("must be refused");
        assert_eq!(message("5 MiB", Unit::BytesPerSecond), "the unit is bytes/s, not 'MiB'; write 5 MiB/s");
        assert_eq!(message("5 MiBs", Unit::BytesPerSecond), "no unit is called 'MiBs'; did you mean MiB/s?");
        assert_eq!(message("5 s", Unit::Percent), "the unit is %, not 's'; expected %");
        assert_eq!(message("5 MiB", Unit::Number), "this is a number without a unit, not 'MiB'");
        assert!(message("fast", Unit::Seconds).contains("such as 10s"));
        assert!(message("1.2.3", Unit::Number).contains("not a number"));
    }

    #[test]
    fn instants_are_seen_from_the_moment_in_its_own_zone() {
        let zone = TimeZone::fixed(jiff::tz::offset(1));
        // 2031-02-14 02:04:00 there.
        let (night, second) = (1_928_797_440_000_000_000, 1_000_000_000.0);
        let at = |text: &str| {
            let seconds =
                instant(text).expect("an instant").seconds(night, &zone).expect("a day that exists");
            (seconds - night as f64 / second).round() as i64
        };
        assert_eq!(at("02:00"), -240);
        assert_eq!(at("03:00"), -23 * 3600 - 240, "yesterday's");
        assert_eq!(at("2031-02-14 03:04"), 3600);
        assert_eq!(at("2031-02-14"), -2 * 3600 - 240);
        assert_eq!(at("10m ago"), -600);
        assert!(instant("yesterday").is_err() && instant("25:00").is_err());
    }
}
