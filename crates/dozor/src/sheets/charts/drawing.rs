//! Panes of lines in cells: two steps of height in each, and the values at the time cursor beside them.

use super::model::{ChartSheet, Line, Pane};
use crate::draw::{put, put_right};
use crate::look::theme::{Role, Theme};
use crate::state::State;
use dozor_core::chart::{Series, number_ticks, time_ticks};
use dozor_core::lane::Lane;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

/// Cells for the numbers at the left.
const SCALE: u16 = 8;
/// Cells for names and values at the right, where there is room.
const NAMES: u16 = 34;
/// The same on a wide screen.
const WIDE_NAMES: u16 = 42;

/// Draws all panes over one time axis.
pub fn draw(sheet: &ChartSheet, state: &State, buffer: &mut Buffer, place: Rect) {
    let theme = &state.theme;
    let names = match place.width {
        130.. => WIDE_NAMES,
        91.. => NAMES,
        narrow => narrow / 3,
    };
    let wide = place.width.saturating_sub(SCALE + names + 1);
    if wide < 10 || place.height < 5 {
        put(
            buffer,
            place.x,
            place.y,
            place.width,
            "there is too little room for charts",
            theme.role(Role::Quiet),
        );
        return;
    }
    let (from, until) = sheet.span(state);
    let column = |wall: i64| {
        let part = (wall - from) as f64 / (until - from).max(1) as f64;
        (0.0..=1.0).contains(&part).then(|| ((part * f64::from(wide)) as u16).min(wide - 1))
    };
    let field = Rect { x: place.x + SCALE, y: place.y, width: wide, height: place.height - 1 };
    let each = field.height / sheet.panes.len().max(1) as u16;
    for (at, pane) in sheet.panes.iter().enumerate() {
        let area = Rect { y: field.y + at as u16 * each, height: each, ..field };
        let cursor = state.moment().sample.as_ref().map(|sample| sample.now.wall_ns());
        draw_pane((pane, at == sheet.chosen), theme, buffer, area, (names, cursor, &column));
    }
    let cursor = state.moment().sample.as_ref().and_then(|sample| column(sample.now.wall_ns()));
    if let Some(cursor) = cursor {
        for y in field.top()..field.bottom() {
            let cell = &mut buffer[(field.x + cursor, y)];
            if matches!(cell.symbol(), " " | "┄") {
                cell.set_symbol("┃").set_style(theme.role(Role::Accent).remove_modifier(Modifier::DIM));
            }
        }
    }
    let axis = place.bottom() - 1;
    for (wall, text) in time_ticks(from, until, usize::from(wide / 14).max(2), &state.time().zone) {
        // A time that does not fit would be another one when it is cut.
        if let Some(at) = column(wall).filter(|at| usize::from(wide - at) > text.len()) {
            put(buffer, field.x + at, axis, wide - at, &format!("╵{text}"), theme.role(Role::Quiet));
        }
    }
}

/// The look of a line: hues of the resources, the first that of its own.
fn style(theme: &Theme, at: usize, line: &Line) -> Style {
    let metric = line.series.metric;
    let own = dozor_export::hues::lane_of(metric.alias, metric.name).unwrap_or(Lane::Cpu);
    let begin = Lane::ALL.iter().position(|lane| *lane == own).unwrap_or(0);
    let style = theme.role(Role::Lane(Lane::ALL[(begin + at * 2) % Lane::ALL.len()]));
    if line.before { theme.role(Role::Quiet) } else { style }
}

/// The sign of a line, by which lines are told apart without colour.
const SIGNS: [&str; 6] = ["▀", "━", "·", "╌", "○", "▪"];

