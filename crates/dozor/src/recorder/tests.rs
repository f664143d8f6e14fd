//! Folders that stay within their bounds.

use super::{Bounds, Recorder, Written};
use crate::recordings::Recorded;
use dozor_core::demo::SimulatedMachine;
use dozor_core::known::Raw;
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::Frames;
use dozor_core::timeline::Timeline;
use dozor_core::units::NANOS;
use std::fs::File;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

/// A small reading at a second.
fn reading(second: i64) -> Arc<Reading> {
    let mut reading = Reading::default();
    let ns = Raw::new((1_928_800_000 + second) * NANOS);
    (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
    reading.system.user = Raw::new(second * 7);
    Arc::new(reading)
}

fn host() -> Arc<HostFacts> {
    Arc::new(HostFacts { name: "lynx-obs".to_owned(), ..HostFacts::default() })
}

fn segments(folder: &Path) -> Vec<(std::path::PathBuf, u64)> {
    let entries = std::fs::read_dir(folder).expect("the folder").flatten();
    let mut found: Vec<_> = entries
        .filter(|entry| entry.path().extension().is_some_and(|extension| extension == "dozor"))
        .map(|entry| (entry.path(), entry.metadata().map_or(0, |data| data.len())))
        .collect();
    found.sort();
    found
}

/// In memory where that is possible: ten thousand files are not the disk's business.
fn scratch() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).expect("a scratch folder")
}

#[test]
fn a_folder_stays_within_its_limit_for_ten_thousand_segments() {
    const LIMIT: u64 = 1 << 20;
    let folder = scratch();
    let bounds = Bounds { limit: Some(LIMIT), segment: Some(1), ..Bounds::default() };
    let mut recorder =
        Recorder::in_folder(folder.path(), bounds, host(), Duration::from_secs(1)).expect("a folder");
    let other = folder.path().join("somebody-elses.dozor");
    std::fs::write(&other, "precious").expect("a file");
    for second in 0..10_000 {
        assert_eq!(recorder.write(&reading(second)).expect("room"), Written::Done);
        if second % 97 == 0 || second > 9_900 {
            let all: u64 = segments(folder.path()).iter().map(|(_, bytes)| bytes).sum();
            assert!(all <= LIMIT + 8, "{all} bytes after {second} segments");
        }
    }
    recorder.finish().expect("an account");
    assert_eq!(std::fs::read(&other).expect("it"), b"precious", "what is not ours stays");
    std::fs::remove_file(&other).expect("removing it");
    let found = segments(folder.path());
    assert!(found.len() > 20, "as much as there is room for is kept: {}", found.len());
    let files =
        found.iter().map(|(path, _)| Arc::new(Recorded(File::open(path).expect("it"))) as Arc<dyn Frames>);
    let (timeline, problems) = Timeline::of_recordings(files.collect());
    assert!(problems.is_empty() && timeline.damages().is_empty());
    let newest = timeline.moment(timeline.end() - 1).map(|moment| moment.wall_ns);
    assert_eq!(newest, Some(reading(9_999).wall_ns()));
    let gaps =
        (1..timeline.end()).filter(|number| timeline.moment(*number).is_some_and(|m| m.seconds.is_none()));
    assert_eq!(gaps.count(), 0, "nothing is missing between segments");
}

#[test]
fn what_is_too_old_goes_and_the_rest_stays() {
    let folder = scratch();
    let keep = Duration::from_secs(2 * 3_600);
    let bounds = Bounds { keep: Some(keep), ..Bounds::default() };
    let mut recorder =
        Recorder::in_folder(folder.path(), bounds, host(), Duration::from_secs(60)).expect("a folder");
    let minutes = 10 * 60;
    for minute in 0..minutes {
        recorder.write(&reading(minute * 60)).expect("room");
    }
    recorder.finish().expect("an account");
    let found = segments(folder.path());
    let files =
        found.iter().map(|(path, _)| Arc::new(Recorded(File::open(path).expect("it"))) as Arc<dyn Frames>);
    let (timeline, _) = Timeline::of_recordings(files.collect());
    let kept = reading((minutes - 1) * 60).wall_ns() - timeline.moment(0).map_or(0, |moment| moment.wall_ns);
    // At least what was asked for, and not more than two segments beyond it.
    let kept = Duration::from_nanos(kept as u64);
    assert!(kept >= keep && kept <= keep + Duration::from_secs(2 * 900 + 120), "{kept:?}");
}

#[test]
fn a_clock_that_was_wrong_for_a_while_costs_no_recording() {
    const YEAR: i64 = 365 * 86_400;
    let folder = scratch();
    let keep = Duration::from_secs(2 * 3_600);
    let bounds = Bounds { keep: Some(keep), ..Bounds::default() };
    let path = folder.path();
    let begin = || Recorder::in_folder(path, bounds, host(), Duration::from_secs(60)).expect("a folder");
    let kept = || segments(path).first().map(|(path, _)| path.clone());
    let write = |recorder: &mut Recorder, minutes: Range<i64>, years_ahead: i64| {
        for minute in minutes {
            let mut reading = Reading::clone(&reading(minute * 60));
            reading.system.wall_ns = Raw::new(reading.wall_ns() + years_ahead * YEAR * NANOS);
            recorder.write(&Arc::new(reading)).expect("room");
        }
    };
    let mut recorder = begin();
    write(&mut recorder, 0..150, 0);
    let first = kept();
    write(&mut recorder, 150..180, 1);
    assert_eq!(kept(), first, "what is old by the wrong clock is still there");
    write(&mut recorder, 180..200, 0);
    recorder.finish().expect("an account");
    let mut recorder = begin();
    write(&mut recorder, 200..230, 1);
    assert_eq!(kept(), first, "nor does a recorder that begins with a wrong clock take it away");
    write(&mut recorder, 230..600, 0);
    recorder.finish().expect("an account");
    assert_ne!(kept(), first, "what is old by a clock that has gone on evenly goes");
}

#[test]
fn a_recording_holds_what_was_read_over_its_segments() {
    let folder = scratch();
    let bounds = Bounds { segment: Some(60_000), ..Bounds::default() };
    let mut machine = SimulatedMachine::new(4);
    let host = Arc::new(machine.host());
    let mut recorder =
        Recorder::in_folder(folder.path(), bounds, host, Duration::from_secs(2)).expect("a folder");
    let readings: Vec<Arc<Reading>> = (0..120)
        .map(|at| {
            machine.advance_to(Duration::from_secs(2 * at));
            Arc::new(machine.reading())
        })
        .collect();
    for reading in &readings {
        recorder.write(reading).expect("room");
    }
    recorder.finish().expect("an account");
    let found = segments(folder.path());
    assert!(found.len() > 2, "{found:?}");
    let files = found
        .iter()
        .rev()
        .map(|(path, _)| Arc::new(Recorded(File::open(path).expect("it"))) as Arc<dyn Frames>);
    let (mut timeline, _) = Timeline::of_recordings(files.collect());
    assert_eq!(timeline.end(), readings.len());
    for (number, reading) in readings.iter().enumerate() {
        assert_eq!(timeline.sample(number).expect("readable").now, *reading);
    }
}
