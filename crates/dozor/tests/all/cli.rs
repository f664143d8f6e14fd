//! The command line as a person or a script meets it.

use dozor_core::recording::format::{FrameHeader, HEADER_BYTES};
use dozor_core::recording::{Event, StreamReader};
use std::io::Write as _;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, SystemTime};

const DOZOR: &str = env!("CARGO_BIN_EXE_dozor");

fn dozor(arguments: &[&str]) -> Command {
    let mut command = Command::new(DOZOR);
    command.args(arguments).stdin(Stdio::null()).env_remove("NO_COLOR");
    command
}

fn run(arguments: &[&str]) -> Output {
    dozor(arguments).output().expect("dozor runs")
}

fn message(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).trim_end().to_owned()
}

fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a scratch folder")
}

fn path(folder: &tempfile::TempDir, name: &str) -> String {
    folder.path().join(name).display().to_string()
}

/// A child that keeps one core busy; ended at the end of the test.
struct Burner(Child);

impl Burner {
    fn start() -> Burner {
        let child = Command::new("sh").args(["-c", "while :; do :; done"]).spawn().expect("a child");
        Burner(child)
    }

    /// Time on a core since its start; the first number of schedstat.
    fn ran(&self) -> Duration {
        let text = std::fs::read_to_string(format!("/proc/{}/schedstat", self.0.id())).expect("it runs");
        Duration::from_nanos(
            text.split(' ').next().and_then(|number| number.parse().ok()).expect("nanoseconds"),
        )
    }
}

