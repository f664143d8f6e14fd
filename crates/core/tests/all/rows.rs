//! Rows of the table that are made of several readings, threads or processes: figures that can be reckoned by hand.

use dozor_core::catalogue::{Combine, PROCESS_METRICS, Value, listed};
use dozor_core::demo::SimulatedMachine;
use dozor_core::exited::exited;
use dozor_core::rank::{
    Arrange, Arranging, Folds, Ledger, Line, Order, Population, RowId, RowRef, Table, Total, is_active,
    threads, total,
};
use dozor_core::reading::{EndedRow, HostFacts, ProcessKey, ProcessRow, Reading, SensorRow, ThreadRow, raw};
use dozor_core::sample::{Gap, Sample};
use dozor_core::wanted::{Demand, Wanted};
use proptest::prelude::*;
use std::sync::Arc;
use std::time::Duration;

fn host() -> Arc<HostFacts> {
    Arc::new(HostFacts { cores: 4, ticks_per_second: 100, ..HostFacts::default() })
}

fn at(second: i64, processes: &[(i64, i64, i64)]) -> Arc<Reading> {
    let mut reading = Reading::default();
    let ns = raw(second * 1_000_000_000);
    (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
    reading.processes = processes
        .iter()
        .map(|(pid, ppid, written)| {
            Arc::new(ProcessRow {
                pid: raw(*pid),
                ppid: raw(*ppid),
                start_ticks: raw(1),
                state: raw(i64::from(b'S')),
                user_ticks: raw(*written / 10),
                system_ticks: raw(0),
                read_bytes: raw(0),
                write_bytes: raw(*written),
                ..ProcessRow::default()
            })
        })
        .collect();
    reading.sort();
    Arc::new(reading)
}

fn value(sample: &Sample, place: usize, alias: &'static str) -> Value {
    listed(alias).of(&sample.process(place))
}

#[test]
fn a_sample_over_several_readings_has_the_mean_of_all_of_them() {
    let readings = [at(10, &[(7, 1, 0)]), at(11, &[(7, 1, 9_000)]), at(14, &[(7, 1, 10_000)])];
    let over = Sample::over(host(), &readings).expect("a sample");
    assert_eq!(over.seconds(), Some(4.0));
    assert_eq!(value(&over, 0, "write"), Value::Number(2_500.0));
    assert_eq!(value(&over, 0, "cpu"), Value::Number(250.0), "1000 ticks in 4 s");
    let two = Sample::over(host(), &readings[1..]).expect("a sample");
    assert_eq!(value(&two, 0, "write"), Value::Number(1_000.0 / 3.0), "two readings are a plain sample");
    assert!(Sample::over(host(), &readings[..1]).is_none() && Sample::over(host(), &[]).is_none());
}

#[test]
fn over_several_readings_parents_do_not_inherit_what_ended_children_wrote() {
    // The child lives through the first step, ends in the second; the kernel then adds its 5,000 bytes to the parent.
    let (first, second) = (at(10, &[(7, 1, 0)]), at(11, &[(7, 1, 100), (8, 7, 5_000)]));
    let mut third = (*at(12, &[(7, 1, 5_300)])).clone();
    third.ended = vec![EndedRow {
        order: raw(0),
        pid: raw(8),
        ppid: raw(7),
        read_bytes: raw(0),
        write_bytes: raw(5_000),
        ..EndedRow::default()
    }];
    let last = at(13, &[(7, 1, 5_400)]);
    let over = Sample::over(host(), &[first, second, Arc::new(third), last]).expect("a sample");
    let written = value(&over, 0, "write").number().expect("a rate");
    assert!((written - 400.0 / 3.0).abs() < 1e-6, "its own bytes alone: {written}");
}

#[test]
fn a_gap_in_between_is_found_where_the_clocks_disagree() {
    let mut slept = (*at(20, &[(7, 1, 50)])).clone();
    slept.system.boot_ns = raw(50_000_000_000);
    let over = Sample::over(host(), &[at(10, &[(7, 1, 0)]), at(11, &[(7, 1, 0)]), Arc::new(slept)]);
    let over = over.expect("a sample");
    assert!(matches!(over.gap, Some(Gap::Suspend(_))));
    assert_eq!(value(&over, 0, "write"), Value::Absent, "no rates over a suspend");
}

fn thread(tid: i64, pid: i64, ns: i64) -> ThreadRow {
    ThreadRow {
        name: format!("worker-{tid}").into(),
        tid: raw(tid),
        pid: raw(pid),
        start_ticks: raw(5),
        core: raw(0),
        run_ns: raw(ns),
        nice: raw(0),
        ..ThreadRow::default()
    }
}

#[test]
fn threads_are_rows_with_the_users_and_cores_of_their_processes() {
    let with = |second: i64, ns: i64| {
        let mut reading = (*at(second, &[(7, 1, 0), (9, 1, 0)])).clone();
        let owner = ProcessRow { user: "astro".into(), ..(*reading.processes[0]).clone() };
        reading.processes[0] = Arc::new(owner);
        reading.threads = vec![thread(7, 7, ns), thread(70, 7, ns * 3), thread(99, 9, 0)];
        reading.sensors =
            vec![SensorRow { name: "core".into(), temperature: raw(61_000), ..SensorRow::default() }];
        reading.cores = vec![dozor_core::reading::CoreRow {
            number: raw(0),
            sensor: "core".into(),
            ..dozor_core::reading::CoreRow::default()
        }];
        Arc::new(reading)
    };
    let sample = Sample::new(host(), Some(with(10, 0)), with(12, 200_000_000));
    let of_threads = threads(&sample).expect("threads");
    let row = |alias| (0..3).map(|place| value(&of_threads, place, alias)).collect::<Vec<_>>();
    assert_eq!(row("cpu"), [10.0, 30.0, 0.0].map(Value::Number));
    assert_eq!(row("ppid"), [7.0, 7.0, 9.0].map(Value::Number), "the parent of a thread is its process");
    let on_core = [Value::Number(61.0), Value::Number(61.0), Value::Absent];
    assert_eq!(row("core_temp"), on_core, "the third did not run");
    assert_eq!(row("user")[..2], ["astro", "astro"].map(|user| Value::Text(user.into())));
    assert_eq!(row("rss"), [Value::Absent, Value::Absent, Value::Absent], "memory is the process's");

    let gone = exited(&sample);
    let population = Population { threads: Some(&of_threads), ..Population::new(&sample, &gone) };
    let order = Order::by(listed("cpu"));
    let mut folds = Folds::default();
    let lines = |folds: &Folds| {
        let how = Arranging { order: &order, arrange: Arrange::Flat, folds, held: None, stays: None };
        let table =
            Table::new(&population, &population.ordered(&order), &|_| true, &how, &mut Ledger::default());
        table.lines.iter().filter_map(|line| Some((line.row?, line.depth))).collect::<Vec<_>>()
    };
    let all = lines(&folds);
    assert_eq!(
        all[..3],
        [(RowRef::Here(0), 0), (RowRef::Thread(1), 1), (RowRef::Thread(0), 1)],
        "in order below it"
    );
    assert_eq!(all.len(), 5);
    folds.turn_all();
    assert_eq!(lines(&folds).len(), 2, "folded away");
    assert!(threads(&Sample::new(host(), None, at(10, &[]))).is_none(), "none were collected");
}

#[test]
fn threads_that_did_nothing_are_one_row_below_those_that_work() {
    let with = |second: i64, ns: i64| {
        let mut reading = (*at(second, &[(7, 1, 0), (9, 1, 0)])).clone();
        reading.threads = vec![thread(7, 7, 0), thread(99, 9, ns), thread(100, 9, 0)];
        reading.threads.extend((70..75).map(|tid| thread(tid, 7, if tid == 72 { ns } else { 0 })));
        reading.sort();
        Arc::new(reading)
    };
    let sample = Sample::new(host(), Some(with(10, 0)), with(12, 200_000_000));
    let of_threads = threads(&sample).expect("threads");
    let gone = exited(&sample);
    let population = Population { threads: Some(&of_threads), ..Population::new(&sample, &gone) };
    let (order, mut folds) = (Order::by(listed("cpu")), Folds::default());
    let rows = |folds: &Folds, stays: Option<&RowId>| -> Vec<String> {
        let how = Arranging { order: &order, arrange: Arrange::Flat, folds, held: None, stays };
        let table =
            Table::new(&population, &population.ordered(&order), &|_| true, &how, &mut Ledger::default());
        let name = |line: &Line| match (line.row, line.totals) {
            (None, Some(at)) => format!("{} ×{}", table.groups[at].label, table.members(line).len()),
            (row, _) => population.view(row.expect("somebody")).now.pid.value().unwrap_or(0).to_string(),
        };
        table
            .lines
            .iter()
            .map(|line| {
                format!(
                    "{}{}{}",
                    "-".repeat(usize::from(line.depth)),
                    name(line),
                    if line.last { "." } else { "" }
                )
            })
            .collect()
    };
    assert_eq!(
        rows(&folds, None),
        ["7", "-72", "-idle threads ×5.", "9", "-99", "-100."],
        "one alone stands for itself"
    );
    let key = |tid: i64| ProcessKey { pid: tid, start: 1 };
    let chosen = RowId::Thread(ProcessKey { pid: 74, start: 5 });
    assert_eq!(
        rows(&folds, Some(&chosen))[..4],
        ["7", "-72", "-74", "-idle threads ×4."],
        "the selected one stays"
    );
    folds.set(&RowId::IdleThreads(key(7)), true);
    assert_eq!(rows(&folds, None)[2..8], ["-idle threads ×5.", "--7", "--70", "--71", "--73", "--74."]);
    let first = Sample::new(host(), None, with(10, 0));
    let of_threads = threads(&first).expect("threads");
    let gone = exited(&first);
    let population = Population { threads: Some(&of_threads), ..Population::new(&first, &gone) };
    let how = Arranging {
        order: &order,
        arrange: Arrange::Flat,
        folds: &Folds::default(),
        held: None,
        stays: None,
    };
    let table = Table::new(&population, &population.ordered(&order), &|_| true, &how, &mut Ledger::default());
    assert_eq!(table.lines.len(), 10, "what they did is not known yet, so none is called idle");
}

#[test]
fn the_simulated_machine_has_threads_only_where_they_are_wanted_and_they_add_up() {
    let mut machine = SimulatedMachine::new(3);
    machine.advance_to(Duration::from_secs(5));
    assert!(machine.reading().threads.is_empty());
    machine.want(Wanted::NOTHING.with(Demand::Threads));
    machine.advance_to(Duration::from_secs(6));
    let reading = machine.reading();
    for process in reading.processes.iter().filter(|row| row.threads.value() > Some(1)) {
        let own: Vec<&ThreadRow> = reading.threads.iter().filter(|row| row.pid == process.pid).collect();
        assert_eq!(Some(own.len() as i64), process.threads.value(), "{}", process.name);
        let sum: i64 = own.iter().filter_map(|row| row.user_ticks.value()).sum();
        let whole = process.user_ticks.value().expect("its time");
        assert!((whole - own.len() as i64..=whole).contains(&sum), "{}: {sum} of {whole}", process.name);
    }
}

#[test]
fn who_does_something_is_active() {
    let before = at(10, &[(1, 0, 0), (2, 0, 0), (3, 0, 0)]);
    let mut now = (*at(11, &[(1, 0, 0), (2, 0, 40), (3, 0, 0)])).clone();
    let blocked = ProcessRow { state: raw(i64::from(b'D')), ..(*now.processes[2]).clone() };
    now.processes[2] = Arc::new(blocked);
    let sample = Sample::new(host(), Some(before), Arc::new(now));
    let active: Vec<bool> = (0..3).map(|place| is_active(&sample.process(place))).collect();
    assert_eq!(active, [false, true, true], "a sleeper, a writer, one that waits for a disk");
}

fn any_value() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Absent),
        Just(Value::Denied),
        (0..1000i32).prop_map(|number| Value::Number(f64::from(number))),
        Just(Value::Word("sleeping")),
    ]
}

