//! The line that is typed, and what it does as one types.

use super::super::After;
use crate::look::line_edit::LineEdit;
use crate::settings::table::Setting;
use crate::state::State;
use crate::state::selection::Way;
use dozor_core::expr::{Completion, Expression, ExpressionError, Node, completions};
use dozor_core::lane::Severity;
use dozor_core::recording::MarkKind;

/// What a typed line is for.
#[derive(Clone)]
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
    /// The name of a set of charts.
    Charts,
    /// Metrics for a chart.
    Metric,
    /// The value of a setting.
    Setting(&'static Setting),
    /// A value of a rule: its name, and what it is.
    Limit(&'static str, &'static str),
}

/// What is being typed.
pub struct Prompt {
    pub line: LineEdit,
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

    /// For an expression that narrows, beginning with the present one.
    pub fn narrowing(state: &State) -> Prompt {
        let before = state.values.narrowing.expression.clone();
        let text = before.as_ref().map_or(String::new(), |expression| expression.text().to_owned());
        Prompt::new(Purpose::Narrow(before), &text)
    }

    /// For an expression to go to.
    pub fn going(state: &State) -> Prompt {
        Prompt::new(Purpose::GoTo(state.selection().find.clone()), "")
    }

    /// For a note at the shown moment, where there is one.
    pub fn note(state: &State) -> Option<Prompt> {
        let sample = state.moment().sample.as_ref()?;
        Some(Prompt::new(Purpose::Note(sample.now.wall_ns()), ""))
    }

    /// For a time to go to, where there is any.
    pub fn time(state: &State) -> Option<Prompt> {
        (!state.time().timeline.is_empty()).then(|| Prompt::new(Purpose::Time, ""))
    }

    /// For the name of a view, beginning with that of the present one.
    pub fn view(state: &State) -> Prompt {
        Prompt::new(Purpose::View, &state.values.view.clone().unwrap_or_default())
    }

    /// Whether an expression is typed.
    pub fn is_expression(&self) -> bool {
        matches!(self.purpose, Purpose::Narrow(_) | Purpose::GoTo(_))
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

    /// Works out what could be typed next. `always` also where no word was begun.
    pub fn offer_completions(&mut self, state: &State, always: bool) {
        if !self.is_expression() {
            return;
        }
        let (text, caret) = (self.line.text(), self.line.caret_bytes());
        self.chosen = None;
        self.completions = completions(&text, caret, state.moment().sample.as_deref());
        let begun = self.completions.first().is_some_and(|first| !first.replace.is_empty());
        if !begun && !always {
            self.completions.clear();
        }
    }

    pub fn typed_on(&mut self, state: &mut State) {
        self.offer_completions(state, false);
        self.use_line(state);
    }

    /// Shows at once what a typed expression does. Where it is wrong the last good one stays.
    pub fn use_line(&mut self, state: &mut State) {
        self.problem = None;
        if !self.is_expression() {
            return;
        }
        let text = self.line.text();
        let parsed = if text.trim().is_empty() { Ok(None) } else { Expression::parse(&text).map(Some) };
        let expression = match parsed {
            Ok(expression) => expression,
            Err(error) => {
                self.error = Some(error);
                self.nobody = false;
                // What looked like text so far was the beginning of something else.
                if let Purpose::Narrow(before) = &self.purpose
                    && let Some(now) = &state.values.narrowing.expression
                    && matches!(now.tree(), Node::Text(_))
                    && text.starts_with(now.text().trim_end())
                {
                    state.narrow(before.clone());
                }
                return;
            }
        };
        self.error = None;
        if let Purpose::Narrow(_) = self.purpose {
            let good = state.values.narrowing.expression.clone();
            state.narrow(expression);
            // Half a word often means nobody: the rows stay until the line is done.
            self.nobody = state.rows().table.lines.is_empty();
            if self.nobody {
                state.narrow(good);
            }
        } else {
            state.look_for(expression);
            state.go_to_match(Way::Here);
        }
    }

    pub fn give_up(&self, state: &mut State) {
        match &self.purpose {
            Purpose::Narrow(before) => state.narrow(before.clone()),
            Purpose::GoTo(before) => state.look_for(before.clone()),
            Purpose::Note(_)
            | Purpose::Time
            | Purpose::View
            | Purpose::Columns
            | Purpose::Charts
            | Purpose::Metric
            | Purpose::Setting(_)
            | Purpose::Limit(..) => {}
        }
    }

    pub fn accept(&mut self, state: &mut State) -> After {
        let text = self.line.text().trim().to_owned();
        match &self.purpose {
            Purpose::Narrow(_) | Purpose::GoTo(_) => return self.accept_expression(state, text),
            Purpose::Note(wall) => {
                let text = if text.is_empty() { "without a note".to_owned() } else { text };
                state.sign(*wall, MarkKind::Bookmark, text);
                let said =
                    format!("bookmark at {}; ( and ) go from sign to sign", state.time().zone.time(*wall));
                state.say(Severity::Fine, said);
            }
            Purpose::Time => match state.wall_of(&text) {
                Ok(wall) => state.go_to_wall(wall),
                Err(problem) => return self.stay(problem),
            },
            Purpose::View | Purpose::Columns | Purpose::Charts if text.is_empty() => {
                return self.stay("a name is missing".to_owned());
            }
            Purpose::View => state.save_view(&text),
            Purpose::Columns
            | Purpose::Charts
            | Purpose::Metric
            | Purpose::Setting(_)
            | Purpose::Limit(..) => {
                return After::Answer(text);
            }
        }
        After::Close
    }

    pub fn accept_expression(&mut self, state: &mut State, text: String) -> After {
        // A wrong line stays open with its caret, so that it can be mended.
        if self.error.is_some() {
            self.completions.clear();
            return After::Stay;
        }
        if self.nobody {
            state.narrow(Expression::parse(&text).ok());
        }
        if !text.is_empty() {
            state.remember_expression(text);
            if let Purpose::GoTo(_) = self.purpose {
                state.say_match();
            }
        }
        After::Close
    }

    /// Says what is wrong with the line; it stays open.
    pub fn stay(&mut self, problem: String) -> After {
        self.problem = Some(problem);
        After::Stay
    }
}
