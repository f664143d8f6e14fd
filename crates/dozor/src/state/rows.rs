//! The rows of the table: which moment they belong to, who is kept, how they are ordered and arranged, which of them is
//! selected.

use super::State;
use super::data::{Drag, MarkedTotals, Rows, Time};
use crate::look::columns;
use crate::state::axis::Axis;
use dozor_core::catalogue::{Metric, listed};
use dozor_core::parts::{Users, users};
use dozor_core::rank::{Arrange, Arranging, Folds, Ledger, Line, Persistence, RowId, RowRef, Table};
use dozor_core::reading::{ProcessKey, ProcessRow};
use dozor_core::row::Row as _;
use dozor_core::sample::{ProcessView, Sample};
use std::collections::HashMap;
use std::time::Instant;

/// What is added up of the marked processes.
const MARKED: [&str; 5] = ["cpu", "rss", "disk", "net", "threads"];

/// Processes in rows. Traffic of nobody, those who are gone and ancestors of what matches do not count.
fn processes_shown(table: &Table, sample: &Sample) -> usize {
    // Rows of nobody stand in front; see the order of their keys.
    let nobody = sample.now.processes.iter().take_while(|row| row.pid.value().is_none()).count();
    let is_process = |row: &&RowRef| match row {
        RowRef::Here(at) => *at >= nobody,
        RowRef::Gone(_) | RowRef::Thread(_) => false,
    };
    // Members of an open group stand in lines of their own.
    let stands_for_others = |line: &Line| line.context || line.totals.is_some() && line.open == Some(true);
    let lines = table.lines.iter().filter(|line| !stands_for_others(line));
    lines.map(|line| table.members(line).iter().filter(is_process).count()).sum()
}

/// Places of rows, for an order that holds still.
type Places = HashMap<RowId, usize>;

impl State {
    /// Whether the order holds still.
    pub fn is_held(&self, now: Instant) -> bool {
        self.selection.held_by_sheet
            || matches!(self.session.drag, Some(Drag::ScrollBar(_)))
            || self.selection.held_until.is_some_and(|until| now < until)
    }

    /// The line of a row.
    pub fn line(&self, row: usize) -> Option<Line> {
        self.rows.table.lines.get(row).copied()
    }

    /// What a row is, wherever it stands.
    pub fn id_of_row(&self, row: usize) -> Option<RowId> {
        let line = self.rows.table.lines.get(row)?;
        Some(self.rows.table.id(&self.population()?, line))
    }

