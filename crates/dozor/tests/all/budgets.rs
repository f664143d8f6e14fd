//! Small recordings that would take much to read: each ends soon, in little memory, and with a word.

use crate::cpu_time;
use crate::mutator::{Frame, Made, added_rows, head, place_of, together, varint};
use crate::terminal::{DOZOR, Terminal};
use dozor_core::reading::{ProcessRow, Reading, raw};
use dozor_core::recording::format::Kind;
use dozor_core::recording::{Event, StreamReader, Writer};
use std::fs;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// CPU time in seconds that reading stays well below; what has no bound takes minutes.
const SOON: f64 = 40.0;
/// Memory at most, in MiB: two threads, each with as many rows as one may have.
const LITTLE: u64 = 240;
const MANY: u64 = 1 << 18;

fn system_key(made: Made) -> Frame {
    added_rows(made, Kind::SystemKey, place_of("system", "system"), 1, 0)
}

/// A key frame of nobody.
fn nobody(made: Made) -> Frame {
    added_rows(made, Kind::ProcessKey, place_of("process", "process"), 0, 0)
}

/// Differences of both parts that add rows: without symbols of their own they say what was said before.
fn again(made: Made, rows: u64) -> [Frame; 2] {
    let of = |kind, (name, part), rows| Frame {
        coded: (made == Made::Coded).then(Vec::new),
        ..added_rows(made, kind, place_of(name, part), rows, 0)
    };
    [
        of(Kind::SystemDifference, ("system", "system"), 0),
        of(Kind::ProcessDifference, ("process", "process"), rows),
    ]
}

/// Readings of a crowd in which nothing happens.
fn idle(crowd: i64) -> Vec<u8> {
    let row = |pid| Arc::new(ProcessRow { pid: raw(pid), start_ticks: raw(1), ..ProcessRow::default() });
    let reading = Reading { processes: (0..crowd).map(row).collect(), ..Reading::default() };
    let (mut writer, mut bytes) = (Writer::new(Arc::default(), None), vec![]);
    writer.begin(&mut bytes);
    let head = bytes.len();
    let reading = Arc::new(reading);
    (0..100).for_each(|_| writer.put(&reading, &mut bytes).expect("memory"));
    let (head, block) = bytes.split_at(head);
    [head, &block.repeat(100)].concat()
}

fn processes(made: Made, rows: u64) -> Frame {
    added_rows(made, Kind::ProcessKey, place_of("process", "process"), rows, 0)
}

/// A table of processes whose only column is a text, each as long as a text may be.
fn long_texts(made: Made, texts: usize, length: usize) -> Frame {
    let (place, tables) = place_of("process", "process");
    let mut frame = added_rows(made, Kind::ProcessKey, (place, place + 1), texts as u64, 1);
    if made == Made::Plain {
        // The first column, in every row.
        frame.tables.extend(std::iter::repeat_n(0xff, texts / 8));
    }
    for number in 0..texts {
        if made == Made::Plain {
            frame.tables.push(0);
        }
        varint(length as u64, &mut frame.tables);
        frame.tables.extend_from_slice(format!("{number:08}").as_bytes());
        frame.tables.extend(std::iter::repeat_n(b'x', length - 8));
    }
    if made == Made::Plain {
        frame.tables.extend(std::iter::repeat_n(0, 3 * (tables - place - 1)));
    }
    frame
}

/// Runs the program; gives its most memory in MiB and what it said. It has to end soon.
fn measured(arguments: &[&str]) -> (u64, String) {
    let mut command = Command::new(DOZOR);
    let command = command.args(arguments).stdout(Stdio::null()).stderr(Stdio::piped());
    let mut child = command.spawn().expect("dozor");
    let mut most = 0;
    while child.try_wait().expect("its state").is_none() {
        let status = fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kib = peak.and_then(|line| line.trim().trim_end_matches(" kB").parse::<u64>().ok());
        most = kib.unwrap_or(0).max(most);
        if cpu_time(child.id()) > SOON {
            let _ = child.kill();
            panic!("no end of {arguments:?} with {most} KiB");
        }
        std::thread::sleep(Duration::from_millis(2));
    }
    let output = child.wait_with_output().expect("its output");
    (most >> 10, String::from_utf8_lossy(&output.stderr).into_owned())
}

/// A recording of some frames, and of others many times over.
fn recording(first: &[Frame], again: &[Frame], times: usize) -> Vec<u8> {
    let begin = together(&[&[head()], first].concat()).len();
    // Streams begin anew with each key frame and index, so the bytes of one time are those of all.
    let bytes = together(&[&[head()], first, again].concat());
    let (begin, once) = bytes.split_at(begin);
    [begin, &once.repeat(times)].concat()
}

