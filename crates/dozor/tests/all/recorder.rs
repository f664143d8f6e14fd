//! The recorder as a program: killed, starved, stopped, robbed of its file. What it wrote before stays readable, what it
//! could not write is a gap that says so.

use crate::cpu_time;
use dozor_core::recording::{Damage, Mark, MarkKind};
use dozor_core::timeline::Timeline;
use rustix::process::{Pid, Resource, Rlimit, Signal, kill_process, prlimit};
use std::fs::File;
use std::io::Read as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const DOZOR: &str = env!("CARGO_BIN_EXE_dozor");
const PATIENCE: Duration = Duration::from_secs(30);

fn folder() -> tempfile::TempDir {
    tempfile::tempdir().expect("a scratch folder")
}

fn recorder(output: &Path, more: &[&str]) -> Child {
    let mut command = Command::new(DOZOR);
    command.args(["record", "--every", "50ms", "-o"]).arg(output).args(more);
    command.stderr(Stdio::piped()).spawn().expect("dozor")
}

fn await_that(what: &str, mut holds: impl FnMut() -> bool) {
    let begin = Instant::now();
    while !holds() {
        assert!(begin.elapsed() < PATIENCE, "not in time: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// Samples, damages and marks of a file.
fn content(file: &Path) -> Option<(usize, Vec<Damage>, Vec<Mark>)> {
    let timeline = Timeline::open(std::fs::read(file).ok()?).ok()?;
    Some((timeline.end(), timeline.damages(), timeline.marks()))
}

fn samples(file: &Path) -> usize {
    content(file).map_or(0, |(samples, ..)| samples)
}

fn signal(child: &Child, signal: Signal) {
    kill_process(Pid::from_child(child), signal).expect("a signal to our own child");
}

/// Ends it politely and gives what it said.
fn end(mut child: Child) -> String {
    signal(&child, Signal::TERM);
    assert!(child.wait().expect("its end").success());
    let mut said = String::new();
    child.stderr.take().expect("its messages").read_to_string(&mut said).expect("text");
    said
}

/// Write calls that the kernel counted for a process; `/proc/PID/io` syscw.
fn write_calls(child: &Child) -> usize {
    let text = std::fs::read_to_string(format!("/proc/{}/io", child.id())).unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix("syscw: "));
    line.and_then(|number| number.parse().ok()).unwrap_or(0)
}

#[test]
fn killed_at_any_moment_it_loses_nothing_that_it_had_handed_over() {
    let folder = folder();
    let mut waits = 0x9e37_79b9_u64;
    for number in 0..50 {
        let file = folder.path().join(format!("{number}.dozor"));
        let mut child = recorder(&file, &[]);
        await_that("a reading", || samples(&file) > 0);
        waits = waits.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        std::thread::sleep(Duration::from_micros(waits >> 47));
        let calls = write_calls(&child);
        signal(&child, Signal::KILL);
        child.wait().expect("its end");
        let (samples, damages, _) = content(&file).expect("a recording");
        // The head and the note of the beginning are calls of their own; every reading is one.
        assert!(samples + 2 >= calls, "{samples} samples of {calls} calls, run {number}");
        assert!(damages.iter().all(|damage| damage.cut), "run {number}: {damages:?}");
    }
}

#[test]
fn a_full_disk_leaves_a_gap_and_recording_goes_on_when_there_is_room() {
    let folder = folder();
    let file = folder.path().join("full.dozor");
    // A limit on the size of files stands in for the end of a disk.
    let script = format!("ulimit -S -f 20; exec {DOZOR} record -o {} --every 50ms", file.display());
    let mut child =
        Command::new("bash").args(["-c", &script]).stderr(Stdio::piped()).spawn().expect("a shell");
    await_that("the limit", || {
        let length = std::fs::metadata(&file).map_or(0, |data| data.len());
        let before = samples(&file);
        std::thread::sleep(Duration::from_millis(250));
        before > 0 && std::fs::metadata(&file).map_or(0, |data| data.len()) == length
    });
    let before = samples(&file);
    assert!(child.try_wait().expect("its state").is_none(), "it keeps trying");
    prlimit(Some(Pid::from_child(&child)), Resource::Fsize, Rlimit { current: None, maximum: None })
        .expect("more room");
    await_that("readings again", || samples(&file) > before + 3);
    let said = end(child);
    assert!(said.contains("a reading is lost: ") && said.contains("File too large"), "{said}");
    assert!(said.contains("recording again; ") && said.contains(" lost"), "{said}");
    let (_, damages, marks) = content(&file).expect("a recording");
    assert_eq!(damages, [], "what could not be written is not there in half");
    let loss = marks.iter().find(|mark| mark.kind == MarkKind::Lost).expect("a mark of the loss");
    assert!(loss.readings.is_some_and(|readings| readings > 0) && loss.text.contains("File too large"));
    let timeline = Timeline::open(std::fs::read(&file).expect("it")).expect("a recording");
    let gaps = (1..timeline.end()).filter(|number| timeline.moment(*number).is_some_and(|m| m.lost)).count();
    assert_eq!(gaps, 1);
}

#[test]
fn a_recorder_that_was_stopped_says_so_in_the_recording() {
    let folder = folder();
    let file = folder.path().join("stopped.dozor");
    let child = recorder(&file, &[]);
    await_that("readings", || samples(&file) > 3);
    signal(&child, Signal::STOP);
    std::thread::sleep(Duration::from_millis(1_600));
    signal(&child, Signal::CONT);
    let before = samples(&file);
    await_that("more readings", || samples(&file) > before + 2);
    let said = end(child);
    assert!(said.contains("Dozor did not run for"), "{said}");
    let (_, damages, marks) = content(&file).expect("a recording");
    assert_eq!(damages, []);
    assert!(marks.iter().any(|mark| mark.kind == MarkKind::Note && mark.text.contains("did not run")));
    assert_no_sample_is_missing(&file);
}

/// Every sample but the first has rates over the true time since the one before.
fn assert_no_sample_is_missing(file: &Path) -> Timeline {
    let timeline = Timeline::open(std::fs::read(file).expect("it")).expect("a recording");
    for number in 1..timeline.end() {
        let moment = timeline.moment(number).expect("a moment");
        assert!(moment.seconds.is_some() && !moment.lost, "sample {number} has no rates");
    }
    timeline
}

/// A control group that holds a recorder to a small part of a core; none where none can be made.
fn starving_group() -> Option<(String, impl Fn(&Child))> {
    let own = std::fs::read_to_string("/proc/self/cgroup").unwrap_or_default();
    let path = |kind: &str| own.lines().find_map(|line| Some(line.split_once(kind)?.1.to_owned()));
    let name = format!("dozor-starved-{}", std::process::id());
    let folders = [
        format!("/sys/fs/cgroup/cpu{}/{name}", path(":cpu:").or(path(":cpu,cpuacct:")).unwrap_or_default()),
        format!("/sys/fs/cgroup{}/{name}", path("0::").unwrap_or_default()),
    ];
    let folder = folders.into_iter().find(|folder| {
        let made =
            std::fs::create_dir(folder).is_ok() && Path::new(&format!("{folder}/cgroup.procs")).exists();
        // 0.4 % of a core, in long periods: a whole reading does not fit into one.
        let quota = std::fs::write(format!("{folder}/cpu.max"), "4000 1000000").is_ok()
            || std::fs::write(format!("{folder}/cpu.cfs_period_us"), "1000000").is_ok()
                && std::fs::write(format!("{folder}/cpu.cfs_quota_us"), "4000").is_ok();
        let is_good = made && quota && Path::new(&format!("{folder}/cpu.stat")).exists();
        if !is_good {
            let _ = std::fs::remove_dir(folder);
        }
        is_good
    })?;
    let procs = format!("{folder}/cgroup.procs");
    Some((folder, move |child: &Child| std::fs::write(&procs, child.id().to_string()).expect("it goes in")))
}

/// The law of the recorder: whatever its pace, what its samples say adds up to what the kernel counted.
#[test]
fn undisturbed_a_starved_recorder_loses_no_time_that_the_kernel_counted() {
    let Some((group, put_in)) = starving_group() else {
        println!("no control group of CPU time can be made here");
        return;
    };
    let folder = folder();
    let file = folder.path().join("starved.dozor");
    let mut burner = Command::new("sh").args(["-c", "while :; do :; done"]).spawn().expect("a shell");
    let child = recorder(&file, &[]);
    await_that("a reading", || samples(&file) > 1);
    put_in(&child);
    std::thread::sleep(Duration::from_secs(12));
    // Out again, so that it ends in time.
    std::fs::write(format!("{group}/../cgroup.procs"), child.id().to_string()).expect("it goes out");
    let said = end(child);
    let burnt = cpu_time(burner.id());
    burner.kill().expect("it is ours");
    burner.wait().expect("its end");
    let _ = std::fs::remove_dir(&group);
    let mut timeline = assert_no_sample_is_missing(&file);
    let pid = i64::from(burner.id());
    let (mut summed, mut longest, mut counted) = (0.0, 0.0f64, None);
    for number in 1..timeline.end() {
        let sample = timeline.sample(number).expect("a sample");
        let seconds = sample.seconds().expect("its time");
        longest = longest.max(seconds);
        let at =
            sample.now.processes.iter().position(|row| row.pid.value() == Some(pid)).expect("the burner");
        let share = dozor_core::catalogue::listed("cpu").of(&sample.process(at)).number().expect("its share");
        summed += share / 100.0 * seconds;
        let row = &sample.now.processes[at];
        let ticks = row.user_ticks.value().zip(row.system_ticks.value()).map(|(user, system)| user + system);
        counted.get_or_insert_with(|| {
            let before = sample.before.as_ref().expect("the reading before");
            let row = before.processes.iter().find(|row| row.pid.value() == Some(pid)).expect("the burner");
            row.user_ticks.value().unwrap_or(0) + row.system_ticks.value().unwrap_or(0)
        });
        if number + 1 == timeline.end() {
            let kernel = (ticks.expect("its ticks") - counted.expect("the first")) as f64 / 100.0;
            println!("truth\tcpu over all samples of a starved recorder, s\t{kernel}\t{summed}");
            assert!(
                (summed - kernel).abs() < 0.05,
                "{summed} s in samples, {kernel} s by the kernel: {said}"
            );
            assert!(kernel > burnt * 0.8, "{kernel} of {burnt} s are in the recording");
        }
    }
    assert!(longest > 1.0, "it was starved: {longest} s");
    // Which of both is said is where its time ran out: while it read, or while it waited for the next reading.
    let is_told = said.contains("took") || said.contains("did not run");
    assert!(!said.contains("lost") && is_told, "{said}");
}

#[test]
fn a_file_that_was_removed_is_begun_anew() {
    let folder = folder();
    let file = folder.path().join("removed.dozor");
    let child = recorder(&file, &[]);
    await_that("readings", || samples(&file) > 3);
    std::fs::remove_file(&file).expect("removing it");
    await_that("another file", || samples(&file) > 3);
    end(child);
    let (_, damages, marks) = content(&file).expect("a recording");
    assert_eq!(damages, []);
    assert!(marks.iter().any(|mark| mark.text.contains("was removed")), "{marks:?}");
}

#[test]
fn a_file_that_was_truncated_goes_on_and_the_loss_is_counted() {
    for left in [0, 30_000] {
        let folder = folder();
        let file = folder.path().join("truncated.dozor");
        let child = recorder(&file, &[]);
        await_that("readings", || {
            samples(&file) > 6 && std::fs::metadata(&file).is_ok_and(|it| it.len() > left)
        });
        let before = samples(&file);
        File::options().write(true).open(&file).and_then(|file| file.set_len(left)).expect("truncating it");
        await_that("readings again", || {
            content(&file).is_some_and(|(samples, _, marks)| {
                samples > 3 && marks.iter().any(|mark| mark.kind == MarkKind::Lost)
            })
        });
        let said = end(child);
        assert!(said.contains("truncated by somebody else") && said.contains(" lost"), "{said}");
        let (_, damages, marks) = content(&file).expect("a recording");
        assert!(damages.len() <= 1, "at most the place where it was cut: {damages:?}");
        let loss = marks.iter().find(|mark| mark.kind == MarkKind::Lost).expect("a mark of the loss");
        assert!(
            loss.readings.is_some_and(|lost| lost > 0 && lost <= before as u64 + 40),
            "{loss:?}, {before} before"
        );
    }
}

#[test]
fn a_folder_has_one_recorder_and_segments_make_one_timeline() {
    let folder = folder();
    let output = folder.path().join("night/");
    let child = recorder(&output, &["--limit", "1MiB", "--keep", "1d"]);
    await_that("a segment", || {
        let files = std::fs::read_dir(&output).into_iter().flatten().flatten();
        files.map(|entry| samples(&entry.path())).sum::<usize>() > 2
    });
    let second = Command::new(DOZOR).args(["record", "-o"]).arg(&output).output().expect("dozor");
    let message = String::from_utf8_lossy(&second.stderr).into_owned();
    let expected = format!("another recorder writes here (PID {})", child.id());
    assert!(message.contains(&expected), "{message}");
    assert_eq!(second.status.code(), Some(1));
    end(child);
    // The lock goes with its holder.
    end({
        let child = recorder(&output, &[]);
        let segments = || std::fs::read_dir(&output).into_iter().flatten().flatten().count();
        await_that("another segment", || segments() > 2);
        child
    });
    let query = Command::new(DOZOR).args(["query", "--list"]).arg(&output).output().expect("dozor");
    let text = String::from_utf8_lossy(&query.stdout).into_owned();
    assert!(query.status.success() && text.contains("gap  "), "between two recorders is a gap: {text}");
}

#[test]
fn what_is_kept_longer_is_written_beside_and_asked_as_one() {
    let folder = folder();
    let output = folder.path().join("years/");
    let named = |coarse: bool| {
        let files = std::fs::read_dir(&output).into_iter().flatten().flatten().map(|entry| entry.path());
        let is_coarse = |path: &Path| path.to_string_lossy().ends_with("Z-10s.dozor");
        files.filter(|path| path.extension().is_some() && is_coarse(path) == coarse).collect::<Vec<_>>()
    };
    let child = recorder(&output, &["--keep", "1d", "--then", "10s:1y", "--then", "1m:10y"]);
    await_that("readings and a thinned one", || {
        named(true).iter().map(|path| samples(path)).sum::<usize>() > 1
    });
    end(child);
    let coarse = named(true);
    assert!(matches!(&coarse[..], [one] if samples(one) < 8), "{coarse:?}");
    let (_, damages, marks) = content(&coarse[0]).expect("a recording");
    assert_eq!(damages, []);
    let begins =
        |marks: &[Mark]| marks.iter().filter(|mark| mark.text.starts_with("recording begins")).count();
    assert_eq!(begins(&marks), 1);
    // All of it as one: what is thinned adds nothing where all is there.
    let list = |path: &Path| {
        let query = Command::new(DOZOR).args(["query", "--list"]).arg(path).output().expect("dozor");
        assert!(query.status.success(), "{}", String::from_utf8_lossy(&query.stderr));
        String::from_utf8_lossy(&query.stdout).into_owned()
    };
    let all = list(&output);
    assert!(!all.contains("gap  ") && all.matches("recording begins").count() == 1, "{all}");
    // Without the fine ones the rest is there all the same.
    for fine in named(false).iter().filter(|path| path.to_string_lossy().ends_with("Z.dozor")) {
        std::fs::remove_file(fine).expect("removing it");
    }
    assert_eq!(list(&output).matches("recording begins").count(), 1);
}

#[test]
fn a_note_is_added_to_a_finished_recording_and_to_no_other() {
    let folder = folder();
    let file = folder.path().join("noted.dozor");
    let child = recorder(&file, &[]);
    await_that("readings", || samples(&file) > 3);
    let note = |text: &str| Command::new(DOZOR).arg("note").arg(&file).arg(text).output().expect("dozor");
    let refused = note("too early");
    let message = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && message.contains("another recorder writes here"), "{message}");
    end(child);
    let before = std::fs::read(&file).expect("the recording");
    assert!(note("the dome opens").status.success());
    let after = std::fs::read(&file).expect("the recording");
    assert!(after.starts_with(&before), "what was there stays as it was");
    let (_, damages, marks) = content(&file).expect("a recording");
    assert_eq!(damages, []);
    assert!(marks.iter().any(|mark| mark.kind == MarkKind::Bookmark && mark.text == "the dome opens"));
    assert!(!marks.iter().any(|mark| mark.text == "too early"));
}
