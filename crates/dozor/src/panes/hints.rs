//! The hint line: keys that mean something now. Drawing shows them, and a click does what the key does.

use crate::look::action::{ACTIONS, Action, key_of};
use crate::settings::table::setting;
use crate::state::State;
use crate::state::data::Mode;
use crate::state::time::speed_word;
use dozor_core::rank::RowRef;
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
const DISPENSABLE: [&str; 22] = [
    "B becomes A",
    "swap",
    "next saved",
    "usual",
    "save as",
    "width",
    "anything",
    "more time",
    "on",
    "step back",
    "columns",
    "arrange",
    "mark",
    "lane",
    "record",
    "order",
    "parts",
    "freeze",
    "faster",
    "difference",
    "time",
    "next match",
];

/// Hints from left to right, as far as there is room.
pub fn placed(mut pairs: Vec<(String, String)>, area: Rect) -> Vec<Hint> {
    let cells = |(key, word): &(String, String)| key.width() + word.width() + 3;
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

/// Keys that mean something on the screen itself, and what they do.
pub fn of_screen(state: &State) -> Vec<(String, String)> {
    if state.lanes().parts.in_focus {
        let key = |action| state.key(action);
        return vec![
            ("↑ ↓".to_owned(), "choose a part".to_owned()),
            (key(Action::Parts), "next kind".to_owned()),
            ("enter".to_owned(), "to its users".to_owned()),
            ("esc".to_owned(), "all users".to_owned()),
            (key(Action::NextLane), "lane".to_owned()),
            (key(Action::Help), "help".to_owned()),
            (key(Action::Quit), "quit".to_owned()),
        ];
    }
    let line = state.row_of_selected().and_then(|row| state.line(row));
    let mut pairs = vec![];
    let mut add = |action: Action, word: &str| {
        if !state.values.keys.keys(action).is_empty() {
            pairs.push((state.key(action), word.to_owned()));
        }
    };
    if state.selection().find.is_some() {
        add(Action::NextMatch, "next match");
    }
    match line.and_then(|line| line.open) {
        Some(true) => add(Action::Close, "fold"),
        Some(false) => add(Action::Open, "open"),
        None => {}
    }
    let of_thread = line.is_some_and(|line| matches!(line.row, Some(RowRef::Thread(_))));
    for entry in ACTIONS.iter().filter(|entry| !entry.hint.is_empty()) {
        let shown = match entry.action {
            Action::Act => {
                state.session().actions_refused.is_none()
                    && (!of_thread || !state.selection().marked.is_empty())
            }
            Action::Mark => !of_thread,
            Action::Record => state.time().mode == Mode::Live,
            Action::Plus => matches!(state.time().mode, Mode::Replay { .. }),
            Action::GoToTime | Action::Difference => state.time().has_overview(),
            _ => true,
        };
        if !shown {
            continue;
        }
        let marked = state.selection().marked.len();
        let word = match entry.action {
            Action::Act if marked > 0 => format!("act on {marked}"),
            Action::Record if state.session().recording.is_some() => "end recording".to_owned(),
            Action::Freeze => now_word(state, Action::Freeze),
            Action::Difference if state.time().remembered.is_some() => "compare with A".to_owned(),
            _ => entry.hint.to_owned(),
        };
        add(entry.action, &word);
    }
    pairs
}

/// What an action would do now, or how the thing that it switches is now; empty where the name says it all.
pub fn now_word(state: &State, action: Action) -> String {
    let of_setting = |name: &str| setting(name).map_or(String::new(), |setting| setting.get(&state.values));
    let shown = |on: bool| if on { "shown" } else { "hidden" };
    let text = match action {
        Action::Freeze => match state.time().mode {
            Mode::Replay { playing: true, .. } => "pause",
            Mode::Replay { playing: false, .. } => "play",
            Mode::Live if state.time().cursor.is_some() => "live again",
            Mode::Live => "freeze",
        },
        Action::Record if state.session().recording.is_some() => "runs",
        Action::Threads => shown(state.values.threads),
        Action::KernelThreads => shown(state.values.narrowing.kernel_threads),
        Action::ActiveOnly => {
            if state.values.narrowing.active {
                "only active ones"
            } else {
                "all"
            }
        }
        Action::Percent => {
            if state.values.of_machine {
                "of the machine"
            } else {
                "of one core"
            }
        }
        Action::Means => {
            if state.lanes().zoom.mean {
                "means"
            } else {
                "peaks"
            }
        }
        Action::Mouse => {
            if state.values.mouse {
                "Dozor's"
            } else {
                "the terminal's"
            }
        }
        Action::ByHand => {
            if state.session().by_hand {
                "by hand"
            } else {
                "by itself"
            }
        }
        Action::Lane(lane) if state.values.lane == Some(lane) => "now",
        Action::Overview if state.values.lane.is_none() => "now",
        Action::ArrangeBy(arrange) if state.values.arrange == arrange => "now",
        Action::Arrange => state.values.arrange.word(),
        Action::Mean if state.values.mean.is_zero() => "current",
        Action::Mean => return format!("mean of {}", of_setting("mean")),
        Action::Whose => return of_setting("whose"),
        Action::CommandForm => return of_setting("command"),
        Action::Units => return of_setting("units"),
        Action::Times => return of_setting("times"),
        Action::Theme => return of_setting("theme"),
        Action::Order => return state.values.order.written(),
        Action::Plus | Action::Minus if matches!(state.time().mode, Mode::Replay { .. }) => {
            return speed_word(state.time().speed);
        }
        Action::Plus | Action::Minus => return of_setting("every"),
        Action::Zone => return state.time().zone.name(),
        Action::Difference if state.time().remembered.is_some() => "with A",
        Action::Narrow => return of_setting("narrow"),
        Action::Act if !state.selection().marked.is_empty() => {
            return format!("on {}", state.selection().marked.len());
        }
        Action::NextView => return state.values.view.clone().unwrap_or_default(),
        _ => "",
    };
    text.to_owned()
}
