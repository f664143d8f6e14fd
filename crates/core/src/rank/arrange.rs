//! How rows are arranged: one below the other, as a family tree, or put together by what they share.

use super::family::Family;
use super::folds::{Folds, RowId};
use super::ledger::Ledger;
use super::table::{Group, Line, Table, below, id};
use super::totals::Total;
use super::{Order, Population, RowRef, Values, is_active};
use crate::catalogue::{Metric, listed};
use crate::reading::{ProcessKey, ProcessRow};
use crate::row::Row as _;
use crate::text::Text;
use crate::wanted::{Demand, Wanted};
use std::collections::HashMap;

/// An arrangement.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Arrange {
    /// One below the other.
    #[default]
    Flat,
    /// Children below their parents.
    Family,
    /// Together by program.
    Program,
    /// Together by user.
    User,
    /// Together by service.
    Service,
    /// Together by container.
    Container,
}

impl Arrange {
    /// All of them, in the order of their key.
    pub const ALL: [Arrange; 6] = [
        Arrange::Flat,
        Arrange::Family,
        Arrange::Program,
        Arrange::User,
        Arrange::Service,
        Arrange::Container,
    ];

    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            Arrange::Flat => "flat",
            Arrange::Family => "family",
            Arrange::Program => "program",
            Arrange::User => "user",
            Arrange::Service => "service",
            Arrange::Container => "container",
        }
    }

    /// What it shows.
    pub const fn help(self) -> &'static str {
        match self {
            Arrange::Flat => "One process below the other.",
            Arrange::Family => {
                "Who started whom: children below their parents; a folded row has the totals of all below it."
            }
            Arrange::Program => "One row for all processes of a program, with their totals.",
            Arrange::User => "One row for each user, with totals.",
            Arrange::Service => "One row for each service or session, with totals.",
            Arrange::Container => "One row for each container, with totals.",
        }
    }

    /// Whether it shows also those who do not match, as ancestors of others.
    pub const fn needs_all(self) -> bool {
        matches!(self, Arrange::Family)
    }

    /// Parts of a reading that it needs.
    pub fn wanted(self) -> Wanted {
        match self {
            Arrange::Service | Arrange::Container => Wanted::NOTHING.with(Demand::ControlGroup),
            _ => Wanted::NOTHING,
        }
    }

    /// What rows are put together by.
    fn label(self) -> fn(&ProcessRow) -> Text {
        match self {
            Arrange::User => |row| named(&row.user, "nobody known"),
            Arrange::Service => |row| named(&row.service, "no service"),
            Arrange::Container => |row| named(&row.container, "no container"),
            Arrange::Flat | Arrange::Family | Arrange::Program => program,
        }
    }
}

fn named(text: &Text, otherwise: &str) -> Text {
    if text.is_empty() { otherwise.into() } else { text.clone() }
}

/// The program of a process. Threads of the kernel are of a kind: kworker/3:1, ksoftirqd/5.
fn program(row: &ProcessRow) -> Text {
    if row.kernel.value() == Some(1) {
        let kind = row.name.split(['/', ':']).next().unwrap_or_default();
        return format!("[{kind}]").into();
    }
    named(if row.program.is_empty() { &row.name } else { &row.program }, "unnamed")
}

/// How a table is made.
pub struct Arranging<'a> {
    /// The order; siblings stand in it.
    pub order: &'a Order,
    /// The arrangement.
    pub arrange: Arrange,
    /// What is open.
    pub folds: &'a Folds,
    /// Where the order holds still: the place that each row had.
    pub held: Option<&'a dyn Fn(&RowId) -> usize>,
    /// A thread that has a row of its own even where it does nothing: the selected one.
    pub stays: Option<&'a RowId>,
}

impl Table {
    /// Arranges processes. `ordered` holds those that match in order, or all of them where the arrangement needs all;
    /// `matching` says who is shown. Threads are put below their processes where the population has them.
    pub fn new(
        population: &Population<'_>,
        ordered: &[RowRef],
        matching: &dyn Fn(RowRef) -> bool,
        how: &Arranging<'_>,
        ledger: &mut Ledger,
    ) -> Table {
        ledger.follow(population.of_values());
        let mut table = Table::default();
        match how.arrange {
            Arrange::Flat => {
                let mut rows: Vec<RowRef> = ordered.iter().copied().filter(|row| matching(*row)).collect();
                if let Some(held) = how.held {
                    rows.sort_by_cached_key(|row| held(&id(population, *row)));
                }
                table.lines = rows.into_iter().map(Line::plain).collect();
            }
            Arrange::Family => {
                let family = Family::new(population, ordered, matching, how.order, how.held, ledger);
                family.put(how.folds, &mut table);
            }
            _ => table.put_groups(population, ordered, matching, how, ledger),
        }
        if population.threads.is_some() {
            table.put_threads(population, how);
        }
        table
    }

