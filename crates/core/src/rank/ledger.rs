//! Values of all processes of a sample, kept from one sample to the next: asked for again only where a process did something.

use super::narrow::Narrowing;
use super::order::Key;
use super::totals::Sum;
use crate::catalogue::{Combine, Metric, Value};
use crate::known::Raw;
use crate::reading::{ProcessRow, Reading};
use crate::sample::{ProcessView, Sample};
use crate::text::Text;
use std::collections::HashMap;
use std::sync::Arc;

/// What is known of the processes of a sample, by their places in it.
///
/// A process whose row is the same in three readings has in the later of their two samples what it had in the earlier one, in
/// every metric that [rests](Metric::rests); what follows from a single number ([`ByNumber`](crate::catalogue::ByNumber)) is worked
/// out from that, without looking at the process.
#[derive(Default)]
pub struct Ledger {
    /// The sample that it stands at, by its readings.
    at: Option<(Option<Arc<Reading>>, Arc<Reading>)>,
    /// Places of those that did something in that sample.
    active: Vec<usize>,
    /// For each place whether it did something in that sample or in the one before; none where nothing is known from before.
    stirred: Option<Vec<bool>>,
    columns: Vec<Column>,
    decided: Option<Decided>,
    /// The place of each one's parent, once somebody asks.
    parents: Option<Vec<Option<usize>>>,
    labels: Option<Labels>,
}

/// What each process is put together by with others.
struct Labels {
    of: fn(&ProcessRow) -> Text,
    /// Which label each has.
    ids: Vec<u32>,
    names: Names,
}

/// All labels that there were.
#[derive(Default)]
struct Names {
    all: Vec<Text>,
    ids: HashMap<Text, u32>,
}

impl Names {
    fn id(&mut self, name: Text) -> u32 {
        if let Some(id) = self.ids.get(&name) {
            return *id;
        }
        let id = self.all.len() as u32;
        self.all.push(name.clone());
        self.ids.insert(name, id);
        id
    }
}

/// The values of a metric.
struct Column {
    metric: &'static Metric,
    values: Vec<Value>,
    /// The same ones as bare numbers where they are added up, a third as long; no number stands for what is none.
    plain: Vec<f64>,
    /// Whether they are only the least that they may be; nothing where they never are.
    least: Vec<bool>,
    /// The same ones as integers that compare in the same way, where they are ordered by; nothing where there is text.
    ranks: Option<(Key, Option<Vec<u64>>)>,
    /// The numbers that its values follow from, where they change by themselves.
    numbers: Vec<Raw>,
    /// Somebody wanted it at this sample; what nobody wants is not followed.
    wanted: bool,
}

impl Column {
    /// Asks for what the process in a place has, which stands where it stood.
    fn ask(&mut self, at: usize, view: &ProcessView<'_>) {
        if self.metric.least.is_some() {
            self.least[at] = self.metric.bounded(view).1;
        }
        let value = self.metric.of(view);
        if let Some((key, Some(ranks))) = &mut self.ranks {
            match key.rank_of(&value) {
                Some(rank) => ranks[at] = rank,
                None => self.ranks = None,
            }
        }
        if !self.plain.is_empty() {
            self.plain[at] = plainly(&value);
        }
        self.values[at] = value;
    }
}

/// Who is kept by a narrowing; none where that cannot be known.
struct Decided {
    narrowing: Narrowing,
    holds: Vec<Option<bool>>,
    /// So many processes are undecided.
    undecided: usize,
}

