//! The table of processes. Only rows that can be seen are formatted.

use super::{cell, command};
use crate::draw::{BARS, SIDEWAYS, even_out, put, put_right, rule};
use crate::look::action::Action;
use crate::look::columns::{self, Column, Columns, ON_TOP};
use crate::look::layout::Layout;
use crate::look::theme::{Ground, Role};
use crate::state::State;
use crate::state::trend::TREND_SAMPLES;
use crate::state::trend::Trend;
use dozor_core::catalogue::{Combine, Metric, Unit, Value, listed};
use dozor_core::exited::is_gathered;
use dozor_core::expr::{Bound, Node};
use dozor_core::lane::{Lane, Severity};
use dozor_core::rank::{Arrange, Line, Order, Population, RowRef, Total, Whose};
use dozor_core::row::Row as _;
use dozor_core::sample::ProcessView;
use dozor_core::units::{long_duration, short_duration};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};
use std::time::Instant;
use unicode_width::UnicodeWidthStr as _;

/// A process is marked as just started for so long, in seconds, or for two samples.
const NEW: f64 = 5.0;
/// Time near the top from which on it is said, in seconds, and from which on it stands out.
const PERSISTENT: [f64; 2] = [10.0, 60.0];

/// What all rows of a frame share.
struct Rows<'a> {
    state: &'a State,
    columns: Columns,
    population: Population<'a>,
    /// What the last search finds.
    found: Option<Bound<'a>>,
}

/// First cell of the sign that opens and folds a row; none where the command is not shown.
pub fn fold_sign_x(state: &State, line: &Line) -> Option<u16> {
    let columns = state.fitted_columns();
    let command = columns.list.last().filter(|column| column.metric.alias == "command")?;
    Some(command.x + command::sign_at(state, command, line))
}

/// Draws title, headings and rows.
pub fn draw(state: &State, buffer: &mut Buffer, layout: &Layout, now: Instant) {
    let columns = state.fitted_columns();
    tint_ordering_column(state, buffer, layout, &columns);
    title(state, buffer, layout.title, now);
    headings(state, buffer, layout.headings, &columns);
    let Some(population) = state.population() else { return };
    let found =
        state.selection().find.as_ref().map(|find| find.bind(population.here, &state.values.narrowing.me));
    let rows = Rows { state, columns, population, found };
    let height = usize::from(layout.rows.height);
    let visible = state.rows().table.lines.iter().skip(state.selection().scroll).take(height);
    let selected = state.row_of_selected();
    for (row, (y, line)) in (layout.rows.top()..layout.rows.bottom()).zip(visible).enumerate() {
        let area = Rect { y, height: 1, width: layout.rows.width - 1, ..layout.rows };
        let is_selected = selected == Some(state.selection().scroll + row);
        rows.row(buffer, area, line, is_selected);
        if let (Some((x, _)), Some(trend)) = (rows.columns.trend, state.rows().trends.list.get(row)) {
            draw_trend(state, buffer, x, y, trend);
        }
        if is_selected {
            even_out(&state.theme, buffer, area);
        }
    }
    scroll_bar(state, buffer, layout);
    if state.rows().table.lines.is_empty() {
        let back = state.key(Action::Back);
        let text = match &state.values.narrowing.expression {
            Some(expression) if matches!(expression.tree(), Node::Text(_)) => {
                format!("no process contains '{}'; {back} shows all", expression.text())
            }
            Some(expression) => {
                format!("no process for which '{}' holds; {back} shows all", expression.text())
            }
            None => format!("no process; {back} shows all"),
        };
        put(buffer, 4, layout.rows.y, layout.rows.width - 4, &text, state.theme.role(Role::Quiet));
    }
}

/// Headings and the first rows, as the columns are now, for whoever chooses them.
pub fn preview(state: &State, buffer: &mut Buffer, area: Rect) {
    let Some(population) = state.population() else { return };
    let columns = state.fitted_columns();
    headings(state, buffer, Rect { height: 1, ..area }, &columns);
    let rows = Rows { state, columns, population, found: None };
    let visible = state.rows().table.lines.iter().skip(state.selection().scroll);
    for (row, (y, line)) in (area.y + 1..area.bottom()).zip(visible).enumerate() {
        rows.row(buffer, Rect { y, height: 1, width: area.width - 1, ..area }, line, false);
        if let (Some((x, _)), Some(trend)) = (rows.columns.trend, state.rows().trends.list.get(row)) {
            draw_trend(state, buffer, x, y, trend);
        }
    }
}

