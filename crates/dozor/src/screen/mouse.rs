//! What the mouse does.

use super::Screen;
use crate::look::action::Action;
use crate::look::layout::Layout;
use crate::panes;
use crate::panes::hints::Hint;
use crate::sheets::{self, List, Room};
use crate::state::State;
use crate::state::data::Drag;
use dozor_core::catalogue::Metric;
use dozor_core::lane::Lane;
use ratatui::crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};
use std::time::Duration;

/// Rows that a turn of the wheel moves.
const WHEEL: isize = 3;
/// Two clicks within this time are one that opens.
const DOUBLE: Duration = Duration::from_millis(500);

impl Screen {
    pub(super) fn moved(&mut self, mouse: MouseEvent) {
        let Some(layout) = self.state.layout() else { return };
        let at = Position::new(mouse.column, mouse.row);
        let free = self.sheets.iter().all(|sheet| matches!(sheet.room(0), Room::OverHints(_)));
        let state = &mut self.state;
        match mouse.kind {
            MouseEventKind::ScrollDown => self.wheel(&layout, at, true),
            MouseEventKind::ScrollUp => self.wheel(&layout, at, false),
            MouseEventKind::Down(MouseButton::Left) => self.clicked(&layout, at),
            MouseEventKind::Down(MouseButton::Right) if free && layout.headings.contains(at) => {
                if let Some(metric) = heading_at(state, at.x) {
                    state.order_by(state.values.order.then_by(metric));
                }
            }
            MouseEventKind::Down(MouseButton::Right) if free => {
                if let Some(lane) = lane_at(&layout, at).filter(|_| at.x < layout.strip_x) {
                    state.values.lanes.fold(Some(lane));
                }
            }
            MouseEventKind::Drag(MouseButton::Left) => dragged(state, &layout, at),
            MouseEventKind::Up(_) => released(state, &layout, at),
            _ => {}
        }
    }

    /// Hints of what is open, else those of the screen.
    pub(super) fn hints(&self, area: Rect) -> Vec<Hint> {
        let pairs = match self.sheets.last() {
            Some(sheet) => sheet.hints().iter().map(|(key, word)| ((*key).into(), (*word).into())).collect(),
            None => panes::hints::of_screen(&self.state),
        };
        panes::hints::placed(pairs, area)
    }

    fn clicked(&mut self, layout: &Layout, at: Position) {
        let screen = Rect::new(0, 0, self.state.size.0, self.state.size.1);
        let Some(sheet) = self.sheets.last_mut() else {
            if layout.hints.contains(at) {
                self.hint_clicked(layout, at);
            } else {
                pressed(&mut self.state, layout, at);
                self.clicked_row(layout, at);
            }
            return;
        };
        // The line that is typed covers the hints.
        if let Room::OverHints(_) = sheet.room(screen.height) {
            return;
        }
        if layout.hints.contains(at) {
            return self.hint_clicked(layout, at);
        }
        let place = sheets::place(&**sheet, screen);
        if let Some(after) = sheet.clicked_at(at, place, &mut self.state) {
            return self.follow(after);
        }
        if at.y < place.y {
            // Beside it: it closes.
            return self.close();
        }
        let Some(List { at: chosen, lines }) = sheet.list(&self.state) else { return };
        let present = *chosen;
        let row = sheets::seen(&**sheet, place, present).line_at(at.y).filter(|row| *row < lines);
        if let (Some(row), Some(list)) = (row, sheet.list(&self.state)) {
            *list.at = row;
            let after = sheet.clicked(&mut self.state);
            self.follow(after);
        }
    }

    /// A second click on a row looks into its process.
    fn clicked_row(&mut self, layout: &Layout, at: Position) {
        let on_row = layout.rows.contains(at) && !layout.scroll_bar().contains(at);
        let now = self.state.now;
        let again = self.clicked.take().is_some_and(|(then, place)| place == at && now - then <= DOUBLE);
        if on_row && again {
            self.act(Action::Inspect);
        } else if on_row {
            self.clicked = Some((now, at));
        }
    }

    fn hint_clicked(&mut self, layout: &Layout, at: Position) {
        let hit = self.hints(layout.hints).into_iter().find(|hint| (hint.x..hint.end).contains(&at.x));
        if let Some(key) = hit.and_then(|hint| hint.press) {
            self.pressed(&key);
        }
    }

