//! All that the screen depends on.

pub mod axis;
mod change;
pub mod effect;
mod lanes;

pub mod overview;
mod pace;
pub mod parts;
pub mod rows;
pub mod search;
pub mod selection;
pub mod time;
pub mod trend;
mod views;

use crate::look::action::Action;
use crate::look::clock::Zone;
use crate::look::columns::{self, ColumnSet, Columns};
use crate::look::layout::{Layout, SMALLEST, Wish};
use crate::look::symbols::Symbols;
use crate::look::theme::{Depth, Theme};
use crate::settings::values::Values;
use crate::state::axis::{Strips, Zoom};
use crate::state::overview::Overview;
use crate::state::parts::{Parts, Placed};
use crate::state::rows::MarkedTotals;
use crate::state::search::Search;
use crate::state::trend::Trends;
use dozor_core::expr::Expression;
use dozor_core::lane::{Lane, Severity};
use dozor_core::parts::PartId;
use dozor_core::rank::{Arrange, Folds, Order, Ordered, Persistence, RowId, Table, Total};
use dozor_core::reading::ProcessKey;
use dozor_core::recording::{Mark, MarkKind};
use dozor_core::sample::Sample;
use dozor_core::timeline::Timeline;
use dozor_core::wanted::{Part, Wanted};
use effect::Effect;
use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Samples that the trend of a row covers.
pub const TREND_SAMPLES: usize = 56;
/// The order holds still so long after somebody moved the selection.
pub const HOLD: Duration = Duration::from_secs(3);
/// CPU time in percent of a core from which on Dozor warns of itself.
pub const COSTLY: f64 = 5.0;

/// Where the readings come from.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Mode {
    /// Readings arrive: the machine, the simulation or a pipe.
    Live,
    /// A recording that is played.
    Replay {
        /// It goes on by itself.
        playing: bool,
        /// When the next sample is due.
        due: Option<Instant>,
    },
}

/// A line for the person, for a while.
#[derive(Clone, Debug)]
pub struct Message {
    /// The line.
    pub text: String,
    /// How it is meant.
    pub severity: Severity,
    /// When it goes by itself.
    pub until: Option<Instant>,
}

/// How long a line for the person stays.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stay {
    /// What is seen at once.
    Brief,
    /// Mostly.
    Usual,
    /// What has to be thought about.
    Long,
    /// Until another one comes or a key takes it away.
    UntilKey,
}

impl Stay {
    fn time(self) -> Option<Duration> {
        match self {
            Stay::Brief => Some(Duration::from_secs(4)),
            Stay::Usual => Some(Duration::from_secs(8)),
            Stay::Long => Some(Duration::from_secs(16)),
            Stay::UntilKey => None,
        }
    }
}

/// A recording that is being written.
#[derive(Clone, Debug)]
pub struct Recording {
    /// The file.
    pub path: PathBuf,
    /// When it began.
    pub since: Instant,
}

/// What the pressed button of the mouse holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Drag {
    /// The time cursor.
    Time,
    /// The time cursor, on the overview of all the time there is.
    Overview,
    /// The thumb of the scroll bar, so many cells below its top.
    ScrollBar(u16),
    /// A lane.
    Lane(Lane),
}

