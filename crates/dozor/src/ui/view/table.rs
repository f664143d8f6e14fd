//! The table of processes. Only rows that can be seen are formatted.

use super::{put, put_right, rule};
use crate::ui::columns::{self, Column, Columns, TREND};
use crate::ui::layout::Layout;
use crate::ui::state::{State, TREND_SAMPLES};
use crate::ui::theme::{Depth, Ground, Role};
use dozor_core::catalogue::{Metric, Unit, Value};
use dozor_core::lane::{Lane, Severity};
use dozor_core::reading::{ProcessKey, ProcessRow};
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use std::time::Instant;

const BARS: [&str; 9] = ["▁", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// Draws title, headings and rows.
pub fn draw(state: &State, buffer: &mut Buffer, layout: &Layout, now: Instant) {
    let columns = columns::fit(state.lane, state.order.metric, layout.rows.width);
    tint_ordering_column(state, buffer, layout, &columns);
    title(state, buffer, layout.title, now);
    headings(state, buffer, layout.headings, &columns);
    let Some(sample) = &state.sample else { return };
    let height = usize::from(layout.rows.height);
    let visible: Vec<usize> = state.rows.iter().skip(state.scroll).take(height).copied().collect();
    let trends = columns.trend.map(|_| trends(state, sample, &visible));
    for (row, (y, place)) in (layout.rows.top()..layout.rows.bottom()).zip(visible).enumerate() {
        let area = Rect { y, height: 1, ..layout.rows };
        draw_row(state, buffer, area, sample, place, &columns);
        if let (Some(x), Some(trends)) = (columns.trend, &trends) {
            draw_trend(state, buffer, x, y, &trends[row]);
        }
        if state.selected == Some(sample.now.processes[place].key()) {
            even_out(state, buffer, area);
        }
    }
    if state.rows.is_empty() && !state.narrow.is_empty() {
        let text = format!("no process contains '{}'; esc shows all", state.narrow.text());
        put(buffer, 4, layout.rows.y, layout.rows.width - 4, &text, state.theme.role(Role::Quiet));
    }
}

fn tint_ordering_column(state: &State, buffer: &mut Buffer, layout: &Layout, columns: &Columns) {
    if let Some(column) = columns.list.iter().find(|column| column.metric == state.order.metric) {
        let x = column.x.saturating_sub(1);
        let width = (column.width + 2).min(layout.rows.right().saturating_sub(x));
        let height = layout.rows.bottom() - layout.headings.y;
        buffer
            .set_style(Rect { x, y: layout.headings.y, width, height }, state.theme.ground(Ground::Ordered));
    }
}

fn title(state: &State, buffer: &mut Buffer, area: Rect, now: Instant) {
    let order = state.order;
    let arrow = if order.descending { "▾" } else { "▴" };
    let of = state.lane.map_or(String::new(), |lane| format!(" for {}", lane.name()));
    let begin = rule(buffer, area, &format!("Processes{of} by {} {arrow}", order.metric.heading), state);
    let total = state.sample.as_ref().map_or(0, |sample| sample.now.processes.len());
    let mut parts = vec![format!("{} of {total}", state.rows.len())];
    parts.push(if state.narrow.is_empty() {
        "everyone".to_owned()
    } else {
        format!("narrowed: {}", state.narrow.text())
    });
    if !state.marked.is_empty() {
        parts.push(format!("{} marked", state.marked.len()));
    }
    if state.is_held(now) {
        parts.push("order held while you choose".to_owned());
    }
    let text = format!(" {} ", parts.join(" · "));
    let room = area.right().saturating_sub(begin + 4);
    put_right(buffer, area.right().saturating_sub(3), area.y, room, &text, state.theme.role(Role::Quiet));
}

fn headings(state: &State, buffer: &mut Buffer, area: Rect, columns: &Columns) {
    for column in &columns.list {
        let ordering = column.metric == state.order.metric;
        let arrow = if state.order.descending { "▾" } else { "▴" };
        let text = if ordering {
            format!("{}{arrow}", column.metric.heading)
        } else {
            column.metric.heading.to_owned()
        };
        let style = if ordering {
            state.theme.role(Role::Accent).add_modifier(Modifier::BOLD)
        } else {
            state.theme.role(Role::Quiet)
        };
        if column.metric.unit.is_text() {
            put(buffer, column.x, area.y, column.width, &text, style);
        } else {
            put_right(buffer, column.x + column.width, area.y, column.width, &text, style);
        }
    }
    if let Some(x) = columns.trend {
        let seconds = state.every.as_secs_f64() * TREND_SAMPLES as f64;
        let text = format!("trend, {:.0} min", (seconds / 60.0).max(1.0));
        put(buffer, x, area.y, TREND, &text, state.theme.role(Role::Quiet));
    }
}

fn draw_row(
    state: &State,
    buffer: &mut Buffer,
    area: Rect,
    sample: &Sample,
    place: usize,
    columns: &Columns,
) {
    let view = sample.process(place);
    let key = view.now.key();
    let theme = &state.theme;
    if state.selected == Some(key) {
        buffer.set_style(area, theme.ground(Ground::Selected));
        put(buffer, area.x, area.y, 1, "▸", theme.role(Role::Accent));
    }
    if state.marked.contains(&key) {
        put(buffer, area.x + 1, area.y, 1, "✓", theme.role(Role::Accent));
    }
    for column in &columns.list {
        if column.metric.alias == "command" {
            command(state, buffer, column, area.y, view.now);
            continue;
        }
        let value = column.metric.of(&view);
        let text = cell_text(column.metric, &value);
        let style = cell_style(state, column.metric, &value);
        if column.metric.unit.is_text() {
            put(buffer, column.x, area.y, column.width, &text, style);
        } else {
            put_right(buffer, column.x + column.width, area.y, column.width, &text, style);
        }
    }
}

fn cell_text(metric: &Metric, value: &Value) -> String {
    match (metric.unit, value) {
        (Unit::Percent | Unit::PercentOfCore, Value::Number(number)) if *number == 0.0 => "0".to_owned(),
        _ => value.short(metric.unit),
    }
}

fn cell_style(state: &State, metric: &Metric, value: &Value) -> Style {
    let theme = &state.theme;
    let role = match value {
        Value::Absent | Value::Denied => Role::Quiet,
        Value::Number(number) if *number == 0.0 => Role::Quiet,
        Value::Word("running") => Role::Lane(Lane::Cpu),
        Value::Word("blocked" | "zombie") => Role::Severity(Severity::Critical),
        Value::Word("stopped" | "traced") => Role::Severity(Severity::Warning),
        Value::Word(_) => Role::Quiet,
        _ if metric == state.order.metric => return theme.role(Role::Accent),
        _ if matches!(metric.alias, "user" | "real_user" | "age" | "pid") => Role::Quiet,
        _ => Role::Text,
    };
    theme.role(role)
}

/// Without colours the selected row is turned round as a whole; receding text in it would leave dark patches.
fn even_out(state: &State, buffer: &mut Buffer, area: Rect) {
    if matches!(state.theme.depth, Depth::Sixteen | Depth::Mono) {
        buffer.set_style(area, Style::new().remove_modifier(Modifier::DIM));
    }
}

/// The program's base name stands out in the command; the way to it and the arguments recede.
fn command(state: &State, buffer: &mut Buffer, column: &Column, y: u16, row: &ProcessRow) {
    let text = &*row.command;
    let (strong, quiet) = (state.theme.role(Role::Strong), state.theme.role(Role::Quiet));
    let first_end = text.find(' ').unwrap_or(text.len());
    let base = text[..first_end].rfind('/').filter(|_| text.starts_with('/')).map_or(0, |slash| slash + 1);
    let end = column.x + column.width;
    let style = if text.starts_with('[') { quiet } else { strong };
    let mut x = put(buffer, column.x, y, column.width, &text[base..first_end], style);
    // A thread of control may rename itself; then both names are shown.
    if !row.name.is_empty() && !text.starts_with('[') && !text[..first_end].contains(&*row.name) {
        x = put(
            buffer,
            x,
            y,
            end.saturating_sub(x),
            &format!(" ({})", row.name),
            state.theme.role(Role::Text),
        );
    }
    put(buffer, x, y, end.saturating_sub(x), &text[first_end..], quiet);
}

/// Values of the ordering metric over the window for each visible row, brought to the largest among them.
fn trends(state: &State, sample: &Sample, visible: &[usize]) -> Vec<[Option<f64>; TREND as usize]> {
    let metric = state.order.metric;
    let metric = if metric.unit.is_text() || metric.unit == Unit::Time {
        state.lane.unwrap_or(Lane::Cpu).lens()
    } else {
        metric
    };
    let keys: Vec<ProcessKey> = visible.iter().map(|place| sample.now.processes[*place].key()).collect();
    let mut trends = vec![[None; TREND as usize]; keys.len()];
    let missing = TREND_SAMPLES - state.window.len().min(TREND_SAMPLES);
    for (at, past) in state.window.iter().enumerate() {
        let column = (missing + at) * usize::from(TREND) / TREND_SAMPLES;
        for (key, trend) in keys.iter().zip(&mut trends) {
            if let Some(place) = past.find(*key)
                && let Some(value) = metric.of(&past.process(place)).number()
            {
                trend[column] = Some(trend[column].unwrap_or(0.0f64).max(value));
            }
        }
    }
    let largest = trends.iter().flatten().flatten().copied().fold(0.0, f64::max);
    if largest > 0.0 {
        trends.iter_mut().flatten().flatten().for_each(|value| *value /= largest);
    }
    trends
}

fn draw_trend(state: &State, buffer: &mut Buffer, x: u16, y: u16, trend: &[Option<f64>; TREND as usize]) {
    let hue = state.theme.role(Role::Lane(state.lane.unwrap_or(Lane::Cpu)));
    for (x, value) in (x..).zip(trend) {
        let Some(value) = value else { continue };
        let level = (value * 8.0).round() as usize;
        let style = if level == 0 { state.theme.role(Role::Line) } else { hue };
        put(buffer, x, y, 1, BARS[level.min(8)], style);
    }
}