    fn wheel(&mut self, layout: &Layout, at: Position, down: bool) {
        let rows = if down { WHEEL } else { -WHEEL };
        let state = &mut self.state;
        if let Some(list) = self.sheets.iter_mut().rev().find_map(|sheet| sheet.list(state)) {
            *list.at = list.at.saturating_add_signed(rows.signum()).min(list.lines.saturating_sub(1));
        } else if is_on_strips(layout, at) {
            state.zoom(down);
        } else if layout.parts.is_some_and(|area| area.contains(at)) {
            state.scroll_parts(rows);
        } else {
            state.scroll_to(state.selection().scroll.saturating_add_signed(rows));
            state.hold_order();
        }
    }
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

fn pressed(state: &mut State, layout: &Layout, at: Position) {
    if layout.headings.contains(at) {
        order_by_heading(state, at.x);
    } else if layout.rows.contains(at) {
        if layout.scroll_bar().contains(at)
            && state.rows().table.lines.len() > usize::from(layout.rows.height)
        {
            grab_scroll_bar(state, layout, at);
        } else {
            let row = state.selection().scroll + usize::from(at.y - layout.rows.y);
            if let Some(line) = state.line(row) {
                state.leave_parts();
                state.select_row(row);
                let sign = panes::table::fold_sign_x(state, &line);
                if let (Some(open), Some(sign)) = (line.open, sign)
                    && (sign..sign + 2).contains(&at.x)
                {
                    state.set_open(row, !open);
                }
            }
        }
    } else if layout.overview.is_some_and(|area| area.contains(at)) {
        if let Some(column) = at.x.checked_sub(layout.strip_x).filter(|column| *column < layout.strip_width) {
            state.hold(Drag::Overview);
            state.go_to_overview(column);
        }
    } else if is_on_strips(layout, at) {
        state.hold(Drag::Time);
        state.go_to_column(at.x - layout.strip_x);
    } else if let Some(lane) = lane_at(layout, at) {
        state.choose_lane(Some(lane));
        state.hold(Drag::Lane(lane));
    } else if layout.parts.is_some_and(|area| area.contains(at)) {
        part_pressed(state, layout, at);
    } else if layout.standing_out.contains(at) {
        sentence_pressed(state, layout, at);
    } else if layout.top.contains(at) {
        state.choose_lane(None);
    }
}

/// A sentence leads to its lane.
fn sentence_pressed(state: &mut State, layout: &Layout, at: Position) {
    let title = u16::from(layout.standing_out.height > 1);
    let line = (at.y - layout.standing_out.y).checked_sub(title);
    let lane =
        line.and_then(|line| state.moment().standing_out.get(usize::from(line))).map(|(_, lane, _)| *lane);
    if lane.is_some() {
        state.choose_lane(lane);
    }
}

fn part_pressed(state: &mut State, layout: &Layout, at: Position) {
    let Some(area) = layout.parts else { return };
    let line = state.lanes().parts.title_line(area);
    if line.contains(at) {
        let begin = panes::parts::tabs_begin(state, line);
        let tab = state
            .lanes()
            .parts
            .tabs(line, begin)
            .into_iter()
            .find(|(from, to, _)| (*from..*to).contains(&at.x));
        if let Some((.., section)) = tab {
            state.show_section(section);
        }
    } else if let Some(section) = state.lanes().parts.titled(area, at) {
        state.show_section(section);
    } else if let Some((section, row)) = state.lanes().parts.at(area, at) {
        let part = state.lanes().parts.sections[section].rows[row].id.clone();
        let same = state.lanes().parts.selected.as_ref() == Some(&part);
        // A second click gives it up again.
        state.select_part((!same).then_some(part));
    }
}

fn grab_scroll_bar(state: &mut State, layout: &Layout, at: Position) {
    let (first, length) = panes::table::thumb(state, layout);
    let line = at.y - layout.rows.y;
    // Beside the thumb the bar jumps, so that its middle is under the pointer.
    let held = line.checked_sub(first).filter(|held| *held < length).unwrap_or(length / 2);
    state.hold(Drag::ScrollBar(held));
    drag_scroll_bar(state, layout, at, held);
}

fn drag_scroll_bar(state: &mut State, layout: &Layout, at: Position, held: u16) {
    let (_, length) = panes::table::thumb(state, layout);
    let travel = usize::from(layout.rows.height - length).max(1);
    let first = usize::from(at.y.saturating_sub(layout.rows.y).saturating_sub(held)).min(travel);
    let most = state.rows().table.lines.len().saturating_sub(usize::from(layout.rows.height));
    state.scroll_to((first * most + travel / 2) / travel);
}

fn dragged(state: &mut State, layout: &Layout, at: Position) {
    match state.session().drag {
        Some(Drag::Time) => {
            let last = layout.strip_width.saturating_sub(1);
            let column = at.x.saturating_sub(layout.strip_x).min(last);
            state.go_to_column(column);
        }
        Some(Drag::Overview) => {
            let last = layout.strip_width.saturating_sub(1);
            let column = at.x.saturating_sub(layout.strip_x).min(last);
            state.go_to_overview(column);
        }
        Some(Drag::ScrollBar(held)) => drag_scroll_bar(state, layout, at, held),
        Some(Drag::Lane(_)) | None => {}
    }
}

fn released(state: &mut State, layout: &Layout, at: Position) {
    match state.let_go() {
        Some(Drag::Lane(lane)) => {
            if let Some(other) = lane_at(layout, at).filter(|other| *other != lane) {
                let place = |lane: Lane| layout.lanes.iter().position(|(other, _)| *other == lane);
                state.values.lanes.put_beside(lane, other, place(other) > place(lane));
            }
        }
        // The order goes on where it was held while the bar was dragged.
        Some(Drag::ScrollBar(_)) => state.hold_order(),
        Some(Drag::Time | Drag::Overview) | None => {}
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
    let same = state.values.order.first.metric == metric;
    state.order_by(if same { state.values.order.reversed() } else { state.values.order.first_by(metric) });
}
