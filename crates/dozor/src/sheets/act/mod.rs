//! The sheet of actions: what shall happen to some processes. To whom comes first, then what; what ends or pauses
//! somebody is sent by a second key, under a question that names all of them and what speaks against it.

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
use dozor_core::sorting::ColdSort as _;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::{Position, Rect};

/// So many targets are named.
const NAMED: usize = 4;
/// Cells of a line of names.
const NAMES: usize = 74;
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
    /// What waits for its second key.
    armed: Option<Armed>,
}

/// What is done with the next key.
#[derive(Clone)]
struct Armed {
    deed: Deed,
    /// What speaks against it.
    reasons: Vec<(ProcessKey, Reason)>,
    /// The first line of the targets that is seen.
    top: usize,
}

impl ActSheet {
    /// For the marked processes, or else for the selected one; where there is none, says so. Begins with the polite stop.
    pub fn open(state: &mut State) -> Option<ActSheet> {
        // What was advised is for this once, also where there is nobody to act on.
        let advised = state.take_advice();
        let targets = state.targets_to_act_on()?;
        let mut sheet = ActSheet::for_targets(state, targets);
        if let Some(choice) = advised {
            let is_it = |one: &Choice| one.name.starts_with(choice) || one.group == choice;
            sheet.search.at = sheet.matching().iter().position(is_it).unwrap_or(sheet.search.at);
        }
        Some(sheet)
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
            armed: None,
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

    /// What is asked before it is done.
    fn question(&self, armed: &Armed) -> String {
        match self.targets() {
            [one] => format!("{}?", armed.deed.question(&named(one))),
            many => format!("{}?", armed.deed.question(&format!("these {} processes", many.len()))),
        }
    }

    /// All who are meant, where they are several.
    fn names(&self) -> Vec<String> {
        let mut lines: Vec<String> = vec![];
        for target in self.targets().iter().filter(|_| self.targets().len() > 1) {
            let name = named(target);
            match lines.last_mut().filter(|line| line.chars().count() + name.chars().count() < NAMES) {
                Some(line) => line.extend([", ", &name]),
                None => lines.push(format!("  {name}")),
            }
        }
        lines
    }

    /// What speaks against it.
    fn against(&self, armed: &Armed) -> Vec<String> {
        let mut by_reason: Vec<(Reason, Vec<&Target>)> = vec![];
        for (key, reason) in &armed.reasons {
            let Some(target) = self.targets().iter().find(|target| target.key == *key) else { continue };
            match by_reason.iter_mut().find(|(other, _)| other == reason) {
                Some((_, targets)) => targets.push(target),
                None => by_reason.push((*reason, vec![target])),
            }
        }
        by_reason.cold_sort_by_key(|(reason, _)| *reason);
        let line = |(reason, targets): (Reason, Vec<&Target>)| {
            let names: Vec<String> = targets.iter().take(3).map(|target| target.label()).collect();
            let more = targets.len().saturating_sub(3);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            format!("  {}{more}: {}", names.join(", "), reason.words())
        };
        by_reason.into_iter().map(line).collect()
    }

    /// What the keys do then.
    fn armed_keys(&self, armed: &Armed) -> &'static str {
        match (armed.reasons.is_empty(), self.without_special()) {
            (true, _) if matches!(armed.deed, Deed::Signal(_)) => "enter sends, esc cancels",
            (true, _) => "enter does it, esc cancels",
            (false, Some(rest)) if !rest.is_empty() => {
                "y does it anyway · o does it to the others only · n cancels"
            }
            (false, _) => "y does it anyway · n cancels",
        }
    }

    /// The targets against which nothing speaks.
    fn without_special(&self) -> Option<Vec<Target>> {
        let reasons = &self.armed.as_ref()?.reasons;
        let is_special = |target: &&Target| reasons.iter().any(|(key, _)| *key == target.key);
        Some(self.targets().iter().filter(|target| !is_special(target)).cloned().collect())
    }

