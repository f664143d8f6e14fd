//! Which key does what: the keys of the table of actions, and what the settings change in them.

use crate::look::action::{ACTIONS, Action, key_name, key_names, key_of};
use dozor_core::text::nearest;
use ratatui::crossterm::event::KeyEvent;
use std::collections::HashMap;

/// Keys of all actions.
#[derive(Clone, Debug)]
pub struct KeyMap {
    actions: HashMap<String, Action>,
    /// Keys of each action, in the order of the table.
    keys: Vec<Vec<String>>,
}

impl Default for KeyMap {
    fn default() -> KeyMap {
        KeyMap::new(&[]).0
    }
}

impl KeyMap {
    /// The keys of the table with these changed: names of actions with their keys. What is wrong with them is said, each
    /// with the name of the action; the rest is used.
    pub fn new(changed: &[(String, Vec<String>)]) -> (KeyMap, Vec<(String, String)>) {
        let mut problems = vec![];
        let mut actions: HashMap<String, Action> = HashMap::new();
        let mut keys: Vec<Vec<String>> =
            ACTIONS.iter().map(|entry| entry.keys.iter().map(|key| (*key).to_owned()).collect()).collect();
        // What somebody chose goes before what the table says.
        let mut chosen: HashMap<String, usize> = HashMap::new();
        let mut touched = vec![false; ACTIONS.len()];
        for (name, wanted) in changed {
            let Some(at) = ACTIONS.iter().position(|entry| entry.name == name) else {
                let near = nearest(name, ACTIONS.iter().map(|entry| entry.name));
                let hint = near.map(|near| format!("; did you mean '{near}'?")).unwrap_or_default();
                problems.push((name.clone(), format!("nothing that can be done is called '{name}'{hint}")));
                continue;
            };
            touched[at] = true;
            keys[at].clear();
            for key in wanted {
                if key_of(key).is_none_or(|event| key_name(&event) != *key) {
                    let near = nearest(key, key_names());
                    let hint = near.map(|near| format!("; did you mean '{near}'?")).unwrap_or_default();
                    problems.push((name.clone(), format!("no key is called '{key}'{hint}")));
                } else if let Some(other) = chosen.get(key).filter(|other| **other != at) {
                    let other = ACTIONS[*other].name;
                    problems.push((
                        name.clone(),
                        format!("the key {key} is given to '{other}' as well, which keeps it"),
                    ));
                } else {
                    chosen.insert(key.clone(), at);
                    keys[at].push(key.clone());
                }
            }
        }
        for (at, entry) in ACTIONS.iter().enumerate().filter(|(at, _)| !touched[*at]) {
            keys[at].retain(|key| !chosen.contains_key(key));
            if keys[at].is_empty() && !entry.keys.is_empty() {
                let taken = entry.keys[0];
                let by = chosen.get(taken).map_or("", |at| ACTIONS[*at].name);
                let text =
                    format!("'{by}' takes the key {taken} from '{}', which is left without one", entry.name);
                problems.push((by.to_owned(), text));
            }
        }
        for (at, entry) in ACTIONS.iter().enumerate() {
            actions.extend(keys[at].iter().map(|key| (key.clone(), entry.action)));
        }
        (KeyMap { actions, keys }, problems)
    }

    /// What a key does.
    pub fn action(&self, key: &KeyEvent) -> Option<Action> {
        self.actions.get(&key_name(key)).copied()
    }

    /// Keys of an action.
    pub fn keys(&self, action: Action) -> &[String] {
        let at = ACTIONS.iter().position(|entry| entry.action == action);
        at.map_or(&[], |at| &self.keys[at])
    }

    /// The first key of an action, or how else it is done.
    pub fn key(&self, action: Action) -> String {
        self.keys(action).first().cloned().unwrap_or_else(|| ":".to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn changed(pairs: &[(&str, &[&str])]) -> (KeyMap, Vec<String>) {
        let pairs: Vec<(String, Vec<String>)> = pairs
            .iter()
            .map(|(name, keys)| ((*name).to_owned(), keys.iter().map(|key| (*key).to_owned()).collect()))
            .collect();
        let (map, problems) = KeyMap::new(&pairs);
        (map, problems.into_iter().map(|(_, text)| text).collect())
    }

    #[test]
    fn keys_can_be_changed() {
        let (map, problems) =
            changed(&[("act", &["ctrl-x", "x"]), ("record", &["V"]), ("save view", &["f5"])]);
        assert_eq!(problems, [] as [&str; 0]);
        let action = |key: &str| map.action(&key_of(key).expect(key));
        assert_eq!(action("ctrl-x"), Some(Action::Act));
        assert_eq!((action("V"), action("r")), (Some(Action::Record), None));
        assert_eq!(map.key(Action::SaveView), "f5");
        assert_eq!(map.key(Action::ArrangeBy(dozor_core::rank::Arrange::User)), ":");
    }

    #[test]
    fn clashes_and_mistakes_are_reported_and_the_rest_is_used() {
        let (map, problems) = changed(&[
            ("acct", &["x"]),
            ("record", &["ctl-r", "V"]),
            ("order", &["V"]),
            ("freeze", &["q"]),
            ("quit", &["B"]),
            ("threads", &["/"]),
        ]);
        assert_eq!(
            problems,
            [
                "nothing that can be done is called 'acct'; did you mean 'act'?",
                "no key is called 'ctl-r'",
                "the key V is given to 'record' as well, which keeps it",
                "'threads' takes the key / from 'narrow', which is left without one",
            ]
        );
        let action = |key: &str| map.action(&key_of(key).expect(key));
        assert_eq!((action("q"), action("B")), (Some(Action::Freeze), Some(Action::Quit)));
        assert_eq!(action("V"), Some(Action::Record));
    }
}
