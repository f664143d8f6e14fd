//! Laws of the recording: what was written is read back, and nothing that happens to the bytes does harm.

use dozor_core::known::Raw;
use dozor_core::reading::{HostFacts, ProcessRow, Reading, SystemRow};
use dozor_core::recording::{Damage, Encoder, Event, ReadError, StreamReader};
use dozor_core::row::Row;
use dozor_core::timeline::Timeline;
use proptest::prelude::*;
use std::io::Write as _;
use std::sync::Arc;

fn host() -> HostFacts {
    HostFacts { name: "lynx-obs".to_owned(), cores: 8, ticks_per_second: 100, ..HostFacts::default() }
}

fn written(readings: &[Reading]) -> Vec<u8> {
    let mut bytes = Encoder::head(&host(), None);
    let mut encoder = Encoder::default();
    for reading in readings {
        encoder.put(&Arc::new(reading.clone()), &mut bytes);
    }
    bytes
}

fn read(bytes: &[u8]) -> Result<(Vec<Reading>, Vec<Damage>), ReadError> {
    let mut stream = StreamReader::open(bytes, true)?;
    let (mut readings, mut damages) = (vec![], vec![]);
    while let Some(event) = stream.next_event()? {
        match event {
            Event::Reading { reading, .. } => readings.push(*reading),
            Event::Damage(damage) => damages.push(damage),
        }
    }
    Ok((readings, damages))
}

fn in_file(bytes: &[u8]) -> std::fs::File {
    let path =
        std::env::temp_dir().join(format!("dozor-recording-{}-{:p}", std::process::id(), bytes.as_ptr()));
    std::fs::File::create(&path).and_then(|mut file| file.write_all(bytes)).expect("a scratch file");
    let file = std::fs::File::open(&path).expect("the scratch file");
    std::fs::remove_file(&path).expect("removing the scratch file");
    file
}

fn any_raw() -> impl Strategy<Value = Raw> {
    prop_oneof![
        1 => Just(Raw::ABSENT),
        1 => Just(Raw::DENIED),
        4 => (0..1000i64).prop_map(Raw::new),
        1 => any::<i64>().prop_map(Raw::new),
    ]
}

/// A row with some of its fields set by the declaration, none of them by name.
fn any_row<R: Row + std::fmt::Debug>() -> impl Strategy<Value = R> {
    let texts = proptest::collection::vec("[a-zá]{0,4}", R::TEXTS.len());
    let fields = proptest::collection::vec(any_raw(), R::FIELDS.len());
    (texts, fields).prop_map(|(texts, fields)| {
        let mut row = R::default();
        for (field, text) in R::TEXTS.iter().zip(texts) {
            (field.set)(&mut row, text.into());
        }
        for (field, value) in R::FIELDS.iter().zip(fields) {
            (field.set)(&mut row, value);
        }
        row
    })
}

fn any_process() -> impl Strategy<Value = ProcessRow> {
    (any_row::<ProcessRow>(), 1..12i64, 0..3i64).prop_map(|(mut row, pid, start)| {
        (row.pid, row.start_ticks) = (Raw::new(pid), Raw::new(start));
        row
    })
}

fn some<R: Row + std::fmt::Debug>() -> impl Strategy<Value = Vec<R>> {
    proptest::collection::vec(any_row(), 0..3)
}

fn any_reading() -> impl Strategy<Value = Reading> {
    let system = (any_row::<SystemRow>(), some(), some(), some(), some(), some());
    let parts = (some(), some(), some(), some(), some(), some(), some());
    let processes = proptest::collection::vec(any_process().prop_map(Arc::new), 0..10);
    (system, parts, processes).prop_map(|(system, parts, processes)| {
        let (system, cores, disks, interfaces, sensors, interrupts) = system;
        let (softirqs, filesystems, batteries, gpus, connections, ended, threads) = parts;
        let mut reading = Reading {
            system,
            cores,
            disks,
            interfaces,
            sensors,
            interrupts,
            softirqs,
            filesystems,
            batteries,
            gpus,
            connections,
            ended,
            threads,
            processes,
        };
        reading.sort();
        reading
    })
}

