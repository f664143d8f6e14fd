//! Who listens: ports of TCP and UDP with the processes behind them, how many wait and what was dropped.

use super::inspect::Inspector;
use super::{After, List, Room, Searched, Sheet, more_below, moves, nothing_found, search_line, seen};
use crate::draw::{put, put_right};
use crate::look::action::Action;
use crate::look::line_edit::LineEdit;
use crate::look::theme::Role;
use crate::state::State;
use dozor_core::lane::Severity;
use dozor_core::listening::{Listening, listening};
use dozor_core::units::short_count;
use dozor_core::wanted::{Demand, Wanted};
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// Who listens.
#[derive(Default)]
pub struct PortsSheet {
    rows: Vec<Listening>,
    search: Searched,
}

impl PortsSheet {
    /// At the shown moment, and while it is open.
    pub fn open(state: &mut State) -> PortsSheet {
        let mut sheet = PortsSheet::default();
        sheet.follow(state);
        sheet
    }

    fn matching(&self) -> Vec<&Listening> {
        let typed = self.search.words();
        let words: Vec<&str> = typed.split_whitespace().collect();
        let has = |row: &&Listening| {
            let text = format!("{} {} {} {}", row.protocol, row.local, row.who(), row.users.join(" "));
            let text = text.to_lowercase();
            words.iter().all(|word| text.contains(word))
        };
        self.rows.iter().filter(has).collect()
    }
}

impl Sheet for PortsSheet {
    fn title(&self, _state: &State) -> String {
        format!("Who listens: {} sockets", self.rows.len())
    }

    fn room(&self, _height: u16) -> Room {
        Room::All
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![("letters", "search"), ("↑ ↓", "choose"), ("enter", "inspect"), ("esc", "close")]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        let lines = self.matching().len();
        if moves(&mut self.search.at, lines, key) {
            return After::Stay;
        }
        if key.code == KeyCode::Enter {
            let Some(holder) =
                self.matching().get(self.search.at).and_then(|row| row.holders.first().copied())
            else {
                state.say(Severity::Notice, "who holds it may not be seen; run dozor as root".to_owned());
                return After::Stay;
            };
            return Inspector::of(state, holder).map_or(After::Stay, |sheet| After::Open(Box::new(sheet)));
        }
        self.search.search(key);
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        search_line(theme, buffer, Rect { height: 1, ..place }, &self.search.typed);
        let quiet = theme.role(Role::Quiet);
        let y = place.y + 1;
        let x = place.x + 1;
        put(buffer, x, y, 5, "kind", quiet);
        put(buffer, x + 6, y, 26, "address", quiet);
        for (end, heading) in [(40, "waiting"), (49, "at most"), (58, "dropped")] {
            put_right(buffer, x + end, y, 8, heading, quiet);
        }
        put(buffer, x + 61, y, 10, "process", quiet);
        let list = seen(self, place, self.search.at);
        let rows = self.matching();
        if rows.is_empty() {
            let text = if self.rows.is_empty() && state.moment().sample.is_some() {
                "no listening sockets at this moment; they are collected while this is open or recorded"
            } else {
                ""
            };
            if text.is_empty() {
                nothing_found(theme, buffer, list.area);
            } else {
                put(buffer, list.area.x + 1, list.area.y, list.area.width, text, quiet);
            }
        }
        list.draw(theme, buffer, &rows, |buffer, y, row, _| {
            put(buffer, x, y, 5, row.protocol, quiet);
            put(buffer, x + 6, y, 26, &row.local, theme.role(Role::Strong));
            let number =
                |value: Option<i64>| value.map_or_else(|| "–".to_owned(), |value| short_count(value as f64));
            let full = row
                .waiting
                .zip(row.at_most)
                .is_some_and(|(waiting, most)| most > 0 && waiting * 10 >= most * 8);
            let role = if full { Role::Severity(Severity::Warning) } else { Role::Text };
            put_right(buffer, x + 40, y, 8, &number(row.waiting), theme.role(role));
            put_right(buffer, x + 49, y, 8, &number(row.at_most), quiet);
            let dropped = row.drops.is_some_and(|drops| drops > 0);
            let role = if dropped { Role::Severity(Severity::Warning) } else { Role::Quiet };
            put_right(buffer, x + 58, y, 8, &number(row.drops), theme.role(role));
            put(buffer, x + 61, y, place.right().saturating_sub(x + 61), &row.who(), theme.role(Role::Text));
        });
        more_below(theme, buffer, place, list.more(rows.len()));
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        let lines = self.matching().len();
        Some(List { at: &mut self.search.at, lines })
    }

    fn margins(&self) -> (u16, u16) {
        (2, 0)
    }

    fn typed(&mut self) -> Option<&mut LineEdit> {
        Some(&mut self.search.typed)
    }

    fn opener(&self) -> Option<Action> {
        Some(Action::Ports)
    }

    fn wanted(&self) -> Wanted {
        Wanted::NOTHING.with(Demand::Sockets)
    }

    fn follow(&mut self, state: &mut State) {
        if let Some(sample) = &state.moment().sample {
            self.rows = listening(sample);
        }
    }
}
