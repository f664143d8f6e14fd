//! Who has what open: files, folders, devices over all processes; what is on a mount and keeps it from being unmounted; what
//! removed files still take.

use super::inspect::Inspector;
use super::{After, List, Room, Searched, Sheet, more_below, moves, nothing_found, search_line, seen};
use crate::draw::{put, put_right};
use crate::look::action::Action;
use crate::look::line_edit::LineEdit;
use crate::look::theme::Role;
use crate::machine::Sought;
use crate::state::State;
use crate::state::effect::Effect;
use dozor_core::inside::holders::{Hold, Holders};
use dozor_core::lane::Severity;
use dozor_core::parts::PartId;
use dozor_core::units::{long_bytes, short_bytes};
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// Who holds what.
pub struct HoldersSheet {
    sought: Sought,
    found: Option<Result<Holders, String>>,
    /// In what of each it is searched.
    texts: Vec<String>,
    search: Searched,
}

impl HoldersSheet {
    /// Looks for all that is open; where a file system is chosen among the parts, for what is on it. Says so where nobody can
    /// look.
    pub fn open(state: &mut State) -> Option<HoldersSheet> {
        if let Some(reason) = state.session().actions_refused {
            let text = format!("open files are not recorded: {reason}");
            state.say(Severity::Notice, text);
            return None;
        }
        let sought = match &state.lanes().parts.selected {
            Some(PartId::Mount(path)) => Sought::Path(path.to_string()),
            Some(PartId::Device(name)) => Sought::Path(format!("/dev/{name}")),
            _ => Sought::All,
        };
        state.outbox.push(Effect::Seek(sought.clone()));
        Some(HoldersSheet { sought, found: None, texts: vec![], search: Searched::default() })
    }

    fn list(&self) -> &[Hold] {
        match &self.found {
            Some(Ok(holders)) => &holders.list,
            Some(Err(_)) | None => &[],
        }
    }

    /// Those in which all words that are typed stand.
    fn matching(&self) -> Vec<&Hold> {
        let typed = self.search.words();
        let words: Vec<&str> = typed.split_whitespace().collect();
        let has = |text: &str| words.iter().all(|word| text.contains(word));
        self.list().iter().zip(&self.texts).filter(|(_, text)| has(text)).map(|(hold, _)| hold).collect()
    }

    fn turn(&mut self, state: &mut State) {
        self.sought = match &self.sought {
            Sought::Path(_) | Sought::Removed => Sought::All,
            Sought::All => Sought::Removed,
        };
        (self.found, self.search.at) = (None, 0);
        state.outbox.push(Effect::Seek(self.sought.clone()));
    }
}

/// What is searched: the path, the process, the user, the kind and the way.
fn text(hold: &Hold) -> String {
    let text = format!(
        "{} {}[{}] {} {} {} {}",
        hold.file.target,
        hold.name,
        hold.key.pid,
        hold.user,
        hold.file.kind.word(),
        hold.way.word(),
        if hold.file.removed { "removed" } else { "" }
    );
    text.to_lowercase()
}

impl Sheet for HoldersSheet {
    fn title(&self, _state: &State) -> String {
        let what = match &self.sought {
            Sought::All => "Who has what open".to_owned(),
            Sought::Removed => "Who holds removed files open".to_owned(),
            Sought::Path(path) => format!("Who uses {path}"),
        };
        match &self.found {
            None => format!("{what}: looking …"),
            Some(Err(_)) => what,
            Some(Ok(holders)) => {
                let removed = match holders.removed_bytes() {
                    0 => String::new(),
                    bytes => format!("; removed files still take {}", long_bytes(bytes as f64)),
                };
                let cut = if holders.cut { "at least " } else { "" };
                format!("{what}: {cut}{} by {} processes{removed}", holders.list.len(), holders.processes())
            }
        }
    }

