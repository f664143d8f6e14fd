//! Compares an expression with the catalogue: names, types and units. What passes can be decided.

use super::contains::{Contains, exact_case};
use super::error::ExpressionError;
use super::lexer::Compare;
use super::quantity::{self, Instant};
use super::tree::{Comparison, Condition, Node, Value};
use crate::catalogue::{self, Eval, Metric, PROCESS_METRICS, Unit};
use crate::reading::ProcessRow;
use crate::row::Cells;
use crate::text::nearest;
use crate::wanted::{Demand, Wanted};
use regex::{Regex, RegexBuilder};

/// An expression that can be decided.
#[derive(Clone, Debug)]
pub enum Test {
    Or(Vec<Test>),
    And(Vec<Test>),
    Not(Box<Test>),
    Contains(Contains),
    Condition(Condition),
    /// A number against numbers: any of them with [`Compare::Equal`], none with [`Compare::Unequal`].
    Number {
        subject: Subject,
        how: Compare,
        values: Vec<f64>,
    },
    /// An instant against instants.
    Time {
        subject: Subject,
        how: Compare,
        values: Vec<Instant>,
    },
    /// A text that is one of these, or none of them.
    Text {
        subject: Subject,
        among: bool,
        values: Vec<String>,
    },
    /// A text that a pattern is found in, or is not.
    Pattern {
        subject: Subject,
        found: bool,
        pattern: Regex,
    },
    /// Two metrics of one type.
    Metrics {
        subject: Subject,
        how: Compare,
        other: &'static Metric,
    },
}

/// What is compared.
#[derive(Clone, Debug)]
pub struct Subject {
    pub metric: &'static Metric,
    /// The instance of a metric of the machine; without one any of them.
    pub instance: Option<String>,
}

type Result<T> = std::result::Result<T, ExpressionError>;

/// Most memory that a compiled pattern may take, in bytes.
const LARGEST_PATTERN: usize = 1 << 20;

pub fn check(node: &Node) -> Result<Test> {
    let all = |nodes: &[Node]| nodes.iter().map(check).collect::<Result<Vec<Test>>>();
    Ok(match node {
        Node::Or(nodes) => {
            forgotten_metric(nodes)?;
            Test::Or(all(nodes)?)
        }
        Node::And(nodes) => Test::And(all(nodes)?),
        Node::Not(node) => Test::Not(Box::new(check(node)?)),
        Node::Text(text) => Test::Contains(Contains::new(text)),
        Node::Condition(condition) => Test::Condition(*condition),
        Node::Compare(comparison) => compare(comparison)?,
    })
}

/// `state = blocked or zombie` would look for a program called zombie.
fn forgotten_metric(nodes: &[Node]) -> Result<()> {
    for pair in nodes.windows(2) {
        if let [Node::Compare(before), Node::Text(word)] = pair
            && before.how == Compare::Equal
            && metric(before)?.words.contains(&word.as_str())
        {
            let (name, first) = (&before.metric, &before.values[0].text);
            return Err(ExpressionError::new(
                before.place.0.clone(),
                format!("write {name} in ({first}, {word}), or \"{word}\" to look for the text"),
            ));
        }
    }
    Ok(())
}

/// The metric with this alias; an error names the nearest.
fn metric(comparison: &Comparison) -> Result<&'static Metric> {
    let (word, place) = (&comparison.metric, comparison.place.0.clone());
    if let Some(metric) = catalogue::find(word) {
        return Ok(metric);
    }
    if Condition::of(word).is_some() {
        return Err(ExpressionError::new(
            place,
            format!("'{word}' stands alone; it is compared with nothing"),
        ));
    }
    let near = nearest(word, catalogue::all().map(|metric| metric.alias));
    let hint = near.map_or_else(
        || "dozor metrics lists them; a text with a sign of comparison needs quotes".to_owned(),
        |near| format!("did you mean {near}?"),
    );
    Err(ExpressionError::new(place, format!("no metric is called '{word}'; {hint}")))
}

fn compare(comparison: &Comparison) -> Result<Test> {
    let metric = metric(comparison)?;
    let subject = Subject { metric, instance: comparison.instance.clone() };
    let how = comparison.how;
    let name = metric.alias;
    if subject.instance.is_some() && matches!(metric.eval, Eval::Process(_)) {
        let message = format!("{name} is a metric of each process and has no instances");
        return Err(ExpressionError::new(comparison.place.0.clone(), message));
    }
    let wrong_way = |message: String| Err(ExpressionError::new(comparison.how_place.0.clone(), message));
    match (metric.unit, how) {
        (Unit::Text, Compare::Equal | Compare::Unequal | Compare::Matches | Compare::Differs) => {}
        (Unit::Text, _) => {
            return wrong_way(format!("{name} is text, which has no order; expected =, != or ~"));
        }
        (_, Compare::Matches | Compare::Differs) => {
            return wrong_way(format!("{name} is a number; ~ finds a pattern in text"));
        }
        _ => {}
    }
    if let [Value { text, quoted: false, .. }] = &comparison.values[..]
        && !comparison.list
        && let Some(other) = another(metric, text)
        && !matches!(how, Compare::Matches | Compare::Differs)
    {
        return Ok(Test::Metrics { subject, how, other });
    }
    let each = |check: &mut dyn FnMut(&Value) -> std::result::Result<(), String>| {
        comparison.values.iter().try_for_each(|value| {
            check(value).map_err(|message| ExpressionError::new(value.place.0.clone(), message))
        })
    };
    match (metric.unit, how) {
        (Unit::Text, Compare::Matches | Compare::Differs) => {
            let value = &comparison.values[0];
            let found = how == Compare::Matches;
            let pattern = pattern(&value.text)
                .map_err(|message| ExpressionError::new(value.place.0.clone(), message))?;
            Ok(Test::Pattern { subject, found, pattern })
        }
        (Unit::Text, _) => {
            let mut values = vec![];
            each(&mut |value| {
                is_a_word_of(metric, &value.text)?;
                values.push(value.text.clone());
                Ok(())
            })?;
            Ok(Test::Text { subject, among: how == Compare::Equal, values })
        }
        (Unit::Time, _) => {
            let mut values = vec![];
            each(&mut |value| quantity::instant(&value.text).map(|instant| values.push(instant)))?;
            Ok(Test::Time { subject, how, values })
        }
        (unit, _) => {
            let mut values = vec![];
            each(&mut |value| {
                if value.quoted {
                    return Err(format!(
                        "{name} is a number; expected one such as {}",
                        quantity::example(unit)
                    ));
                }
                quantity::amount(&value.text, unit).map(|amount| values.push(amount)).map_err(|message| {
                    let near = nearest(&value.text, of_type(metric).map(|other| other.alias));
                    match near.filter(|_| !quantity::begins_number(&value.text)) {
                        Some(near) => format!("{message}, or the metric {near}"),
                        None => message,
                    }
                })
            })?;
            Ok(Test::Number { subject, how, values })
        }
    }
}

