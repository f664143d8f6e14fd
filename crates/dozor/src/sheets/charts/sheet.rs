//! Charts as a sheet: keys, hints, what was typed.

use super::super::{After, Room, Sheet};
use super::drawing;
use super::model::{ChartSheet, LINES, PANES, Pane, Typing};
use crate::look::action::Action;
use crate::state::State;
use dozor_core::chart::Wish;
use dozor_core::lane::Severity;
use dozor_core::units::NANOS;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

impl Sheet for ChartSheet {
    fn title(&self, state: &State) -> String {
        let (from, until) = self.span(state);
        let zone = &state.time().zone;
        let length = dozor_core::units::long_duration(self.length as f64 / NANOS as f64);
        let over = if self.compared { ", over the time before it" } else { "" };
        format!("Charts, {length} from {} to {}{over}", zone.time(from), zone.time(until))
    }

    fn room(&self, _height: u16) -> Room {
        Room::All
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![
            ("a", "add a metric"),
            ("n", "new pane"),
            ("d", "take one off"),
            ("tab", "pane"),
            ("+ -", "zoom"),
            ("← →", "pan"),
            ("[ ]", "cursor"),
            ("b", "time before"),
            ("s", "save set"),
            ("o", "next set"),
            ("e", "SVG"),
            ("P", "PDF"),
            ("esc", "close"),
        ]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        match key.code {
            KeyCode::Char('a') => return self.prompt(Typing::Add),
            KeyCode::Char('n') if self.panes.len() < PANES => return self.prompt(Typing::Pane),
            KeyCode::Char('n') => state.say(Severity::Notice, format!("there are {PANES} panes at most")),
            KeyCode::Char('d') => {
                let pane = &mut self.panes[self.chosen];
                pane.wishes.pop();
                if pane.wishes.is_empty() && self.panes.len() > 1 {
                    self.panes.remove(self.chosen);
                    self.chosen = self.chosen.min(self.panes.len() - 1);
                }
                self.gather(state, true);
            }
            KeyCode::Tab => self.chosen = (self.chosen + 1) % self.panes.len(),
            KeyCode::BackTab => self.chosen = (self.chosen + self.panes.len() - 1) % self.panes.len(),
            KeyCode::Char('+' | '=') => self.zoom(state, true),
            KeyCode::Char('-') => self.zoom(state, false),
            KeyCode::Left => self.pan(state, true),
            KeyCode::Right => self.pan(state, false),
            KeyCode::Char('b') => {
                self.compared = !self.compared;
                self.gather(state, true);
            }
            KeyCode::Char('s') => return self.prompt(Typing::Name),
            KeyCode::Char('o') => self.next_set(state),
            KeyCode::Char('e') => self.save(state, "svg"),
            KeyCode::Char('P') => self.save(state, "pdf"),
            _ => {
                if let Some(action) = state.values.keys.action(key) {
                    let of_time = matches!(
                        action,
                        Action::StepBack
                            | Action::StepOn
                            | Action::TenBack
                            | Action::TenOn
                            | Action::Begin
                            | Action::End
                            | Action::Live
                            | Action::Freeze
                    );
                    if of_time {
                        return After::Pass(action);
                    }
                }
            }
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        drawing::draw(self, state, buffer, place);
    }

    fn answered(&mut self, text: &str, state: &mut State) -> Result<After, String> {
        match self.typing {
            Typing::Name => {
                state.save_charts(text, self.text());
            }
            Typing::Add | Typing::Pane => {
                let wishes: Vec<Wish> = text.split_whitespace().map(Wish::parse).collect::<Result<_, _>>()?;
                if wishes.is_empty() {
                    return Err("a metric is missing, such as disk.busy or cpu@stacker".to_owned());
                }
                if matches!(self.typing, Typing::Pane) {
                    self.panes.push(Pane::default());
                    self.chosen = self.panes.len() - 1;
                }
                let pane = &mut self.panes[self.chosen];
                pane.wishes.extend(wishes);
                pane.wishes.truncate(LINES);
                self.gather(state, true);
            }
        }
        Ok(After::Stay)
    }

    fn follow(&mut self, state: &mut State) {
        self.gather(state, false);
    }

    fn opener(&self) -> Option<Action> {
        Some(Action::Charts)
    }
}