    fn put_groups(
        &mut self,
        population: &Population<'_>,
        ordered: &[RowRef],
        matching: &dyn Fn(RowRef) -> bool,
        how: &Arranging<'_>,
        ledger: &mut Ledger,
    ) {
        let Arranging { order, arrange, folds, held, .. } = how;
        let label = arrange.label();
        let (ids, names) = ledger.labels(label, population.of_values());
        let mut group_of: Vec<Option<usize>> = vec![None; names.len()];
        let mut by_label: HashMap<Text, usize> = HashMap::new();
        for row in ordered.iter().filter(|row| matching(**row)) {
            let known = match row {
                RowRef::Here(place) => group_of[ids[*place] as usize],
                _ => None,
            };
            let at = known.unwrap_or_else(|| {
                let label = label(population.view(*row).now);
                let next = self.groups.len();
                let at = *by_label.entry(label.clone()).or_insert(next);
                if at == next {
                    self.groups.push(Group { label, members: vec![], idle_of: None });
                }
                if let RowRef::Here(place) = row {
                    group_of[ids[*place] as usize] = Some(at);
                }
                at
            });
            self.groups[at].members.push(*row);
        }
        let all: Vec<usize> = (0..self.groups.len()).collect();
        let keys: Vec<&'static Metric> = order.keys().map(|key| key.metric).collect();
        let together = |totals: Vec<Total>| {
            let mut values = totals.into_iter().map(|total| total.value);
            let first = values.next().unwrap_or_default();
            order.values_of(first, values.next().unwrap_or_default())
        };
        let totals: Vec<Values> =
            self.totals(population, &all, &keys, ledger).into_iter().map(together).collect();
        let mut places: Vec<usize> = (0..self.groups.len()).collect();
        match held {
            None => order.sort_by(|at| &totals[*at], &mut places),
            Some(held) => {
                for group in &mut self.groups {
                    group.members.sort_by_cached_key(|row| held(&id(population, *row)));
                }
                places.sort_by_cached_key(|at| match &self.groups[*at].members[..] {
                    [one] => held(&id(population, *one)),
                    _ => held(&self.groups[*at].id()),
                });
            }
        }
        for at in places {
            let members = &self.groups[at].members;
            if let [one] = members[..] {
                self.lines.push(Line::plain(one));
                continue;
            }
            let open = folds.is_open(&self.groups[at].id());
            self.lines.push(Line {
                row: None,
                open: Some(open),
                totals: Some(at),
                ..Line::plain(members[0])
            });
            if open {
                let last = members.len() - 1;
                let below = members.iter().enumerate().map(|(place, member)| Line {
                    depth: 1,
                    last: place == last,
                    ..Line::plain(*member)
                });
                self.lines.extend(below);
            }
        }
    }

    /// Puts threads below their processes; those that did nothing as one row, so that they do not bury the one that works.
    fn put_threads(&mut self, population: &Population<'_>, how: &Arranging<'_>) {
        let cpu = listed("cpu");
        let is_idle = |thread: &RowRef| {
            let view = population.view(*thread);
            how.stays != Some(&id(population, *thread))
                && cpu.of(&view).number().is_some()
                && !is_active(&view)
        };
        let Some(sample) = population.threads else { return };
        let mut of_process: HashMap<i64, Vec<RowRef>> = HashMap::new();
        for (at, row) in sample.now.processes.iter().enumerate() {
            of_process.entry(row.ppid.value().unwrap_or(-1)).or_default().push(RowRef::Thread(at));
        }
        let mut lines = Vec::with_capacity(self.lines.len());
        for mut line in std::mem::take(&mut self.lines) {
            let own = line.row.and_then(|row| match row {
                RowRef::Here(at) => Some((row, population.here.now.processes[at].pid.value()?)),
                RowRef::Gone(_) | RowRef::Thread(_) => None,
            });
            let threads = own.and_then(|(row, pid)| Some((row, of_process.get_mut(&pid)?)));
            let Some((process, threads)) = threads.filter(|_| !line.context) else {
                lines.push(line);
                continue;
            };
            // Children follow the threads, so that the branch goes on below them.
            let has_children = line.open == Some(true);
            let open = how.folds.is_process_open(|| id(population, process));
            line.open = Some(open);
            lines.push(line);
            if open {
                match how.held {
                    None => how.order.sort(|row| population.view(*row), threads),
                    Some(held) => threads.sort_by_cached_key(|row| held(&id(population, *row))),
                }
                let (mut shown, mut idle): (Vec<RowRef>, Vec<RowRef>) = (vec![], vec![]);
                for thread in &*threads {
                    if is_idle(thread) { idle.push(*thread) } else { shown.push(*thread) }
                }
                // One alone stands for itself.
                if idle.len() == 1 {
                    shown.append(&mut idle);
                }
                let (depth, branches) = (line.depth + 1, below(&line));
                let last = |at: usize, of: usize| at + 1 == of && !has_children;
                let count = shown.len() + usize::from(!idle.is_empty());
                lines.extend(shown.iter().enumerate().map(|(place, thread)| Line {
                    depth,
                    branches,
                    last: last(place, count),
                    ..Line::plain(*thread)
                }));
                let owner = population.view(process).now.key();
                lines.extend(self.idle_threads(
                    owner,
                    idle,
                    how,
                    Line { depth, branches, last: !has_children, ..line },
                ));
            }
        }
        self.lines = lines;
    }

