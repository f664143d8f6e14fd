//! Lists to pick from, narrowed by what is typed: metrics to order by, arrangements, everything that can be done, and the
//! help. Drawing shows them, a key or a click chooses.

use crate::look::action::{ACTIONS, Action, Topic, also_called};
use crate::look::line_edit::LineEdit;
use crate::panes::hints::now_word;
use crate::state::State;
use dozor_core::catalogue::{Metric, PROCESS_METRICS};
use dozor_core::rank::Arrange;
use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};

/// What a list is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Metrics to order by.
    Order,
    /// Arrangements.
    Arrange,
    /// Everything that can be done.
    Commands,
    /// The help page.
    Help,
}

impl Kind {
    /// The action that opens it.
    pub fn action(self) -> Option<Action> {
        match self {
            Kind::Order => None,
            Kind::Arrange => Some(Action::Arrange),
            Kind::Commands => None,
            Kind::Help => Some(Action::Help),
        }
    }

    /// Its title.
    pub const fn title(self) -> &'static str {
        match self {
            Kind::Order => "Order processes by",
            Kind::Arrange => "Arrange processes",
            Kind::Commands => "What shall be done?",
            Kind::Help => "Help",
        }
    }
}

/// An open list.
#[derive(Clone, Debug)]
pub struct Picker {
    /// What it is of.
    pub kind: Kind,
    /// What is typed.
    pub typed: LineEdit,
    /// The chosen line among those that match.
    pub at: usize,
}

/// What a line stands for.
#[derive(Clone, Debug, PartialEq)]
pub enum Item {
    /// A metric to order by.
    Metric(&'static Metric),
    /// An arrangement.
    Arrange(Arrange),
    /// Something that can be done.
    Action(Action),
    /// A saved view.
    View(String),
    /// Only text.
    Text,
}

/// A line of a list.
#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    /// What it stands for.
    pub item: Item,
    /// Its name.
    pub name: String,
    /// Keys that do the same.
    pub keys: String,
    /// How it is now: the present choice, the present value.
    pub now: String,
    /// What it means.
    pub help: String,
    /// It begins a chapter.
    pub title: bool,
}

impl Row {
    fn new(item: Item, name: &str, help: &str) -> Row {
        let (name, help) = (name.to_owned(), help.to_owned());
        Row { item, name, keys: String::new(), now: String::new(), help, title: false }
    }

    fn of_action(state: &State, action: Action, name: &str, help: &str) -> Row {
        let keys = state.keys.keys(action).join("  ");
        Row { keys, now: now_word(state, action), ..Row::new(Item::Action(action), name, help) }
    }
}

impl Row {
    /// What people call it in general.
    fn also_called(&self) -> &'static str {
        match self.item {
            Item::Action(action) => also_called(action),
            Item::Metric(_) | Item::Arrange(_) | Item::View(_) | Item::Text => "",
        }
    }
}

impl Picker {
    /// A list before anything is typed.
    pub fn new(kind: Kind) -> Picker {
        Picker { kind, typed: LineEdit::default(), at: 0 }
    }

    /// The lines that match, the best first.
    pub fn items(&self, state: &State) -> Vec<Row> {
        let typed = self.typed.text();
        let typed = typed.trim();
        match self.kind {
            Kind::Order => metrics(typed).into_iter().map(|metric| order_row(state, metric)).collect(),
            Kind::Arrange => {
                let fits = |arrange: &&Arrange| arrange.word().contains(&typed.to_lowercase());
                let row = |arrange: &Arrange| Row {
                    now: if state.arrange == *arrange { "now".to_owned() } else { String::new() },
                    ..Row::new(Item::Arrange(*arrange), arrange.word(), arrange.help())
                };
                Arrange::ALL.iter().filter(fits).map(row).collect()
            }
            Kind::Commands => fuzzy(commands(state), typed),
            Kind::Help => help(state, &typed.to_lowercase()),
        }
    }
}

/// Metrics whose alias, heading or meaning contains what is typed; matches in the alias come first.
pub fn metrics(typed: &str) -> Vec<&'static Metric> {
    let typed = typed.to_lowercase();
    let in_name = |metric: &&Metric| metric.alias.contains(&typed) || metric.heading.contains(&typed);
    let by_name = PROCESS_METRICS.iter().filter(in_name);
    let by_help = PROCESS_METRICS
        .iter()
        .filter(|metric| !in_name(metric) && metric.help.to_lowercase().contains(&typed));
    by_name.chain(by_help).collect()
}

fn order_row(state: &State, metric: &'static Metric) -> Row {
    let now = match state.order {
        order if order.first.metric == metric => "first",
        order if order.then.is_some_and(|then| then.metric == metric) => "second",
        _ => "",
    };
    Row { now: now.to_owned(), ..Row::new(Item::Metric(metric), metric.alias, metric.help) }
}

