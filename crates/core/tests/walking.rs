//! Laws of going through a timeline in order, where the memory of readings is used again and only what changed is touched.

use dozor_core::demo::SimulatedMachine;
use dozor_core::reading::{ProcessRow, Reading, raw};
use dozor_core::recording::Writer;
use dozor_core::row::Row;
use dozor_core::timeline::{Reach, Timeline};
use proptest::prelude::*;
use std::sync::Arc;

/// What becomes of the processes from one reading to the next.
#[derive(Clone, Debug)]
enum Turn {
    /// One of them did something.
    Works(usize),
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
        for reach in [Reach::All, Reach::Processes] {
            let (mut kept, mut seen) = (vec![], begin);
            let walked: Result<(), dozor_core::recording::ReadError> =
                timeline.walk(begin..timeline.end(), reach, |number, sample| {
                    assert_eq!(number, seen);
                    seen += 1;
                    assert_eq!(sample.now.processes, readings[number].processes, "sample {number}");
                    assert_eq!(sample.now.system, readings[number].system);
                    if reach == Reach::All {
                        assert_eq!(*sample.now, *readings[number]);
                    }
                    let Some(before) = sample.before.as_deref() else { return Ok(()) };
                    assert_eq!(before.processes, readings[number - 1].processes, "before sample {number}");
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
                prop_assert_eq!(&reading.processes, &readings[number].processes);
            }
        }
    }
}
