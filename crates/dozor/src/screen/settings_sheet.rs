//! Looking at the settings and changing them. A change is there at once and is kept in the file.

use super::keys::moving;
use super::{Effect, MESSAGE, moves};
use crate::settings::Origin;
use crate::settings::file::Change;
use crate::settings::table::{SETTINGS, Setting, setting};
use crate::sheets::prompt::{Prompt, Purpose};
use crate::sheets::{SettingsSheet, Sheet};
use crate::state::State;
use dozor_core::lane::Severity;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use std::time::Instant;

pub(super) fn open(state: &mut State) {
    state.sheet = Some(Sheet::Settings(SettingsSheet::default()));
}

pub(super) fn key(state: &mut State, key: &KeyEvent, now: Instant) -> Vec<Effect> {
    let moving = moving(state, key);
    let Some(Sheet::Settings(sheet)) = &mut state.sheet else { return vec![] };
    let setting = &SETTINGS[sheet.at.min(SETTINGS.len() - 1)];
    match key.code {
        _ if moves(&mut sheet.at, SETTINGS.len() - 1, &moving) => {}
        KeyCode::Right | KeyCode::Enter | KeyCode::Char(' ') => return step(state, setting, true, now),
        KeyCode::Left => return step(state, setting, false, now),
        KeyCode::Char('d') | KeyCode::Delete => return to_default(state, setting, now),
        KeyCode::Char('u') => return undo(state, now),
        _ => {}
    }
    vec![]
}

/// The next value, or the prompt for one where there is no list of them.
pub(super) fn step(state: &mut State, setting: &'static Setting, on: bool, now: Instant) -> Vec<Effect> {
    let choices = setting.choices(state);
    let value = setting.get(state);
    if choices.is_empty() {
        state.prompt = Some(Prompt::new(Purpose::Setting(setting.name), &value));
        return vec![];
    }
    let at = choices.iter().position(|choice| *choice == value).unwrap_or(0);
    let next = (at + if on { 1 } else { choices.len() - 1 }) % choices.len();
    set(state, setting, &choices[next], now)
}

/// A value that was typed. A wrong one stays in the prompt.
pub(super) fn typed(state: &mut State, name: &str, text: &str) -> Vec<Effect> {
    let Some(setting) = setting(name) else { return vec![] };
    match try_set(state, setting, text) {
        Ok(effects) => {
            state.prompt = None;
            effects
        }
        Err(problem) => {
            if let Some(prompt) = &mut state.prompt {
                prompt.problem = Some(problem);
            }
            vec![]
        }
    }
}

fn set(state: &mut State, setting: &'static Setting, text: &str, now: Instant) -> Vec<Effect> {
    match try_set(state, setting, text) {
        Ok(effects) => effects,
        Err(problem) => {
            state.say(Severity::Notice, problem, Some(now + MESSAGE));
            vec![]
        }
    }
}

fn try_set(state: &mut State, setting: &'static Setting, text: &str) -> Result<Vec<Effect>, String> {
    let before = setting.get(state);
    setting.set(state, text)?;
    let in_file = state.configured.in_file.insert(setting.name, text.to_owned());
    state.configured.origins.insert(setting.name, Origin::Session);
    if let Some(Sheet::Settings(sheet)) = &mut state.sheet {
        sheet.undo.push((setting.name, before, in_file));
    }
    Ok(vec![Effect::Configure(Change::Setting(setting.name, Some(text.to_owned())))])
}

/// As the program comes; the file says nothing of it any more.
fn to_default(state: &mut State, setting: &'static Setting, now: Instant) -> Vec<Effect> {
    let before = setting.get(state);
    if let Err(problem) = setting.set(state, setting.default) {
        state.say(Severity::Notice, problem, Some(now + MESSAGE));
        return vec![];
    }
    let in_file = state.configured.in_file.remove(setting.name);
    state.configured.origins.remove(setting.name);
    if let Some(Sheet::Settings(sheet)) = &mut state.sheet {
        sheet.undo.push((setting.name, before, in_file));
    }
    vec![Effect::Configure(Change::Setting(setting.name, None))]
}

/// Takes the last change back, in the file as well.
fn undo(state: &mut State, now: Instant) -> Vec<Effect> {
    let Some(Sheet::Settings(sheet)) = &mut state.sheet else { return vec![] };
    let Some((name, before, in_file)) = sheet.undo.pop() else {
        state.say(Severity::Notice, "nothing was changed here".to_owned(), Some(now + MESSAGE));
        return vec![];
    };
    let at = SETTINGS.iter().position(|setting| setting.name == name).unwrap_or(0);
    sheet.at = at;
    let _ = SETTINGS[at].set(state, &before);
    match &in_file {
        Some(text) => drop(state.configured.in_file.insert(name, text.clone())),
        None => drop(state.configured.in_file.remove(name)),
    }
    state.configured.origins.insert(name, Origin::Session);
    vec![Effect::Configure(Change::Setting(name, in_file))]
}
