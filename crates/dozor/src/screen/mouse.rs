//! What the mouse does.

use super::{Effect, columns_sheet, keys, lanes, pick, rows, settings_sheet, time};
use crate::panes;
use crate::panes::hints::hints;
use crate::settings::table::SETTINGS;
use crate::sheets::Sheet;
use crate::state::layout::Layout;
use crate::state::{Drag, HOLD, State};
use dozor_core::catalogue::Metric;
use dozor_core::lane::Lane;
use ratatui::crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};
use std::time::Instant;

/// Rows that a turn of the wheel moves.
const WHEEL: isize = 3;

pub(super) fn moved(state: &mut State, mouse: MouseEvent, now: Instant) -> Vec<Effect> {
    let Some(layout) = state.layout() else { return vec![] };
    let at = Position::new(mouse.column, mouse.row);
    match mouse.kind {
        MouseEventKind::ScrollDown => wheel(state, &layout, at, true, now),
        MouseEventKind::ScrollUp => wheel(state, &layout, at, false, now),
        MouseEventKind::Down(MouseButton::Left) => return pressed(state, &layout, at, now),
        MouseEventKind::Down(MouseButton::Right) if layout.headings.contains(at) && state.sheet.is_none() => {
            if let Some(metric) = heading_at(state, at.x) {
                state.order = state.order.then_by(metric);
                state.rank_anew();
            }
        }
        MouseEventKind::Down(MouseButton::Right) if state.sheet.is_none() => {
            if let Some(lane) = lane_at(&layout, at).filter(|_| at.x < layout.strip_x) {
                state.lanes.fold(Some(lane));
            }
        }
        MouseEventKind::Drag(MouseButton::Left) => dragged(state, &layout, at, now),
        MouseEventKind::Up(_) => released(state, &layout, at, now),
        _ => {}
    }
    vec![]
}

fn lane_at(layout: &Layout, at: Position) -> Option<Lane> {
    layout.lanes.iter().find(|(_, area)| area.contains(at)).map(|(lane, _)| *lane)
}

/// The strips of all lanes and the axis above them.
fn is_on_strips(layout: &Layout, at: Position) -> bool {
    let last = layout.lanes.last().map_or(0, |(_, area)| area.bottom());
    let first = layout.axis.map_or(layout.top.bottom(), |axis| axis.y);
    let strips = Rect::new(layout.strip_x, first, layout.strip_width, last.saturating_sub(first));
    strips.contains(at)
}

fn pressed(state: &mut State, layout: &Layout, at: Position, now: Instant) -> Vec<Effect> {
    // The line that is typed covers the hints.
    if state.prompt.is_some() {
        return vec![];
    }
    if layout.hints.contains(at) {
        let hit = hints(state, layout.hints).into_iter().find(|hint| (hint.x..hint.end).contains(&at.x));
        return hit
            .and_then(|hint| hint.press)
            .map(|key| keys::pressed(state, &key, now))
            .unwrap_or_default();
    }
    if state.sheet.is_some() {
        return sheet_pressed(state, at, now);
    }
    if layout.headings.contains(at) {
        order_by_heading(state, at.x);
    } else if layout.rows.contains(at) {
        if layout.scroll_bar().contains(at) && state.table.lines.len() > usize::from(layout.rows.height) {
            grab_scroll_bar(state, layout, at);
        } else {
            let row = state.scroll + usize::from(at.y - layout.rows.y);
            if let Some(line) = state.line(row) {
                state.parts.in_focus = false;
                rows::select(state, row, now);
                let sign = panes::table::fold_sign_x(state, &line);
                if let (Some(open), Some(sign)) = (line.open, sign)
                    && (sign..sign + 2).contains(&at.x)
                {
                    rows::set_open(state, row, !open, now);
                }
            }
        }
    } else if layout.overview.is_some_and(|area| area.contains(at)) {
        if let Some(column) = at.x.checked_sub(layout.strip_x).filter(|column| *column < layout.strip_width) {
            state.drag = Some(Drag::Overview);
            time::go_to_overview(state, column, now);
        }
    } else if is_on_strips(layout, at) {
        state.drag = Some(Drag::Time);
        time::go_to_column(state, at.x - layout.strip_x, now);
    } else if let Some(lane) = lane_at(layout, at) {
        lanes::choose(state, Some(lane));
        state.drag = Some(Drag::Lane(lane));
    } else if layout.parts.is_some_and(|area| area.contains(at)) {
        part_pressed(state, layout, at);
    } else if layout.standing_out.contains(at) {
        sentence_pressed(state, layout, at);
    } else if layout.top.contains(at) {
        lanes::choose(state, None);
    }
    vec![]
}

