//! Ordering by any metric.

use crate::catalogue::{Metric, Unit, Value, listed};
use crate::sample::ProcessView;

/// Column and direction of the order. Ties go by PID, so that the order is total and rows never swap without
/// a reason; unknown values come last either way.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Order {
    /// The ordering metric.
    pub metric: &'static Metric,
    /// Largest first.
    pub descending: bool,
}

impl Order {
    /// Orders by a metric in the direction that people look for: numbers from the largest, names from A.
    pub fn by(metric: &'static Metric) -> Order {
        let rising =
            metric.unit.is_text() || matches!(metric.alias, "pid" | "ppid" | "age" | "nice" | "priority");
        Order { metric, descending: !rising }
    }

    /// Most CPU first.
    pub fn by_cpu() -> Order {
        Order::by(listed("cpu"))
    }

    /// The other way round.
    #[must_use]
    pub fn reversed(self) -> Order {
        Order { descending: !self.descending, ..self }
    }

    /// What a process is ordered by. Shares that look the same are the same: without that idle processes would change
    /// places at every sample for thousandths of a percent that nobody sees.
    fn value(&self, view: &ProcessView<'_>) -> Value {
        match (self.metric.of(view), self.metric.unit) {
            (Value::Number(share), Unit::Percent | Unit::PercentOfCore) => {
                Value::Number((share * 10.0).round() / 10.0)
            }
            (value, _) => value,
        }
    }

    /// Sorts rows by the metric of the process that `view` gives for each; ties stay as they are.
    pub fn sort<'a, T: Copy>(&self, view: impl Fn(&T) -> ProcessView<'a>, rows: &mut [T]) {
        let mut keyed: Vec<(Value, usize, T)> =
            rows.iter().enumerate().map(|(at, row)| (self.value(&view(row)), at, *row)).collect();
        keyed.sort_unstable_by(|a, b| a.0.compare(&b.0, self.descending).then(a.1.cmp(&b.1)));
        for (place, (.., row)) in rows.iter_mut().zip(keyed) {
            *place = row;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::cmp::Ordering;

    fn any_value() -> impl Strategy<Value = Value> {
        prop_oneof![
            Just(Value::Absent),
            Just(Value::Denied),
            any::<f64>().prop_map(Value::Number),
            "[a-cA-C]{0,3}".prop_map(|text| Value::Text(text.into())),
            Just(Value::Word("sleeping")),
        ]
    }

    proptest! {
        #[test]
        fn ordering_is_total_on_any_mix(a in any_value(), b in any_value(), c in any_value(), down: bool) {
            prop_assert_eq!(a.compare(&a, down), Ordering::Equal);
            prop_assert_eq!(a.compare(&b, down), b.compare(&a, down).reverse());
            if a.compare(&b, down) != Ordering::Greater && b.compare(&c, down) != Ordering::Greater {
                prop_assert_ne!(a.compare(&c, down), Ordering::Greater);
            }
        }

        #[test]
        fn what_is_unknown_comes_last_either_way(number: f64, down: bool) {
            for unknown in [Value::Absent, Value::Denied] {
                prop_assert_eq!(Value::Number(number).compare(&unknown, down), Ordering::Less);
            }
        }
    }
}
