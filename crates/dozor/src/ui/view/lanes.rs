//! The time axis and the five lanes.

use super::{put, put_right};
use crate::ui::layout::Layout;
use crate::ui::state::State;
use crate::ui::theme::{Ground, Role};
use dozor_core::lane::{Lane, Point, Severity};
use dozor_core::timeline::Moment;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

const BARS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// The span of time that the strips show: each column ends one step after the one before.
struct Axis {
    /// Wall clock at the right edge, in nanoseconds.
    end: i64,
    /// Nanoseconds of a column.
    step: i64,
    columns: u16,
}

impl Axis {
    /// The newest samples; when the shown one is before them, the axis goes back to it.
    fn new(state: &State, columns: u16) -> Option<Axis> {
        let newest = state.timeline.moment(state.timeline.end().checked_sub(1)?)?.wall_ns;
        let shown = state.timeline.moment(state.shown()?)?.wall_ns;
        let step = (state.every.as_nanos() as i64).max(200_000_000);
        let span = step * i64::from(columns);
        // Whole steps, so that columns do not change their content while time goes on.
        let whole = |wall: i64| wall.div_euclid(step) * step + step;
        let mut end = whole(newest);
        if shown < end - span + step {
            end = whole(shown + span / 2).min(end);
        }
        Some(Axis { end, step, columns })
    }

    /// The column of an instant.
    fn column(&self, wall: i64) -> Option<u16> {
        let from_end = (self.end - 1 - wall).div_euclid(self.step);
        u16::try_from(from_end).ok().filter(|at| *at < self.columns).map(|at| self.columns - 1 - at)
    }

    /// The first instant of a column.
    fn begin(&self, column: u16) -> i64 {
        self.end - self.step * i64::from(self.columns - column)
    }
}

/// Number of the sample shown in a cell of the strips.
pub fn sample_at_column(state: &State, layout: &Layout, x: u16) -> Option<usize> {
    let axis = Axis::new(state, layout.strip_width)?;
    let column = x.checked_sub(layout.strip_x)?;
    let wall = axis.begin(column) + axis.step - 1;
    (wall >= state.timeline.moment(state.timeline.first())?.wall_ns).then(|| state.timeline.at(wall))
}

/// Draws axis, strips, values and facts.
pub fn draw(state: &State, buffer: &mut Buffer, layout: &Layout) {
    let axis = Axis::new(state, layout.strip_width);
    if let (Some(area), Some(axis)) = (layout.axis, &axis) {
        draw_axis(state, buffer, area, layout, axis);
    }
    let columns = axis.as_ref().map(|axis| columns(state, axis)).unwrap_or_default();
    for (number, (lane, area)) in Lane::ALL.into_iter().zip(layout.lanes).enumerate() {
        let chosen = state.lane == Some(lane);
        if chosen {
            buffer.set_style(area, state.theme.ground(Ground::Panel));
            for y in area.top()..area.bottom() {
                put(buffer, area.x, y, 1, "▌", state.theme.role(Role::Accent));
            }
        }
        let point = state.sample.as_ref().map(|sample| lane.point(sample));
        label(state, buffer, area, number, lane, point.as_ref());
        strip(
            state,
            buffer,
            Rect { x: layout.strip_x, width: layout.strip_width, ..area },
            number,
            lane,
            &columns,
        );
        facts(state, buffer, area, layout, lane);
    }
    if let (Some(axis), Some(shown)) = (axis, state.shown()) {
        cursor(state, buffer, layout, &axis, shown);
    }
}

/// Samples of each column of the strips.
fn columns(state: &State, axis: &Axis) -> Vec<Vec<Moment>> {
    let mut columns = vec![vec![]; usize::from(axis.columns)];
    let first = state.timeline.at(axis.begin(0));
    for number in first..state.timeline.end() {
        let Some(moment) = state.timeline.moment(number) else { break };
        if moment.wall_ns >= axis.end {
            break;
        }
        // A sample stands for the time since the one before, so it fills all columns of that time.
        let covered = (moment.seconds.unwrap_or(0.0) * 1e9) as i64;
        let last = axis.column(moment.wall_ns);
        let begin =
            axis.column((moment.wall_ns - covered + axis.step).min(moment.wall_ns).max(axis.begin(0)));
        if let (Some(begin), Some(last)) = (begin, last) {
            for column in &mut columns[usize::from(begin)..=usize::from(last)] {
                column.push(*moment);
            }
        }
    }
    columns
}