/// Metrics of a process that a metric can be compared with.
fn of_type(metric: &'static Metric) -> impl Iterator<Item = &'static Metric> {
    PROCESS_METRICS.iter().filter(move |other| other.unit == metric.unit && other.alias != metric.alias)
}

/// Another metric of the same type with this alias.
fn another(metric: &'static Metric, word: &str) -> Option<&'static Metric> {
    matches!(metric.eval, Eval::Process(_)).then_some(())?;
    of_type(metric).find(|other| other.alias == word)
}

/// Refuses a word that such a metric never has.
fn is_a_word_of(metric: &Metric, word: &str) -> std::result::Result<(), String> {
    let words = metric.words;
    if words.is_empty() || words.contains(&word) {
        return Ok(());
    }
    let hint = match nearest(word, words.iter().copied()) {
        Some(near) => format!("did you mean {near}?"),
        None => format!("it is one of {}", words.join(", ")),
    };
    Err(format!("{} is never '{word}'; {hint}", metric.alias))
}

fn pattern(text: &str) -> std::result::Result<Regex, String> {
    let build = |unicode: bool| {
        RegexBuilder::new(text)
            .size_limit(LARGEST_PATTERN)
            .dfa_size_limit(LARGEST_PATTERN)
            .case_insensitive(!exact_case(text))
            .unicode(unicode)
            .build()
    };
    // Letters beyond ASCII that fold to some in it would keep the fast search for literals from being used.
    let ascii = text.is_ascii().then(|| build(false).ok()).flatten();
    ascii.map_or_else(|| build(true), Ok).map_err(|error| match error {
        regex::Error::CompiledTooBig(_) => "this pattern is too large".to_owned(),
        other => {
            let text = other.to_string();
            let reason = text.lines().last().unwrap_or_default().trim_start_matches("error: ");
            format!("this pattern is wrong: {reason}")
        }
    })
}

impl Test {
    /// All metrics in it.
    pub fn metrics(&self) -> Vec<&'static Metric> {
        match self {
            Test::Or(tests) | Test::And(tests) => tests.iter().flat_map(Test::metrics).collect(),
            Test::Not(test) => test.metrics(),
            Test::Contains(_) | Test::Condition(_) => vec![],
            Test::Number { subject, .. }
            | Test::Time { subject, .. }
            | Test::Text { subject, .. }
            | Test::Pattern { subject, .. } => vec![subject.metric],
            Test::Metrics { subject, other, .. } => vec![subject.metric, other],
        }
    }

    /// What of a process it looks at beside what its metrics read.
    pub fn cells(&self) -> Cells {
        let named = Cells::named::<ProcessRow>;
        match self {
            Test::Or(tests) | Test::And(tests) => {
                tests.iter().map(Test::cells).reduce(Cells::and).unwrap_or(Cells::NONE)
            }
            Test::Not(test) => test.cells(),
            Test::Contains(_) => named(&["pid", "name", "program", "command"]),
            Test::Condition(Condition::Mine) => named(&["user", "real_user"]),
            Test::Condition(Condition::Active) => named(&["state"]),
            Test::Condition(Condition::KernelThread) => named(&["kernel"]),
            Test::Condition(Condition::Replaced) => named(&["replaced"]),
            Test::Number { .. }
            | Test::Time { .. }
            | Test::Text { .. }
            | Test::Pattern { .. }
            | Test::Metrics { .. } => Cells::NONE,
        }
    }

    /// Whether it asks who is active, which several metrics tell.
    pub fn asks_for_active(&self) -> bool {
        match self {
            Test::Or(tests) | Test::And(tests) => tests.iter().any(Test::asks_for_active),
            Test::Not(test) => test.asks_for_active(),
            other => matches!(other, Test::Condition(Condition::Active)),
        }
    }

    /// Parts of a reading that it needs.
    pub fn wanted(&self) -> Wanted {
        let of_conditions = match self {
            Test::Or(tests) | Test::And(tests) => {
                tests.iter().fold(Wanted::NOTHING, |wanted, test| wanted.union(test.wanted()))
            }
            Test::Not(test) => test.wanted(),
            Test::Condition(Condition::Active) => Wanted::NOTHING.with(Demand::Sockets),
            _ => Wanted::NOTHING,
        };
        of_conditions.union(self.metrics().into_iter().filter_map(|metric| metric.needs).collect())
    }
}
