//! Everything that can be done, found by its name.

use super::super::After;
use super::{Choices, Look, Picker, Row};
use crate::look::action::{ACTIONS, Action};
use crate::state::State;
use dozor_core::sorting::ColdSort as _;
use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};

/// Everything that can be done.
pub struct Commands;

/// What a line stands for.
#[derive(Clone, Debug, PartialEq)]
pub enum Command {
    /// Something that can be done.
    Action(Action),
    /// A saved view, to be shown.
    View(String),
}

/// The list.
pub fn sheet() -> Picker<Commands> {
    Picker::at(0)
}

impl Choices for Commands {
    type Item = Command;
    const TITLE: &'static str = "What shall be done?";
    const CHOOSE: &'static str = "do it";
    const LOOK: Look = Look { name: 24, keys: 12, keys_first: false, no_now: 0 };

    fn rows(state: &State, typed: &str) -> Vec<Row<Command>> {
        let actions = ACTIONS.iter().map(|entry| {
            Row::of_action(state, entry.action, Command::Action(entry.action), entry.name, entry.help)
        });
        let views = state.values.configured.views.iter().map(|view| Row {
            now: if state.values.view.as_ref() == Some(&view.name) {
                "now".to_owned()
            } else {
                String::new()
            },
            ..Row::new(
                Some(Command::View(view.name.clone())),
                &format!("view {}", view.name),
                &view.describe(),
            )
        });
        fuzzy(actions.chain(views).collect(), typed)
    }

    fn choose(command: Command, second: bool, state: &mut State) -> After {
        match command {
            _ if second => After::Stay,
            Command::Action(action) => After::Do(action),
            Command::View(name) => {
                state.show_view(&name);
                After::Close
            }
        }
    }
}

/// Rows that hold the typed letters in their order, the best first. The name counts more than the explanation.
fn fuzzy<T>(rows: Vec<Row<T>>, typed: &str) -> Vec<Row<T>> {
    if typed.is_empty() {
        return rows;
    }
    let pattern = Pattern::parse(typed, CaseMatching::Ignore, Normalization::Smart);
    let mut matcher = Matcher::new(Config::DEFAULT);
    let mut buffer = vec![];
    let mut score = |text: &str| pattern.score(Utf32Str::new(text, &mut buffer), &mut matcher);
    let mut scored: Vec<(u32, Row<T>)> = rows
        .into_iter()
        .filter_map(|row| {
            let lower = typed.to_lowercase();
            // The start of a word, of the name or of what people call it, goes before scattered letters.
            let word_begins =
                |text: &str| text.split(' ').any(|word| word.to_lowercase().starts_with(&lower));
            let called = if word_begins(row.also) { Some(800) } else { None };
            let by_word = if word_begins(&row.name) { 700 } else { 0 };
            let exact = if row.name.eq_ignore_ascii_case(typed) { 100_000 } else { 0 };
            let begins = if row.name.to_lowercase().starts_with(&typed.to_lowercase()) { 1_000 } else { 0 };
            let by_name = score(&row.name).map(|score| score + 500 + exact + begins + by_word);
            // Letters scattered over a long sentence would match nearly anything.
            let in_help = row.help.to_lowercase().contains(&typed.to_lowercase()).then_some(1);
            Some((by_name.max(called).or(in_help)?, row))
        })
        .collect();
    scored.cold_sort_by_key(|(score, _)| std::cmp::Reverse(*score));
    scored.into_iter().map(|(_, row)| row).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::look::action::{ALSO_CALLED, also_called, entry_of};

    #[test]
    fn commands_are_found_by_scattered_letters_the_name_first() {
        let rows = ACTIONS
            .iter()
            .map(|entry| Row {
                also: also_called(entry.action),
                ..Row::new(Some(entry.action), entry.name, entry.help)
            })
            .collect();
        let names = |typed: &str| -> Vec<String> {
            fuzzy(Vec::clone(&rows), typed).into_iter().map(|row| row.name).collect()
        };
        assert_eq!(names("famtree")[0], "arrange as a family tree");
        assert_eq!(names("quit")[0], "quit");
        assert_eq!(names("clipboard")[0], "copy the PID", "by its explanation");
        let general = [
            ("kill", "act"),
            ("stop", "act"),
            ("filter", "narrow"),
            ("sort", "order"),
            ("port", "narrow"),
            ("priority", "act"),
            ("export", "record"),
        ];
        for (word, name) in general {
            assert!(
                names(word)[..3.min(names(word).len())].contains(&name.to_owned()),
                "{word}: {:?}",
                names(word)
            );
        }
        assert!(!ALSO_CALLED.iter().any(|(action, _)| entry_of(*action).is_none()));
        for entry in ACTIONS {
            assert_eq!(names(entry.name)[0], entry.name, "each is first under its own name");
        }
    }
}
