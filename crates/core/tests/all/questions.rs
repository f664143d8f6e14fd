//! Questions to a timeline, answered in other ways as well: sample by sample, through the index, by hand.

use dozor_core::catalogue::{Instances, Kind, Metric, PROCESS_METRICS, SYSTEM_METRICS, Value};
use dozor_core::compare::{Presence, Side, compare};
use dozor_core::demo::SimulatedMachine;
use dozor_core::exited::exited;
use dozor_core::expr::Expression;
use dozor_core::known::Raw;
use dozor_core::query::{Asked, Query, Stat};
use dozor_core::reading::{ProcessRow, Reading, raw};
use dozor_core::recording::{Mark, MarkKind, Writer, has_peaks};
use dozor_core::row::{Cells, Row};
use dozor_core::sample::Sample;
use dozor_core::text::no_text;
use dozor_core::timeline::{Reach, Timeline};
use std::sync::{Arc, LazyLock};
use std::time::Duration;

/// Twenty minutes of the simulated night with a loss in it, whose last block has no index.
fn night() -> Timeline {
    static BYTES: LazyLock<Vec<u8>> = LazyLock::new(|| recorded_night(true));
    Timeline::open(BYTES.clone()).expect("our own")
}

/// The same; the kernel may not report to it who ended.
fn recorded_night(is_told_of_ends: bool) -> Vec<u8> {
    let mut machine = SimulatedMachine::new(2);
    let mut writer = Writer::new(Arc::new(machine.host()), Some(Duration::from_secs(2))).with_keys_every(60);
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    for at in 0..600 {
        machine.advance_to(Duration::from_secs(2 * at));
        let mut reading = machine.reading();
        if !is_told_of_ends {
            reading.ended.clear();
            reading.system.notifications_lost = Raw::ABSENT;
        }
        if (200..230).contains(&at) {
            continue;
        }
        if at == 230 {
            let loss = Mark { readings: Some(30), ..Mark::new(reading.wall_ns(), MarkKind::Lost, "no room") };
            writer.mark(&loss, &mut bytes);
        }
        writer.put(&Arc::new(reading), &mut bytes).expect("memory");
    }
    bytes
}

fn asked(text: &str) -> Vec<Asked> {
    vec![Asked::parse(text).expect("a metric")]
}

#[test]
fn folding_gives_the_same_samples_as_looking_at_each() {
    let mut timeline = night();
    for threads in [1, 3] {
        let parts = timeline
            .fold(10..560, threads, Reach::All, Vec::new, |seen, number, sample| {
                let rates: Vec<Value> = (0..sample.now.processes.len())
                    .map(|at| PROCESS_METRICS[8].of(&sample.process(at)))
                    .collect();
                seen.push((number, sample.now.clone(), sample.seconds(), rates));
            })
            .expect("readable");
        let seen: Vec<_> = parts.into_iter().flatten().collect();
        assert_eq!(seen.len(), 550);
        for (at, (number, now, seconds, rates)) in seen.into_iter().enumerate() {
            assert_eq!(number, at + 10);
            let sample = timeline.sample(number).expect("readable");
            assert_eq!((now, seconds), (sample.now.clone(), sample.seconds()), "sample {number}");
            let expected: Vec<Value> = (0..sample.now.processes.len())
                .map(|at| PROCESS_METRICS[8].of(&sample.process(at)))
                .collect();
            assert_eq!(rates, expected);
        }
    }
}

fn is_of_processes(metric: &Metric) -> bool {
    matches!(Reach::of(metric), Reach::Processes { .. })
}

