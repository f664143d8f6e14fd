//! The sheet of actions: what shall happen to some processes. To whom comes first, then what; where something speaks
//! against it, a second question names the reason.

mod choices;
mod cores;

use super::{After, List, Room, Searched, Sheet, moves, nothing_found, search_line, seen};
use crate::draw::put;
use crate::look::line_edit::LineEdit;
use crate::look::theme::Role;
use crate::state::State;
use crate::state::effect::Effect;
use choices::{Choice, What};
use cores::CoresSheet;
use dozor_core::deed::{Deed, Reason, Scope, Target};
use dozor_core::inside::{Facts, FileKind, OpenFile, Subject, Told, words};
use dozor_core::known::Known;
use dozor_core::lane::Severity;
use dozor_core::reading::ProcessKey;
use dozor_core::signals;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::{Position, Rect};

/// So many targets are named.
const NAMED: usize = 4;
/// Lines above the list that say what is worth knowing.
const MOST_NOTES: usize = 5;
/// Cells of the columns before the words.
const GROUP: u16 = 19;
const NAME: u16 = 15;

/// What shall happen to some processes.
pub struct ActSheet {
    /// To whom it can be, and which of them it is now.
    scopes: Vec<(Scope, Vec<Target>)>,
    at_scope: usize,
    /// What is known of the process, where it is one.
    facts: Option<Box<Facts>>,
    writes: Vec<String>,
    /// Who is meant, and what is worth knowing of them.
    notes: Vec<String>,
    recent: Vec<Deed>,
    search: Searched,
    /// Something that waits for a second confirmation, with what speaks against it.
    asked: Option<(Deed, Vec<(ProcessKey, Reason)>)>,
}

impl ActSheet {
    /// For the marked processes, or else for the selected one; where there is none, says so. Begins with the polite stop.
    pub fn open(state: &mut State) -> Option<ActSheet> {
        let targets = state.targets_to_act_on()?;
        Some(ActSheet::for_targets(state, targets))
    }

    /// For one process.
    pub fn open_for(state: &mut State, key: ProcessKey) -> Option<ActSheet> {
        if let Some(reason) = state.session().actions_refused {
            state.say(Severity::Notice, reason.to_owned());
            return None;
        }
        let target = state.target(key).or_else(|| {
            state.say(Severity::Notice, "it is gone".to_owned());
            None
        })?;
        let mut sheet = ActSheet::for_targets(state, vec![target]);
        // What is marked elsewhere is not what one looks at.
        sheet.at_scope = 0;
        Some(sheet)
    }

    fn for_targets(state: &mut State, targets: Vec<Target>) -> ActSheet {
        let scopes = state.scopes(targets);
        let at_scope = scopes.iter().position(|(scope, _)| *scope == Scope::Marked).unwrap_or(0);
        let mut sheet = ActSheet {
            scopes,
            at_scope,
            facts: None,
            writes: vec![],
            notes: vec![],
            recent: state.deeds().recent.clone(),
            search: Searched::default(),
            asked: None,
        };
        // After a polite stop that did nothing the forced one is what comes next.
        let still = &state.deeds().still;
        let deaf =
            !sheet.targets().is_empty() && sheet.targets().iter().all(|target| still.contains(&target.key));
        if deaf {
            let forced = What::Do(Deed::Signal(signals::KILL));
            sheet.search.at = sheet.matching().iter().position(|choice| choice.what == forced).unwrap_or(0);
        }
        sheet.ask(state);
        sheet
    }

    /// Asks what is worth knowing of the first of them.
    fn ask(&mut self, state: &mut State) {
        (self.facts, self.writes) = (None, vec![]);
        if let Some(first) = self.targets().first() {
            let key = first.key;
            state.outbox.push(Effect::Look(key, Subject::Facts));
            if self.targets().len() == 1 {
                state.outbox.push(Effect::Look(key, Subject::Files));
            }
        }
        self.notes = self.notes(state);
    }

    fn targets(&self) -> &[Target] {
        self.scopes.get(self.at_scope).map_or(&[], |(_, targets)| targets)
    }

