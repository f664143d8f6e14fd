//! Selecting, marking and acting on processes.

use super::State;
use super::data::Mode;
use super::effect::Effect;
use crate::look::action::{Action, Move};
use dozor_core::deed::{Target, target, targets};
use dozor_core::exited::is_gathered;
use dozor_core::expr::Expression;
use dozor_core::lane::Severity;
use dozor_core::rank::{RowId, RowRef, Whose};
use dozor_core::reading::ProcessKey;
use dozor_core::row::Row as _;
use std::collections::BTreeSet;
use std::time::Duration;

/// The order holds still so long after somebody moved the selection.
const HOLD: Duration = Duration::from_secs(3);

/// Where a search begins.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// At the selected row itself.
    Here,
    /// Behind it.
    On,
    /// Before it, backwards.
    Back,
}

impl State {
    /// Moves among the parts where somebody works with them, else among the rows.
    pub fn go(&mut self, to: Move) {
        if self.lanes.parts.in_focus {
            return self.move_in_parts(to);
        }
        let page = self.layout().map_or(1, |layout| layout.rows.height as isize).max(2) - 1;
        match to {
            Move::Down => self.move_selection(1),
            Move::Up => self.move_selection(-1),
            Move::PageDown => self.move_selection(page),
            Move::PageUp => self.move_selection(-page),
            Move::First => self.select_row(0),
            Move::Last => self.select_row(self.rows.table.lines.len().saturating_sub(1)),
        }
    }

    fn move_selection(&mut self, rows: isize) {
        let target = match (&self.selection.selected, self.row_of_selected()) {
            (None, _) => self.selection.scroll,
            (Some(_), Some(row)) => row.saturating_add_signed(rows),
            // The selected process is gone: go on from where it was.
            (Some(_), None) => self.selection.selected_row,
        };
        self.select_row(target);
    }

    /// Selects a row, or the last one where there are not as many.
    pub fn select_row(&mut self, row: usize) {
        let row = row.min(self.rows.table.lines.len().saturating_sub(1));
        self.selection.selected = self.id_of_row(row);
        self.selection.selected_row = row;
        self.hold_order();
        self.keep_selection_visible();
    }

    /// Where nothing is selected, or what is selected cannot be seen because of the narrowing, the first process that
    /// can be acted on is. A process that has ended stays selected, so that nobody acts on its neighbour by accident.
    fn select_something(&mut self) {
        let sample = self.moment.sample.as_ref();
        let ended = match &self.selection.selected {
            Some(RowId::Process(key)) => sample.is_some_and(|sample| sample.find(*key).is_none()),
            Some(RowId::Thread(_) | RowId::Group(_) | RowId::IdleThreads(_)) | None => false,
        };
        if !ended && self.row_of_selected().is_none() {
            let is_there = |row: &usize| !self.processes_of_row(*row).is_empty();
            let first = (self.selection.scroll..self.rows.table.lines.len()).find(is_there);
            self.select_row(first.unwrap_or(self.selection.scroll));
        }
    }

    /// Processes of the selected row.
    fn selected_processes(&self) -> Vec<ProcessKey> {
        self.row_of_selected().map_or(vec![], |row| self.processes_of_row(row))
    }

    /// Marks the selected process, or takes the mark off; of several, all are marked unless all are.
    pub fn mark_selected(&mut self) {
        self.select_something();
        let keys: Vec<ProcessKey> =
            self.selected_processes().into_iter().filter(|key| !is_gathered(*key)).collect();
        if keys.iter().all(|key| self.selection.marked.contains(key)) {
            self.selection.marked.retain(|key| !keys.contains(key));
        } else {
            self.selection.marked.extend(keys);
        }
        self.move_selection(1);
    }

    /// All processes that are shown, also those in totals.
    pub(super) fn shown_processes(&self) -> BTreeSet<ProcessKey> {
        let rows =
            (0..self.rows.table.lines.len()).filter(|row| self.line(*row).is_some_and(|line| !line.context));
        rows.flat_map(|row| self.processes_of_row(row)).collect()
    }

    /// Marks all processes that are shown.
    pub fn mark_all(&mut self) {
        self.selection.marked.extend(self.shown_processes());
    }

    /// Marks those of the shown processes that are not marked, and only them.
    pub fn invert_marks(&mut self) {
        let shown = self.shown_processes();
        self.selection.marked = shown.difference(&self.selection.marked).copied().collect();
    }

    /// Rows that the search finds.
    fn matching_rows(&self) -> Vec<usize> {
        let (Some(find), Some(sample)) = (&self.selection.find, &self.moment.sample) else { return vec![] };
        let bound = find.bind(sample, &self.values.narrowing.me);
        let found = |row: &usize| {
            let line = self.line(*row);
            let is_process = line.is_some_and(|line| !matches!(line.row, Some(RowRef::Thread(_))));
            is_process && self.view_of_row(*row).is_some_and(|view| bound.holds(&view) == Some(true))
        };
        (0..self.rows.table.lines.len()).filter(found).collect()
    }

