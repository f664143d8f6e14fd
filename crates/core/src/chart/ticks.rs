//! Ticks that people read: round numbers in the steps of a unit, round times in a zone.

use crate::catalogue::Unit;
use crate::clock::Zone;
use crate::units::{NANOS, Steps};

/// Places on an axis, with what stands there.
#[derive(Clone, Debug, PartialEq)]
pub struct Ticks {
    /// Values in the unit of the axis, ascending, and their texts.
    pub at: Vec<(f64, String)>,
    /// The unit, to be said once.
    pub unit: String,
}

/// A step of 1, 2 or 5 times a power of ten, or of two where counting is binary.
fn step(span: f64, most: usize, binary: bool) -> f64 {
    let rough = span / most.max(1) as f64;
    if rough <= 0.0 || !rough.is_finite() {
        return 1.0;
    }
    if binary && rough >= 1.0 {
        return 2f64.powi(rough.log2().ceil() as i32);
    }
    let power = 10f64.powi(rough.log10().floor() as i32);
    let factor = [1.0, 2.0, 5.0, 10.0].into_iter().find(|factor| factor * power >= rough * 0.999_999);
    factor.unwrap_or(10.0) * power
}

/// The factor and the name by which numbers of such a size are told.
fn scale(unit: Unit, most: f64) -> (f64, String) {
    const PREFIXES: [&str; 6] = ["", "K", "M", "G", "T", "P"];
    let prefixed = |base: f64, small: &str| {
        let mut power = 0;
        while power + 1 < PREFIXES.len() && most >= base.powi(power as i32 + 1) {
            power += 1;
        }
        let prefix = if power == 1 { small } else { PREFIXES[power] };
        (base.powi(power as i32), prefix.to_owned())
    };
    match unit {
        Unit::Bytes | Unit::BytesPerSecond => {
            let binary = Steps::chosen() == Steps::Binary;
            let (factor, prefix) = if binary { prefixed(1024.0, "K") } else { prefixed(1000.0, "k") };
            let middle = if binary && !prefix.is_empty() { "i" } else { "" };
            let per = if unit == Unit::BytesPerSecond { "/s" } else { "" };
            (factor, format!("{prefix}{middle}B{per}"))
        }
        Unit::BitsPerSecond | Unit::Hertz => {
            let (factor, prefix) = prefixed(1000.0, "k");
            (factor, format!("{prefix}{}", unit.word()))
        }
        Unit::PerSecond | Unit::Number if most >= 10_000.0 => {
            let (factor, prefix) = prefixed(1000.0, "thousand ");
            let prefix = match prefix.as_str() {
                "M" => "million ".to_owned(),
                "G" => "billion ".to_owned(),
                _ => prefix,
            };
            let per = if unit == Unit::PerSecond { "/s" } else { "" };
            (factor, format!("{prefix}{per}").trim().to_owned())
        }
        Unit::Seconds | Unit::Delay if most > 0.0 && most < 1.0 => (1e-3, "ms".to_owned()),
        Unit::Seconds | Unit::Delay if most >= 7_200.0 => (3_600.0, "h".to_owned()),
        Unit::Seconds | Unit::Delay if most >= 120.0 => (60.0, "min".to_owned()),
        Unit::Number => (1.0, String::new()),
        _ => (1.0, unit.word().to_owned()),
    }
}

/// Ticks from one value to another that reaches over both, about so many.
pub fn number_ticks(unit: Unit, low: f64, high: f64, most: usize) -> Ticks {
    let (factor, name) = scale(unit, high.abs().max(low.abs()));
    let (from, until) = (low / factor, high / factor);
    let binary = factor > 1000.5 && matches!(unit, Unit::Bytes | Unit::BytesPerSecond) && until - from > 64.0;
    let step = step((until - from).max(f64::MIN_POSITIVE), most, binary);
    let digits = if step >= 1.0 { 0 } else { (-step.log10()).ceil().clamp(0.0, 9.0) as usize };
    let (first, last) = ((from / step).floor() as i64, (until / step - 1e-9).ceil() as i64);
    let last = last.clamp(first + 1, first + 1_000);
    let at = (first..=last).map(|number| {
        let value = number as f64 * step;
        (value * factor, format!("{value:.digits$}"))
    });
    Ticks { at: at.collect(), unit: name }
}

