//! What can be open over the screen: the sheet of signals, a list to pick from, the columns, the settings.

pub mod drawing;
pub mod pick;
pub mod prompt;

use crate::look::action::Action;
use crate::look::columns::{OWN, What};
use crate::look::line_edit::LineEdit;
use crate::machine::Target;
use crate::settings::table::SETTINGS;
use crate::sheets::pick::{Kind, Picker, metrics};
use crate::state::State;
use dozor_core::compare::{Compared, Comparison, Pair, Presence, Side};
use dozor_core::signals::{self, Signal};
use ratatui::layout::Rect;

/// One of them.
#[derive(Clone, Debug)]
pub enum Sheet {
    /// Choose a signal.
    Act(ActSheet),
    /// Pick from a list.
    Pick(Picker),
    /// Choose columns.
    Columns(ColumnsSheet),
    /// Look at the settings and change them.
    Settings(SettingsSheet),
    /// See what differs between two moments.
    Compare(Box<CompareSheet>),
}

/// The lines of a list that are seen.
#[derive(Clone, Copy, Debug)]
pub struct List {
    /// Where they stand.
    pub area: Rect,
    /// The first of them.
    pub first: usize,
}

/// So many targets are named.
pub const NAMED: usize = 6;
/// Lines of the table that show what the chosen columns look like.
pub const PREVIEW: u16 = 4;
/// Lines below a list that explain the chosen line.
const EXPLAINED: u16 = 3;

impl Sheet {
    /// The chosen line.
    pub fn at(&mut self) -> &mut usize {
        match self {
            Sheet::Act(sheet) => &mut sheet.at,
            Sheet::Pick(picker) => &mut picker.at,
            Sheet::Columns(sheet) => &mut sheet.at,
            Sheet::Settings(sheet) => &mut sheet.at,
            Sheet::Compare(sheet) => &mut sheet.at,
        }
    }

    /// What is typed, where letters search.
    pub fn typed(&mut self) -> Option<&mut LineEdit> {
        match self {
            Sheet::Act(sheet) => Some(&mut sheet.typed),
            Sheet::Pick(picker) => Some(&mut picker.typed),
            Sheet::Columns(sheet) => Some(&mut sheet.typed),
            Sheet::Settings(_) | Sheet::Compare(_) => None,
        }
    }

    /// Number of its lines.
    pub fn lines(&self, state: &State) -> usize {
        match self {
            Sheet::Act(sheet) => sheet.matching().len(),
            Sheet::Pick(picker) => picker.items(state).len(),
            Sheet::Columns(sheet) => sheet.items(state).len(),
            Sheet::Settings(_) => SETTINGS.len(),
            Sheet::Compare(sheet) => sheet.lines().len(),
        }
    }

    /// The action whose key closes it as well, as long as nothing is typed. Where names are searched that may begin with any letter there is none.
    pub fn opener(&self) -> Option<Action> {
        match self {
            Sheet::Act(_) | Sheet::Columns(_) => None,
            Sheet::Pick(picker) => picker.kind.action(),
            Sheet::Settings(_) => Some(Action::Settings),
            Sheet::Compare(_) => Some(Action::Difference),
        }
    }

    /// Where its text stands on a screen; the title line is above it.
    pub fn place(&self, screen: Rect) -> Rect {
        let height = match self {
            Sheet::Act(sheet) => sheet.head_lines() + 12,
            Sheet::Pick(Picker { kind: Kind::Arrange, .. }) => 10,
            Sheet::Pick(Picker { kind: Kind::Help, .. }) => screen.height,
            Sheet::Pick(_) => 18,
            Sheet::Columns(_) => (screen.height * 2 / 3).max(18),
            Sheet::Settings(_) => SETTINGS.len() as u16 + EXPLAINED + 5,
            Sheet::Compare(_) => screen.height,
        };
        let height = height.min(screen.height.saturating_sub(2)).max(1);
        let y = screen.bottom().saturating_sub(1 + height) + 1;
        Rect { x: screen.x + 2, y, width: screen.width.saturating_sub(4), height: height - 1 }
    }

    /// The part of its list that is seen, scrolled so that the chosen line is among it.
    pub fn list(&self, screen: Rect) -> List {
        let place = self.place(screen);
        let (head, chosen, foot) = match self {
            Sheet::Act(sheet) => (sheet.head_lines(), sheet.at, 0),
            Sheet::Pick(picker) => (2, picker.at, 0),
            Sheet::Columns(sheet) => (2 + PREVIEW, sheet.at, EXPLAINED),
            Sheet::Settings(sheet) => (2, sheet.at, EXPLAINED),
            Sheet::Compare(sheet) => (3, sheet.at, 0),
        };
        let height = place.height.saturating_sub(head + foot);
        let area = Rect { y: place.y + head, height, ..place };
        List { area, first: (chosen + 1).saturating_sub(usize::from(height)) }
    }
}

/// Signals for some targets.
#[derive(Clone, Debug)]
pub struct ActSheet {
    /// Who will get it.
    pub targets: Vec<Target>,
    /// All signals.
    pub signals: Vec<Signal>,
    /// What is typed.
    pub typed: LineEdit,
    /// Place among those that match.
    pub at: usize,
}

impl ActSheet {
    /// Signals that match what is typed, by number, name or words, the best first.
    pub fn matching(&self) -> Vec<&Signal> {
        let typed = self.typed.text().trim().to_lowercase();
        let typed = typed.strip_prefix("sig").unwrap_or(&typed);
        let rank = |signal: &&Signal| {
            let (name, number) = (signal.name.to_lowercase(), signal.number.to_string());
            let words = signal.words.to_lowercase();
            if name == typed || number == typed {
                Some(0)
            } else if name.starts_with(typed) || number.starts_with(typed) {
                Some(1)
            } else if words.split(' ').any(|word| word.starts_with(typed)) {
                Some(2)
            } else {
                (name.contains(typed) || words.contains(typed)).then_some(3)
            }
        };
        let mut found: Vec<(i32, &Signal)> =
            self.signals.iter().filter_map(|signal| Some((rank(&signal)?, signal))).collect();
        found.sort_by_key(|(rank, _)| *rank);
        found.into_iter().map(|(_, signal)| signal).collect()
    }