fn draw_axis(state: &State, buffer: &mut Buffer, area: Rect, layout: &Layout, axis: &Axis) {
    const STEPS: [i64; 9] = [10, 30, 60, 120, 300, 600, 1800, 3600, 21_600];
    const APART: i64 = 12;
    let nanos = 1_000_000_000;
    let apart = STEPS.iter().map(|seconds| seconds * nanos).find(|tick| tick / axis.step >= APART);
    let tick = apart.unwrap_or(86_400 * nanos);
    // Ticks stand at round times of the zone that is shown.
    let offset = state.zone.offset_seconds(axis.end) * nanos;
    let mut wall = (axis.begin(0) + offset).div_euclid(tick) * tick + tick - offset;
    while let Some(column) = axis.column(wall) {
        let x = layout.strip_x + column;
        let name = if tick < 60 * nanos { state.zone.time(wall) } else { state.zone.minute(wall) };
        let room = (layout.strip_x + layout.strip_width).saturating_sub(x);
        if usize::from(room) > name.len() {
            put(buffer, x, area.y, 1, "╵", state.theme.role(Role::Line));
            put(buffer, x + 1, area.y, room - 1, &name, state.theme.role(Role::Quiet));
        }
        wall += tick;
    }
}

fn label(state: &State, buffer: &mut Buffer, area: Rect, number: usize, lane: Lane, point: Option<&Point>) {
    let theme = &state.theme;
    put(buffer, area.x + 2, area.y, 1, &(number + 1).to_string(), theme.role(Role::Quiet));
    let value = point.map_or_else(|| "–".to_owned(), |point| lane.label(point));
    let severity = point.map_or(Severity::Fine, |point| point.severity);
    let sign = severity.sign().to_string();
    let hue = theme.role(Role::Lane(lane));
    let last = area.bottom() - 1;
    if area.height == 1 {
        let name = if lane == Lane::Memory { "mem" } else { lane.name() };
        let name = if lane == Lane::Network { "net" } else { name };
        put(buffer, area.x + 4, last, 4, name, hue);
        put_right(buffer, area.x + 14, last, 8, &value, theme.role(Role::Strong));
        put(buffer, area.x + 15, last, 1, &sign, theme.role(Role::Severity(severity)));
    } else {
        put(buffer, area.x + 4, area.y, 8, lane.name(), hue);
        put(buffer, area.x + 4, last, 10, &value, theme.role(Role::Strong));
        put(buffer, area.x + 15, last, 1, &sign, theme.role(Role::Severity(severity)));
    }
}

fn strip(state: &State, buffer: &mut Buffer, area: Rect, number: usize, lane: Lane, columns: &[Vec<Moment>]) {
    let points = |moments: &[Moment]| -> Option<(f64, Option<f64>, Severity)> {
        let known = moments.iter().filter_map(|moment| {
            let point = &moment.points[number];
            let full = point.full.value().filter(|full| *full > 0.0);
            Some((point.value.value()?, full, point.severity))
        });
        known.reduce(|a, b| (a.0.max(b.0), b.1, a.2.max(b.2)))
    };
    let shown: Vec<_> = columns.iter().map(|moments| points(moments)).collect();
    // Where nothing says what is full, the largest value on the screen is.
    let largest = shown.iter().flatten().map(|(value, ..)| *value).fold(0.0, f64::max);
    let levels = usize::from(area.height) * 8;
    for (x, point) in (area.left()..area.right()).zip(shown) {
        let Some((value, full, severity)) = point else { continue };
        let full = full.unwrap_or(largest);
        let share = if full > 0.0 { (value / full).clamp(0.0, 1.0) } else { 0.0 };
        let mut level = (share * levels as f64).round() as usize;
        if value > 0.0 {
            level = level.max(1);
        }
        let style = state.theme.strip(lane, severity);
        for (row, y) in (area.top()..area.bottom()).rev().enumerate() {
            let bar = level.saturating_sub(row * 8).min(8);
            if bar > 0 {
                buffer.set_string(x, y, BARS[bar], style);
            }
        }
    }
}

fn facts(state: &State, buffer: &mut Buffer, area: Rect, layout: &Layout, lane: Lane) {
    let Some(sample) = &state.sample else { return };
    let x = layout.strip_x + layout.strip_width + 2;
    let width = area.right().saturating_sub(x + 1);
    let roles = [Role::Text, Role::Quiet];
    for ((y, fact), role) in (area.top()..area.bottom()).zip(lane.facts(sample)).zip(roles) {
        put(buffer, x, y, width, &fact, state.theme.role(role));
    }
}

/// The time cursor through all lanes: at the edge while it follows the present.
fn cursor(state: &State, buffer: &mut Buffer, layout: &Layout, axis: &Axis, shown: usize) {
    let style = state.theme.role(Role::Accent);
    let edge = layout.strip_x + layout.strip_width;
    let following = state.cursor.is_none();
    let column = state.timeline.moment(shown).and_then(|moment| axis.column(moment.wall_ns));
    let x = match column {
        Some(column) if !following => layout.strip_x + column,
        _ => edge,
    };
    let sign = if x == edge { "│" } else { "┃" };
    for area in layout.lanes {
        for y in area.top()..area.bottom() {
            put(buffer, x, y, 1, sign, style);
        }
    }
    if let Some(area) = layout.axis {
        let word = if following {
            "╷now".to_owned()
        } else {
            let wall = state.timeline.moment(shown).map_or(0, |moment| moment.wall_ns);
            format!("╷{}", state.zone.time(wall))
        };
        put(buffer, x, area.y, area.right().saturating_sub(x), &format!("{word} "), style);
    }
}
