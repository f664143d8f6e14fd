//! Recordings in a real terminal: a killed one, history behind the live screen, one that grows.

use crate::terminal::{DOZOR, PATIENCE, Terminal};
use rustix::process::{Pid, Signal, kill_process};
use std::io::Write as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a scratch folder")
}

/// A recorder that ends with the test, whatever becomes of that.
struct Recorder(Child);

impl Recorder {
    fn start(output: &Path) -> Recorder {
        let mut command = Command::new(DOZOR);
        command.args(["record", "--every", "200ms", "-o"]).arg(output).stderr(Stdio::null());
        Recorder(command.spawn().expect("dozor"))
    }

    fn signal(&mut self, signal: Signal) {
        kill_process(Pid::from_child(&self.0), signal).expect("a signal to our own child");
        self.0.wait().expect("its end");
    }
}

impl Drop for Recorder {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Waits until a recording grew so often: each reading is written when it was taken.
fn await_growth(path: &Path, times: u32) {
    let begin = Instant::now();
    let length = || -> u64 {
        if path.is_dir() {
            let files = std::fs::read_dir(path).into_iter().flatten().flatten();
            return files.map(|entry| entry.metadata().map_or(0, |data| data.len())).sum();
        }
        std::fs::metadata(path).map_or(0, |data| data.len())
    };
    let (mut before, mut grown) = (length(), 0);
    while grown < times {
        assert!(begin.elapsed() < PATIENCE, "{} does not grow", path.display());
        std::thread::sleep(Duration::from_millis(20));
        let now = length();
        grown += u32::from(now > before);
        before = now;
    }
}

/// Head and key frame, and some readings behind them.
const SOME: u32 = 6;

#[test]
fn a_killed_recording_is_replayed_to_its_peak() {
    let folder = folder();
    let file = folder.path().join("killed.dozor");
    let mut recorder = Recorder::start(&file);
    await_growth(&file, SOME);
    recorder.signal(Signal::KILL);
    let terminal = Terminal::run("dozor replay --paused killed.dozor", (140, 40), folder.path());
    terminal.wait_for("REPLAY PAUSED");
    terminal.wait_for("all, cpu");
    terminal.keys("!");
    let screen = terminal.wait_for("peak of cpu: ");
    assert!(screen.contains(" % at "), "{screen}");
    terminal.keys("q");
    terminal.assert_restored();
}

#[test]
fn two_moments_of_a_night_are_compared_on_the_screen_and_on_the_command_line() {
    let folder = folder();
    let arguments = ["demo", "--record", "night.dozor", "--for", "10m", "--every", "2s"];
    let recorded = Command::new(DOZOR).args(arguments).current_dir(folder.path()).status().expect("dozor");
    assert!(recorded.success());
    let early = Terminal::run("dozor replay --paused --at 01:00 night.dozor", (140, 40), folder.path());
    early.wait_for("2031-02-14 01:00:00 UTC is before the first sample, ");
    let terminal = Terminal::run("dozor replay --paused --at 02:05 night.dozor", (140, 40), folder.path());
    terminal.wait_for("2031-02-14 02:05:00");
    terminal.keys("3 !");
    terminal.wait_for("peak of disk: ");
    terminal.keys("d @");
    terminal.text("02:08");
    terminal.keys("Enter d");
    let screen = terminal.wait_for("What differs between A and B");
    assert!(screen.contains("stacker[3820]"), "{screen}");
    // An escape and a letter at once would be one key.
    terminal.keys("Escape");
    terminal.wait("the screen below", |screen| !screen.contains("What differs"));
    terminal.keys("b");
    terminal.wait_for("bookmark at 02:08:00 ·");
    terminal.text("the calm before");
    terminal.keys("Enter");
    terminal.wait_for("bookmark at 02:08:00; ");
    terminal.keys("q");
    terminal.assert_restored();
    // The bookmark went into the recording itself.
    let query = |arguments: &[&str]| {
        let output = Command::new(DOZOR).args(arguments).current_dir(folder.path()).output().expect("dozor");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).expect("text")
    };
    let list = query(&["query", "night.dozor", "--list"]);
    assert!(list.contains("bookmark  2031-02-14 02:08:00 UTC  the calm before"), "{list}");
    let compared = query(&["compare", "night.dozor@02:04:30", "@02:07", "--format", "json"]);
    let compared: serde_json::Value = serde_json::from_str(&compared).expect("an object");
    assert_eq!(compared["a"]["host"], "lynx-obs");
    assert!(compared["processes"].as_array().is_some_and(|all| !all.is_empty()));
    let values =
        query(&["query", "night.dozor", "cpu.user", "--step", "1m", "--stat", "max", "--format", "csv"]);
    let mut reader = csv::Reader::from_reader(values.as_bytes());
    let rows: Vec<csv::StringRecord> = reader.records().map(|row| row.expect("a row")).collect();
    assert!((10..=11).contains(&rows.len()), "{values}");
    assert!(rows.iter().all(|row| row[6].parse::<f64>().is_ok_and(|value| (0.0..=100.0).contains(&value))));
}