    /// Lines above the list: who is meant, and what is searched for.
    pub fn head_lines(&self) -> u16 {
        self.notes().len() as u16 + 1
    }

    /// Who is meant, and what is worth knowing of them.
    pub fn notes(&self) -> Vec<String> {
        if let [one] = &self.targets[..] {
            let children = (one.children > 0).then(|| children_words(one.children));
            return one.special().map(str::to_owned).into_iter().chain(children).collect();
        }
        let named = self.targets.iter().take(NAMED).map(|target| {
            let children = if target.children > 0 {
                format!(", {}", children_words(target.children))
            } else {
                String::new()
            };
            let special = target.special().map_or(String::new(), |special| format!("; {special}"));
            format!("✓ {} of {}{children}{special}", target.label(), target.user)
        });
        let more = self.targets.len().checked_sub(NAMED + 1).map(|more| format!("  and {} more", more + 1));
        named.chain(more).collect()
    }

    /// Begins with the polite stop.
    pub fn new(targets: Vec<Target>) -> ActSheet {
        ActSheet { targets, signals: signals::all().collect(), typed: LineEdit::default(), at: 0 }
    }
}

fn children_words(children: usize) -> String {
    if children == 1 {
        "its child lives on when it ends".to_owned()
    } else {
        format!("its {children} children live on when it ends")
    }
}

/// Columns of a lane, and all others that there could be, narrowed by what is typed.
#[derive(Clone, Debug, Default)]
pub struct ColumnsSheet {
    /// What is typed.
    pub typed: LineEdit,
    /// Place among those that match.
    pub at: usize,
    /// The named set that was taken last.
    pub set: Option<String>,
}

impl ColumnsSheet {
    /// Columns that match: those of the lane in their order, then the others.
    pub fn items(&self, state: &State) -> Vec<What> {
        let typed = self.typed.text().trim().to_lowercase();
        let own = OWN
            .iter()
            .filter(|(_, alias, help)| alias.contains(&typed) || help.to_lowercase().contains(&typed));
        let all = metrics(&typed).into_iter().map(What::Metric).chain(own.map(|(what, ..)| *what));
        let set = state.columns();
        let mut all: Vec<What> = all.collect();
        // Those that are found by their name first, then those that are shown, in their order.
        all.sort_by_key(|what| {
            let by_help = !what.alias().contains(&typed);
            (by_help, set.find(*what).unwrap_or(usize::MAX))
        });
        all
    }
}

/// The settings.
#[derive(Clone, Debug, Default)]
pub struct SettingsSheet {
    /// The chosen one.
    pub at: usize,
    /// What was changed, the newest last: the setting, its value before, and whether the file had it.
    pub undo: Vec<(&'static str, String, Option<String>)>,
}

/// Spans up to the compared moments: in words and in seconds; the sample alone first.
pub const SPANS: [(&str, i64); 6] = [
    ("single samples", 0),
    ("10 s up to each", 10),
    ("1 min up to each", 60),
    ("5 min up to each", 300),
    ("15 min up to each", 900),
    ("1 h up to each", 3_600),
];

/// What differs between two moments.
#[derive(Clone)]
pub struct CompareSheet {
    /// The moments, in nanoseconds since 1970.
    pub walls: [i64; 2],
    /// Place among [`SPANS`].
    pub span: usize,
    /// Both sides.
    pub sides: [Side; 2],
    /// What differs.
    pub comparison: Comparison,
    /// The line that is looked at.
    pub at: usize,
}

impl std::fmt::Debug for CompareSheet {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("CompareSheet")
            .field("walls", &self.walls)
            .field("at", &self.at)
            .finish_non_exhaustive()
    }
}

/// A line of a comparison.
#[derive(Clone, Copy, Debug)]
pub enum Differing<'a> {
    /// A title.
    Title(&'static str),
    /// A metric of the machine or of one of its parts.
    Pair(&'a Pair),
    /// A process.
    Process(&'a Compared),
}

impl CompareSheet {
    /// Its lines: the machine, the processes, the parts.
    pub fn lines(&self) -> Vec<Differing<'_>> {
        /// What weighs less is left to the command line.
        const LEAST: f64 = 0.01;
        const MOST: usize = 100;
        // A tick more or less of a process that hardly runs is none.
        const NOISE: f64 = 0.05;
        let Comparison { machine, parts, processes, by_program } = &self.comparison;
        let mut lines = vec![];
        let heavy = |pair: &&Pair| pair.weight >= LEAST;
        if processes.is_empty() && machine.is_empty() && parts.is_empty() {
            lines.push(Differing::Title("nothing differs"));
        }
        if !processes.is_empty() {
            let title = if *by_program { "Programs" } else { "Processes" };
            lines.push(Differing::Title(title));
            // Those that are there or not matter whatever they do.
            let light = |process: &&Compared| process.weight < NOISE && process.presence == Presence::Both;
            let few = processes.iter().filter(|process| !light(process)).take(MOST);
            lines.extend(few.map(Differing::Process));
        }
        for (title, pairs) in [("The machine", machine), ("Its parts", parts)] {
            if pairs.iter().any(|pair| heavy(&pair)) {
                lines.push(Differing::Title(title));
                lines.extend(pairs.iter().filter(heavy).map(Differing::Pair));
            }
        }
        lines
    }
}