/// What every metric of processes says of some samples, read as is said, also of those who are gone and have a value.
fn values(timeline: &Timeline, metric: &'static Metric, reach: Reach) -> Vec<Vec<Value>> {
    let of = |sample: &Sample| -> Vec<Value> {
        (0..sample.now.processes.len()).map(|at| metric.of(&sample.process(at))).collect()
    };
    let is_known = |value: &Value| !matches!(value, Value::Absent | Value::Denied);
    let seen = timeline.fold(150..210, 1, reach, Vec::new, |seen: &mut Vec<Vec<Value>>, _, sample| {
        seen.push(of(sample));
        let of_gone = || of(&exited(sample)).into_iter().filter(is_known).collect();
        seen.extend((metric.kind == Kind::Rate).then(of_gone));
    });
    seen.expect("readable").concat()
}

#[test]
fn metrics_of_processes_need_nothing_of_cores_and_devices_and_of_processes_what_they_read() {
    let untold = Timeline::open(recorded_night(false)).expect("our own");
    let is_unseen = |sample: &Sample| exited(sample).now.processes.iter().any(|row| *row.name == *"unseen");
    let seen = untold.fold(150..210, 1, Reach::All, || false, |found, _, sample| *found |= is_unseen(sample));
    assert!(seen.expect("readable").contains(&true), "nobody came and went unseen");
    for timeline in [night(), untold] {
        for metric in PROCESS_METRICS.iter().filter(|metric| is_of_processes(metric)) {
            let [part, whole] = [Reach::of(metric), Reach::All].map(|reach| values(&timeline, metric, reach));
            assert_eq!(part, whole, "{}", metric.alias);
        }
    }
}

#[test]
fn conditions_are_decided_by_all_that_they_look_at() {
    let timeline = night();
    let about = [
        "mine",
        "active",
        "not active",
        "kernel_thread",
        "not replaced",
        "-q",
        "stack or lynx",
        "tile and active",
    ];
    let mut differs = 0;
    for (text, alias) in about.into_iter().flat_map(|text| ["write", "cpu", "rss"].map(|alias| (text, alias)))
    {
        let expression = || Some(Expression::parse(text).expect(text));
        let answer = |metrics: Vec<Asked>, whom: Option<Expression>, when: Option<Expression>| {
            let query =
                Query { metrics, whom, when, stat: Some(Stat::Max), me: "astro".into(), ..Query::default() };
            let answer = query.answer(&timeline, 150..210).expect("readable");
            let line = answer.lines.first().map(|line| (line.value.clone(), line.who.clone(), line.known));
            (line, answer.spans)
        };
        // With a metric beside it that needs all of a reading.
        let both = || [asked(alias), asked("core_temp")].concat();
        let (alone, whole) = (answer(asked(alias), expression(), None), answer(both(), expression(), None));
        assert_eq!(alone, whole, "{alias} where {text}");
        differs += usize::from(alone != answer(asked(alias), None, None));
        let (alone, whole) = (answer(asked(alias), None, expression()), answer(both(), None, expression()));
        assert_eq!(alone, whole, "{alias} when {text}");
    }
    assert!(differs > 12, "{differs} conditions left somebody out");
}

/// A process of which everything is known.
fn known_process(numbers: &[i64]) -> ProcessRow {
    let mut row = ProcessRow::default();
    for (field, number) in ProcessRow::FIELDS.iter().zip(numbers) {
        field.set(&mut row, raw(*number));
    }
    for (field, number) in ProcessRow::TEXTS.iter().zip(numbers) {
        (field.set)(&mut row, format!("{}{number}", field.name).as_str().into());
    }
    (row.pid, row.start_ticks) = (raw(77), raw(5));
    row
}

/// The same without what nobody looks at.
fn only(row: &ProcessRow, cells: Cells) -> ProcessRow {
    let mut row = row.clone();
    for (_, field) in
        ProcessRow::FIELDS.iter().enumerate().filter(|(at, _)| !cells.has_number::<ProcessRow>(*at))
    {
        field.set(&mut row, Raw::ABSENT);
    }
    for (_, field) in ProcessRow::TEXTS.iter().enumerate().filter(|(at, _)| !cells.has_text(*at)) {
        (field.set)(&mut row, no_text());
    }
    row
}

