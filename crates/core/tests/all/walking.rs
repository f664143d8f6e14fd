//! Laws of going through a timeline in order, where the memory of readings is used again and only what changed is touched.

use dozor_core::catalogue::listed;
use dozor_core::demo::SimulatedMachine;
use dozor_core::known::Raw;
use dozor_core::reading::{ProcessRow, Reading, SystemRow, raw};
use dozor_core::recording::Writer;
use dozor_core::row::{Cells, Row};
use dozor_core::timeline::{Reach, Timeline};
use proptest::prelude::*;
use std::sync::Arc;

/// What becomes of the processes from one reading to the next.
#[derive(Clone, Debug)]
enum Turn {
    /// One of them did something.
    Works(usize),
    /// One of them read something from a disk.
    Reads(usize),
    /// One becomes another program.
    Becomes(usize),
    /// One goes.
    Goes(usize),
    /// A new one comes.
    Comes,
    /// Nothing happens.
    Rests,
}

fn turns() -> impl Strategy<Value = Vec<Vec<Turn>>> {
    let turn = prop_oneof![
        8 => any::<usize>().prop_map(Turn::Works),
        4 => any::<usize>().prop_map(Turn::Reads),
        1 => any::<usize>().prop_map(Turn::Becomes),
        1 => any::<usize>().prop_map(Turn::Goes),
        1 => Just(Turn::Comes),
        2 => Just(Turn::Rests),
    ];
    proptest::collection::vec(proptest::collection::vec(turn, 0..4), 1..160)
}

fn process(pid: i64) -> ProcessRow {
    let name = format!("lens{}", pid % 3);
    let (pid, start_ticks) = (raw(pid), raw(pid.saturating_mul(3)));
    ProcessRow { name: name.as_str().into(), program: name.into(), pid, start_ticks, ..ProcessRow::default() }
}

/// Readings of a machine whose processes do what the turns say; its other parts change as the simulated machine's do.
fn readings(turns: &[Vec<Turn>]) -> Vec<Arc<Reading>> {
    let mut machine = SimulatedMachine::new(5);
    let mut rows: Vec<Arc<ProcessRow>> = (1..9).map(|pid| Arc::new(process(pid))).collect();
    let (mut next, mut all) = (9, vec![]);
    for (second, turn) in turns.iter().enumerate() {
        machine.advance_to(std::time::Duration::from_secs(second as u64 + 1));
        for one in turn {
            let count = rows.len();
            match one {
                Turn::Works(at) if count > 0 => {
                    let row = Arc::make_mut(&mut rows[at % count]);
                    row.user_ticks = raw(row.user_ticks.value().unwrap_or(0) + 7);
                    row.rss_bytes = raw((second as i64 % 5) << 20);
                }
                Turn::Reads(at) if count > 0 => {
                    let row = Arc::make_mut(&mut rows[at % count]);
                    row.read_bytes = raw(row.read_bytes.value().unwrap_or(0) + 4096);
                    row.wait_on = format!("folio_wait{}", second % 2).as_str().into();
                }
                Turn::Becomes(at) if count > 0 => {
                    let row = Arc::make_mut(&mut rows[at % count]);
                    row.name = format!("dome{second}").as_str().into();
                }
                Turn::Goes(at) if count > 0 => drop(rows.remove(at % count)),
                Turn::Comes => {
                    rows.push(Arc::new(process(next)));
                    next += 1;
                }
                _ => {}
            }
        }
        let mut reading = machine.reading();
        reading.processes.clone_from(&rows);
        reading.sort();
        all.push(Arc::new(reading));
    }
    all
}

/// What of processes is read.
fn cells(reach: Reach) -> Cells {
    if let Reach::Processes { cells, .. } = reach { cells } else { Cells::ALL }
}

