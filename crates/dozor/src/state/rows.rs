//! The rows of the table: which moment they belong to, who is kept, how they are ordered and arranged, which of them is
//! selected.

use crate::look::action::Action;
use crate::look::columns::{self, Column};
use crate::state::axis::Axis;
use crate::state::{COSTLY, Drag, Mode, State, Stay, TREND_SAMPLES};
use dozor_core::aside::aside;
use dozor_core::catalogue::{Metric, listed};
use dozor_core::lane::{Lane, Severity, sentences};
use dozor_core::parts::{self, Users, users};
use dozor_core::rank::{
    Arrange, Arranging, Everybody, Folds, Line, Listed, Persistence, RowId, Table, Total, threads,
};
use dozor_core::reading::{ProcessKey, ProcessRow};
use dozor_core::row::Row as _;
use dozor_core::sample::{ProcessView, Sample};
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Instant;

/// What is added up of the marked processes.
const MARKED: [&str; 5] = ["cpu", "rss", "disk", "net", "threads"];

/// What the marked processes have together.
#[derive(Debug, Default)]
pub struct MarkedTotals {
    keys: BTreeSet<ProcessKey>,
    /// The ranking that they belong to.
    ranked: u64,
    /// A total for each metric.
    pub totals: Vec<(&'static Metric, Total)>,
}

/// Processes in rows. Traffic of nobody, those who are gone and ancestors of what matches do not count.
fn processes_shown(table: &Table, sample: &Sample) -> usize {
    let is_process = |row: &&Listed| match row {
        Listed::Here(at) => sample.now.processes[*at].pid.value().is_some(),
        _ => false,
    };
    // Members of an open group stand in lines of their own.
    let stands_for_others = |line: &Line| line.context || line.totals.is_some() && line.open == Some(true);
    let lines = table.lines.iter().filter(|line| !stands_for_others(line));
    lines.map(|line| table.members(line).iter().filter(is_process).count()).sum()
}

/// Places of rows, for an order that holds still.
type Places = HashMap<RowId, usize>;

impl State {
    /// Those that are there and those who are gone.
    pub fn everybody(&self) -> Option<Everybody<'_>> {
        Some(Everybody {
            here: self.sample.as_ref()?,
            gone: self.gone.as_ref()?,
            threads: self.thread_sample.as_deref(),
            calm: self.calm.as_deref(),
        })
    }

    /// Whether the order holds still.
    pub fn is_held(&self, now: Instant) -> bool {
        self.held_by_sheet
            || matches!(self.drag, Some(Drag::ScrollBar(_)))
            || self.held_until.is_some_and(|until| now < until)
    }

    /// The line of a row.
    pub fn line(&self, row: usize) -> Option<Line> {
        self.table.lines.get(row).copied()
    }

    /// What a row is, wherever it stands.
    pub fn id_of_row(&self, row: usize) -> Option<RowId> {
        let line = self.table.lines.get(row)?;
        Some(self.table.id(&self.everybody()?, line))
    }