impl Ledger {
    /// Goes to a sample. Where it follows the one it stands at, what is known stays known.
    pub fn follow(&mut self, sample: &Sample) {
        let place = |reading: &Option<Arc<Reading>>| reading.as_ref().map(Arc::as_ptr);
        let (is_there, follows) = self.at.as_ref().map_or((false, false), |(before, now)| {
            let is_there = Arc::ptr_eq(now, &sample.now) && place(before) == place(&sample.before);
            (is_there, before.is_some() && place(&sample.before) == Some(Arc::as_ptr(now)))
        });
        if is_there {
            return;
        }
        let count = sample.now.processes.len();
        let active = std::mem::replace(&mut self.active, sample.active().to_vec());
        self.at = Some((sample.before.clone(), sample.now.clone()));
        if !follows {
            *self =
                Ledger { at: self.at.take(), active: std::mem::take(&mut self.active), ..Ledger::default() };
            return;
        }
        let mut stirred = vec![false; count];
        for at in &self.active {
            stirred[*at] = true;
        }
        let stand = sample.changed().is_some();
        if stand {
            for at in &active {
                stirred[*at] = true;
            }
        } else {
            let mut was = vec![false; sample.before.as_ref().map_or(0, |before| before.processes.len())];
            for place in &active {
                was[*place] = true;
            }
            for (at, stirred) in stirred.iter_mut().enumerate() {
                *stirred |= sample.earlier_place(at).is_none_or(|place| was[place]);
            }
        }
        let places: Vec<usize> = (0..count).filter(|at| stirred[*at]).collect();
        let moved = if stand { Moved::Some(&places) } else { Moved::Any(&stirred) };
        self.columns.retain(|Column { wanted, metric, .. }| {
            *wanted && (metric.rests() || metric.by_number.is_some())
        });
        for Column { metric, values, plain, least, ranks, numbers, wanted } in &mut self.columns {
            *wanted = false;
            *ranks = ranks.take().filter(|(_, ranks)| stand && metric.by_number.is_none() && ranks.is_some());
            if let Some(by) = metric.by_number {
                follow(sample, moved, numbers, &mut |at| (by.number)(&sample.now.processes[at]));
                let follows = (by.follows)(sample);
                values.clear();
                values.extend(numbers.iter().map(|number| follows(*number)));
            } else if stand {
                continue;
            } else {
                if metric.least.is_some() {
                    follow(sample, moved, least, &mut |at| metric.bounded(&sample.process(at)).1);
                }
                follow(sample, moved, values, &mut |at| metric.of(&sample.process(at)));
            }
            fill_plain(metric, values, plain);
        }
        if stand {
            // One process after another, not one metric: what all of them read of it is in the cache then.
            for at in &places {
                let view = sample.process(*at);
                let asked = self.columns.iter_mut().filter(|column| column.metric.by_number.is_none());
                asked.for_each(|column| column.ask(*at, &view));
            }
        }
        self.decided = self.decided.take().filter(|decided| decided.narrowing.rests());
        if let Some(Decided { narrowing, holds, undecided }) = &mut self.decided {
            let filter = narrowing.at(sample);
            follow(sample, moved, holds, &mut |at| filter.matches(&sample.process(at)));
            *undecided = count_undecided(sample, holds);
        }
        let stays = |at: &usize| {
            let earlier = sample.before.as_ref().map(|before| &before.processes[*at]);
            earlier.is_some_and(|earlier| earlier.ppid == sample.now.processes[*at].ppid)
        };
        self.parents = self.parents.take().filter(|_| stand && self.active.iter().all(stays));
        // Of those who came and went nothing is kept for ever.
        self.labels = self.labels.take().filter(|labels| labels.names.all.len() <= 2 * count + 64);
        if let Some(Labels { of, ids, names }) = &mut self.labels {
            follow(sample, moved, ids, &mut |at| names.id(of(&sample.now.processes[at])));
        }
        self.stirred = Some(stirred);
    }

    /// The place of each one's parent. Circles, which a damaged or hostile recording may hold, are cut open. `sample` is the one
    /// that it stands at.
    pub(super) fn parents(&mut self, sample: &Sample) -> &[Option<usize>] {
        self.parents.get_or_insert_with(|| {
            // Processes stand by PID. Searching in the rows themselves would miss the cache at every step.
            let rows = &sample.now.processes;
            let pids: Vec<i64> = rows.iter().map(|row| row.pid.value().unwrap_or(-1)).collect();
            let place = |row: &Arc<ProcessRow>| pids.binary_search(&row.ppid.value()?).ok();
            without_circles(rows.iter().map(place).collect())
        })
    }