/// Round times between two instants in a zone, at most so many, with their texts; the first of a day says the day.
pub fn time_ticks(from_ns: i64, until_ns: i64, most: usize, zone: &Zone) -> Vec<(i64, String)> {
    const STEPS: [i64; 24] = [
        1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1_800, 3_600, 7_200, 10_800, 21_600, 43_200, 86_400,
        172_800, 604_800, 1_209_600, 2_592_000, 7_776_000, 31_536_000,
    ];
    let seconds = (until_ns.saturating_sub(from_ns) / NANOS).max(1);
    let step = STEPS.into_iter().find(|step| seconds / step < most.max(1) as i64).unwrap_or(STEPS[23]);
    let wide = step * NANOS;
    // The offset may change within the span: each tick is round by its own.
    let offset = |wall: i64| zone.offset_seconds(wall) * NANOS;
    let round = |wall: i64| (wall + offset(wall)).div_euclid(wide) * wide - offset(wall);
    let mut ticks = vec![];
    let mut wall = round(from_ns);
    let mut day = String::new();
    while wall <= until_ns && ticks.len() < 1_000 {
        if wall >= from_ns {
            let today = zone.day(wall);
            let text = if step >= 86_400 {
                today.clone()
            } else if step >= 60 {
                zone.minute(wall)
            } else {
                zone.time(wall)
            };
            let begins = !day.is_empty() && day != today && step < 86_400;
            ticks.push((wall, if begins { today.clone() } else { text }));
            day = today;
        }
        let next = round(wall + wide + wide / 2);
        wall = if next > wall { next } else { wall + wide };
    }
    ticks
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn ticks_are_told_in_units_that_people_read() {
        let texts =
            |ticks: &Ticks| ticks.at.iter().map(|(_, text)| text.clone()).collect::<Vec<_>>().join(" ");
        let percent = number_ticks(Unit::Percent, 0.0, 100.0, 5);
        assert_eq!((texts(&percent).as_str(), percent.unit.as_str()), ("0 20 40 60 80 100", "%"));
        let bytes = number_ticks(Unit::BytesPerSecond, 0.0, 181.0 * 1_048_576.0, 4);
        assert_eq!((texts(&bytes).as_str(), bytes.unit.as_str()), ("0 64 128 192", "MiB/s"));
        let wait = number_ticks(Unit::Delay, 0.0, 0.041, 4);
        assert_eq!((texts(&wait).as_str(), wait.unit.as_str()), ("0 20 40 60", "ms"));
        let calls = number_ticks(Unit::PerSecond, 0.0, 648_000.0, 4);
        assert_eq!((texts(&calls).as_str(), calls.unit.as_str()), ("0 200 400 600 800", "thousand /s"));
    }

    #[test]
    fn times_are_round_in_their_zone_and_a_new_day_says_so() {
        let zone = Zone::named("Asia/Kathmandu");
        let evening = 1_928_858_400 * NANOS;
        let ticks = time_ticks(evening, evening + 6 * 3_600 * NANOS, 8, &zone);
        let texts: Vec<&str> = ticks.iter().map(|(_, text)| text.as_str()).collect();
        assert!(texts.iter().all(|text| text.ends_with(":00") || text.len() == 10), "{texts:?}");
        assert!(ticks.len() > 3 && ticks.len() <= 9, "{texts:?}");
    }

    proptest! {
        #[test]
        fn ticks_reach_over_all_values_in_even_steps(low in -1e6f64..1e6, span in 1e-6f64..1e15, most in 2usize..12) {
            for unit in [Unit::Bytes, Unit::Percent, Unit::PerSecond, Unit::Delay, Unit::Hertz] {
                let ticks = number_ticks(unit, low, low + span, most);
                let values: Vec<f64> = ticks.at.iter().map(|(value, _)| *value).collect();
                let slack = (low.abs() + span) * 1e-9;
                prop_assert!(values[0] <= low + slack && values[values.len() - 1] >= low + span - slack, "{values:?}");
                prop_assert!(values.windows(2).all(|pair| pair[1] > pair[0]));
                prop_assert!(values.len() <= most + 3, "{} for {most}: {values:?}", values.len());
            }
        }

        #[test]
        fn times_are_ascending_few_and_within(from in 0i64..4_000_000_000, length in 1i64..100_000_000, most in 2usize..20) {
            let (from, until) = (from * NANOS, (from + length) * NANOS);
            let ticks = time_ticks(from, until, most, &Zone::named("Europe/Berlin"));
            prop_assert!(ticks.len() <= most + 2, "{} for {most}", ticks.len());
            prop_assert!(ticks.iter().all(|(wall, _)| *wall >= from && *wall <= until));
            prop_assert!(ticks.windows(2).all(|pair| pair[1].0 > pair[0].0));
        }
    }
}
