//! What opens over the screen: one file or folder each, behind one trait. Nobody asks *which* sheet is open; what the screen
//! wants to know of it, the trait says.

pub mod act;
pub mod charts;
pub mod columns;
pub mod compare;
pub mod export;
pub mod findings;
pub mod holders;
pub mod inspect;
pub mod journal;
pub mod limits;
pub mod pick;
pub mod ports;
pub mod prompt;
pub mod settings;

use crate::draw::list::Seen;
use crate::draw::{put, put_right};
use crate::look::action::{Action, Move};
use crate::look::line_edit::LineEdit;
use crate::look::theme::{Ground, Role, Theme};
use crate::machine::Sought;
use crate::state::State;
use dozor_core::inside::Told;
use dozor_core::inside::close::CloseLook;
use dozor_core::inside::holders::Holders;
use dozor_core::reading::ProcessKey;
use dozor_core::wanted::Wanted;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::{Position, Rect};
use ratatui::style::Modifier;
use ratatui::widgets::{Clear, Widget as _};

/// Lines below a list that explain the chosen line.
const EXPLAINED: u16 = 3;

/// What follows from a key or a click in a sheet.
pub enum After {
    /// It stays open.
    Stay,
    /// It closes.
    Close,
    /// Another one opens over it.
    Open(Box<dyn Sheet>),
    /// It closes, and this is done.
    Do(Action),
    /// It stays open, and this is done below it.
    Pass(Action),
    /// What was typed goes to the sheet below; it closes unless that one refuses it.
    Answer(String),
}

/// How much of the screen a sheet takes.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Room {
    /// So many lines above the hints, its title among them, as far as there are as many.
    Lines(u16),
    /// All but the uppermost line and the hints.
    All,
    /// So many lines above the hints, and the hints; the rest of the screen goes on.
    OverHints(u16),
}

/// The list of a sheet.
pub struct List<'a> {
    /// The chosen line.
    pub at: &'a mut usize,
    /// Its lines.
    pub lines: usize,
}

/// Something that opens over the screen.
pub trait Sheet {
    /// What stands in its upper edge.
    fn title(&self, state: &State) -> String;
    /// How much of the screen it takes.
    fn room(&self, height: u16) -> Room;
    /// Keys that mean something in it, and what they do.
    fn hints(&self) -> Vec<(&'static str, &'static str)>;
    /// Takes a key.
    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After;
    /// Draws it below its edge.
    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect);

    /// Its list, for the wheel and for clicks.
    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        None
    }
    /// Lines above and below the list.
    fn margins(&self) -> (u16, u16) {
        (0, 0)
    }
    /// The line of its list that was clicked is the chosen one now.
    fn clicked(&mut self, _state: &mut State) -> After {
        After::Stay
    }
    /// What is typed, where letters search.
    fn typed(&mut self) -> Option<&mut LineEdit> {
        None
    }
    /// Whether letters are text here, whichever they are: then many that come at once may be taken as one.
    fn takes_text(&mut self) -> bool {
        self.typed().is_some()
    }
    /// Text was pasted.
    fn pasted(&mut self, text: &str, state: &mut State) {
        let _ = state;
        // Lists are searched by what is pasted as by what is typed.
        if let Some(line) = self.typed() {
            line.insert_text(text);
            if let Some(list) = self.list(state) {
                *list.at = 0;
            }
        }
    }
    /// The action whose key closes it as well, as long as nothing is typed. Where names are searched that may begin with any
    /// letter there is none.
    fn opener(&self) -> Option<Action> {
        None
    }
    /// Whether a key closes it. Where letters search, they do so as soon as something is typed.
    fn closes(&mut self, key: &KeyEvent, action: Option<Action>) -> bool {
        let own = action.is_some() && (action == self.opener() || action == Some(Action::Back));
        key.code == KeyCode::Esc
            || match self.typed() {
                Some(typed) => own && typed.text().is_empty(),
                None => own || action == Some(Action::Quit),
            }
    }
    /// It was closed without anything being done.
    fn closed(&mut self, _state: &mut State) {}
    /// What was typed in a prompt that it opened, or chosen in another sheet; says what is wrong with it.
    fn answered(&mut self, _text: &str, _state: &mut State) -> Result<After, String> {
        Ok(After::Stay)
    }
    /// What it gave was refused, for this reason.
    fn refused(&mut self, _problem: String) {}
    /// Another moment is shown, or more is known of it.
    fn follow(&mut self, _state: &mut State) {}
    /// What was asked of a process came.
    fn told(&mut self, _key: ProcessKey, _told: &Told, _state: &mut State) {}
    /// What was seen so far of a process that is looked at closely; `all` says that it is over.
    fn seen_closely(&mut self, _key: ProcessKey, _look: &CloseLook, _all: bool, _state: &mut State) {}
    /// Who has open what was looked for.
    fn found(&mut self, _sought: &Sought, _found: &Result<Holders, String>) {}
    /// What the source must collect while it is open.
    fn wanted(&self) -> Wanted {
        Wanted::NOTHING
    }
    /// It has something to work out that goes on by itself, in small parts.
    fn goes_on(&self) -> bool {
        false
    }
    /// A place of its own was clicked; none where that means nothing, or only something for its list.
    fn clicked_at(&mut self, _at: Position, _place: Rect, _state: &mut State) -> Option<After> {
        None
    }
    /// The order of the processes holds still while it is open.
    fn holds_order(&self) -> bool {
        false
    }
}

