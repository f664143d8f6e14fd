//! What the state is made of. Everybody may read it; only the state itself changes it.

use super::axis::{Strips, Zoom};
use super::effect::Samples;
use super::overview::Overview;
use super::parts::Parts;
use super::search::Search;
use super::trend::Trends;
use crate::look::clock::Zone;
use crate::look::columns;
use dozor_core::catalogue::Metric;
use dozor_core::deed::{Deed, Target};
use dozor_core::expr::Expression;
use dozor_core::findings::{Engine, Usual};
use dozor_core::lane::{Lane, Severity};
use dozor_core::rank::{Folds, Ledger, Persistence, RowId, RowRef, Table, Total};
use dozor_core::reading::ProcessKey;
use dozor_core::recording::{Mark, MarkKind};
use dozor_core::sample::Sample;
use dozor_core::timeline::{Progress, Timeline};
use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

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

/// Which moment is shown, of how many.
pub struct Time {
    /// All samples.
    pub timeline: Timeline,
    /// Where readings come from.
    pub mode: Mode,
    /// The sample that is looked at; the newest where none is.
    pub cursor: Option<usize>,
    /// Times as fast as it was that a recording is played.
    pub speed: f64,
    /// A moment that others are compared with, in nanoseconds since 1970.
    pub remembered: Option<i64>,
    /// A peak that is looked for.
    pub search: Option<Search>,
    /// Signs on the time axis, oldest first.
    pub signs: Vec<Mark>,
    /// How times are shown.
    pub zone: Zone,
    /// Times are shown in the zone of this machine, not of the one that is watched.
    pub own_zone: bool,
    /// Why nothing more will come.
    pub ended: Option<String>,
}

/// What was done and noted. What stands out the screen finds out itself.
pub fn signs(timeline: &Timeline) -> Vec<Mark> {
    let mut marks = timeline.marks();
    marks.retain(|mark| mark.kind != MarkKind::Finding);
    marks
}

impl Time {
    /// At the newest sample.
    pub fn new(timeline: Timeline) -> Time {
        Time {
            mode: Mode::Live,
            cursor: None,
            speed: 1.0,
            remembered: None,
            search: None,
            signs: signs(&timeline),
            zone: Zone::named(&timeline.host().time_zone),
            own_zone: false,
            ended: None,
            timeline,
        }
    }

    /// Number of the sample that is shown.
    pub fn shown(&self) -> Option<usize> {
        let last = self.timeline.end().checked_sub(1).filter(|_| !self.timeline.is_empty())?;
        Some(self.cursor.unwrap_or(last).clamp(self.timeline.first(), last))
    }

    /// Whether there is more than the strips show as they come: a recording, or history from before.
    pub fn has_overview(&self) -> bool {
        matches!(self.mode, Mode::Replay { .. }) || self.timeline.has_past()
    }
}

/// The shown moment, and what follows from it alone.
#[derive(Default)]
pub struct Moment {
    /// The sample that is shown.
    pub sample: Option<Arc<Sample>>,
    /// Those who are gone in the shown sample.
    pub gone: Option<Arc<Sample>>,
    /// Samples up to the shown one, oldest first, for the trends.
    pub window: Vec<Arc<Sample>>,
    /// Columns that can have no value at the shown moment.
    pub away: Vec<columns::Away>,
    /// What stands out at the shown moment, the worst first.
    pub standing_out: Vec<(Severity, Lane, String)>,
    /// Threads of the shown sample.
    pub thread_sample: Option<Arc<Sample>>,
    /// The shown sample over a longer time.
    pub averaged: Option<Arc<Sample>>,
}

/// The rows of the table.
#[derive(Default)]
pub struct Rows {
    /// All processes in order, narrowed or not.
    pub ordered: Vec<RowRef>,
    /// The rows, arranged.
    pub table: Table,
    /// What is known of each process, so that only those who do something are asked anew.
    pub ledger: Ledger,
    /// Of so many processes it is not known whether they should be shown.
    pub undecided: usize,
    /// So many processes are in rows.
    pub processes_shown: usize,
    /// Which ranking of the rows this is.
    pub ranked: u64,
    /// Totals of the rows that are seen and stand for several, by group: one for each of these metrics.
    pub totals: HashMap<usize, Vec<Total>>,
    /// The metrics of which they are.
    pub totals_of: Vec<&'static Metric>,
    /// What the marked processes have together.
    pub marked_totals: MarkedTotals,
    /// Largest values among the rows of the metrics whose columns have bars.
    pub largest: HashMap<&'static str, f64>,
    /// Trends of the rows that are seen.
    pub trends: Trends,
    /// How long processes have been near the top.
    pub persistence: Persistence,
    /// What is open below rows.
    pub folds: Folds,
    /// Cells by which command lines are moved to the left.
    pub pan: u16,
}