    /// Which of the labels each one has, and the labels. `sample` is the one that it stands at.
    pub(super) fn labels(&mut self, of: fn(&ProcessRow) -> Text, sample: &Sample) -> (&[u32], &[Text]) {
        let known = self.labels.take().filter(|labels| std::ptr::fn_addr_eq(labels.of, of));
        let labels = known.unwrap_or_else(|| {
            let mut names = Names::default();
            let ids = sample.now.processes.iter().map(|row| names.id(of(row))).collect();
            Labels { of, ids, names }
        });
        let Labels { ids, names, .. } = self.labels.insert(labels);
        (ids, &names.all)
    }

    /// Whether what a process has is known to be as in the sample before.
    pub fn rests(&self, at: usize) -> bool {
        self.stirred.as_ref().is_some_and(|stirred| !stirred[at])
    }

    /// Sees to it that [`Ledger::column`] has the values of a metric. `sample` is the one that it stands at.
    pub fn want(&mut self, metric: &'static Metric, sample: &Sample) {
        if let Some(column) = self.columns.iter_mut().find(|column| column.metric == metric) {
            column.wanted = true;
            return;
        }
        let rows = &sample.now.processes;
        let numbers = metric.by_number.map(|by| rows.iter().map(|row| (by.number)(row)).collect());
        let numbers = numbers.unwrap_or_default();
        let views = || (0..rows.len()).map(|at| sample.process(at));
        let values: Vec<Value> = views().map(|view| metric.of(&view)).collect();
        let mut plain = vec![];
        fill_plain(metric, &values, &mut plain);
        let is_ever = metric.least.is_some();
        let least = views().filter(|_| is_ever).map(|view| metric.bounded(&view).1).collect();
        self.columns.push(Column { metric, values, plain, least, ranks: None, numbers, wanted: true });
    }

    /// Sees to it that [`Ledger::ranks`] has those of a metric that was wanted.
    pub(super) fn rank(&mut self, key: Key) {
        let Some(column) = self.columns.iter_mut().find(|column| column.metric == key.metric) else { return };
        if column.ranks.as_ref().is_none_or(|(known, _)| *known != key) {
            let ranks = column.values.iter().map(|value| key.rank_of(value)).collect();
            column.ranks = Some((key, ranks));
        }
    }

    /// What each has of a key, as integers that compare in the same way; none where there is text.
    pub(super) fn ranks(&self, key: Key) -> Option<&[u64]> {
        self.find(key.metric)?.ranks.as_ref()?.1.as_deref()
    }

    /// The values of a metric that was wanted, by place.
    pub fn column(&self, metric: &'static Metric) -> Option<&[Value]> {
        self.find(metric).map(|column| &column.values[..])
    }

    /// The largest number of a metric that was wanted, among the places that are meant; 0 where nobody there has one above.
    pub fn largest(&self, metric: &'static Metric, meant: &[bool]) -> f64 {
        let Some(column) = self.find(metric) else { return 0.0 };
        if column.plain.is_empty() {
            let meant = column.values.iter().zip(meant).filter(|(_, meant)| **meant);
            return meant.filter_map(|(value, _)| value.number()).fold(0.0, f64::max);
        }
        let mut largest = 0.0;
        for (number, meant) in column.plain.iter().zip(meant) {
            // No number is larger than none.
            if *meant && *number > largest {
                largest = *number;
            }
        }
        largest
    }

    fn find(&self, metric: &'static Metric) -> Option<&Column> {
        self.columns.iter().find(|column| column.metric == metric)
    }