    fn matching(&self) -> Vec<Choice> {
        choices::matching(&choices::all(self.facts.as_deref(), &self.recent), &self.search.typed.text())
    }

    /// Who is meant, and what is worth knowing of them.
    fn notes(&self, state: &State) -> Vec<String> {
        let targets = self.targets();
        let reasons = state.reasons(targets);
        let of = |target: &Target| {
            let found = reasons.iter().filter(|(key, _)| *key == target.key);
            found.map(|(_, reason)| reason.words()).collect::<Vec<_>>().join("; ")
        };
        if let [one] = targets {
            let mut notes: Vec<String> =
                reasons.iter().map(|(_, reason)| reason.words().to_owned()).collect();
            notes.extend(children_words(one));
            if let Some(facts) = &self.facts {
                notes.push(words::signals_line(facts, one.key.pid, one.kernel));
                notes.retain(|note| !note.is_empty());
            }
            if let Some(first) = self.writes.first() {
                let more = self.writes.len() - 1;
                let more = if more > 0 { format!(" and {more} more") } else { String::new() };
                notes.push(format!("it writes {first}{more}"));
            }
            return notes;
        }
        let named = targets.iter().take(NAMED).map(|target| {
            let children = children_words(target).map_or_else(String::new, |words| format!(", {words}"));
            let special = match of(target) {
                special if special.is_empty() => special,
                special => format!("; {special}"),
            };
            format!("✓ {} of {}{children}{special}", target.label(), target.user)
        });
        let more = targets.len().checked_sub(NAMED + 1).map(|more| format!("  and {} more", more + 1));
        named.chain(more).collect()
    }

    /// Lines of the second question.
    fn question(&self) -> Vec<String> {
        let Some((deed, reasons)) = &self.asked else { return vec![] };
        let mut by_reason: Vec<(Reason, Vec<&Target>)> = vec![];
        for (key, reason) in reasons {
            let Some(target) = self.targets().iter().find(|target| target.key == *key) else { continue };
            match by_reason.iter_mut().find(|(other, _)| other == reason) {
                Some((_, targets)) => targets.push(target),
                None => by_reason.push((*reason, vec![target])),
            }
        }
        by_reason.sort_by_key(|(reason, _)| *reason);
        let all = self.targets().len();
        let mut lines = vec![match all {
            1 => format!("Really {}? Think again:", deed.name()),
            _ => format!("Really {} to all {all}? Think again:", deed.name()),
        }];
        for (reason, targets) in by_reason {
            let names: Vec<String> = targets.iter().take(3).map(|target| target.label()).collect();
            let more = targets.len().saturating_sub(3);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            lines.push(format!("  {}{more}: {}", names.join(", "), reason.words()));
        }
        lines.push("y does it anyway · n leaves it".to_owned());
        if self.without_special().is_some_and(|rest| !rest.is_empty()) {
            lines.push("o does it to the others only".to_owned());
        }
        lines
    }

    /// The targets against which nothing speaks.
    fn without_special(&self) -> Option<Vec<Target>> {
        let (_, reasons) = self.asked.as_ref()?;
        let is_special = |target: &&Target| reasons.iter().any(|(key, _)| *key == target.key);
        Some(self.targets().iter().filter(|target| !is_special(target)).cloned().collect())
    }

    /// Does it, or asks again where something speaks against it.
    fn begin(&mut self, state: &mut State, deed: Deed) -> After {
        let reasons = state.reasons(self.targets());
        if reasons.is_empty() {
            return finish(state, deed, self.targets().to_vec());
        }
        self.asked = Some((deed, reasons));
        After::Stay
    }

    fn chosen(&mut self, state: &mut State) -> After {
        let Some(choice) = self.matching().get(self.search.at).cloned() else { return After::Stay };
        match choice.what {
            What::Do(deed) => self.begin(state, deed),
            What::Type(begin) => {
                self.search.typed = LineEdit::new(begin);
                self.search.at = 0;
                After::Stay
            }
            What::Wrong(problem) => {
                state.say(Severity::Notice, problem);
                After::Stay
            }
            What::AskCores => {
                let now = self.facts.as_ref().and_then(|facts| facts.scheduling.cores.clone().value());
                match CoresSheet::open(state, now) {
                    Some(sheet) => After::Open(Box::new(sheet)),
                    None => After::Stay,
                }
            }
        }
    }

