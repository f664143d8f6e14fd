//! The inspector as a sheet: its keys, clicks and answers.

use super::inspector::{Inspector, Page};
use super::{drawing, pages, table};
use crate::look::action::{Action, Topic, entry_of};
use crate::sheets::act::ActSheet;
use crate::sheets::{After, List, Room, Sheet, moves, moving};
use crate::state::State;
use crate::state::effect::Effect;
use dozor_core::inside::close::CloseLook;
use dozor_core::inside::{Subject, Told};
use dozor_core::lane::Severity;
use dozor_core::reading::ProcessKey;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::{Position, Rect};

impl Sheet for Inspector {
    fn title(&self, _state: &State) -> String {
        self.label()
    }

    fn room(&self, _height: u16) -> Room {
        Room::All
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        let mut hints = vec![("esc", "back"), ("x", "act"), ("tab", "page"), ("c", "close look")];
        match self.page {
            Page::Environment if self.secrets => hints.push(("s", "hide secrets")),
            Page::Environment => hints.push(("s", "show secrets")),
            Page::It => hints.push(("k", "keep the look")),
            Page::Threads
            | Page::Files
            | Page::Sockets
            | Page::Memory
            | Page::Signals
            | Page::Ended
            | Page::History => {
                hints.push(("o", "order"));
            }
        }
        hints.extend([("[", "step back"), ("]", "on"), ("u", "undo"), ("y", "copy")]);
        hints.push(if self.follows { ("n", "follow no more") } else { ("n", "follow restarts") });
        hints
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        let lines = self.lines(state);
        // `k` keeps a look here, so only the arrows and `j` move.
        let moving = if key.code == KeyCode::Char('k') { *key } else { moving(state, key) };
        let at = self.at.entry(self.page).or_default();
        if moves(at, lines, &moving) {
            return After::Stay;
        }
        match key.code {
            KeyCode::Tab | KeyCode::Right => self.next_page(state, true),
            KeyCode::BackTab | KeyCode::Left => self.next_page(state, false),
            KeyCode::Char('x') => {
                return match ActSheet::open_for(state, self.key) {
                    Some(sheet) => After::Open(Box::new(sheet)),
                    None => After::Stay,
                };
            }
            KeyCode::Char('c') => self.look_closely(state),
            KeyCode::Char('k') if self.page == Page::It => self.keep_look(state),
            KeyCode::Char('s') if self.page == Page::Environment => self.secrets = !self.secrets,
            KeyCode::Char('o') => self.next_order(state),
            KeyCode::Char('O') => {
                let (column, _) = self.order_of(self.page);
                self.order_by(column);
            }
            KeyCode::Char('n') => self.turn_following(state),
            KeyCode::Char('y') => {
                let text = self.chosen_text(state);
                state.say(Severity::Fine, format!("given to the terminal's clipboard: {text}"));
                state.outbox.push(Effect::Copy(text));
            }
            _ => return Inspector::passed(state, key),
        }
        After::Stay
    }

    fn closes(&mut self, key: &KeyEvent, action: Option<Action>) -> bool {
        key.code == KeyCode::Esc || matches!(action, Some(Action::Inspect | Action::Quit | Action::Back))
    }

    fn closed(&mut self, state: &mut State) {
        state.outbox.push(Effect::LookAway);
        // Whoever comes back finds it selected.
        state.select_pid(self.key.pid);
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        drawing::draw(self, state, buffer, place);
    }

