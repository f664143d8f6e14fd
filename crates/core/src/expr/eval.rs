//! Decides an expression for the processes of a sample.

use super::Expression;
use super::check::{Subject, Test};
use super::lexer::Compare;
use super::tree::Condition;
use crate::catalogue::{Eval, Instances, Metric, Value};
use crate::rank::is_active;
use crate::sample::{ProcessView, Sample};
use crate::when::zone;
use std::cmp::Ordering;

/// An expression at one moment: what it says about the machine is decided, times are instants.
pub struct Bound<'a> {
    test: Demand<'a>,
    me: &'a str,
}

/// A part of it. `None` is unknown.
enum Demand<'a> {
    Decided(Option<bool>),
    Or(Vec<Demand<'a>>),
    And(Vec<Demand<'a>>),
    Not(Box<Demand<'a>>),
    Time { metric: &'static Metric, how: Compare, values: Vec<Option<f64>> },
    Leaf(&'a Test),
}

impl Expression {
    /// The expression at the moment of a sample, asked by a user.
    pub fn bind<'a>(&'a self, sample: &Sample, me: &'a str) -> Bound<'a> {
        Bound { test: bind(&self.test, sample), me }
    }
}

impl Bound<'_> {
    /// Whether it holds for a process; `None` where that is unknown.
    pub fn holds(&self, process: &ProcessView<'_>) -> Option<bool> {
        holds(&self.test, process, self.me)
    }
}

fn bind<'a>(test: &'a Test, sample: &Sample) -> Demand<'a> {
    let all = |tests: &'a [Test]| tests.iter().map(|test| bind(test, sample)).collect();
    let of_machine = |subject: &Subject| matches!(subject.metric.eval, Eval::System(_));
    match test {
        Test::Or(tests) => Demand::Or(all(tests)),
        Test::And(tests) => Demand::And(all(tests)),
        Test::Not(test) => Demand::Not(Box::new(bind(test, sample))),
        Test::Number { subject, how, values } if of_machine(subject) => {
            Demand::Decided(of_instances(subject, sample, |value| number(value, *how, values)))
        }
        Test::Time { subject, how, values } => {
            let zone = zone(&sample.host.time_zone);
            let values = values.iter().map(|instant| instant.seconds(sample.now.wall_ns(), &zone)).collect();
            Demand::Time { metric: subject.metric, how: *how, values }
        }
        leaf => Demand::Leaf(leaf),
    }
}

/// Whether it holds for the named instance, or for any of them.
fn of_instances(subject: &Subject, sample: &Sample, holds: impl Fn(&Value) -> Option<bool>) -> Option<bool> {
    match (subject.metric.of_system(sample), &subject.instance) {
        (Instances::One(value), None) => holds(&value),
        // A metric of the whole machine has no such instance.
        (Instances::One(_), Some(_)) => None,
        (Instances::Many(values), Some(name)) => {
            values.iter().find(|(other, _)| **other == **name).and_then(|(_, value)| holds(value))
        }
        (Instances::Many(values), None) if values.is_empty() => None,
        (Instances::Many(values), None) => any(values.iter().map(|(_, value)| holds(value))),
    }
}

/// One that holds decides; else one that is unknown leaves it open.
fn any(parts: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    let mut whole = Some(false);
    for part in parts {
        match part {
            Some(true) => return part,
            None => whole = None,
            Some(false) => {}
        }
    }
    whole
}

fn holds(part: &Demand<'_>, process: &ProcessView<'_>, me: &str) -> Option<bool> {
    match part {
        Demand::Decided(decided) => *decided,
        Demand::Or(parts) => any(parts.iter().map(|part| holds(part, process, me))),
        // All hold where it is not so that any does not.
        Demand::And(parts) => {
            any(parts.iter().map(|part| holds(part, process, me).map(|held| !held))).map(|held| !held)
        }
        Demand::Not(part) => holds(part, process, me).map(|held| !held),
        Demand::Time { metric, how, values } => {
            let time = metric.of(process).number()?;
            any(values.iter().map(|value| Some(equal_or(time, (*value)?, *how))))
                .map(|held| turned(*how, held))
        }
        Demand::Leaf(test) => leaf(test, process, me),
    }
}

/// With [`Compare::Unequal`] a value is compared for equality, and the whole is turned round by [`turned`].
fn equal_or(a: f64, b: f64, how: Compare) -> bool {
    compared(if how == Compare::Unequal { Compare::Equal } else { how }, a, b)
}

/// Compares two numbers. No metric is ever "not a number".
fn compared(how: Compare, a: f64, b: f64) -> bool {
    let ordering = a.partial_cmp(&b).unwrap_or(Ordering::Less);
    is_so(how, ordering, ordering.is_eq())
}

fn turned(how: Compare, held: bool) -> bool {
    held != (how == Compare::Unequal)
}

fn is_so(how: Compare, ordering: Ordering, equal: bool) -> bool {
    match how {
        Compare::Equal | Compare::Matches => equal,
        Compare::Unequal | Compare::Differs => !equal,
        Compare::Less => !equal && ordering.is_lt(),
        Compare::AtMost => equal || ordering.is_lt(),
        Compare::Greater => !equal && ordering.is_gt(),
        Compare::AtLeast => equal || ordering.is_gt(),
    }
}

fn number(value: &Value, how: Compare, values: &[f64]) -> Option<bool> {
    let value = value.number()?;
    Some(turned(how, values.iter().any(|other| equal_or(value, *other, how))))
}

fn leaf(test: &Test, process: &ProcessView<'_>, me: &str) -> Option<bool> {
    let row = process.now;
    match test {
        Test::Contains(text) => Some(text.holds(row)),
        Test::Condition(Condition::Mine) => {
            if row.user.is_empty() && row.real_user.is_empty() {
                return None;
            }
            Some(*row.user == *me || *row.real_user == *me)
        }
        Test::Condition(Condition::Active) => Some(is_active(process)),
        Test::Condition(Condition::KernelThread) => row.kernel.value().map(|kernel| kernel == 1),
        Test::Condition(Condition::Replaced) => row.replaced.value().map(|replaced| replaced == 1),
        Test::Number { subject, how, values } => match subject.metric.several {
            Some(all) => {
                let all = all(process)?;
                let any = |wanted: &f64| all.iter().any(|value| equal_or(*value, *wanted, *how));
                Some(turned(*how, values.iter().any(any)))
            }
            None => number(&subject.metric.of(process), *how, values),
        },
        Test::Text { subject, among, values } => {
            let value = subject.metric.of(process);
            let text = value.text()?;
            Some(values.iter().any(|other| other == text) == *among)
        }
        Test::Pattern { subject, found, pattern } => {
            let value = subject.metric.of(process);
            Some(pattern.is_match(value.text()?) == *found)
        }
        Test::Metrics { subject, how, other } => {
            let (a, b) = (subject.metric.of(process), other.of(process));
            if let (Some(a), Some(b)) = (a.number(), b.number()) {
                return Some(compared(*how, a, b));
            }
            Some(is_so(*how, Ordering::Equal, a.text()? == b.text()?))
        }
        Test::Or(_) | Test::And(_) | Test::Not(_) | Test::Time { .. } => None,
    }
}
