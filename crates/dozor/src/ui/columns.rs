//! Which columns the table shows, and how wide they are.

use dozor_core::catalogue::{Metric, Unit, listed};
use dozor_core::lane::Lane;
use unicode_width::UnicodeWidthStr;

/// Columns before those of the lane.
const LEADING: [&str; 3] = ["pid", "user", "state"];
/// Columns of the overview: a cell for each resource, so that one look tells who uses what.
const OVERVIEW: [&str; 8] = ["cpu", "rss", "disk", "net", "core_temp", "threads", "nice", "age"];
/// Columns of the overview that have bars.
pub const BARRED: &[&str] = &["cpu", "rss", "disk", "net"];
/// Least room for the command.
const COMMAND: u16 = 18;
/// The same in the overview of a narrow screen, where a cell for each resource matters more.
const SHORT_COMMAND: u16 = 11;
/// Width of the trend.
pub const TREND: u16 = 14;
/// Width of the time near the top.
pub const ON_TOP: u16 = 8;
/// From this width on there are trends, and bars in the overview are wide.
const WIDE: u16 = 130;

/// One column at its place; columns are separated by two blanks.
#[derive(Clone, Copy, Debug)]
pub struct Column {
    /// What it shows.
    pub metric: &'static Metric,
    /// First cell, counted from the left edge of the table.
    pub x: u16,
    /// Cells.
    pub width: u16,
    /// Cells at its left that show the value against the largest of all rows; 0 for none.
    pub bar: u16,
    /// The resource whose hue the bar has.
    pub lane: Option<Lane>,
}

/// Columns of the table, the trend and the command.
#[derive(Clone, Debug)]
pub struct Columns {
    /// Metrics from left to right; the command is the last of them and takes what is left.
    pub list: Vec<Column>,
    /// First cell of the trend, where there is room for it.
    pub trend: Option<u16>,
    /// First cell of the time near the top.
    pub on_top: Option<u16>,
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

/// The resource that a column of the overview stands for.
fn resource(metric: &Metric) -> Option<Lane> {
    Some(match metric.alias {
        "cpu" => Lane::Cpu,
        "rss" => Lane::Memory,
        "disk" => Lane::Disk,
        "net" => Lane::Network,
        _ => return None,
    })
}

/// What the trend shows: the ordering metric, or the lane's own where that one has no course.
pub fn trend_metric(lane: Option<Lane>, order: &'static Metric) -> &'static Metric {
    if order.unit.is_text() || order.unit == Unit::Time || matches!(order.alias, "pid" | "ppid") {
        lane.unwrap_or(Lane::Cpu).lens()
    } else {
        order
    }
}

/// Fits columns into a width: those of the lane as far as there is room, the ordering column always.
pub fn fit(lane: Option<Lane>, order: &'static Metric, available: u16) -> Columns {
    let of_lane = lane.map_or(&OVERVIEW[..], Lane::columns);
    let mut wanted: Vec<&'static Metric> = LEADING.iter().chain(of_lane).map(|alias| listed(alias)).collect();
    if order.alias != "command" && !wanted.contains(&order) {
        wanted.insert(LEADING.len(), order);
    }
    // The scroll bar stands at the right edge.
    let available = available.saturating_sub(1);
    let wide = available >= WIDE;
    let command = if lane.is_none() && available < 100 { SHORT_COMMAND } else { COMMAND };
    let mut x = 2;
    let mut list = vec![];
    let (mut trend, mut on_top) = (None, None);
    // The trend stands behind the first three numbers of a wide table; in the overview behind the resources.
    let before_trend = LEADING.len() + if lane.is_none() { 3 } else { 2 };
    for (at, metric) in wanted.into_iter().enumerate() {
        let hue = if lane.is_none() { resource(metric) } else { None };
        let bar = match hue {
            Some(_) if wide => 5,
            Some(_) => 1,
            None => 0,
        };
        let width = width(metric) + bar;
        let needed = x + width + 2 + command;
        if needed > available && at >= LEADING.len() && metric != order {
            continue;
        }
        list.push(Column { metric, x, width, bar, lane: hue });
        x += width + 2;
        if at == before_trend && wide {
            trend = Some(x);
            x += TREND + 2;
            on_top = Some(x);
            x += ON_TOP + 2;
        }
    }
    list.push(Column {
        metric: listed("command"),
        x,
        width: available.saturating_sub(x),
        bar: 0,
        lane: None,
    });
    Columns { list, trend, on_top }
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
                    let fits = |last: &Column| last.x + last.width <= available.max(last.x);
                    assert!(columns.list.last().is_some_and(fits));
                }
            }
        }
    }

    #[test]
    fn the_overview_has_a_cell_for_each_resource_even_on_a_narrow_screen() {
        let columns = fit(None, listed("cpu"), 80);
        let aliases: Vec<_> = columns.list.iter().map(|column| column.metric.alias).collect();
        assert_eq!(aliases, ["pid", "user", "state", "cpu", "rss", "disk", "net", "command"]);
    }
}
