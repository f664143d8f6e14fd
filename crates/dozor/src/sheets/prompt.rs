//! A line that is being typed on the screen: its purpose, what could be typed next, and what is wrong with it.

use crate::look::line_edit::LineEdit;
use crate::state::State;
use dozor_core::expr::{Completion, Expression, ExpressionError, completions};

/// So many completions are seen at once.
pub const OFFERED: u16 = 9;

/// What a typed line is for.
#[derive(Clone, Debug, PartialEq)]
pub enum Purpose {
    /// Narrowing; what was narrowed before comes back when it is given up.
    Narrow(Option<Expression>),
    /// Going to a process; what was looked for before comes back.
    GoTo(Option<Expression>),
    /// The note of a bookmark at an instant.
    Note(i64),
    /// A time to go to.
    Time,
    /// The name of a view.
    View,
    /// The name of a set of columns.
    Columns,
    /// The value of a setting.
    Setting(&'static str),
}

impl Purpose {
    /// The word before the line.
    pub fn word(&self) -> &'static str {
        match self {
            Purpose::Narrow(_) => "narrow",
            Purpose::GoTo(_) => "go to",
            Purpose::Note(_) => "note",
            Purpose::Time => "go to time",
            Purpose::View => "view",
            Purpose::Columns => "columns",
            Purpose::Setting(name) => name,
        }
    }

    /// Whether an expression is typed.
    pub fn is_expression(&self) -> bool {
        matches!(self, Purpose::Narrow(_) | Purpose::GoTo(_))
    }
}

/// What is being typed.
#[derive(Clone, Debug)]
pub struct Prompt {
    /// The line.
    pub line: LineEdit,
    /// What it is for.
    pub purpose: Purpose,
    /// What could stand at the caret.
    pub completions: Vec<Completion>,
    /// The completion that was chosen last, and the line with its caret before that.
    pub chosen: Option<(usize, String, usize)>,
    /// What is wrong with the line.
    pub error: Option<ExpressionError>,
    /// What is wrong with something that is no expression.
    pub problem: Option<String>,
    /// The line means nobody; the rows are still those of what was typed before.
    pub nobody: bool,
    /// Steps back in the history, and what was typed before.
    pub recalled: Option<(usize, String)>,
}

impl Prompt {
    /// A line that begins with a text.
    pub fn new(purpose: Purpose, text: &str) -> Prompt {
        Prompt {
            line: LineEdit::new(text),
            purpose,
            completions: vec![],
            chosen: None,
            error: None,
            problem: None,
            nobody: false,
            recalled: None,
        }
    }

    /// Lines that it takes above the hint line, on a screen of a height.
    pub fn lines(&self, height: u16) -> u16 {
        let offered = (self.completions.len() as u16).min(OFFERED).min(height / 3);
        1 + offered
    }

    /// Goes through the history, to older lines or to newer ones.
    pub fn recall(&mut self, history: &[String], older: bool) {
        let (steps, typed) = self.recalled.take().unwrap_or_else(|| (0, self.line.text()));
        let steps = if older { (steps + 1).min(history.len()) } else { steps.saturating_sub(1) };
        let text = if steps == 0 { &typed } else { &history[history.len() - steps] };
        self.line = LineEdit::new(text);
        self.recalled = Some((steps, typed));
        self.chosen = None;
        self.completions.clear();
    }

    /// Takes the next completion, or the one before.
    pub fn complete(&mut self, on: bool) {
        let count = self.completions.len();
        if count == 0 {
            return;
        }
        let (at, text, caret) = match self.chosen.take() {
            Some((at, text, caret)) => ((at + if on { 1 } else { count - 1 }) % count, text, caret),
            None => (if on { 0 } else { count - 1 }, self.line.text(), self.line.caret_bytes()),
        };
        let Completion { replace, word, .. } = &self.completions[at];
        let blank = if word.ends_with(['(', '}']) || text[caret..].starts_with(' ') { "" } else { " " };
        let done = format!("{}{word}{blank}{}", &text[..replace.start], &text[caret..]);
        self.line.set(&done, replace.start + word.len() + blank.len());
        self.chosen = Some((at, text, caret));
    }
}

impl State {
    /// Works out what could be typed next. `always` also where no word was begun.
    pub fn offer_completions(&mut self, always: bool) {
        let sample = self.sample.clone();
        let Some(prompt) = self.prompt.as_mut().filter(|prompt| prompt.purpose.is_expression()) else {
            return;
        };
        let (text, caret) = (prompt.line.text(), prompt.line.caret_bytes());
        prompt.chosen = None;
        prompt.completions = completions(&text, caret, sample.as_deref());
        let begun = prompt.completions.first().is_some_and(|first| !first.replace.is_empty());
        if !begun && !always {
            prompt.completions.clear();
        }
    }
}