/// A sentence leads to its lane.
fn sentence_pressed(state: &mut State, layout: &Layout, at: Position) {
    let title = u16::from(layout.standing_out.height > 1);
    let line = (at.y - layout.standing_out.y).checked_sub(title);
    let lane = line.and_then(|line| state.standing_out.get(usize::from(line))).map(|(_, lane, _)| *lane);
    if lane.is_some() {
        lanes::choose(state, lane);
    }
}

fn part_pressed(state: &mut State, layout: &Layout, at: Position) {
    let Some(area) = layout.parts else { return };
    let line = state.parts.title_line(area);
    if line.contains(at) {
        let begin = panes::parts::tabs_begin(state, line);
        let tab =
            state.parts.tabs(line, begin).into_iter().find(|(from, to, _)| (*from..*to).contains(&at.x));
        if let Some((.., section)) = tab {
            lanes::show_section(state, section);
        }
    } else if let Some(section) = state.parts.titled(area, at) {
        lanes::show_section(state, section);
    } else if let Some((section, row)) = state.parts.at(area, at) {
        let part = state.parts.sections[section].rows[row].id.clone();
        let same = state.parts.selected.as_ref() == Some(&part);
        // A second click gives it up again.
        lanes::select_part(state, (!same).then_some(part));
    }
}

fn sheet_pressed(state: &mut State, at: Position, now: Instant) -> Vec<Effect> {
    let screen = Rect::new(0, 0, state.size.0, state.size.1);
    let Some(sheet) = &mut state.sheet else { return vec![] };
    let list = sheet.list(screen);
    if !sheet.place(screen).contains(at) && at.y < sheet.place(screen).y {
        // Beside it: it closes.
        keys::close(state);
        return vec![];
    }
    let line = at.y.checked_sub(list.area.y).filter(|line| *line < list.area.height).map(usize::from);
    let Some(row) = line.map(|line| list.first + line) else { return vec![] };
    match sheet {
        Sheet::Act(sheet) => sheet.at = row.min(sheet.matching().len().saturating_sub(1)),
        Sheet::Pick(picker) => {
            picker.at = row;
            return pick::choose(state, false, now);
        }
        Sheet::Columns(sheet) => {
            sheet.at = row;
            let Some(Sheet::Columns(sheet)) = &state.sheet else { return vec![] };
            if let Some(what) = sheet.items(state).get(row).copied() {
                columns_sheet::toggle(state, what);
            }
        }
        Sheet::Settings(sheet) => {
            if let Some(setting) = SETTINGS.get(row) {
                sheet.at = row;
                return settings_sheet::step(state, setting, true, now);
            }
        }
        Sheet::Compare(sheet) => sheet.at = row.min(sheet.lines().len().saturating_sub(1)),
    }
    vec![]
}

/// First row and length of the scroll bar's thumb, in cells below its top.
pub fn thumb(state: &State, layout: &Layout) -> (u16, u16) {
    let (height, rows) = (usize::from(layout.rows.height), state.table.lines.len().max(1));
    let length = (height * height / rows).clamp(1, height.max(1));
    let travel = rows.saturating_sub(height).max(1);
    let first = (state.scroll.min(travel) * (height - length) + travel / 2) / travel;
    (first as u16, length as u16)
}