    /// Selects the next row that the search finds; behind the last one the first follows.
    pub fn go_to_match(&mut self, way: Way) {
        if self.selection.find.is_none() {
            if way != Way::Here {
                let text = format!("no search yet; {} starts one", self.key(Action::GoTo));
                self.say(Severity::Notice, text);
            }
            return;
        }
        let found = self.matching_rows();
        let from = self.row_of_selected();
        let next = match (way, from) {
            (_, None) => found.iter().find(|row| **row >= self.selection.scroll),
            (Way::Here, Some(from)) => found.iter().find(|row| **row >= from),
            (Way::On, Some(from)) => found.iter().find(|row| **row > from),
            (Way::Back, Some(from)) => found.iter().rev().find(|row| **row < from),
        };
        let around = if way == Way::Back { found.last() } else { found.first() };
        if let Some(row) = next.or(around).copied() {
            self.select_row(row);
            if way != Way::Here {
                self.say_match();
            }
        } else if way != Way::Here {
            self.say(Severity::Notice, "no row that is shown matches".to_owned());
        }
    }

    /// Selects the parent of the selected process.
    pub fn go_to_parent(&mut self) {
        let parent = self.selected_processes().first().copied().and_then(|key| {
            let sample = self.moment.sample.as_ref()?;
            let parent = sample.now.processes[sample.find(key)?].ppid.value()?;
            sample
                .now
                .processes
                .iter()
                .find(|row| row.pid.value() == Some(parent))
                .map(|row| (parent, row.key()))
        });
        let row = parent.and_then(|(_, key)| {
            (0..self.rows.table.lines.len()).find(|row| self.id_of_row(*row) == Some(RowId::Process(key)))
        });
        match (parent, row) {
            (_, Some(row)) => self.select_row(row),
            (Some((pid, _)), None) => {
                let text = format!("the parent, PID {pid}, is not among the rows that are shown");
                self.say(Severity::Notice, text);
            }
            (None, _) => {
                self.say(Severity::Notice, "its parent is not among the processes here".to_owned());
            }
        }
    }

    /// Says how many the search finds, and the keys that go on.
    pub fn say_match(&mut self) {
        let found = self.matching_rows();
        let place = self.row_of_selected().and_then(|row| found.iter().position(|other| *other == row));
        let (next, previous) = (self.key(Action::NextMatch), self.key(Action::PreviousMatch));
        let text = match (place, found.len()) {
            (_, 0) => "no row that is shown matches".to_owned(),
            (Some(place), many) => format!("{} of {many}; {next} and {previous} go on", place + 1),
            (None, many) => format!("{many} match; {next} and {previous} go to them"),
        };
        self.say(Severity::Fine, text);
    }

    /// Shows what is below the selected row; where nothing is, the command is moved.
    pub fn open_row(&mut self) {
        let Some(row) = self.row_of_selected() else { return self.pan(true) };
        match self.line(row).and_then(|line| line.open) {
            Some(false) => self.set_open(row, true),
            Some(true) => self.select_row(row + 1),
            None => self.pan(true),
        }
    }

    /// Folds what is below the selected row; where that is done, goes to the row above it.
    pub fn close_row(&mut self) {
        let Some(row) = self.row_of_selected() else { return self.pan(false) };
        let Some(line) = self.line(row) else { return };
        if line.open == Some(true) {
            self.set_open(row, false);
        } else if line.depth > 0 {
            let above =
                (0..row).rev().find(|above| self.line(*above).is_some_and(|other| other.depth < line.depth));
            self.select_row(above.unwrap_or(row));
        } else {
            self.pan(false);
        }
    }

    /// Opens or folds a row; all others stay in place.
    pub fn set_open(&mut self, row: usize, open: bool) {
        let Some(id) = self.id_of_row(row) else { return };
        self.rows.folds.set(&id, open);
        self.arrange_anew();
        self.selection.selected = Some(id);
        self.hold_order();
        self.keep_selection_visible();
    }

    /// Folds all rows, or opens all.
    pub fn fold_all_rows(&mut self) {
        self.rows.folds.turn_all();
        self.rank_anew();
    }

    /// Moves along command lines.
    pub fn pan(&mut self, right: bool) {
        const STEP: u16 = 8;
        /// No command line is kept longer.
        const FURTHEST: u16 = 4096;
        let pan = if right { self.rows.pan + STEP } else { self.rows.pan.saturating_sub(STEP) };
        self.rows.pan = pan.min(FURTHEST);
    }

    /// A process of the shown moment as a target.
    pub fn target(&self, key: ProcessKey) -> Option<Target> {
        target(self.moment.sample.as_ref()?, key)
    }

    /// The marked processes, or else the selected one.
    pub fn targets(&self) -> Vec<Target> {
        let keys = if self.selection.marked.is_empty() {
            self.selected_processes()
        } else {
            self.selection.marked.iter().copied().collect()
        };
        self.moment.sample.as_ref().map_or(vec![], |sample| targets(sample, &keys))
    }

