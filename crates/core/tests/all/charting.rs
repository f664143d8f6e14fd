//! Values over time for charts: no peak is lost, parts add up, gaps stay gaps, and what is left out of the decoding changes nothing.

use dozor_core::chart::{Of, Series, Wish, gather, happenings};
use dozor_core::demo::SimulatedMachine;
use dozor_core::lane::Severity;
use dozor_core::query::{Asked, Query};
use dozor_core::reading::raw;
use dozor_core::recording::{Mark, MarkKind, Writer};
use dozor_core::timeline::Timeline;
use dozor_core::wanted::Wanted;
use std::sync::Arc;
use std::time::Duration;

/// Eight minutes at 2 s, with five minutes missing behind the first two, and a note.
fn night() -> Timeline {
    let mut machine = SimulatedMachine::new(1);
    machine.want(Wanted::recorded());
    let mut writer = Writer::new(Arc::new(machine.host()), Some(Duration::from_secs(2)));
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    for step in 0..240 {
        let pause = if step > 60 { 300 } else { 0 };
        machine.advance_to(Duration::from_secs(60 + step * 2 + pause));
        let mut reading = machine.reading();
        if pause > 0 {
            // The machine slept meanwhile.
            let slept = raw(reading.system.monotonic_ns.value().unwrap_or(0) - 300_000_000_000);
            reading.system.monotonic_ns = slept;
        }
        writer.put(&Arc::new(reading), &mut bytes).expect("memory");
        if step == 30 {
            let wall = machine.reading().system.wall_ns.value().expect("a clock");
            writer.mark(&Mark::new(wall, MarkKind::Bookmark, "the dome opens"), &mut bytes);
        }
    }
    writer.finish(&mut bytes);
    Timeline::open(bytes).expect("our own")
}

fn wish(text: &str) -> Wish {
    Wish::parse(text).expect("a wish")
}

/// What a question says of every sample.
fn exact(timeline: &Timeline, text: &str) -> Vec<f64> {
    let query = Query { metrics: vec![Asked::parse(text).expect("a metric")], ..Query::default() };
    let answer = query.answer(timeline, timeline.first()..timeline.end()).expect("readable");
    answer.lines.iter().filter_map(|line| line.value.number()).collect()
}

#[test]
fn no_extreme_is_lost_and_the_mean_stays_the_same_however_few_points_there_are() {
    let timeline = night();
    let all = timeline.first()..timeline.end();
    for text in ["cpu.total", "disk.busy{nvme0n1}", "mem.available", "cpu", "write"] {
        let values = exact(&timeline, text);
        let (most, least) = (
            values.iter().copied().fold(f64::MIN, f64::max),
            values.iter().copied().fold(f64::MAX, f64::min),
        );
        for columns in [1, 7, 50, 1_000] {
            let found = gather(&timeline, all.clone(), &[wish(text)], &|_| false, columns).expect("readable");
            let series = &found.series[0][0];
            assert!(series.points.len() <= columns + 1, "{text} in {columns}: {}", series.points.len());
            let high = series.points.iter().map(|point| point.high).fold(f64::MIN, f64::max);
            let low = series.points.iter().map(|point| point.low).fold(f64::MAX, f64::min);
            assert_eq!((high, low), (most, least), "{text} in {columns} columns");
            assert!(
                series
                    .points
                    .iter()
                    .all(|point| point.low <= point.mean + 1e-9 && point.mean <= point.high + 1e-9)
            );
        }
    }
}

#[test]
fn parts_of_a_whole_add_up_to_it() {
    let timeline = night();
    let all = timeline.first()..timeline.end();
    for text in ["cpu", "write", "rss"] {
        let parts = gather(&timeline, all.clone(), &[wish(text)], &|_| true, 40).expect("readable");
        let whole = gather(&timeline, all.clone(), &[wish(text)], &|_| false, 40).expect("readable");
        for point in &whole.series[0][0].points {
            let here = |series: &Series| {
                series.points.iter().find(|part| part.until_ns == point.until_ns).map(|part| part.mean)
            };
            let sum: f64 = parts.series[0].iter().filter_map(here).sum();
            // Levels of the first sample behind a gap cover no time, so they weigh nothing in a mean over time.
            assert!(
                (sum - point.mean).abs() <= point.mean.abs() * 1e-6 + 1e-6,
                "{text}: {sum} and {}",
                point.mean
            );
        }
    }
}

#[test]
fn one_process_or_program_is_what_a_question_says_of_it() {
    let timeline = night();
    let all = timeline.first()..timeline.end();
    let found =
        gather(&timeline, all.clone(), &[wish("write@stacker"), wish("write@3820")], &|_| false, 1_000)
            .expect("readable");
    let of = |at: usize| found.series[at][0].points.iter().map(|point| point.high).collect::<Vec<_>>();
    assert_eq!(of(0), of(1), "there is one of them");
    assert_eq!(found.series[1][0].name, "stacker[3820]");
    let missing = gather(&timeline, all, &[Wish { of: Of::Pid(1_999_999), ..wish("cpu") }], &|_| false, 10)
        .expect("readable");
    assert!(missing.series[0].is_empty(), "who is not there has no line at zero");
}

#[test]
fn a_gap_is_a_gap() {
    let timeline = night();
    let all = timeline.first()..timeline.end();
    for columns in [30, 1_000] {
        let found =
            gather(&timeline, all.clone(), &[wish("cpu.total")], &|_| false, columns).expect("readable");
        assert_eq!(found.gaps.len(), 1, "{:?}", found.gaps);
        let (from, until) = found.gaps[0];
        assert!(
            (290.0..310.0).contains(&((until - from) as f64 / 1e9)),
            "{} s",
            (until - from) / 1_000_000_000
        );
        assert_eq!(found.series[0][0].runs().count(), 2, "nothing is drawn across it");
    }
}

#[test]
fn what_happened_is_told_once_with_its_time_and_notes() {
    let mut timeline = night();
    let all = timeline.first()..timeline.end();
    let found = happenings(&mut timeline, all.clone(), 10).expect("readable");
    let disk = found.list.iter().find(|one| one.text.contains("nvme0n1")).expect("the saturated disk");
    assert!(disk.severity.is_some_and(|(severity, _)| severity == Severity::Critical));
    assert!(disk.until_ns > disk.from_ns);
    assert!(
        found.list.iter().any(|one| one.mark == Some(MarkKind::Bookmark) && one.text == "the dome opens")
    );
    assert!(found.list.is_sorted_by_key(|one| one.from_ns));
    let few = happenings(&mut timeline, all, 1).expect("readable");
    assert_eq!(few.list.iter().filter(|one| one.severity.is_some()).count(), 1);
    assert!(few.more > 0, "what has no line is counted");
}
