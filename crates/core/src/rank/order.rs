//! Ordering by any metric.

use crate::catalogue::{Metric, NoSuchMetric, Unit, Value, listed, process_metric};
use crate::sample::ProcessView;
use std::borrow::Borrow;
use std::cmp::Ordering;

/// A metric and a direction.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Key {
    /// The ordering metric.
    pub metric: &'static Metric,
    /// Largest first.
    pub descending: bool,
}

impl Key {
    /// A metric in the direction that people look for: numbers from the largest, names from A.
    pub fn new(metric: &'static Metric) -> Key {
        let rising = metric.unit.is_text()
            || matches!(metric.alias, "pid" | "ppid" | "session" | "age" | "nice" | "priority" | "core");
        Key { metric, descending: !rising }
    }

    /// What a process is ordered by.
    pub fn value(&self, view: &ProcessView<'_>) -> Value {
        self.value_of(self.metric.of(view))
    }

    /// What a process is ordered by that has this of the metric.
    pub fn value_of(&self, value: Value) -> Value {
        match value {
            Value::Number(number) => Value::Number(as_shown(number, self.metric.unit)),
            value => value,
        }
    }

    /// The same as an integer that compares in the same way; none for text.
    pub(super) fn rank_of(&self, value: &Value) -> Option<u64> {
        match value {
            Value::Number(number) => Some(rank_number(as_shown(*number, self.metric.unit), self.descending)),
            value => rank(value, self.descending),
        }
    }

    fn compare(&self, a: &Value, b: &Value) -> Ordering {
        a.compare(b, self.descending)
    }
}

/// Shares that look the same are the same: without that idle processes would change places at every sample for
/// thousandths of a percent that nobody sees.
fn as_shown(number: f64, unit: Unit) -> f64 {
    match unit {
        Unit::Percent | Unit::PercentOfCore => (number * 10.0).round() / 10.0,
        _ => number,
    }
}

/// The order: a first key, and a second one for ties. What is equal in both stays in place, so that rows never swap
/// without a reason; unknown values come last either way.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Order {
    /// The first key.
    pub first: Key,
    /// Decides between rows that are equal in the first.
    pub then: Option<Key>,
}

/// An order that is not understood.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum OrderError {
    /// A metric that does not exist.
    #[error(transparent)]
    Metric(#[from] NoSuchMetric),
    /// More than two keys.
    #[error("an order has one or two metrics, as in user,-rss")]
    Count,
}

impl Order {
    /// Orders by a metric in its usual direction.
    pub fn by(metric: &'static Metric) -> Order {
        Order { first: Key::new(metric), then: None }
    }

    /// Most CPU first.
    pub fn by_cpu() -> Order {
        Order::by(listed("cpu"))
    }

    /// By another metric first; the second key stays, unless it is that metric.
    #[must_use]
    pub fn first_by(self, metric: &'static Metric) -> Order {
        Order { then: self.then.filter(|then| then.metric != metric), ..Order::by(metric) }
    }

    /// The other way round.
    #[must_use]
    pub fn reversed(self) -> Order {
        Order { first: Key { descending: !self.first.descending, ..self.first }, ..self }
    }

    /// With another metric for ties; again the same: the other way; the first key's metric: none.
    #[must_use]
    pub fn then_by(self, metric: &'static Metric) -> Order {
        let then = match self.then {
            _ if metric == self.first.metric => None,
            Some(then) if then.metric == metric => Some(Key { descending: !then.descending, ..then }),
            _ => Some(Key::new(metric)),
        };
        Order { then, ..self }
    }

    /// Reads an order as it is written: one or two aliases, a minus before one that falls, a plus before one that rises.
    pub fn parse(text: &str) -> Result<Order, OrderError> {
        let mut keys = text.split(',').map(|word| {
            let word = word.trim();
            let key = Key::new(process_metric(word.trim_start_matches(['-', '+']))?);
            Ok(match word.as_bytes().first() {
                Some(b'-') => Key { descending: true, ..key },
                Some(b'+') => Key { descending: false, ..key },
                _ => key,
            })
        });
        let first = keys.next().ok_or(OrderError::Count)??;
        let then = keys.next().transpose().map_err(OrderError::Metric)?;
        if keys.next().is_some() { Err(OrderError::Count) } else { Ok(Order { first, then }) }
    }

    /// As [`Order::parse`] reads it.
    pub fn written(&self) -> String {
        let key = |key: Key| {
            let usual = Key::new(key.metric).descending == key.descending;
            let sign = if usual {
                ""
            } else if key.descending {
                "-"
            } else {
                "+"
            };
            format!("{sign}{}", key.metric.alias)
        };
        let then = self.then.map(|then| format!(",{}", key(then))).unwrap_or_default();
        format!("{}{then}", key(self.first))
    }