    /// The marked processes, or else the selected one; where there is none that can be acted on, says so.
    pub fn targets_to_act_on(&mut self) -> Option<Vec<Target>> {
        if let Some(reason) = self.session.actions_refused {
            self.say(Severity::Notice, reason.to_owned());
            return None;
        }
        if self.selection.marked.is_empty() {
            let selected = self.selection.selected.clone();
            self.select_something();
            // Rows move: what stands at the top now may be another one than when the hand went to the key.
            if self.selection.selected != selected && self.rows.table.lines.len() > 1 {
                let name = self.targets().first().map(Target::label);
                let text = format!(
                    "selected {}; {} again acts on it",
                    name.unwrap_or_default(),
                    self.key(Action::Act)
                );
                self.say(Severity::Notice, text);
                return None;
            }
        }
        let targets = self.targets();
        if targets.is_empty() {
            let is_thread = matches!(self.selection.selected, Some(RowId::Thread(_) | RowId::IdleThreads(_)));
            let text = if is_thread {
                "a thread gets no signal of its own; select its process"
            } else {
                "that is no process any more; select another"
            };
            self.say(Severity::Notice, text.to_owned());
            return None;
        }
        Some(targets)
    }

    /// The selected process, where one is to be looked into; says so where there is none.
    pub fn process_to_inspect(&mut self) -> Option<ProcessKey> {
        let of_thread = match &self.selection.selected {
            Some(RowId::Thread(_) | RowId::IdleThreads(_)) => self.row_of_selected().and_then(|row| {
                let tree = (0..=row).rev().map(|row| self.id_of_row(row));
                tree.flatten().find_map(|id| match id {
                    RowId::Process(key) => Some(key),
                    RowId::Thread(_) | RowId::IdleThreads(_) | RowId::Group(_) => None,
                })
            }),
            _ => None,
        };
        if of_thread.is_some() {
            return of_thread;
        }
        self.select_something();
        match &self.selected_processes()[..] {
            [one] if !is_gathered(*one) => Some(*one),
            [] => {
                self.say(Severity::Notice, "that is no process any more; select another".to_owned());
                None
            }
            _ => {
                self.say(Severity::Notice, "several stand in this row; open it and select one".to_owned());
                None
            }
        }
    }

    /// Selects the process with a PID, where it is there.
    pub fn select_pid(&mut self, pid: i64) {
        let rows = self.moment.sample.as_ref().map(|sample| sample.now.clone());
        let row = rows.iter().flat_map(|now| &now.processes).find(|row| row.pid.value() == Some(pid));
        if let Some(row) = row {
            self.selection.selected = Some(RowId::Process(row.key()));
            self.hold_order();
            self.keep_selection_visible();
        }
    }

    /// The order holds still for a while.
    pub fn hold_order(&mut self) {
        self.selection.held_until = Some(self.now + HOLD);
    }

    /// Gives something of the marked processes, or else of the selected one, to the clipboard.
    pub fn copy(&mut self, what: impl Fn(&Target) -> String) {
        let texts: Vec<String> = self.targets().iter().map(what).collect();
        if texts.is_empty() {
            self.say(Severity::Notice, "select a process first".to_owned());
            return;
        }
        let text = texts.join("\n");
        let shown = if texts.len() == 1 { text.clone() } else { format!("{} lines", texts.len()) };
        self.say(Severity::Fine, format!("given to the terminal's clipboard: {shown}"));
        self.outbox.push(Effect::Copy(text));
    }

    /// Takes all marks off.
    pub fn clear_marks(&mut self) {
        self.selection.marked.clear();
    }

    /// Scrolls to a row, no further than to the last ones.
    pub fn scroll_to(&mut self, row: usize) {
        self.selection.scroll = row;
        self.stay_within_rows();
    }

    /// What is open over the screen lets the order hold still, or not.
    pub fn hold_for_sheet(&mut self, held: bool) {
        self.selection.held_by_sheet = held;
    }

    /// What the keys go to from row to row.
    pub fn look_for(&mut self, expression: Option<Expression>) {
        self.selection.find = expression;
    }

    /// Takes off what narrows; else the selection and the marks.
    pub fn back(&mut self) {
        if self.cancel_export() {
            return;
        }
        if self.time.search.take().is_some() {
            self.session.message = None;
            return;
        }
        if self.session.message.take().is_some() {
            return;
        }
        let narrowing = &mut self.values.narrowing;
        if self.lanes.parts.in_focus || self.lanes.parts.selected.is_some() {
            self.lanes.parts.in_focus = false;
            self.select_part(None);
        } else if self.selection.find.take().is_some() {
            // What was looked for is no longer drawn out.
        } else if narrowing.expression.take().is_some() {
            self.rank_anew();
        } else if narrowing.whose != Whose::Everyone || narrowing.active || narrowing.pids.is_some() {
            *narrowing = narrowing.cleared();
            self.rank_anew();
        } else if self.selection.selected.take().is_some() {
            self.selection.scroll = 0;
            self.selection.held_until = None;
        } else if !self.selection.marked.is_empty() {
            self.selection.marked.clear();
        } else if self.time.mode == Mode::Live && self.time.cursor.is_some() {
            // Nothing else is left to take back; the moment stays, since somebody went there.
            let text = format!("this is an earlier moment; {} resumes", self.key(Action::Live));
            self.say(Severity::Notice, text);
        }
    }
}
