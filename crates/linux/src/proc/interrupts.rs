//! `/proc/interrupts` (`proc_interrupts(5)`) and `/proc/softirqs`.

use super::{lines, number, words};
use dozor_core::known::Raw;
use dozor_core::reading::{InterruptRow, SoftirqRow};
use dozor_core::text::{Text, clean};

/// Numbers of the cores in the order of the columns.
fn cores(heading: &[u8]) -> Vec<i64> {
    words(heading).filter_map(|word| number(word.strip_prefix(b"CPU")?)).collect()
}

/// Calls `each` with source, core, count and the rest of the line, for counts above zero.
fn counts(bytes: &[u8], mut each: impl FnMut(&Text, i64, i64, &[u8])) {
    let mut lines = lines(bytes);
    let Some(cores) = lines.next().map(cores) else { return };
    for line in lines {
        let Some(colon) = line.iter().position(|byte| *byte == b':') else { continue };
        let source: Text = clean(line[..colon].trim_ascii()).into();
        let mut rest = &line[colon + 1..];
        let mut found = Vec::with_capacity(cores.len());
        for core in &cores {
            let trimmed = rest.trim_ascii_start();
            let end = trimmed.iter().position(u8::is_ascii_whitespace).unwrap_or(trimmed.len());
            let Some(count) = number(&trimmed[..end]) else { break };
            found.push((*core, count));
            rest = &trimmed[end..];
        }
        // A line with a single number (ERR, MIS) counts for the machine, not for the first core.
        if found.len() == cores.len() {
            for (core, count) in found.into_iter().filter(|(_, count)| *count > 0) {
                each(&source, core, count, rest.trim_ascii());
            }
        }
    }
}

/// Interrupts by source and core.
pub fn parse(bytes: &[u8]) -> Vec<InterruptRow> {
    let mut rows: Vec<InterruptRow> = vec![];
    counts(bytes, |source, core, count, rest| {
        let label = match rows.last() {
            Some(last) if last.source == *source => last.label.clone(),
            _ => clean(&words(rest).collect::<Vec<_>>().join(&b' ')).into(),
        };
        rows.push(InterruptRow { source: source.clone(), label, core: core.into(), count: Raw::new(count) });
    });
    rows
}

/// Deferred interrupt work by kind and core.
pub fn parse_softirqs(bytes: &[u8]) -> Vec<SoftirqRow> {
    let mut rows = vec![];
    counts(bytes, |kind, core, count, _| {
        rows.push(SoftirqRow { kind: kind.clone(), core: core.into(), count: Raw::new(count) });
    });
    rows
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read_without_zeroes() {
        let rows = parse(include_bytes!("../../tests/fixtures/interrupts"));
        let shown: Vec<_> =
            rows.iter().map(|r| (&*r.source, &*r.label, r.core.value(), r.count.value())).collect();
        assert_eq!(
            shown,
            [
                ("26", "IO-APIC 4-edge ttyS0", Some(2), Some(16)),
                ("32", "PCI-MSI 1 virtio0 input", Some(0), Some(19)),
                ("32", "PCI-MSI 1 virtio0 input", Some(2), Some(7)),
                ("LOC", "Local timer interrupts", Some(0), Some(72_197)),
                ("LOC", "Local timer interrupts", Some(2), Some(56_356)),
            ]
        );
    }

    #[test]
    fn softirqs_are_read() {
        let rows = parse_softirqs(b"                    CPU0       CPU1\n          HI:          0          0\n      NET_RX:     242531     220775\n");
        assert_eq!(rows.len(), 2);
        assert_eq!((&*rows[1].kind, rows[1].core, rows[1].count), ("NET_RX", Raw::new(1), Raw::new(220_775)));
    }
}
