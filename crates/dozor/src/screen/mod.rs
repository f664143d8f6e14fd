//! The screen: the state and what is open over it. Events come in, effects come out; nothing here knows a terminal.

mod act;
mod event;
mod frame;
mod mouse;

#[cfg(test)]
pub mod tests;

pub use event::Event;

use crate::look::action::{Action, key_name};
use crate::sheets::{After, Sheet};
use crate::state::State;
use crate::state::data::{Mode, Stay};
use crate::state::effect::Effect;
use dozor_core::lane::Severity;
use dozor_core::wanted::Wanted;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use ratatui::layout::Position;
use std::sync::Arc;
use std::time::Instant;

/// The state and what is open over it, the uppermost last.
pub struct Screen {
    /// The state.
    pub state: State,
    sheets: Vec<Box<dyn Sheet>>,
    /// When and where a row was clicked last: a second click opens it.
    clicked: Option<(Instant, Position)>,
}

impl Screen {
    /// Nothing is open over it.
    pub fn new(state: State) -> Screen {
        Screen { state, sheets: vec![], clicked: None }
    }

    /// Begins on a terminal of a size.
    pub fn begin(&mut self, size: (u16, u16)) {
        self.state.size = size;
        self.state.now = Instant::now();
        self.state.refresh();
        self.state.settle();
    }

    /// Takes in an event; gives what must be done.
    pub fn update(&mut self, event: Event, now: Instant) -> Vec<Effect> {
        let (every, mouse) = (self.state.values.every, self.state.values.mouse);
        self.state.now = now;
        let shown = self.state.moment().sample.clone();
        let axis = self.state.lanes().strips.axis;
        self.take_in(event);
        let other = match (&shown, &self.state.moment().sample) {
            (Some(before), Some(now)) => !Arc::ptr_eq(before, now),
            (before, now) => before.is_some() != now.is_some(),
        };
        if other || axis != self.state.lanes().strips.axis || self.sheets.iter().any(|sheet| sheet.goes_on())
        {
            for sheet in &mut self.sheets {
                sheet.follow(&mut self.state);
            }
        }
        let state = &mut self.state;
        state.hold_for_sheet(self.sheets.iter().any(|sheet| sheet.holds_order()));
        // Whoever changed them: a key, the settings.
        if state.values.every != every {
            state.outbox.push(Effect::Every(state.values.every));
        }
        if state.values.mouse != mouse {
            state.outbox.push(Effect::Mouse(state.values.mouse));
        }
        state.settle();
        std::mem::take(&mut state.outbox)
    }

    /// Whether letters are text now, whichever they are.
    pub fn takes_text(&mut self) -> bool {
        self.sheets.last_mut().is_some_and(|sheet| sheet.takes_text())
    }

    fn take_in(&mut self, event: Event) {
        let state = &mut self.state;
        match event {
            Event::Key(key) => self.pressed(&key),
            Event::Mouse(mouse) => self.moved(mouse),
            Event::Paste(text) => {
                if let Some(sheet) = self.sheets.last_mut() {
                    sheet.pasted(&text, state);
                }
            }
            Event::Resize(width, height) => state.resize((width, height)),
            Event::Feed(delivery) => state.receive(delivery),
            Event::Acted(deed, targets, accounts, wall) => state.done(&deed, &targets, &accounts, wall),
            Event::Told(key, told) => {
                for sheet in &mut self.sheets {
                    sheet.told(key, &told, state);
                }
            }
            Event::Exported(samples, made) => self.state.exported(&samples, made),
            Event::Failed(why) => self.state.say(Severity::Warning, why),
            Event::Usual(usual) => self.state.know(*usual),
            Event::Found(sought, found) => {
                for sheet in &mut self.sheets {
                    sheet.found(&sought, &found);
                }
            }
            Event::SeenClosely(key, look, all) => {
                for sheet in &mut self.sheets {
                    sheet.seen_closely(key, &look, all, state);
                }
            }
            Event::RecordingBegan(Ok(path)) => {
                state.say(Severity::Fine, format!("recording into {}", path.display()));
                state.recorded_into(Some(path));
            }
            Event::RecordingBegan(Err(problem)) => state.say_for(Severity::Warning, problem, Stay::Long),
            Event::RecordingEnded(result) => {
                state.recorded_into(None);
                match result {
                    Ok(account) => state.say(Severity::Fine, account),
                    Err(problem) => state.say_for(Severity::Critical, problem, Stay::UntilKey),
                }
            }
            Event::RecordingStalled(Some(reason)) => {
                let text = format!("readings are not recorded: {reason}; trying goes on");
                state.say_for(Severity::Critical, text, Stay::UntilKey);
            }
            Event::RecordingStalled(None) => state.say(Severity::Fine, "recording again".to_owned()),
            Event::Tick => state.tick(),
        }
    }

