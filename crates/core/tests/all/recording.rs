//! Laws of the recording: what was written is read back, and nothing that happens to the bytes does harm.

use dozor_core::known::Raw;
use dozor_core::reading::{CoreRow, HostFacts, InterruptRow, ProcessRow, Reading, SystemRow, raw};
use dozor_core::recording::{Damage, Event, Frames, Mark, MarkKind, ReadError, StreamReader, Writer};
use dozor_core::row::Row;
use dozor_core::timeline::Timeline;
use proptest::prelude::*;
use std::sync::{Arc, Mutex};
use std::time::Duration;

fn host() -> HostFacts {
    HostFacts { name: "lynx-obs".to_owned(), cores: 8, ticks_per_second: 100, ..HostFacts::default() }
}

/// Key frames come so often here, so that the laws meet them.
const KEYS: u32 = 32;

fn writer() -> Writer {
    Writer::new(Arc::new(host()), None).with_keys_every(KEYS)
}

fn written(readings: &[Reading]) -> Vec<u8> {
    let (mut writer, mut bytes) = (writer(), vec![]);
    writer.begin(&mut bytes);
    for reading in readings {
        writer.put(&Arc::new(reading.clone()), &mut bytes).expect("memory");
    }
    bytes
}

/// The same with the index behind its last block.
fn finished(readings: &[Reading]) -> Vec<u8> {
    let (mut writer, mut bytes) = (writer(), vec![]);
    writer.begin(&mut bytes);
    for reading in readings {
        writer.put(&Arc::new(reading.clone()), &mut bytes).expect("memory");
    }
    writer.finish(&mut bytes);
    bytes
}

fn read(bytes: &[u8]) -> Result<(Vec<Reading>, Vec<Damage>), ReadError> {
    let mut stream = StreamReader::open(bytes, true)?;
    let (mut readings, mut damages) = (vec![], vec![]);
    while let Some(event) = stream.next_event()? {
        match event {
            Event::Reading { reading, .. } => readings.push(*reading),
            Event::Mark(_) => {}
            Event::Damage(damage) => damages.push(damage),
        }
    }
    Ok((readings, damages))
}

/// A recording that grows.
struct Growing(Arc<Mutex<Vec<u8>>>);

