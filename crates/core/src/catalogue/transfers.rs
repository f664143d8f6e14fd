//! What a process handed to block devices, which stands in rows of its own.

use super::Value;
use crate::known::{Known, Raw};
use crate::reading::{ProcessKey, Reading, TransferRow, with_pid};
use crate::row::Row as _;
use crate::sample::{ProcessView, Sample};
use crate::text::Text;
use std::collections::{BTreeMap, BTreeSet};

type Counter = fn(&TransferRow) -> Raw;
/// Bytes and requests of a row.
pub(super) const READ: Counter = |row| row.read_bytes;
pub(super) const WRITE: Counter = |row| row.write_bytes;
pub(super) const REQUESTS: Counter = |row| row.requests;

/// The rows of a process.
fn of<'a>(reading: &'a Reading, process: &ProcessView<'_>) -> &'a [TransferRow] {
    let Some(pid) = process.now.pid.value() else { return &[] };
    let begin = reading.transfers.partition_point(|row| row.pid.value().unwrap_or(-1) < pid);
    let rows = &reading.transfers[begin..];
    let end = rows.partition_point(|row| row.pid.value() == Some(pid));
    let rows = &rows[..end];
    if rows.first().is_some_and(|row| row.start_ticks == process.now.start_ticks) { rows } else { &[] }
}

/// By how much a counter of a row grew since the reading before, where both readings have noted it.
fn grown(sample: &Sample, row: &TransferRow, counter: Counter) -> Option<f64> {
    let before = sample.before.as_deref()?;
    let earlier = before.transfers.binary_search_by_key(&row.key(), TransferRow::key).ok();
    let earlier = earlier.map(|at| &before.transfers[at]).filter(|was| was.start_ticks == row.start_ticks);
    let was = earlier.map_or(Some(0), |was| counter(was).value())?;
    Some(counter(row).value()?.saturating_sub(was).max(0) as f64)
}

/// The seconds over which both readings have noted it.
fn noted(sample: &Sample) -> Known<f64> {
    let now = sample.now.system.transfers_noted;
    let before = sample.before.as_deref().map(|before| before.system.transfers_noted);
    match sample.seconds().filter(|seconds| *seconds > 0.0) {
        _ if now == Raw::DENIED => Known::Denied,
        Some(seconds) if now == Raw::new(1) && before == Some(now) => Known::Value(seconds),
        _ => Known::Absent,
    }
}

/// A second of this sample, of a process and all devices.
pub(super) fn rate(process: &ProcessView<'_>, counter: Counter) -> Known<f64> {
    let sample = process.sample;
    let sum = || of(&sample.now, process).iter().filter_map(|row| grown(sample, row, counter)).sum::<f64>();
    noted(sample).map(|seconds| sum() / seconds)
}

fn key_of(row: &TransferRow) -> Option<ProcessKey> {
    Some(ProcessKey { pid: row.pid.value()?, start: row.start_ticks.value()? })
}

/// Bytes per second that other processes surely wrote: what each made dirty and handed to the devices itself in this sample.
/// Nothing where that is not noted.
pub(super) fn surely_by_others(process: &ProcessView<'_>) -> f64 {
    let sample = process.sample;
    let surely = |view: &ProcessView<'_>| {
        let dirtied = view.io_rate(|row| row.write_bytes, None).value();
        dirtied.zip(rate(view, WRITE).value()).map_or(0.0, |(dirtied, itself)| dirtied.min(itself))
    };
    let all = sample.surely_written.get_or_init(|| {
        let keys: BTreeSet<ProcessKey> = sample.now.transfers.iter().filter_map(key_of).collect();
        let views = keys.into_iter().filter_map(|key| Some(sample.process(sample.find(key)?)));
        views.filter(|view| view.now.kernel != Raw::new(1)).map(|view| surely(&view)).sum()
    });
    (all - surely(process)).max(0.0)
}

/// Whether requests were not counted in this sample, of one that handed over some.
pub(super) fn misses(process: &ProcessView<'_>, counter: Counter) -> bool {
    let missed = process.sample.rate(|reading| reading.system.transfers_missed);
    missed.value() > Some(0.0) && rate(process, counter).value() > Some(0.0)
}

/// A text of the row by which it handed over most in this sample, of those where there is such a text.
fn of_most(process: &ProcessView<'_>, text: fn(&TransferRow) -> &Text) -> Value {
    let sample = process.sample;
    match noted(sample) {
        Known::Value(_) => {}
        Known::Denied => return Value::Denied,
        Known::Absent => return Value::Absent,
    }
    let bytes =
        |row: &TransferRow| [READ, WRITE].iter().filter_map(|of| grown(sample, row, *of)).sum::<f64>();
    let rows = of(&sample.now, process).iter().filter(|row| !text(row).is_empty());
    let rows = rows.map(|row| (row, bytes(row))).filter(|(_, bytes)| *bytes > 0.0);
    let most = rows.max_by(|a, b| a.1.total_cmp(&b.1));
    most.map_or(Value::Absent, |(row, _)| text(row).into())
}

