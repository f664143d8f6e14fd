//! The expression language: one small language for narrowing, going to a process, and queries.
//!
//! [`lexer`] cuts a text into tokens that know their place, [`parser`] builds a [`tree`], [`check`] compares it with
//! the catalogue, [`eval`] decides it for a process, [`complete`] says what could stand at a place. A text of plain words
//! is an expression as well: it looks for them in names and command lines. The language is described in
//! `docs/expressions.md`.
//!
//! Deciding is three-valued: a comparison with something unknown is itself unknown, and so is its negation.

mod check;
mod complete;
mod contains;
mod error;
mod eval;
mod lexer;
mod parser;
mod quantity;
mod tree;

pub use complete::{Completion, completions};
pub use contains::Contains;
pub use error::ExpressionError;
pub use eval::Bound;
pub use lexer::Compare;
pub use parser::{DEEPEST, LONGEST};
pub use quantity::{Instant, amount, instant, units as quantity_units};
pub use tree::{Comparison, Condition, Node, Place, Value, quote};

use crate::catalogue::Metric;
use crate::row::Cells;
use crate::wanted::Wanted;
use check::Test;

/// An expression that was understood.
#[derive(Clone, Debug)]
pub struct Expression {
    text: String,
    tree: Node,
    test: Test,
}

impl PartialEq for Expression {
    fn eq(&self, other: &Self) -> bool {
        self.tree == other.tree
    }
}

impl Expression {
    /// Reads an expression. Time and memory are linear in its length, which is bounded.
    pub fn parse(text: &str) -> Result<Expression, ExpressionError> {
        let tree = parser::parse(text)?;
        let test = check::check(&tree).map_err(|error| error.in_text(text))?;
        Ok(Expression { text: text.to_owned(), tree, test })
    }

    /// An expression of a tree that was put together; its text is what the tree prints. It may be longer and nested deeper by a
    /// few levels than what is read from a text.
    pub fn of(tree: Node) -> Result<Expression, ExpressionError> {
        let text = tree.to_string();
        let test = check::check(&tree).map_err(|error| error.in_text(&text))?;
        Ok(Expression { text, tree, test })
    }

    /// As it was written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// What was understood; it prints as an expression again.
    pub fn tree(&self) -> &Node {
        &self.tree
    }

    /// All metrics in it.
    pub fn metrics(&self) -> Vec<&'static Metric> {
        self.test.metrics()
    }

    /// What of a process it looks at beside what its metrics read.
    pub fn cells(&self) -> Cells {
        self.test.cells()
    }

    /// Whether it asks who is active, which several metrics tell.
    pub fn asks_for_active(&self) -> bool {
        self.test.asks_for_active()
    }

    /// Whether it holds for a process that does nothing as it did in the sample before; see [`Metric::rests`].
    pub fn rests(&self) -> bool {
        self.metrics().iter().all(|metric| metric.rests())
    }

    /// Parts of a reading that it needs.
    pub fn wanted(&self) -> Wanted {
        self.test.wanted()
    }
}

/// The tree of a text, not compared with the catalogue.
pub fn parse_tree(text: &str) -> Result<Node, ExpressionError> {
    parser::parse(text)
}
