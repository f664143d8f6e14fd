//! The values of everything that can be set, and of what is kept when the screen is left.

use super::configured::Configured;
use super::view::View;
use crate::look::columns::ColumnSet;
use crate::look::keymap::KeyMap;
use crate::look::lane_stack::LaneStack;
use crate::look::symbols::Symbols;
use crate::look::theme::{Found, Shade, Theme};
use dozor_core::lane::Lane;
use dozor_core::rank::{Arrange, Narrowing, Order};
use dozor_core::units::Steps;
use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

/// How long a process is given to end where nobody says otherwise.
pub const PATIENCE: Duration = Duration::from_secs(5);

/// How much of a command line is shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum CommandForm {
    /// The program's base name with its arguments.
    #[default]
    Arguments,
    /// The whole command line with the way to the program.
    Whole,
    /// The program's base name alone.
    Name,
}

impl CommandForm {
    /// All of them, in the order of their key.
    pub const ALL: [CommandForm; 3] = [CommandForm::Arguments, CommandForm::Whole, CommandForm::Name];

    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            CommandForm::Arguments => "arguments",
            CommandForm::Whole => "whole",
            CommandForm::Name => "name",
        }
    }
}

/// The values.
#[derive(Clone, Debug)]
#[allow(clippy::struct_excessive_bools, reason = "each is a setting of its own")]
pub struct Values {
    /// Shares of CPU time are of the whole machine, not of one core.
    pub of_machine: bool,
    /// Rates are means over this time; the last sample alone where it is zero.
    pub mean: Duration,
    /// Steps in which sizes are shown.
    pub steps: Steps,
    /// Times are counted back from the shown moment.
    pub times_relative: bool,
    /// How much of a command line is shown.
    pub command_form: CommandForm,
    /// The mouse is ours; else it is the terminal's, and text can be selected with it.
    pub mouse: bool,
    /// Nominal time between readings.
    pub every: Duration,
    /// How long a process is given to end before it counts as still there.
    pub patience: Duration,
    /// Threads are shown below their processes.
    pub threads: bool,
    /// The chosen lane; none is the overview.
    pub lane: Option<Lane>,
    /// Order and form of the lanes.
    pub lanes: LaneStack,
    /// Order of the processes.
    pub order: Order,
    /// Which processes are shown.
    pub narrowing: Narrowing,
    /// How rows are arranged.
    pub arrange: Arrange,
    /// Columns that somebody chose, for each lane and the overview.
    pub column_sets: HashMap<Option<Lane>, ColumnSet>,
    /// The saved view that was chosen last.
    pub view: Option<String>,
    /// Which key does what.
    pub keys: KeyMap,
    /// Expressions that were typed, the newest last.
    pub history: Vec<String>,
    /// Titles of the tables whose explanations have been seen.
    pub explained: Vec<String>,
    /// Findings that somebody does not want to see, by name: since when and until when.
    pub quiet: BTreeMap<String, (i64, i64)>,
    /// What is configured, and where it comes from.
    pub configured: Configured,
}

impl Values {
    /// As the program comes, with a time between readings.
    pub fn new(every: Duration) -> Values {
        Values {
            of_machine: false,
            mean: Duration::ZERO,
            steps: Steps::Binary,
            times_relative: false,
            command_form: CommandForm::default(),
            mouse: true,
            every,
            patience: PATIENCE,
            threads: false,
            lane: None,
            lanes: LaneStack::default(),
            order: Order::by_cpu(),
            narrowing: Narrowing::default(),
            arrange: Arrange::Flat,
            column_sets: HashMap::new(),
            view: None,
            keys: KeyMap::default(),
            history: vec![],
            explained: vec![],
            quiet: BTreeMap::new(),
            configured: Configured::default(),
        }
    }

    /// Looks at a lane, or at the overview, with the order that is usual there.
    pub fn look_at(&mut self, lane: Option<Lane>) {
        self.lane = lane;
        self.order = usual_order(lane);
    }

    /// What is shown now, under a name.
    pub fn view_called(&self, name: &str) -> View {
        let shown = self.lanes.shown(None);
        let folded = Lane::ALL.into_iter().filter(|lane| self.lanes.is_folded(*lane)).collect();
        View {
            name: name.to_owned(),
            shipped: false,
            lane: self.lane,
            lanes: (shown != Lane::ALL).then_some(shown),
            folded,
            columns: self.column_sets.get(&self.lane).cloned(),
            order: Some(self.order),
            narrow: self.narrowing.expression.clone(),
            whose: self.narrowing.whose,
            active: self.narrowing.active,
            arrange: self.arrange,
        }
    }

    /// Sets what a view says.
    pub fn show(&mut self, view: &View) {
        self.look_at(view.lane);
        self.lanes = LaneStack::of(view.lanes.as_deref().unwrap_or(&Lane::ALL), &view.folded);
        match &view.columns {
            Some(columns) => drop(self.column_sets.insert(view.lane, columns.clone())),
            None => drop(self.column_sets.remove(&view.lane)),
        }
        self.order = view.order.unwrap_or(self.order);
        self.narrowing = self.narrowing.cleared();
        self.narrowing.expression.clone_from(&view.narrow);
        (self.narrowing.whose, self.narrowing.active) = (view.whose, view.active);
        self.arrange = view.arrange;
        self.view = Some(view.name.clone());
    }

    /// Columns of the chosen lane, or of the overview.
    pub fn columns(&self) -> &ColumnSet {
        self.column_sets.get(&self.lane).unwrap_or_else(|| ColumnSet::usual(self.lane))
    }

    /// The chosen theme as this terminal can show it; none where nothing is known of the terminal.
    pub fn theme(&self) -> Option<Theme> {
        let configured = &self.configured;
        let own = configured.themes.iter().find(|own| own.name == configured.theme);
        let shade = match configured.theme.as_str() {
            "dark" => Some(Shade::Dark),
            "light" => Some(Shade::Light),
            "mono" => Some(Shade::Mono),
            _ => None,
        };
        let found = configured.found?;
        let found = if own.is_some() { Found::wanting_colours(found) } else { found };
        let theme = found.theme(shade, configured.colors);
        Some(match own {
            Some(own) => theme.with(own.clone()),
            None => theme,
        })
    }

    /// The chosen signs, or those that the locale says.
    pub fn symbols(&self) -> Symbols {
        self.configured.symbols.unwrap_or_else(|| Symbols::detect(|name| std::env::var(name).ok()))
    }
}

/// The order that a lane comes with.
pub fn usual_order(lane: Option<Lane>) -> Order {
    lane.map_or_else(Order::by_cpu, |lane| Order::by(lane.lens()))
}
