//! One frame of the whole screen.

use crate::draw::put;
use crate::look::theme::{Ground, Role};
use crate::panes::{bottom, lanes, parts, table, top};
use crate::sheets::drawing as sheets;
use crate::state::State;
use crate::state::layout::SMALLEST;
use ratatui::Frame;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::time::Instant;

/// Draws the screen.
pub fn draw(state: &State, frame: &mut Frame<'_>, now: Instant) {
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
    bottom::draw(state, buffer, layout.hints);
    sheets::draw(state, buffer, area);
    if state.prompt.is_none() {
        bottom::message(state, buffer, layout.message);
    }
    bottom::prompt(state, buffer, layout.prompt, layout.hints);
    state.symbols.apply(buffer);
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
