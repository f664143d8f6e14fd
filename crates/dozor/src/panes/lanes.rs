//! The time axis and the lanes.

use crate::draw::{BARS, put, put_right};
use crate::look::layout::Layout;
use crate::look::theme::{Ground, Role, Theme};
use crate::state::State;
use crate::state::axis::{Axis, Bar};
use dozor_core::lane::{Lane, Point, Severity};
use dozor_core::recording::MarkKind;
use dozor_core::units::{NANOS, long_duration, short_duration};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

/// Draws axis, strips, values and facts.
pub fn draw(state: &State, buffer: &mut Buffer, layout: &Layout) {
    let axis = state.lanes().strips.axis;
    if let Some(area) = layout.overview {
        draw_overview(state, buffer, area, layout);
    }
    if let (Some(area), Some(axis)) = (layout.axis, &axis) {
        draw_axis(state, buffer, area, layout, axis);
    }
    for (lane, area) in &layout.lanes {
        let (lane, area) = (*lane, *area);
        let chosen = state.values.lane == Some(lane);
        if chosen {
            buffer.set_style(area, state.theme.ground(Ground::Panel));
            for y in area.top()..area.bottom() {
                put(buffer, area.x, y, 1, "▌", state.theme.role(Role::Accent));
            }
        }
        let point = state.moment().sample.as_ref().map(|sample| lane.point(sample));
        label(state, buffer, area, lane, point.as_ref());
        let place = Rect { x: layout.strip_x, width: layout.strip_width, ..area };
        strip(&state.theme, buffer, place, lane, &state.lanes().strips.bars[lane]);
        facts(state, buffer, area, layout, lane);
    }
    if let (Some(axis), Some(shown)) = (axis, state.shown()) {
        let strips: Vec<Rect> = layout.lanes.iter().map(|(_, area)| *area).collect();
        cursor(state, buffer, layout, &axis, (shown, layout.axis), &strips);
    }
}

/// All the time there is on one line, with the part of it that the strips below show.
fn draw_overview(state: &State, buffer: &mut Buffer, area: Rect, layout: &Layout) {
    let theme = &state.theme;
    let overview = &state.lanes().overview;
    let (Some(whole), Some(lane)) = (&overview.axis, overview.lane) else { return };
    let quiet = theme.role(Role::Quiet);
    put(buffer, area.x + 2, area.y, layout.strip_x - 3, &format!("all, {}", lane.name()), quiet);
    let within = Rect { x: layout.strip_x, width: layout.strip_width, ..area };
    buffer.set_style(within, theme.ground(Ground::Panel));
    let most = overview.bars.iter().filter_map(|bar| match bar {
        Bar::Value { value, full, .. } => Some(full.unwrap_or(*value)),
        Bar::Nothing | Bar::Gap | Bar::Denied => None,
    });
    let has_full = overview.bars.iter().any(|bar| matches!(bar, Bar::Value { full: Some(_), .. }));
    let least = if has_full { f64::EPSILON } else { lane.lens().least_scale().max(f64::EPSILON) };
    let most = most.fold(least, f64::max);
    for (x, bar) in (within.x..).zip(&overview.bars) {
        let (symbol, role) = match bar {
            Bar::Nothing => (" ", Role::Line),
            Bar::Gap => ("╌", Role::Line),
            Bar::Denied => ("×", Role::Quiet),
            Bar::Value { value, severity, .. } => {
                let height = ((value / most * 8.0).round() as usize).clamp(1, 8);
                let role =
                    if *severity >= Severity::Warning { Role::Severity(*severity) } else { Role::Lane(lane) };
                (BARS[height], role)
            }
        };
        put(buffer, x, area.y, 1, symbol, theme.role(role));
    }
    // Where the strips below begin and end.
    if let Some(shown) = &state.lanes().strips.axis {
        let last = whole.columns.saturating_sub(1);
        let begin = whole.column(shown.begin(0)).unwrap_or(0);
        let end = whole.column(shown.end - 1).unwrap_or(last);
        for (column, symbol) in [(begin, "▏"), (end, "▕")] {
            put(buffer, within.x + column, area.y, 1, symbol, theme.role(Role::Strong));
        }
    }
    let shown = state.shown().and_then(|shown| state.time().timeline.moment(shown));
    if let Some(column) = shown.and_then(|moment| whole.column(moment.wall_ns)) {
        put(buffer, within.x + column, area.y, 1, "┃", theme.role(Role::Accent));
    }
    let wall = |number: usize| state.time().timeline.moment(number).map_or(0, |moment| moment.wall_ns);
    let (first, newest) =
        (wall(state.time().timeline.first()), wall(state.time().timeline.end().saturating_sub(1)));
    let gaps = match overview.gaps {
        0 => String::new(),
        1 => ", 1 gap".to_owned(),
        many => format!(", {many} gaps"),
    };
    let length = long_duration(((newest - first) / NANOS) as f64);
    let text = format!(
        "{} to {}, {length}{gaps}",
        state.time().zone.minute(first),
        state.time().zone.minute(newest)
    );
    put(buffer, layout.facts_x(), area.y, area.right().saturating_sub(layout.facts_x()), &text, quiet);
}