/// The device that it handed most to in this sample.
pub(super) fn device(process: &ProcessView<'_>) -> Value {
    of_most(process, |row| &row.device)
}

/// The control group other than its own for which it handed over most in this sample.
pub(super) fn for_group(process: &ProcessView<'_>) -> Value {
    of_most(process, |row| &row.group)
}

/// The rows of a device; requests to its partitions are in them.
fn to<'a>(sample: &'a Sample, device: &'a Text) -> impl Iterator<Item = &'a TransferRow> {
    sample.now.transfers.iter().filter(move |row| row.device == *device)
}

/// Processes that handed something to a device in this sample; none where that is not noted.
pub fn handing(sample: &Sample, device: &Text) -> Option<Vec<i64>> {
    let moves = |row: &&TransferRow| {
        [READ, WRITE].iter().any(|of| grown(sample, row, *of).is_some_and(|by| by > 0.0))
    };
    let pids = to(sample, device).filter(moves).filter_map(|row| row.pid.value());
    noted(sample).value().map(|_| pids.collect())
}

/// Bytes a second that a process itself handed to a device in this sample, in one direction; none where that is not noted.
pub fn handed_by(sample: &Sample, device: &Text, pid: i64, reads: bool) -> Option<f64> {
    let seconds = noted(sample).value()?;
    let counter = if reads { READ } else { WRITE };
    let rows = to(sample, device).filter(|row| row.pid.value() == Some(pid));
    Some(rows.filter_map(|row| grown(sample, row, counter)).sum::<f64>() / seconds)
}