/// The state of the screen.
#[allow(clippy::struct_excessive_bools, reason = "each is a switch of its own")]
pub struct State {
    /// Colours.
    pub theme: Theme,
    /// What is set.
    pub values: Values,
    /// Signs that the terminal can show.
    pub symbols: Symbols,
    /// How times are shown.
    pub zone: Zone,
    /// Width and height of the terminal.
    pub size: (u16, u16),
    /// All samples.
    pub timeline: Timeline,
    /// Where readings come from.
    pub mode: Mode,
    /// Why nothing more will come.
    pub ended: Option<String>,
    /// The sample that is looked at; the newest where none is.
    pub cursor: Option<usize>,
    /// The sample that is shown.
    pub sample: Option<Arc<Sample>>,
    /// Those who are gone in the shown sample.
    pub gone: Option<Arc<Sample>>,
    /// Samples up to the shown one, oldest first, for the trends.
    pub window: Vec<Arc<Sample>>,
    /// How long processes have been near the top.
    pub persistence: Persistence,
    /// Columns that can have no value at the shown moment.
    pub away: Vec<columns::Away>,
    /// What stands out at the shown moment, the worst first.
    pub standing_out: Vec<(Severity, Lane, String)>,
    /// Signs on the time axis, oldest first.
    pub signs: Vec<Mark>,
    /// Time of a column of the strips.
    pub zoom: Zoom,
    /// What the strips show.
    pub strips: Strips,
    /// All of a recording on one line.
    pub overview: Overview,
    /// Times as fast as it was that a recording is played.
    pub speed: f64,
    /// A moment that others are compared with, in nanoseconds since 1970.
    pub remembered: Option<i64>,
    /// A peak that is looked for.
    pub search: Option<Search>,
    /// Times are shown in the zone of this machine, not of the one that is watched.
    pub own_zone: bool,
    /// Its parts.
    pub parts: Parts,
    /// Whose users are shown, in words, or why they cannot be known.
    pub users_of: Option<Result<String, &'static str>>,
    /// What somebody goes to from row to row.
    pub find: Option<Expression>,
    /// What is open below them.
    pub folds: Folds,
    /// Cells by which command lines are moved to the left.
    pub pan: u16,
    /// All processes in order, narrowed or not.
    pub ordered: Ordered,
    /// The rows, arranged.
    pub table: Table,
    /// Of so many processes it is not known whether they should be shown.
    pub undecided: usize,
    /// So many processes are in rows.
    pub processes_shown: usize,
    /// Which ranking of the rows this is.
    pub ranked: u64,
    /// Totals of the rows that are seen and stand for several, by group and metric.
    pub totals: HashMap<(usize, &'static str), Total>,
    /// What the marked processes have together.
    pub marked_totals: MarkedTotals,
    /// Threads of the shown sample.
    pub thread_sample: Option<Arc<Sample>>,
    /// The shown sample over a longer time.
    pub calm: Option<Arc<Sample>>,
    /// Largest values among the rows of the metrics whose columns have bars.
    pub largest: HashMap<&'static str, f64>,
    /// Trends of the rows that are seen.
    pub trends: Trends,
    /// The selected row.
    pub selected: Option<RowId>,
    /// Where the selected row was last.
    pub selected_row: usize,
    /// First row on the screen.
    pub scroll: usize,
    /// Marked processes.
    pub marked: BTreeSet<ProcessKey>,
    /// Until when the order holds still.
    pub held_until: Option<Instant>,
    /// What the mouse holds.
    pub drag: Option<Drag>,
    /// What is open over the screen lets the order hold still.
    pub held_by_sheet: bool,
    /// The time of the present event.
    pub now: Instant,
    /// What must be done outside of the state.
    pub outbox: Vec<Effect>,
    /// A line for the person.
    pub message: Option<Message>,
    /// A recording that is being written.
    pub recording: Option<Recording>,
    /// Readings come only when somebody asks for one.
    pub by_hand: bool,
    /// Dozor's own CPU time in percent of a core, where it was measured.
    pub own_cost: Option<f64>,
    /// Why nothing can be done to processes here.
    pub tied: Option<&'static str>,
}

impl State {
    /// The screen before the first reading.
    pub fn new(timeline: Timeline, theme: Theme, every: Duration, size: (u16, u16)) -> State {
        let zone = Zone::named(&timeline.host().time_zone);
        State {
            theme,
            values: Values::new(every),
            symbols: Symbols::default(),
            zone,
            size,
            timeline,
            mode: Mode::Live,
            ended: None,
            cursor: None,
            sample: None,
            gone: None,
            window: vec![],
            persistence: Persistence::default(),
            away: vec![],
            standing_out: vec![],
            signs: vec![],
            zoom: Zoom::default(),
            strips: Strips::default(),
            overview: Overview::default(),
            speed: 1.0,
            remembered: None,
            search: None,
            own_zone: false,
            parts: Parts::default(),
            users_of: None,
            find: None,
            folds: Folds::default(),
            pan: 0,
            ordered: Ordered::default(),
            table: Table::default(),
            undecided: 0,
            processes_shown: 0,
            ranked: 0,
            totals: HashMap::new(),
            marked_totals: MarkedTotals::default(),
            thread_sample: None,
            calm: None,
            largest: HashMap::new(),
            trends: Trends::default(),
            selected: None,
            selected_row: 0,
            scroll: 0,
            marked: BTreeSet::new(),
            held_until: None,
            drag: None,
            held_by_sheet: false,
            now: Instant::now(),
            outbox: vec![],
            message: None,
            recording: None,
            by_hand: false,
            own_cost: None,
            tied: None,
        }
    }

