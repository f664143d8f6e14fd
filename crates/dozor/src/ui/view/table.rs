//! The table of processes. Only rows that can be seen are formatted.

use super::{BARS, SIDEWAYS, even_out, put, put_right, rule};
use crate::ui::columns::{self, Column, Columns, ON_TOP, TREND};
use crate::ui::layout::Layout;
use crate::ui::state::{State, TREND_SAMPLES};
use crate::ui::theme::{Ground, Role};
use crate::ui::trend::Trend;
use crate::ui::update::thumb;
use dozor_core::aside::is_gathered;
use dozor_core::catalogue::{Metric, Unit, Value, listed};
use dozor_core::lane::{Lane, Severity};
use dozor_core::rank::{Everybody, Listed};
use dozor_core::reading::ProcessRow;
use dozor_core::row::Row as _;
use dozor_core::sample::ProcessView;
use dozor_core::units::short_duration;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use std::time::Instant;

/// A process is marked as just started for so long, in seconds, or for two samples.
const NEW: f64 = 5.0;
/// Time near the top from which on it is said, in seconds, and from which on it stands out.
const PERSISTENT: [f64; 2] = [10.0, 60.0];

/// What all rows of a frame share.
struct Table<'a> {
    state: &'a State,
    columns: Columns,
    everybody: Everybody<'a>,
}

/// Draws title, headings and rows.
pub fn draw(state: &State, buffer: &mut Buffer, layout: &Layout, now: Instant) {
    let columns = columns::fit(state.lane, state.order.metric, layout.rows.width);
    tint_ordering_column(state, buffer, layout, &columns);
    title(state, buffer, layout.title, now);
    headings(state, buffer, layout.headings, &columns);
    let Some(everybody) = state.everybody() else { return };
    let table = Table { state, columns, everybody };
    let height = usize::from(layout.rows.height);
    let visible = state.rows.iter().skip(state.scroll).take(height);
    for (row, (y, listed)) in (layout.rows.top()..layout.rows.bottom()).zip(visible).enumerate() {
        let area = Rect { y, height: 1, width: layout.rows.width - 1, ..layout.rows };
        table.row(buffer, area, *listed);
        if let (Some(x), Some(trend)) = (table.columns.trend, state.trends.list.get(row)) {
            draw_trend(state, buffer, x, y, trend);
        }
        if state.selected == Some(everybody.view(*listed).now.key()) {
            even_out(state, buffer, area);
        }
    }
    scroll_bar(state, buffer, layout);
    if state.rows.is_empty() {
        let text = if state.narrow.is_empty() {
            "no process; esc shows all".to_owned()
        } else {
            format!("no process contains '{}'; esc shows all", state.narrow.text())
        };
        put(buffer, 4, layout.rows.y, layout.rows.width - 4, &text, state.theme.role(Role::Quiet));
    }
}

fn scroll_bar(state: &State, buffer: &mut Buffer, layout: &Layout) {
    let area = layout.scroll_bar();
    if state.rows.len() <= usize::from(area.height) {
        return;
    }
    let (first, length) = thumb(state, layout);
    for line in 0..area.height {
        let (sign, role) =
            if (first..first + length).contains(&line) { ("█", Role::Quiet) } else { ("│", Role::Line) };
        put(buffer, area.x, area.y + line, 1, sign, state.theme.role(role));
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
    let begin = rule(buffer, area, &format!("Processes by {} {arrow}", order.metric.heading), state);
    let total = state.sample.as_ref().map_or(0, |sample| sample.tasks().total);
    // Traffic of nobody and those who are gone are rows, but no processes.
    let is_process = |row: &&Listed| match (row, &state.sample) {
        (Listed::Here(at), Some(sample)) => sample.now.processes[*at].pid.value().is_some(),
        _ => false,
    };
    let here = state.rows.iter().filter(is_process).count();
    let mut parts = vec![];
    match &state.users_of {
        Some(Ok(words)) => parts.push(words.clone()),
        Some(Err(reason)) => parts.push(format!("all: {reason}")),
        None => {}
    }
    parts.push(format!("{here} of {total}"));
    if !state.narrow.is_empty() {
        parts.push(format!("narrowed: {}", state.narrow.text()));
    } else if state.users_of.is_none() {
        parts.push("everyone".to_owned());
    }
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
        } else if let Some(lane) = column.lane {
            state.theme.role(Role::Lane(lane))
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
        let text = if seconds < 90.0 {
            format!("trend, {seconds:.0} s")
        } else {
            format!("trend, {:.0} min", seconds / 60.0)
        };
        put(buffer, x, area.y, TREND, &text, state.theme.role(Role::Quiet));
    }
    if let Some(x) = columns.on_top {
        put_right(buffer, x + ON_TOP, area.y, ON_TOP, "near top", state.theme.role(Role::Quiet));
    }
}

