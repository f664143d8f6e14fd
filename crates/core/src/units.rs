//! Numbers as people read and type them: sizes in binary steps, shares, durations.
//!
//! The short forms fit table cells (`187 M`, `02:41:10`); the long forms name their unit (`187 MiB`).

use crate::text::nearest;
use std::time::Duration;

/// Nanoseconds in a second.
pub const NANOS: i64 = 1_000_000_000;

/// Steps in which sizes are shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Steps {
    /// KiB, MiB, GiB: of 1024.
    #[default]
    Binary,
    /// kB, MB, GB: of 1000.
    Decimal,
}

thread_local! {
    /// What people read is made in many places; the steps are chosen once for the thread that makes it.
    static CHOSEN: std::cell::Cell<Steps> = const { std::cell::Cell::new(Steps::Binary) };
}

impl Steps {
    /// Shows sizes in these steps from now on, in all texts that this thread makes.
    pub fn choose(self) {
        CHOSEN.set(self);
    }

    /// The ones that were chosen.
    pub fn chosen() -> Steps {
        CHOSEN.get()
    }

    fn base(self) -> f64 {
        match self {
            Steps::Binary => 1024.0,
            Steps::Decimal => 1000.0,
        }
    }
}

const STEPS: [&str; 7] = ["", "k", "M", "G", "T", "P", "E"];

/// A number brought to the step in which it has at most four digits, and that step's index.
fn scaled(value: f64, base: f64) -> (f64, usize) {
    let (mut value, mut step) = (value, 0);
    // 999.5 would round to 1000 and then needs a place more than the cell has.
    while value.abs() >= 999.5 && step + 1 < STEPS.len() {
        value /= base;
        step += 1;
    }
    (value, step)
}

fn digits(value: f64, step: usize) -> String {
    if step >= 2 && value.abs() < 99.95 || step == 1 && value.abs() < 9.95 {
        format!("{value:.1}")
    } else {
        format!("{value:.0}")
    }
}

/// A size in the chosen steps for a cell: `0`, `640`, `14 k`, `11.4 M`, `2.1 G`.
pub fn short_bytes(bytes: f64) -> String {
    let (value, step) = scaled(bytes, Steps::chosen().base());
    if step == 0 { format!("{value:.0}") } else { format!("{} {}", digits(value, step), STEPS[step]) }
}

/// A size with its unit: `14 KiB`, `11.4 MiB`; in decimal steps `14 kB`.
pub fn long_bytes(bytes: f64) -> String {
    let steps = Steps::chosen();
    let (value, step) = scaled(bytes, steps.base());
    match (step, steps) {
        (0, _) => format!("{value:.0} B"),
        (_, Steps::Decimal) => format!("{} {}B", digits(value, step), STEPS[step]),
        (1, Steps::Binary) => format!("{} KiB", digits(value, step)),
        (_, Steps::Binary) => format!("{} {}iB", digits(value, step), STEPS[step]),
    }
}

/// A count or a rate for a cell, in decimal steps: `61`, `1.7 k`.
pub fn short_count(count: f64) -> String {
    let (value, step) = scaled(count, 1000.0);
    match step {
        0 if value != 0.0 && value.abs() < 9.95 && (value - value.round()).abs() > 0.05 => {
            format!("{value:.1}")
        }
        0 => format!("{value:.0}"),
        _ => format!("{} {}", digits(value, step), STEPS[step]),
    }
}

/// A share without its sign: `0.0`, `38.2`, `312`.
pub fn share(percent: f64) -> String {
    if percent >= 999.5 {
        short_count(percent)
    } else if percent >= 99.95 {
        format!("{percent:.0}")
    } else {
        format!("{percent:.1}")
    }
}

/// A length of time that is mostly below a second, for a cell: `0.4 ms`, `41 ms`, `1.2 s`.
pub fn short_wait(seconds: f64) -> String {
    match seconds * 1000.0 {
        ms if ms < 9.95 => format!("{ms:.1} ms"),
        ms if ms < 999.5 => format!("{ms:.0} ms"),
        _ if seconds < 9.95 => format!("{seconds:.1} s"),
        _ => short_duration(seconds),
    }
}