impl Frames for Growing {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> std::io::Result<()> {
        self.0.lock().expect("the bytes").bytes_at(offset, buffer)
    }

    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.0.lock().expect("the bytes").some_at(offset, buffer)
    }
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
    // Few names, so that rows follow others of the same name.
    let texts = proptest::collection::vec(prop_oneof!["[a-zá]{0,4}", "[ab]"], R::TEXTS.len());
    let fields = proptest::collection::vec(any_raw(), R::FIELDS.len());
    (texts, fields).prop_map(|(texts, fields)| {
        let mut row = R::default();
        for (field, text) in R::TEXTS.iter().zip(texts) {
            (field.set)(&mut row, text.into());
        }
        for (field, value) in R::FIELDS.iter().zip(fields) {
            field.set(&mut row, value);
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
    let system = (any_row::<SystemRow>(), some(), some(), some(), some(), some(), some(), some());
    let parts = (some(), some(), some(), some(), some(), some(), some(), some(), some(), some());
    let processes = proptest::collection::vec(any_process().prop_map(Arc::new), 0..10);
    (system, parts, processes).prop_map(|(system, parts, processes)| {
        let (system, cores, disks, interfaces, sensors, interrupts, removed, transfers) = system;
        let (softirqs, filesystems, remotes, groups, batteries, gpus, connections, listeners, ended, threads) = parts;
        let mut reading = Reading {
            system,
            cores,
            disks,
            interfaces,
            sensors,
            interrupts,
            softirqs,
            filesystems,
            remotes,
            groups,
            batteries,
            gpus,
            connections,
            listeners,
            ended,
            removed,
            transfers,
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
                machine.advance_to(Duration::from_secs(second));
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

#[test]
fn names_that_look_the_same_once_they_are_harmless_are_told_apart() {
    let row = |pid: i64| ProcessRow {
        name: if pid % 2 == 0 { "job\u{1}" } else { "job\\x01" }.into(),
        pid: raw(pid),
        rss_bytes: raw(if pid % 2 == 0 { 1_000_000 } else { 30_000_000_000 } + pid),
        virtual_bytes: raw(if pid % 3 == 0 { 7 } else { 8 } * 4_096),
        ..ProcessRow::default()
    };
    let readings: Vec<Reading> = (0..40)
        .map(|number| Reading {
            processes: (number..number + 3).map(|pid| Arc::new(row(pid))).collect(),
            ..Reading::default()
        })
        .collect();
    let (found, damages) = read(&written(&readings)).expect("its head");
    assert_eq!((found.len(), damages), (readings.len(), vec![]));
    for (found, expected) in found.iter().zip(&readings) {
        let numbers = |reading: &Reading| -> Vec<[Raw; 3]> {
            reading.processes.iter().map(|row| [row.pid, row.rss_bytes, row.virtual_bytes]).collect()
        };
        assert_eq!(numbers(found), numbers(expected));
        assert!(found.processes.iter().all(|row| &*row.name == "job\\x01"));
    }
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
        let mut recorded = Timeline::open(written(&readings)).expect("a whole recording");
        prop_assert_eq!(recorded.damages(), vec![]);
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
                    let expected = Damage {
                        offset: ends[whole] as u64,
                        bytes: (cut - ends[whole]) as u64,
                        cut: true,
                        costly: false,
                    };
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
    let bytes = finished(readings);
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
        let mut timeline = Timeline::open(damaged.clone()).expect("what a stream reads");
        assert_eq!(timeline.end(), back.len(), "flip at {at}");
        assert_eq!(timeline.damages().is_empty(), damages.is_empty(), "flip at {at}");
        for (number, reading) in back.iter().enumerate() {
            let sample = timeline.sample(number).expect("what a stream reads");
            assert_eq!(*sample.now, *reading, "flip at {at}");
        }
    }
}

#[test]
fn every_cut_of_a_file_is_read_on_when_it_has_grown() {
    let readings = simulated(40);
    let bytes = finished(&readings);
    let head = written(&[]).len();
    for cut in (head..bytes.len()).step_by(211) {
        let grows = Arc::new(Mutex::new(bytes[..cut].to_vec()));
        let mut timeline = Timeline::open(Growing(grows.clone())).expect("its head");
        let before = timeline.end();
        grows.lock().expect("the bytes").clone_from(&bytes);
        timeline.grow().expect("the rest");
        while timeline.unfinished().is_some() {
            timeline.grow().expect("the rest");
        }
        assert_eq!(timeline.end(), readings.len(), "{before} before the cut at {cut}");
        assert_eq!(timeline.damages(), [], "cut at {cut}");
        assert_eq!(timeline.sample(39).expect("the last").now.as_ref(), &readings[39]);
        assert!(!timeline.grow().expect("nothing more"));
    }
}

/// Gives its bytes in pieces of a size, as pipes and disks do.
struct InPieces<'a>(&'a [u8], usize);

impl std::io::Read for InPieces<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let length = buffer.len().min(self.1).min(self.0.len());
        buffer[..length].copy_from_slice(&self.0[..length]);
        self.0 = &self.0[length..];
        Ok(length)
    }
}

#[test]
fn it_does_not_matter_in_which_pieces_the_bytes_come() {
    let readings = simulated(40);
    let bytes = finished(&readings);
    for size in [1, 2, 3, 5, 7, 8, 11, 16, 23, 32, 37, 97, 1_000] {
        let mut stream = StreamReader::open(InPieces(&bytes, size), true).expect("its head");
        let mut back = vec![];
        while let Some(event) = stream.next_event().expect("readable") {
            match event {
                Event::Reading { reading, .. } => back.push(*reading),
                other => panic!("pieces of {size}: {other:?}"),
            }
        }
        assert!(back == readings, "pieces of {size}");
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
    let mut timeline = Timeline::open(bytes.clone()).expect("the head is whole");
    assert_eq!(timeline.moment(10).map(|moment| moment.seconds), Some(None), "no rate over what is lost");
    assert_eq!(timeline.sample(10).expect("readable").before, None);
}

#[test]
fn an_index_says_what_the_readings_say() {
    let readings = simulated(80);
    let bytes = finished(&readings);
    let indexed = Timeline::open(bytes.clone()).expect("a whole recording");
    // Without its index frames, which have a kind of their own, the readings must be decoded.
    let plain = Timeline::open(without_indexes(&bytes)).expect("a whole recording");
    assert_eq!(indexed.end(), 80);
    for number in 0..80 {
        let (a, b) = (indexed.moment(number).expect("there"), plain.moment(number).expect("there"));
        assert_eq!(a.wall_ns / 1_000, b.wall_ns / 1_000);
        assert_eq!((a.lost, a.seconds.is_some()), (b.lost, b.seconds.is_some()));
        for lane in dozor_core::lane::Lane::ALL {
            let (a, b) = (a.point(lane), b.point(lane));
            assert_eq!(a.severity, b.severity, "sample {number}, {}", lane.name());
            match (a.value.value(), b.value.value()) {
                (Some(a), Some(b)) => assert!((a - b).abs() <= 0.051 + b.abs() * 1e-6, "{a} for {b}"),
                (a, b) => assert_eq!(a, b),
            }
        }
    }
}

fn without_indexes(bytes: &[u8]) -> Vec<u8> {
    use dozor_core::recording::format::{FrameHeader, HEADER_BYTES, Kind};
    let mut out = bytes[..HEADER_BYTES].to_vec();
    let mut rest = &bytes[HEADER_BYTES..];
    let mut indexes = 0;
    while !rest.is_empty() {
        let header = FrameHeader::parse(rest).expect("a frame");
        let (frame, more) = rest.split_at(header.whole());
        if header.kind == Kind::Index as u8 {
            indexes += 1;
        } else {
            out.extend_from_slice(frame);
        }
        rest = more;
    }
    assert_eq!(indexes, 3, "two whole blocks and the rest");
    out
}

#[test]
fn marks_are_read_back_and_a_loss_is_a_gap() {
    let readings = simulated(12);
    let (mut writer, mut bytes) = (writer(), vec![]);
    writer.begin(&mut bytes);
    let note = Mark::new(readings[3].wall_ns(), MarkKind::Bookmark, "clouds\u{1b}[2J over the dome");
    let loss = Mark { readings: Some(4), ..Mark::new(readings[8].wall_ns(), MarkKind::Lost, "no room") };
    for (at, reading) in readings.iter().enumerate() {
        match at {
            3 => writer.mark(&note, &mut bytes),
            8 => writer.mark(&loss, &mut bytes),
            _ => {}
        }
        writer.put(&Arc::new(reading.clone()), &mut bytes).expect("memory");
    }
    writer.finish(&mut bytes);
    // A note that is added when all is written.
    let late = Mark::new(readings[1].wall_ns(), MarkKind::Bookmark, "the first frame");
    bytes.extend(dozor_core::recording::mark_frame(&late));
    let mut timeline = Timeline::open(bytes.clone()).expect("a whole recording");
    assert_eq!(timeline.damages(), []);
    let texts: Vec<String> = timeline.marks().into_iter().map(|mark| mark.text).collect();
    assert_eq!(texts, ["the first frame", "clouds\\x1b[2J over the dome", "no room"]);
    assert_eq!(timeline.marks()[2].readings, Some(4));
    assert_eq!(timeline.moment(8).map(|moment| (moment.lost, moment.seconds)), Some((true, None)));
    assert_eq!(timeline.sample(8).expect("readable").before, None, "no rate over what is lost");
    assert!(timeline.sample(9).expect("readable").before.is_some());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn a_recording_in_segments_is_the_same_as_one(
        cuts in proptest::collection::btree_set(1..79usize, 0..6),
        order in any::<u64>(),
        lost in proptest::option::of(0..5usize),
    ) {
        let readings = simulated(80);
        let mut ends: Vec<usize> = cuts.into_iter().collect();
        ends.push(80);
        let mut segments: Vec<(usize, usize)> = vec![];
        for end in ends {
            // Each begins with the last reading of the one before.
            let begin = segments.last().map_or(0, |(_, end)| end - 1);
            segments.push((begin, end));
        }
        let lost = lost.filter(|lost| *lost > 0 && *lost + 1 < segments.len());
        let gone = lost.map(|lost| segments.remove(lost));
        let mut files: Vec<Arc<dyn Frames>> = segments
            .iter()
            .map(|(begin, end)| Arc::new(finished(&readings[*begin..*end])) as _)
            .collect();
        let count = files.len();
        files.rotate_left(order as usize % count);
        let (mut timeline, problems) = Timeline::of_recordings(files);
        prop_assert!(problems.is_empty());
        // A segment that is gone takes with it what no other has.
        let there: Vec<usize> = (0..80)
            .filter(|at| gone.is_none_or(|(begin, end)| *at <= begin || *at + 1 >= end))
            .collect();
        prop_assert_eq!(timeline.end(), there.len());
        for (number, at) in there.iter().enumerate().rev() {
            let sample = timeline.sample(number).expect("readable");
            prop_assert_eq!(&*sample.now, &readings[*at]);
            // Two that share no reading have a gap between, even where none happens to be missing.
            let joined = gone.is_none_or(|(_, end)| *at + 1 != end);
            let follows = *at > 0 && number > 0 && there[number - 1] + 1 == *at && joined;
            let before = follows.then(|| &readings[at - 1]);
            prop_assert_eq!(sample.before.as_deref(), before, "{}", at);
        }
    }
}

#[test]
fn what_is_no_recording_is_told_apart() {
    assert!(matches!(read(b""), Err(ReadError::Empty)));
    assert!(matches!(read(b"pid,name\n1,init\n"), Err(ReadError::NotARecording)));
    assert!(matches!(read(b"DOZ"), Err(ReadError::CutAtHead)));
    let mut later = written(&[]);
    later[8] = 0xff;
    assert!(matches!(read(&later), Err(ReadError::Head(_))), "the version of a header stands there twice");
    later[10] = 0x00;
    assert!(matches!(read(&later), Err(ReadError::Version(0xff))));
}

#[test]
fn a_head_is_a_few_kilobytes_and_a_hostile_one_is_refused() {
    let head = written(&[]).len();
    assert!(head < 8_800, "{head} bytes");
    let headed = |payload: &[u8]| {
        use dozor_core::recording::format::{Kind, put_frame};
        let mut bytes = dozor_core::recording::format::header().to_vec();
        put_frame(Kind::PackedHead, payload, &mut bytes);
        read(&bytes)
    };
    let blanks = vec![b' '; dozor_core::recording::format::LONGEST_HEAD + 1];
    let bomb = zstd::encode_all(&blanks[..], 19).expect("memory");
    assert!(bomb.len() < 4_000);
    for payload in [&bomb[..], b"", b"no stream at all", &zstd::encode_all(&b"[]"[..], 1).expect("memory")] {
        assert!(matches!(headed(payload), Err(ReadError::Head(_))));
    }
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
    put_frame(Kind::PlainSystemKey, &[&tides[..], &system[..]].concat(), &mut bytes);
    put_frame(Kind::PlainProcessKey, &[0, 0, 1, 0b111, 0, 2, b'\x1b', b'z', 86, 7], &mut bytes);
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
            machine.advance_to(Duration::from_secs(2 * at));
            machine.reading()
        })
        .collect();
    let average = written(&readings).len() / readings.len();
    // Its network file system, its limited groups and its listening sockets are in it.
    assert!(average < 2_100, "{average} bytes a reading of {} processes", readings[0].processes.len());
}

/// A large machine on which nearly nothing happens: much is held at each reading, few bytes are written for it.
#[test]
fn a_recording_of_a_large_idle_machine_may_be_read_to_its_end() {
    const READINGS: i64 = 1_500;
    let cores = (0..128).map(|number| CoreRow { number: raw(number), ..CoreRow::default() });
    let interrupts = (0..12_800).map(|at| InterruptRow {
        source: format!("{}", at / 128).into(),
        core: raw(at % 128),
        ..InterruptRow::default()
    });
    let processes = (0..3_000)
        .map(|pid| Arc::new(ProcessRow { pid: raw(pid), start_ticks: raw(1), ..ProcessRow::default() }));
    let mut reading = Reading {
        cores: cores.collect(),
        interrupts: interrupts.collect(),
        processes: processes.collect(),
        ..Reading::default()
    };
    reading.sort();
    let mut writer = Writer::new(Arc::new(host()), Some(Duration::from_secs(2)));
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    let mut noise = 0x9e37_79b9_u64;
    for second in 0..READINGS {
        let ns = raw((1_928_800_000 + second) * 1_000_000_000);
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
        // The clock of each core ticks, now and then something runs: as on any machine that is merely on.
        for (at, core) in reading.cores.iter_mut().enumerate() {
            noise = noise.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let ran = i64::from(noise >> 61 == 0);
            core.user = raw(core.user.value().unwrap_or(0) + ran);
            core.idle = raw(core.idle.value().unwrap_or(0) + 200 - ran);
            let timer = &mut reading.interrupts[at];
            timer.count = raw(timer.count.value().unwrap_or(0) + 8 + (noise >> 59) as i64);
        }
        writer.put(&Arc::new(reading.clone()), &mut bytes).expect("memory");
    }
    writer.finish(&mut bytes);
    let each = bytes.len() as i64 / READINGS;
    let mut stream = StreamReader::open(&bytes[..], true).expect("a recording");
    let mut found = 0;
    while let Some(event) = stream.next_event().expect("readable") {
        assert!(!matches!(event, Event::Damage(_)), "after {found} readings of {each} bytes: {event:?}");
        found += i64::from(matches!(event, Event::Reading { .. }));
    }
    assert_eq!(found, READINGS);
}

#[test]
fn what_is_shown_of_thousands_that_change_is_bounded_and_decoded_once() {
    const SHOWN: usize = 56;
    let mut timeline = Timeline::live(Arc::new(host()));
    let mut seen = std::collections::HashMap::new();
    for second in 0..120 {
        // Few change at first, then thousands.
        let busy = if second < 60 { 30 } else { 3_000 };
        let processes = (0..3_000).map(|pid| {
            let ran = raw(if pid < busy { second } else { 0 });
            Arc::new(ProcessRow {
                pid: raw(pid),
                start_ticks: raw(1),
                user_ticks: ran,
                ..ProcessRow::default()
            })
        });
        let mut reading = Reading { processes: processes.collect(), ..Reading::default() };
        let ns = raw((1_928_800_000 + second) * 1_000_000_000);
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
        timeline.append(Arc::new(reading));
        let newest = timeline.end() - 1;
        let from = (newest + 1).saturating_sub(SHOWN);
        let from = timeline.decoded_from(newest).map_or(from, |kept| from.max(kept));
        for number in from..=newest {
            let sample = timeline.sample(number).expect("readable");
            let before = seen.entry(number).or_insert_with(|| sample.clone());
            assert!(Arc::ptr_eq(before, &sample), "sample {number} was decoded again at {newest}");
        }
        let bytes: usize = (from..=newest)
            .map(|number| timeline.sample(number).expect("readable"))
            .map(|sample| {
                let bytes = sample.own_bytes();
                assert_eq!(bytes, sample.now.own_bytes(sample.before.as_deref()));
                bytes
            })
            .sum();
        assert!(bytes <= 16 << 20, "{bytes} bytes at {newest}");
    }
}

#[test]
fn a_hundred_thousand_processes_are_written_as_differences_and_read_back() {
    let process = |at: i64| {
        Arc::new(ProcessRow {
            pid: raw(at),
            start_ticks: raw(at),
            name: format!("worker{at}").as_str().into(),
            command: format!("/opt/lynx/bin/worker --shard {at} of many --plate {}", at * 7).as_str().into(),
            user_ticks: raw(at),
            ..ProcessRow::default()
        })
    };
    let mut processes: Vec<_> = (1..=100_000).map(process).collect();
    let (mut writer, mut bytes, mut sizes, mut all) = (writer(), vec![], vec![], vec![]);
    writer.begin(&mut bytes);
    for second in 1..=4 {
        let changed = Arc::make_mut(&mut processes[second * 1_000]);
        changed.user_ticks = raw(1_000_000 + second as i64);
        let mut reading = Reading { processes: processes.clone(), ..Reading::default() };
        let ns = raw(second as i64 * 1_000_000_000);
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
        let before = bytes.len();
        writer.put(&Arc::new(reading.clone()), &mut bytes).expect("memory");
        sizes.push(bytes.len() - before);
        all.push(reading);
    }
    assert!(sizes[1..].iter().all(|size| size * 1_000 < sizes[0]), "only the first is complete: {sizes:?}");
    let (readings, damages) = read(&bytes).expect("a recording");
    assert_eq!(damages, []);
    assert!(readings == all, "what is read is what was written");
}