impl Table<'_> {
    fn row(&self, buffer: &mut Buffer, area: Rect, listed: Listed) {
        let (state, theme) = (self.state, &self.state.theme);
        let view = self.everybody.view(listed);
        let key = view.now.key();
        let receding = matches!(listed, Listed::Gone(_));
        if state.selected == Some(key) {
            buffer.set_style(area, theme.ground(Ground::Selected));
            put(buffer, area.x, area.y, 1, "▸", theme.role(Role::Accent));
        }
        if state.marked.contains(&key) {
            put(buffer, area.x + 1, area.y, 1, "✓", theme.role(Role::Accent));
        } else if !receding && self.has_just_started(&view) {
            put(buffer, area.x + 1, area.y, 1, "+", theme.role(Role::Accent));
        }
        for column in &self.columns.list {
            if column.metric.alias == "command" {
                command(state, buffer, column, area.y, view.now, receding);
            } else {
                self.cell(buffer, area.y, column, &view, receding);
            }
        }
        if let Some(x) = self.columns.on_top.filter(|_| !receding) {
            self.near_top(buffer, x, area.y, &view);
        }
    }

    fn cell(&self, buffer: &mut Buffer, y: u16, column: &Column, view: &ProcessView<'_>, receding: bool) {
        let (state, theme) = (self.state, &self.state.theme);
        // Rows that stand for several processes have no PID of their own.
        let gathered = is_gathered(view.now.key()) && matches!(column.metric.alias, "pid" | "ppid" | "age");
        let value = if gathered { Value::Absent } else { column.metric.of(view) };
        let text = cell_text(column.metric, &value);
        let style = if receding { theme.role(Role::Quiet) } else { cell_style(state, column.metric, &value) };
        if column.metric.unit.is_text() {
            put(buffer, column.x, y, column.width, &text, style);
        } else {
            let room = column.width - column.bar;
            put_right(buffer, column.x + column.width, y, room, &text, style);
        }
        let largest = state.largest.get(column.metric.alias).copied().unwrap_or(0.0);
        if let (Some(lane), Some(value)) = (column.lane.filter(|_| largest > 0.0), value.number()) {
            let style = if receding { theme.role(Role::Quiet) } else { theme.role(Role::Lane(lane)) };
            share(buffer, column.x, y, column.bar, value / largest, style);
        }
    }

    fn has_just_started(&self, view: &ProcessView<'_>) -> bool {
        let least = NEW.max(2.0 * self.state.every.as_secs_f64());
        listed("age").of(view).number().is_some_and(|age| age < least)
    }

    fn near_top(&self, buffer: &mut Buffer, x: u16, y: u16, view: &ProcessView<'_>) {
        let Some(stay) = self.state.persistence.of(view.now.key()) else { return };
        let seconds = (view.sample.now.wall_ns() - stay.since_ns) as f64 / 1e9;
        if seconds < PERSISTENT[0] {
            return;
        }
        let role = if seconds >= PERSISTENT[1] { Role::Strong } else { Role::Quiet };
        let sign = if stay.at_least { ">" } else { "" };
        let text = format!("{sign}{}", short_duration(seconds));
        put_right(buffer, x + ON_TOP, y, ON_TOP, &text, self.state.theme.role(role));
    }
}

/// A part of the largest value: a bar to the right where there are cells for one, else a bar upwards.
fn share(buffer: &mut Buffer, x: u16, y: u16, cells: u16, part: f64, style: Style) {
    let part = part.clamp(0.0, 1.0);
    if cells < 3 {
        let level = (part * 8.0).round() as usize;
        put(buffer, x, y, 1, BARS[level], style);
        return;
    }
    // The last cell stays free, so that the bar does not touch the number.
    let eighths = (part * f64::from(cells - 1) * 8.0).round() as usize;
    for cell in 0..usize::from(cells - 1) {
        let level = eighths.saturating_sub(cell * 8).min(8);
        if level > 0 {
            put(buffer, x + cell as u16, y, 1, SIDEWAYS[level], style);
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

/// The program's base name stands out in the command; the way to it and the arguments recede.
fn command(state: &State, buffer: &mut Buffer, column: &Column, y: u16, row: &ProcessRow, receding: bool) {
    let text = &*row.command;
    let (strong, quiet) = (state.theme.role(Role::Strong), state.theme.role(Role::Quiet));
    let first_end = text.find(' ').unwrap_or(text.len());
    let base = text[..first_end].rfind('/').filter(|_| text.starts_with('/')).map_or(0, |slash| slash + 1);
    let end = column.x + column.width;
    let style = if receding || text.starts_with('[') { quiet } else { strong };
    let mut x = put(buffer, column.x, y, column.width, &text[base..first_end], style);
    // A thread of control may rename itself; then both names are shown.
    if !row.name.is_empty()
        && !receding
        && row.pid.value().is_some()
        && !text.starts_with('[')
        && !text[..first_end].contains(&*row.name)
    {
        let room = end.saturating_sub(x);
        x = put(buffer, x, y, room, &format!(" ({})", row.name), state.theme.role(Role::Text));
    }
    put(buffer, x, y, end.saturating_sub(x), &text[first_end..], quiet);
}

fn draw_trend(state: &State, buffer: &mut Buffer, x: u16, y: u16, trend: &Trend) {
    let hue = state.theme.role(Role::Lane(state.lane.unwrap_or(Lane::Cpu)));
    for (x, value) in (x..).zip(trend) {
        let Some(value) = value else { continue };
        let level = (value * 8.0).round() as usize;
        let style = if level == 0 { state.theme.role(Role::Line) } else { hue };
        put(buffer, x, y, 1, BARS[level.clamp(1, 8)], style);
    }
}
