//! The words of a comparison, on the screen and on the command line alike.

use super::{Compared, Pair, Presence, Side};
use crate::clock::Zone;
use crate::sorting::ColdSort as _;

/// A moment or a span in words.
pub fn span(side: &Side, zone: &Zone) -> String {
    let gap = if side.gap { ", with a gap: the longest stretch without one" } else { "" };
    if side.from_ns == side.until_ns {
        zone.date_time(side.until_ns)
    } else {
        format!("{} to {}{gap}", zone.date_time(side.from_ns), zone.time(side.until_ns))
    }
}

/// A metric with its instance.
pub fn label(pair: &Pair) -> String {
    let instance = pair.instance.as_ref().map_or(String::new(), |name| format!("{{{name}}}"));
    format!("{}{instance}", pair.metric.alias)
}

/// Both values and the difference.
pub fn cells(pair: &Pair) -> [String; 3] {
    let unit = pair.metric.unit;
    let difference = pair.difference().map_or(String::new(), |difference| {
        let sign = if difference < 0.0 { "−" } else { "+" };
        format!("{sign}{}", unit.short(difference.abs()))
    });
    [pair.a.short(unit), pair.b.short(unit), difference]
}

/// Which process, or how many of one program on each side.
pub fn who(process: &Compared) -> String {
    match (process.pid, process.count) {
        (Some(pid), _) => format!("{}[{pid}]", process.name),
        (None, [0 | 1, 1] | [1, 0]) => process.name.to_string(),
        (None, [a, b]) => format!("{} ({a} → {b})", process.name),
    }
}

/// Whether it is on one side only.
pub fn presence_words(process: &Compared) -> &'static str {
    match process.presence {
        Presence::Appeared => "only in B",
        Presence::Vanished => "only in A",
        Presence::Both => "",
    }
}

/// What differs most of it.
pub fn changes(process: &Compared) -> Vec<String> {
    let mut pairs: Vec<&Pair> = process
        .pairs
        .iter()
        .filter(|pair| match process.presence {
            Presence::Both => pair.weight > 0.001,
            Presence::Appeared => pair.b.number().is_some_and(|value| value > 0.0),
            Presence::Vanished => pair.a.number().is_some_and(|value| value > 0.0),
        })
        .collect();
    pairs.cold_sort_by(|a, b| b.weight.total_cmp(&a.weight));
    let words = |pair: &Pair| {
        let [a, b, _] = cells(pair);
        let alias = pair.metric.alias;
        match process.presence {
            Presence::Both => format!("{alias} {a} → {b}"),
            Presence::Appeared => format!("{alias} {b}"),
            Presence::Vanished => format!("{alias} {a}"),
        }
    };
    pairs.into_iter().take(4).map(words).collect()
}