    /// What processes have together of a metric that was wanted, by groups: `group_of` says for each place which of `count` groups
    /// it belongs to. They are gone through as they stand, since looking up those of each group would miss the cache at every one.
    pub(super) fn sums(&self, metric: &'static Metric, group_of: &[u32], count: usize) -> Vec<Sum> {
        let mut sums = vec![Sum::NOTHING; count];
        let Some(column) = self.find(metric) else { return sums };
        if !column.plain.is_empty() {
            // One more than there are groups: of who is in none.
            let mut numbers = vec![0.0; count + 1];
            let mut counted = vec![false; count + 1];
            for (at, (plain, group)) in column.plain.iter().zip(group_of).enumerate() {
                let group = (*group as usize).min(count);
                if !plain.is_nan() {
                    numbers[group] += plain;
                    counted[group] = true;
                } else if let Some(sum) = sums.get_mut(group) {
                    sum.add(&column.values[at], false, metric.combine);
                }
            }
            for (group, _) in group_of.iter().zip(&column.least).filter(|(_, least)| **least) {
                if let Some(sum) = sums.get_mut(*group as usize) {
                    sum.becomes_partial();
                }
            }
            for ((sum, number), _) in
                sums.iter_mut().zip(numbers).zip(counted).filter(|(_, counted)| *counted)
            {
                sum.add(&Value::Number(number), false, metric.combine);
            }
            return sums;
        }
        for (at, (value, group)) in column.values.iter().zip(group_of).enumerate() {
            if let Some(sum) = sums.get_mut(*group as usize) {
                sum.add(value, column.least.get(at) == Some(&true), metric.combine);
            }
        }
        sums
    }

    /// Who is kept by a narrowing, by place, and of how many processes that cannot be known. `sample` is the one that it stands
    /// at, `of_machine` the one from which what the narrowing says about the machine is taken.
    pub fn kept(
        &mut self,
        narrowing: &Narrowing,
        sample: &Sample,
        of_machine: &Sample,
    ) -> (&[Option<bool>], usize) {
        let known = self.decided.take().filter(|decided| decided.narrowing == *narrowing);
        let decided = known.unwrap_or_else(|| {
            let filter = narrowing.at(of_machine);
            let count = sample.now.processes.len();
            let holds: Vec<_> = (0..count).map(|at| filter.matches(&sample.process(at))).collect();
            let undecided = count_undecided(sample, &holds);
            Decided { narrowing: narrowing.clone(), holds, undecided }
        });
        let Decided { holds, undecided, .. } = self.decided.insert(decided);
        (holds, *undecided)
    }
}

/// A value as a bare number; what is none is no number.
fn plainly(value: &Value) -> f64 {
    value.number().unwrap_or(f64::NAN)
}

/// Fills in values as bare numbers, where they are added up.
fn fill_plain(metric: &Metric, values: &[Value], plain: &mut Vec<f64>) {
    if metric.combine == Combine::Sum {
        plain.clear();
        plain.extend(values.iter().map(plainly));
    }
}

/// The same parents, but that whoever is its own ancestor has none.
fn without_circles(mut parents: Vec<Option<usize>>) -> Vec<Option<usize>> {
    // 0: not looked at; else the walk that came by first.
    let mut walk_of = vec![0usize; parents.len()];
    for start in 0..parents.len() {
        let walk = start + 1;
        let mut at = start;
        while walk_of[at] == 0 {
            walk_of[at] = walk;
            match parents[at] {
                Some(parent) if walk_of[parent] == walk => parents[at] = None,
                Some(parent) => at = parent,
                None => break,
            }
        }
    }
    parents
}

/// The place of the process with this number.
pub(super) fn place_of_pid(sample: &Sample, pid: i64) -> Option<usize> {
    sample.now.processes.binary_search_by_key(&pid, |row| row.pid.value().unwrap_or(-1)).ok()
}

