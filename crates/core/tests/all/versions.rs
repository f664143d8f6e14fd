//! Recordings of every version of the format stay readable: a frozen one of each lies in `tests/frozen`, with what
//! was in it when it was written. `DOZOR_FREEZE=1 cargo test -p dozor-core --test all versions` writes the one of a new version.

use dozor_core::demo::SimulatedMachine;
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::format::VERSION;
use dozor_core::recording::{Event, Mark, MarkKind, StreamReader, Writer};
use dozor_core::row::Row;
use std::fmt::Write as _;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

fn frozen(version: u16, extension: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join(format!("tests/frozen/version-{version}.{extension}"))
}

/// What rows hold, so that one lost or changed value is seen: their number and a sum over all columns that they had.
fn told<R: Row>(rows: &[R], out: &mut String) {
    let numbers = rows.iter().flat_map(|row| R::FIELDS.iter().filter_map(|field| (field.get)(row).value()));
    let sum = numbers.fold(0i64, i64::wrapping_add);
    let bytes: usize = rows.iter().flat_map(|row| R::TEXTS.iter().map(|text| (text.get)(row).len())).sum();
    let _ = write!(out, " {}:{}:{sum}:{bytes}", R::GROUP, rows.len());
}

fn account(readings: &[Reading]) -> String {
    let mut out = String::new();
    for reading in readings {
        told(std::slice::from_ref(&reading.system), &mut out);
        told(&reading.cores, &mut out);
        told(&reading.disks, &mut out);
        told(&reading.interfaces, &mut out);
        told(&reading.sensors, &mut out);
        told(&reading.interrupts, &mut out);
        told(&reading.softirqs, &mut out);
        told(&reading.filesystems, &mut out);
        told(&reading.connections, &mut out);
        told(&reading.ended, &mut out);
        let processes: Vec<_> = reading.processes.iter().map(|row| (**row).clone()).collect();
        told(&processes, &mut out);
        out.push('\n');
    }
    out
}

fn freeze() {
    let mut machine = SimulatedMachine::new(11);
    let host =
        HostFacts { name: "lynx-obs".to_owned(), cores: 8, ticks_per_second: 100, ..HostFacts::default() };
    let (mut bytes, mut writer) = (vec![], Writer::new(Arc::new(host), Some(Duration::from_secs(2))));
    writer.begin(&mut bytes);
    let mut readings = vec![];
    for at in 0..40 {
        machine.advance_to(Duration::from_secs(2 * at));
        let mut reading = machine.reading();
        reading.processes.truncate(25);
        reading.connections.truncate(4);
        reading.interrupts.truncate(6);
        reading.softirqs.truncate(6);
        if at == 25 {
            let loss = Mark { readings: Some(3), ..Mark::new(reading.wall_ns(), MarkKind::Lost, "no room") };
            writer.mark(&loss, &mut bytes);
        }
        writer.put(&Arc::new(reading.clone()), &mut bytes).expect("memory");
        readings.push(reading);
    }
    writer.finish(&mut bytes);
    std::fs::create_dir_all(frozen(1, "").parent().expect("a folder")).expect("the folder");
    std::fs::write(frozen(VERSION, "dozor"), bytes).expect("the frozen recording");
    std::fs::write(frozen(VERSION, "txt"), account(&readings)).expect("what is in it");
}

#[test]
fn recordings_of_every_version_open_and_hold_what_was_written() {
    if std::env::var_os("DOZOR_FREEZE").is_some() && !frozen(VERSION, "dozor").exists() {
        freeze();
    }
    for version in 1..=VERSION {
        let bytes = std::fs::read(frozen(version, "dozor"))
            .unwrap_or_else(|error| panic!("version {version} has no frozen recording: {error}"));
        assert_eq!(u16::from_le_bytes([bytes[8], bytes[9]]), version);
        let mut stream = StreamReader::open(&bytes[..], true).expect("its head");
        assert_eq!(stream.host().name, "lynx-obs");
        let mut readings = vec![];
        while let Some(event) = stream.next_event().expect("readable to its end") {
            match event {
                Event::Reading { reading, .. } => readings.push(*reading),
                Event::Mark(mark) => assert_eq!(mark.kind, MarkKind::Lost),
                Event::Damage(damage) => panic!("version {version}: {damage}"),
            }
        }
        let expected = std::fs::read_to_string(frozen(version, "txt")).expect("what is in it");
        assert_eq!(account(&readings), expected, "version {version}");
    }
}
