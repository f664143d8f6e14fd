//! Folders that stay within their bounds.

use super::{Bounds, Recorder, Then, Written};
use crate::recordings::Recorded;
use dozor_core::demo::SimulatedMachine;
use dozor_core::known::Raw;
use dozor_core::lane::Lane;
use dozor_core::reading::{EndedRow, HostFacts, Reading};
use dozor_core::recording::{Frames, Mark, MarkKind};
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

/// All that a folder holds, as one timeline.
fn whole(folder: &Path) -> Timeline {
    let found = segments(folder);
    let files =
        found.iter().map(|(path, _)| Arc::new(Recorded(File::open(path).expect("it"))) as Arc<dyn Frames>);
    let (timeline, problems) = Timeline::of_recordings(files.collect());
    assert!(problems.is_empty() && timeline.damages().is_empty());
    timeline
}

/// Seconds between readings.
const EVERY: i64 = 30;

/// A reading of a machine with one core of which a tenth is used, but all of it for one reading every six hours, while one process
/// comes and goes in each.
fn busy(number: i64) -> Arc<Reading> {
    let mut reading = Reading::clone(&reading(number * EVERY));
    let bursts = number / BURST;
    let used = number * EVERY * 10 + bursts * EVERY * 90;
    let system = &mut reading.system;
    (system.user, system.idle) = (Raw::new(used), Raw::new(number * EVERY * 100 - used));
    (system.nice, system.system, system.iowait) = (Raw::new(0), Raw::new(0), Raw::new(0));
    (system.irq, system.softirq, system.steal) = (Raw::new(0), Raw::new(0), Raw::new(0));
    let name = format!("check{}", number % 3);
    reading.ended = vec![EndedRow {
        name: name.into(),
        seen: Raw::new(0),
        pid: Raw::new(100 + number),
        user: Raw::new(1_000),
        ..EndedRow::default()
    }];
    Arc::new(reading)
}

/// Readings from one to the next that is busy.
const BURST: i64 = 6 * 3_600 / EVERY;

fn kept_longer(path: &Path, limit: Option<u64>) -> Recorder {
    let hours = |hours: u64| Duration::from_secs(hours * 3_600);
    let host = Arc::new(HostFacts { cores: 1, ticks_per_second: 100, ..HostFacts::clone(&host()) });
    let bounds = Bounds { keep: Some(hours(2)), limit, ..Bounds::default() };
    let then = [
        Then { step: Duration::from_secs(60), keep: hours(24) },
        Then { step: hours(1), keep: hours(10_000) },
    ];
    let every = Duration::from_secs(EVERY as u64);
    Recorder::in_folder(path, bounds, host.clone(), every)
        .and_then(|recorder| recorder.keeping(&then, &host))
        .expect("a folder")
}