fn simulated(count: usize) -> Vec<Reading> {
    static NIGHT: std::sync::LazyLock<Vec<Reading>> = std::sync::LazyLock::new(|| {
        let mut machine = dozor_core::demo::SimulatedMachine::new(5);
        (0..80)
            .map(|second| {
                machine.advance_to(std::time::Duration::from_secs(second));
                let mut reading = machine.reading();
                // A few rows of each kind: the laws try every byte.
                reading.processes.truncate(12);
                reading.connections.truncate(3);
                reading.interrupts.truncate(4);
                reading.softirqs.truncate(4);
                reading.sensors.truncate(4);
                reading.filesystems.truncate(2);
                reading
            })
            .collect()
    });
    NIGHT[..count].to_vec()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]

    #[test]
    fn what_was_written_is_read_back(readings in proptest::collection::vec(any_reading(), 0..70)) {
        let (back, damages) = read(&written(&readings)).expect("a whole recording");
        prop_assert_eq!(damages, vec![]);
        prop_assert_eq!(back, readings);
    }

    #[test]
    fn any_place_of_a_timeline_gives_the_same_reading_in_any_order(
        visits in proptest::collection::vec(0..80usize, 1..30)
    ) {
        let readings = simulated(80);
        let (mut recorded, damages) = Timeline::open(in_file(&written(&readings))).expect("a whole recording");
        prop_assert_eq!(damages, vec![]);
        let mut live = Timeline::live(Arc::new(host()));
        for reading in &readings {
            live.append(Arc::new(reading.clone()));
        }
        prop_assert_eq!(recorded.end(), 80);
        for visit in visits {
            for timeline in [&mut recorded, &mut live] {
                let sample = timeline.sample(visit).expect("a sample that was written");
                prop_assert_eq!(&*sample.now, &readings[visit]);
                prop_assert_eq!(sample.before.as_deref(), visit.checked_sub(1).map(|before| &readings[before]));
            }
        }
    }

    #[test]
    fn random_bytes_behind_a_head_are_damage_and_never_a_panic(
        noise in proptest::collection::vec(any::<u8>(), 1..2000)
    ) {
        let mut bytes = written(&simulated(3));
        bytes.extend(&noise);
        let (readings, damages) = read(&bytes).expect("the head is whole");
        prop_assert_eq!(readings, simulated(3));
        prop_assert_eq!(damages.len(), 1);
    }
}

#[test]
fn every_truncation_gives_the_whole_readings_before_it_and_says_so() {
    let readings = simulated(4);
    let bytes = written(&readings);
    let ends: Vec<usize> = (0..=4).map(|count| written(&readings[..count]).len()).collect();
    for cut in 0..bytes.len() {
        match read(&bytes[..cut]) {
            Err(ReadError::Empty) => assert_eq!(cut, 0),
            Err(ReadError::CutAtHead) => assert!(cut < ends[0], "cut at {cut}"),
            Err(other) => panic!("cut at {cut}: {other}"),
            Ok((back, damages)) => {
                let whole = ends.iter().filter(|end| **end <= cut).count() - 1;
                assert_eq!(back, readings[..whole], "cut at {cut}");
                if ends.contains(&cut) {
                    assert_eq!(damages, [], "a cut between readings is none");
                } else {
                    let expected =
                        Damage { offset: ends[whole] as u64, bytes: (cut - ends[whole]) as u64, cut: true };
                    assert_eq!(damages, [expected], "cut at {cut}");
                }
            }
        }
    }
}

#[test]
fn every_flipped_byte_gives_an_error_or_true_readings_with_a_report() {
    // All bytes of a short recording, and enough of a long one to hit every part of its frames.
    for (count, step) in [(2, 1), (40, 97)] {
        flip_bytes(&simulated(count), step);
    }
}

