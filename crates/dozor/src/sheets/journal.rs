//! What was done to processes: when, by whom, to whom, what it was before and after, and what became of it.

use super::{After, List, Room, Sheet, more_below, moves, moving, seen};
use crate::draw::put;
use crate::look::action::Action;
use crate::look::theme::Role;
use crate::state::State;
use dozor_core::deed::Record;
use dozor_core::lane::Severity;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// What was done, the newest first.
pub struct JournalSheet {
    lines: Vec<(i64, Record)>,
    at: usize,
}

impl JournalSheet {
    /// All that was done in the time that is kept; where nothing was, says so.
    pub fn open(state: &mut State) -> Option<JournalSheet> {
        let lines = lines(state);
        if lines.is_empty() {
            state.say(Severity::Notice, "nothing was done to processes in the time that is kept".to_owned());
            return None;
        }
        Some(JournalSheet { lines, at: 0 })
    }
}

fn lines(state: &State) -> Vec<(i64, Record)> {
    let signs = state.time().signs.iter().rev();
    signs.flat_map(|sign| sign.deeds.iter().map(|record| (sign.wall_ns, record.clone()))).collect()
}

impl Sheet for JournalSheet {
    fn title(&self, _state: &State) -> String {
        "What was done to processes".to_owned()
    }

    fn room(&self, _height: u16) -> Room {
        Room::Lines((self.lines.len() as u16).saturating_add(3).clamp(8, 24))
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![("↑ ↓", "choose"), ("enter", "go to that time"), ("u", "undo the last"), ("esc", "close")]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        if moves(&mut self.at, self.lines.len(), &moving(state, key)) {
            return After::Stay;
        }
        match key.code {
            KeyCode::Enter => {
                if let Some((wall, record)) = self.lines.get(self.at) {
                    let number = state.time().timeline.at(*wall);
                    let pid = record.pid;
                    state.go_to_sample(number);
                    state.select_pid(pid);
                    return After::Close;
                }
            }
            _ if state.values.keys.action(key) == Some(Action::Undo) => return After::Pass(Action::Undo),
            _ => {}
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        let columns = [("when", 9), ("by", 10), ("what", 24), ("to", 24), ("what became of it", 0)];
        let mut x = place.x;
        for (heading, width) in columns {
            put(buffer, x, place.y, place.right().saturating_sub(x), heading, theme.role(Role::Quiet));
            x += width;
        }
        let list = seen(self, place, self.at);
        list.draw(theme, buffer, &self.lines, |buffer, y, (wall, record), _| {
            let role = if record.done { Role::Text } else { Role::Severity(Severity::Warning) };
            let who = format!("{}[{}] of {}", record.name, record.pid, record.user);
            let cells = [
                (state.time().zone.time(*wall), Role::Quiet),
                (record.by.clone(), Role::Quiet),
                (record.deed.clone(), Role::Strong),
                (who, Role::Text),
                (record.outcome.clone(), role),
            ];
            let mut x = place.x;
            for ((text, role), (_, width)) in cells.iter().zip(columns) {
                let room = if width == 0 { place.right().saturating_sub(x) } else { width - 1 };
                put(buffer, x, y, room, text, theme.role(*role));
                x += width;
            }
        });
        more_below(theme, buffer, place, list.more(self.lines.len()));
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        let lines = self.lines.len();
        Some(List { at: &mut self.at, lines })
    }

    fn margins(&self) -> (u16, u16) {
        (1, 0)
    }

    fn opener(&self) -> Option<Action> {
        Some(Action::Journal)
    }

    fn follow(&mut self, state: &mut State) {
        self.lines = lines(state);
    }
}
