//! Recordings whose checksums are right and whose contents are not: an error, a gap or nothing, never a panic. How many
//! cases are tried `DOZOR_CASES` says; `scripts/fuzz` tries many.

use crate::mutator::{Frame, apart, together};
use dozor_core::demo::SimulatedMachine;
use dozor_core::reading::{Reading, raw};
use dozor_core::recording::{Event, Frames, Mark, MarkKind, StreamReader, Writer};
use dozor_core::timeline::Timeline;
use std::sync::Arc;
use std::time::Duration;

/// Numbers without a pattern, the same in every run.
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn below(&mut self, end: usize) -> usize {
        (self.next() % end.max(1) as u64) as usize
    }
}

/// A short recording with few processes: three blocks, marks and indexes.
fn small() -> Vec<u8> {
    let mut machine = SimulatedMachine::new(7);
    let mut writer = Writer::new(Arc::new(machine.host()), Some(Duration::from_secs(2))).with_keys_every(3);
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    for second in 0..8 {
        machine.advance_to(Duration::from_secs(60 + second));
        let mut reading = machine.reading();
        reading.processes.truncate(12);
        reading.interrupts.truncate(6);
        reading.cores.truncate(2);
        writer.put(&Arc::new(reading), &mut bytes).expect("memory");
    }
    writer.finish(&mut bytes);
    bytes
}

/// Changes something in the bytes of a table.
fn wound(bytes: &mut Vec<u8>, chance: &mut Chance) {
    // Where counts and bitmaps stand harm is done soonest.
    let near = if chance.below(2) == 0 { 24 } else { usize::MAX };
    let at = chance.below(bytes.len().min(near));
    match chance.below(7) {
        0 if !bytes.is_empty() => bytes[at] = chance.next() as u8,
        1 if !bytes.is_empty() => bytes[at] ^= 1 << chance.below(8),
        2 => {
            let mut number = vec![];
            crate::mutator::varint(chance.next() >> chance.below(64), &mut number);
            bytes.splice(at..at, number);
        }
        3 => {
            let end = (at + 1 + chance.below(9)).min(bytes.len());
            bytes.drain(at.min(end)..end);
        }
        4 => bytes.truncate(at),
        5 => {
            let end = (at + 1 + chance.below(40)).min(bytes.len());
            let again = bytes[at.min(end)..end].to_vec();
            bytes.splice(at..at, again);
        }
        _ => bytes.extend(std::iter::repeat_n(chance.next() as u8, chance.below(3_000))),
    }
}

fn mutate(frames: &[Frame], chance: &mut Chance) -> Vec<Frame> {
    let mut frames = frames.to_vec();
    for _ in 0..=chance.below(3) {
        let at = chance.below(frames.len());
        match chance.below(12) {
            0 => drop(frames.remove(at.max(1))),
            1 => {
                let other = chance.below(frames.len() - 1) + 1;
                frames.swap(at.max(1), other);
            }
            2 => {
                let again = frames[at].clone();
                frames.insert(at + 1, again);
            }
            3 => wound(&mut frames[at].bits, chance),
            4..7 if frames[at].coded.is_some() => wound(frames[at].coded.as_mut().expect("symbols"), chance),
            _ => wound(&mut frames[at].tables, chance),
        }
    }
    frames
}

/// Reads everything that can be read in every way there is.
fn read_all(bytes: Vec<u8>) -> usize {
    let mut readings = 0;
    if let Ok(mut stream) = StreamReader::open(&bytes[..], true) {
        while let Ok(Some(event)) = stream.next_event() {
            readings += usize::from(matches!(event, Event::Reading { .. }));
        }
    }
    if let Ok(mut timeline) = Timeline::open(bytes) {
        for number in (timeline.first()..timeline.end()).rev() {
            let _ = timeline.sample(number);
        }
        let _ = timeline.fold(
            0..timeline.end(),
            1,
            dozor_core::timeline::Reach::All,
            || 0,
            |count, _, _| *count += 1,
        );
        let _ = (timeline.damages(), timeline.marks());
    }
    readings
}

