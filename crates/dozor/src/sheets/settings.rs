//! Looking at the settings and changing them. A change is there at once and is kept in the file.

use super::prompt::{Prompt, Purpose};
use super::{After, EXPLAINED, List, Room, Sheet, explain, moves, moving, seen};
use crate::draw::put;
use crate::look::action::Action;
use crate::look::theme::Role;
use crate::settings::configured::Origin;
use crate::settings::file::{Change, from_home};
use crate::settings::table::{SETTINGS, Setting};
use crate::state::State;
use crate::state::effect::Effect;
use dozor_core::lane::Severity;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// From this width on each setting has its explanation beside it.
const EXPLAINED_FROM: u16 = 110;

/// A change: the setting, its value before, and whether the file had it.
type Undo = (&'static str, String, Option<String>);

/// The settings.
#[derive(Default)]
pub struct SettingsSheet {
    at: usize,
    /// What was changed, the newest last.
    undo: Vec<Undo>,
    /// The setting whose value is typed.
    typed: Option<&'static Setting>,
}

impl SettingsSheet {
    fn setting(&self) -> &'static Setting {
        &SETTINGS[self.at.min(SETTINGS.len() - 1)]
    }

    /// The next value, or the prompt for one where there is no list of them.
    fn step(&mut self, state: &mut State, on: bool) -> After {
        let setting = self.setting();
        let (choices, value) = (setting.choices(&state.values), setting.get(&state.values));
        if choices.is_empty() {
            self.typed = Some(setting);
            return After::Open(Box::new(Prompt::new(Purpose::Setting(setting), &value)));
        }
        let at = choices.iter().position(|choice| *choice == value).unwrap_or(0);
        let next = (at + if on { 1 } else { choices.len() - 1 }) % choices.len();
        if let Err(problem) = self.set(state, setting, &choices[next]) {
            state.say(Severity::Notice, problem);
        }
        After::Stay
    }

    fn set(&mut self, state: &mut State, setting: &'static Setting, text: &str) -> Result<(), String> {
        let before = setting.get(&state.values);
        state.change(|values| setting.set(values, text))?;
        let in_file = state.values.configured.in_file.insert(setting.name, text.to_owned());
        state.values.configured.origins.insert(setting.name, Origin::Session);
        self.undo.push((setting.name, before, in_file));
        state.outbox.push(Effect::Configure(Change::Setting(setting.name, Some(text.to_owned()))));
        Ok(())
    }

    /// As the program comes; the file says nothing of it any more.
    fn set_to_default(&mut self, state: &mut State) {
        let setting = self.setting();
        let before = setting.get(&state.values);
        if let Err(problem) = state.change(|values| setting.set(values, setting.default)) {
            state.say(Severity::Notice, problem);
            return;
        }
        let in_file = state.values.configured.in_file.remove(setting.name);
        state.values.configured.origins.remove(setting.name);
        self.undo.push((setting.name, before, in_file));
        state.outbox.push(Effect::Configure(Change::Setting(setting.name, None)));
    }

    /// Takes the last change back, in the file as well.
    fn undo(&mut self, state: &mut State) {
        let Some((name, before, in_file)) = self.undo.pop() else {
            state.say(Severity::Notice, "nothing was changed here".to_owned());
            return;
        };
        self.at = SETTINGS.iter().position(|setting| setting.name == name).unwrap_or(0);
        let setting = self.setting();
        let _ = state.change(|values| setting.set(values, &before));
        match &in_file {
            Some(text) => drop(state.values.configured.in_file.insert(name, text.clone())),
            None => drop(state.values.configured.in_file.remove(name)),
        }
        state.values.configured.origins.insert(name, Origin::Session);
        state.outbox.push(Effect::Configure(Change::Setting(name, in_file)));
    }
}

fn line(state: &State, buffer: &mut Buffer, place: Rect, y: u16, setting: &Setting) {
    let theme = &state.theme;
    let value = setting.get(&state.values);
    let is_default = value == setting.default;
    let role = if is_default { Role::Text } else { Role::Strong };
    put(buffer, place.x + 1, y, 15, setting.name, theme.role(Role::Strong));
    let shown = if value.is_empty() { "none" } else { &value };
    put(buffer, place.x + 17, y, 20, shown, theme.role(role));
    let default = if setting.default.is_empty() { "none" } else { setting.default };
    let explained = place.width > EXPLAINED_FROM;
    let origin = match state.values.configured.origin(setting.name) {
        Origin::Default if is_default => "default".to_owned(),
        Origin::Default => format!("changed on the screen; default {default}"),
        origin if is_default => origin.words(),
        origin => format!("{}; default {default}", origin.words()),
    };
    let room = if explained { 40 } else { place.width.saturating_sub(36) };
    put(buffer, place.x + 36, y, room, &origin, theme.role(Role::Quiet));
    if explained {
        let room = place.width.saturating_sub(78);
        put(buffer, place.x + 78, y, room, setting.help, theme.role(Role::Quiet));
    }
}

impl Sheet for SettingsSheet {
    fn title(&self, _state: &State) -> String {
        "Settings".to_owned()
    }

    fn room(&self, _height: u16) -> Room {
        Room::Lines(SETTINGS.len() as u16 + EXPLAINED + 5)
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![("↑ ↓", "choose"), ("← →", "change"), ("d", "default"), ("u", "undo"), ("esc", "close")]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        if moves(&mut self.at, SETTINGS.len(), &moving(state, key)) {
            return After::Stay;
        }
        match key.code {
            KeyCode::Right | KeyCode::Enter | KeyCode::Char(' ') => return self.step(state, true),
            KeyCode::Left => return self.step(state, false),
            KeyCode::Char('d') | KeyCode::Delete => self.set_to_default(state),
            KeyCode::Char('u') => self.undo(state),
            _ => {}
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        let file = match &state.values.configured.path {
            Some(path) => format!("kept in {}", from_home(path)),
            None => "there is no home folder to keep them in".to_owned(),
        };
        put(buffer, place.x, place.y, place.width, &file, theme.role(Role::Quiet));
        if let Some(problem) = state.values.configured.problem() {
            let style = theme.role(Role::Severity(Severity::Warning));
            put(buffer, place.x, place.y + 1, place.width, &format!("▲ {problem}"), style);
        }
        let list = seen(self, place, self.at);
        list.draw(theme, buffer, SETTINGS, |buffer, y, setting, _| line(state, buffer, place, y, setting));
        let setting = self.setting();
        let choices = setting.choices(&state.values);
        let choices = if choices.is_empty() {
            "Enter types a value.".to_owned()
        } else {
            format!("One of: {}.", choices.join(", "))
        };
        explain(theme, buffer, place, list.area, &format!("{} {choices}", setting.help));
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        Some(List { at: &mut self.at, lines: SETTINGS.len() })
    }

    fn margins(&self) -> (u16, u16) {
        (2, EXPLAINED)
    }

    fn clicked(&mut self, state: &mut State) -> After {
        self.step(state, true)
    }

    fn opener(&self) -> Option<Action> {
        Some(Action::Settings)
    }

    fn answered(&mut self, text: &str, state: &mut State) -> Result<After, String> {
        let setting = self.typed.unwrap_or_else(|| self.setting());
        self.set(state, setting, text).map(|()| After::Stay)
    }
}
