//! Lists to pick from, narrowed by what is typed. What a list is of, and what choosing means, each of them says on its own.

pub mod arrange;
pub mod commands;
pub mod help;
pub mod order;

use super::{After, List, Room, Searched, Sheet, moves, nothing_found, search_line, seen};
use crate::draw::put;
use crate::look::action::{Action, also_called};
use crate::look::line_edit::LineEdit;
use crate::look::theme::Role;
use crate::panes::hints::now_word;
use crate::state::State;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// A line of a list.
#[derive(Clone, Debug, PartialEq)]
pub struct Row<T> {
    /// What it stands for; nothing where it is only text.
    pub item: Option<T>,
    /// Its name.
    pub name: String,
    /// Keys that do the same.
    pub keys: String,
    /// How it is now: the present choice, the present value.
    pub now: String,
    /// What it means.
    pub help: String,
    /// What people call it in general.
    also: &'static str,
    /// It begins a chapter.
    title: bool,
}

impl<T> Row<T> {
    fn new(item: Option<T>, name: &str, help: &str) -> Row<T> {
        let (name, help) = (name.to_owned(), help.to_owned());
        Row { item, name, keys: String::new(), now: String::new(), help, also: "", title: false }
    }

    fn of_action(state: &State, action: Action, item: T, name: &str, help: &str) -> Row<T> {
        let keys = state.values.keys.keys(action).join("  ");
        let now = now_word(state, action);
        Row { keys, now, also: also_called(action), ..Row::new(Some(item), name, help) }
    }
}

/// How wide the columns of a list are, and which comes first.
pub struct Look {
    name: u16,
    keys: u16,
    keys_first: bool,
    /// Cells that are left free where nothing says how it is now.
    no_now: u16,
}

/// What a list is of.
pub trait Choices {
    /// What a line stands for.
    type Item;
    /// Its title.
    const TITLE: &'static str;
    /// What enter does, in the hints.
    const CHOOSE: &'static str;
    /// What tab does, in the hints; nothing where it does nothing.
    const SECOND: Option<&'static str> = None;
    /// How much of the screen it takes.
    const ROOM: Room = Room::Lines(18);
    /// How its lines are laid out.
    const LOOK: Look;
    /// The action whose key closes it.
    const OPENER: Option<Action> = None;

    /// Lines that match, the best first.
    fn rows(state: &State, typed: &str) -> Vec<Row<Self::Item>>;
    /// Does what a line says; `second` what tab does.
    fn choose(item: Self::Item, second: bool, state: &mut State) -> After;
}

/// An open list.
pub struct Picker<C> {
    search: Searched,
    of: std::marker::PhantomData<C>,
}

impl<C: Choices> Picker<C> {
    /// A list before anything is typed, at one of its lines.
    fn at(at: usize) -> Picker<C> {
        Picker { search: Searched { at, ..Searched::default() }, of: std::marker::PhantomData }
    }

    fn rows(&self, state: &State) -> Vec<Row<C::Item>> {
        C::rows(state, self.search.typed.text().trim())
    }

    fn choose(&mut self, second: bool, state: &mut State) -> After {
        let row = self.rows(state).into_iter().nth(self.search.at);
        row.and_then(|row| row.item).map_or(After::Stay, |item| C::choose(item, second, state))
    }
}

impl<C: Choices> Sheet for Picker<C> {
    fn title(&self, _state: &State) -> String {
        C::TITLE.to_owned()
    }

    fn room(&self, _height: u16) -> Room {
        C::ROOM
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        let mut hints = vec![("letters", "search"), ("↑ ↓", "choose"), ("enter", C::CHOOSE)];
        hints.extend(C::SECOND.map(|second| ("tab", second)));
        hints.push(("esc", "close"));
        hints
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        let lines = self.rows(state).len();
        if moves(&mut self.search.at, lines, key) {
            return After::Stay;
        }
        match key.code {
            KeyCode::Enter => return self.choose(false, state),
            KeyCode::Tab => return self.choose(true, state),
            _ => self.search.search(key),
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        search_line(theme, buffer, place, &self.search.typed);
        let (list, rows) = (seen(self, place, self.search.at), self.rows(state));
        list.draw(theme, buffer, &rows, |buffer, y, row, _| draw_row(state, buffer, place, y, row, &C::LOOK));
        if rows.is_empty() {
            nothing_found(theme, buffer, list.area);
        }
    }

    fn list(&mut self, state: &State) -> Option<List<'_>> {
        let lines = self.rows(state).len();
        Some(List { at: &mut self.search.at, lines })
    }

    fn margins(&self) -> (u16, u16) {
        (2, 0)
    }

    fn clicked(&mut self, state: &mut State) -> After {
        self.choose(false, state)
    }

    fn typed(&mut self) -> Option<&mut LineEdit> {
        Some(&mut self.search.typed)
    }

    fn opener(&self) -> Option<Action> {
        C::OPENER
    }
}

fn draw_row<T>(state: &State, buffer: &mut Buffer, place: Rect, y: u16, row: &Row<T>, look: &Look) {
    let theme = &state.theme;
    if row.title {
        put(buffer, place.x, y, place.width, &row.name, theme.role(Role::Accent));
        return;
    }
    let mut x = place.x + 1;
    if look.keys_first {
        put(buffer, x + 1, y, look.keys, &row.keys, theme.role(Role::Strong));
        x += look.keys + 2;
        put(buffer, x, y, look.name, &row.name, theme.role(Role::Text));
        x += if row.name.is_empty() { 0 } else { look.name + 1 };
    } else {
        put(buffer, x, y, look.name, &row.name, theme.role(Role::Strong));
        x += look.name + 1;
        if look.keys > 0 {
            put(buffer, x, y, look.keys, &row.keys, theme.role(Role::Accent));
            x += look.keys + 1;
        }
    }
    let room = |x: u16| place.right().saturating_sub(x);
    if row.now.is_empty() {
        x += look.no_now;
    } else {
        x = put(buffer, x, y, room(x).min(24), &row.now, theme.role(Role::Accent)) + 2;
    }
    put(buffer, x, y, room(x), &row.help, theme.role(Role::Quiet));
}