/// First row and length of the scroll bar's thumb, in cells below its top.
pub fn thumb(state: &State, layout: &Layout) -> (u16, u16) {
    let (height, rows) = (usize::from(layout.rows.height), state.rows().table.lines.len().max(1));
    let length = (height * height / rows).clamp(1, height.max(1));
    let travel = rows.saturating_sub(height).max(1);
    let first = (state.selection().scroll.min(travel) * (height - length) + travel / 2) / travel;
    (first as u16, length as u16)
}

fn scroll_bar(state: &State, buffer: &mut Buffer, layout: &Layout) {
    let area = layout.scroll_bar();
    if state.rows().table.lines.len() <= usize::from(area.height) {
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
    if let Some(column) = columns.list.iter().find(|column| column.metric == state.values.order.first.metric)
    {
        let x = column.x.saturating_sub(1);
        let width = (column.width + 2).min(layout.rows.right().saturating_sub(x));
        let height = layout.rows.bottom() - layout.headings.y;
        buffer
            .set_style(Rect { x, y: layout.headings.y, width, height }, state.theme.ground(Ground::Ordered));
    }
}

fn arrow(descending: bool) -> &'static str {
    if descending { "▾" } else { "▴" }
}

fn title(state: &State, buffer: &mut Buffer, area: Rect, now: Instant) {
    let Order { first, then } = state.values.order;
    let mut text = format!("Processes by {} {}", first.metric.heading, arrow(first.descending));
    if let Some(then) = then {
        text.push_str(&format!(", then {} {}", then.metric.heading, arrow(then.descending)));
    }
    match state.values.arrange {
        Arrange::Flat => {}
        Arrange::Family => text.push_str(" in families"),
        other => text.push_str(&format!(" in groups by {}", other.word())),
    }
    let begin = rule(buffer, area, &text, &state.theme);
    // What goes first when there is little room stands last.
    let mut parts = vec![];
    match &state.lanes().users_of {
        Some(Ok(words)) => parts.push(words.clone()),
        Some(Err(reason)) => parts.push(format!("all: {reason}")),
        None => {}
    }
    // Before the first reading nobody knows how many there are.
    if let Some(sample) = &state.moment().sample {
        parts.push(format!("{} of {}", state.rows().processes_shown, sample.tasks().total));
    }
    let narrowing = &state.values.narrowing;
    if let Some(expression) = &narrowing.expression {
        parts.push(format!("narrowed: {}", expression.text()));
        if state.rows().undecided > 0 {
            parts.push(format!("{} unknown", state.rows().undecided));
        }
    }
    if let Some(pids) = &narrowing.pids {
        let family = if narrowing.descendants { " and descendants" } else { "" };
        parts.push(match pids.iter().next() {
            Some(one) if pids.len() == 1 => format!("PID {one}{family}"),
            _ => format!("{} PIDs{family}", pids.len()),
        });
    }
    match narrowing.whose {
        Whose::Everyone if narrowing.is_empty() && state.lanes().users_of.is_none() => {
            parts.push("everyone".to_owned());
        }
        Whose::Everyone => {}
        whose => parts.push(whose.word().to_owned()),
    }
    if narrowing.active {
        parts.push("only active".to_owned());
    }
    if !narrowing.kernel_threads {
        parts.push("no kernel threads".to_owned());
    }
    if state.values.of_machine {
        parts.push("% of the machine".to_owned());
    }
    if let Some(seconds) = state.moment().averaged.as_ref().and_then(|calm| calm.seconds()) {
        parts.push(format!("mean of {}", long_duration(seconds)));
    }
    if state.rows().pan > 0 {
        parts.push(format!("command from {} on", state.rows().pan));
    }
    if state.is_held(now) {
        parts.push("order held while you choose".to_owned());
    }
    let room = usize::from(area.right().saturating_sub(begin + 4));
    let joined = |parts: &[String]| format!(" {} ", parts.join(" · "));
    while parts.len() > 1 && joined(&parts).width() > room {
        parts.pop();
    }
    let text = joined(&parts);
    put_right(
        buffer,
        area.right().saturating_sub(3),
        area.y,
        room as u16,
        &text,
        state.theme.role(Role::Quiet),
    );
}