    /// Both keys, or the only one.
    pub fn keys(&self) -> impl Iterator<Item = Key> {
        [Some(self.first), self.then].into_iter().flatten()
    }

    /// What a process is ordered by.
    pub fn values(&self, view: &ProcessView<'_>) -> Values {
        Values {
            first: self.first.value(view),
            then: self.then.map_or(Value::Absent, |then| then.value(view)),
        }
    }

    /// What is ordered by that has these of the metrics of both keys.
    pub fn values_of(&self, first: Value, then: Value) -> Values {
        Values {
            first: self.first.value_of(first),
            then: self.then.map_or(Value::Absent, |key| key.value_of(then)),
        }
    }

    /// Compares by values of the first key, then by values of the second.
    fn compare(&self, a: &Values, b: &Values) -> Ordering {
        let then = || self.then.map_or(Ordering::Equal, |key| key.compare(&a.then, &b.then));
        self.first.compare(&a.first, &b.first).then_with(then)
    }

    /// Sorts rows by values that are given for each; ties stay as they are.
    pub fn sort_by<T: Copy, V: Borrow<Values>>(&self, values: impl Fn(&T) -> V, rows: &mut [T]) {
        if rows.len() < 2 {
            return;
        }
        let ranked: Option<Vec<_>> =
            rows.iter().map(|row| Some((self.ranks(values(row).borrow())?, *row))).collect();
        if let Some(mut ranked) = ranked {
            // The stable sort is also the one that gains from rows that are nearly in order.
            ranked.sort_by_key(|(ranks, _)| *ranks);
            rows.iter_mut().zip(ranked).for_each(|(place, (_, row))| *place = row);
            return;
        }
        rows.sort_by(|a, b| self.compare(values(a).borrow(), values(b).borrow()));
    }

    /// Numbers as integers that compare in the same way, which is several times as fast; none where there is text.
    fn ranks(&self, values: &Values) -> Option<(u64, u64)> {
        let then = self.then.map_or(Some(0), |key| rank(&values.then, key.descending));
        Some((rank(&values.first, self.first.descending)?, then?))
    }

    /// The places of so many values in order, as [`Order::sort_by`] sorts them, where all but those that `moved` are in order
    /// already: they are sorted alone and put between the others. `ranks` gives what a place has of both keys as integers that
    /// compare in the same way, none where there is text; then `values` is asked.
    pub fn sorted_around(
        &self,
        count: usize,
        ranks: impl Fn(usize) -> Option<[u64; 2]>,
        values: impl Fn(usize) -> Values,
        moved: impl Fn(usize) -> bool,
    ) -> Vec<usize> {
        let mut ranked = Vec::with_capacity(count);
        ranked.extend((0..count).map_while(ranks));
        let has_text = ranked.len() < count;
        let of_text: Vec<Values> = if has_text { (0..count).map(values).collect() } else { vec![] };
        let compare = |a: &usize, b: &usize| {
            if has_text { self.compare(&of_text[*a], &of_text[*b]) } else { ranked[*a].cmp(&ranked[*b]) }
        };
        let (mut moved, still): (Vec<usize>, Vec<usize>) = (0..count).partition(|at| moved(*at));
        moved.sort_by(compare);
        if still.is_sorted_by(|a, b| compare(a, b).is_le()) {
            merged(&moved, &still, |a, b| compare(a, b).then(a.cmp(b)))
        } else {
            let mut all: Vec<usize> = (0..count).collect();
            all.sort_by(compare);
            all
        }
    }

    /// Sorts rows by the process that `view` gives for each; ties stay as they are.
    pub fn sort<'a, T: Copy>(&self, view: impl Fn(&T) -> ProcessView<'a>, rows: &mut [T]) {
        let values: Vec<Values> = rows.iter().map(|row| self.values(&view(row))).collect();
        let mut places: Vec<usize> = (0..rows.len()).collect();
        self.sort_by(|at| &values[*at], &mut places);
        let sorted: Vec<T> = places.iter().map(|at| rows[*at]).collect();
        rows.copy_from_slice(&sorted);
    }
}

/// What a row is ordered by.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Values {
    /// Of the first key.
    pub first: Value,
    /// Of the second.
    pub then: Value,
}

/// Two sorted lists as one.
fn merged(few: &[usize], many: &[usize], compare: impl Fn(&usize, &usize) -> Ordering) -> Vec<usize> {
    let mut all = Vec::with_capacity(few.len() + many.len());
    let mut rest = many;
    for one in few {
        let before = rest.partition_point(|other| compare(other, one).is_lt());
        all.extend_from_slice(&rest[..before]);
        all.push(*one);
        rest = &rest[before..];
    }
    all.extend_from_slice(rest);
    all
}

