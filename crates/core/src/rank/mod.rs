//! Which processes are shown, in which order, and how they are arranged.
//!
//! [`narrow`] decides who is kept, [`order`] sorts, [`arrange`] puts rows together, [`family`] below others, into a [`table`]; [`totals`] says what
//! several processes have together, [`threads`] gives the threads of processes as rows. [`ledger`] keeps what is known of those
//! who do nothing.

mod activity;
mod arrange;
mod family;
mod folds;
mod ledger;
mod narrow;
mod order;
mod persistence;
mod table;
mod threads;
mod totals;

pub use activity::{is_active, uses};
pub use arrange::{Arrange, Arranging};
pub use folds::{Folds, RowId};
pub use ledger::Ledger;
pub use narrow::{Filter, Narrowing, Whose};
pub use order::{Key, Order, OrderError, Values};
pub use persistence::{NearTop, Persistence};
pub use table::{Group, Line, Table};
pub use threads::threads;
pub use totals::{Total, total};

use crate::catalogue::{Metric, Value, listed};
use crate::sample::{ProcessView, Sample};

/// A process or thread at a moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum RowRef {
    /// The process in this place of the sample.
    Here(usize),
    /// The one in this place among those who are gone; see [`crate::exited`].
    Gone(usize),
    /// The thread in this place; see [`threads`].
    Thread(usize),
}

/// A sample with those who are gone, and with threads where they were asked for.
#[derive(Clone, Copy)]
pub struct Population<'a> {
    /// Those that are there.
    pub here: &'a Sample,
    /// Those who are just gone, and those that came and went unseen.
    pub gone: &'a Sample,
    /// Threads as processes of a sample of their own.
    pub threads: Option<&'a Sample>,
    /// The same processes over a longer time; where it is there, their rates come from it.
    pub averaged: Option<&'a Sample>,
}

