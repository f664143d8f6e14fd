//! Memory of a process by kind and by what it is mapped from; `proc_pid_status(5)`, `proc_pid_smaps(5)`.

use super::process::{Inside, REMOVED};
use crate::proc::{lines, next, number, scaled, words};
use dozor_core::inside::{Mapping, Memory};
use dozor_core::known::Raw;
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::clean;
use std::collections::HashMap;

impl Inside {
    /// Memory by kind and by mapping.
    pub(super) fn memory(&self) -> Memory {
        let kinds = self.file("status").map(|text| kinds(&text));
        Memory { kinds, mappings: self.file("smaps").map(|text| mappings(&text)) }
    }
}

/// The `Vm`, `Rss` and `Huge` lines in bytes, in the kernel's words.
fn kinds(status: &[u8]) -> Vec<(String, i64)> {
    let kind = |line: &[u8]| {
        let mut words = words(line);
        let name = words.next()?.strip_suffix(b":")?;
        let wanted = [&b"Vm"[..], b"Rss", b"Huge"].iter().any(|begin| name.starts_with(begin));
        let bytes = number(words.next()?)?.checked_mul(1024)?;
        (wanted && words.next() == Some(b"kB")).then(|| (clean(name), bytes))
    };
    lines(status).filter_map(kind).collect()
}

/// The name that stands behind five fields of a mapping's first line.
fn name_of(line: &[u8]) -> Option<&[u8]> {
    let mut rest = line;
    for field in 0..5 {
        let end = rest.iter().position(|byte| *byte == b' ').unwrap_or(rest.len());
        if end == 0 || field == 0 && !rest[..end].contains(&b'-') {
            return None;
        }
        rest = rest[end..].trim_ascii_start();
    }
    Some(rest)
}

/// Mappings taken together by what they are mapped from, the most resident first.
pub fn mappings(smaps: &[u8]) -> Vec<Mapping> {
    let mut by_name: HashMap<Vec<u8>, Mapping> = HashMap::new();
    let mut current: Option<Vec<u8>> = None;
    for line in lines(smaps) {
        let head = words(line).next().filter(|word| !word.ends_with(b":"));
        if head.is_some() {
            current = name_of(line).map(<[u8]>::to_vec);
            if let Some(name) = &current {
                by_name.entry(name.clone()).or_default().count += 1;
            }
            continue;
        }
        let Some(mapping) = current.as_ref().and_then(|name| by_name.get_mut(name)) else { continue };
        let mut words = words(line);
        let field = words.next();
        let bytes = scaled(next(&mut words), 1024);
        let add = |sum: &mut Raw| {
            if let Some(bytes) = bytes.value() {
                *sum = Raw::new(sum.value().unwrap_or(0).saturating_add(bytes));
            }
        };
        match field {
            Some(b"Size:") => mapping.size = mapping.size.saturating_add(bytes.value().unwrap_or(0)),
            Some(b"Rss:") => add(&mut mapping.resident),
            Some(b"Pss:") => add(&mut mapping.proportional),
            Some(b"Private_Dirty:" | b"Shared_Dirty:") => add(&mut mapping.dirty),
            Some(b"Swap:") => add(&mut mapping.swap),
            _ => {}
        }
    }
    let mut mappings: Vec<Mapping> = by_name
        .into_iter()
        .map(|(name, mapping)| {
            let kept = name.strip_suffix(REMOVED);
            let name = match kept.unwrap_or(&name) {
                b"" => "own memory".to_owned(),
                name => clean(name),
            };
            Mapping { name, removed: kept.is_some(), ..mapping }
        })
        .collect();
    mappings.cold_sort_by(|a, b| {
        (b.resident.value(), b.size, &a.name).cmp(&(a.resident.value(), a.size, &b.name))
    });
    mappings
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mappings_of_one_file_are_one_and_the_largest_is_first() {
        let text = b"55d0c000-55d0d000 r--p 00000000 fe:00 123 /opt/night bin/stacker (deleted)\nSize: 4 kB\nRss: 4 kB\n\
            Pss: 2 kB\nPrivate_Dirty: 1 kB\nVmFlags: rd mr\n55d0d000-55d0e000 r-xp 00001000 fe:00 123    /opt/night bin/stacker (deleted)\n\
            Size: 8 kB\nRss: 8 kB\nSwap: 4 kB\n7f00-7f01 rw-p 00000000 00:00 0 \nSize: 400 kB\nRss: 100 kB\n\
            7f01-7f02 rw-p 00000000 00:00 0                          [heap]\nSize: 40 kB\nRss: 10 kB\n";
        let found = mappings(text);
        let names: Vec<(&str, i64, Option<i64>)> =
            found.iter().map(|m| (m.name.as_str(), m.count, m.resident.value())).collect();
        assert_eq!(
            names,
            [
                ("own memory", 1, Some(102_400)),
                ("/opt/night bin/stacker", 2, Some(12_288)),
                ("[heap]", 1, Some(10_240))
            ]
        );
        assert_eq!((found[1].removed, found[1].swap, found[1].size), (true, Raw::new(4096), 12_288));
        assert_eq!(mappings(b"\x00\xff\n: \n--\n"), mappings(b""));
    }
}
