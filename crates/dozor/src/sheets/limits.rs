//! From where on a rule speaks, with what it saw beside it: a change is there at once and is kept in the file of settings.

use super::prompt::{Prompt, Purpose};
use super::{After, EXPLAINED, List, Room, Sheet, explain, moves, moving, seen};
use crate::draw::put;
use crate::look::theme::Role;
use crate::settings::file::{Change, from_home};
use crate::state::State;
use crate::state::effect::Effect;
use dozor_core::findings::{About, Adjusted, Evidence, Limit, MANNERS};
use dozor_core::lane::Severity;
use dozor_core::units::long_duration;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Rect;

/// Cells of the names and of the values.
const NAME: u16 = 14;
const VALUES: u16 = 30;

/// A line of the sheet.
#[derive(Clone, Copy)]
enum Field {
    Limit(&'static Limit),
    Manner(&'static str, &'static str),
}

impl Field {
    fn name(self) -> &'static str {
        match self {
            Field::Limit(limit) => limit.name,
            Field::Manner(name, _) => name,
        }
    }

    fn what(self) -> &'static str {
        match self {
            Field::Limit(limit) => limit.what,
            Field::Manner(_, what) => what,
        }
    }

    /// Its value now, as somebody would write it.
    fn value(self, adjusted: &Adjusted, about: &'static About) -> String {
        match self {
            Field::Limit(limit) => limit.text_of(adjusted.all_values(about.name, limit)),
            Field::Manner("off", _) => adjusted.is_off(about.name).to_string(),
            Field::Manner("for", _) => format!("{} s", adjusted.least(about.name, about.least)),
            Field::Manner("over", _) => format!("{} s", adjusted.calm(about.name, about.calm)),
            Field::Manner(..) => adjusted.most(about.name).word().to_owned(),
        }
    }
}

/// The limits of one rule.
pub struct LimitsSheet {
    about: &'static About,
    /// What spoke for the finding that it was opened for.
    evidence: Vec<Evidence>,
    fields: Vec<Field>,
    at: usize,
}

impl LimitsSheet {
    /// For a finding's rule.
    pub fn new(about: &'static About, evidence: Vec<Evidence>) -> LimitsSheet {
        let limits = about.limits.iter().map(Field::Limit);
        let manners = MANNERS.iter().map(|(name, what)| Field::Manner(name, what));
        LimitsSheet { about, evidence, fields: limits.chain(manners).collect(), at: 0 }
    }

    /// Its value as the program comes.
    fn default(&self, field: Field) -> String {
        field.value(&Adjusted::default(), self.about)
    }

    /// What was measured in the unit of a limit.
    fn present(&self, field: Field) -> Option<&Evidence> {
        let Field::Limit(limit) = field else { return None };
        let unit = Evidence::new("", 0.0, limit.unit).unit;
        self.evidence.iter().find(|one| {
            let metric = one.metric.split(['{', '@']).next().unwrap_or_default();
            if limit.of.is_empty() { one.unit == unit } else { metric == limit.of }
        })
    }

    /// Changes a value here and in the file; none: as the program comes.
    fn set(&self, state: &mut State, field: Field, text: Option<&str>) -> Result<(), String> {
        let default = self.default(field);
        let mut adjusted = state.values.configured.adjusted.clone();
        adjusted.set(self.about.name, field.name(), text.unwrap_or(&default))?;
        state.adjust(adjusted);
        state.outbox.push(Effect::Configure(Change::Rule(
            self.about.name,
            field.name(),
            text.map(str::to_owned),
        )));
        Ok(())
    }

    fn open(&self, state: &State) -> After {
        let field = self.fields[self.at];
        let value = field.value(&state.values.configured.adjusted, self.about);
        After::Open(Box::new(Prompt::new(Purpose::Limit(field.name(), field.what()), &value)))
    }
}

impl Sheet for LimitsSheet {
    fn title(&self, _state: &State) -> String {
        format!("Limits of {}: {}", self.about.name, self.about.title)
    }

    fn room(&self, _height: u16) -> Room {
        Room::Lines(self.fields.len() as u16 + EXPLAINED + 4)
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        vec![("↑ ↓", "choose"), ("enter", "change"), ("d", "default"), ("esc", "close")]
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        if moves(&mut self.at, self.fields.len(), &moving(state, key)) {
            return After::Stay;
        }
        match key.code {
            KeyCode::Enter | KeyCode::Right | KeyCode::Char(' ') => return self.open(state),
            KeyCode::Char('d') | KeyCode::Delete => {
                if let Err(problem) = self.set(state, self.fields[self.at], None) {
                    state.say(Severity::Notice, problem);
                }
            }
            _ => {}
        }
        After::Stay
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        let file = match &state.values.configured.path {
            Some(path) => format!("kept in {} as [findings.{}]", from_home(path), self.about.name),
            None => "there is no home folder to keep them in".to_owned(),
        };
        put(buffer, place.x, place.y, place.width, &file, theme.role(Role::Quiet));
        let list = seen(self, place, self.at);
        list.draw(theme, buffer, &self.fields, |buffer, y, field, _| {
            let value = field.value(&state.values.configured.adjusted, self.about);
            let default = self.default(*field);
            let role = if value == default { Role::Text } else { Role::Strong };
            put(buffer, place.x + 1, y, NAME, field.name(), theme.role(Role::Strong));
            put(buffer, place.x + 1 + NAME, y, VALUES, &value, theme.role(role));
            let x = place.x + 2 + NAME + VALUES;
            let mut said = vec![];
            if let Some(now) = self.present(*field) {
                said.push(format!("now {} ({})", now.text, now.metric));
            }
            if value != default {
                said.push(format!("default {default}"));
            }
            put(buffer, x, y, place.right().saturating_sub(x), &said.join(" · "), theme.role(Role::Quiet));
        });
        let field = self.fields[self.at.min(self.fields.len() - 1)];
        let many = match field {
            Field::Limit(Limit { values: [_, _, _], .. }) => {
                ": notice, warning, critical; never switches one off"
            }
            _ => "",
        };
        let held = long_duration(self.about.least);
        let what = field.what();
        let (first, rest) = what.split_at(what.chars().next().map_or(0, char::len_utf8));
        let about = format!("{}{rest}{many}. Reported after {held}.", first.to_uppercase());
        explain(theme, buffer, place, list.area, &about);
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        Some(List { at: &mut self.at, lines: self.fields.len() })
    }

    fn margins(&self) -> (u16, u16) {
        (2, EXPLAINED)
    }

    fn clicked(&mut self, state: &mut State) -> After {
        self.open(state)
    }

    fn answered(&mut self, text: &str, state: &mut State) -> Result<After, String> {
        self.set(state, self.fields[self.at], Some(text)).map(|()| After::Stay)
    }
}