impl Drop for Burner {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn bad_arguments_end_with_status_2_and_one_line_that_names_the_right_word() {
    for (arguments, expected) in [
        (&["--evry", "2s"][..], "dozor: unknown option --evry; did you mean --every?"),
        (&["snpshot"], "dozor: unknown command snpshot; did you mean snapshot?"),
        (
            &["snapshot", "--order", "wirte"],
            "dozor: --order: no process metric is called 'wirte'; did you mean 'write'?",
        ),
        (
            &["snapshot", "--format", "jsom"],
            "dozor: --format cannot be 'jsom'; did you mean json? (one of: table, json, jsonl, csv, parquet)",
        ),
        (&["snapshot", "--count", "0"], "dozor: --count: '0' is not a whole number from 1 on"),
        (
            &["record", "-o", "x", "--every", "0"],
            "dozor: --every: '0s' is out of range: more than 0 and at most 1000 years",
        ),
        (
            &["record", "-o", "x", "--every", "2sce"],
            "dozor: --every: unknown unit 'sce' in '2sce'; did you mean 'sec'?",
        ),
        (
            &["record", "-o", "x", "--every", "1ms"],
            "dozor: --every: '1ms' is too short; the shortest interval is 50ms",
        ),
        (&["record"], "dozor: --output <FILE> is missing"),
        (
            &["record", "-o", "x/", "--keep", "1d", "--then", "1m"],
            "dozor: --then: '1m' is no step and age; 1m:1y keeps one reading a minute for a year",
        ),
        (
            &["record", "-o", "x/", "--keep", "1d", "--then", "1s:1y"],
            "dozor: --then: '1s:1y': a step is of whole seconds, at least 10",
        ),
        (
            &["record", "-o", "x/", "--keep", "1d", "--then", "1m:1h"],
            "dozor: --then: an age of 1 h 0 min is not more than the 1 d 00:00 before it",
        ),
        (
            &["record", "-o", "x/", "--keep", "1d", "--then", "1h:1y", "--then", "1m:2y"],
            "dozor: --then: a step of 1 min 0 s is not longer than the 1 h 0 min before it",
        ),
        (
            &["record", "-o", "x/", "--keep", "1h", "--then", "2h:1y"],
            "dozor: --then: a step of 2 h 0 min is longer than 1 h 0 min, which is kept before it",
        ),
        (&["record", "-o", "x/", "--then", "1m:1y"], "dozor: --keep <AGE> is missing"),
        (
            &["record", "-o", "x", "--for", "1s", "--count", "1"],
            "dozor: --for <DURATION> does not go together with --count <NUMBER>",
        ),
        (&["demo", "--after", "9h"], "dozor: the night has 4 hours only"),
        (&[], "dozor: the screen needs a terminal; for files and pipes use dozor snapshot or dozor record"),
    ] {
        let output = run(arguments);
        assert_eq!(message(&output), expected, "{arguments:?}");
        assert_eq!((output.status.code(), &output.stdout[..]), (Some(2), &b""[..]), "{arguments:?}");
    }
}

#[test]
fn every_command_explains_itself_with_an_example() {
    for command in [
        &[][..],
        &["watch"],
        &["demo"],
        &["record"],
        &["replay"],
        &["query"],
        &["compare"],
        &["note"],
        &["snapshot"],
    ] {
        let output = run(&[command, &["--help"]].concat());
        let text = String::from_utf8(output.stdout).expect("text");
        assert!(output.status.success() && text.contains("Example"), "{command:?}: {text}");
    }
}

#[test]
fn what_cannot_be_replayed_is_named_with_the_reason() {
    let folder = folder();
    let (empty, other, cut) = (path(&folder, "empty"), path(&folder, "other"), path(&folder, "cut"));
    std::fs::write(&empty, "").expect("a file");
    std::fs::write(&other, "pid,name\n").expect("a file");
    let whole = path(&folder, "whole.dozor");
    assert!(run(&["record", "-o", &whole, "--count", "1"]).status.success());
    let bytes = std::fs::read(&whole).expect("the recording");
    // Behind the head, within the first reading.
    let head = FrameHeader::parse(&bytes[HEADER_BYTES..]).expect("the head").whole() + HEADER_BYTES;
    std::fs::write(&cut, &bytes[..head + 300]).expect("a file");
    let missing = path(&folder, "missing");
    let here = folder.path().join("odd").display().to_string();
    let bare = folder.path().join("bare").display().to_string();
    std::fs::create_dir(&here).and_then(|()| std::fs::create_dir(&bare)).expect("folders");
    std::fs::copy(&other, format!("{here}/other.dozor")).expect("a file");
    for (file, reason) in [
        (&empty, "it is empty".to_owned()),
        (&other, "it is not a Dozor recording".to_owned()),
        (&missing, "No such file or directory".to_owned()),
        (&bare, "holds no recording".to_owned()),
        // What is not a recording there is told, the rest is there.
        (&here, "is not a Dozor recording".to_owned()),
        (&cut, "cut off at byte".to_owned()),
    ] {
        let output = run(&["replay", file]);
        let message = message(&output);
        assert!(message.contains(&**file) && message.contains(&reason), "{message}");
        assert_eq!((message.lines().count(), output.status.code()), (1, Some(1)), "{message}");
    }
}

#[test]
fn a_recording_never_overwrites_and_names_the_file_that_fails() {
    let folder = folder();
    let kept = path(&folder, "kept");
    std::fs::write(&kept, "precious").expect("a file");
    let missing = path(&folder, "no/such/folder");
    for (file, reason) in [
        (kept.as_str(), "is there already"),
        (&missing, "No such file or directory"),
        ("/dev/full", "it is a device, not a file"),
    ] {
        let output = run(&["record", "-o", file, "--count", "1"]);
        let message = message(&output);
        assert!(message.contains(file) && message.contains(reason), "{message}");
        assert_eq!((message.lines().count(), output.status.code()), (1, Some(1)));
    }
    assert_eq!(std::fs::read(&kept).expect("the file"), b"precious");
}

fn readings_in(bytes: &[u8]) -> usize {
    let mut stream = StreamReader::open(bytes, true).expect("a recording");
    let mut readings = 0;
    while let Some(event) = stream.next_event().expect("readable") {
        readings += usize::from(matches!(event, Event::Reading { .. }));
    }
    readings
}

#[test]
fn a_recording_has_as_many_readings_as_were_asked_for() {
    let folder = folder();
    let file = path(&folder, "counted.dozor");
    let output = run(&["record", "-o", &file, "--every", "50ms", "--count", "7"]);
    assert!(
        // A slow disk is told in a line before.
        output.status.success()
            && message(&output).lines().last().is_some_and(|line| line.starts_with("dozor: 7 readings, ")),
        "{}",
        message(&output)
    );
    assert_eq!(readings_in(&std::fs::read(&file).expect("the recording")), 7);
    let timed = run(&["record", "-o", "-", "--every", "100ms", "--for", "350ms"]);
    // Four, or fewer where the machine was too busy to read that often.
    let readings = readings_in(&timed.stdout);
    assert!((1..=4).contains(&readings), "{readings}");
}

#[test]
fn a_recorder_that_is_told_to_end_leaves_a_whole_recording() {
    let folder = folder();
    let file = path(&folder, "ended.dozor");
    let mut child =
        dozor(&["record", "-o", &file, "--every", "50ms"]).stderr(Stdio::piped()).spawn().expect("dozor");
    await_that("readings are written", || has_readings(&file));
    let status = Command::new("kill").args(["-TERM", &child.id().to_string()]).status().expect("kill");
    assert!(status.success() && child.wait().expect("its end").success());
    assert!(readings_in(&std::fs::read(&file).expect("the recording")) > 3);
}

#[test]
fn a_recorder_that_is_killed_loses_at_most_the_last_reading() {
    let folder = folder();
    let file = path(&folder, "killed.dozor");
    let mut child = dozor(&["record", "-o", &file, "--every", "50ms"]).spawn().expect("dozor");
    await_that("readings are written", || has_readings(&file));
    child.kill().and_then(|()| child.wait()).expect("its end");
    assert!(readings_in(&std::fs::read(&file).expect("the recording")) > 3);
}

fn has_readings(file: &str) -> bool {
    let bytes = std::fs::read(file).unwrap_or_default();
    StreamReader::open(&bytes[..], true).is_ok() && readings_in(&bytes) > 3
}

fn await_that(what: &str, holds: impl Fn() -> bool) {
    for _ in 0..1000 {
        if holds() {
            return;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    panic!("waited in vain until {what}");
}

fn unix_time() -> f64 {
    SystemTime::UNIX_EPOCH.elapsed().expect("a time after 1970").as_secs_f64()
}

/// CPU seconds at a time, between the two accounts around it.
fn ran_until(account: &[(f64, Duration)], time: f64) -> f64 {
    let after = account.partition_point(|(at, _)| *at < time).clamp(1, account.len() - 1);
    let ((from, before), (to, later)) = (account[after - 1], account[after]);
    let part = ((time - from) / (to - from).max(1e-9)).clamp(0.0, 1.0);
    before.as_secs_f64() + part * (later.as_secs_f64() - before.as_secs_f64())
}

/// A snapshot while a program burns a core: what it says of that program, and what the scheduler says of the same time.
fn snapshot_of(burner: &Burner) -> (f64, f64) {
    let snapshot = std::thread::spawn(|| run(&["snapshot", "--format", "json", "--every", "2s"]));
    let mut account = vec![(unix_time(), burner.ran())];
    while !snapshot.is_finished() {
        std::thread::sleep(Duration::from_millis(5));
        account.push((unix_time(), burner.ran()));
    }
    let output = snapshot.join().expect("dozor");
    let sample: serde_json::Value = serde_json::from_slice(&output.stdout).expect("JSON");
    let interval = sample["interval"].as_f64().expect("an interval");
    assert!((1.9..10.0).contains(&interval), "{interval}");
    let system = sample["system"].as_object().expect("the system");
    for alias in ["cpu.total", "load.1", "mem.available", "forks", "tasks.total"] {
        assert!(system[alias].is_number(), "{alias}: {}", system[alias]);
    }
    assert!(system["core.total"]["0"].is_number());
    let processes = sample["processes"].as_array().expect("processes");
    let row = processes.iter().find(|row| row["pid"] == burner.0.id()).expect("the burner");
    assert_eq!(row["state"], "running");
    let time: jiff::Timestamp = sample["time"].as_str().and_then(|time| time.parse().ok()).expect("RFC 3339");
    let end = time.as_nanosecond() as f64 / 1e9;
    let ran = (ran_until(&account, end) - ran_until(&account, end - interval)) / interval * 100.0;
    (row["cpu"].as_f64().expect("a share"), ran)
}

#[test]
fn undisturbed_a_snapshot_shows_who_burns_a_core() {
    let burner = Burner::start();
    // Near 100 unless others take the core away; the scheduler's own account in nanoseconds knows. On a machine so busy
    // that Dozor itself is held up in the middle of a reading, another try.
    let mut tries = vec![];
    for _ in 0..6 {
        let (cpu, ran) = snapshot_of(&burner);
        if (cpu - ran).abs() < 5.0 {
            return;
        }
        tries.push((cpu, ran));
    }
    panic!("what it says and what the scheduler says: {tries:?}");
}

#[test]
fn snapshots_are_read_by_other_peoples_readers() {
    let lines = run(&["snapshot", "--format", "jsonl", "--count", "3", "--every", "50ms", "--limit", "2"]);
    let text = String::from_utf8(lines.stdout).expect("text");
    assert_eq!(text.lines().count(), 3);
    for line in text.lines() {
        let sample: serde_json::Value = serde_json::from_str(line).expect("JSON");
        // Who has just gone counts as well, and stands apart.
        let told = |key: &str| sample[key].as_array().map_or(0, Vec::len);
        assert_eq!(told("processes") + told("gone"), 2);
    }
    let array = run(&["snapshot", "--format", "json", "--count", "2", "--every", "50ms", "--limit", "1"]);
    let samples: Vec<serde_json::Value> = serde_json::from_slice(&array.stdout).expect("a JSON array");
    assert_eq!(samples.len(), 2);
    let table = run(&["snapshot", "--format", "csv", "--order", "pid", "--limit", "4", "--every", "50ms"]);
    let mut reader = csv::Reader::from_reader(&table.stdout[..]);
    let headings = reader.headers().expect("headings").clone();
    let pid = headings.iter().position(|heading| heading == "pid").expect("a PID column");
    let pids: Vec<u32> =
        reader.records().map(|record| record.expect("a record")[pid].parse().expect("a PID")).collect();
    assert_eq!(pids.len(), 4);
    assert!(pids.is_sorted(), "{pids:?}");
}

#[test]
fn csv_is_the_data_as_it_is_unless_a_spreadsheet_will_open_it() {
    let folder = folder();
    let program = folder.path().join("=1+2");
    std::os::unix::fs::symlink("/bin/sleep", &program).expect("a link");
    let mut child = Command::new(&program).arg("60").spawn().expect("a child");
    let pid = child.id().to_string();
    let cells = |more: &[&str]| {
        let mut arguments =
            vec!["snapshot", "--format", "csv", "--every", "50ms", "--columns", "name,nice", &pid];
        arguments.extend(more);
        let output = run(&arguments);
        let mut reader = csv::Reader::from_reader(&output.stdout[..]);
        let row = reader.records().next().expect("a row").expect("CSV");
        (row[1].to_owned(), row[2].to_owned())
    };
    let (plain, safe) = (cells(&[]), cells(&["--spreadsheet"]));
    child.kill().and_then(|()| child.wait()).expect("its end");
    assert_eq!(plain.0, "=1+2");
    assert_eq!(safe.0, "'=1+2");
    assert_eq!(plain.1, safe.1, "numbers stay numbers");
    let refused = run(&["snapshot", "--spreadsheet", "--every", "50ms"]);
    assert_eq!(
        (refused.status.code(), message(&refused).as_str()),
        (Some(2), "dozor: --spreadsheet is for --format csv")
    );
}

#[test]
fn a_closed_pipe_ends_quietly() {
    for arguments in
        [&["snapshot", "--count", "50", "--every", "50ms"][..], &["record", "-o", "-", "--every", "50ms"]]
    {
        let mut child =
            dozor(arguments).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("dozor");
        drop(child.stdout.take());
        let output = child.wait_with_output().expect("its end");
        assert_eq!((output.status.code(), message(&output)), (Some(0), String::new()), "{arguments:?}");
    }
}

/// A snapshot reads only what it prints, narrows and orders by; each of the three asks for what is costly.
#[test]
fn a_snapshot_reads_what_it_needs() {
    let own = std::process::id().to_string();
    let rows = |arguments: &[&str]| {
        let all = [&["snapshot", "--every", "50ms", "--format", "csv"], arguments].concat();
        let text = String::from_utf8(run(&all).stdout).expect("UTF-8");
        let lines: Vec<Vec<String>> =
            text.lines().skip(1).map(|line| line.split(',').map(str::to_owned).collect()).collect();
        lines
    };
    let number = |cell: &str| cell.parse::<u64>().unwrap_or_else(|_| panic!("{cell:?} is no number"));
    let by_columns = rows(&["--columns", "pss,files", &own]);
    assert!(number(&by_columns[0][1]) > 4096 && number(&by_columns[0][2]) > 2, "{by_columns:?}");
    let narrowed = rows(&["--columns", "pid", "--where", "pss > 4 KiB and files > 2", &own]);
    assert_eq!(narrowed.len(), 1, "{narrowed:?}");
    assert_eq!(narrowed[0][1], own);
    let open: Vec<_> = (0..20).map(|_| std::fs::File::open("/dev/null").expect("a file")).collect();
    let mut sleeper = Command::new("sleep").arg("20").spawn().expect("a child");
    let child = sleeper.id().to_string();
    let orders = ["--order=-files", "--order=+files"];
    let ordered = orders.map(|order| rows(&["--columns", "pid", order, &own, &child]));
    sleeper.kill().and_then(|()| sleeper.wait().map(drop)).expect("its end");
    drop(open);
    assert_eq!([&ordered[0][0][1], &ordered[1][0][1]], [&own, &child], "{ordered:?}");
}

#[test]
fn a_made_up_machine_is_read_from_its_files() {
    let folder = folder();
    let put = |name: &str, text: &[u8]| {
        let path = folder.path().join(name);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("folders");
        std::fs::File::create(path).and_then(|mut file| file.write_all(text)).expect("a file");
    };
    put("proc/stat", b"cpu  10 0 5 100 0 0 0 0 0 0\ncpu0 10 0 5 100 0 0 0 0 0 0\nprocesses 9\n");
    put("proc/42/stat", b"42 (a\x1b[2J) S 1 42 42 0 -1 0 1 0 0 0 7 3 0 0 20 0 1 0 50 4096 1 0\n");
    put("proc/43/stat", b"garbage");
    put("sys/class/thermal/thermal_zone0/type", b"soc\n");
    put("sys/class/thermal/thermal_zone0/temp", b"48500\n");
    let (proc_root, sys_root) = (path(&folder, "proc"), path(&folder, "sys"));
    let output = run(&[
        "snapshot",
        "--format",
        "json",
        "--every",
        "50ms",
        "--proc-root",
        &proc_root,
        "--sys-root",
        &sys_root,
    ]);
    let sample: serde_json::Value = serde_json::from_slice(&output.stdout).expect("JSON");
    assert_eq!(sample["system"]["sensor.temperature"]["soc"], 48.5);
    assert_eq!(sample["system"]["mem.total"], serde_json::Value::Null, "what is not there is not zero");
    assert_eq!(sample["host"]["cores"], 1);
    let processes = sample["processes"].as_array().expect("processes");
    assert_eq!(processes.len(), 1);
    assert_eq!(processes[0]["name"], "a\\x1b[2J");
    assert_eq!(processes[0]["read"], serde_json::Value::Null);
    let missing = run(&["snapshot", "--proc-root", &path(&folder, "nowhere")]);
    assert!(
        message(&missing).contains("nowhere cannot be read: No such file or directory"),
        "{}",
        message(&missing)
    );
    assert!(Path::new(&proc_root).exists());
}

#[test]
fn the_settings_are_printed_with_where_each_comes_from() {
    let folder = folder();
    let settings = folder.path().join("dozor");
    std::fs::create_dir_all(&settings).expect("a folder");
    let text = "# night shift\nunits = \"decimal\"\n[columns]\nshort = \"pid,cpu\"\n[views.archive]\nlane = \"disk\"\n";
    std::fs::write(settings.join("settings.toml"), text).expect("a file");
    let mut command = Command::new(env!("CARGO_BIN_EXE_dozor"));
    let output = command
        .args(["settings", "--format", "json"])
        .env("XDG_CONFIG_HOME", folder.path())
        .env("XDG_STATE_HOME", folder.path().join("state"))
        .output()
        .expect("it runs");
    let whole: serde_json::Value = serde_json::from_slice(&output.stdout).expect("an object");
    assert_eq!(whole["settings"]["units"]["value"], "decimal");
    assert_eq!(whole["settings"]["units"]["origin"], "settings.toml, line 2");
    assert_eq!(whole["settings"]["percent"]["origin"], "default");
    assert_eq!(whole["columns"]["short"], "pid,cpu");
    let views: Vec<&str> =
        whole["views"].as_array().expect("views").iter().filter_map(|it| it.as_str()).collect();
    assert!(views.contains(&"archive") && views.contains(&"disk hunt"), "{views:?}");
    assert!(output.stderr.is_empty() && output.status.success());
    assert!(!folder.path().join("state").exists(), "looking changes nothing");
}

#[test]
fn a_recording_through_a_pipe_answers_questions_as_a_file_does() {
    let line = format!("{DOZOR} record -o - --every 50ms --count 4 | {DOZOR} query - cpu.total --format csv");
    let output = Command::new("bash").args(["-c", &line]).output().expect("a shell");
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{}", message(&output));
    let rows = csv::Reader::from_reader(text.as_bytes()).records().filter_map(Result::ok).count();
    assert_eq!(rows, 4, "{text}");
}

#[test]
fn a_user_that_is_not_there_is_told() {
    for command in ["snapshot", "watch"] {
        let output = run(&[command, "--user", "root,nosuch"]);
        assert!(
            message(&output).contains("this machine has no user called 'nosuch'"),
            "{}",
            message(&output)
        );
        assert_eq!(output.status.code(), Some(2));
    }
}

#[test]
fn the_examples_of_the_help_work() {
    let folder = folder();
    let night = path(&folder, "night.dozor");
    let made = run(&["demo", "--record", &night, "--for", "70m", "--every", "30s"]);
    assert!(made.status.success(), "{}", message(&made));
    let programs = Path::new(DOZOR).parent().expect("a folder").display().to_string();
    let mut tried = 0;
    for command in ["query", "note", "metrics", "snapshot", "access", "settings"] {
        let help = run(&[command, "--help"]);
        let help = String::from_utf8_lossy(&help.stdout).into_owned();
        let examples = help.lines().skip_while(|line| !line.starts_with("Example"));
        for line in examples.filter_map(|line| line.find("dozor ").map(|at| &line[at..])) {
            let line = format!("PATH={programs}:$PATH; cd {}; {line}", folder.path().display());
            let output = Command::new("bash").args(["-c", &line]).output().expect("a shell");
            assert!(output.status.success(), "{line}: {}", message(&output));
            tried += 1;
        }
    }
    assert!(tried >= 9, "{tried}");
}
