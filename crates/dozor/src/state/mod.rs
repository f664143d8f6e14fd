//! All that the screen depends on.

pub mod axis;
mod change;
pub mod data;
mod deeds;
pub mod effect;
mod exporting;
mod findings;
pub mod job;
mod lanes;
pub mod moment;
pub mod overview;
pub mod parts;
pub mod rows;
pub mod search;
pub mod selection;
pub mod series;
mod session;
pub mod time;
pub mod trend;
mod views;

use crate::look::action::Action;
use crate::look::columns::{self, ColumnSet, Columns};
use crate::look::layout::{Layout, SMALLEST, Wish};
use crate::look::symbols::Symbols;
use crate::look::theme::{Depth, Theme};
use crate::settings::values::Values;
use data::{Deeds, Lanes, Moment, Rows, Selection, Session, Time, Watching};
use dozor_core::expr::Expression;
use dozor_core::findings::at_once;
use dozor_core::parts::PartId;
use dozor_core::rank::{Arrange, Order};
use dozor_core::recording::{Mark, MarkKind};
use dozor_core::timeline::Timeline;
use dozor_core::wanted::{Demand, Wanted};
use effect::Effect;
use parts::Placed;
use std::time::{Duration, Instant};

/// The state of the screen.
pub struct State {
    /// What is set.
    pub values: Values,
    /// Colours.
    pub theme: Theme,
    /// Signs that the terminal can show.
    pub symbols: Symbols,
    /// Width and height of the terminal.
    pub size: (u16, u16),
    /// The time of the present event.
    pub now: Instant,
    /// What must be done outside of the state.
    pub outbox: Vec<Effect>,
    time: Time,
    moment: Moment,
    rows: Rows,
    selection: Selection,
    lanes: Lanes,
    session: Session,
    deeds: Deeds,
    watching: Watching,
}

impl State {
    /// The samples, for those who look one up.
    pub fn timeline_mut(&mut self) -> &mut Timeline {
        &mut self.time.timeline
    }

    /// The screen before the first reading.
    pub fn new(timeline: Timeline, theme: Theme, every: Duration, size: (u16, u16)) -> State {
        State {
            values: Values::new(every),
            theme,
            symbols: Symbols::default(),
            size,
            now: Instant::now(),
            outbox: vec![],
            time: Time::new(timeline),
            moment: Moment::default(),
            rows: Rows::default(),
            selection: Selection::default(),
            lanes: Lanes::default(),
            session: Session::default(),
            deeds: Deeds::default(),
            watching: Watching::default(),
        }
    }

    /// Which moment is shown, of how many.
    pub fn time(&self) -> &Time {
        &self.time
    }

    /// The shown moment, and what follows from it alone.
    pub fn moment(&self) -> &Moment {
        &self.moment
    }

    /// The rows of the table.
    pub fn rows(&self) -> &Rows {
        &self.rows
    }

    /// What is selected, marked and looked for among the rows.
    pub fn selection(&self) -> &Selection {
        &self.selection
    }

    /// What the lanes show beside their values.
    pub fn lanes(&self) -> &Lanes {
        &self.lanes
    }

    /// What goes on beside the readings.
    pub fn session(&self) -> &Session {
        &self.session
    }

    /// What is collected whatever is on the screen: a full file system, what came and went unseen and who waits for a core stand
    /// out wherever one looks, and who cannot be asked what he holds cannot be found out.
    pub fn always_wanted() -> Wanted {
        Wanted::recorded().with(Demand::CoreWait)
    }

    /// What the source must collect for what is on the screen, and for a recording that is written.
    pub fn wanted(&self) -> Wanted {
        let columns = self.fitted_columns().list;
        let shown: Wanted = columns.iter().filter_map(|column| column.metric.needs).collect();
        let mut wanted = shown.union(self.values.narrowing.wanted()).union(self.values.arrange.wanted());
        if let Some(expression) = &self.selection.find {
            wanted = wanted.union(expression.wanted());
        }
        if let Some(part) = self.values.order.then.and_then(|then| then.metric.needs) {
            wanted = wanted.with(part);
        }
        if self.values.threads {
            wanted = wanted.with(Demand::Threads);
        }
        if let Some(lane) = self.values.lane {
            wanted = wanted.union(dozor_core::parts::wanted(lane, self.moment.sample.as_deref()));
        }
        if let Some(PartId::Mount(_) | PartId::Device(_)) = self.lanes.parts.selected {
            wanted = wanted.with(Demand::Mounts);
        }
        for rule in &self.values.configured.rules {
            wanted = wanted.union(rule.wanted());
        }
        wanted.union(State::always_wanted())
    }

    /// Columns of the chosen lane, or of the overview.
    pub fn columns(&self) -> &ColumnSet {
        self.values.column_sets.get(&self.values.lane).unwrap_or_else(|| ColumnSet::usual(self.values.lane))
    }

