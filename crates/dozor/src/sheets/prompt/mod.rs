//! A line that is typed over the hints: narrowing, going to a process, notes, times, names, values of settings.

mod drawing;
mod line;

pub use line::{Prompt, Purpose};

use super::{After, Room, Sheet};
use crate::look::action::Action;
use crate::state::State;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// So many completions are seen at once.
const OFFERED: u16 = 9;

impl Sheet for Prompt {
    /// The word before the line.
    fn title(&self, _state: &State) -> String {
        match &self.purpose {
            Purpose::Narrow(_) => "narrow",
            Purpose::GoTo(_) => "go to",
            Purpose::Note(_) => "note",
            Purpose::Time => "go to time",
            Purpose::View => "view",
            Purpose::Columns => "columns",
            Purpose::Charts => "charts",
            Purpose::Metric => "metric",
            Purpose::Setting(setting) => setting.name,
            Purpose::Limit(name, _) => name,
        }
        .to_owned()
    }

    fn room(&self, height: u16) -> Room {
        Room::OverHints(1 + (self.completions.len() as u16).min(OFFERED).min(height / 3))
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        match key.code {
            KeyCode::Enter => return self.accept(state),
            KeyCode::Esc => {
                self.give_up(state);
                return After::Close;
            }
            KeyCode::Tab | KeyCode::BackTab => {
                if self.completions.is_empty() {
                    self.offer_completions(state, true);
                } else {
                    self.complete(key.code == KeyCode::Tab);
                    self.use_line(state);
                }
            }
            KeyCode::Up | KeyCode::Down if self.is_expression() => {
                self.recall(&state.values.history, key.code == KeyCode::Up);
                self.use_line(state);
            }
            _ => {
                if self.line.key(key) {
                    self.typed_on(state);
                }
            }
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        drawing::draw(self, state, buffer, place);
    }

    fn takes_text(&mut self) -> bool {
        true
    }

    fn pasted(&mut self, text: &str, state: &mut State) {
        self.line.insert_text(text);
        self.typed_on(state);
    }

    /// All keys are the line's.
    fn closes(&mut self, _key: &KeyEvent, _action: Option<Action>) -> bool {
        false
    }

    fn refused(&mut self, problem: String) {
        self.problem = Some(problem);
    }
}