/// A length of time that may be far below a millisecond: `240 ns`, `1.4 µs`, `38 µs`, `0.4 ms`, and on as [`short_wait`].
pub fn fine_wait(seconds: f64) -> String {
    match seconds * 1e6 {
        us if us < 0.9995 => format!("{:.0} ns", us * 1000.0),
        us if us < 9.95 => format!("{us:.1} µs"),
        us if us < 99.5 => format!("{us:.0} µs"),
        _ => short_wait(seconds),
    }
}

/// A length of time for a cell: `0.02 s`, `48 s`, `33:10`, `02:41:10`, `12 d`.
pub fn short_duration(seconds: f64) -> String {
    let whole = seconds.max(0.0) as u64;
    let (hours, minutes, rest) = (whole / 3600, whole / 60 % 60, whole % 60);
    match whole {
        0 if seconds > 0.0 && seconds < 0.995 => format!("{seconds:.2} s"),
        0..60 => format!("{whole} s"),
        60..3600 => format!("{minutes}:{rest:02}"),
        3600..172_800 => format!("{hours:02}:{minutes:02}:{rest:02}"),
        _ => format!("{} d", whole / 86_400),
    }
}

/// A length of time in words: `0.3 s`, `48 s`, `3 min 51 s`, `2 h 41 min`, `12 d 04:31`.
pub fn long_duration(seconds: f64) -> String {
    let whole = seconds.max(0.0) as u64;
    let (days, hours, minutes, rest) = (whole / 86_400, whole / 3600 % 24, whole / 60 % 60, whole % 60);
    match whole {
        0..10 if seconds.fract() >= 0.05 => format!("{seconds:.1} s"),
        0..60 => format!("{whole} s"),
        60..3600 => format!("{minutes} min {rest} s"),
        3600..86_400 => format!("{hours} h {minutes} min"),
        _ => format!("{days} d {hours:02}:{minutes:02}"),
    }
}

/// Why a typed quantity is not understood.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum QuantityError {
    /// Nothing was typed.
    #[error("a duration is missing; for example 2s")]
    Empty,
    /// A number without its unit.
    #[error("'{text}' needs a unit: ms, s, m, h, d or y (for example {number}s)")]
    NoUnit {
        /// What was typed.
        text: String,
        /// The number without a unit in it.
        number: String,
    },
    /// A unit that does not exist.
    #[error("unknown unit '{unit}' in '{text}'; {hint}")]
    Unit {
        /// What was typed.
        text: String,
        /// The unknown unit in it.
        unit: String,
        /// The nearest unit, or all of them.
        hint: String,
    },
    /// Not a number.
    #[error("'{0}' is not a duration; for example 200ms, 2s, 1m30s")]
    Number(String),
    /// Zero, or more than a thousand years.
    #[error("'{0}' is out of range: more than 0 and at most 1000 years")]
    Range(String),
}

const DURATION_UNITS: [(&str, f64); 13] = [
    ("ms", 0.001),
    ("s", 1.0),
    ("m", 60.0),
    ("min", 60.0),
    ("h", 3600.0),
    ("d", 86_400.0),
    ("sec", 1.0),
    ("seconds", 1.0),
    ("minutes", 60.0),
    ("hours", 3600.0),
    ("days", 86_400.0),
    ("y", 365.0 * 86_400.0),
    ("years", 365.0 * 86_400.0),
];