fn draw_pane(
    (pane, chosen): (&Pane, bool),
    theme: &Theme,
    buffer: &mut Buffer,
    area: Rect,
    (names, cursor, column): (u16, Option<i64>, &dyn Fn(i64) -> Option<u16>),
) {
    if area.height < 2 {
        return;
    }
    let title = pane.wishes.iter().map(dozor_core::chart::Wish::text).collect::<Vec<_>>().join(" ");
    let role = if chosen { Role::Accent } else { Role::Strong };
    let mark = if chosen { "▸" } else { " " };
    put(
        buffer,
        area.x - SCALE,
        area.y,
        area.width + SCALE,
        &format!("{mark}{title}"),
        theme.role(role).add_modifier(Modifier::BOLD),
    );
    let plot = Rect { y: area.y + 1, height: area.height - 1, ..area };
    // One scale for all lines of a unit; with a second unit each has its own, which its values tell.
    let unit = pane.lines.first().map(|line| line.series.metric.unit);
    let most_of = |unit| {
        let same = pane.lines.iter().filter(|line| line.series.metric.unit == unit);
        same.map(|line| line.series.most()).fold(0.0, f64::max)
    };
    let Some(unit) = unit else {
        put(buffer, plot.x, plot.y, plot.width, "a adds a metric", theme.role(Role::Quiet));
        return;
    };
    let ticks = number_ticks(
        unit,
        0.0,
        most_of(unit).max(f64::MIN_POSITIVE),
        usize::from(plot.height / 3).clamp(1, 5),
    );
    let full = ticks.at.last().map_or(1.0, |tick| tick.0);
    let steps = plot.height * 2;
    for (value, text) in &ticks.at {
        let step = ((value / full) * f64::from(steps - 1)).round() as u16;
        let y = plot.bottom() - 1 - step / 2;
        put_right(buffer, plot.x - 1, y, SCALE - 1, text, theme.role(Role::Quiet));
        for x in plot.left()..plot.right() {
            put(buffer, x, y, 1, "┄", theme.role(Role::Line));
        }
    }
    put(buffer, area.x - SCALE + 1, plot.bottom() - 1, SCALE, "", theme.role(Role::Quiet));
    // The last first, so that the largest stands above the others.
    for (at, line) in pane.lines.iter().enumerate().rev() {
        let scale = if line.series.metric.unit == unit {
            full
        } else {
            most_of(line.series.metric.unit).max(f64::MIN_POSITIVE)
        };
        draw_line((at, line), theme, buffer, plot, (scale, column));
    }
    let x = plot.right() + 1;
    put(buffer, x, area.y, names, &format!("{} · at the cursor", ticks.unit), theme.role(Role::Quiet));
    for (at, line) in pane.lines.iter().enumerate() {
        let y = plot.y + at as u16;
        if y >= plot.bottom() {
            break;
        }
        let value = cursor.and_then(|wall| at_instant(&line.series, wall));
        let text = value.map_or("–".to_owned(), |value| line.series.metric.unit.long(value));
        let least = if line.series.at_least && value.is_some() { "≥ " } else { "" };
        let end = put_right(buffer, x + names, y, 14, &format!("{least}{text}"), theme.role(Role::Text));
        let sign = SIGNS[at % SIGNS.len()];
        put(buffer, x, y, 2, sign, style(theme, at, line));
        let name = match (line.series.name.as_str(), line.before) {
            ("", true) => format!("{} before", line.series.metric.alias),
            ("", false) => line.series.metric.alias.to_owned(),
            (name, true) => format!("{name} before"),
            (name, false) => name.to_owned(),
        };
        let several = pane.lines.iter().any(|other| other.series.metric != line.series.metric);
        let name = if several && !line.series.name.is_empty() {
            format!("{} {name}", line.series.metric.alias)
        } else {
            name
        };
        let name = if line.series.metric.unit == unit { name } else { format!("{name}, own scale") };
        put(buffer, x + 2, y, end.saturating_sub(x + 3), &name, style(theme, at, line));
    }
}

/// The value at an instant.
fn at_instant(series: &Series, wall: i64) -> Option<f64> {
    let point = series.points.iter().find(|point| point.until_ns >= wall)?;
    (point.from_ns <= wall).then_some(point.high)
}

/// A line: in each column from the smallest to the largest of its values, joined to the one before.
fn draw_line(
    (at, line): (usize, &Line),
    theme: &Theme,
    buffer: &mut Buffer,
    plot: Rect,
    (full, column): (f64, &dyn Fn(i64) -> Option<u16>),
) {
    let steps = plot.height * 2;
    let step = |value: f64| ((value / full).clamp(0.0, 1.0) * f64::from(steps - 1)).round() as u16;
    let mut columns: Vec<Option<(u16, u16)>> = vec![None; usize::from(plot.width)];
    for run in line.series.runs() {
        let mut before: Option<(u16, u16)> = None;
        for point in run {
            // A value holds from the beginning of its time to its end.
            let Some(last) = column(point.until_ns) else { continue };
            let first =
                before.map_or_else(|| column(point.from_ns).unwrap_or(last), |(at, _)| (at + 1).min(last));
            let (low, high) = (step(point.low), step(point.high));
            for at in first..=last {
                let joined = before
                    .filter(|_| at == first)
                    .map_or((low, high), |(_, height)| (low.min(height), high.max(height)));
                let cell = &mut columns[usize::from(at)];
                *cell = Some(cell.map_or(joined, |(a, b)| (a.min(joined.0), b.max(joined.1))));
            }
            before = Some((last, high));
        }
    }
    // What recedes below it must not make it recede: without colours that is all that is seen.
    let look = style(theme, at, line);
    let look = if line.before { look } else { look.remove_modifier(Modifier::DIM) };
    for (x, span) in columns.into_iter().enumerate() {
        let Some((low, high)) = span else { continue };
        for row in low / 2..=high / 2 {
            let (lower, upper) = (row * 2 >= low && row * 2 <= high, row * 2 < high && row * 2 + 1 >= low);
            let symbol = match (lower, upper, at % SIGNS.len()) {
                (true, true, 0) => "█",
                (true, false, 0) => "▄",
                (false, true, 0) => "▀",
                _ => SIGNS[at % SIGNS.len()],
            };
            put(buffer, plot.x + x as u16, plot.bottom() - 1 - row, 1, symbol, look);
        }
    }
}