    /// What the source must collect for what is on the screen and open over it.
    pub fn wanted(&self) -> Wanted {
        self.sheets.iter().fold(self.state.wanted(), |wanted, sheet| wanted.union(sheet.wanted()))
    }

    /// When the screen changes by itself next.
    pub fn next_tick(&self) -> Option<Instant> {
        let state = &self.state;
        let message = state.session().message.as_ref().and_then(|message| message.until);
        let playing = match state.time().mode {
            Mode::Replay { playing: true, due } => due,
            Mode::Replay { playing: false, .. } | Mode::Live => None,
        };
        // What is looked for goes on at once.
        if state.time().search.is_some()
            || state.has_more_to_find()
            || self.sheets.iter().any(|sheet| sheet.goes_on())
        {
            return Some(Instant::now());
        }
        [message, playing, state.selection().held_until].into_iter().flatten().min()
    }

    /// Opens a sheet, if there is one.
    fn open(&mut self, sheet: Option<impl Sheet + 'static>) {
        if let Some(sheet) = sheet {
            self.sheets.push(Box::new(sheet));
        }
    }

    fn pressed(&mut self, key: &KeyEvent) {
        let action = self.state.values.keys.action(key);
        // These mean the same wherever one is.
        if key_name(key) == "ctrl-c" {
            return self.act(Action::Quit);
        }
        if let Some(action @ (Action::Suspend | Action::Redraw)) = action {
            return self.act(action);
        }
        match self.sheets.last_mut() {
            Some(sheet) => {
                if sheet.closes(key, action) {
                    return self.close();
                }
                let after = sheet.key(key, &mut self.state);
                self.follow(after);
            }
            None => self.pressed_below(key, action),
        }
    }

    /// A key on the screen itself.
    fn pressed_below(&mut self, key: &KeyEvent, action: Option<Action>) {
        let state = &mut self.state;
        match key.code {
            KeyCode::Left if state.lanes().parts.in_focus => state.move_part(-1),
            KeyCode::Right if state.lanes().parts.in_focus => state.move_part(1),
            // The part stays chosen; the arrow keys go back to the processes.
            KeyCode::Enter if state.lanes().parts.in_focus => state.leave_parts(),
            _ => return action.into_iter().for_each(|action| self.act(action)),
        }
        state.keep_selection_visible();
    }

    /// Closes the uppermost sheet without anything being done.
    fn close(&mut self) {
        if let Some(mut sheet) = self.sheets.pop() {
            sheet.closed(&mut self.state);
        }
    }

    /// Does what follows from a key or a click in the uppermost sheet.
    fn follow(&mut self, after: After) {
        match after {
            After::Stay => {}
            After::Pass(action) => self.act(action),
            After::Close => drop(self.sheets.pop()),
            After::Open(sheet) => self.sheets.push(sheet),
            After::Do(action) => {
                self.sheets.pop();
                self.act(action);
            }
            After::Answer(text) => {
                let Some(mut asking) = self.sheets.pop() else { return };
                let answered = match self.sheets.last_mut() {
                    Some(below) => below.answered(&text, &mut self.state),
                    None => Ok(After::Stay),
                };
                match answered {
                    Ok(after) => self.follow(after),
                    Err(problem) => {
                        asking.refused(problem);
                        self.sheets.push(asking);
                    }
                }
            }
        }
    }
}