/// For which control group threads of the kernel handed most to a device in this sample, in one direction, and its part of
/// all that was handed over; none where nothing was handed over for another group, or where that is not noted.
pub fn handed_for<'a>(sample: &'a Sample, device: &'a Text, reads: bool) -> Option<(&'a Text, f64)> {
    noted(sample).value()?;
    let counter = if reads { READ } else { WRITE };
    let (mut all, mut groups) = (0.0, BTreeMap::<&Text, f64>::new());
    let is_of_kernel = |row: &TransferRow| {
        let process = with_pid(&sample.now.processes, row.pid.value().unwrap_or(-1));
        process.is_some_and(|process| process.kernel == Raw::new(1))
    };
    for row in to(sample, device) {
        let bytes = grown(sample, row, counter).unwrap_or(0.0);
        all += bytes;
        // Others hand over for another group only what they wait for themselves.
        if bytes > 0.0 && !row.group.is_empty() && is_of_kernel(row) {
            *groups.entry(&row.group).or_default() += bytes;
        }
    }
    let most = groups.into_iter().max_by(|a, b| a.1.total_cmp(&b.1));
    most.map(|(group, bytes)| (group, bytes / all))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalogue::process_metric;
    use crate::reading::{HostFacts, ProcessRow, raw};
    use std::sync::Arc;

    fn row(pid: i64, start: i64, number: i64, read: i64, requests: i64) -> TransferRow {
        TransferRow {
            device: if number == 1 { "sda" } else { "sdb" }.into(),
            pid: raw(pid),
            start_ticks: raw(start),
            number: raw(number),
            group: "".into(),
            group_number: raw(0),
            read_bytes: raw(read),
            write_bytes: raw(0),
            requests: raw(requests),
        }
    }

    fn reading(seconds: i64, noted: Raw, transfers: Vec<TransferRow>) -> Reading {
        let process = |pid: i64| ProcessRow {
            pid: raw(pid),
            start_ticks: raw(50),
            kernel: raw(i64::from(pid != 9)),
            ..ProcessRow::default()
        };
        let mut reading = Reading {
            processes: [7, 8, 9].map(|pid| Arc::new(process(pid))).to_vec(),
            transfers,
            ..Reading::default()
        };
        let at = raw(seconds * 1_000_000_000);
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (at, at, at);
        reading.system.transfers_noted = noted;
        reading
    }

    #[test]
    fn what_is_handed_over_for_another_group_is_told_apart_and_in_the_sum() {
        let host = Arc::new(HostFacts { ticks_per_second: 100, ..HostFacts::default() });
        let of_group = |group: &str, number: i64, read: i64| TransferRow {
            group: group.into(),
            group_number: raw(number),
            ..row(7, 50, 1, read, 1)
        };
        let before = vec![row(7, 50, 1, 1_000, 3), of_group("/survey", 90, 500)];
        let now = vec![
            row(7, 50, 1, 9_000, 5),
            of_group("/survey", 90, 1_500),
            of_group("/archive", 95, 2_000),
            row(8, 50, 1, 70, 1),
        ];
        let earlier = Arc::new(reading(10, raw(1), before));
        let sample = Sample::new(host, Some(earlier), Arc::new(reading(12, raw(1), now)));
        let value = |alias: &str, at: usize| process_metric(alias).expect("a metric").of(&sample.process(at));
        assert_eq!(value("device_read", 0), Value::Number(5_500.0));
        assert_eq!(value("device_for", 0), Value::Text("/archive".into()));
        assert_eq!(value("device_for", 1), Value::Absent, "for itself alone");
    }

    #[test]
    fn of_what_a_device_was_handed_for_groups_the_most_is_told_with_its_part_of_all() {
        let host = Arc::new(HostFacts { ticks_per_second: 100, ..HostFacts::default() });
        let written = |pid: i64, device: i64, group: &str, group_number: i64, bytes: i64| TransferRow {
            group: group.into(),
            group_number: raw(group_number),
            write_bytes: raw(bytes),
            ..row(pid, 50, device, bytes, 1)
        };
        let before = vec![written(7, 1, "/survey", 90, 1_000), written(7, 1, "/archive", 95, 9_000)];
        let now = vec![
            written(7, 1, "/survey", 90, 4_000),
            written(7, 1, "/archive", 95, 9_500),
            written(8, 1, "", 0, 1_000),
            written(8, 1, "/survey", 90, 500),
            written(9, 1, "/archive", 95, 5_000),
            written(8, 2, "/archive", 95, 80_000),
        ];
        let of = |noted: Raw| {
            let earlier = Arc::new(reading(10, noted, before.clone()));
            let mut later = reading(12, noted, now.clone());
            later.transfers.sort_by_key(TransferRow::key);
            Sample::new(host.clone(), Some(earlier), Arc::new(later))
        };
        let sample = of(raw(1));
        for reads in [false, true] {
            assert_eq!(handed_for(&sample, &"sda".into(), reads), Some((&"/survey".into(), 0.35)));
        }
        assert_eq!(handed_for(&sample, &"sdb".into(), false), Some((&"/archive".into(), 1.0)));
        assert_eq!(handed_for(&sample, &"sdc".into(), false), None, "nothing was handed over");
        for unknown in [Raw::DENIED, Raw::ABSENT] {
            assert_eq!(handed_for(&of(unknown), &"sda".into(), false), None);
        }
    }

    #[test]
    fn a_process_has_what_its_rows_grew_by_and_nothing_is_not_the_same_as_unknown() {
        let host = Arc::new(HostFacts { ticks_per_second: 100, ..HostFacts::default() });
        let before = vec![row(7, 50, 1, 1_000, 3), row(8, 20, 1, 900, 1)];
        let now = vec![row(7, 50, 1, 5_000, 5), row(7, 50, 2, 10_000, 1), row(8, 20, 1, 950, 2)];
        let sample = |earlier: Raw, later: Raw| {
            let earlier = Arc::new(reading(10, earlier, before.clone()));
            Sample::new(host.clone(), Some(earlier), Arc::new(reading(12, later, now.clone())))
        };
        let value = |sample: &Sample, alias: &str, at: usize| {
            process_metric(alias).expect("a metric").of(&sample.process(at))
        };
        let known = sample(raw(1), raw(1));
        assert_eq!(value(&known, "device_read", 0), Value::Number(7_000.0));
        assert_eq!(value(&known, "device_requests", 0), Value::Number(1.5));
        assert_eq!(value(&known, "device", 0), Value::Text("sdb".into()));
        // The rows of that number are those of another that had it before.
        let nothing = value(&known, "device_read", 1).number();
        assert_eq!(nothing.map(f64::to_bits), Some(0.0f64.to_bits()), "nothing, and without a sign");
        assert_eq!(value(&known, "device", 1), Value::Absent);
        assert_eq!(handing(&known, &"sdb".into()), Some(vec![7]));
        // Without a word about what was let pass, with none, with some.
        for (missed, least) in [([Raw::ABSENT; 2], false), ([raw(3); 2], false), ([raw(3), raw(4)], true)] {
            let mut sample = known.clone();
            let [mut before, mut now] = [sample.before.clone().expect("both"), sample.now.clone()];
            (
                Arc::make_mut(&mut before).system.transfers_missed,
                Arc::make_mut(&mut now).system.transfers_missed,
            ) = missed.into();
            sample = Sample::new(sample.host.clone(), Some(before), now);
            let is_least =
                |at| process_metric("device_read").expect("a metric").bounded(&sample.process(at)).1;
            assert_eq!([is_least(0), is_least(1)], [least, false], "who handed over none is not marked");
        }
        let unknown = sample(Raw::ABSENT, raw(1));
        assert_eq!(value(&unknown, "device_read", 1), Value::Absent);
        assert_eq!(handing(&unknown, &"sda".into()), None);
        let denied = sample(Raw::DENIED, Raw::DENIED);
        assert_eq!(
            [value(&denied, "device_read", 0), value(&denied, "device", 0)],
            [Value::Denied, Value::Denied]
        );
        assert_eq!(handing(&denied, &"sda".into()), None);
    }
}