fn grab_scroll_bar(state: &mut State, layout: &Layout, at: Position) {
    let (first, length) = thumb(state, layout);
    let line = at.y - layout.rows.y;
    // Beside the thumb the bar jumps, so that its middle is under the pointer.
    let held = line.checked_sub(first).filter(|held| *held < length).unwrap_or(length / 2);
    state.drag = Some(Drag::ScrollBar(held));
    drag_scroll_bar(state, layout, at, held);
}

fn drag_scroll_bar(state: &mut State, layout: &Layout, at: Position, held: u16) {
    let (_, length) = thumb(state, layout);
    let travel = usize::from(layout.rows.height - length).max(1);
    let first = usize::from(at.y.saturating_sub(layout.rows.y).saturating_sub(held)).min(travel);
    let most = state.table.lines.len().saturating_sub(usize::from(layout.rows.height));
    state.scroll = (first * most + travel / 2) / travel;
}

fn dragged(state: &mut State, layout: &Layout, at: Position, now: Instant) {
    match state.drag {
        Some(Drag::Time) => {
            let last = layout.strip_width.saturating_sub(1);
            let column = at.x.saturating_sub(layout.strip_x).min(last);
            time::go_to_column(state, column, now);
        }
        Some(Drag::Overview) => {
            let last = layout.strip_width.saturating_sub(1);
            let column = at.x.saturating_sub(layout.strip_x).min(last);
            time::go_to_overview(state, column, now);
        }
        Some(Drag::ScrollBar(held)) => drag_scroll_bar(state, layout, at, held),
        Some(Drag::Lane(_)) | None => {}
    }
}

fn released(state: &mut State, layout: &Layout, at: Position, now: Instant) {
    match state.drag.take() {
        Some(Drag::Lane(lane)) => {
            if let Some(other) = lane_at(layout, at).filter(|other| *other != lane) {
                let place = |lane: Lane| layout.lanes.iter().position(|(other, _)| *other == lane);
                state.lanes.put_beside(lane, other, place(other) > place(lane));
            }
        }
        // The order goes on where it was held while the bar was dragged.
        Some(Drag::ScrollBar(_)) => state.held_until = Some(now + HOLD),
        Some(Drag::Time | Drag::Overview) | None => {}
    }
}

fn wheel(state: &mut State, layout: &Layout, at: Position, down: bool, now: Instant) {
    let rows = if down { WHEEL } else { -WHEEL };
    let last = state.sheet.as_ref().map_or(0, |sheet| sheet.lines(state)).saturating_sub(1);
    let at_line = state.sheet.as_mut().map(Sheet::at);
    match at_line {
        Some(line) => *line = line.saturating_add_signed(rows.signum()).min(last),
        None if is_on_strips(layout, at) => state.zoom = state.zoom.step(down, state.every),
        None if layout.parts.is_some_and(|area| area.contains(at)) => {
            let most = state.parts.sections.get(state.parts.current).map_or(0, |section| section.rows.len());
            let scroll = state.parts.scroll.saturating_add_signed(rows);
            state.parts.scroll = scroll.min(most.saturating_sub(1));
        }
        None => {
            let most = state.table.lines.len().saturating_sub(usize::from(layout.rows.height));
            state.scroll = state.scroll.saturating_add_signed(rows).min(most);
            state.held_until = Some(now + HOLD);
        }
    }
}

/// The metric of the heading at a cell.
fn heading_at(state: &State, x: u16) -> Option<&'static Metric> {
    let columns = state.fitted_columns();
    let hit = columns.list.iter().find(|column| x + 1 >= column.x && x < column.x + column.width);
    hit.map(|column| column.metric)
}

fn order_by_heading(state: &mut State, x: u16) {
    let Some(metric) = heading_at(state, x) else { return };
    let same = state.order.first.metric == metric;
    state.order = if same { state.order.reversed() } else { state.order.first_by(metric) };
    state.rank_anew();
}
