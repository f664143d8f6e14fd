//! What several processes have together.

use crate::catalogue::{Combine, Metric, Value};
use crate::sample::ProcessView;

/// A value of several processes.
#[derive(Clone, Debug, PartialEq)]
pub struct Total {
    /// The value.
    pub value: Value,
    /// Of some of them it is not known: the value is the least that it may be.
    pub partial: bool,
}

/// The word where several processes differ in what cannot be added up.
pub const MIXED: &str = "mixed";

impl Total {
    /// A value of one process alone.
    pub fn of(metric: &Metric, view: &ProcessView<'_>) -> Total {
        let (value, partial) = metric.bounded(view);
        Total { value, partial }
    }
}

/// Values that are being combined.
#[derive(Clone)]
pub(super) struct Sum {
    whole: Value,
    absent: bool,
    denied: bool,
    /// They differ in what cannot be added up: so it stays, whatever comes.
    settled: bool,
}

impl Sum {
    pub(super) const NOTHING: Sum =
        Sum { whole: Value::Absent, absent: false, denied: false, settled: false };

    /// Takes in one more; `partial` is said of the least that it may be.
    #[inline]
    pub(super) fn add(&mut self, value: &Value, partial: bool, combine: Combine) {
        if self.settled {
            return;
        }
        self.absent |= partial;
        match (value, &mut self.whole, combine) {
            (Value::Absent, ..) => self.absent = true,
            (Value::Denied, ..) => self.denied = true,
            // Of thousands most are numbers.
            (Value::Number(one), Value::Number(sum), Combine::Sum) => *sum += one,
            (Value::Number(one), Value::Number(most), Combine::Most) => *most = most.max(*one),
            (Value::Number(one), Value::Number(least), Combine::Least) => *least = least.min(*one),
            // What is the same needs not be copied.
            (value, whole, _) if whole == value => {}
            (value, whole, combine) => {
                *whole = join(std::mem::take(whole), value.clone(), combine);
                self.settled = *whole == Value::Word(MIXED);
            }
        }
    }

    /// Of one that was taken in, the value is the least that it may be.
    pub(super) fn becomes_partial(&mut self) {
        self.absent = true;
    }

    pub(super) fn total(self, combine: Combine) -> Total {
        match self.whole {
            Value::Absent | Value::Denied => {
                Total { value: if self.denied { Value::Denied } else { Value::Absent }, partial: false }
            }
            value => Total { value, partial: (self.absent || self.denied) && combine == Combine::Sum },
        }
    }
}

/// Combines values of a metric as the catalogue says.
pub fn total(values: impl Iterator<Item = Total>, metric: &Metric) -> Total {
    let mut sum = Sum::NOTHING;
    for Total { value, partial } in values {
        sum.add(&value, partial, metric.combine);
        if sum.settled {
            break;
        }
    }
    sum.total(metric.combine)
}

/// Two values in one; an unknown one leaves the other as it is.
fn join(a: Value, b: Value, combine: Combine) -> Value {
    match (combine, &a, &b) {
        (_, _, Value::Absent | Value::Denied) => a,
        (_, Value::Absent | Value::Denied, _) => b,
        (Combine::Sum, Value::Number(x), Value::Number(y)) => Value::Number(x + y),
        (Combine::Most, Value::Number(x), Value::Number(y)) => Value::Number(x.max(*y)),
        (Combine::Least, Value::Number(x), Value::Number(y)) => Value::Number(x.min(*y)),
        _ if a == b => a,
        _ => Value::Word(MIXED),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalogue::listed;

    #[test]
    fn what_cannot_be_added_up_is_the_same_or_mixed() {
        let of = |alias: &str, values: &[Value]| {
            let alias: &'static str = listed_alias(alias);
            total(values.iter().map(|value| Total { value: value.clone(), partial: false }), listed(alias))
        };
        let number = Value::Number;
        assert_eq!(of("cpu", &[number(2.0), number(3.5)]).value, number(5.5));
        assert_eq!(of("age", &[number(2.0), number(9.0)]).value, number(9.0));
        assert_eq!(of("start", &[number(2.0), number(9.0)]).value, number(2.0));
        assert_eq!(of("nice", &[number(5.0), number(5.0)]).value, number(5.0));
        assert_eq!(of("nice", &[number(5.0), number(0.0)]).value, Value::Word(MIXED));
        assert_eq!(of("user", &[Value::Word("a"), Value::Word("b")]).value, Value::Word(MIXED));
    }

    #[test]
    fn a_sum_without_some_of_its_parts_says_so_and_none_at_all_is_unknown() {
        let rss = listed("rss");
        let sum = |values: &[Value]| {
            total(values.iter().map(|value| Total { value: value.clone(), partial: false }), rss)
        };
        assert_eq!(
            sum(&[Value::Number(4.0), Value::Denied]),
            Total { value: Value::Number(4.0), partial: true }
        );
        assert_eq!(sum(&[Value::Absent, Value::Denied]).value, Value::Denied);
        assert_eq!(sum(&[]).value, Value::Absent);
    }

    fn listed_alias(alias: &str) -> &'static str {
        crate::catalogue::process_metric(alias).expect("a metric").alias
    }
}