proptest::proptest! {
    #[test]
    fn metrics_of_a_process_read_what_the_catalogue_says(
        before in proptest::collection::vec(0..200i64, ProcessRow::FIELDS.len()),
        grown in proptest::collection::vec(0..200i64, ProcessRow::FIELDS.len()),
    ) {
        let now: Vec<i64> = before.iter().zip(&grown).map(|(before, grown)| before + grown).collect();
        let rows = [known_process(&before), known_process(&now)];
        let sample = |cells: Cells| {
            let [before, now] = [(0, &rows[0]), (1, &rows[1])].map(|(second, row)| {
                let mut reading = Reading { processes: vec![Arc::new(only(row, cells))], ..Reading::default() };
                let at = raw(1_000_000_000 * (second + 1));
                let system = &mut reading.system;
                (system.wall_ns, system.monotonic_ns, system.boot_ns, system.mem_total) = (at, at, at, raw(1 << 30));
                Arc::new(reading)
            });
            Sample::new(Arc::new(SimulatedMachine::new(5).host()), Some(before), now)
        };
        let whole = sample(Cells::ALL);
        for metric in PROCESS_METRICS {
            if let Reach::Processes { cells, .. } = Reach::of(metric) {
                let part = sample(cells);
                let of = |sample: &Sample| metric.bounded(&sample.process(0));
                proptest::prop_assert_eq!(of(&part), of(&whole), "{}", metric.alias);
            }
        }
    }
}

#[test]
fn metrics_of_the_machine_need_nothing_of_processes() {
    let timeline = night();
    let values = |reach: Reach| {
        let all = |seen: &mut Vec<(&'static str, Instances)>, _: usize, sample: &Sample| {
            for metric in SYSTEM_METRICS.iter().filter(|metric| Reach::of(metric) == Reach::Machine) {
                seen.push((metric.alias, metric.of_system(sample)));
            }
        };
        let whole = timeline.fold(150..260, 1, reach, Vec::new, all).expect("readable");
        whole.into_iter().flatten().collect::<Vec<_>>()
    };
    for (alone, whole) in values(Reach::Machine).into_iter().zip(values(Reach::All)) {
        assert_eq!(alone, whole);
    }
}

#[test]
fn peaks_from_the_index_are_those_that_a_walk_finds() {
    let timeline = night();
    for metric in PROCESS_METRICS.iter().filter(|metric| has_peaks(metric) && is_of_processes(metric)) {
        for numbers in [0..570, 30..400, 61..119] {
            let query = Query { metrics: asked(metric.alias), stat: Some(Stat::Max), ..Query::default() };
            // An expression that holds for everybody forbids the short way.
            let population = Expression::parse("not (pid < -5)").expect("an expression");
            let slow = Query { whom: Some(population), ..query.clone() };
            let (fast, slow) =
                (query.answer(&timeline, numbers.clone()), slow.answer(&timeline, numbers.clone()));
            let (fast, slow) = (fast.expect("readable"), slow.expect("readable"));
            let (fast, slow) = (&fast.lines[0], &slow.lines[0]);
            // The row of traffic that nobody owns has no PID, so the expression is unknown for it.
            if fast.who.as_ref().is_some_and(|who| who.key.pid < 0) {
                continue;
            }
            assert_eq!(fast.value, slow.value, "{} {numbers:?}", metric.alias);
            assert_eq!(
                (fast.at_ns.map(|at| at / 1_000), &fast.who),
                (slow.at_ns.map(|at| at / 1_000), &slow.who),
                "{}",
                metric.alias
            );
            assert_eq!(
                (fast.from_ns / 1_000_000, fast.until_ns / 1_000),
                (slow.from_ns / 1_000_000, slow.until_ns / 1_000)
            );
        }
    }
}