#[test]
fn the_live_screen_opens_on_top_of_the_recorders_history() {
    let folder = folder();
    let history = folder.path().join("history");
    std::fs::create_dir(&history).expect("a folder");
    let mut recorder = Recorder::start(&history);
    await_growth(&history, SOME);
    // What is no recording, and one of another host, are told, not passed over.
    std::fs::write(history.join("another.dozor"), "something else").expect("a file");
    let made = Command::new(DOZOR)
        .args(["demo", "--for", "5s", "--record"])
        .arg(history.join("demo.dozor"))
        .status();
    assert!(made.expect("dozor").success());
    let terminal = Terminal::run("dozor --history history --every 1s", (140, 40), folder.path());
    terminal.wait_for("LIVE");
    terminal.wait_for("history: history/another.dozor: it is not a Dozor recording (and 1 more; dozor query --list tells all)");
    terminal.wait_for("all, cpu");
    terminal.keys("<");
    terminal.wait_for("FROZEN");
    terminal.keys("]");
    let screen =
        terminal.wait("a sample with rates from before", |screen| !screen.contains("rates need a second"));
    assert!(screen.contains("pid  user"), "{screen}");
    terminal.keys("b");
    terminal.text("before I came");
    terminal.keys("Enter");
    terminal.wait_for("bookmark at ");
    terminal.keys("L");
    terminal.wait_for("LIVE");
    terminal.keys("q");
    terminal.assert_restored();
    recorder.signal(Signal::TERM);
    for foreign in ["another.dozor", "demo.dozor"] {
        std::fs::remove_file(history.join(foreign)).expect("it was there");
    }
    let list = Command::new(DOZOR).args(["query", "--list"]).arg(&history).output().expect("dozor");
    let list = String::from_utf8_lossy(&list.stdout).into_owned();
    assert!(list.contains("before I came"), "the bookmark stands beside the segments: {list}");
}

#[test]
fn a_running_recorder_is_found_without_being_named() {
    let folder = folder();
    let history = folder.path().join("found/");
    let mut recorder = Recorder::start(&history);
    await_growth(&history, SOME);
    let (found, _) = dozor_linux::recorders::folders(Path::new("/proc"));
    let real = history.canonicalize().expect("its path");
    assert!(found.contains(&real), "{found:?}");
    recorder.signal(Signal::TERM);
    assert!(!dozor_linux::recorders::folders(Path::new("/proc")).0.contains(&real));
}

#[test]
fn a_recording_that_grows_is_followed() {
    let folder = folder();
    let file = folder.path().join("growing.dozor");
    let _recorder = Recorder::start(&file);
    await_growth(&file, SOME);
    let terminal = Terminal::run("dozor replay --paused growing.dozor", (140, 40), folder.path());
    terminal.wait_for("REPLAY PAUSED");
    terminal.keys("L");
    let samples = |screen: &str| -> usize {
        let rest = screen.split(" of ").nth(1).unwrap_or_default();
        rest.split_whitespace().next().and_then(|number| number.parse().ok()).unwrap_or(0)
    };
    let before = samples(&terminal.wait_for("REPLAY AT ITS END"));
    terminal.wait("more samples", |screen| screen.contains("AT ITS END") && samples(screen) > before + 5);
    terminal.keys("q");
    terminal.assert_restored();
}

#[test]
fn watching_through_a_pipe_ends_on_both_sides() {
    let folder = folder();
    let command = "dozor record -o - --every 100ms | dozor replay -";
    let terminal = Terminal::run(command, (120, 36), folder.path());
    terminal.wait_for("pid  user");
    terminal.keys("Home x");
    terminal.wait_for("run elsewhere");
    terminal.keys("q");
    // The shell waits for both.
    terminal.wait("the shell", |screen| screen.trim_end().ends_with("ready>"));
    terminal.assert_restored();
}

#[test]
fn a_recording_that_grows_by_nothing_holds_no_key() {
    let folder = folder();
    let file = folder.path().join("grown.dozor");
    let made = |name: &str| {
        let path = folder.path().join(name);
        let output =
            Command::new(DOZOR).args(["record", "--count", "6", "--every", "50ms", "-o"]).arg(&path).output();
        assert!(output.expect("dozor").status.success());
        std::fs::read(path).expect("a recording")
    };
    let (first, second) = (made("grown.dozor"), made("other.dozor"));
    let terminal = Terminal::run("dozor replay --paused grown.dozor", (140, 40), folder.path());
    terminal.wait_for("REPLAY PAUSED");
    let append = std::fs::File::options().append(true).open(&file).expect("it");
    // A hole of ten gigabytes, then two hundred megabytes of written nothing, then readings.
    append.set_len(first.len() as u64 + (10 << 30)).expect("a sparse file");
    let nothing = vec![0u8; 8 << 20];
    for _ in 0..25 {
        std::io::Write::write_all(&mut &append, &nothing).expect("room");
    }
    std::io::Write::write_all(&mut &append, &second).expect("room");
    terminal.keys("?");
    terminal.wait_for("letters search");
    terminal.keys("Escape");
    terminal.wait("the readings behind it", |screen| screen.contains(" of 12"));
    terminal.keys("q");
    terminal.assert_restored();
    let begin = Instant::now();
    let list = Command::new(DOZOR).args(["query", "--list"]).arg(&file).output().expect("dozor");
    assert!(list.status.success() && begin.elapsed() < PATIENCE, "{:?}", begin.elapsed());
    let said = String::from_utf8_lossy(&list.stderr).into_owned();
    assert!(said.contains("damaged at byte"), "{said}");
}

#[test]
fn a_long_search_is_told_before_there_is_a_screen() {
    let folder = folder();
    let file = folder.path().join("night.dozor");
    let made = Command::new(DOZOR)
        .args(["demo", "--for", "5s", "--record"])
        .arg(&file)
        .stderr(Stdio::null())
        .status();
    assert!(made.expect("dozor").success());
    // Zeros that stand in the file are looked through; a hole would be skipped.
    let mut zeros = std::fs::OpenOptions::new().append(true).open(&file).expect("the recording");
    for _ in 0..400 {
        zeros.write_all(&vec![0; 1 << 20]).expect("room");
    }
    let terminal = Terminal::run("dozor replay --paused night.dozor", (120, 30), folder.path());
    terminal.wait_for("dozor: looking through the recording: ");
    terminal.wait_for("REPLAY PAUSED");
    terminal.keys("q");
    terminal.assert_restored();
}