    fn room(&self, _height: u16) -> Room {
        Room::All
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        let other = match self.sought {
            Sought::All => "removed ones only",
            Sought::Removed | Sought::Path(_) => "all",
        };
        vec![("letters", "search"), ("↑ ↓", "choose"), ("enter", "inspect"), ("tab", other), ("esc", "close")]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        let lines = self.matching().len();
        if moves(&mut self.search.at, lines, key) {
            return After::Stay;
        }
        match key.code {
            KeyCode::Enter => {
                let chosen = self.matching().get(self.search.at).map(|hold| hold.key);
                if let Some(key) = chosen {
                    if let Some(sheet) = Inspector::of(state, key) {
                        return After::Open(Box::new(sheet));
                    }
                    state.say(Severity::Notice, "it is gone".to_owned());
                }
            }
            KeyCode::Tab => self.turn(state),
            _ => self.search.search(key),
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        let mut y = place.y;
        let denied = match &self.found {
            Some(Ok(holders)) if holders.denied > 0 => format!(
                "× {} of {} processes may not be looked into; run dozor as root to see them all",
                holders.denied,
                holders.denied + holders.looked
            ),
            Some(Err(problem)) => problem.clone(),
            _ => String::new(),
        };
        put(buffer, place.x, y, place.width, &denied, theme.role(Role::Quiet));
        y += 1;
        search_line(theme, buffer, Rect { y, height: 1, ..place }, &self.search.typed);
        let wide = place.width >= 110;
        let (process, user) = (24, if wide { 10 } else { 0 });
        let heads = y + 1;
        put(buffer, place.x + 1, heads, process, "process", theme.role(Role::Quiet));
        put(buffer, place.x + 1 + process, heads, user, "user", theme.role(Role::Quiet));
        let x = place.x + 1 + process + user;
        put(buffer, x, heads, 12, "how", theme.role(Role::Quiet));
        put(buffer, x + 12, heads, 8, "kind", theme.role(Role::Quiet));
        put_right(buffer, x + 28, heads, 8, "size", theme.role(Role::Quiet));
        put(buffer, x + 30, heads, 10, "path", theme.role(Role::Quiet));
        let list = seen(self, place, self.search.at);
        let found = self.matching();
        if found.is_empty() && matches!(self.found, Some(Ok(_))) {
            nothing_found(theme, buffer, list.area);
        }
        list.draw(theme, buffer, &found, |buffer, y, hold, chosen| {
            let name = format!("{}[{}]", hold.name, hold.key.pid);
            put(buffer, place.x + 1, y, process - 1, &name, theme.role(Role::Strong));
            put(
                buffer,
                place.x + 1 + process,
                y,
                user.saturating_sub(1),
                &hold.user,
                theme.role(Role::Quiet),
            );
            let way = if hold.file.descriptor >= 0 { hold.file.mode() } else { hold.way.word() };
            put(buffer, x, y, 11, way, theme.role(Role::Text));
            put(buffer, x + 12, y, 8, hold.file.kind.word(), theme.role(Role::Quiet));
            let size = hold.file.size.value().map_or_else(|| "–".to_owned(), |size| short_bytes(size as f64));
            put_right(buffer, x + 28, y, 8, &size, theme.role(Role::Text));
            let removed = if hold.file.removed { "   removed" } else { "" };
            let path = format!("{}{removed}", hold.file.target);
            let role = if chosen { Role::Strong } else { Role::Text };
            put(buffer, x + 30, y, place.right().saturating_sub(x + 30), &path, theme.role(role));
        });
        more_below(theme, buffer, place, list.more(found.len()));
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        let lines = self.matching().len();
        Some(List { at: &mut self.search.at, lines })
    }

    fn margins(&self) -> (u16, u16) {
        (3, 0)
    }

    fn typed(&mut self) -> Option<&mut LineEdit> {
        Some(&mut self.search.typed)
    }

    fn opener(&self) -> Option<Action> {
        Some(Action::Holders)
    }

    fn found(&mut self, sought: &Sought, found: &Result<Holders, String>) {
        if *sought == self.sought {
            self.found = Some(found.clone());
            self.texts = found.iter().flat_map(|found| &found.list).map(text).collect();
        }
    }
}