#[test]
fn sums_over_time_are_what_the_counters_grew_by() {
    let mut timeline = night();
    let query = Query {
        metrics: asked("write"),
        whom: Some(Expression::parse("name = stacker").expect("an expression")),
        stat: Some(Stat::Sum),
        ..Query::default()
    };
    // Over the loss nothing is known, so nothing is added there.
    let answer = query.answer(&timeline, 100..400).expect("readable");
    let written = |timeline: &mut Timeline, number: usize| {
        let sample = timeline.sample(number).expect("readable");
        let row = sample.now.processes.iter().find(|row| &*row.name == "stacker").expect("it runs").clone();
        row.write_bytes.value().expect("a counter") as f64
    };
    let [a, b, c, d] = [99, 199, 200, 399].map(|number| written(&mut timeline, number));
    let expected = (b - a) + (d - c);
    let Value::Number(sum) = answer.lines[0].value else { panic!("{answer:?}") };
    assert!((sum - expected).abs() <= expected * 1e-6, "{sum} for {expected}");
    assert_eq!(answer.lines[0].unknown, 1, "the sample after the loss");
}

#[test]
fn steps_are_round_and_a_gap_has_none() {
    let timeline = night();
    let step = 30_000_000_000;
    let query =
        Query { metrics: asked("mem.used"), step_ns: Some(step), stat: Some(Stat::Last), ..Query::default() };
    let answer = query.answer(&timeline, 0..timeline.end()).expect("readable");
    assert!(answer.lines.iter().all(|line| line.from_ns % step == 0 && line.until_ns - line.from_ns == step));
    let breaks: Vec<i64> = answer
        .lines
        .windows(2)
        .map(|pair| pair[1].from_ns - pair[0].until_ns)
        .filter(|gap| *gap > 0)
        .collect();
    assert_eq!(breaks, [step], "the minute that was lost holds one whole step");
}

#[test]
fn spans_of_a_condition_are_those_that_hold_sample_by_sample() {
    let mut timeline = night();
    let when = Expression::parse("cpu > 80%").expect("an expression");
    let query = Query { when: Some(when.clone()), ..Query::default() };
    let answer = query.answer(&timeline, 0..timeline.end()).expect("readable");
    let mut held = 0;
    for number in 0..timeline.end() {
        let sample = timeline.sample(number).expect("readable");
        let bound = when.bind(&sample, "");
        let holds = (0..sample.now.processes.len()).any(|at| bound.holds(&sample.process(at)) == Some(true));
        let wall = sample.now.wall_ns();
        let within = answer.spans.iter().any(|span| span.from_ns < wall && wall <= span.until_ns);
        assert_eq!(within, holds, "sample {number}");
        held += usize::from(holds);
    }
    assert!(held > 5 && held < timeline.end() / 2, "{held}");
    assert_eq!(answer.spans.iter().map(|span| span.samples).sum::<usize>(), held);
}

#[test]
fn a_comparison_turned_round_differs_the_other_way() {
    let mut timeline = night();
    let a = Side::of(&mut timeline, 60..=120).expect("readable");
    let b = Side::of(&mut timeline, 300..=360).expect("readable");
    assert!(!a.gap && !b.gap);
    let (there, back) = (compare(&a, &b), compare(&b, &a));
    assert!(!there.by_program && !there.machine.is_empty() && !there.parts.is_empty());
    assert_eq!(there.machine.len(), back.machine.len());
    for pair in &there.machine {
        let other =
            back.machine.iter().find(|other| other.metric.alias == pair.metric.alias).expect("both ways");
        assert_eq!((&pair.a, &pair.b), (&other.b, &other.a));
    }
    for process in &there.processes {
        let other =
            back.processes.iter().find(|other| other.pid == process.pid && other.name == process.name);
        let presence = other.expect("both ways").presence;
        let expected = match process.presence {
            Presence::Both => Presence::Both,
            Presence::Appeared => Presence::Vanished,
            Presence::Vanished => Presence::Appeared,
        };
        assert_eq!(presence, expected, "{}", process.name);
    }
    let weights: Vec<f64> = there.processes.iter().map(|process| process.weight).collect();
    assert!(weights.is_sorted_by(|a, b| a >= b), "most first");
    let nothing = compare(&a, &a);
    assert!(nothing.machine.is_empty() && nothing.parts.is_empty() && nothing.processes.is_empty());
}