#[test]
fn what_is_older_is_kept_in_fewer_readings_and_nothing_is_missing() {
    const COUNT: i64 = 4 * 86_400 / EVERY;
    let folder = scratch();
    let mut recorder = kept_longer(folder.path(), None);
    for number in 0..COUNT {
        assert_eq!(recorder.write(&busy(number)).expect("room"), Written::Done);
        if number % 1_700 == 0 {
            let mark = Mark::new(busy(number).wall_ns() + 1, MarkKind::Bookmark, format!("at {number}"));
            recorder.mark(&mark).expect("room");
        }
    }
    recorder.finish().expect("an account");
    let mut timeline = whole(folder.path());
    let moments: Vec<_> =
        (0..timeline.end()).map(|number| timeline.moment(number).expect("it").clone()).collect();
    let (begin, end) = (busy(0).wall_ns(), busy(COUNT - 1).wall_ns());
    assert_eq!((moments[0].wall_ns, moments[moments.len() - 1].wall_ns), (begin, end));
    // Each stands for the time since the one before, whatever file it is in.
    for pair in moments.windows(2) {
        let seconds = (pair[1].wall_ns - pair[0].wall_ns) as f64 / NANOS as f64;
        assert!(pair[1].seconds.is_some_and(|known| (known - seconds).abs() < 0.01), "{pair:?}");
    }
    let within = |hours: Range<i64>| {
        let ago = |moment: &&dozor_core::timeline::Moment| (end - moment.wall_ns) / (3_600 * NANOS);
        moments.iter().filter(|moment| hours.contains(&ago(moment))).count() as i64
    };
    assert_eq!(within(0..2), 2 * 3_600 / EVERY);
    assert!((20 * 60..22 * 60 + 2).contains(&within(3..24)), "{}", within(3..24));
    assert!((63..66).contains(&within(32..96)), "{}", within(32..96));
    // Means are right, and peaks beside them.
    let used: f64 = moments
        .iter()
        .filter_map(|moment| Some(moment.point(Lane::Cpu).value.value()? * moment.seconds?))
        .sum();
    let really = busy(COUNT - 1).system.user.value().expect("it") as f64;
    assert!((used - really).abs() < really * 0.002, "{used} {really}");
    for burst in 1..COUNT / BURST {
        let number = timeline.at(busy(burst * BURST).wall_ns());
        let of = |number: usize| moments[number].peak(Lane::Cpu).value.value().expect("a peak");
        let highest = of(number).max(of((number + 1).min(moments.len() - 1)));
        assert!((highest - 100.0).abs() < 0.2, "burst {burst}: {highest}");
    }
    let marks: Vec<String> = timeline.marks().into_iter().map(|mark| mark.text).collect();
    let bookmarks = marks.iter().filter(|text| text.starts_with("at ")).count() as i64;
    assert_eq!(bookmarks, (COUNT + 1_699) / 1_700, "{marks:?}");
    let mut ended = 0;
    for number in 0..timeline.end() {
        let sample = timeline.sample(number).expect("readable");
        ended += sample.now.ended.iter().map(EndedRow::processes).sum::<i64>();
    }
    assert_eq!(ended, COUNT, "each is told of once");
}

#[test]
fn what_is_kept_longer_is_within_the_limit_and_goes_on_behind_what_was_there() {
    const LIMIT: u64 = 1 << 20;
    let folder = scratch();
    let bytes = || segments(folder.path()).iter().map(|(_, bytes)| bytes).sum::<u64>();
    for part in 0..3 {
        let mut recorder = kept_longer(folder.path(), Some(LIMIT));
        for number in part * 3_000..(part + 1) * 3_000 {
            assert_eq!(recorder.write(&busy(number)).expect("room"), Written::Done);
            assert!(number % 100 > 0 || bytes() <= LIMIT, "{}", bytes());
        }
        let lost = recorder.lose(3, "asleep".to_owned());
        assert_eq!(lost, Written::Lost("asleep".to_owned(), true));
        recorder.finish().expect("an account");
    }
    let timeline = whole(folder.path());
    let first = timeline.moment(0).map(|moment| moment.wall_ns);
    assert_eq!(first, Some(busy(0).wall_ns()), "the coarsest reach back the farthest");
    let gaps = (1..timeline.end()).filter(|at| timeline.moment(*at).is_some_and(|m| m.seconds.is_none()));
    assert_eq!(gaps.count(), 2, "where a recorder ended and another began");
}

#[test]
fn where_what_was_fine_is_not_there_the_coarser_stands_for_it() {
    let folder = scratch();
    let mut recorder = kept_longer(folder.path(), None);
    for number in 0..3 * 3_600 / EVERY {
        recorder.write(&busy(number)).expect("room");
    }
    recorder.finish().expect("an account");
    let all = segments(folder.path());
    let fine: Vec<_> = all.iter().filter(|(path, _)| path.to_string_lossy().ends_with("Z.dozor")).collect();
    assert!(fine.len() > 6, "{all:?}");
    let before = whole(folder.path());
    // One in the middle is lost.
    std::fs::remove_file(&fine[3].0).expect("removing it");
    let timeline = whole(folder.path());
    let span = |timeline: &Timeline| {
        let wall = |number: usize| timeline.moment(number).map(|moment| moment.wall_ns);
        (wall(0), wall(timeline.end() - 1))
    };
    assert_eq!(span(&timeline), span(&before));
    assert!(timeline.end() < before.end() - 10);
    let longest = (1..timeline.end())
        .filter_map(|number| Some(timeline.moment(number)?.wall_ns - timeline.moment(number - 1)?.wall_ns))
        .max();
    assert!(longest <= Some(60 * NANOS), "{longest:?}");
}