fn flip_bytes(readings: &[Reading], step: usize) {
    let bytes = written(readings);
    for at in (0..bytes.len()).step_by(step) {
        let mut damaged = bytes.clone();
        damaged[at] ^= 1 << (at % 8);
        let Ok((back, damages)) = read(&damaged) else { continue };
        let mut rest = readings.iter();
        assert!(
            back.iter().all(|reading| rest.any(|written| written == reading)),
            "flip at {at} invents a reading"
        );
        assert!(back == readings || !damages.is_empty(), "flip at {at} is not reported");
    }
}

#[test]
fn reading_goes_on_at_the_next_key_frame_behind_damage() {
    let readings = simulated(70);
    let mut bytes = written(&readings);
    let damaged_at = written(&readings[..10]).len() + 40;
    bytes[damaged_at] ^= 0xff;
    let (back, damages) = read(&bytes).expect("the head is whole");
    assert_eq!(back[..10], readings[..10]);
    assert_eq!(back[10..], readings[32..], "key frames come every 32 readings");
    assert!(!damages.is_empty() && !damages[0].cut);
    let (mut timeline, _) = Timeline::open(in_file(&bytes)).expect("the head is whole");
    assert_eq!(timeline.moment(10).map(|moment| moment.seconds), Some(None), "no rate over what is lost");
    assert_eq!(timeline.sample(10).expect("readable").before, None);
}

#[test]
fn what_is_no_recording_is_told_apart() {
    assert!(matches!(read(b""), Err(ReadError::Empty)));
    assert!(matches!(read(b"pid,name\n1,init\n"), Err(ReadError::NotARecording)));
    assert!(matches!(read(b"DOZ"), Err(ReadError::CutAtHead)));
    let mut later = written(&[]);
    later[8] = 0xff;
    assert!(matches!(read(&later), Err(ReadError::Version(0xff))));
}

#[test]
fn a_reader_skips_columns_and_groups_that_it_does_not_know() {
    let json = br#"{"host":{"name":"old\u001b[2J","ticks_per_second":100},"groups":[
        {"name":"tides","part":"system","texts":[{"name":"gauge"}],"fields":[{"name":"height"}]},
        {"name":"system","part":"system","texts":[],"fields":[{"name":"moon"},{"name":"monotonic_ns"}]},
        {"name":"process","part":"process","texts":[{"name":"name"}],"fields":[{"name":"pid"},{"name":"mood"}]}]}"#;
    let mut bytes = dozor_core::recording::format::header().to_vec();
    use dozor_core::recording::format::{Kind, put_frame};
    put_frame(Kind::Head, json, &mut bytes);
    // One row of tides: no removals, no changes, one addition with both columns: a new text and the number 3.
    let tides = [0, 0, 1, 0b11, 0, 1, b'n', 8];
    let system = [0, 0, 1, 0b11, 4, 12];
    put_frame(Kind::SystemKey, &[&tides[..], &system[..]].concat(), &mut bytes);
    put_frame(Kind::ProcessKey, &[0, 0, 1, 0b111, 0, 2, b'\x1b', b'z', 86, 7], &mut bytes);
    let mut stream = StreamReader::open(&bytes[..], true).expect("a sound head");
    assert_eq!(stream.host().name, "old\\x1b[2J", "foreign text in the head is cleaned");
    let Ok(Some(Event::Reading { reading, .. })) = stream.next_event() else { panic!("one reading") };
    assert_eq!(reading.system.monotonic_ns, Raw::new(5));
    assert_eq!(reading.processes.len(), 1);
    assert_eq!((&*reading.processes[0].name, reading.processes[0].pid), ("\\x1bz", Raw::new(42)));
}

#[test]
fn a_recording_of_the_simulation_is_small() {
    let mut machine = dozor_core::demo::SimulatedMachine::new(1);
    let readings: Vec<Reading> = (0..64)
        .map(|at| {
            machine.advance_to(std::time::Duration::from_secs(2 * at));
            machine.reading()
        })
        .collect();
    let average = written(&readings).len() / readings.len();
    assert!(average < 6_000, "{average} bytes a reading of {} processes", readings[0].processes.len());
}
