//! The rows of a table: who stands in them, and what several have together.

use super::folds::RowId;
use super::ledger::Ledger;
use super::totals::Total;
use super::{Population, RowRef};
use crate::catalogue::{Metric, Value};
use crate::reading::ProcessKey;
use crate::row::Row as _;
use crate::text::{Text, no_text};

/// A row of the table.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Line {
    /// Who stands in it; nobody where it is a group alone, which [`Line::totals`] names.
    pub row: Option<RowRef>,
    /// Steps below the first level.
    pub depth: u16,
    /// Whether what is below it is shown; none where nothing is.
    pub open: Option<bool>,
    /// It does not match itself and is there only because somebody below it does.
    pub context: bool,
    /// It is the last of its siblings.
    pub last: bool,
    /// Levels at which a branch goes on below it, one bit each.
    pub branches: u64,
    /// The group whose totals it shows.
    pub totals: Option<usize>,
}

impl Line {
    pub(super) fn plain(row: RowRef) -> Line {
        Line { row: Some(row), depth: 0, open: None, context: false, last: false, branches: 0, totals: None }
    }
}

/// Several processes that one row stands for.
#[derive(Clone, Debug, PartialEq)]
pub struct Group {
    /// What they share.
    pub label: Text,
    /// Who they are.
    pub members: Vec<RowRef>,
    /// They are the threads of this process that did nothing.
    pub idle_of: Option<ProcessKey>,
}

impl Group {
    /// What its row is.
    pub fn id(&self) -> RowId {
        self.idle_of.map_or_else(|| RowId::Group(self.label.clone()), RowId::IdleThreads)
    }
}

/// Arranged rows.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Table {
    /// Rows from top to bottom.
    pub lines: Vec<Line>,
    /// Those that rows stand for.
    pub groups: Vec<Group>,
}

impl Table {
    /// What a line is.
    pub fn id(&self, population: &Population<'_>, line: &Line) -> RowId {
        match (line.row, line.totals) {
            (Some(row), _) => id(population, row),
            (None, Some(at)) => self.groups[at].id(),
            (None, None) => RowId::Group(no_text()),
        }
    }

    /// A value of a line: of its process, or of all that it stands for.
    pub fn value(&self, population: &Population<'_>, line: &Line, metric: &Metric) -> Total {
        match (line.totals, line.row) {
            (Some(at), _) => population.total(&self.groups[at].members, metric),
            (None, Some(row)) => Total::of(metric, &population.view(row)),
            (None, None) => Total { value: Value::Absent, partial: false },
        }
    }

    /// What some of the groups have together of some metrics, group by group. The `ledger` stands at this sample.
    pub fn totals(
        &self,
        population: &Population<'_>,
        groups: &[usize],
        metrics: &[&'static Metric],
        ledger: &mut Ledger,
    ) -> Vec<Vec<Total>> {
        let sample = population.of_values();
        let mut group_of = vec![u32::MAX; sample.now.processes.len()];
        let mut others: Vec<(usize, RowRef)> = vec![];
        for (place, group) in groups.iter().enumerate() {
            for member in &self.groups[*group].members {
                match member {
                    RowRef::Here(at) => group_of[*at] = place as u32,
                    other => others.push((place, *other)),
                }
            }
        }
        let mut all = vec![vec![]; groups.len()];
        for metric in metrics {
            ledger.want(metric, sample);
            let mut sums = ledger.sums(metric, &group_of, groups.len());
            for (place, other) in &others {
                let Total { value, partial } = Total::of(metric, &population.view(*other));
                sums[*place].add(&value, partial, metric.combine);
            }
            for (all, sum) in all.iter_mut().zip(sums) {
                all.push(sum.total(metric.combine));
            }
        }
        all
    }

    /// Processes that a line stands for.
    pub fn members<'a>(&'a self, line: &'a Line) -> &'a [RowRef] {
        line.totals.map_or(line.row.as_slice(), |at| &self.groups[at].members)
    }
}

/// Identity of a process or thread.
pub(super) fn id(population: &Population<'_>, row: RowRef) -> RowId {
    let key = population.view(row).now.key();
    if matches!(row, RowRef::Thread(_)) { RowId::Thread(key) } else { RowId::Process(key) }
}

/// Branches that go on below the children of a line.
pub(super) fn below(line: &Line) -> u64 {
    let own =
        if line.last || line.depth == 0 { 0 } else { 1u64.checked_shl(u32::from(line.depth)).unwrap_or(0) };
    line.branches | own
}