impl<'a> Population<'a> {
    /// Processes without their threads, at one moment.
    pub fn new(here: &'a Sample, gone: &'a Sample) -> Population<'a> {
        Population { here, gone, threads: None, averaged: None }
    }

    /// The sample that values of those that are there come from.
    pub fn of_values(&self) -> &'a Sample {
        self.averaged.unwrap_or(self.here)
    }

    /// What a process or thread does.
    pub fn view(&self, row: RowRef) -> ProcessView<'a> {
        match row {
            RowRef::Here(at) => self.of_values().process(at),
            RowRef::Gone(at) => self.gone.process(at),
            RowRef::Thread(at) => self.threads.unwrap_or(self.here).process(at),
        }
    }

    /// All processes.
    pub fn all(&self) -> impl Iterator<Item = RowRef> + use<> {
        let here = (0..self.here.now.processes.len()).map(RowRef::Here);
        here.chain((0..self.gone.now.processes.len()).map(RowRef::Gone))
    }

    /// All processes in order; ties go by CPU time, then by memory, then by PID.
    pub fn ordered(&self, order: &Order) -> Vec<RowRef> {
        self.ordered_of(&|_| true, order)
    }

    /// Those of them that are meant, in order.
    pub fn ordered_of(&self, meant: &dyn Fn(RowRef) -> bool, order: &Order) -> Vec<RowRef> {
        let mut rows: Vec<RowRef> = self.all().filter(|row| meant(*row)).collect();
        // Where nobody uses what is ordered by, those who use something else are still worth seeing first.
        if order.first.descending {
            let by_use = Order::by_cpu().then_by(listed("rss"));
            by_use.sort(|row| self.view(*row), &mut rows);
        }
        order.sort(|row| self.view(*row), &mut rows);
        rows
    }

    /// The same, but ties stay in the order that the rows of the sample just before had: a process that falls asleep
    /// does not change places with all the others that sleep. Processes that were not there come last among equals.
    ///
    /// The `ledger` stands at this sample; who rests by it keeps its place among those who do.
    pub fn ordered_after(
        &self,
        rows: &[RowRef],
        meant: &dyn Fn(RowRef) -> bool,
        order: &Order,
        ledger: &mut Ledger,
    ) -> Vec<RowRef> {
        let start = self.as_they_stood(rows, meant);
        for key in order.keys() {
            ledger.want(key.metric, self.of_values());
            ledger.rank(key);
        }
        let known = Known::of_all(self, order, ledger);
        let columns = [Some(order.first), order.then].map(|key| key.map(|key| known.ledger.ranks(key)));
        let ranks = |at: usize| {
            let [first, then] = [0, 1].map(|key| match (columns[key], start[at]) {
                (None, _) => Some(0),
                (Some(ranks), RowRef::Here(place)) => ranks.map(|ranks| ranks[place]),
                (Some(_), row) => [Some(order.first), order.then][key]?.rank_of(known.of(row)[key]),
            });
            Some([first?, then?])
        };
        let values = |at: usize| {
            let [first, then] = known.of(start[at]);
            order.values_of(first.clone(), then.clone())
        };
        let rests = order.keys().all(|key| key.metric.rests());
        let moved =
            |at: usize| !matches!(start[at], RowRef::Here(place) if rests && known.ledger.rests(place));
        let places = order.sorted_around(start.len(), ranks, values, moved);
        places.into_iter().map(|at| start[at]).collect()
    }

    /// Those that are meant, in the order that the rows of the sample just before had; then who is new, then who is gone.
    fn as_they_stood(&self, rows: &[RowRef], meant: &dyn Fn(RowRef) -> bool) -> Vec<RowRef> {
        let count = self.here.now.processes.len();
        let here = |row: &&RowRef| matches!(row, RowRef::Here(_));
        let mut start: Vec<RowRef> = Vec::with_capacity(count);
        if self.here.changed().is_some() && rows.iter().filter(here).count() == count {
            start.extend(rows.iter().filter(here));
        } else {
            let earlier = self.here.before.as_ref().map_or(0, |before| before.processes.len());
            let mut now_at = vec![None; earlier];
            for at in 0..count {
                if let Some(place) = self.here.earlier_place(at) {
                    now_at[place] = Some(at);
                }
            }
            let mut taken = vec![false; count];
            for row in rows {
                if let RowRef::Here(place) = row
                    && let Some(at) = now_at.get(*place).copied().flatten()
                {
                    taken[at] = true;
                    start.push(RowRef::Here(at));
                }
            }
            start.extend((0..count).filter(|at| !taken[*at]).map(RowRef::Here));
        }
        start.extend((0..self.gone.now.processes.len()).map(RowRef::Gone));
        start.retain(|row| meant(*row));
        start
    }

    /// What several of them have together.
    pub fn total(&self, members: &[RowRef], metric: &Metric) -> Total {
        total(members.iter().map(|member| Total::of(metric, &self.view(*member))), metric)
    }
}

/// What processes have of the metrics that they are ordered by, as a ledger knows it.
struct Known<'a> {
    ledger: &'a Ledger,
    first: &'a [Value],
    then: &'a [Value],
    /// What those have who are gone.
    gone: Vec<[Value; 2]>,
}

impl<'a> Known<'a> {
    /// The ledger stands at the sample of the population.
    fn of_all(population: &Population<'_>, order: &Order, ledger: &'a mut Ledger) -> Known<'a> {
        for key in order.keys() {
            ledger.want(key.metric, population.of_values());
        }
        let ledger = &*ledger;
        let column = |key: Option<Key>| key.and_then(|key| ledger.column(key.metric)).unwrap_or_default();
        let of_gone = |at: usize| {
            let view = population.gone.process(at);
            [Some(order.first), order.then].map(|key| key.map_or(Value::Absent, |key| key.metric.of(&view)))
        };
        let gone = (0..population.gone.now.processes.len()).map(of_gone).collect();
        Known { ledger, first: column(Some(order.first)), then: column(order.then), gone }
    }

    /// Of the first key and of the second. Threads stand in no order of processes.
    fn of(&self, row: RowRef) -> [&Value; 2] {
        let of = match row {
            RowRef::Here(at) => [self.first.get(at), self.then.get(at)],
            RowRef::Gone(at) => self.gone[at].each_ref().map(Some),
            RowRef::Thread(_) => [None; 2],
        };
        of.map(|value| value.unwrap_or(&Value::Absent))
    }
}