    /// The process or thread of a row; none for a group.
    pub fn view_of_row(&self, row: usize) -> Option<ProcessView<'_>> {
        let line = self.rows.table.lines.get(row)?;
        let population = self.population()?;
        line.row.map(|row| population.view(row))
    }

    /// The row with this identity.
    fn row_of(&self, id: &RowId) -> Option<usize> {
        let population = self.population()?;
        let lines = &self.rows.table.lines;
        let row = match id {
            RowId::Process(key) => {
                let here = population.here.find(*key).map(RowRef::Here);
                here.or_else(|| population.gone.find(*key).map(RowRef::Gone))?
            }
            RowId::Thread(key) => RowRef::Thread(population.threads?.find(*key)?),
            RowId::Group(_) | RowId::IdleThreads(_) => {
                let group = self.rows.table.groups.iter().position(|group| group.id() == *id)?;
                return lines.iter().position(|line| line.row.is_none() && line.totals == Some(group));
            }
        };
        lines.iter().position(|line| line.row == Some(row))
    }

    /// Row of what is selected. Mostly it is where it was; looking for it among thousands of rows is the exception.
    pub fn row_of_selected(&self) -> Option<usize> {
        let selected = self.selection.selected.as_ref()?;
        let still_there = self.id_of_row(self.selection.selected_row).as_ref() == Some(selected);
        if still_there { Some(self.selection.selected_row) } else { self.row_of(selected) }
    }

    /// Processes that can be marked and acted on in a row: its own, or those that it stands for.
    pub fn processes_of_row(&self, row: usize) -> Vec<ProcessKey> {
        let (Some(line), Some(population)) = (self.rows.table.lines.get(row), self.population()) else {
            return vec![];
        };
        let members = self.rows.table.members(line).iter();
        let here = members
            .filter(|member| matches!(member, RowRef::Here(_)))
            .map(|member| population.view(*member).now);
        here.filter(|row| row.pid.value().is_some()).map(ProcessRow::key).collect()
    }

    /// Where each row stands now.
    pub(super) fn places(&self) -> Places {
        let Some(population) = self.population() else { return Places::new() };
        let lines = self.rows.table.lines.iter().enumerate();
        lines.map(|(row, line)| (self.rows.table.id(&population, line), row)).collect()
    }

    /// Narrows, orders and arranges the processes of the shown moment. Where it follows the one that was shown, equal
    /// rows keep their places; where the order holds still, all do.
    pub(super) fn rank(&mut self, follows: bool, held: Option<&Places>) {
        let mut ledger = std::mem::take(&mut self.rows.ledger);
        self.rank_by(&mut ledger, follows, held);
        self.rows.ledger = ledger;
    }

    fn rank_by(&mut self, ledger: &mut Ledger, follows: bool, held: Option<&Places>) {
        let (Some(sample), Some(population)) = (&self.moment.sample, self.population()) else { return };
        let looked_at = population.of_values();
        ledger.follow(looked_at);
        let users = self.lanes.parts.selected.as_ref().map(|part| users(part, sample));
        let uses = |row: &ProcessRow| match &users {
            Some(Users::Those(uses, _)) => uses(row),
            _ => true,
        };
        let (kept, undecided) = ledger.kept(&self.values.narrowing, looked_at, sample);
        let here: Vec<bool> = match &users {
            Some(Users::Those(..)) => {
                let rows = kept.iter().zip(&sample.now.processes);
                rows.map(|(kept, row)| *kept == Some(true) && uses(row)).collect()
            }
            _ => kept.iter().map(|kept| *kept == Some(true)).collect(),
        };
        // Rows that stand for several are no processes: it does not matter whether they are decided.
        let filter = self.values.narrowing.at(sample);
        let is_kept = |at: usize| {
            let view = population.gone.process(at);
            filter.matches(&view) == Some(true) && uses(view.now)
        };
        let gone: Vec<bool> = (0..population.gone.now.processes.len()).map(is_kept).collect();
        let matching = |row: RowRef| match row {
            RowRef::Here(at) => here[at],
            RowRef::Gone(at) => gone[at],
            RowRef::Thread(_) => true,
        };
        let needed = |row: RowRef| self.values.arrange.needs_all() || matching(row);
        let ordered = if follows {
            population.ordered_after(&self.rows.ordered, &needed, &self.values.order, ledger)
        } else {
            population.ordered_of(&needed, &self.values.order)
        };
        let place = |id: &RowId| held.and_then(|held| held.get(id)).copied().unwrap_or(usize::MAX);
        let how = Arranging {
            order: &self.values.order,
            arrange: self.values.arrange,
            folds: &self.rows.folds,
            held: held.is_some().then_some(&place),
            stays: self.selection.selected.as_ref(),
        };
        let table = Table::new(&population, &ordered, &matching, &how, ledger);
        // In the overview only; elsewhere no column has a bar.
        let barred = if self.values.lane.is_none() { columns::BARRED } else { &[] };
        // Who has a row alone, who one together with others; what is gone is looked up row by row.
        let mut alone = vec![false; here.len()];
        let (mut groups, mut others) = (vec![], vec![]);
        for line in &table.lines {
            match (line.totals, line.row) {
                (None, Some(RowRef::Here(at))) => alone[at] = true,
                (Some(group), _) => groups.push(group),
                (None, _) => others.push(line),
            }
        }
        let barred: Vec<&'static Metric> = barred.iter().map(|alias| listed(alias)).collect();
        let totals = table.totals(&population, &groups, &barred, ledger);
        let largest = barred.iter().enumerate().map(|(place, metric)| {
            ledger.want(metric, looked_at);
            let of_groups = totals.iter().filter_map(|totals| totals[place].value.number());
            let of_others =
                others.iter().filter_map(|line| table.value(&population, line, metric).value.number());
            let largest = ledger.largest(metric, &alone);
            (metric.alias, of_groups.chain(of_others).fold(largest, f64::max))
        });
        self.rows.largest = largest.collect();
        self.rows.processes_shown = processes_shown(&table, sample);
        self.rows.totals.clear();
        self.rows.ranked += 1;
        self.lanes.users_of = match users {
            Some(Users::Those(_, words)) => Some(Ok(words)),
            Some(Users::Unknown(reason)) => Some(Err(reason)),
            Some(Users::All) | None => None,
        };
        (self.rows.table, self.rows.ordered, self.rows.undecided) = (table, ordered, undecided);
    }

    pub(super) fn follow_persistence(&mut self) {
        let Some(shown) = self.shown() else { return };
        let Some(newest) = self.moment.window.last() else { return };
        let Rows { persistence, ledger, .. } = &mut self.rows;
        let order = &self.values.order;
        let follows = match ledger.column(order.first.metric).filter(|_| self.moment.averaged.is_none()) {
            Some(values) => persistence.follow_values(shown, newest, order, &|at| values[at].number()),
            None => persistence.follow(shown, newest, order),
        };
        if follows {
            return;
        }
        self.rows.persistence = Persistence::default();
        let first = shown + 1 - self.moment.window.len();
        for (number, sample) in (first..).zip(&self.moment.window) {
            self.rows.persistence.follow(number, sample, &self.values.order);
        }
    }

    /// Works out the rows anew: after another order, another narrowing, another part.
    pub fn rank_anew(&mut self) {
        if let Some(sample) = self.moment.sample.clone() {
            self.values.narrowing.follow(&sample);
        }
        self.rank(false, None);
        self.follow_persistence();
        self.selection.held_until = None;
        self.keep_selection_visible();
    }

    /// Arranges rows in another way; what was open belongs to the old one.
    pub fn arrange_by(&mut self, arrange: Arrange) {
        if self.values.arrange != arrange {
            self.values.arrange = arrange;
            self.rows.folds = Folds::default();
            self.rank_anew();
        }
    }

    /// Works out the rows anew, each in the place that it has: after something was opened or folded.
    pub fn arrange_anew(&mut self) {
        let held = self.places();
        self.rank(false, Some(&held));
        self.stay_within_rows();
    }

    /// Works out what is drawn but depends on where things stand. Called after every event.
    pub fn settle(&mut self) {
        let Some(layout) = self.layout() else { return };
        let Time { timeline, .. } = &self.time;
        let axis = self.shown().and_then(|shown| {
            Axis::new(timeline, shown, self.lanes.zoom, self.values.every, layout.strip_width)
        });
        self.lanes.strips.follow(axis, self.lanes.zoom, &self.time.timeline);
        let overview = layout.overview.map(|_| layout.strip_width);
        self.lanes.overview.follow(overview, self.values.lane, &self.time.timeline);
        let seen = usize::from(layout.rows.height);
        let last = self.rows.table.lines.len().min(self.selection.scroll + seen);
        self.add_up();
        let visible = self.rows.table.lines.get(self.selection.scroll..last).unwrap_or_default();
        // What several do together has no course: a row of one of them would be mistaken for it.
        let course = |line: &Line| line.row.filter(|_| line.totals.is_none());
        let visible: Vec<Option<RowRef>> = visible.iter().map(course).collect();
        let lens = columns::trend_metric(self.values.lane, self.values.order.first.metric);
        let mut trends = std::mem::take(&mut self.rows.trends);
        let cells = self.fitted_columns().trend.map_or(0, |(_, width)| usize::from(width));
        trends.follow(self.shown(), &self.moment.window, &visible, lens, cells);
        self.rows.trends = trends;
    }

    /// Adds up what is seen of several processes: rows that stand for them, and those that are marked. Each once for a
    /// sample, since they may be thousands.
    fn add_up(&mut self) {
        let mut totals = std::mem::take(&mut self.rows.totals);
        let mut of = std::mem::take(&mut self.rows.totals_of);
        let mut marks = std::mem::take(&mut self.rows.marked_totals);
        let mut ledger = std::mem::take(&mut self.rows.ledger);
        if let Some(population) = self.population() {
            ledger.follow(population.of_values());
            let columns = self.fitted_columns().list;
            let visible = self.rows.table.lines.iter().skip(self.selection.scroll).take(self.visible_rows());
            let metrics: Vec<&'static Metric> = columns.iter().map(|column| column.metric).collect();
            if of != metrics {
                totals.clear();
                of = metrics;
            }
            let groups = visible.filter_map(|line| line.totals);
            let groups: Vec<usize> = groups.filter(|group| !totals.contains_key(group)).collect();
            if !groups.is_empty() {
                let all = self.rows.table.totals(&population, &groups, &of, &mut ledger);
                totals.extend(groups.into_iter().zip(all));
            }
            if marks.keys != self.selection.marked || marks.ranked != self.rows.ranked {
                let found = self.selection.marked.iter().filter_map(|key| population.here.find(*key));
                let members: Vec<RowRef> = found.map(RowRef::Here).collect();
                let of = |alias: &&'static str| (listed(alias), population.total(&members, listed(alias)));
                let totals = MARKED.iter().map(of).collect();
                marks =
                    MarkedTotals { keys: self.selection.marked.clone(), ranked: self.rows.ranked, totals };
            }
        }
        (self.rows.totals, self.rows.totals_of) = (totals, of);
        (self.rows.marked_totals, self.rows.ledger) = (marks, ledger);
    }

    fn visible_rows(&self) -> usize {
        self.layout().map_or(1, |layout| usize::from(layout.rows.height)).max(1)
    }

    pub(super) fn is_visible(&self, row: usize) -> bool {
        (self.selection.scroll..self.selection.scroll + self.visible_rows()).contains(&row)
    }

    /// Scrolls no further than to the last row.
    pub fn stay_within_rows(&mut self) {
        self.selection.scroll =
            self.selection.scroll.min(self.rows.table.lines.len().saturating_sub(self.visible_rows()));
    }

    /// Scrolls so far that the selected row can be seen.
    pub fn keep_selection_visible(&mut self) {
        let height = self.visible_rows();
        if let Some(row) = self.row_of_selected() {
            self.selection.selected_row = row;
            self.selection.scroll = self.selection.scroll.clamp((row + 1).saturating_sub(height), row);
            self.selection.has_row = true;
        } else if std::mem::take(&mut self.selection.has_row) && self.selection.selected.is_some() {
            // It is gone: what stands where it was, far down, is nothing that anybody looks for.
            self.selection.scroll = 0;
        }
        self.stay_within_rows();
    }
}
