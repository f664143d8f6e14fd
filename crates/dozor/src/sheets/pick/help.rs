//! The help: all keys, the mouse, the signs, this machine.

use super::super::{After, Room};
use super::{Choices, Look, Picker, Row};
use crate::look::action::{ACTIONS, Action, Entry, Topic};
use crate::state::State;

/// The help.
pub struct Help;

/// The list.
pub fn sheet() -> Picker<Help> {
    Picker::at(0)
}

/// What the mouse does.
const MOUSE: [(&str, &str); 6] = [
    ("click", "Chooses what is under it: a lane, a part, a row, a moment, a hint, a line of a list."),
    (
        "heading",
        "Orders by the column; again: the other way. With the right button: the second order, for ties.",
    ),
    ("fold sign", "Opens or folds a row."),
    ("drag", "The time cursor over the strips, the scroll bar, a lane's name to another place."),
    ("wheel", "Moves rows and parts; over the strips more or less time."),
    ("right click", "On a lane's name: folds it."),
];

/// What signs mean.
const SIGNS: [(&str, &str); 14] = [
    ("· ◇ ▲ ◆", "Fine, notice, warning, critical."),
    ("– ×", "Unknown; not permitted (run Dozor as root to see it)."),
    ("≥ ≤", "At least so much, at most so much: the rest is not known."),
    ("mixed", "Of several processes: they differ."),
    ("▿ ▹", "Before a row: what is below it is shown, or folded away and in its totals."),
    ("…", "Before a name in a tree: it stands deeper than there is room for."),
    ("✓", "Before a process: it is marked."),
    ("replaced", "Behind a program: its executable was replaced or removed; it still runs the old one."),
    ("_ ┄", "On a strip: zero; a gap, in which nothing is known."),
    ("✶ ⚑", "On the time axis: something was done; a bookmark."),
    ("+", "Before a process: it has just started. Just gone says so in its state."),
    (">1:00", "Near the top for at least so long: what was before was not followed."),
    ("×n", "So many processes: of a group, or such as came and went between two readings."),
    ("underlined", "A name that the last search found; n and N go on."),
];

impl Choices for Help {
    type Item = Action;
    const TITLE: &'static str = "Help";
    const CHOOSE: &'static str = "do it";
    const ROOM: Room = Room::All;
    const LOOK: Look = Look { name: 24, keys: 14, keys_first: true, no_now: 0 };
    const OPENER: Option<Action> = Some(Action::Help);

    fn rows(state: &State, typed: &str) -> Vec<Row<Action>> {
        let typed = &typed.to_lowercase();
        let mut rows = vec![];
        let mut chapter = |title: &str, lines: Vec<Row<Action>>| {
            let fits = |row: &Row<Action>| {
                [&*row.name, &*row.help, &*row.keys, row.also]
                    .iter()
                    .any(|text| text.to_lowercase().contains(typed))
                    || title.to_lowercase().contains(typed)
            };
            let lines: Vec<Row<Action>> = lines.into_iter().filter(fits).collect();
            if !lines.is_empty() {
                rows.push(Row { title: true, ..Row::new(None, title, "") });
                rows.extend(lines);
            }
        };
        for topic in Topic::ALL {
            let entries = ACTIONS.iter().filter(|entry| entry.topic == topic);
            let line =
                |entry: &Entry| Row::of_action(state, entry.action, entry.action, entry.name, entry.help);
            chapter(topic.title(), entries.map(line).collect());
        }
        let texts = |pairs: &[(&str, &str)]| {
            pairs
                .iter()
                .map(|(what, text)| Row { keys: (*what).to_owned(), ..Row::new(None, "", text) })
                .collect()
        };
        chapter("Mouse", texts(&MOUSE));
        chapter("Signs", texts(&SIGNS));
        let host = state.time().timeline.host();
        let model = state.values.configured.cpu_label(&host.cpu_model);
        let mut machine =
            vec![(host.name.clone(), format!("{}, {model}, {} cores", host.kernel, host.cores))];
        if let Some(recording) = &state.session().recording {
            machine.push(("● rec".to_owned(), format!("Recording into {}.", recording.path.display())));
        }
        let machine: Vec<(&str, &str)> = machine.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
        chapter("This machine", texts(&machine));
        rows
    }

    fn choose(action: Action, second: bool, _state: &mut State) -> After {
        if second { After::Stay } else { After::Do(action) }
    }
}
