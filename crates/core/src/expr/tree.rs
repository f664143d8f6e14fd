//! What an expression says, as a tree that prints as an expression again.

use super::lexer::{Compare, ends_word};
use std::fmt::{self, Display, Formatter};
use std::ops::Range;

/// A place in the text. It tells errors where they are and has no part in what an expression says.
#[derive(Clone, Debug, Default)]
pub struct Place(pub Range<usize>);

impl PartialEq for Place {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

/// One part of an expression.
#[derive(Clone, Debug, PartialEq)]
pub enum Node {
    /// One of them holds.
    Or(Vec<Node>),
    /// All of them hold.
    And(Vec<Node>),
    /// It does not hold.
    Not(Box<Node>),
    /// A text that the name, the program or the command line contains, or the PID.
    Text(String),
    /// A word with a meaning of its own, such as `mine`.
    Condition(Condition),
    /// A metric compared with values.
    Compare(Comparison),
}

/// Words with a meaning of their own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Condition {
    /// Of the user who asks.
    Mine,
    /// Did something in this sample.
    Active,
    /// A thread of the kernel.
    KernelThread,
    /// Its executable was replaced on disk.
    Replaced,
}

impl Condition {
    /// All of them.
    pub const ALL: [Condition; 4] =
        [Condition::Mine, Condition::Active, Condition::KernelThread, Condition::Replaced];

    /// As it is written.
    pub const fn word(self) -> &'static str {
        match self {
            Condition::Mine => "mine",
            Condition::Active => "active",
            Condition::KernelThread => "kernel_thread",
            Condition::Replaced => "replaced",
        }
    }

    /// What it means.
    pub const fn help(self) -> &'static str {
        match self {
            Condition::Mine => "your own processes, by the real or the effective user",
            Condition::Active => {
                "used a core, a disk or the network in this sample, or wants to: running or blocked"
            }
            Condition::KernelThread => "threads of the kernel, which are no programs",
            Condition::Replaced => "the executable was replaced or removed since the start",
        }
    }

    pub(super) fn of(word: &str) -> Option<Condition> {
        Condition::ALL.into_iter().find(|condition| condition.word() == word)
    }
}

/// Words that join; they are nothing else unless they are quoted.
pub const JOINING: [&str; 4] = ["and", "or", "not", "in"];

/// A metric compared with a value, or with each of a list.
#[derive(Clone, Debug, PartialEq)]
pub struct Comparison {
    /// Alias of the metric.
    pub metric: String,
    /// Which of its instances; none for a metric of a process, or for any instance.
    pub instance: Option<String>,
    /// Where the metric stands.
    pub place: Place,
    /// How it is compared; [`Compare::Equal`] or [`Compare::Unequal`] with a list.
    pub how: Compare,
    /// Where that stands.
    pub how_place: Place,
    /// The value or the list.
    pub values: Vec<Value>,
    /// It was written as a list.
    pub list: bool,
}

impl Node {
    /// Holds where a metric is one of some texts.
    pub fn one_of<'a>(metric: &str, texts: impl IntoIterator<Item = &'a str>) -> Node {
        let value = |text: &str| Value { text: text.to_owned(), quoted: true, place: Place::default() };
        Node::Compare(Comparison {
            metric: metric.to_owned(),
            instance: None,
            place: Place::default(),
            how: Compare::Equal,
            how_place: Place::default(),
            values: texts.into_iter().map(value).collect(),
            list: true,
        })
    }
}

/// A value as it is written.
#[derive(Clone, Debug, PartialEq)]
pub struct Value {
    /// The words, without quotes; a number with its unit.
    pub text: String,
    /// It was quoted: text, whatever it looks like.
    pub quoted: bool,
    /// Where it stands.
    pub place: Place,
}

/// Writes a text so that it is read as one again.
pub fn quote(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// Whether a text is read as itself without quotes.
pub(super) fn is_plain_word(text: &str) -> bool {
    !text.is_empty()
        && !text.contains(ends_word)
        && !text.starts_with('\'')
        && !JOINING.contains(&text)
        && Condition::of(text).is_none()
}

impl Display for Value {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        if self.quoted { f.write_str(&quote(&self.text)) } else { f.write_str(&self.text) }
    }
}

impl Display for Comparison {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(&self.metric)?;
        if let Some(instance) = &self.instance {
            write!(f, "{{{instance}}}")?;
        }
        if !self.list {
            return write!(f, " {} {}", self.how.sign(), self.values[0]);
        }
        let values: Vec<String> = self.values.iter().map(ToString::to_string).collect();
        let how = if self.how == Compare::Equal { "in" } else { "not in" };
        write!(f, " {how} ({})", values.join(", "))
    }
}

impl Display for Node {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        // Only what binds looser than its surroundings needs brackets.
        let joined = |f: &mut Formatter<'_>, nodes: &[Node], word: &str, brackets: fn(&Node) -> bool| {
            for (at, node) in nodes.iter().enumerate() {
                if at > 0 {
                    write!(f, " {word} ")?;
                }
                if brackets(node) { write!(f, "({node})") } else { write!(f, "{node}") }?;
            }
            Ok(())
        };
        match self {
            Node::Or(nodes) => joined(f, nodes, "or", |node| matches!(node, Node::Or(_))),
            Node::And(nodes) => joined(f, nodes, "and", |node| matches!(node, Node::Or(_) | Node::And(_))),
            Node::Not(node) if matches!(**node, Node::Or(_) | Node::And(_)) => write!(f, "not ({node})"),
            Node::Not(node) => write!(f, "not {node}"),
            Node::Text(text) if is_plain_word(text) => f.write_str(text),
            Node::Text(text) => f.write_str(&quote(text)),
            Node::Condition(condition) => f.write_str(condition.word()),
            Node::Compare(comparison) => write!(f, "{comparison}"),
        }
    }
}