    fn list(&mut self, state: &State) -> Option<List<'_>> {
        let lines = self.lines(state);
        Some(List { at: self.at.entry(self.page).or_default(), lines })
    }

    fn follow(&mut self, state: &mut State) {
        if state.time().cursor.is_none() && self.is_gone(state) {
            if self.follows && self.next_life(state).is_some() {
                self.go_on(state);
            } else if !std::mem::replace(&mut self.said_gone, true) {
                let text = format!("{} is gone", self.label());
                if let Some(wall) = state.newest_wall() {
                    self.happened.push((wall, text.clone()));
                }
            }
        }
        self.ask(state);
        self.series.follow(state);
    }

    fn goes_on(&self) -> bool {
        self.series.unfinished
    }

    fn told(&mut self, key: ProcessKey, told: &Told, _state: &mut State) {
        if key != self.key {
            return;
        }
        match told {
            Told::Facts(facts) => {
                self.asked.remove(&Subject::Facts);
                self.facts = Some(facts.clone());
            }
            Told::Threads(look) => {
                self.asked.remove(&Subject::Threads);
                pages::keep(&mut self.threads, look.clone());
            }
            Told::Files(look) => {
                self.asked.remove(&Subject::Files);
                pages::keep(&mut self.files, look.clone());
            }
            Told::Sockets(look) => {
                self.asked.remove(&Subject::Sockets);
                pages::keep(&mut self.sockets, look.clone());
            }
            Told::Memory(memory) => {
                self.asked.remove(&Subject::Memory);
                self.memory = Some(memory.clone());
            }
            Told::Environment(environment) => {
                self.asked.remove(&Subject::Environment);
                self.environment = Some(environment.clone());
            }
            Told::Cores(_) => {}
            Told::Gone => self.asked.clear(),
        }
    }

    fn seen_closely(&mut self, key: ProcessKey, look: &CloseLook, all: bool, _state: &mut State) {
        if let Some(closely) = self.closely.as_mut().filter(|_| key == self.key) {
            closely.look = look.clone();
            closely.goes_on = !all;
        }
    }

    fn clicked_at(&mut self, at: Position, place: Rect, state: &mut State) -> Option<After> {
        drawing::clicked(self, at, place, state);
        Some(After::Stay)
    }
}

impl Inspector {
    /// Follows the program over restarts, or no more; where it is gone, goes on at once.
    fn turn_following(&mut self, state: &mut State) {
        self.follows = !self.follows;
        let text = if self.follows {
            format!("the next {} of {} is followed when this one ends", self.name, self.user)
        } else {
            "restarts are not followed any more".to_owned()
        };
        state.say(Severity::Fine, text);
        if self.follows && state.time().cursor.is_none() && self.is_gone(state) {
            self.go_on(state);
        }
    }

    /// The last cell of the chosen row; on the first page the PID.
    fn chosen_text(&self, state: &State) -> String {
        let at = self.at.get(&self.page).copied().unwrap_or(0);
        let table = self.table(state);
        let cell = table.rows.get(at).and_then(|row| row.last());
        cell.map_or_else(|| self.key.pid.to_string(), |cell| cell.text.clone())
    }

    /// The table of the present page in its order.
    pub(super) fn table(&self, state: &State) -> table::Table {
        let mut table = pages::table(self, state, self.page);
        let (column, other_way) = self.order_of(self.page);
        table.order(column, other_way);
        table
    }

    pub(super) fn lines(&self, state: &State) -> usize {
        if self.page == Page::It { drawing::body_lines(self, state) } else { self.table(state).rows.len() }
    }

    pub(super) fn next_order(&mut self, state: &State) {
        let columns = self.table(state).columns.len();
        if columns > 0 {
            let (now, _) = self.order_of(self.page);
            self.orders.insert(self.page, ((now + 1) % columns, false));
        }
    }

    /// A key that means something on the screen below as well.
    fn passed(state: &State, key: &KeyEvent) -> After {
        let action = state.values.keys.action(key);
        match action.and_then(entry_of) {
            Some(entry) if entry.topic == Topic::Time => After::Pass(entry.action),
            Some(entry)
                if matches!(
                    entry.action,
                    Action::Undo
                        | Action::Journal
                        | Action::Units
                        | Action::Times
                        | Action::Theme
                        | Action::Help
                        | Action::Commands
                        | Action::Mouse
                        | Action::ReadNow
                        | Action::Plus
                        | Action::Minus
                ) =>
            {
                After::Pass(entry.action)
            }
            _ => After::Stay,
        }
    }
}