/// The time axis with its ticks and signs.
pub fn draw_axis(state: &State, buffer: &mut Buffer, area: Rect, layout: &Layout, axis: &Axis) {
    let theme = &state.theme;
    let span = long_duration(axis.step as f64 / 1e9);
    let what = if state.lanes().zoom.mean { "mean" } else { "peak" };
    put(
        buffer,
        area.x + 2,
        area.y,
        layout.strip_x - 3,
        &format!("{what} of {span}"),
        theme.role(Role::Quiet),
    );
    // Ticks stand at round times of the zone that is shown.
    // Counted back, they stand at round distances from the end.
    let offset = if state.values.times_relative {
        -axis.end.div_euclid(NANOS)
    } else {
        state.time().zone.offset_seconds(axis.end)
    };
    for (column, wall) in axis.ticks(offset) {
        let x = layout.strip_x + column;
        let name = match state.values.times_relative {
            true => format!("-{}", short_duration(((axis.end - wall) / NANOS) as f64)),
            false if axis.shows_seconds() => state.time().zone.time(wall),
            false => state.time().zone.minute(wall),
        };
        // The cursor's own label must not cut off one before it.
        let shown = state.shown().and_then(|shown| state.time().timeline.moment(shown));
        let cursor =
            shown.and_then(|moment| axis.column(moment.wall_ns)).map(|column| layout.strip_x + column);
        if cursor.is_some_and(|cursor| x <= cursor && cursor <= x + 1 + name.len() as u16) {
            continue;
        }
        let room = (layout.strip_x + layout.strip_width).saturating_sub(x);
        if usize::from(room) > name.len() {
            put(buffer, x, area.y, 1, "╵", theme.role(Role::Line));
            put(buffer, x + 1, area.y, room - 1, &name, theme.role(Role::Quiet));
        }
    }
    for sign in &state.time().signs {
        if let Some(column) = axis.column(sign.wall_ns) {
            let symbol = match sign.kind {
                MarkKind::Action => "✶",
                MarkKind::Bookmark => "⚑",
                MarkKind::Lost => "╳",
                // The screen finds out itself.
                MarkKind::Finding => continue,
                MarkKind::Note => "›",
            };
            put(buffer, layout.strip_x + column, area.y, 1, symbol, theme.role(Role::Accent));
        }
    }
}

fn label(state: &State, buffer: &mut Buffer, area: Rect, lane: Lane, point: Option<&Point>) {
    let theme = &state.theme;
    let number = lane as usize + 1;
    put(buffer, area.x + 2, area.y, 1, &number.to_string(), theme.role(Role::Quiet));
    let value = point.map_or_else(|| "–".to_owned(), |point| lane.label(point));
    // What was found out over time counts as well as what the value says by itself.
    let found = state.moment().standing_out.iter().filter(|(_, of, _)| *of == lane);
    let found = found.map(|(severity, ..)| *severity).max().unwrap_or_default();
    let severity = point.map_or(Severity::Fine, |point| point.severity).max(found);
    let sign = severity.sign().to_string();
    let hue = theme.role(Role::Lane(lane));
    if area.height == 1 {
        let name = match lane {
            Lane::Memory => "mem",
            Lane::Network => "net",
            other => other.name(),
        };
        put(buffer, area.x + 4, area.y, 4, name, hue);
        put_right(buffer, area.x + 14, area.y, 8, &value, theme.role(Role::Strong));
        put(buffer, area.x + 15, area.y, 1, &sign, theme.role(Role::Severity(severity)));
    } else {
        let second = area.y + 1;
        put(buffer, area.x + 4, area.y, 8, lane.name(), hue);
        put(buffer, area.x + 4, second, 10, &value, theme.role(Role::Strong));
        put(buffer, area.x + 15, second, 1, &sign, theme.role(Role::Severity(severity)));
    }
}