/// Which places may have become others.
#[derive(Clone, Copy)]
enum Moved<'a> {
    /// These; all stand where they stood.
    Some(&'a [usize]),
    /// Those of which it is said here, by place; others stand elsewhere now.
    Any(&'a [bool]),
}

/// Brings what is known of each place from the sample before to this one; asks for what may have become another.
fn follow<T: Clone>(sample: &Sample, moved: Moved<'_>, values: &mut Vec<T>, ask: &mut dyn FnMut(usize) -> T) {
    match moved {
        Moved::Some(places) => {
            for at in places {
                values[*at] = ask(*at);
            }
        }
        Moved::Any(stirred) => {
            let one = |(at, stirred): (usize, &bool)| match sample.earlier_place(at) {
                Some(place) if !stirred => values[place].clone(),
                _ => ask(at),
            };
            *values = stirred.iter().enumerate().map(one).collect();
        }
    }
}

/// Rows that stand for nobody are no processes.
fn count_undecided(sample: &Sample, holds: &[Option<bool>]) -> usize {
    let open = holds.iter().enumerate().filter(|(_, holds)| holds.is_none());
    open.filter(|(at, _)| sample.now.processes[*at].pid.value().is_some()).count()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalogue::{PROCESS_METRICS, listed};
    use crate::demo::{SimulatedMachine, Site};
    use crate::exited::exited;
    use crate::expr::Expression;
    use crate::rank::{Arrange, Arranging, Folds, Order, Population, RowRef, Table, Total, total};
    use crate::reading::raw;
    use std::time::Duration;

    /// Samples of the made-up observatory, one a second. Rows that are equal are one, as readers hand them over; processes come
    /// and go.
    fn samples() -> Vec<Sample> {
        let mut machine = SimulatedMachine::at(Site::Observatory, 3);
        let host = Arc::new(machine.host());
        let mut before: Option<Arc<Reading>> = None;
        (1..40)
            .map(|second| {
                machine.advance_to(Duration::from_secs(second));
                let mut now = machine.reading();
                now.system.mem_total =
                    raw(now.system.mem_total.value().unwrap_or(0) + second as i64 * 1_048_576);
                if second % 4 == 0 {
                    now.processes.remove(second as usize % now.processes.len());
                }
                for row in &mut now.processes {
                    let earlier =
                        before.as_ref().and_then(|before| before.processes.iter().find(|old| **old == *row));
                    if let Some(earlier) = earlier {
                        *row = earlier.clone();
                    }
                }
                let now = Arc::new(now);
                Sample::new(host.clone(), before.replace(now.clone()), now)
            })
            .collect()
    }

    #[test]
    fn what_is_kept_is_what_would_be_asked_for() {
        let mut ledger = Ledger::default();
        let (mut rested, mut came) = (0, 0);
        let narrowings =
            ["cpu > 2% or name ~ e", "active", "mine", "load.1 > 1 and cpu > 1%", "age < 20s", "port = 22"];
        let narrowings = narrowings.map(|text| {
            let mut narrowing = Narrowing::of("astro".into());
            narrowing.expression = Some(Expression::parse(text).expect(text));
            narrowing
        });
        let mut ledgers: Vec<Ledger> = narrowings.iter().map(|_| Ledger::default()).collect();
        for sample in samples() {
            ledger.follow(&sample);
            let count = sample.now.processes.len();
            came += usize::from(sample.changed().is_none());
            rested += (0..count).filter(|at| ledger.rests(*at)).count();
            for metric in PROCESS_METRICS {
                ledger.want(metric, &sample);
                let asked: Vec<Value> = (0..count).map(|at| metric.of(&sample.process(at))).collect();
                assert_eq!(ledger.column(metric), Some(&asked[..]), "{}", metric.alias);
                let odd: Vec<bool> = (0..count).map(|at| at % 2 == 1).collect();
                let of_odd = asked.iter().skip(1).step_by(2).filter_map(Value::number);
                let largest = of_odd.reduce(f64::max).unwrap_or(0.0).max(0.0);
                let largest = Value::Number(largest);
                assert_eq!(Value::Number(ledger.largest(metric, &odd)), largest, "{}", metric.alias);
                // Two groups, and some that are in none.
                let group_of: Vec<u32> = (0..count as u32).map(|at| at % 3).collect();
                let sums: Vec<Total> = ledger
                    .sums(metric, &group_of, 2)
                    .into_iter()
                    .map(|sum| sum.total(metric.combine))
                    .collect();
                let of = |group: usize| {
                    let members = (0..count).filter(|at| at % 3 == group);
                    total(members.map(|at| Total::of(metric, &sample.process(at))), metric)
                };
                assert_eq!(sums, [of(0), of(1)], "{}", metric.alias);
            }
            let pids = sample.now.processes.iter().map(|row| row.ppid);
            let place = |ppid: Raw| {
                sample.now.processes.iter().position(|row| row.pid == ppid && ppid.value().is_some())
            };
            assert_eq!(ledger.parents(&sample), pids.map(place).collect::<Vec<_>>());
            let label = |row: &ProcessRow| row.user.clone();
            let (ids, names) = ledger.labels(label, &sample);
            let labels: Vec<&Text> = ids.iter().map(|id| &names[*id as usize]).collect();
            assert_eq!(labels, sample.now.processes.iter().map(|row| &row.user).collect::<Vec<_>>());
            for (narrowing, ledger) in narrowings.iter().zip(&mut ledgers) {
                ledger.follow(&sample);
                let filter = narrowing.at(&sample);
                let asked: Vec<_> = (0..count).map(|at| filter.matches(&sample.process(at))).collect();
                assert_eq!(ledger.kept(narrowing, &sample, &sample).0, asked, "{narrowing:?}");
            }
        }
        assert!(rested > 300, "many do nothing at times: {rested}");
        assert!(came > 1, "processes came and went: {came}");
    }

    #[test]
    fn after_a_gap_nothing_is_known_from_before() {
        let all = samples();
        let mut ledger = Ledger::default();
        ledger.follow(&all[3]);
        ledger.want(listed("rss"), &all[3]);
        ledger.follow(&all[9]);
        assert_eq!(ledger.column(listed("rss")), None);
        assert!(!ledger.rests(0));
    }

    #[test]
    fn rows_that_are_kept_from_sample_to_sample_are_those_that_are_worked_out_anew() {
        let steps: Vec<(Sample, Sample)> =
            samples().into_iter().map(|sample| (sample.clone(), exited(&sample))).collect();
        for (order, text) in
            [("cpu", "cpu >= 0"), ("rss,-pid", "name ~ a"), ("user,cpu", "active"), ("age", "rss > 1 MiB")]
        {
            let order = Order::parse(order).expect(order);
            let mut narrowing = Narrowing::of("astro".into());
            narrowing.expression = Some(Expression::parse(text).expect(text));
            for arrange in Arrange::ALL {
                let folds = Folds::default();
                let how = Arranging { order: &order, arrange, folds: &folds, held: None, stays: None };
                let (mut ledger, mut rows) = (Ledger::default(), vec![]);
                for (sample, gone) in &steps {
                    let population = Population::new(sample, gone);
                    let work = |ledger: &mut Ledger, rows: &[RowRef]| {
                        ledger.follow(sample);
                        let here: Vec<bool> = ledger
                            .kept(&narrowing, sample, sample)
                            .0
                            .iter()
                            .map(|kept| *kept == Some(true))
                            .collect();
                        let kept = |row: RowRef| !matches!(row, RowRef::Here(at) if !here[at]);
                        let needed = |row: RowRef| arrange.needs_all() || kept(row);
                        let ordered = population.ordered_after(rows, &needed, &order, ledger);
                        let table = Table::new(&population, &ordered, &kept, &how, ledger);
                        let groups: Vec<usize> = (0..table.groups.len()).collect();
                        let metrics = ["cpu", "rss", "net", "user", "age"].map(listed);
                        let totals = table.totals(&population, &groups, &metrics, ledger);
                        (ordered, table, totals)
                    };
                    let (known, table, totals) = work(&mut ledger, &rows);
                    let (anew, other, others) = work(&mut Ledger::default(), &rows);
                    assert_eq!(known, anew, "{} {}", order.written(), arrange.word());
                    assert_eq!(table, other, "{} {}", order.written(), arrange.word());
                    assert_eq!(totals, others, "{} {}", order.written(), arrange.word());
                    rows = known;
                }
            }
        }
    }
}
