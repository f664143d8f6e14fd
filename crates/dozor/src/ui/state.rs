//! All that the screen depends on.

use super::arrangement::Arrangement;
use super::axis::{Axis, Strips, Zoom};
use super::columns;
use super::layout::{Layout, Wish};
use super::line_edit::LineEdit;
use super::parts::{Parts, Placed};
use super::sheet::Sheet;
use super::symbols::Symbols;
use super::theme::Theme;
use super::trend::Trends;
use crate::clock::Zone;
use dozor_core::aside::aside;
use dozor_core::catalogue::listed;
use dozor_core::lane::{Lane, Severity, sentences};
use dozor_core::parts::{self, PartId, Users, users};
use dozor_core::rank::{Everybody, Listed, Narrow, Order, Persistence};
use dozor_core::reading::{ProcessKey, ProcessRow};
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use dozor_core::timeline::Timeline;
use dozor_core::wanted::{Part, Wanted};
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

/// A recording that is being written.
#[derive(Clone, Debug)]
pub struct Recording {
    /// The file.
    pub path: PathBuf,
    /// When it began.
    pub since: Instant,
}

/// A line that is being typed.
#[derive(Clone, Debug)]
pub struct Prompt {
    /// The line.
    pub line: LineEdit,
    /// What it is for.
    pub purpose: Purpose,
}

/// What a typed line is for.
#[derive(Clone, Debug)]
pub enum Purpose {
    /// Narrowing; what was narrowed before comes back when it is given up.
    Narrow(Narrow),
    /// The note of a bookmark at an instant.
    Note(i64),
}

/// What a sign on the time axis stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SignKind {
    /// Something was done to processes.
    Action,
    /// A remembered moment.
    Bookmark,
}

/// A sign on the time axis.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sign {
    /// When, in nanoseconds since 1970.
    pub wall_ns: i64,
    /// What it stands for.
    pub kind: SignKind,
    /// In words.
    pub text: String,
}

/// What the pressed button of the mouse holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Drag {
    /// The time cursor.
    Time,
    /// The thumb of the scroll bar, so many cells below its top.
    ScrollBar(u16),
    /// A lane.
    Lane(Lane),
}

/// The state of the screen.
pub struct State {
    /// Colours.
    pub theme: Theme,
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
    /// What stands out at the shown moment, the worst first.
    pub standing_out: Vec<(Severity, Lane, String)>,
    /// Signs on the time axis, oldest first.
    pub signs: Vec<Sign>,
    /// Order and form of the lanes.
    pub lanes: Arrangement,
    /// Time of a column of the strips.
    pub zoom: Zoom,
    /// What the strips show.
    pub strips: Strips,
    /// The chosen lane; none is the overview.
    pub lane: Option<Lane>,
    /// Its parts.
    pub parts: Parts,
    /// Whose users are shown, in words, or why they cannot be known.
    pub users_of: Option<Result<String, &'static str>>,
    /// Order of the processes.
    pub order: Order,
    /// Which processes are shown.
    pub narrow: Narrow,
    /// What is being typed.
    pub prompt: Option<Prompt>,
    /// The shown processes in order.
    pub rows: Vec<Listed>,
    /// Largest values among the rows of the metrics whose columns have bars.
    pub largest: HashMap<&'static str, f64>,
    /// Trends of the rows that are seen.
    pub trends: Trends,
    /// The selected process.
    pub selected: Option<ProcessKey>,
    /// Where the selected process was last among the rows.
    pub selected_row: usize,
    /// First row on the screen.
    pub scroll: usize,
    /// Marked processes.
    pub marked: BTreeSet<ProcessKey>,
    /// Until when the order holds still.
    pub held_until: Option<Instant>,
    /// What the mouse holds.
    pub drag: Option<Drag>,
    /// What is open over the screen.
    pub sheet: Option<Sheet>,
    /// A line for the person.
    pub message: Option<Message>,
    /// A recording that is being written.
    pub recording: Option<Recording>,
    /// Nominal time between readings.
    pub every: Duration,
    /// Readings come only when somebody asks for one.
    pub by_hand: bool,
    /// Dozor's own CPU time in percent of a core, where it was measured.
    pub own_cost: Option<f64>,
    /// Why nothing can be done to processes here.
    pub tied: Option<&'static str>,
    /// The mouse is ours; else it is the terminal's, and text can be selected with it.
    pub mouse: bool,
}