/// Where a sheet stands, its upper edge left out.
pub fn place(sheet: &dyn Sheet, screen: Rect) -> Rect {
    let height = match sheet.room(screen.height) {
        Room::Lines(lines) => lines,
        Room::All | Room::OverHints(_) => screen.height,
    };
    let height = height.min(screen.height.saturating_sub(2)).max(1);
    let y = screen.bottom().saturating_sub(1 + height) + 1;
    Rect { x: screen.x + 2, y, width: screen.width.saturating_sub(4), height: height - 1 }
}

/// The part of its list that is seen, scrolled so that the chosen line is among it.
pub fn seen(sheet: &(impl Sheet + ?Sized), place: Rect, at: usize) -> Seen {
    let (head, foot) = sheet.margins();
    let height = place.height.saturating_sub(head + foot);
    Seen::around(Rect { y: place.y + head, height, ..place }, at)
}

/// Draws an open sheet.
pub fn draw(sheet: &dyn Sheet, state: &State, buffer: &mut Buffer, screen: Rect) {
    if let Room::OverHints(lines) = sheet.room(screen.height) {
        let lines = (lines + 1).min(screen.height.saturating_sub(1));
        let place = Rect { y: screen.bottom() - lines, height: lines, ..screen };
        Clear.render(place, buffer);
        buffer.set_style(place, state.theme.ground(Ground::Panel).patch(state.theme.role(Role::Text)));
        sheet.draw(state, buffer, place);
        return;
    }
    let place = place(sheet, screen);
    let whole = Rect { y: place.y - 1, height: place.height + 1, ..screen };
    Clear.render(whole, buffer);
    buffer.set_style(whole, state.theme.ground(Ground::Panel).patch(state.theme.role(Role::Text)));
    let line = state.theme.role(Role::Accent);
    for x in whole.left()..whole.right() {
        put(buffer, x, whole.y, 1, "━", line);
    }
    let title = format!(" {} ", sheet.title(state));
    put(buffer, whole.x + 2, whole.y, whole.width - 4, &title, line.add_modifier(Modifier::BOLD));
    sheet.draw(state, buffer, place);
}

/// Moves within a list, if a key says so.
fn moves(at: &mut usize, lines: usize, key: &KeyEvent) -> bool {
    const PAGE: usize = 10;
    *at = match key.code {
        KeyCode::Down => *at + 1,
        KeyCode::Up => at.saturating_sub(1),
        KeyCode::PageDown => *at + PAGE,
        KeyCode::PageUp => at.saturating_sub(PAGE),
        KeyCode::Home => 0,
        KeyCode::End => lines,
        _ => return false,
    }
    .min(lines.saturating_sub(1));
    true
}

/// The key of a list that is not searched, as one that moves in it: those that move in the table do.
fn moving(state: &State, key: &KeyEvent) -> KeyEvent {
    let code = match state.values.keys.action(key) {
        Some(Action::Go(Move::Down)) => KeyCode::Down,
        Some(Action::Go(Move::Up)) => KeyCode::Up,
        _ => return *key,
    };
    KeyEvent::new(code, key.modifiers)
}

/// A list that is searched by typing.
#[derive(Clone, Debug, Default)]
pub struct Searched {
    /// What is typed.
    pub typed: LineEdit,
    /// The chosen line among those that match.
    pub at: usize,
}

impl Searched {
    /// What is typed, as it is compared.
    fn words(&self) -> String {
        self.typed.text().trim().to_lowercase()
    }

    /// Takes a key that types; the first of what matches then is the chosen line.
    fn search(&mut self, key: &KeyEvent) {
        if self.typed.search_key(key) {
            self.at = 0;
        }
    }
}

/// The line in which is typed what is searched for.
fn search_line(theme: &Theme, buffer: &mut Buffer, place: Rect, typed: &LineEdit) {
    let x = put(buffer, place.x, place.y, 10, "search ", theme.role(Role::Quiet));
    let x = put(buffer, x, place.y, 40, &typed.text(), theme.role(Role::Strong));
    put(buffer, x, place.y, 1, " ", theme.role(Role::Strong).add_modifier(Modifier::REVERSED));
}

fn nothing_found(theme: &Theme, buffer: &mut Buffer, list: Rect) {
    put(buffer, list.x + 1, list.y, 40, "nothing matches", theme.role(Role::Quiet));
}

/// What explains the chosen line, below the list.
fn explain(theme: &Theme, buffer: &mut Buffer, place: Rect, list: Rect, text: &str) {
    let y = list.bottom() + 1;
    let below = Rect { y, height: place.bottom().saturating_sub(y), ..place };
    crate::draw::paragraph(theme, buffer, below, text, Role::Text);
}

/// Says in the upper edge how many lines are below those that are seen.
fn more_below(theme: &Theme, buffer: &mut Buffer, place: Rect, more: usize) {
    if more > 0 {
        let text = format!(" {more} more below ");
        put_right(buffer, place.right(), place.y - 1, 20, &text, theme.role(Role::Quiet));
    }
}