#[test]
fn a_span_over_a_gap_is_its_longest_stretch() {
    let mut timeline = night();
    let side = Side::of(&mut timeline, 150..=360).expect("readable");
    assert!(side.gap);
    // 200 is the first sample behind the loss.
    let seconds = side.sample.seconds().expect("rates");
    assert!((seconds - 320.0).abs() < 0.5, "{seconds}");
}

/// Who came and went between two readings wrote as well.
#[test]
fn those_who_came_and_went_are_in_the_sums() {
    use dozor_core::known::Raw;
    use dozor_core::reading::{EndedRow, HostFacts, ProcessRow};
    let host = Arc::new(HostFacts { ticks_per_second: 100, cores: 4, ..HostFacts::default() });
    let mut timeline = Timeline::live(host);
    let own = |written: i64| {
        Arc::new(ProcessRow {
            pid: 7.into(),
            start_ticks: 1.into(),
            ppid: 1.into(),
            io_unknown: 0.into(),
            write_bytes: written.into(),
            write_any_bytes: written.into(),
            ..ProcessRow::default()
        })
    };
    for second in 1..=4i64 {
        let mut reading = Reading::default();
        let ns = Raw::new(second * 1_000_000_000);
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
        reading.system.notifications_lost = Raw::new(0);
        reading.processes = vec![own(second * 1_000)];
        let ended = |order: i64| EndedRow {
            name: "copy".into(),
            order: order.into(),
            pid: (100 * second + order).into(),
            ppid: 7.into(),
            seen: 0.into(),
            user: 10.into(),
            system: 10.into(),
            write_bytes: 50_000.into(),
            write_any_bytes: 50_000.into(),
            ..EndedRow::default()
        };
        reading.ended = vec![ended(0), ended(1)];
        timeline.append(Arc::new(reading));
    }
    let query = |stat| Query { metrics: asked("write"), stat: Some(stat), ..Query::default() };
    let answer = query(Stat::Sum).answer(&timeline, 0..4).expect("readable");
    assert_eq!(answer.lines[0].value, Value::Number(3.0 * (1_000.0 + 100_000.0)));
    let most = query(Stat::Max).answer(&timeline, 0..4).expect("readable");
    assert_eq!(most.lines[0].value, Value::Number(1_000.0), "of a single process that is there");
}

#[test]
fn who_rests_answers_as_when_asked_anew() {
    let timeline = night();
    // The age comes from the clock: with it in the condition everybody is asked at each reading.
    let answers = |metric: &str, whom: &str, stat: Option<Stat>, step_ns: Option<i64>| {
        let query = Query {
            metrics: asked(metric),
            whom: Some(Expression::parse(whom).expect("an expression")),
            stat,
            step_ns,
            ..Query::default()
        };
        format!("{:?}", query.answer(&timeline, 0..timeline.end()).expect("readable").lines)
    };
    let mut told = 0;
    for metric in ["cpu", "write", "rss", "net"] {
        for whom in
            ["user = catalog", "cpu > 1%", "rss > 20M and not active", "name = stack*", "write < 1 M/s"]
        {
            let anew = format!("({whom}) and age >= 0s");
            for (stat, step) in
                [(None, None), (Some(Stat::Max), None), (Some(Stat::Min), Some(60_000_000_000))]
            {
                let ours = answers(metric, whom, stat, step);
                assert_eq!(ours, answers(metric, &anew, stat, step), "{metric} where {whom}, {stat:?}");
                told += usize::from(ours.contains("Number"));
            }
        }
    }
    assert!(told > 30, "{told} have values");
}