/// The processes of a reading without what nobody looks at.
fn seen_of(reading: &Reading, cells: Cells) -> Vec<ProcessRow> {
    let seen = |row: &Arc<ProcessRow>| {
        let mut seen = ProcessRow::default();
        for (_, field) in ProcessRow::TEXTS.iter().enumerate().filter(|(at, _)| cells.has_text(*at)) {
            (field.set)(&mut seen, (field.get)(row).clone());
        }
        for (_, field) in
            ProcessRow::FIELDS.iter().enumerate().filter(|(at, _)| cells.has_number::<ProcessRow>(*at))
        {
            field.set(&mut seen, (field.get)(row));
        }
        seen
    };
    reading.processes.iter().map(seen).collect()
}

/// The same as they were read.
fn rows(reading: &Reading) -> Vec<ProcessRow> {
    reading.processes.iter().map(|row| (**row).clone()).collect()
}

fn recorded(readings: &[Arc<Reading>]) -> Timeline {
    let mut writer = Writer::new(Arc::new(SimulatedMachine::new(5).host()), None);
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    for reading in readings {
        writer.put(reading, &mut bytes).expect("memory");
    }
    writer.finish(&mut bytes);
    Timeline::open(bytes).expect("our own")
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    #[test]
    fn going_through_gives_what_was_written(turns in turns(), begin in 0..20usize, keep in any::<bool>()) {
        let readings = readings(&turns);
        let timeline = recorded(&readings);
        let alone = ["cpu", "rss", "read", "write", "wait_on"].map(|alias| Reach::of(listed(alias)));
        let of_processes = Reach::Processes { cells: Cells::ALL, disks: false };
        for reach in [Reach::All, of_processes].into_iter().chain(alone) {
            let cells = cells(reach);
            let (mut kept, mut seen) = (vec![], begin);
            let walked: Result<(), dozor_core::recording::ReadError> =
                timeline.walk(begin..timeline.end(), reach, |number, sample| {
                    assert_eq!(number, seen);
                    seen += 1;
                    assert_eq!(rows(&sample.now), seen_of(&readings[number], cells), "sample {number}");
                    for field in SystemRow::FIELDS {
                        let (seen, was) = ((field.get)(&sample.now.system), (field.get)(&readings[number].system));
                        let is_left_out = reach != Reach::All && !field.name.ends_with("_ns") && seen == Raw::ABSENT;
                        assert!(is_left_out || seen == was, "{} of sample {number}", field.name);
                    }
                    if reach == Reach::All {
                        assert_eq!(*sample.now, *readings[number]);
                    }
                    if matches!(reach, Reach::Processes { disks: true, .. }) {
                        assert_eq!(sample.now.disks, readings[number].disks, "disks of sample {number}");
                    }
                    let Some(before) = sample.before.as_deref() else { return Ok(()) };
                    assert_eq!(rows(before), seen_of(&readings[number - 1], cells), "before sample {number}");
                    let keys = |reading: &Reading| reading.processes.iter().map(|row| row.key()).collect::<Vec<_>>();
                    // What counts as changed is all that differs, and nothing else is another row.
                    if let Some(changed) = sample.changed() {
                        assert_eq!(keys(before), keys(&sample.now));
                        for (at, (was, is)) in before.processes.iter().zip(&sample.now.processes).enumerate() {
                            assert_eq!(changed.contains(&at), !Arc::ptr_eq(was, is), "process {at} of {number}");
                        }
                    }
                    for at in 0..sample.now.processes.len() {
                        let earlier = sample.earlier_place(at).map(|place| before.processes[place].key());
                        let key = sample.now.processes[at].key();
                        assert_eq!(earlier, before.process(key).map(|row| row.key()));
                    }
                    // What somebody keeps stays as it was.
                    if keep {
                        kept.push((number, sample.now.clone()));
                    }
                    Ok(())
                });
            walked.expect("readable");
            prop_assert_eq!(seen, timeline.end().max(begin));
            for (number, reading) in kept {
                prop_assert_eq!(rows(&reading), seen_of(&readings[number], cells));
            }
        }
    }
}
