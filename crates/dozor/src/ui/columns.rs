//! Which columns the table shows, and how wide they are.

use dozor_core::catalogue::{Metric, listed};
use dozor_core::lane::Lane;
use unicode_width::UnicodeWidthStr;

/// Columns before those of the lane.
const LEADING: [&str; 3] = ["pid", "user", "state"];
/// Columns of the overview: one look tells who uses what.
const OVERVIEW: [&str; 8] = ["cpu", "rss", "read", "write", "threads", "nice", "core", "age"];
/// Least room for the command.
const COMMAND: u16 = 18;
/// Width of the trend.
pub const TREND: u16 = 14;

/// One column at its place; columns are separated by two blanks.
#[derive(Clone, Copy, Debug)]
pub struct Column {
    /// What it shows.
    pub metric: &'static Metric,
    /// First cell, counted from the left edge of the table.
    pub x: u16,
    /// Cells.
    pub width: u16,
}

/// Columns of the table, the trend and the command.
#[derive(Clone, Debug)]
pub struct Columns {
    /// Metrics from left to right; the command is the last of them and takes what is left.
    pub list: Vec<Column>,
    /// First cell of the trend, where there is room for it.
    pub trend: Option<u16>,
}

/// Cells that a column needs.
fn width(metric: &Metric) -> u16 {
    let least = match metric.alias {
        "pid" | "ppid" => 7,
        "state" | "user" => 8,
        "nice" | "core" => 3,
        _ => metric.unit.width(),
    };
    // One more cell than the heading, for the arrow of the order.
    least.max(metric.heading.width() + 1) as u16
}

/// Fits columns into a width: those of the lane as far as there is room, the ordering column always.
pub fn fit(lane: Option<Lane>, order: &'static Metric, available: u16) -> Columns {
    let of_lane = lane.map_or(&OVERVIEW[..], Lane::columns);
    let mut wanted: Vec<&'static Metric> = LEADING.iter().chain(of_lane).map(|alias| listed(alias)).collect();
    if order.alias != "command" && !wanted.contains(&order) {
        wanted.insert(LEADING.len(), order);
    }
    let mut x = 2;
    let mut list = vec![];
    let mut trend = None;
    for (at, metric) in wanted.into_iter().enumerate() {
        let width = width(metric);
        let needed = x + width + 2 + COMMAND;
        if needed > available && at >= LEADING.len() && metric != order {
            continue;
        }
        list.push(Column { metric, x, width });
        x += width + 2;
        // The trend stands behind the first three numbers of a wide table.
        if at == LEADING.len() + 2 && available >= 130 {
            trend = Some(x);
            x += TREND + 2;
        }
    }
    list.push(Column { metric: listed("command"), x, width: available.saturating_sub(x) });
    Columns { list, trend }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_never_overlap_and_the_ordering_one_is_always_there() {
        for lane in [None, Some(Lane::Disk), Some(Lane::Cpu), Some(Lane::Network)] {
            for order in ["cpu", "priority", "write", "command", "switches_forced"] {
                for available in 60..250 {
                    let order = listed(order);
                    let columns = fit(lane, order, available);
                    assert!(columns.list.iter().any(|column| column.metric == order));
                    for pair in columns.list.windows(2) {
                        assert!(pair[0].x + pair[0].width < pair[1].x);
                    }
                    assert!(
                        columns.list.last().is_some_and(|last| last.x + last.width <= available.max(last.x))
                    );
                }
            }
        }
    }
}
