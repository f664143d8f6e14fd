//! Recordings whose checksums are right and whose contents are not: an error, a gap or nothing, never a panic. How many
//! cases are tried `DOZOR_CASES` says; `scripts/fuzz` tries many.

mod mutator;

use dozor_core::demo::SimulatedMachine;
use dozor_core::recording::{Event, StreamReader, Writer};
use dozor_core::timeline::Timeline;
use mutator::{Frame, apart, together};
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
            mutator::varint(chance.next() >> chance.below(64), &mut number);
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

#[test]
fn right_checksums_over_wrong_contents_never_panic() {
    let cases = std::env::var("DOZOR_CASES").ok().and_then(|text| text.parse().ok()).unwrap_or(2_000);
    let seed = std::env::var("DOZOR_SEED").ok().and_then(|text| text.parse().ok()).unwrap_or(0x9e37_79b9);
    let frames = apart(&small());
    let mut whole = 0;
    for case in 0..cases {
        let mut chance = Chance(seed ^ (case + 1u64).wrapping_mul(0x2545_f491_4f6c_dd1d));
        let bytes = together(&mutate(&frames, &mut chance));
        let readings = std::panic::catch_unwind(|| read_all(bytes));
        whole += usize::from(readings.unwrap_or_else(|_| panic!("case {case} of seed {seed}")) == 8);
    }
    assert!(whole < cases as usize, "something was changed");
}