/// A number as an integer that compares in the same way; none for text. What is unknown comes last.
fn rank(value: &Value, descending: bool) -> Option<u64> {
    match value {
        Value::Number(number) => Some(rank_number(*number, descending)),
        Value::Denied => Some(u64::MAX - 1),
        Value::Absent => Some(u64::MAX),
        Value::Text(_) | Value::Word(_) => None,
    }
}

fn rank_number(number: f64, descending: bool) -> u64 {
    let bits = number.to_bits();
    let rising = if bits >> 63 == 1 { !bits } else { bits | 1 << 63 };
    if descending { !rising } else { rising }.min(u64::MAX - 2)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_number() -> impl Strategy<Value = Value> {
        // Few different ones, so that there are ties.
        prop_oneof![
            Just(Value::Absent),
            Just(Value::Denied),
            Just(Value::Number(0.0)),
            (-3..3i32).prop_map(|number| Value::Number(f64::from(number) * 1.5)),
            any::<f64>().prop_filter("a number", |number| !number.is_nan()).prop_map(Value::Number),
        ]
    }

    fn any_value() -> impl Strategy<Value = Value> {
        prop_oneof![
            Just(Value::Absent),
            Just(Value::Denied),
            any::<f64>().prop_map(Value::Number),
            "[a-cA-C]{0,3}".prop_map(|text| Value::Text(text.into())),
            Just(Value::Word("sleeping")),
        ]
    }

    #[test]
    fn an_order_is_read_as_it_is_written() {
        for text in ["cpu", "+cpu", "user,rss", "-user,+rss", "pid"] {
            assert_eq!(Order::parse(text).map(|order| order.written()), Ok(text.to_owned()));
        }
        assert_eq!(Order::parse("-cpu , age").map(|order| order.written()), Ok("cpu,age".to_owned()));
        let message = |text: &str| Order::parse(text).expect_err("must be refused").to_string();
        assert_eq!(message("cpuu"), "no process metric is called 'cpuu'; did you mean 'cpu'?");
        assert!(message("cpu,rss,age").contains("one or two"));
    }

    #[test]
    fn a_second_key_decides_between_equals() {
        let rows = [("b", 1.0), ("a", 2.0), ("a", 3.0), ("b", 1.0)]
            .map(|(user, rss)| Values { first: Value::Word(user), then: Value::Number(rss) });
        let mut places = [0, 1, 2, 3];
        let order = Order::parse("user,rss").expect("an order");
        order.sort_by(|at| &rows[*at], &mut places);
        assert_eq!(places, [2, 1, 0, 3], "what is equal in both stays in place");
    }

    proptest! {
        #[test]
        fn the_fast_way_orders_as_the_slow_one(
            values in proptest::collection::vec((any_number(), any_number()), 0..20),
            first: bool,
            then: bool,
        ) {
            let key = |descending| Key { metric: listed("cpu"), descending };
            let order = Order { first: key(first), then: Some(key(then)) };
            let values: Vec<Values> = values.into_iter().map(|(first, then)| Values { first, then }).collect();
            let mut fast: Vec<usize> = (0..values.len()).collect();
            let mut slow = fast.clone();
            order.sort_by(|at| &values[*at], &mut fast);
            slow.sort_by(|a, b| order.compare(&values[*a], &values[*b]));
            prop_assert_eq!(fast, slow);
        }

        #[test]
        fn what_moved_is_put_where_sorting_all_would_put_it(
            values in proptest::collection::vec((any_number(), any_value(), any::<bool>()), 0..30),
            first: bool,
            text: bool,
            in_order: bool,
        ) {
            let key = |descending| Key { metric: listed("cpu"), descending };
            let order = Order { first: key(first), then: Some(key(true)) };
            let shown = |value: Value| order.first.value_of(value);
            let (mut still, moved): (Vec<_>, Vec<_>) = values
                .into_iter()
                .map(|(first, then, moved)| {
                    (Values { first: shown(first), then: if text { shown(then) } else { Value::Absent } }, moved)
                })
                .partition(|(_, moved)| !*moved);
            if in_order {
                still.sort_by(|(a, _), (b, _)| order.compare(a, b));
            }
            // Those that moved stand anywhere between the others.
            let mut all = still;
            for (at, one) in moved.into_iter().enumerate() {
                all.insert((at * 7) % (all.len() + 1), one);
            }
            let values: Vec<Values> = all.iter().map(|(values, _)| values.clone()).collect();
            let mut slow: Vec<usize> = (0..values.len()).collect();
            order.sort_by(|at| &values[*at], &mut slow);
            let ranks = |at: usize| order.ranks(&values[at]).map(|(first, then)| [first, then]);
            let sorted = order.sorted_around(values.len(), ranks, |at| values[at].clone(), |at| all[at].1);
            prop_assert_eq!(sorted, slow);
        }

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
