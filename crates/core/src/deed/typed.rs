//! Deeds as people type them: `TERM`, `9`, `nice 7`, `cores 0-3`, `files 4096`.

use super::{Deed, Resource};
use crate::catalogue::Unit;
use crate::expr::quantity_units;
use crate::signals;

/// What is typed before a value, what it means, and an example.
pub const FORMS: [(&str, &str); 8] = [
    ("nice 7", "niceness from -20 (most CPU) to 19 (least)"),
    ("cores 0-3,8", "cores that it may use"),
    ("disk 7", "disk level from 0 (first) to 7, or idle"),
    ("round robin 10", "real-time in turns, priority 1 to 99"),
    ("fifo 10", "real-time until it waits, priority 1 to 99"),
    ("oom 300", "OOM preference from -1000 (spare it) to 1000 (take it first)"),
    (
        "open files 4096",
        "a limit; others: processes, core dump, file size, address space, CPU time, stack, locked memory",
    ),
    ("core dump unlimited", "a limit, taken away"),
];

/// The deed that a text means; none where it means none. What is meant for a value that cannot be is said.
pub fn parse(text: &str) -> Option<Result<Deed, String>> {
    let text = text.trim();
    let (word, rest) = text.rsplit_once(' ').unwrap_or((text, ""));
    let (word, rest) = (word.trim().to_lowercase(), rest.trim());
    let whole = |range: std::ops::RangeInclusive<i32>, what: &str| -> Result<i32, String> {
        let value = rest.strip_prefix('+').unwrap_or(rest).parse().ok().filter(|value| range.contains(value));
        value.ok_or_else(|| format!("{what} is a whole number from {} to {}", range.start(), range.end()))
    };
    if rest.is_empty() {
        return signal(&word).map(|number| Ok(Deed::Signal(number)));
    }
    Some(match word.as_str() {
        "nice" => nice(rest).map(Deed::Nice),
        "cores" | "core" => {
            rest.parse().map(Deed::Cores).map_err(|error: crate::cores::CoreSetError| error.to_string())
        }
        "disk" if rest == "idle" => Ok(Deed::Io(3 << 13)),
        "disk" => whole(0..=7, "a disk level").map(|level| Deed::Io(2 << 13 | level)),
        "round robin" => whole(1..=99, "a real-time priority").map(|priority| Deed::Policy(2, priority)),
        "fifo" => whole(1..=99, "a real-time priority").map(|priority| Deed::Policy(1, priority)),
        "oom" => whole(-1000..=1000, "an OOM preference").map(Deed::Oom),
        "signal" => return signal(&rest.to_lowercase()).map(|number| Ok(Deed::Signal(number))),
        name => {
            let name = if name == "files" { "open files" } else { name };
            let resource =
                Resource::ALL.into_iter().find(|resource| resource.word().to_lowercase() == name)?;
            limit(resource, rest).map(|value| Deed::Limit(resource, value, value))
        }
    })
}

/// A niceness: what it will be. With a plus it looks like a step from what it is now, which this is not.
pub fn nice(text: &str) -> Result<i32, String> {
    if text.starts_with('+') {
        return Err(format!("niceness is set, not raised: write nice {}", text.trim_start_matches('+')));
    }
    let value = text.parse().ok().filter(|value| (-20..=19).contains(value));
    value.ok_or_else(|| "niceness is a whole number from -20 to 19".to_owned())
}

/// A signal by its name, with or without `SIG`, or by its number.
pub fn signal(text: &str) -> Option<i32> {
    let text = text.trim().to_uppercase();
    let name = text.strip_prefix("SIG").unwrap_or(&text);
    let found = signals::all().find(|signal| signal.name == name || signal.number.to_string() == name);
    // The last real-time signals are counted from the end as well; signal(7).
    let from_end = || {
        let back: i32 = match name.strip_prefix("RTMAX")? {
            "" => 0,
            rest => rest.strip_prefix('-')?.parse().ok()?,
        };
        signals::by_number(64 - back).filter(|signal| signal.number >= 34)
    };
    found.or_else(from_end).map(|signal| signal.number)
}

fn limit(resource: Resource, text: &str) -> Result<Option<u64>, String> {
    if text == "unlimited" {
        return Ok(None);
    }
    let wrong = || format!("'{text}' is no limit: write a number or unlimited");
    match resource {
        Resource::Files | Resource::Processes | Resource::Cpu => text.parse().map(Some).map_err(|_| wrong()),
        _ => bytes(text).map(Some).ok_or_else(wrong),
    }
}

/// A size with its unit, or bytes alone.
fn bytes(text: &str) -> Option<u64> {
    let digits = text.find(|letter: char| !letter.is_ascii_digit() && letter != '.').unwrap_or(text.len());
    let (number, unit) = text.split_at(digits);
    let number: f64 = number.parse().ok()?;
    let unit = unit.trim();
    let factor = if unit.is_empty() {
        1.0
    } else {
        quantity_units(Unit::Bytes).iter().find(|(name, _)| *name == unit)?.1
    };
    let bytes = number * factor;
    (bytes < 9e18).then_some(bytes as u64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_people_type_is_understood() {
        let deed = |text: &str| parse(text).expect("a deed").expect("a good value");
        assert_eq!(deed("term"), Deed::Signal(15));
        assert_eq!(deed("SIGUSR1"), Deed::Signal(10));
        assert_eq!(deed("rtmin+3"), Deed::Signal(37));
        assert_eq!(deed("rtmax-1"), Deed::Signal(63));
        assert_eq!(deed("nice -5"), Deed::Nice(-5));
        assert_eq!(deed("cores 0-2"), Deed::Cores("0,1,2".parse().expect("a set")));
        assert_eq!(deed("disk idle"), Deed::Io(3 << 13));
        assert_eq!(deed("round robin 10"), Deed::Policy(2, 10));
        assert_eq!(deed("files 4096"), Deed::Limit(Resource::Files, Some(4096), Some(4096)));
        assert_eq!(deed("core dump unlimited"), Deed::Limit(Resource::CoreDump, None, None));
        assert_eq!(deed("file size 2MiB"), Deed::Limit(Resource::FileSize, Some(2 << 20), Some(2 << 20)));
        assert!(parse("stop politely").is_none() && parse("").is_none() && parse("rtmax-99").is_none());
        for (wrong, said) in [
            ("nice 40", "from -20 to 19"),
            ("nice +5", "write nice 5"),
            ("cores x", "no core"),
            ("files many", "no limit"),
        ] {
            let error = parse(wrong).expect("a deed is meant").expect_err("a value that cannot be");
            assert!(error.contains(said), "{error}");
        }
        for (example, _) in FORMS {
            assert!(matches!(parse(example), Some(Ok(_))), "{example}");
        }
    }
}
