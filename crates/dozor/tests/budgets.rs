//! Small recordings that would take much to read: each ends soon, in little memory, and with a word.

#[path = "../../core/tests/mutator/mod.rs"]
mod mutator;
mod terminal;

use dozor_core::recording::format::Kind;
use mutator::{Frame, PROCESS_TABLES, SYSTEM_TABLES, frame, head, rows_of_nothing, together, varint};
use std::fs;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use terminal::{DOZOR, Terminal};

/// Reading ends well before this on a busy machine; what has no bound takes minutes.
const SOON: Duration = Duration::from_secs(40);
/// Memory at most, in MiB.
const LITTLE: u64 = 200;
const MANY: u64 = 1 << 18;

fn system_key() -> Frame {
    frame(Kind::SystemKey, rows_of_nothing(SYSTEM_TABLES, 0, 1))
}

fn nothing(kind: Kind, tables: usize) -> Frame {
    frame(kind, rows_of_nothing(tables, 0, 0))
}

/// A table of added rows whose only column is a text, each as long as a text may be.
fn long_texts(texts: usize, length: usize) -> Vec<u8> {
    let mut out = vec![0, 0];
    varint(texts as u64, &mut out);
    // The first column, in every row.
    out.push(1);
    out.extend(std::iter::repeat_n(0xff, texts / 8));
    for number in 0..texts {
        out.push(0);
        varint(length as u64, &mut out);
        out.extend_from_slice(format!("{number:08}").as_bytes());
        out.extend(std::iter::repeat_n(b'x', length - 8));
    }
    out
}

/// Runs the program; gives its most memory in MiB and what it said. It has to end soon.
fn measured(arguments: &[&str]) -> (u64, String) {
    let mut command = Command::new(DOZOR);
    let command = command.args(arguments).stdout(Stdio::null()).stderr(Stdio::piped());
    let mut child = command.spawn().expect("dozor");
    let (begin, mut most) = (Instant::now(), 0);
    while child.try_wait().expect("its state").is_none() {
        let status = fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kib = peak.and_then(|line| line.trim().trim_end_matches(" kB").parse::<u64>().ok());
        most = kib.unwrap_or(0).max(most);
        if begin.elapsed() > SOON {
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
    let begin = together(&[&[head()], first].concat());
    // Streams begin anew with each key frame and index, so the bytes of one time are those of all.
    let once = together(&[&[head()], first, again].concat()).split_off(begin.len());
    [begin, once.repeat(times)].concat()
}

fn processes(rows: u64) -> Frame {
    frame(Kind::ProcessKey, rows_of_nothing(PROCESS_TABLES, PROCESS_TABLES - 1, rows))
}

#[test]
fn small_files_take_little_memory_and_time() {
    let index = |tables: Vec<u8>| [frame(Kind::Index, tables)];
    let one = [system_key(), nothing(Kind::ProcessKey, PROCESS_TABLES)];
    let mut texts = rows_of_nothing(PROCESS_TABLES - 1, 0, 0);
    texts.extend(long_texts(4_000, 4_000));
    let texts = [system_key(), frame(Kind::ProcessKey, texts)];
    let differences =
        [nothing(Kind::SystemDifference, SYSTEM_TABLES), nothing(Kind::ProcessDifference, PROCESS_TABLES)];
    let cases = [
        ("key frames of more rows than may be", recording(&[], &[system_key(), processes(MANY)], 200)),
        (
            "key frames of many rows that hold nothing",
            recording(&[], &[system_key(), processes(30_000)], 200),
        ),
        ("index frames of many rows", recording(&one, &index(rows_of_nothing(2, 0, MANY)), 300)),
        ("index frames of zeros", recording(&one, &index(vec![0; 30 << 20]), 300)),
        ("long texts", recording(&[], &texts, 60)),
        ("empty differences", {
            let many: Vec<Frame> = differences.iter().cycle().take(100_000).cloned().collect();
            recording(&[&[system_key(), processes(20_000)], &many[..]].concat(), &[], 0)
        }),
    ];
    let folder = tempfile::tempdir().expect("a scratch folder");
    let file = folder.path().join("hostile.dozor");
    let path = file.to_str().expect("text");
    for (what, bytes) in cases {
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
    let bytes = recording(&[], &[system_key(), processes(30_000)], 200);
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
