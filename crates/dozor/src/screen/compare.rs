//! Comparing two moments: the first is remembered, the second opens the sheet.

use super::keys::moving;
use super::{MESSAGE, moves, time};
use crate::sheets::{CompareSheet, Differing, SPANS, Sheet};
use crate::state::{HOLD, State};
use dozor_core::compare::{Presence, Side, compare};
use dozor_core::lane::Severity;
use dozor_core::rank::RowId;
use dozor_core::recording::ReadError;
use dozor_core::row::Row as _;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use std::time::Instant;

/// Remembers the shown moment, or compares it with the one that is remembered.
pub(super) fn difference(state: &mut State, now: Instant) {
    let shown = state.shown().and_then(|shown| state.timeline.moment(shown)).map(|moment| moment.wall_ns);
    let Some(wall) = shown else { return };
    match state.remembered {
        Some(first) if first != wall => open(state, [first, wall], 0, now),
        Some(_) => {
            state.remembered = None;
            state.say(Severity::Fine, "no moment is remembered any more".to_owned(), Some(now + MESSAGE));
        }
        None => {
            state.remembered = Some(wall);
            let text = format!(
                "A is {}; go to another moment and press {} again to see what differs",
                state.zone.time(wall),
                state.key(crate::look::action::Action::Difference)
            );
            state.say(Severity::Fine, text, Some(now + 2 * MESSAGE));
        }
    }
}

fn open(state: &mut State, walls: [i64; 2], span: usize, now: Instant) {
    match sides(state, walls, span) {
        Ok([a, b]) => {
            let comparison = compare(&a, &b);
            let mut sheet = CompareSheet { walls, span, sides: [a, b], comparison, at: 0 };
            // The first line is a title.
            sheet.at = usize::from(sheet.lines().len() > 1);
            state.message = None;
            state.sheet = Some(Sheet::Compare(Box::new(sheet)));
        }
        Err(error) => {
            state.say(Severity::Warning, format!("a moment cannot be read: {error}"), Some(now + MESSAGE));
        }
    }
}

/// Goes to where the chosen line is seen: to the second moment, or to the only one at which a process is there, and
/// selects it.
fn look(state: &mut State, now: Instant) {
    let Some(Sheet::Compare(sheet)) = &state.sheet else { return };
    let (pid, side) = match sheet.lines().get(sheet.at) {
        Some(Differing::Process(process)) => {
            (process.pid, usize::from(process.presence != Presence::Vanished))
        }
        Some(Differing::Pair(_)) => (None, 1),
        Some(Differing::Title(_)) | None => return,
    };
    let wall = sheet.walls[side];
    state.sheet = None;
    time::go_to(state, state.timeline.at(wall), now);
    let rows = state.sample.as_ref().map(|sample| sample.now.clone());
    let row = rows.iter().flat_map(|now| &now.processes).find(|row| pid.is_some() && row.pid.value() == pid);
    if let Some(row) = row {
        state.selected = Some(RowId::Process(row.key()));
        state.held_until = Some(now + HOLD);
        state.keep_selection_visible();
    }
}

fn sides(state: &mut State, walls: [i64; 2], span: usize) -> Result<[Side; 2], ReadError> {
    let mut side = |wall: i64| {
        let last = state.timeline.at(wall);
        let first = match SPANS[span].1 {
            0 => last,
            // The span ends at the moment; the sample that it begins in belongs to it.
            seconds => (state.timeline.at(wall - seconds * 1_000_000_000) + 1).min(last),
        };
        Side::of(&mut state.timeline, first..=last)
    };
    Ok([side(walls[0])?, side(walls[1])?])
}

pub(super) fn key(state: &mut State, key: &KeyEvent, now: Instant) {
    let moving = moving(state, key);
    let Some(Sheet::Compare(sheet)) = &mut state.sheet else { return };
    let last = sheet.lines().len().saturating_sub(1);
    let (walls, span) = (sheet.walls, sheet.span);
    match key.code {
        _ if moves(&mut sheet.at, last, &moving) => {}
        KeyCode::Char('+' | '=') => open(state, walls, (span + 1).min(SPANS.len() - 1), now),
        KeyCode::Char('-') => open(state, walls, span.saturating_sub(1), now),
        KeyCode::Enter => look(state, now),
        KeyCode::Tab => open(state, [walls[1], walls[0]], span, now),
        KeyCode::Char('a' | 'b') => {
            let wall = walls[usize::from(key.code == KeyCode::Char('b'))];
            state.sheet = None;
            time::go_to(state, state.timeline.at(wall), now);
        }
        KeyCode::Char('n') => {
            // The second moment becomes the first of the next comparison.
            state.sheet = None;
            state.remembered = Some(walls[1]);
            let text = format!("A is now {}", state.zone.time(walls[1]));
            state.say(Severity::Fine, text, Some(now + MESSAGE));
        }
        _ => {}
    }
}