fn headings(state: &State, buffer: &mut Buffer, area: Rect, columns: &Columns) {
    for column in &columns.list {
        let ordering = column.metric == state.values.order.first.metric;
        let heading = if column.scale.is_some() {
            column.heading()
        } else {
            columns::heading(column.metric, state.values.of_machine)
        };
        let text = match state.values.order {
            order if ordering => format!("{heading}{}", arrow(order.first.descending)),
            // The second key is told by its arrow alone.
            Order { then: Some(then), .. } if then.metric == column.metric => {
                format!("{heading}{}", arrow(then.descending))
            }
            _ => heading,
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
    if let Some((x, width)) = columns.trend {
        let seconds = state.values.every.as_secs_f64() * TREND_SAMPLES as f64;
        let text = if seconds < 90.0 {
            format!("trend, {seconds:.0} s")
        } else {
            format!("trend, {:.0} min", seconds / 60.0)
        };
        put(buffer, x, area.y, width, &text, state.theme.role(Role::Quiet));
    }
    if let Some(x) = columns.on_top {
        put_right(buffer, x + ON_TOP, area.y, ON_TOP, "on top", state.theme.role(Role::Quiet));
    }
}

impl Rows<'_> {
    fn row(&self, buffer: &mut Buffer, area: Rect, line: &Line, selected: bool) {
        let (state, theme) = (self.state, &self.state.theme);
        let view = line.row.map(|row| self.population.view(row));
        let idle = |at: usize| state.rows().table.groups[at].idle_of.is_some();
        let receding = match line.row {
            Some(RowRef::Gone(_)) => true,
            Some(RowRef::Here(_) | RowRef::Thread(_)) => line.context,
            None => line.totals.is_some_and(idle),
        };
        if selected {
            buffer.set_style(area, theme.ground(Ground::Selected));
            put(buffer, area.x, area.y, 1, "▸", theme.role(Role::Accent));
        }
        let sign = self.sign(line, view.as_ref(), receding);
        put(buffer, area.x + 1, area.y, 1, sign, theme.role(Role::Accent));
        for column in &self.columns.list {
            if column.metric.alias == "command" {
                let found = view.as_ref().is_some_and(|view| {
                    self.found.as_ref().is_some_and(|found| found.holds(view) == Some(true))
                });
                let process = view.map(|view| view.now);
                let cell = command::Cell { column, y: area.y, line, process, receding, found };
                command::draw(state, buffer, &cell);
            } else {
                self.cell(buffer, area.y, column, line, receding);
            }
        }
        let alone = !receding && line.totals.is_none() && !matches!(line.row, Some(RowRef::Thread(_)));
        if let (Some(x), Some(view), true) = (self.columns.on_top, view, alone) {
            self.near_top(buffer, x, area.y, &view);
        }
    }

    /// The sign before a row: marked, or just started. Of several some may be marked.
    fn sign(&self, line: &Line, view: Option<&ProcessView<'_>>, receding: bool) -> &'static str {
        let marked = &self.state.selection().marked;
        if !marked.is_empty() && !matches!(line.row, Some(RowRef::Thread(_))) {
            let members = self.state.rows().table.members(line);
            let is_marked = |row: &&RowRef| marked.contains(&self.population.view(**row).now.key());
            match members.iter().filter(is_marked).count() {
                0 => {}
                all if all == members.len() => return "✓",
                _ => return "·",
            }
        }
        if !receding && view.is_some_and(|view| self.has_just_started(view)) { "+" } else { " " }
    }

    fn cell(&self, buffer: &mut Buffer, y: u16, column: &Column, line: &Line, receding: bool) {
        let (state, theme) = (self.state, &self.state.theme);
        let Total { value, partial } = self.value(column.metric, line);
        let mut text = cell::text(state, column.metric, column.scale, &value);
        // Of several together it is not told.
        let alone = line.row.filter(|_| line.totals.is_none()).map(|row| self.population.view(row));
        let most = alone.filter(|_| !partial && value.number().is_some());
        let most = most.zip(column.metric.most).is_some_and(|(view, is_most)| is_most(&view));
        if partial || most {
            text.insert(0, if most { '≤' } else { '≥' });
        }
        let style = if receding { theme.role(Role::Quiet) } else { cell_style(state, column.metric, &value) };
        if column.metric.unit.is_text() {
            put(buffer, column.x, y, column.width, &text, style);
        } else {
            // Two blanks are between columns: one of them may be needed for the sign.
            let room = column.width - column.bar + u16::from(partial || most);
            put_right(buffer, column.x + column.width, y, room, &text, style);
        }
        let largest = state.rows().largest.get(column.metric.alias).copied().unwrap_or(0.0);
        let largest = self.full(column.metric, largest);
        if let (Some(lane), Some(value)) = (column.lane.filter(|_| largest > 0.0), value.number()) {
            let style = if receding { theme.role(Role::Quiet) } else { theme.role(Role::Lane(lane)) };
            share(buffer, column.x, y, column.bar, value / largest, style);
        }
    }

    /// What fills a bar: a core, also where somebody uses more, which the number tells; the memory of the machine; of rates at least what is worth a
    /// look, so that next to nothing fills none; else the largest of the rows.
    fn full(&self, metric: &Metric, largest: f64) -> f64 {
        let sample = self.population.here;
        match metric.unit {
            Unit::PercentOfCore => 100.0,
            Unit::Percent => largest.max(100.0),
            Unit::Bytes => {
                sample.now.system.mem_total.value().map_or(largest, |total| largest.max(total as f64))
            }
            _ => largest.max(metric.least_scale()),
        }
    }

    /// The value of a row. Rows that stand for several processes have no PID of their own.
    fn value(&self, metric: &Metric, line: &Line) -> Total {
        let gone = line.row.filter(|row| matches!(row, RowRef::Gone(_)));
        let gathered = gone.is_some_and(|row| is_gathered(self.population.view(row).now.key()));
        let own_only = matches!(metric.alias, "pid" | "ppid" | "age");
        match (line.row, line.totals) {
            _ if gathered && own_only => Total { value: Value::Absent, partial: false },
            (None, Some(at)) if metric.alias == "pid" => {
                let count = self.state.rows().table.groups[at].members.len();
                Total { value: Value::Text(format!("×{count}").into()), partial: false }
            }
            // What a folded family has in common says little; who stands at its head does.
            (Some(row @ (RowRef::Here(_) | RowRef::Gone(_))), _) if metric.combine == Combine::Same => {
                Total::of(metric, &self.population.view(row))
            }
            _ => {
                let rows = self.state.rows();
                let known = line.totals.and_then(|group| {
                    let place = rows.totals_of.iter().position(|of| of.alias == metric.alias)?;
                    rows.totals.get(&group)?.get(place)
                });
                known.cloned().unwrap_or_else(|| rows.table.value(&self.population, line, metric))
            }
        }
    }

    fn has_just_started(&self, view: &ProcessView<'_>) -> bool {
        let least = NEW.max(2.0 * self.state.values.every.as_secs_f64());
        listed("age").of(view).number().is_some_and(|age| age < least)
    }

    fn near_top(&self, buffer: &mut Buffer, x: u16, y: u16, view: &ProcessView<'_>) {
        let Some(stay) = self.state.rows().persistence.of(view.now.key()) else { return };
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

fn cell_style(state: &State, metric: &Metric, value: &Value) -> Style {
    let theme = &state.theme;
    let role = match value {
        Value::Absent | Value::Denied => Role::Quiet,
        Value::Number(number) if *number == 0.0 => Role::Quiet,
        Value::Word("running") => Role::Lane(Lane::Cpu),
        Value::Word("blocked" | "zombie") => Role::Severity(Severity::Critical),
        Value::Word("stopped" | "traced") => Role::Severity(Severity::Warning),
        Value::Word(_) => Role::Quiet,
        _ if *metric == *state.values.order.first.metric => return theme.role(Role::Accent),
        _ if matches!(metric.alias, "user" | "real_user" | "age" | "pid") => Role::Quiet,
        _ => Role::Text,
    };
    theme.role(role)
}

fn draw_trend(state: &State, buffer: &mut Buffer, x: u16, y: u16, trend: &Trend) {
    let hue = state.theme.role(Role::Lane(state.values.lane.unwrap_or(Lane::Cpu)));
    for (x, value) in (x..).zip(trend) {
        let Some(value) = value else { continue };
        let level = (value * 8.0).round() as usize;
        let style = if level == 0 { state.theme.role(Role::Line) } else { hue };
        put(buffer, x, y, 1, BARS[level.clamp(1, 8)], style);
    }
}