/// Bars of a resource in its hue, over some lines.
pub fn strip(theme: &Theme, buffer: &mut Buffer, area: Rect, lane: Lane, bars: &[Bar]) {
    let value_of = |bar: &Bar| match bar {
        Bar::Value { value, .. } => Some(*value),
        Bar::Nothing | Bar::Gap | Bar::Denied => None,
    };
    // Where nothing says what is full, the largest value on the screen is; next to nothing fills no lane.
    let largest = bars.iter().filter_map(value_of).fold(lane.lens().least_scale(), f64::max);
    let levels = usize::from(area.height) * 8;
    let bottom = area.bottom() - 1;
    for (x, bar) in (area.left()..area.right()).zip(bars) {
        let (value, full, severity) = match bar {
            Bar::Nothing => continue,
            Bar::Gap => {
                put(buffer, x, bottom, 1, "┄", theme.role(Role::Quiet));
                continue;
            }
            Bar::Denied => {
                put(buffer, x, bottom, 1, "×", theme.role(Role::Quiet));
                continue;
            }
            Bar::Value { value, full, severity } => (*value, full.unwrap_or(largest), *severity),
        };
        let share = if full > 0.0 { (value / full).clamp(0.0, 1.0) } else { 0.0 };
        let mut level = (share * levels as f64).round() as usize;
        if value > 0.0 {
            level = level.max(1);
        }
        if level == 0 {
            put(buffer, x, bottom, 1, "_", theme.role(Role::Line));
            continue;
        }
        let style = theme.strip(lane, severity);
        for (row, y) in (area.top()..area.bottom()).rev().enumerate() {
            let bar = level.saturating_sub(row * 8).min(8);
            if bar > 0 {
                put(buffer, x, y, 1, BARS[bar], style);
            }
        }
    }
}

fn facts(state: &State, buffer: &mut Buffer, area: Rect, layout: &Layout, lane: Lane) {
    let Some(sample) = &state.moment().sample else { return };
    let x = layout.facts_x();
    let width = area.right().saturating_sub(x + 1);
    let roles = [Role::Text, Role::Quiet];
    for ((y, fact), role) in (area.top()..area.bottom()).zip(lane.facts(sample)).zip(roles) {
        put(buffer, x, y, width, &fact, state.theme.role(role));
    }
}

/// The time cursor through all lanes: behind the newest column while it follows the present.
pub fn cursor(
    state: &State,
    buffer: &mut Buffer,
    layout: &Layout,
    axis: &Axis,
    (shown, line): (usize, Option<Rect>),
    strips: &[Rect],
) {
    let theme = &state.theme;
    let style = theme.role(Role::Accent);
    let edge = layout.strip_x + layout.strip_width;
    let following = state.time().cursor.is_none();
    let wall = state.time().timeline.moment(shown).map(|moment| moment.wall_ns);
    let Some(column) = wall.and_then(|wall| axis.column(wall)) else { return };
    let x = layout.strip_x + column + u16::from(following);
    // Where the strips end is where the present is; a line there would be drawn anew for every sample.
    for area in strips.iter().filter(|_| !following) {
        for y in area.top()..area.bottom() {
            put(buffer, x, y, 1, "┃", style);
        }
    }
    if let (Some(area), Some(wall)) = (line, wall) {
        let word =
            if following { "╷now".to_owned() } else { format!("╷{}", state.time().zone.time(wall)) };
        let covered = state.time().timeline.moment(shown).and_then(|moment| moment.seconds);
        // A thinned sample covers more than one reading does; its numbers are means over that.
        let coarse = covered.filter(|seconds| *seconds > state.values.every.as_secs_f64() * 2.5);
        let coarse = coarse.map_or(String::new(), |seconds| format!(" mean of {}", long_duration(seconds)));
        let here = |wall: i64| axis.column(wall) == Some(column);
        let sign = state.time().signs.iter().rev().find(|sign| !following && here(sign.wall_ns));
        let sign = sign.map_or(String::new(), |sign| format!(" {}", sign.text));
        let text = format!("{word}{coarse}{sign} ");
        let room = area.right().saturating_sub(x);
        // What stands at the right edge is turned to the left, so that it can be read.
        let cells = text.chars().count() as u16;
        if !following && cells > room.min(edge.saturating_sub(x) + 30) {
            let turned = format!(" {}{coarse}{sign}╷", state.time().zone.time(wall));
            put_right(buffer, x + 1, area.y, x.saturating_sub(layout.strip_x), &turned, style);
        } else {
            put(buffer, x, area.y, room, &text, style);
        }
    }
}
