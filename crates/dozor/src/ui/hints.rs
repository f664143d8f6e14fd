//! The hint line: keys that mean something now. Drawing shows them, and a click does what the key does.

use super::action::{ACTIONS, Action, key_of};
use super::sheet::Sheet;
use super::state::{Mode, State};
use ratatui::crossterm::event::KeyEvent;
use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr as _;

/// One hint at its place.
#[derive(Clone, Debug)]
pub struct Hint {
    /// The key.
    pub key: String,
    /// What it does.
    pub word: String,
    /// The key as an event; none where the hint names several.
    pub press: Option<KeyEvent>,
    /// First cell.
    pub x: u16,
    /// The cell behind its last one.
    pub end: u16,
}

/// Words that go first on a narrow screen: what is easiest to find in the help.
const DISPENSABLE: [&str; 9] =
    ["more time", "on", "step back", "mark", "lane", "record", "order", "parts", "freeze"];

/// Hints from left to right, as far as there is room.
pub fn hints(state: &State, area: Rect) -> Vec<Hint> {
    let cells = |(key, word): &(String, String)| key.width() + word.width() + 3;
    let mut pairs = pairs(state);
    for word in DISPENSABLE {
        if pairs.iter().map(cells).sum::<usize>() < usize::from(area.width) {
            break;
        }
        pairs.retain(|(_, other)| other != word);
    }
    let mut x = area.x + 1;
    pairs
        .into_iter()
        .map(|(key, word)| {
            let end = x + (key.width() + 1 + word.width()) as u16;
            let hint = Hint { press: key_of(&key), key, word, x, end };
            x = end + 2;
            hint
        })
        .collect()
}

/// Key and word of each hint.
fn pairs(state: &State) -> Vec<(String, String)> {
    let own = |pairs: &[(&str, &str)]| {
        pairs.iter().map(|(key, word)| ((*key).to_owned(), (*word).to_owned())).collect::<Vec<_>>()
    };
    match &state.sheet {
        Some(Sheet::Act(_)) => return own(&[("↑ ↓", "choose"), ("enter", "send"), ("esc", "leave it")]),
        Some(Sheet::Order(_)) => {
            return own(&[("letters", "search"), ("↑ ↓", "choose"), ("enter", "order"), ("esc", "leave it")]);
        }
        Some(Sheet::Help(_)) => return own(&[("↑ ↓", "scroll"), ("esc", "close")]),
        None => {}
    }
    if state.parts.in_focus {
        return own(&[
            ("↑ ↓", "choose a part"),
            ("p", "next kind"),
            ("enter", "to its users"),
            ("esc", "all users"),
            ("tab", "lane"),
            ("?", "help"),
            ("q", "quit"),
        ]);
    }
    let table = ACTIONS.iter().filter(|entry| !entry.hint.is_empty()).filter(|entry| match entry.action {
        Action::Act => state.tied.is_none(),
        Action::Record => state.mode == Mode::Live,
        _ => true,
    });
    table
        .map(|entry| {
            let word = match entry.action {
                Action::Record if state.recording.is_some() => "end recording",
                Action::Freeze => match state.mode {
                    Mode::Replay { playing: true, .. } => "pause",
                    Mode::Replay { playing: false, .. } => "play",
                    Mode::Live if state.cursor.is_some() => "live again",
                    Mode::Live => "freeze",
                },
                _ => entry.hint,
            };
            (entry.keys[0].to_owned(), word.to_owned())
        })
        .collect()
}
