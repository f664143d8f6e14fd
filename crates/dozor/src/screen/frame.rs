//! One frame of the whole screen.

use super::Screen;
use crate::draw::put;
use crate::look::layout::SMALLEST;
use crate::look::theme::{Ground, Role};
use crate::panes::{bottom, lanes, parts, table, top};
use crate::sheets::{self, Room};
use crate::state::State;
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::time::Instant;

impl Screen {
    /// Draws the screen; `now` is for what runs.
    pub fn draw(&self, frame: &mut Frame<'_>, now: Instant) {
        let state = &self.state;
        let area = frame.area();
        let buffer = frame.buffer_mut();
        let screen = state.theme.ground(Ground::Screen).patch(state.theme.role(Role::Text));
        buffer.set_style(area, screen);
        let Some(layout) = state.layout().filter(|layout| layout.hints.bottom() <= area.height) else {
            too_small(state, buffer, area);
            return;
        };
        top::draw(state, buffer, layout.top, now);
        lanes::draw(state, buffer, &layout);
        top::standing_out(state, buffer, layout.standing_out);
        parts::draw(state, buffer, &layout);
        table::draw(state, buffer, &layout, now);
        if let Some(area) = layout.marks {
            bottom::marks(state, buffer, area);
        }
        bottom::hints(state, buffer, &self.hints(layout.hints), layout.hints);
        let (typed, opened): (Vec<_>, Vec<_>) =
            self.sheets.iter().partition(|sheet| matches!(sheet.room(area.height), Room::OverHints(_)));
        for sheet in opened {
            sheets::draw(&**sheet, state, buffer, area);
        }
        if typed.is_empty() {
            bottom::message(state, buffer, layout.message);
        }
        for sheet in typed {
            sheets::draw(&**sheet, state, buffer, area);
        }
        state.symbols.apply(buffer);
    }
}

fn too_small(state: &State, buffer: &mut Buffer, area: Rect) {
    let lines = [
        format!("Dozor needs {} × {} cells;", SMALLEST.0, SMALLEST.1),
        format!("this terminal has {} × {}.", area.width, area.height),
        "q quits.".to_owned(),
    ];
    for (y, line) in (area.top()..area.bottom()).zip(lines) {
        put(buffer, area.x, y, area.width, &line, state.theme.role(Role::Text));
    }
}