impl State {
    /// The screen before the first reading.
    pub fn new(timeline: Timeline, theme: Theme, every: Duration, size: (u16, u16)) -> State {
        let zone = Zone::named(&timeline.host().time_zone);
        State {
            theme,
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
            standing_out: vec![],
            signs: vec![],
            lanes: Arrangement::default(),
            zoom: Zoom::default(),
            strips: Strips::default(),
            lane: None,
            parts: Parts::default(),
            users_of: None,
            order: Order::by_cpu(),
            narrow: Narrow::default(),
            prompt: None,
            rows: vec![],
            largest: HashMap::new(),
            trends: Trends::default(),
            selected: None,
            selected_row: 0,
            scroll: 0,
            marked: BTreeSet::new(),
            held_until: None,
            drag: None,
            sheet: None,
            message: None,
            recording: None,
            every,
            by_hand: false,
            own_cost: None,
            tied: None,
            mouse: true,
        }
    }

    /// What the source must collect for what is on the screen, and for a recording that is written.
    pub fn wanted(&self) -> Wanted {
        let columns = columns::fit(self.lane, self.order.metric, self.size.0.max(80)).list;
        let shown: Wanted = columns.iter().filter_map(|column| column.metric.needs).collect();
        // A full file system and what came and went unseen stand out wherever one looks.
        let mut wanted = shown.with(Part::Filesystems).with(Part::Ended);
        if let Some(lane) = self.lane {
            wanted = wanted.union(parts::wanted(lane, self.sample.as_deref()));
        }
        if let Some(PartId::Mount(_) | PartId::Device(_)) = self.parts.selected {
            wanted = wanted.with(Part::Mounts);
        }
        if self.recording.is_some() { wanted.union(Wanted::recorded()) } else { wanted }
    }

    /// Number of the sample that is shown.
    pub fn shown(&self) -> Option<usize> {
        let last = self.timeline.end().checked_sub(1).filter(|_| !self.timeline.is_empty())?;
        Some(self.cursor.unwrap_or(last).clamp(self.timeline.first(), last))
    }

    /// Where things stand; `None` where the terminal is too small.
    pub fn layout(&self) -> Option<Layout> {
        let lanes = self.lanes.shown(self.lane);
        let mut wish = Wish {
            lanes: lanes.into_iter().map(|lane| (lane, self.lanes.is_folded(lane))).collect(),
            sentences: self.standing_out.len().min(9) as u16,
            parts: self.lane.map_or(0, |_| self.parts.wish(self.size.0)),
            in_parts: self.parts.in_focus,
        };
        let layout = Layout::new(self.size.0, self.size.1, &wish)?;
        // Room that no whole table of parts fits into goes to the processes.
        let filled =
            layout.parts.map(|area| (area, self.parts.placed(area).last().map_or(0, Placed::bottom)));
        match filled {
            Some((area, bottom)) if bottom < area.bottom() => {
                wish.parts = bottom.saturating_sub(area.y);
                Layout::new(self.size.0, self.size.1, &wish)
            }
            _ => Some(layout),
        }
    }

    /// Whether the order holds still.
    pub fn is_held(&self, now: Instant) -> bool {
        matches!(self.sheet, Some(Sheet::Act(_)))
            || matches!(self.drag, Some(Drag::ScrollBar(_)))
            || self.held_until.is_some_and(|until| now < until)
    }