/// Recordings of few bytes that would take much.
fn cases(made: Made) -> Vec<(&'static str, Vec<u8>)> {
    let system_key = system_key(made);
    let one = [system_key.clone(), nobody(made)];
    let rows = added_rows(made, Kind::Index, place_of("index", "index"), MANY, 0);
    let zeros = Frame { tables: vec![0; 30 << 20], ..rows.clone() };
    let many = |frames: [Frame; 2]| frames.iter().cycle().take(40_000).cloned().collect::<Vec<_>>();
    let key = |processes: Frame| [system_key.clone(), processes];
    vec![
        ("key frames of more rows than may be", recording(&[], &key(processes(made, MANY)), 100)),
        ("key frames of many rows that hold nothing", recording(&[], &key(processes(made, 30_000)), 100)),
        ("index frames of many rows", recording(&one, &[rows], 300)),
        ("index frames of zeros", recording(&one, &[zeros], 300)),
        ("long texts", recording(&[], &key(long_texts(made, 4_000, 4_000)), 6)),
        ("differences that add rows", {
            let differences = many(again(made, 20_000));
            recording(&[&key(processes(made, 20_000)), &differences[..]].concat(), &[], 0)
        }),
        (
            "differences that say nothing",
            match made {
                Made::Plain => {
                    let differences = many(again(made, 0));
                    recording(&[&key(processes(made, 20_000)), &differences[..]].concat(), &[], 0)
                }
                Made::Coded => idle(20_000),
            },
        ),
    ]
}

/// The rows of the first reading.
fn rows_of(bytes: &[u8]) -> Option<usize> {
    let mut stream = StreamReader::open(bytes, true).expect("a sound head");
    loop {
        match stream.next_event().expect("readable")? {
            Event::Reading { reading, .. } => return Some(reading.processes.len()),
            Event::Damage(_) => return None,
            Event::Mark(_) => {}
        }
    }
}

#[test]
fn what_is_made_up_holds_what_it_claims() {
    for made in [Made::Plain, Made::Coded] {
        let rows: Vec<Option<usize>> = cases(made).iter().map(|(_, bytes)| rows_of(bytes)).collect();
        // Too many rows, and texts that are too long for the size of the file, are refused at once.
        let crowd = Some(20_000);
        assert_eq!(rows, [None, Some(30_000), Some(0), Some(0), None, crowd, crowd], "{made:?}");
        let texts = recording(&[], &[system_key(made), long_texts(made, 4_000, 400)], 60);
        assert_eq!(rows_of(&texts), Some(4_000), "{made:?}");
    }
}

#[test]
fn small_files_take_little_memory_and_time() {
    take_little(Made::Coded);
}

#[test]
fn small_files_of_older_formats_take_little_memory_and_time() {
    take_little(Made::Plain);
}

fn take_little(made: Made) {
    let folder = tempfile::tempdir().expect("a scratch folder");
    let file = folder.path().join("hostile.dozor");
    let path = file.to_str().expect("text");
    for (what, bytes) in cases(made) {
        fs::write(&file, &bytes).expect("a file");
        for more in [&["--list"][..], &["load.1"], &["cpu", "--stat", "max"]] {
            let begin = Instant::now();
            let (most, said) = measured(&[&["query", path], more].concat());
            println!(
                "{what}: {} bytes, {more:?}: {most} MiB, {:?}, {}",
                bytes.len(),
                begin.elapsed(),
                said.trim()
            );
            assert!(most < LITTLE, "{what} of {} bytes take {most} MiB", bytes.len());
            assert!(!said.contains("panicked"), "{said}");
        }
    }
}

#[test]
fn a_replay_of_rows_that_hold_nothing_answers() {
    let folder = tempfile::tempdir().expect("a scratch folder");
    let bytes = recording(&[], &[system_key(Made::Coded), processes(Made::Coded, 30_000)], 200);
    fs::write(folder.path().join("a.dozor"), bytes).expect("a file");
    let terminal = Terminal::run("dozor replay --paused a.dozor; echo status $?", (120, 30), folder.path());
    terminal.wait_for("REPLAY PAUSED");
    terminal.keys("L");
    terminal.wait_for("200 of 200");
    terminal.keys("[");
    terminal.wait_for("199 of 200");
    terminal.keys("q");
    terminal.wait_for("status 0");
    terminal.assert_restored();
}