/// What the marked processes have together.
#[derive(Debug, Default)]
pub struct MarkedTotals {
    /// Which.
    pub keys: BTreeSet<ProcessKey>,
    /// The ranking that they belong to.
    pub ranked: u64,
    /// A total for each metric.
    pub totals: Vec<(&'static Metric, Total)>,
}

/// What is selected, marked and looked for among the rows.
#[derive(Default)]
pub struct Selection {
    /// The selected row.
    pub selected: Option<RowId>,
    /// Whether the selected one has a row, as of the last sample.
    pub has_row: bool,
    /// Where the selected row was last.
    pub selected_row: usize,
    /// First row on the screen.
    pub scroll: usize,
    /// Marked processes.
    pub marked: BTreeSet<ProcessKey>,
    /// Until when the order holds still.
    pub held_until: Option<Instant>,
    /// What is open over the screen lets the order hold still.
    pub held_by_sheet: bool,
    /// What somebody goes to from row to row.
    pub find: Option<Expression>,
}

/// What the lanes show beside their values: strips and parts.
#[derive(Default)]
pub struct Lanes {
    /// Time of a column of the strips.
    pub zoom: Zoom,
    /// What the strips show.
    pub strips: Strips,
    /// All of a recording on one line.
    pub overview: Overview,
    /// Parts of the chosen lane.
    pub parts: Parts,
    /// Whose users are shown, in words, or why they cannot be known.
    pub users_of: Option<Result<String, &'static str>>,
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
    pub(super) fn time(self) -> Option<Duration> {
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

/// What goes on beside the readings.
#[derive(Default)]
pub struct Session {
    /// A line for the person.
    pub message: Option<Message>,
    /// A recording that is being written.
    pub recording: Option<Recording>,
    /// How many processes the first reading has read, and of how many.
    pub reached: Option<(u32, u32)>,
    /// Readings come only when somebody asks for one.
    pub by_hand: bool,
    /// Dozor's own CPU time in percent of a core, where it was measured.
    pub own_cost: Option<f64>,
    /// The program is a load itself, on purpose: what it costs is no matter.
    pub loads: bool,
    /// Why nothing can be done to processes here.
    pub actions_refused: Option<&'static str>,
    /// What the mouse holds.
    pub drag: Option<Drag>,
    /// A file that is being made on another thread, of what, and since when.
    pub exporting: Option<(Arc<Progress>, Samples, Instant)>,
}

/// What would take something back: for each target what it was before.
#[derive(Clone, Debug, PartialEq)]
pub struct Undo {
    /// What was done, in words.
    pub name: String,
    /// What to do to whom.
    pub back: Vec<(Target, Deed)>,
}

/// Who acts here, and what can be taken back.
#[derive(Clone, Debug, Default)]
pub struct Deeds {
    /// The user.
    pub user: String,
    /// PID of this program, where it runs on the machine that is acted on.
    pub pid: Option<i64>,
    /// What can be taken back, the newest last.
    pub undo: Vec<Undo>,
    /// Those that were still there after a signal that should have ended them.
    pub still: Vec<ProcessKey>,
    /// What was done lately, the newest first.
    pub recent: Vec<Deed>,
    /// What is being taken back: what is done, and the first of those that it is done to.
    pub undoing: Vec<(Deed, ProcessKey)>,
}

/// What was found, and how far looking is.
#[derive(Default)]
pub struct Watching {
    /// Goes over every sample once.
    pub engine: Engine,
    /// What is usual on the machine, where a recorder of it knows.
    pub usual: Option<Usual>,
    /// Looking has begun.
    pub begun: bool,
    /// The sample that was looked at last, where it is the present.
    pub newest: Option<Arc<Sample>>,
    /// Findings from this number on have not rung yet.
    pub alarmed: usize,
    /// The choice that a finding advises, for the sheet of actions that opens next.
    pub advised: Option<&'static str>,
    /// Findings that were there when somebody last looked through them.
    pub seen: usize,
}
