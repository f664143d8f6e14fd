//! The format's description is enough to write a reader: one in Python reads what was written here.

use dozor_core::known::{Known, Raw};
use dozor_core::recording::format::VERSION;
use dozor_core::recording::{Event, StreamReader};
use dozor_core::row::Row;
use std::fmt::Write as _;
use std::path::PathBuf;
use std::process::Command;

/// A row as the other reader prints it.
fn line<R: Row>(row: &R, out: &mut String) {
    out.push_str(R::GROUP);
    for text in R::TEXTS {
        let value = (text.get)(row);
        if !value.is_empty() {
            let _ = write!(out, " {}={value}", text.name);
        }
    }
    for field in R::FIELDS {
        match (field.get)(row).get() {
            Known::Value(value) => {
                let _ = write!(out, " {}={value}", field.name);
            }
            Known::Denied => {
                let _ = write!(out, " {}=denied", field.name);
            }
            Known::Absent => {}
        }
    }
    out.push('\n');
}

fn told(bytes: &[u8]) -> String {
    let mut stream = StreamReader::open(bytes, true).expect("its head");
    let mut out = String::new();
    while let Some(event) = stream.next_event().expect("readable to its end") {
        match event {
            Event::Reading { reading, .. } => {
                line(&reading.system, &mut out);
                reading.ended.iter().for_each(|row| line(row, &mut out));
                reading.processes.iter().for_each(|row| line(&**row, &mut out));
            }
            Event::Mark(mark) => {
                let _ = writeln!(out, "mark {} {}", mark.kind.word(), mark.text);
            }
            Event::Damage(damage) => panic!("{damage}"),
        }
    }
    out
}

fn here(path: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests").join(path)
}

fn read_by_python(path: &PathBuf) -> String {
    let output = Command::new("python3").arg(here("reader.py")).arg(path).output().expect("python3");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).expect("text")
}

#[test]
fn a_reader_written_from_the_description_reads_every_row() {
    for version in 2..=VERSION {
        let path = here(&format!("frozen/version-{version}.dozor"));
        let expected = told(&std::fs::read(&path).expect("the frozen recording"));
        let found = read_by_python(&path);
        assert!(expected.lines().count() > 1_000);
        for (number, (found, expected)) in found.lines().zip(expected.lines()).enumerate() {
            assert_eq!(found, expected, "version {version}, line {number}");
        }
        assert_eq!(found.lines().count(), expected.lines().count());
    }
}

#[test]
fn it_reads_numbers_of_every_size_and_what_is_absent_or_denied() {
    use dozor_core::reading::{HostFacts, ProcessRow, Reading};
    use dozor_core::recording::Writer;
    use std::sync::Arc;
    let mut bytes = vec![];
    let mut writer = Writer::new(Arc::new(HostFacts::default()), None);
    writer.begin(&mut bytes);
    for at in 0..130u32 {
        let wide =
            |shift: u32| Raw::new((i64::MAX >> ((at + shift) % 64)) - i64::from(at % 3) * 5_000_000_000);
        let mut reading = Reading::default();
        (reading.system.wall_ns, reading.system.boot_ns) = (wide(3), wide(17));
        reading.system.monotonic_ns = if at % 7 == 0 { Raw::ABSENT } else { wide(40) };
        reading.processes = (0..at % 9)
            .map(|pid| {
                Arc::new(ProcessRow {
                    pid: Raw::new(i64::from(pid * 3 + at % 4)),
                    start_ticks: Raw::new(7),
                    name: format!("n\u{e4}me {}", (pid + at) % 5).into(),
                    rss_bytes: wide(pid * 7),
                    virtual_bytes: Raw::new(4_096 * i64::from(at * pid)),
                    read_bytes: if (at + pid) % 5 == 0 { Raw::DENIED } else { wide(pid) },
                    ..ProcessRow::default()
                })
            })
            .collect();
        reading.sort();
        writer.put(&Arc::new(reading), &mut bytes).expect("memory");
    }
    writer.finish(&mut bytes);
    let path = std::env::temp_dir().join(format!("dozor-foreign-{}.dozor", std::process::id()));
    std::fs::write(&path, &bytes).expect("a scratch file");
    let found = read_by_python(&path);
    std::fs::remove_file(&path).expect("removing the scratch file");
    for (number, (found, expected)) in found.lines().zip(told(&bytes).lines()).enumerate() {
        assert_eq!(found, expected, "line {number}");
    }
    assert_eq!(found.lines().count(), told(&bytes).lines().count());
}