/// Everything that can be done, and the saved views.
fn commands(state: &State) -> Vec<Row> {
    let actions = ACTIONS.iter().map(|entry| Row::of_action(state, entry.action, entry.name, entry.help));
    let views = state.configured.views.iter().map(|view| Row {
        now: if state.view.as_ref() == Some(&view.name) { "now".to_owned() } else { String::new() },
        ..Row::new(Item::View(view.name.clone()), &format!("view {}", view.name), &view.describe())
    });
    actions.chain(views).collect()
}

/// Rows that hold the typed letters in their order, the best first. The name counts more than the explanation.
fn fuzzy(rows: Vec<Row>, typed: &str) -> Vec<Row> {
    if typed.is_empty() {
        return rows;
    }
    let pattern = Pattern::parse(typed, CaseMatching::Ignore, Normalization::Smart);
    let mut matcher = Matcher::new(Config::DEFAULT);
    let mut buffer = vec![];
    let mut score = |text: &str| pattern.score(Utf32Str::new(text, &mut buffer), &mut matcher);
    let mut scored: Vec<(u32, Row)> = rows
        .into_iter()
        .filter_map(|row| {
            let lower = typed.to_lowercase();
            // The start of a word, of the name or of what people call it, goes before scattered letters.
            let word_begins =
                |text: &str| text.split(' ').any(|word| word.to_lowercase().starts_with(&lower));
            let called = if word_begins(row.also_called()) { Some(800) } else { None };
            let by_word = if word_begins(&row.name) { 700 } else { 0 };
            let exact = if row.name.eq_ignore_ascii_case(typed) { 100_000 } else { 0 };
            let begins = if row.name.to_lowercase().starts_with(&typed.to_lowercase()) { 1_000 } else { 0 };
            let by_name = score(&row.name).map(|score| score + 500 + exact + begins + by_word);
            // Letters scattered over a long sentence would match nearly anything.
            let in_help = row.help.to_lowercase().contains(&typed.to_lowercase()).then_some(1);
            Some((by_name.max(called).or(in_help)?, row))
        })
        .collect();
    scored.sort_by_key(|(score, _)| std::cmp::Reverse(*score));
    scored.into_iter().map(|(_, row)| row).collect()
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
const SIGNS: [(&str, &str); 13] = [
    ("· ◇ ▲ ◆", "Fine, notice, warning, critical."),
    ("– ×", "Unknown; not permitted (run Dozor as root to see it)."),
    ("≥ mixed", "Of several processes: at least so much, some are unknown; they differ."),
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

fn help(state: &State, typed: &str) -> Vec<Row> {
    let mut rows = vec![];
    let mut chapter = |title: &str, lines: Vec<Row>| {
        let fits = |row: &Row| {
            [&*row.name, &*row.help, &*row.keys, row.also_called()]
                .iter()
                .any(|text| text.to_lowercase().contains(typed))
                || title.to_lowercase().contains(typed)
        };
        let lines: Vec<Row> = lines.into_iter().filter(fits).collect();
        if !lines.is_empty() {
            rows.push(Row { title: true, ..Row::new(Item::Text, title, "") });
            rows.extend(lines);
        }
    };
    for topic in Topic::ALL {
        let entries = ACTIONS.iter().filter(|entry| entry.topic == topic);
        let line =
            |entry: &crate::look::action::Entry| Row::of_action(state, entry.action, entry.name, entry.help);
        chapter(topic.title(), entries.map(line).collect());
    }
    let texts = |pairs: &[(&str, &str)]| {
        pairs
            .iter()
            .map(|(what, text)| Row { keys: (*what).to_owned(), ..Row::new(Item::Text, "", text) })
            .collect()
    };
    chapter("Mouse", texts(&MOUSE));
    chapter("Signs", texts(&SIGNS));
    let host = state.timeline.host();
    let model = state.configured.cpu_label(&host.cpu_model);
    let mut machine = vec![(host.name.clone(), format!("{}, {model}, {} cores", host.kernel, host.cores))];
    if let Some(recording) = &state.recording {
        machine.push(("● rec".to_owned(), format!("Recording into {}.", recording.path.display())));
    }
    let machine: Vec<(&str, &str)> = machine.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
    chapter("This machine", texts(&machine));
    rows
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::look::action::{ALSO_CALLED, entry_of};

    #[test]
    fn metrics_are_found_by_alias_before_meaning() {
        let found = |typed: &str| metrics(typed).iter().map(|metric| metric.alias).collect::<Vec<_>>();
        assert_eq!(found("swap"), ["swap"]);
        assert_eq!(found("zombie")[0], "state");
        assert_eq!(found("").len(), PROCESS_METRICS.len());
    }

    #[test]
    fn commands_are_found_by_scattered_letters_the_name_first() {
        let rows = ACTIONS
            .iter()
            .map(|entry| Row::new(Item::Action(entry.action), entry.name, entry.help))
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