    fn turn_scope(&mut self, state: &mut State, on: bool) {
        let count = self.scopes.len().max(1);
        self.at_scope = (self.at_scope + if on { 1 } else { count - 1 }) % count;
        self.ask(state);
    }

    /// Words of the scopes with the number of their targets.
    fn scope_words(&self) -> Vec<String> {
        let name =
            self.scopes.first().and_then(|(_, targets)| targets.first()).map(|first| first.name.clone());
        let words = |(scope, targets): &(Scope, Vec<Target>)| match scope {
            Scope::This if targets.len() == 1 => "it".to_owned(),
            Scope::This => format!("these {}", targets.len()),
            Scope::Descendants => format!("with its descendants ({})", targets.len()),
            Scope::Named => format!("all called {} ({})", name.as_deref().unwrap_or_default(), targets.len()),
            Scope::Marked => format!("marked ({})", targets.len()),
            Scope::Shown => format!("all that are shown ({})", targets.len()),
        };
        self.scopes.iter().map(words).collect()
    }

    /// Draws to whom it can be; gives the cells of each.
    fn scope_places(&self, place: Rect) -> Vec<(u16, u16)> {
        let mut x = place.x + 5;
        self.scope_words()
            .iter()
            .map(|word| {
                let end = x + word.chars().count() as u16;
                let cells = (x, end);
                x = end + 3;
                cells
            })
            .collect()
    }
}

fn finish(state: &mut State, deed: Deed, targets: Vec<Target>) -> After {
    state.do_to(deed, targets);
    After::Close
}

fn children_words(target: &Target) -> Option<String> {
    match target.children {
        0 => None,
        1 => Some("its child lives on when it ends".to_owned()),
        many => Some(format!("its {many} children live on when it ends")),
    }
}

impl Sheet for ActSheet {
    fn title(&self, _state: &State) -> String {
        match self.targets() {
            [one] => format!("What shall happen to {} of {}?", one.label(), one.user),
            many => format!("What shall happen to these {} processes?", many.len()),
        }
    }

    fn room(&self, _height: u16) -> Room {
        Room::Lines(24)
    }

    fn hints(&self) -> Vec<(&'static str, &'static str)> {
        if self.asked.is_some() {
            return vec![("y", "do it anyway"), ("n", "leave it"), ("esc", "back")];
        }
        let mut hints = vec![("enter", "do it"), ("↑ ↓", "choose")];
        if self.scopes.len() > 1 {
            hints.push(("← →", "to whom"));
        }
        hints.extend([("letters", "search"), ("esc", "leave it")]);
        hints
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        if let Some((deed, _)) = &self.asked {
            let deed = deed.clone();
            return match key.code {
                KeyCode::Char('y') => finish(state, deed, self.targets().to_vec()),
                KeyCode::Char('o') => match self.without_special() {
                    Some(rest) if !rest.is_empty() => finish(state, deed, rest),
                    _ => After::Stay,
                },
                KeyCode::Char('n') => {
                    self.asked = None;
                    After::Stay
                }
                _ => After::Stay,
            };
        }
        let lines = self.matching().len();
        if moves(&mut self.search.at, lines, key) {
            return After::Stay;
        }
        match key.code {
            KeyCode::Enter => return self.chosen(state),
            // While something is typed the arrows move in it.
            KeyCode::Left | KeyCode::Right if self.search.typed.text().is_empty() => {
                self.turn_scope(state, key.code == KeyCode::Right);
            }
            KeyCode::Tab => self.turn_scope(state, true),
            KeyCode::BackTab => self.turn_scope(state, false),
            _ => self.search.search(key),
        }
        After::Stay
    }

    fn closes(&mut self, key: &KeyEvent, _action: Option<crate::look::action::Action>) -> bool {
        key.code == KeyCode::Esc && self.asked.take().is_none()
    }

