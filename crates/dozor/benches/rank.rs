//! What asking for processes costs with 10,000 of them at each sample: narrowing, ordering and arranging. Run with
//! `cargo bench --bench rank`. Beside it stands the bare cost of opening, reading and closing one file of the kernel for each
//! process, which whoever lists them has paid before.

mod common;
mod crowd;

use common::report;
use crowd::{processes, reading};
use dozor_core::demo::{SimulatedMachine, Site};
use dozor_core::exited::exited;
use dozor_core::expr::Expression;
use dozor_core::rank::{Arrange, Arranging, Folds, Ledger, Narrowing, Order, Population, RowRef, Table};
use dozor_core::sample::Sample;
use std::hint::black_box;
use std::sync::Arc;
use std::time::{Duration, Instant};

const ROUNDS: usize = 60;

fn timed(mut work: impl FnMut()) -> Vec<Duration> {
    let time = |_| {
        let begin = Instant::now();
        work();
        begin.elapsed()
    };
    (0..ROUNDS).map(time).collect()
}

fn main() {
    let mut machine = SimulatedMachine::at(Site::Server, 1);
    let mut rows = vec![];
    let before = reading(&mut machine, 1, &mut rows);
    let now = reading(&mut machine, 2, &mut rows);
    let sample = Sample::new(Arc::new(machine.host()), Some(before), now);
    let gone = exited(&sample);
    let mut last = sample.now.clone();
    let steps: Vec<(Sample, Sample)> = (0..ROUNDS as u64)
        .map(|step| {
            let now = reading(&mut machine, 3 + step, &mut rows);
            let sample =
                Sample::new(sample.host.clone(), Some(std::mem::replace(&mut last, now.clone())), now);
            let gone = exited(&sample);
            (sample, gone)
        })
        .collect();
    let population = Population::new(&sample, &gone);

    let bare = timed(|| {
        for _ in 0..processes() {
            black_box(std::fs::read("/proc/self/stat").expect("our own file"));
        }
    });
    report("bare: one file for each process", bare, "");

    let order = Order::parse("cpu,rss").expect("an order");
    let ordered = population.ordered(&order);
    report("ordering by two keys", timed(|| drop(black_box(population.ordered(&order)))), "");
    for text in [
        "worker",
        "cpu > 5% and user = astro",
        "command ~ \"shard 7[0-9]+\" or write > 20 KiB/s",
        "name ~ \"9$\" and not (state = blocked or rss > 100 MiB)",
    ] {
        let mut narrowing = Narrowing::of("astro".into());
        narrowing.expression = Some(Expression::parse(text).expect(text));
        let narrow = timed(|| {
            let filter = narrowing.at(&sample);
            let kept = population.all().filter(|row| filter.matches(&population.view(*row)) == Some(true));
            black_box(kept.count());
        });
        report(&format!("narrowing: {text}"), narrow, "");
    }
    let folds = Folds::default();
    for arrange in Arrange::ALL {
        let how = Arranging { order: &order, arrange, folds: &folds, held: None, stays: None };
        let anew = || Table::new(&population, &ordered, &|_| true, &how, &mut Ledger::default());
        let table = timed(|| drop(black_box(anew())));
        report(&format!("arranging: {}", arrange.word()), table, "");
    }
    for arrange in [Arrange::Flat, Arrange::Family, Arrange::Program] {
        let expression = Expression::parse("rss > 1 MiB and not name ~ \"^kworker\"").expect("an expression");
        let mut narrowing = Narrowing::of("astro".into());
        narrowing.expression = Some(expression);
        let how = Arranging { order: &order, arrange, folds: &folds, held: None, stays: None };
        let mut ledger = Ledger::default();
        let (mut rows, mut times) = (ordered.clone(), vec![]);
        for (sample, gone) in &steps {
            let population = Population::new(sample, gone);
            let begin = Instant::now();
            ledger.follow(sample);
            let (here, _) = ledger.kept(&narrowing, sample, sample);
            let here: Vec<bool> = here.iter().map(|kept| *kept == Some(true)).collect();
            let kept = |row: RowRef| matches!(row, RowRef::Here(at) if here[at]);
            let needed = |row: RowRef| arrange.needs_all() || kept(row);
            let ordered = population.ordered_after(&rows, &needed, &order, &mut ledger);
            black_box(Table::new(&population, &ordered, &kept, &how, &mut ledger));
            times.push(begin.elapsed());
            rows = ordered;
        }
        let whole = times;
        report(&format!("all together: {}", arrange.word()), whole, " (budget 5 ms)");
    }
}
