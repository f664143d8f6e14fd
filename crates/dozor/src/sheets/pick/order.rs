//! The metrics to order by.

use super::super::After;
use super::{Choices, Look, Picker, Row};
use crate::look::columns::metrics;
use crate::state::State;
use dozor_core::catalogue::Metric;

/// Metrics to order by.
pub struct Order;

/// The list, at the present one.
pub fn sheet(state: &State) -> Picker<Order> {
    let present = Some(state.values.order.first.metric);
    Picker::at(Order::rows(state, "").iter().position(|row| row.item == present).unwrap_or(0))
}

impl Choices for Order {
    type Item = &'static Metric;
    const TITLE: &'static str = "Order processes by";
    const CHOOSE: &'static str = "order by it";
    const SECOND: Option<&'static str> = Some("second order, for ties");
    const LOOK: Look = Look { name: 16, keys: 0, keys_first: false, no_now: 8 };

    fn rows(state: &State, typed: &str) -> Vec<Row<&'static Metric>> {
        let row = |metric: &'static Metric| {
            let now = match state.values.order {
                order if order.first.metric == metric => "first",
                order if order.then.is_some_and(|then| then.metric == metric) => "second",
                _ => "",
            };
            Row { now: now.to_owned(), ..Row::new(Some(metric), metric.alias, metric.help) }
        };
        metrics(typed).into_iter().map(row).collect()
    }

    fn choose(metric: &'static Metric, second: bool, state: &mut State) -> After {
        if second {
            state.order_by(state.values.order.then_by(metric));
            return After::Stay;
        }
        state.order_by(state.values.order.first_by(metric));
        After::Close
    }
}