proptest! {
    #[test]
    fn totals_do_not_depend_on_the_order_and_are_never_made_of_nothing(
        values in proptest::collection::vec(any_value(), 0..9),
        metric in proptest::sample::select(PROCESS_METRICS.iter().collect::<Vec<_>>()),
    ) {
        let known = |value: &Value| Total { value: value.clone(), partial: false };
        let forward = total(values.iter().map(known), metric);
        let backward = total(values.iter().rev().map(known), metric);
        let numbers = values.iter().filter(|value| matches!(value, Value::Number(_))).count();
        let words = values.iter().filter(|value| matches!(value, Value::Word(_))).count();
        // Numbers and words do not stand in one column.
        if numbers == 0 || words == 0 {
            prop_assert_eq!(&forward, &backward);
        }
        let known = numbers + words;
        prop_assert_eq!(known == 0, matches!(forward.value, Value::Absent | Value::Denied));
        if forward.partial {
            prop_assert!(metric.combine == Combine::Sum && known < values.len());
        }
        if words == 0 && metric.combine == Combine::Sum && numbers > 0 {
            let sum: f64 = values.iter().filter_map(Value::number).sum();
            prop_assert_eq!(forward.value, Value::Number(sum));
        }
    }
}

#[test]
fn tasks_that_are_counted_on_are_as_many_as_those_that_are_counted() {
    let mut machine = SimulatedMachine::new(5);
    let mut timeline = dozor_core::timeline::Timeline::live(Arc::new(machine.host()));
    for second in 1..80 {
        machine.advance_to(Duration::from_secs(second));
        let mut reading = machine.reading();
        if second % 5 == 0 {
            reading.processes.remove(second as usize % 7);
        }
        timeline.append(Arc::new(reading));
        let sample = timeline.sample(timeline.end() - 1).expect("just appended");
        let anew = Sample::new(sample.host.clone(), sample.before.clone(), sample.now.clone());
        assert_eq!(sample.tasks(), anew.tasks());
    }
}