/// Reads a duration as people type it: `200ms`, `2s`, `1m30s`, `1.5h`.
pub fn parse_duration(text: &str) -> Result<Duration, QuantityError> {
    let mut rest = text.trim();
    if rest.is_empty() {
        return Err(QuantityError::Empty);
    }
    let mut seconds = 0.0;
    while !rest.is_empty() {
        let number_end = rest.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(rest.len());
        let (number, after) = rest.split_at(number_end);
        let value: f64 = number.parse().map_err(|_| QuantityError::Number(text.to_owned()))?;
        let after = after.trim_start();
        let unit_end = after.find(|c: char| !c.is_alphabetic()).unwrap_or(after.len());
        let (unit, next) = after.split_at(unit_end);
        if unit.is_empty() {
            return Err(QuantityError::NoUnit { text: text.to_owned(), number: number.to_owned() });
        }
        let Some((_, scale)) = DURATION_UNITS.iter().find(|(name, _)| *name == unit) else {
            let hint = nearest(unit, DURATION_UNITS.map(|(name, _)| name)).map_or_else(
                || "use ms, s, m, h, d or y".to_owned(),
                |near| format!("did you mean '{near}'?"),
            );
            return Err(QuantityError::Unit { text: text.to_owned(), unit: unit.to_owned(), hint });
        };
        seconds += value * scale;
        rest = next.trim_start();
    }
    if seconds <= 0.0 || seconds > 3.2e10 {
        return Err(QuantityError::Range(text.to_owned()));
    }
    Ok(Duration::from_secs_f64(seconds))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_shortest_waits_have_their_units() {
        let shown = [0.0, 240e-9, 1.4e-6, 38e-6, 99.6e-6, 0.0004, 0.041].map(fine_wait);
        assert_eq!(shown, ["0 ns", "240 ns", "1.4 µs", "38 µs", "0.1 ms", "0.4 ms", "41 ms"]);
    }

    #[test]
    fn sizes_read_as_in_a_table() {
        let shown = [0.0, 640.0, 14_336.0, 11.4 * 1_048_576.0, 187.0 * 1_048_576.0, 2.1 * 1_073_741_824.0];
        assert_eq!(shown.map(short_bytes), ["0", "640", "14 k", "11.4 M", "187 M", "2.1 G"]);
        assert_eq!(long_bytes(23.6 * 1_073_741_824.0), "23.6 GiB");
        Steps::Decimal.choose();
        assert_eq!(
            (short_bytes(187e6), long_bytes(187e6), long_bytes(14e3)),
            ("187 M".into(), "187 MB".into(), "14 kB".into())
        );
        Steps::Binary.choose();
    }

    #[test]
    fn ages_read_as_in_a_table() {
        let shown = [0.02, 48.0, 1990.0, 9670.0, 12.0 * 86_400.0 + 100.0];
        assert_eq!(shown.map(short_duration), ["0.02 s", "48 s", "33:10", "02:41:10", "12 d"]);
        assert_eq!(long_duration(231.0), "3 min 51 s");
    }

    #[test]
    fn durations_are_read_as_people_type_them() {
        assert_eq!(parse_duration("200ms"), Ok(Duration::from_millis(200)));
        assert_eq!(parse_duration("1m30s"), Ok(Duration::from_secs(90)));
        assert_eq!(parse_duration(" 1.5 h "), Ok(Duration::from_secs(5400)));
        assert_eq!(parse_duration("1y"), Ok(Duration::from_secs(365 * 86_400)));
    }

    #[test]
    fn a_wrong_duration_names_the_place_and_the_nearest_unit() {
        let message = |text: &str| parse_duration(text).expect_err("must be refused").to_string();
        assert_eq!(message("2"), "'2' needs a unit: ms, s, m, h, d or y (for example 2s)");
        assert_eq!(message("2secs"), "unknown unit 'secs' in '2secs'; did you mean 'sec'?");
        assert!(message("fast").contains("not a duration"));
        assert!(message("0s").contains("out of range"));
    }

    proptest! {
        #[test]
        fn short_forms_fit_a_cell(value in 0.0..1e18f64) {
            prop_assert!(short_bytes(value).chars().count() <= 6, "{}", short_bytes(value));
            prop_assert!(short_count(value).chars().count() <= 6);
            prop_assert!(share(value).chars().count() <= 6);
        }

        #[test]
        fn any_text_gives_a_duration_or_a_message(text in "\\PC{0,20}") {
            let _ = parse_duration(&text);
        }
    }
}
