//! Words of values, and what to say of one that is none.

use dozor_core::lane::Lane;
use dozor_core::text::nearest;

/// The name of a lane or of the overview.
pub fn lane_name(lane: Option<Lane>) -> &'static str {
    lane.map_or("overview", Lane::name)
}

/// A lane by its name; none for the overview.
pub fn lane_by_name(name: &str) -> Result<Option<Lane>, String> {
    if name == "overview" {
        return Ok(None);
    }
    let found = Lane::ALL.into_iter().find(|lane| lane.name() == name).map(Some);
    let names = Lane::ALL.map(Lane::name).into_iter().chain(["overview"]);
    found.ok_or_else(|| unknown("no lane is called", name, names))
}

/// The message for a word that is not among some.
pub fn unknown<'a>(what: &str, word: &str, words: impl IntoIterator<Item = &'a str>) -> String {
    let words: Vec<&str> = words.into_iter().collect();
    match nearest(word, words.iter().copied()) {
        Some(near) => format!("{what} '{word}'; did you mean '{near}'?"),
        None => format!("{what} '{word}'; there are {}", words.join(", ")),
    }
}

/// One of some values by its word.
pub fn word<T: Copy>(text: &str, all: &[T], word: impl Fn(T) -> &'static str) -> Result<T, String> {
    let found = all.iter().copied().find(|value| word(*value) == text);
    found.ok_or_else(|| unknown("it cannot be", text, all.iter().map(|value| word(*value))))
}

/// True or false.
pub fn switch(text: &str) -> Result<bool, String> {
    match text {
        "true" => Ok(true),
        "false" => Ok(false),
        other => Err(format!("it is true or false, not '{other}'")),
    }
}

/// The line of a place in a text, from 1 on.
pub fn toml_line(text: &str, at: usize) -> usize {
    text.get(..at).map_or(1, |before| before.matches('\n').count() + 1)
}
