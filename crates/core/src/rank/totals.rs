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

/// Combines values of a metric as the catalogue says.
pub fn total(values: impl Iterator<Item = Total>, metric: &Metric) -> Total {
    let mut whole = Value::Absent;
    let (mut absent, mut denied) = (false, false);
    for Total { value, partial } in values {
        absent |= partial;
        absent |= value == Value::Absent;
        denied |= value == Value::Denied;
        whole = join(whole, value, metric.combine);
        // What differs once stays so.
        if metric.combine != Combine::Sum && whole == Value::Word(MIXED) {
            return Total { value: whole, partial: false };
        }
    }
    match whole {
        Value::Absent | Value::Denied => {
            Total { value: if denied { Value::Denied } else { Value::Absent }, partial: false }
        }
        value => Total { value, partial: (absent || denied) && metric.combine == Combine::Sum },
    }
}

/// Two values in one; an unknown one leaves the other as it is.
pub(super) fn join(a: Value, b: Value, combine: Combine) -> Value {
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
