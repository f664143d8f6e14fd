//! What was typed since the last frame, as few events: a text that comes at once is pasted rather than typed, of a drag the last place
//! counts, and what comes faster than anybody types is not taken for keys.

use crate::screen::{Event, Screen};
use dozor_core::lane::Severity;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseEventKind};
use std::collections::VecDeque;
use std::time::Instant;

/// So many may come at once, and so many a second go on: a key that is held down, a wheel that is turned, a script that types.
const AT_ONCE: f64 = 128.0;
const A_SECOND: f64 = 500.0;

/// What waits for its turn.
pub struct Typed {
    waiting: VecDeque<Event>,
    /// How many may come now.
    room: f64,
    since: Instant,
    refused: usize,
}

impl Typed {
    /// Nothing was typed yet.
    pub fn new(now: Instant) -> Typed {
        Typed { waiting: VecDeque::new(), room: AT_ONCE, since: now, refused: 0 }
    }

    /// Adds what came.
    pub fn extend(&mut self, events: Vec<Event>) {
        self.waiting.extend(events);
    }

    /// Whether anything waits.
    pub fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    /// The next event for the screen as it is now.
    pub fn next(&mut self, screen: &mut Screen, now: Instant) -> Option<Event> {
        let passed = now.saturating_duration_since(self.since).as_secs_f64();
        (self.room, self.since) = ((self.room + passed * A_SECOND).min(AT_ONCE), now);
        while let Some(event) = self.waiting.pop_front() {
            let event = match event {
                Event::Mouse(mouse) if matches!(mouse.kind, MouseEventKind::Drag(_)) => {
                    let is_on = |next: &Event| matches!(next, Event::Mouse(next) if next.kind == mouse.kind);
                    if self.waiting.front().is_some_and(is_on) {
                        continue;
                    }
                    event
                }
                Event::Key(key) if letter(&key).is_some() && screen.takes_text() => self.text(&key),
                other => other,
            };
            let leaves = matches!(&event, Event::Key(key) if key.code == KeyCode::Char('c') && key.modifiers == KeyModifiers::CONTROL);
            if self.room < 1.0 && !leaves {
                self.refused += 1;
                continue;
            }
            self.room = (self.room - 1.0).max(0.0);
            return Some(event);
        }
        if self.refused > 0 {
            let text = format!(
                "{} keys came faster than anybody types; nothing was done with them",
                std::mem::take(&mut self.refused)
            );
            screen.state.say(Severity::Notice, text);
        }
        None
    }

    /// A letter with all that stand behind it.
    fn text(&mut self, first: &KeyEvent) -> Event {
        let next = |event: Option<&Event>| match event {
            Some(Event::Key(key)) => letter(key),
            _ => None,
        };
        let mut text = String::new();
        while let Some(letter) = next(self.waiting.front()) {
            text.push(letter);
            self.waiting.pop_front();
        }
        match letter(first).filter(|_| !text.is_empty()) {
            Some(letter) => {
                text.insert(0, letter);
                Event::Paste(text)
            }
            None => Event::Key(*first),
        }
    }
}

fn letter(key: &KeyEvent) -> Option<char> {
    match key.code {
        KeyCode::Char(letter) if (key.modifiers - KeyModifiers::SHIFT).is_empty() => Some(letter),
        _ => None,
    }
}