    /// The process or thread of a row; none for a group.
    pub fn view_of_row(&self, row: usize) -> Option<ProcessView<'_>> {
        let line = self.table.lines.get(row)?;
        let everybody = self.everybody()?;
        (!matches!(line.listed, Listed::Group(_))).then(|| everybody.view(line.listed))
    }

    /// The row with this identity.
    fn row_of(&self, id: &RowId) -> Option<usize> {
        let everybody = self.everybody()?;
        let listed = match id {
            RowId::Process(key) => {
                let here = everybody.here.find(*key).map(Listed::Here);
                here.or_else(|| everybody.gone.find(*key).map(Listed::Gone))?
            }
            RowId::Thread(key) => Listed::Thread(everybody.threads?.find(*key)?),
            RowId::Group(_) | RowId::IdleThreads(_) => {
                Listed::Group(self.table.groups.iter().position(|group| group.id() == *id)?)
            }
        };
        self.table.lines.iter().position(|line| line.listed == listed)
    }

    /// Row of what is selected. Mostly it is where it was; looking for it among thousands of rows is the exception.
    pub fn row_of_selected(&self) -> Option<usize> {
        let selected = self.selected.as_ref()?;
        let still_there = self.id_of_row(self.selected_row).as_ref() == Some(selected);
        if still_there { Some(self.selected_row) } else { self.row_of(selected) }
    }

    /// Processes that can be marked and acted on in a row: its own, or those that it stands for.
    pub fn processes_of_row(&self, row: usize) -> Vec<ProcessKey> {
        let (Some(line), Some(everybody)) = (self.table.lines.get(row), self.everybody()) else {
            return vec![];
        };
        let members = self.table.members(line).iter();
        let here = members
            .filter(|member| matches!(member, Listed::Here(_)))
            .map(|member| everybody.view(*member).now);
        here.filter(|row| row.pid.value().is_some()).map(ProcessRow::key).collect()
    }

    /// Goes to the sample of the cursor and works out all that depends on it.
    pub fn refresh(&mut self) {
        let Some(shown) = self.shown() else { return };
        let selection_was_visible = self.row_of_selected().is_some_and(|row| self.is_visible(row));
        let held = self.is_held(self.now).then(|| self.places());
        let sample = match self.timeline.sample(shown) {
            Ok(sample) => sample,
            Err(error) => {
                self.say_for(
                    Severity::Warning,
                    format!("this moment cannot be read: {error}"),
                    Stay::UntilKey,
                );
                return;
            }
        };
        let gone = Arc::new(aside(&sample));
        self.standing_out = sentences(&Everybody::new(&sample, &gone));
        self.away = columns::away(&sample);
        self.gone = Some(gone);
        self.warn_of_own_cost();
        self.chosen_lane_first();
        if self.cursor.is_none() {
            self.marked.retain(|key| sample.find(*key).is_some());
        }
        self.values.narrowing.follow(&sample);
        let shown_before = self.sample.replace(sample.clone());
        self.look_at_parts();
        let follows = shown_before.zip(sample.before.as_ref());
        let follows = follows.is_some_and(|(shown, before)| Arc::ptr_eq(&shown.now, before));
        self.fill_window(shown);
        self.look_closer();
        self.rank(follows, held.as_ref());
        // Rows above that are gone must not pull the others away from under the hand.
        if let Some(held) = held
            && let Some(everybody) = self.everybody()
        {
            let was_above = |line: &&Line| {
                held.get(&self.table.id(&everybody, line)).is_some_and(|place| *place < self.scroll)
            };
            self.scroll = self.table.lines.iter().take_while(was_above).count();
        }
        self.follow_persistence();
        // Whoever turned the wheel away from the selection is not pulled back to it.
        if selection_was_visible {
            self.keep_selection_visible();
        }
        self.stay_within_rows();
    }

    /// Where each row stands now.
    fn places(&self) -> Places {
        let Some(everybody) = self.everybody() else { return Places::new() };
        let lines = self.table.lines.iter().enumerate();
        lines.map(|(row, line)| (self.table.id(&everybody, line), row)).collect()
    }

    fn warn_of_own_cost(&mut self) {
        if let Some(cost) = self.own_cost.filter(|cost| *cost >= COSTLY && self.mode == Mode::Live) {
            let text = format!(
                "Dozor itself uses {cost:.0} % of a core at this interval; {} reads less often.",
                self.key(Action::Slower)
            );
            self.standing_out.push((Severity::Notice, Lane::Cpu, text));
        }
    }

    /// What stands out of the chosen lane comes first, else the worst.
    pub fn chosen_lane_first(&mut self) {
        let lane = self.values.lane;
        self.standing_out.sort_by_key(|(severity, of, _)| std::cmp::Reverse((lane == Some(*of), *severity)));
    }

    /// Works out the parts of the chosen lane at the shown moment.
    pub fn look_at_parts(&mut self) {
        self.parts.sections = match (self.values.lane, &self.sample) {
            (Some(lane), Some(sample)) => parts::sections(lane, sample),
            _ => vec![],
        };
        self.parts.current = self.parts.current.min(self.parts.sections.len().saturating_sub(1));
        if self.parts.sections.is_empty() {
            self.parts.in_focus = false;
        }
    }

    /// Works out the sample over a longer time, and the threads.
    pub fn look_closer(&mut self) {
        self.calm = self.calm_sample().map(Arc::new);
        let sample = self.calm.as_ref().or(self.sample.as_ref());
        self.thread_sample =
            sample.filter(|_| self.values.threads).and_then(|sample| threads(sample)).map(Arc::new);
    }

    /// The shown sample over the chosen time, as far as nothing interrupts it.
    fn calm_sample(&self) -> Option<Sample> {
        let shown = self.sample.as_ref().filter(|_| !self.values.mean.is_zero())?;
        let span = self.values.mean.as_nanos() as i64;
        let mut readings = vec![shown.now.clone()];
        for sample in self.window.iter().rev() {
            let Some(before) = &sample.before else { break };
            readings.push(before.clone());
            if shown.now.monotonic_ns() - before.monotonic_ns() >= span {
                break;
            }
        }
        readings.reverse();
        (readings.len() > 2).then(|| Sample::over(shown.host.clone(), &readings)).flatten()
    }

    /// Narrows, orders and arranges the processes of the shown moment. Where it follows the one that was shown, equal
    /// rows keep their places; where the order holds still, all do.
    fn rank(&mut self, follows: bool, held: Option<&Places>) {
        let (Some(sample), Some(everybody)) = (&self.sample, self.everybody()) else { return };
        let users = self.parts.selected.as_ref().map(|part| users(part, sample));
        let uses = |row: &ProcessRow| match &users {
            Some(Users::Those(uses, _)) => uses(row),
            _ => true,
        };
        let keeper = self.values.narrowing.at(sample);
        let mut undecided = 0;
        let mut keeps = |row: Listed| {
            let view = everybody.view(row);
            let decided = keeper.keeps(&view);
            // Rows that stand for several, or for nobody, are no processes.
            let is_process = matches!(row, Listed::Here(_)) && view.now.pid.value().is_some();
            undecided += usize::from(decided.is_none() && is_process);
            decided == Some(true) && uses(view.now)
        };
        let here: Vec<bool> =
            (0..everybody.here.now.processes.len()).map(|at| keeps(Listed::Here(at))).collect();
        let gone: Vec<bool> =
            (0..everybody.gone.now.processes.len()).map(|at| keeps(Listed::Gone(at))).collect();
        let kept = |row: Listed| match row {
            Listed::Here(at) => here[at],
            Listed::Gone(at) => gone[at],
            Listed::Thread(_) | Listed::Group(_) => true,
        };
        let needed = |row: Listed| self.values.arrange.needs_all() || kept(row);
        let ordered = if follows {
            everybody.ordered_after(&self.ordered.rows, &needed, &self.values.order)
        } else {
            everybody.ordered_of(&needed, &self.values.order)
        };
        let place = |id: &RowId| held.and_then(|held| held.get(id)).copied().unwrap_or(usize::MAX);
        let how = Arranging {
            order: &self.values.order,
            arrange: self.values.arrange,
            folds: &self.folds,
            held: held.is_some().then_some(&place),
            stays: self.selected.as_ref(),
        };
        let table = Table::new(&everybody, &ordered, &kept, &how);
        // In the overview only; elsewhere no column has a bar.
        let barred = if self.values.lane.is_none() { columns::BARRED } else { &[] };
        let largest = barred.iter().map(|alias| {
            let metric = listed(alias);
            let values =
                table.lines.iter().filter_map(|line| table.value(&everybody, line, metric).value.number());
            (*alias, values.fold(0.0, f64::max))
        });
        self.largest = largest.collect();
        self.processes_shown = processes_shown(&table, sample);
        self.totals.clear();
        self.ranked += 1;
        self.users_of = match users {
            Some(Users::Those(_, words)) => Some(Ok(words)),
            Some(Users::Unknown(reason)) => Some(Err(reason)),
            Some(Users::All) | None => None,
        };
        (self.table, self.ordered, self.undecided) = (table, ordered, undecided);
    }

    fn fill_window(&mut self, shown: usize) {
        let from = (shown + 1).saturating_sub(TREND_SAMPLES).max(self.timeline.first());
        // Where thousands of processes change at each reading fewer samples than that are kept.
        let from = self.timeline.decoded_from(shown).map_or(from, |kept| from.max(kept));
        // Backwards in time would decode each key frame's readings again for every sample.
        self.window = (from..=shown).filter_map(|number| self.timeline.sample(number).ok()).collect();
    }

    fn follow_persistence(&mut self) {
        let Some(shown) = self.shown() else { return };
        let Some(newest) = self.window.last() else { return };
        if self.persistence.follow(shown, newest, &self.values.order) {
            return;
        }
        self.persistence = Persistence::default();
        let first = shown + 1 - self.window.len();
        for (number, sample) in (first..).zip(&self.window) {
            self.persistence.follow(number, sample, &self.values.order);
        }
    }

    /// Works out the rows anew: after another order, another narrowing, another part.
    pub fn rank_anew(&mut self) {
        if let Some(sample) = self.sample.clone() {
            self.values.narrowing.follow(&sample);
        }
        self.rank(false, None);
        self.follow_persistence();
        self.held_until = None;
        self.keep_selection_visible();
    }

    /// Arranges rows in another way; what was open belongs to the old one.
    pub fn arrange_by(&mut self, arrange: Arrange) {
        if self.values.arrange != arrange {
            self.values.arrange = arrange;
            self.folds = Folds::default();
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
        let axis = Axis::new(self, layout.strip_width);
        self.strips.follow(axis, self.zoom, &self.timeline);
        let overview = layout.overview.map(|_| layout.strip_width);
        self.overview.follow(overview, self.values.lane, &self.timeline);
        let seen = usize::from(layout.rows.height);
        let last = self.table.lines.len().min(self.scroll + seen);
        self.add_up();
        let visible = self.table.lines.get(self.scroll..last).unwrap_or_default();
        // What several do together has no course: a row of one of them would be mistaken for it.
        let course = |line: &Line| line.totals.map_or(line.listed, Listed::Group);
        let visible: Vec<Listed> = visible.iter().map(course).collect();
        let lens = columns::trend_metric(self.values.lane, self.values.order.first.metric);
        let mut trends = std::mem::take(&mut self.trends);
        let cells = self.fitted_columns().trend.map_or(0, |(_, width)| usize::from(width));
        trends.follow(self.shown(), &self.window, &visible, lens, cells);
        self.trends = trends;
    }

    /// Adds up what is seen of several processes: rows that stand for them, and those that are marked. Each once for a
    /// sample, since they may be thousands.
    fn add_up(&mut self) {
        let mut totals = std::mem::take(&mut self.totals);
        let mut marks = std::mem::take(&mut self.marked_totals);
        if let Some(everybody) = self.everybody() {
            let columns = self.fitted_columns().list;
            let visible = self.table.lines.iter().skip(self.scroll).take(self.visible_rows());
            for line in visible {
                let Some(group) = line.totals else { continue };
                for Column { metric, .. } in &columns {
                    let total = || self.table.value(&everybody, line, metric);
                    totals.entry((group, metric.alias)).or_insert_with(total);
                }
            }
            if marks.keys != self.marked || marks.ranked != self.ranked {
                let found = self.marked.iter().filter_map(|key| everybody.here.find(*key));
                let members: Vec<Listed> = found.map(Listed::Here).collect();
                let of = |alias: &&'static str| (listed(alias), everybody.total(&members, listed(alias)));
                let totals = MARKED.iter().map(of).collect();
                marks = MarkedTotals { keys: self.marked.clone(), ranked: self.ranked, totals };
            }
        }
        (self.totals, self.marked_totals) = (totals, marks);
    }

    fn visible_rows(&self) -> usize {
        self.layout().map_or(1, |layout| usize::from(layout.rows.height)).max(1)
    }

    fn is_visible(&self, row: usize) -> bool {
        (self.scroll..self.scroll + self.visible_rows()).contains(&row)
    }

    /// Scrolls no further than to the last row.
    pub fn stay_within_rows(&mut self) {
        self.scroll = self.scroll.min(self.table.lines.len().saturating_sub(self.visible_rows()));
    }

    /// Scrolls so far that the selected row can be seen.
    pub fn keep_selection_visible(&mut self) {
        let height = self.visible_rows();
        if let Some(row) = self.row_of_selected() {
            self.selected_row = row;
            self.scroll = self.scroll.clamp((row + 1).saturating_sub(height), row);
        }
        self.stay_within_rows();
    }
}
