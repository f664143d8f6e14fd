//! The sheet of signals: what shall happen to some processes.

use super::{After, List, Room, Searched, Sheet, moves, nothing_found, search_line, seen};
use crate::draw::put;
use crate::look::line_edit::LineEdit;
use crate::look::theme::Role;
use crate::machine::Target;
use crate::state::State;
use crate::state::data::Stay;
use crate::state::effect::Effect;
use dozor_core::lane::Severity;
use dozor_core::signals::{self, Signal};
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// So many targets are named.
const NAMED: usize = 6;

/// Signals for some targets.
#[derive(Clone, Debug)]
pub struct ActSheet {
    targets: Vec<Target>,
    signals: Vec<Signal>,
    search: Searched,
}

impl ActSheet {
    /// For the marked processes, or else for the selected one; where there is none, says so. Begins with the polite stop.
    pub fn open(state: &mut State) -> Option<ActSheet> {
        let targets = state.targets_to_act_on()?;
        Some(ActSheet { targets, signals: signals::all().collect(), search: Searched::default() })
    }

    /// Signals that match what is typed, by number, name or words, the best first.
    fn matching(&self) -> Vec<&Signal> {
        let typed = self.search.words();
        let typed = typed.strip_prefix("sig").unwrap_or(&typed);
        let rank = |signal: &&Signal| {
            let (name, number) = (signal.name.to_lowercase(), signal.number.to_string());
            let words = signal.words.to_lowercase();
            if name == typed || number == typed {
                Some(0)
            } else if name.starts_with(typed) || number.starts_with(typed) {
                Some(1)
            } else if words.split(' ').any(|word| word.starts_with(typed)) {
                Some(2)
            } else {
                (name.contains(typed) || words.contains(typed)).then_some(3)
            }
        };
        let mut found: Vec<(i32, &Signal)> =
            self.signals.iter().filter_map(|signal| Some((rank(&signal)?, signal))).collect();
        found.sort_by_key(|(rank, _)| *rank);
        found.into_iter().map(|(_, signal)| signal).collect()
    }

    /// Who is meant, and what is worth knowing of them.
    fn notes(&self) -> Vec<String> {
        if let [one] = &self.targets[..] {
            let children = (one.children > 0).then(|| children_words(one.children));
            return one.special().map(str::to_owned).into_iter().chain(children).collect();
        }
        let named = self.targets.iter().take(NAMED).map(|target| {
            let children = if target.children > 0 {
                format!(", {}", children_words(target.children))
            } else {
                String::new()
            };
            let special = target.special().map_or(String::new(), |special| format!("; {special}"));
            format!("✓ {} of {}{children}{special}", target.label(), target.user)
        });
        let more = self.targets.len().checked_sub(NAMED + 1).map(|more| format!("  and {} more", more + 1));
        named.chain(more).collect()
    }

    fn send(&mut self, state: &mut State) -> After {
        let Some(signal) = self.matching().get(self.search.at).map(|signal| (*signal).clone()) else {
            return After::Stay;
        };
        let targets = std::mem::take(&mut self.targets);
        state.hold_order();
        let who = match &targets[..] {
            [one] => one.label(),
            many => format!("{} processes", many.len()),
        };
        let waiting = if signal.ends { "; waiting for the end …" } else { "" };
        state.say_for(Severity::Fine, format!("{} sent to {who}{waiting}", signal.name), Stay::UntilKey);
        let done = format!("{} sent to {who}", signal.name);
        state.outbox.push(Effect::Signal(signal, targets));
        state.sign_action(done);
        After::Close
    }
}

fn children_words(children: usize) -> String {
    if children == 1 {
        "its child lives on when it ends".to_owned()
    } else {
        format!("its {children} children live on when it ends")
    }
}

impl Sheet for ActSheet {
    fn title(&self, _state: &State) -> String {
        match &self.targets[..] {
            [one] => format!("What shall happen to {} of {}?", one.label(), one.user),
            many => format!("What shall happen to these {} processes?", many.len()),
        }
    }

    fn room(&self, _height: u16) -> Room {
        Room::Lines(self.margins().0 + 12)
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![("letters", "search"), ("↑ ↓", "choose"), ("enter", "send"), ("esc", "leave it")]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        let lines = self.matching().len();
        if moves(&mut self.search.at, lines, key) {
            return After::Stay;
        }
        if key.code == KeyCode::Enter {
            return self.send(state);
        }
        self.search.search(key);
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        let list = seen(self, place, self.search.at);
        for (y, note) in (place.y..list.area.y).zip(self.notes()) {
            put(buffer, place.x, y, place.width, &note, theme.role(Role::Text));
        }
        let line = Rect { y: list.area.y.saturating_sub(1), ..place };
        search_line(theme, buffer, line, &self.search.typed);
        let signals = self.matching();
        if signals.is_empty() {
            nothing_found(theme, buffer, list.area);
        }
        list.draw(theme, buffer, &signals, |buffer, y, signal, chosen| {
            let role = if chosen { Role::Strong } else { Role::Text };
            let name = format!("{:<9} {:>2}", signal.name, signal.number);
            put(buffer, place.x + 1, y, 13, &name, theme.role(Role::Quiet));
            put(buffer, place.x + 15, y, place.width.saturating_sub(15), &signal.words, theme.role(role));
        });
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        let lines = self.matching().len();
        Some(List { at: &mut self.search.at, lines })
    }

    /// Above the list: who is meant, and what is searched for.
    fn margins(&self) -> (u16, u16) {
        (self.notes().len() as u16 + 1, 0)
    }

    fn typed(&mut self) -> Option<&mut LineEdit> {
        Some(&mut self.search.typed)
    }

    fn holds_order(&self) -> bool {
        true
    }
}