    /// Those that are there and those who are gone.
    pub fn everybody(&self) -> Option<Everybody<'_>> {
        Some(Everybody { here: self.sample.as_ref()?, gone: self.gone.as_ref()? })
    }

    /// Identity of the process in a row.
    pub fn key_of_row(&self, row: usize) -> Option<ProcessKey> {
        let listed = *self.rows.get(row)?;
        Some(self.everybody()?.view(listed).now.key())
    }

    /// Row of the selected process.
    pub fn row_of_selected(&self) -> Option<usize> {
        let key = self.selected?;
        let everybody = self.everybody()?;
        let here = everybody.here.find(key).map(Listed::Here);
        let listed = here.or_else(|| everybody.gone.find(key).map(Listed::Gone))?;
        self.rows.iter().position(|row| *row == listed)
    }

    /// Goes to the sample of the cursor and works out all that depends on it.
    pub fn refresh(&mut self, now: Instant) {
        let Some(shown) = self.shown() else { return };
        let selection_was_visible = self.row_of_selected().is_some_and(|row| self.is_visible(row));
        let held: Option<HashMap<ProcessKey, usize>> = self
            .is_held(now)
            .then(|| (0..self.rows.len()).filter_map(|row| Some((self.key_of_row(row)?, row))).collect());
        let sample = match self.timeline.sample(shown) {
            Ok(sample) => sample,
            Err(error) => {
                self.say(Severity::Warning, format!("this moment cannot be read: {error}"), None);
                return;
            }
        };
        let gone = Arc::new(aside(&sample));
        self.standing_out = sentences(&Everybody { here: &sample, gone: &gone });
        self.gone = Some(gone);
        self.warn_of_own_cost();
        self.chosen_lane_first();
        if self.cursor.is_none() {
            self.marked.retain(|key| sample.find(*key).is_some());
        }
        let shown_before = self.sample.replace(sample.clone());
        self.look_at_parts();
        let follows = shown_before.zip(sample.before.as_ref());
        self.rank(follows.is_some_and(|(shown, before)| Arc::ptr_eq(&shown.now, before)));
        if let Some(held) = held
            && let Some(everybody) = self.everybody()
        {
            // Those that were there keep their places; those that came since stand behind them.
            let place =
                |row: &Listed| held.get(&everybody.view(*row).now.key()).copied().unwrap_or(usize::MAX);
            let mut rows: Vec<(usize, Listed)> = self.rows.iter().map(|row| (place(row), *row)).collect();
            rows.sort_by_key(|(place, _)| *place);
            // Rows above that are gone must not pull the others away from under the hand.
            self.scroll = rows.partition_point(|(place, _)| *place < self.scroll);
            self.rows = rows.into_iter().map(|(_, row)| row).collect();
        }
        self.fill_window(shown);
        self.follow_persistence();
        // Whoever turned the wheel away from the selection is not pulled back to it.
        if selection_was_visible {
            self.keep_selection_visible();
        }
        self.stay_within_rows();
    }

    fn warn_of_own_cost(&mut self) {
        if let Some(cost) = self.own_cost.filter(|cost| *cost >= COSTLY && self.mode == Mode::Live) {
            let text =
                format!("Dozor itself uses {cost:.0} % of a core at this interval; + reads less often.");
            self.standing_out.push((Severity::Notice, Lane::Cpu, text));
        }
    }

    /// What stands out of the chosen lane comes first, else the worst.
    pub fn chosen_lane_first(&mut self) {
        let lane = self.lane;
        self.standing_out.sort_by_key(|(severity, of, _)| std::cmp::Reverse((lane == Some(*of), *severity)));
    }

    /// Works out the parts of the chosen lane at the shown moment.
    pub fn look_at_parts(&mut self) {
        self.parts.sections = match (self.lane, &self.sample) {
            (Some(lane), Some(sample)) => parts::sections(lane, sample),
            _ => vec![],
        };
        self.parts.current = self.parts.current.min(self.parts.sections.len().saturating_sub(1));
        if self.parts.sections.is_empty() {
            self.parts.in_focus = false;
        }
    }

    /// Narrows and orders the processes of the shown moment. Where it follows the one that was shown, equal rows keep
    /// their places.
    fn rank(&mut self, follows: bool) {
        let (Some(sample), Some(everybody)) = (&self.sample, self.everybody()) else { return };
        let users = self.parts.selected.as_ref().map(|part| users(part, sample));
        let narrow = &self.narrow;
        let uses = |row: &ProcessRow| match &users {
            Some(Users::Those(uses, _)) => uses(row),
            _ => true,
        };
        let keeps = |row: &ProcessRow| narrow.keeps(row) && uses(row);
        let rows = if follows {
            everybody.ranked_after(&self.rows, keeps, &self.order)
        } else {
            everybody.ranked(keeps, &self.order)
        };
        // In the overview only; elsewhere no column has a bar.
        let barred = if self.lane.is_none() { columns::BARRED } else { &[] };
        let largest = barred.iter().map(|alias| {
            let values = rows.iter().filter_map(|row| listed(alias).of(&everybody.view(*row)).number());
            (*alias, values.fold(0.0, f64::max))
        });
        self.largest = largest.collect();
        self.users_of = match users {
            Some(Users::Those(_, words)) => Some(Ok(words)),
            Some(Users::Unknown(reason)) => Some(Err(reason)),
            Some(Users::All) | None => None,
        };
        self.rows = rows;
    }

    fn fill_window(&mut self, shown: usize) {
        let from = (shown + 1).saturating_sub(TREND_SAMPLES).max(self.timeline.first());
        // Backwards in time would decode each key frame's readings again for every sample.
        self.window = (from..=shown).filter_map(|number| self.timeline.sample(number).ok()).collect();
    }

    fn follow_persistence(&mut self) {
        let Some(shown) = self.shown() else { return };
        let Some(newest) = self.window.last() else { return };
        if self.persistence.follow(shown, newest, &self.order) {
            return;
        }
        self.persistence = Persistence::default();
        let first = shown + 1 - self.window.len();
        for (number, sample) in (first..).zip(&self.window) {
            self.persistence.follow(number, sample, &self.order);
        }
    }

    /// Works out the rows anew: after another order, another narrowing, another part.
    pub fn rank_anew(&mut self) {
        self.rank(false);
        self.follow_persistence();
        self.held_until = None;
        self.keep_selection_visible();
    }

    /// Works out what is drawn but depends on where things stand. Called after every event.
    pub fn settle(&mut self) {
        let Some(layout) = self.layout() else { return };
        let axis = Axis::new(self, layout.strip_width);
        self.strips.follow(axis, self.zoom, &self.timeline);
        let seen = usize::from(layout.rows.height);
        let last = self.rows.len().min(self.scroll + seen);
        let visible = self.rows.get(self.scroll..last).unwrap_or_default();
        let lens = columns::trend_metric(self.lane, self.order.metric);
        let mut trends = std::mem::take(&mut self.trends);
        trends.follow(self.shown(), &self.window, visible, lens);
        self.trends = trends;
    }

    fn visible_rows(&self) -> usize {
        self.layout().map_or(1, |layout| usize::from(layout.rows.height)).max(1)
    }

    fn is_visible(&self, row: usize) -> bool {
        (self.scroll..self.scroll + self.visible_rows()).contains(&row)
    }

    /// Scrolls no further than to the last row.
    pub fn stay_within_rows(&mut self) {
        self.scroll = self.scroll.min(self.rows.len().saturating_sub(self.visible_rows()));
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

    /// Shows a line.
    pub fn say(&mut self, severity: Severity, text: String, until: Option<Instant>) {
        self.message = Some(Message { text, severity, until });
    }

    /// Puts a sign on the time axis.
    pub fn sign(&mut self, wall_ns: i64, kind: SignKind, text: String) {
        let at = self.signs.partition_point(|sign| sign.wall_ns <= wall_ns);
        self.signs.insert(at, Sign { wall_ns, kind, text });
    }
}