    /// The columns as they fit the screen.
    pub fn fitted_columns(&self) -> Columns {
        let width = self.size.0.max(SMALLEST.0);
        let form = columns::Form { roomy: self.has_rows_below_others(), of_machine: self.values.of_machine };
        columns::fit(
            self.columns(),
            self.values.lane,
            self.values.order.first.metric,
            width,
            form,
            &self.moment.away,
        )
    }

    /// Whether rows may stand below others.
    pub fn has_rows_below_others(&self) -> bool {
        self.values.arrange != Arrange::Flat || self.moment.thread_sample.is_some()
    }

    /// The first key of an action, for texts that name it.
    pub fn key(&self, action: Action) -> String {
        self.values.keys.key(action)
    }

    /// Number of the sample that is shown.
    pub fn shown(&self) -> Option<usize> {
        self.time.shown()
    }

    /// Where things stand; `None` where the terminal is too small.
    pub fn layout(&self) -> Option<Layout> {
        let lanes = self.values.lanes.shown(self.values.lane);
        let mut wish = Wish {
            lanes: lanes.into_iter().map(|lane| (lane, self.values.lanes.is_folded(lane))).collect(),
            sentences: self.moment.standing_out.len().min(9) as u16,
            marks: !self.selection.marked.is_empty(),
            overview: self.time.has_overview(),
            parts: self.values.lane.map_or(0, |_| self.lanes.parts.wish(self.size.0)),
            in_parts: self.lanes.parts.in_focus,
        };
        let layout = Layout::new(self.size.0, self.size.1, &wish)?;
        // Room that no whole table of parts fits into goes to the processes.
        let filled = layout
            .parts
            .map(|area| (area, self.lanes.parts.placed(area).iter().map(Placed::bottom).max().unwrap_or(0)));
        match filled {
            Some((area, bottom)) if bottom < area.bottom() => {
                wish.parts = bottom.saturating_sub(area.y);
                Layout::new(self.size.0, self.size.1, &wish)
            }
            _ => Some(layout),
        }
    }

    /// Makes the texts of the shown moment anew: after other units were chosen.
    pub fn refresh_texts(&mut self) {
        if let Some(population) = self.population() {
            self.moment.standing_out = at_once(population.here, &self.values.configured.adjusted);
            self.chosen_lane_first();
            self.show_findings();
        }
        self.look_at_parts();
    }

    /// Puts a sign on the time axis, and into what keeps it.
    pub fn sign(&mut self, wall_ns: i64, kind: MarkKind, text: String) {
        let mark = Mark::new(wall_ns, kind, text);
        self.outbox.push(Effect::Keep(mark.clone()));
        self.show_sign(mark);
    }

    /// Puts a sign on the time axis that is kept already.
    pub fn show_sign(&mut self, mark: Mark) {
        let at = self.time.signs.partition_point(|sign| sign.wall_ns <= mark.wall_ns);
        self.time.signs.insert(at, mark);
    }

    /// The instant of the newest sample, in nanoseconds since 1970.
    pub fn newest_wall(&self) -> Option<i64> {
        let timeline = &self.time.timeline;
        timeline.moment(timeline.end().checked_sub(1)?).map(|moment| moment.wall_ns)
    }

    /// The instant of the shown sample, in nanoseconds since 1970.
    pub fn shown_wall(&self) -> Option<i64> {
        self.shown().and_then(|shown| self.time.timeline.moment(shown)).map(|moment| moment.wall_ns)
    }

    /// Shows only what an expression holds for.
    pub fn narrow(&mut self, expression: Option<Expression>) {
        if self.values.narrowing.expression != expression {
            self.values.narrowing.expression = expression;
            self.selection.scroll = 0;
            self.rank_anew();
        }
    }

    /// Orders the rows in another way.
    pub fn order_by(&mut self, order: Order) {
        self.values.order = order;
        self.rank_anew();
    }

    /// Keeps an expression that was typed, for being recalled.
    pub fn remember_expression(&mut self, text: String) {
        const REMEMBERED: usize = 50;
        self.values.history.retain(|other| *other != text);
        self.values.history.push(text);
        let excess = self.values.history.len().saturating_sub(REMEMBERED);
        self.values.history.drain(..excess);
    }

    /// The terminal has another size.
    pub fn resize(&mut self, size: (u16, u16)) {
        self.size = size;
        self.session.drag = None;
        self.keep_selection_visible();
        self.keep_part_visible();
    }

    /// The theme that is shown, by its name.
    pub fn theme_name(&self) -> String {
        match (self.values.configured.theme.as_str(), self.theme.light) {
            ("auto", _) if self.theme.depth == Depth::Mono => "mono".to_owned(),
            ("auto", true) => "light".to_owned(),
            ("auto", false) => "dark".to_owned(),
            (name, _) => name.to_owned(),
        }
    }
}

/// For tests that set up a screen.
#[cfg(test)]
impl State {
    /// The time, to be set.
    pub fn time_mut(&mut self) -> &mut Time {
        &mut self.time
    }

    /// What goes on beside the readings, to be set.
    pub fn session_mut(&mut self) -> &mut Session {
        &mut self.session
    }
}