    fn draw(&self, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        put(buffer, place.x, place.y, 3, "to", theme.role(Role::Quiet));
        for (at, (word, (x, _))) in self.scope_words().iter().zip(self.scope_places(place)).enumerate() {
            let role = if at == self.at_scope { Role::Strong } else { Role::Quiet };
            if at == self.at_scope {
                put(buffer, x - 2, place.y, 1, "✓", theme.role(Role::Accent));
            }
            put(buffer, x, place.y, place.right().saturating_sub(x), word, theme.role(role));
        }
        let mut y = place.y + 1;
        for note in self.notes.iter().take(MOST_NOTES) {
            put(buffer, place.x, y, place.width, note, theme.role(Role::Text));
            y += 1;
        }
        if self.asked.is_some() {
            for (at, line) in self.question().iter().enumerate() {
                let role = if at == 0 { Role::Severity(Severity::Warning) } else { Role::Strong };
                put(buffer, place.x, y + 1 + at as u16, place.width, line, theme.role(role));
            }
            return;
        }
        let line = Rect { y, height: 1, ..place };
        search_line(theme, buffer, line, &self.search.typed);
        let list = seen(self, place, self.search.at);
        let choices = self.matching();
        if choices.is_empty() {
            nothing_found(theme, buffer, list.area);
        }
        let mut above = "";
        let mut row = 0;
        list.draw(theme, buffer, &choices, |buffer, y, choice, chosen| {
            let role = if chosen { Role::Strong } else { Role::Text };
            // A group is named once, and again at the top of what is seen.
            if choice.group != above || row == 0 {
                put(buffer, place.x + 1, y, GROUP - 2, choice.group, theme.role(Role::Quiet));
            }
            (above, row) = (choice.group, row + 1);
            put(buffer, place.x + GROUP, y, NAME, &choice.name, theme.role(Role::Accent));
            let x = place.x + GROUP + NAME + 1;
            put(buffer, x, y, place.right().saturating_sub(x), &choice.words, theme.role(role));
        });
        super::more_below(theme, buffer, place, list.more(choices.len()));
    }

    fn list(&mut self, _state: &State) -> Option<List<'_>> {
        if self.asked.is_some() {
            return None;
        }
        let lines = self.matching().len();
        Some(List { at: &mut self.search.at, lines })
    }

    /// Above the list: to whom, who is meant, and what is searched for.
    fn margins(&self) -> (u16, u16) {
        (2 + self.notes.len().min(MOST_NOTES) as u16, 0)
    }

    fn clicked_at(&mut self, at: Position, place: Rect, state: &mut State) -> Option<After> {
        let hit = self.scope_places(place).iter().position(|(x, end)| (*x..*end).contains(&at.x));
        let scope = hit.filter(|_| at.y == place.y && self.asked.is_none())?;
        self.at_scope = scope;
        self.ask(state);
        Some(After::Stay)
    }

    fn typed(&mut self) -> Option<&mut LineEdit> {
        Some(&mut self.search.typed)
    }

    fn told(&mut self, key: ProcessKey, told: &Told, state: &mut State) {
        if self.targets().first().is_none_or(|first| first.key != key) {
            return;
        }
        match told {
            Told::Facts(facts) => self.facts = Some(facts.clone()),
            Told::Files(look) => {
                let written = |file: &&OpenFile| {
                    file.kind == FileKind::File && file.writes() && file.offset.value() > Some(0)
                };
                if let Known::Value(files) = &look.seen {
                    self.writes = files.iter().filter(written).map(|file| file.target.clone()).collect();
                }
            }
            Told::Threads(_)
            | Told::Sockets(_)
            | Told::Memory(_)
            | Told::Environment(_)
            | Told::Cores(_)
            | Told::Gone => {}
        }
        self.notes = self.notes(state);
    }

    /// The cores that were chosen.
    fn answered(&mut self, text: &str, state: &mut State) -> Result<After, String> {
        let cores = text.parse().map_err(|error: dozor_core::cores::CoreSetError| error.to_string())?;
        Ok(self.begin(state, Deed::Cores(cores)))
    }

    fn holds_order(&self) -> bool {
        true
    }
}