#[test]
fn taken_apart_and_put_together_it_is_the_same() {
    let frames = apart(&small());
    assert!(frames.len() > 16, "{}", frames.len());
    assert_eq!(read_all(together(&frames)), 8, "the mutator knows the format");
}

/// Two tests, which run side by side.
#[test]
fn right_checksums_over_wrong_contents_never_panic() {
    wrong_contents(0);
}

#[test]
fn nor_do_others() {
    wrong_contents(1);
}

/// Every second case, from this one on.
fn wrong_contents(first: u64) {
    let cases = std::env::var("DOZOR_CASES").ok().and_then(|text| text.parse().ok()).unwrap_or(1_000);
    let seed = std::env::var("DOZOR_SEED").ok().and_then(|text| text.parse().ok()).unwrap_or(0x9e37_79b9);
    let frames = apart(&small());
    let mut whole = 0;
    for case in (first..cases).step_by(2) {
        let mut chance = Chance(seed ^ (case + 1u64).wrapping_mul(0x2545_f491_4f6c_dd1d));
        let bytes = together(&mutate(&frames, &mut chance));
        let readings = std::panic::catch_unwind(|| read_all(bytes));
        whole += usize::from(readings.unwrap_or_else(|_| panic!("case {case} of seed {seed}")) == 8);
    }
    assert!(whole < cases as usize, "something was changed");
}

/// A recording of readings at these instants, in nanoseconds since 1970; thinned where it has a step.
fn at_instants(instants: &[i64], step: Option<Duration>) -> Vec<u8> {
    let host = Arc::new(dozor_core::reading::HostFacts { name: "lynx-obs".into(), ..Default::default() });
    let every = step.unwrap_or(Duration::from_secs(2));
    let mut writer = Writer::new(host, Some(every)).with_keys_every(5);
    if step.is_some() {
        writer = writer.of_thinned();
    }
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    for at in instants {
        let mut reading = Reading::default();
        let system = &mut reading.system;
        (system.wall_ns, system.monotonic_ns) = (raw(*at), raw(*at));
        writer.put(&Arc::new(reading), &mut bytes).expect("memory");
        writer.mark(&Mark::new(*at, MarkKind::Note, "noted"), &mut bytes);
    }
    writer.finish(&mut bytes);
    bytes
}

#[test]
fn recordings_of_any_times_in_any_steps_are_one_timeline() {
    const WILD: [i64; 6] = [i64::MIN + 5, -1, 0, 7, 1_928_800_000_000_000_000, i64::MAX - 5];
    for case in 0..120u64 {
        let mut chance = Chance(0x9e37_79b9 ^ (case + 1).wrapping_mul(0x2545_f491_4f6c_dd1d));
        let mut all = vec![];
        let mut readings = 0;
        for _ in 0..=chance.below(5) {
            let mut now = 1_928_800_000_000_000_000 + chance.below(2_000) as i64 * 1_000_000_000;
            let step = [None, Some(10), Some(60), Some(3_600)][chance.below(4)];
            let instants: Vec<i64> = (0..chance.below(40))
                .map(|_| {
                    now += (chance.below(40) as i64 - i64::from(chance.below(20) == 0) * 500) * 1_000_000_000;
                    if chance.below(60) == 0 { WILD[chance.below(WILD.len())] } else { now }
                })
                .collect();
            readings += instants.len();
            all.push(Arc::new(at_instants(&instants, step.map(Duration::from_secs))) as Arc<dyn Frames>);
        }
        let (mut timeline, problems) = Timeline::of_recordings(all);
        assert!(problems.is_empty(), "case {case}");
        assert!(timeline.end() <= readings, "case {case}: no reading is there twice");
        for number in 0..timeline.end() {
            timeline.sample(number).unwrap_or_else(|error| panic!("case {case}, {number}: {error}"));
        }
        let counted = timeline
            .fold(0..timeline.end(), 2, dozor_core::timeline::Reach::All, || 0, |count, _, _| *count += 1)
            .unwrap_or_else(|error| panic!("case {case}: {error}"));
        assert_eq!(counted.iter().sum::<usize>(), timeline.end(), "case {case}");
        let marks = timeline.marks();
        assert!(marks.is_sorted_by_key(|mark| mark.wall_ns), "case {case}");
    }
}