    /// Does at once what can be undone; what ends or pauses somebody, or what something speaks against, waits for a second key.
    fn begin(&mut self, state: &mut State, deed: Deed) -> After {
        let reasons = state.reasons(self.targets());
        if reasons.is_empty() && !deed.ends_or_pauses() {
            return finish(state, deed, self.targets().to_vec());
        }
        self.armed = Some(Armed { deed, reasons, top: 0 });
        After::Stay
    }

    fn key_while_armed(&mut self, armed: Armed, key: &KeyEvent, state: &mut State) -> After {
        let mut top = armed.top;
        let lines = self.names().len();
        match (key.code, armed.reasons.is_empty()) {
            (KeyCode::Enter, true) | (KeyCode::Char('y'), _) => {
                return finish(state, armed.deed, self.targets().to_vec());
            }
            (KeyCode::Char('o'), false) => {
                if let Some(rest) = self.without_special().filter(|rest| !rest.is_empty()) {
                    return finish(state, armed.deed, rest);
                }
            }
            (KeyCode::Char('n'), _) => self.armed = None,
            _ if moves(&mut top, lines, key) => {
                if let Some(armed) = &mut self.armed {
                    armed.top = top;
                }
            }
            _ => {}
        }
        After::Stay
    }

    fn draw_question(&self, armed: &Armed, state: &State, buffer: &mut Buffer, place: Rect) {
        let theme = &state.theme;
        let (against, lines) = (self.against(armed), self.names());
        let mut y = place.y;
        let mut line = |text: &str, role: Role| {
            if y < place.bottom() {
                put(buffer, place.x, y, place.width, text, theme.role(role));
            }
            y += 1;
        };
        line(&self.question(armed), Role::Severity(Severity::Warning));
        for text in &against {
            line(text, Role::Strong);
        }
        // The keys have their line whatever the room is.
        let room = usize::from(place.height).saturating_sub(against.len() + 2).max(1);
        let top = armed.top.min(lines.len().saturating_sub(room));
        let seen = lines.iter().skip(top).take(room);
        seen.enumerate().for_each(|(at, text)| {
            let below = lines.len().saturating_sub(top + room);
            let text = if at + 1 == room && below > 0 {
                format!("  ↑ ↓ and {} more lines", below + 1)
            } else {
                text.clone()
            };
            line(&text, Role::Text);
        });
        line(self.armed_keys(armed), Role::Strong);
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

/// A target with its user.
fn named(target: &Target) -> String {
    format!("{} ({})", target.label(), target.user)
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
        if let Some(armed) = &self.armed {
            return match (armed.reasons.is_empty(), &armed.deed) {
                (true, Deed::Signal(_)) => vec![("enter", "send"), ("esc", "cancel")],
                (true, _) => vec![("enter", "do it"), ("esc", "cancel")],
                (false, _) => vec![("y", "do it anyway"), ("n", "leave it"), ("esc", "back")],
            };
        }
        let asks = |what: &What| matches!(what, What::Do(deed) if deed.ends_or_pauses());
        let asks = self.matching().get(self.search.at).is_some_and(|choice| asks(&choice.what));
        let mut hints = vec![("enter", if asks { "ask first" } else { "do it" }), ("↑ ↓", "choose")];
        if self.scopes.len() > 1 {
            hints.push(("← →", "to whom"));
        }
        hints.extend([("letters", "search"), ("esc", "leave it")]);
        hints
    }

    fn key(&mut self, key: &KeyEvent, state: &mut State) -> After {
        if let Some(armed) = self.armed.clone() {
            return self.key_while_armed(armed, key, state);
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
        key.code == KeyCode::Esc && self.armed.take().is_none()
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
        if let Some(armed) = &self.armed {
            let below = Rect { y: y + 1, height: place.bottom().saturating_sub(y + 1), ..place };
            self.draw_question(armed, state, buffer, below);
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
        if self.armed.is_some() {
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
        let scope = hit.filter(|_| at.y == place.y && self.armed.is_none())?;
        self.at_scope = scope;
        self.ask(state);
        Some(After::Stay)
    }

    fn typed(&mut self) -> Option<&mut LineEdit> {
        // While it is armed letters are answers.
        self.armed.is_none().then_some(&mut self.search.typed)
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
