//! All that the screen depends on.

use super::columns;
use super::layout::Layout;
use super::line_edit::LineEdit;
use super::sheet::Sheet;
use super::theme::Theme;
use crate::clock::Zone;
use dozor_core::lane::{Lane, Severity, sentence};
use dozor_core::rank::{Narrow, Order, ranked};
use dozor_core::reading::ProcessKey;
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use dozor_core::timeline::Timeline;
use dozor_core::wanted::Wanted;
use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Samples that the trend of a row covers.
pub const TREND_SAMPLES: usize = 56;
/// The order holds still so long after somebody moved the selection.
pub const HOLD: Duration = Duration::from_secs(3);

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

/// What is being typed to narrow, and what was narrowed before.
#[derive(Clone, Debug)]
pub struct Narrowing {
    /// The line.
    pub line: LineEdit,
    /// For going back.
    pub before: Narrow,
}

/// The state of the screen.
pub struct State {
    /// Colours.
    pub theme: Theme,
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
    /// Samples up to the shown one, oldest first, for the trends.
    pub window: Vec<Arc<Sample>>,
    /// What stands out at the shown moment, the worst first.
    pub standing_out: Vec<(Severity, Lane, String)>,
    /// The chosen lane; none is the overview.
    pub lane: Option<Lane>,
    /// Order of the processes.
    pub order: Order,
    /// Which processes are shown.
    pub narrow: Narrow,
    /// What is being typed to narrow.
    pub narrowing: Option<Narrowing>,
    /// Places of the shown processes in the sample, in order.
    pub rows: Vec<usize>,
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
    /// What is open over the screen.
    pub sheet: Option<Sheet>,
    /// A line for the person.
    pub message: Option<Message>,
    /// A recording that is being written.
    pub recording: Option<Recording>,
    /// Nominal time between readings.
    pub every: Duration,
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
            zone,
            size,
            timeline,
            mode: Mode::Live,
            ended: None,
            cursor: None,
            sample: None,
            window: vec![],
            standing_out: vec![],
            lane: None,
            order: Order::by_cpu(),
            narrow: Narrow::default(),
            narrowing: None,
            rows: vec![],
            selected: None,
            selected_row: 0,
            scroll: 0,
            marked: BTreeSet::new(),
            held_until: None,
            sheet: None,
            message: None,
            recording: None,
            every,
            own_cost: None,
            tied: None,
        }
    }

    /// What the source must collect for what is on the screen, and for a recording that is written.
    pub fn wanted(&self) -> Wanted {
        let columns = columns::fit(self.lane, self.order.metric, self.size.0.max(80)).list;
        let shown: Wanted = columns.iter().filter_map(|column| column.metric.needs).collect();
        if self.recording.is_some() { shown.union(Wanted::recorded()) } else { shown }
    }

    /// Number of the sample that is shown.
    pub fn shown(&self) -> Option<usize> {
        let last = self.timeline.end().checked_sub(1).filter(|_| !self.timeline.is_empty())?;
        Some(self.cursor.unwrap_or(last).clamp(self.timeline.first(), last))
    }

    /// Where things stand; `None` where the terminal is too small.
    pub fn layout(&self) -> Option<Layout> {
        Layout::new(self.size.0, self.size.1)
    }

    /// Whether the order holds still.
    pub fn is_held(&self, now: Instant) -> bool {
        matches!(self.sheet, Some(Sheet::Act(_))) || self.held_until.is_some_and(|until| now < until)
    }

    /// Identity of the process in a row.
    pub fn key_of_row(&self, row: usize) -> Option<ProcessKey> {
        let place = *self.rows.get(row)?;
        Some(self.sample.as_ref()?.now.processes.get(place)?.key())
    }

    /// Row of the selected process.
    pub fn row_of_selected(&self) -> Option<usize> {
        let place = self.sample.as_ref()?.find(self.selected?)?;
        self.rows.iter().position(|row| *row == place)
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
        let mut rows = ranked(&sample, &self.narrow, &self.order);
        if let Some(held) = held {
            // Those that were there keep their places; those that came since stand behind them.
            rows.sort_by_key(|place| {
                held.get(&sample.now.processes[*place].key()).copied().unwrap_or(usize::MAX)
            });
        }
        self.rows = rows;
        self.standing_out = Lane::ALL
            .iter()
            .filter_map(|lane| Some((lane.point(&sample).severity, *lane, sentence(*lane, &sample)?)))
            .collect();
        self.standing_out.sort_by_key(|(severity, ..)| std::cmp::Reverse(*severity));
        if self.cursor.is_none() {
            self.marked.retain(|key| sample.find(*key).is_some());
        }
        self.sample = Some(sample);
        self.fill_window(shown);
        // Whoever turned the wheel away from the selection is not pulled back to it.
        if selection_was_visible {
            self.keep_selection_visible();
        }
        self.stay_within_rows();
    }

    fn fill_window(&mut self, shown: usize) {
        let from = (shown + 1).saturating_sub(TREND_SAMPLES).max(self.timeline.first());
        // Backwards in time would decode each key frame's readings again for every sample.
        self.window = (from..=shown).filter_map(|number| self.timeline.sample(number).ok()).collect();
    }

    /// Works out the rows anew: after another order, another narrowing.
    pub fn rank_anew(&mut self) {
        if let Some(sample) = &self.sample {
            self.rows = ranked(sample, &self.narrow, &self.order);
        }
        self.held_until = None;
        self.keep_selection_visible();
    }

    fn visible_rows(&self) -> usize {
        self.layout().map_or(1, |layout| usize::from(layout.rows.height)).max(1)
    }

    fn is_visible(&self, row: usize) -> bool {
        (self.scroll..self.scroll + self.visible_rows()).contains(&row)
    }

    fn stay_within_rows(&mut self) {
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
}
