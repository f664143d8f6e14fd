//! What is wrong with an expression, and where.

use std::ops::Range;

/// An expression that cannot be understood: the place, what was expected there, the nearest right word.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct ExpressionError {
    /// The expression.
    pub text: String,
    /// The place in it, in bytes; empty at its end.
    pub at: Range<usize>,
    /// What is wrong, in one sentence.
    pub message: String,
}

impl ExpressionError {
    pub(super) fn new(at: Range<usize>, message: impl Into<String>) -> ExpressionError {
        ExpressionError { text: String::new(), at, message: message.into() }
    }

    pub(super) fn in_text(self, text: &str) -> ExpressionError {
        ExpressionError { text: text.to_owned(), ..self }
    }

    /// Cells before the caret, and cells that it covers.
    pub fn caret(&self) -> (usize, usize) {
        let cells = |range: Range<usize>| self.text.get(range).map_or(0, |part| part.chars().count());
        (cells(0..self.at.start), cells(self.at.clone()).max(1))
    }

    /// The expression, a line with a caret below the place, and what is wrong.
    pub fn lines(&self) -> String {
        let (before, covered) = self.caret();
        format!("{}\n{}{}\n{}", self.text, " ".repeat(before), "^".repeat(covered), self.message)
    }
}