    /// The row of idle threads, and below it who they are where it is open. Nothing where there are none.
    fn idle_threads(
        &mut self,
        owner: ProcessKey,
        idle: Vec<RowRef>,
        how: &Arranging<'_>,
        place: Line,
    ) -> Vec<Line> {
        if idle.is_empty() {
            return vec![];
        }
        let group = Group { label: "idle threads".into(), members: idle, idle_of: Some(owner) };
        let at = self.groups.len();
        let open = how.folds.is_open(&group.id());
        let line = Line { row: None, totals: Some(at), open: Some(open), ..place };
        let mut lines = vec![line];
        if open {
            let (depth, branches, last) = (line.depth + 1, below(&line), group.members.len() - 1);
            lines.extend(group.members.iter().enumerate().map(|(place, thread)| Line {
                depth,
                branches,
                last: place == last,
                ..Line::plain(*thread)
            }));
        }
        self.groups.push(group);
        lines
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalogue::listed;
    use crate::reading::{Reading, raw};
    use crate::sample::Sample;
    use proptest::prelude::*;
    use std::sync::Arc;

    fn process(pid: i64, ppid: i64, rss: i64, name: &str) -> Arc<ProcessRow> {
        Arc::new(ProcessRow {
            pid: raw(pid),
            ppid: raw(ppid),
            start_ticks: raw(1),
            rss_bytes: raw(rss),
            name: name.into(),
            user: if pid % 2 == 0 { "even".into() } else { "odd".into() },
            ..ProcessRow::default()
        })
    }

    fn sample(processes: Vec<Arc<ProcessRow>>) -> Sample {
        let mut reading = Reading { processes, ..Reading::default() };
        reading.sort();
        Sample::new(Arc::default(), None, Arc::new(reading))
    }

    fn arranged(
        sample: &Sample,
        matching: &dyn Fn(i64) -> bool,
        arrange: Arrange,
        folds: &Folds,
    ) -> (Table, String) {
        let gone = Sample::new(Arc::default(), None, Arc::default());
        let population = Population::new(sample, &gone);
        let order = Order::by(listed("rss"));
        let ordered = population.ordered(&order);
        let matching = |row: RowRef| matching(population.view(row).now.pid.value().unwrap_or(0));
        let how = Arranging { order: &order, arrange, folds, held: None, stays: None };
        let table = Table::new(&population, &ordered, &matching, &how, &mut Ledger::default());
        let lines = table.lines.iter().map(|line| {
            let name = match (line.row, line.totals) {
                (None, Some(at)) => {
                    format!("{}×{}", table.groups[at].label, table.groups[at].members.len())
                }
                (row, _) => population.view(row.expect("somebody")).now.pid.value().unwrap_or(0).to_string(),
            };
            let rss = table.value(&population, line, listed("rss")).value.number().unwrap_or(-1.0);
            let context = if line.context { "~" } else { "" };
            format!("{}{context}{name}={rss}", "-".repeat(usize::from(line.depth)))
        });
        let text = lines.collect::<Vec<_>>().join(" ");
        (table, text)
    }

    fn some() -> Sample {
        sample(vec![
            process(1, 0, 5, "init"),
            process(2, 0, 7, "shell"),
            process(3, 1, 1, "make"),
            process(4, 3, 90, "rustc"),
            process(5, 1, 50, "database"),
            process(6, 2, 0, "sleep"),
        ])
    }

    #[test]
    fn children_stand_below_their_parents_in_the_order_of_their_families() {
        let (_, text) = arranged(&some(), &|_| true, Arrange::Family, &Folds::default());
        assert_eq!(text, "1=5 -3=1 --4=90 -5=50 2=7 -6=0");
        let mut folds = Folds::default();
        folds.set(&RowId::Process(ProcessKey { pid: 3, start: 1 }), false);
        let (_, text) = arranged(&some(), &|_| true, Arrange::Family, &folds);
        assert_eq!(text, "1=5 -3=91 -5=50 2=7 -6=0", "a folded row has the totals of all below it");
        folds.turn_all();
        assert_eq!(arranged(&some(), &|_| true, Arrange::Family, &folds).1, "1=146 2=7");
    }

    #[test]
    fn ancestors_of_what_matches_are_kept_and_recede() {
        let (_, text) = arranged(&some(), &|pid| pid == 4 || pid == 5, Arrange::Family, &Folds::default());
        assert_eq!(text, "~1=5 -~3=1 --4=90 -5=50");
    }

    #[test]
    fn a_group_has_totals_and_opens() {
        let (_, text) = arranged(&some(), &|pid| pid != 3 && pid != 5, Arrange::User, &Folds::default());
        assert_eq!(text, "even×3=97 1=5", "one alone stands for itself");
        let mut folds = Folds::default();
        folds.set(&RowId::Group("even".into()), true);
        let (_, text) = arranged(&some(), &|_| true, Arrange::User, &folds);
        assert_eq!(text, "even×3=97 -4=90 -2=7 -6=0 odd×3=56");
    }

    #[test]
    fn an_order_that_holds_still_keeps_siblings_in_place() {
        let sample = some();
        let gone = Sample::new(Arc::default(), None, Arc::default());
        let population = Population::new(&sample, &gone);
        let order = Order::by(listed("rss"));
        let ordered = population.ordered(&order);
        let held = |row: &RowId| match row {
            RowId::Process(key) => key.pid as usize,
            RowId::Group(label) => label.len(),
            RowId::Thread(_) | RowId::IdleThreads(_) => 0,
        };
        let pids = |arrange: Arrange| -> Vec<i64> {
            let folds = Folds::default();
            let how = Arranging { order: &order, arrange, folds: &folds, held: Some(&held), stays: None };
            let table = Table::new(&population, &ordered, &|_| true, &how, &mut Ledger::default());
            let rows = table.lines.iter().flat_map(|line| table.members(line).to_vec());
            rows.filter_map(|row| population.view(row).now.pid.value()).collect()
        };
        assert_eq!(pids(Arrange::Flat), [1, 2, 3, 4, 5, 6]);
        assert_eq!(pids(Arrange::Family), [1, 3, 4, 5, 2, 6]);
        assert_eq!(pids(Arrange::User), [1, 3, 5, 2, 4, 6]);
    }

    proptest! {
        #[test]
        fn each_row_stands_once_whatever_the_parents_say(
            parents in proptest::collection::vec((0..12i64, 0..100i64), 1..12),
            matching in 0u16..4096,
            folded in 0u16..4096,
        ) {
            let rows = parents.iter().enumerate();
            let sample = sample(rows.map(|(at, (parent, rss))| process(at as i64, *parent, *rss, "p")).collect());
            let mut folds = Folds::default();
            let is_matching = |pid: i64| matching >> pid & 1 == 1;
            for arrange in Arrange::ALL {
                let (table, _) = arranged(&sample, &is_matching, arrange, &folds);
                let mut seen: Vec<usize> = vec![];
                for line in &table.lines {
                    if let Some(RowRef::Here(at)) = line.row {
                        seen.push(at);
                    }
                }
                let count = seen.len();
                seen.sort_unstable();
                seen.dedup();
                prop_assert_eq!(count, seen.len(), "a row stands twice");
                // All that are kept are there, or in the totals of a row that is.
                let mut covered: Vec<usize> = table.lines.iter().flat_map(|line| table.members(line)).filter_map(|row| match row {
                    RowRef::Here(at) => Some(*at),
                    _ => None,
                }).collect();
                covered.sort_unstable();
                covered.dedup();
                for (at, row) in sample.now.processes.iter().enumerate() {
                    if is_matching(row.pid.value().unwrap_or(0)) {
                        prop_assert!(covered.contains(&at), "{:?}: {} is lost", arrange, at);
                    }
                }
                for at in 0..12 {
                    folds.set(&RowId::Process(ProcessKey { pid: at, start: 1 }), folded >> at & 1 == 0);
                }
            }
        }
    }
}