    /// What the source must collect for what is on the screen, and for a recording that is written.
    pub fn wanted(&self) -> Wanted {
        let columns = self.fitted_columns().list;
        let shown: Wanted = columns.iter().filter_map(|column| column.metric.needs).collect();
        // A full file system and what came and went unseen stand out wherever one looks.
        let mut wanted = shown.with(Part::Filesystems).with(Part::Ended);
        wanted = wanted.union(self.values.narrowing.wanted()).union(self.values.arrange.wanted());
        if let Some(expression) = &self.find {
            wanted = wanted.union(expression.wanted());
        }
        if let Some(part) = self.values.order.then.and_then(|then| then.metric.needs) {
            wanted = wanted.with(part);
        }
        if self.values.threads {
            wanted = wanted.with(Part::Threads);
        }
        if let Some(lane) = self.values.lane {
            wanted = wanted.union(dozor_core::parts::wanted(lane, self.sample.as_deref()));
        }
        if let Some(PartId::Mount(_) | PartId::Device(_)) = self.parts.selected {
            wanted = wanted.with(Part::Mounts);
        }
        if self.recording.is_some() { wanted.union(Wanted::recorded()) } else { wanted }
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
            &self.away,
        )
    }

    /// Whether rows may stand below others.
    pub fn has_rows_below_others(&self) -> bool {
        self.values.arrange != Arrange::Flat || self.thread_sample.is_some()
    }

    /// The first key of an action, for texts that name it.
    pub fn key(&self, action: Action) -> String {
        self.values.keys.key(action)
    }

    /// Number of the sample that is shown.
    pub fn shown(&self) -> Option<usize> {
        let last = self.timeline.end().checked_sub(1).filter(|_| !self.timeline.is_empty())?;
        Some(self.cursor.unwrap_or(last).clamp(self.timeline.first(), last))
    }

    /// Where things stand; `None` where the terminal is too small.
    pub fn layout(&self) -> Option<Layout> {
        let lanes = self.values.lanes.shown(self.values.lane);
        let mut wish = Wish {
            lanes: lanes.into_iter().map(|lane| (lane, self.values.lanes.is_folded(lane))).collect(),
            sentences: self.standing_out.len().min(9) as u16,
            marks: !self.marked.is_empty(),
            overview: self.has_overview(),
            parts: self.values.lane.map_or(0, |_| self.parts.wish(self.size.0)),
            in_parts: self.parts.in_focus,
        };
        let layout = Layout::new(self.size.0, self.size.1, &wish)?;
        // Room that no whole table of parts fits into goes to the processes.
        let filled = layout
            .parts
            .map(|area| (area, self.parts.placed(area).iter().map(Placed::bottom).max().unwrap_or(0)));
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
        if let Some(everybody) = self.everybody() {
            self.standing_out = dozor_core::lane::sentences(&everybody);
            self.chosen_lane_first();
        }
        self.look_at_parts();
    }

    /// Shows a line for the usual time.
    pub fn say(&mut self, severity: Severity, text: String) {
        self.say_for(severity, text, Stay::Usual);
    }

    /// Shows a line.
    pub fn say_for(&mut self, severity: Severity, text: String, stay: Stay) {
        let until = stay.time().map(|time| self.now + time);
        self.message = Some(Message { text, severity, until });
    }

    /// Puts a sign on the time axis, and into what keeps it.
    pub fn sign(&mut self, wall_ns: i64, kind: MarkKind, text: String) {
        let mark = Mark::new(wall_ns, kind, text);
        self.outbox.push(Effect::Keep(mark.clone()));
        self.show_sign(mark);
    }

    /// Puts a sign on the time axis that is kept already.
    pub fn show_sign(&mut self, mark: Mark) {
        let at = self.signs.partition_point(|sign| sign.wall_ns <= mark.wall_ns);
        self.signs.insert(at, mark);
    }

    /// Puts a sign for something that was done on the axis.
    pub fn sign_action(&mut self, text: String) {
        let newest = self.timeline.end().checked_sub(1).and_then(|number| self.timeline.moment(number));
        if let Some(wall) = newest.map(|moment| moment.wall_ns) {
            self.sign(wall, MarkKind::Action, text);
        }
    }

    /// The instant of the shown sample, in nanoseconds since 1970.
    pub fn shown_wall(&self) -> Option<i64> {
        self.shown().and_then(|shown| self.timeline.moment(shown)).map(|moment| moment.wall_ns)
    }

    /// Shows only what an expression holds for.
    pub fn narrow(&mut self, expression: Option<Expression>) {
        if self.values.narrowing.expression != expression {
            self.values.narrowing.expression = expression;
            self.scroll = 0;
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
        self.drag = None;
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
