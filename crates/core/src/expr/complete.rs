//! What could stand at a place of an expression: names from the catalogue, units, and values that are present.

use super::lexer::{Compare, Placed, Token, ends_word, tokens};
use super::quantity::{begins_number, units};
use super::tree::{Condition, is_plain_word, quote};
use crate::catalogue::{Eval, Instances, Metric, Unit, all, find};
use crate::sample::Sample;
use crate::sorting::ColdSort as _;
use std::collections::BTreeMap;
use std::ops::Range;

/// A word that could stand at the caret.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Completion {
    /// What it replaces, in bytes.
    pub replace: Range<usize>,
    /// The word.
    pub word: String,
    /// What it means.
    pub help: String,
}

/// Most values of one metric that are offered.
const VALUES: usize = 200;

/// What comes next.
#[derive(Clone, Copy)]
enum Position {
    /// The beginning of a comparison, a condition, a text.
    Begin,
    /// A metric was named: a comparison.
    Named(&'static Metric),
    /// A value of a metric; in a list.
    Value(&'static Metric, bool),
    /// A number was written: its unit, or what follows.
    Number(&'static Metric, bool),
    /// A value was written.
    Done,
    /// Nothing that could be guessed.
    Unclear,
}

/// Words that could stand at the caret, the likeliest first. Values are taken from a sample.
pub fn completions(text: &str, caret: usize, sample: Option<&Sample>) -> Vec<Completion> {
    let Some(before) = text.get(..caret) else { return vec![] };
    if let Some(open) = before.rfind('{').filter(|open| !before[*open..].contains('}')) {
        return of_instances(before, open, sample);
    }
    // A quote that is open belongs to the value that is written.
    let quote = before.rfind('"').filter(|_| before.matches('"').count() % 2 == 1);
    let start = quote.unwrap_or_else(|| {
        before
            .char_indices()
            .rev()
            .find(|(_, letter)| ends_word(*letter))
            .map_or(0, |(at, letter)| at + letter.len_utf8())
    });
    let typed = before[start..].trim_start_matches('"');
    let Ok(tokens) = tokens(&before[..start]) else { return vec![] };
    let mut offered: Vec<(String, String)> = vec![];
    match position(&tokens) {
        Position::Begin => offered.extend(beginnings()),
        Position::Named(metric) => offered.extend(comparisons(metric)),
        Position::Value(metric, _) => offered.extend(values(metric, typed, sample)),
        Position::Number(metric, list) => {
            let units = units(metric.unit)
                .iter()
                .map(|(name, _)| ((*name).to_owned(), metric.unit.word().to_owned()));
            offered.extend(units);
            if !list {
                offered.extend(joining());
            }
        }
        Position::Done => offered.extend(joining()),
        Position::Unclear => {}
    }
    let lower = typed.to_lowercase();
    let begins = |word: &str| word.trim_start_matches('"').to_lowercase().starts_with(&lower);
    let (mut first, rest): (Vec<_>, Vec<_>) = offered.into_iter().partition(|(word, _)| begins(word));
    first
        .extend(rest.into_iter().filter(|(word, _)| lower.len() > 1 && word.to_lowercase().contains(&lower)));
    let completion = |(word, help)| Completion { replace: start..caret, word, help };
    // What stands there already is no help.
    first.into_iter().filter(|(word, _)| word != typed).map(completion).collect()
}

/// Where one is behind some tokens.
fn position(tokens: &[Placed]) -> Position {
    let mut now = Position::Begin;
    for (token, _) in tokens {
        now = match (now, token) {
            (Position::Begin, Token::Open) => Position::Begin,
            (_, Token::Word(word)) if ["and", "or"].contains(&word.as_str()) => Position::Begin,
            (Position::Begin, Token::Word(word)) if word == "not" => Position::Begin,
            (Position::Begin, Token::Word(word)) => find(word).map_or(Position::Done, Position::Named),
            (Position::Begin, Token::Quoted(_)) => Position::Done,
            (Position::Named(metric), Token::Instance(_)) => Position::Named(metric),
            (Position::Named(metric), Token::Compare(_)) => Position::Value(metric, false),
            (Position::Named(metric), Token::Word(word)) if ["in", "not"].contains(&word.as_str()) => {
                Position::Named(metric)
            }
            (Position::Named(metric), Token::Open) => Position::Value(metric, true),
            (Position::Value(metric, list), Token::Word(word)) if begins_number(word) => {
                Position::Number(metric, list)
            }
            // In a list another value may follow, else something that joins.
            (Position::Value(metric, true), Token::Word(_) | Token::Quoted(_))
            | (Position::Number(metric, true), Token::Word(_)) => Position::Number(metric, true),
            (Position::Value(_, false), Token::Word(_) | Token::Quoted(_))
            | (Position::Number(_, false), Token::Word(_)) => Position::Done,
            (Position::Number(metric, true), Token::Comma) => Position::Value(metric, true),
            (Position::Number(..) | Position::Done, Token::Close) => Position::Done,
            (Position::Done, Token::Word(_)) => Position::Done,
            _ => Position::Unclear,
        };
    }
    now
}

fn beginnings() -> impl Iterator<Item = (String, String)> {
    let of = |metric: &Metric| (metric.alias.to_owned(), metric.help.to_owned());
    let conditions = Condition::ALL.map(|it| (it.word().to_owned(), it.help().to_owned()));
    let metrics = all().map(of);
    metrics.chain(conditions).chain([("not".to_owned(), "what follows does not hold".to_owned())])
}

fn joining() -> [(String, String); 2] {
    [("and", "both hold"), ("or", "one of them holds")].map(|(word, help)| (word.to_owned(), help.to_owned()))
}

fn comparisons(metric: &Metric) -> Vec<(String, String)> {
    let signs: &[Compare] = if metric.unit == Unit::Text {
        &[Compare::Equal, Compare::Unequal, Compare::Matches, Compare::Differs]
    } else {
        &[
            Compare::Greater,
            Compare::AtLeast,
            Compare::Less,
            Compare::AtMost,
            Compare::Equal,
            Compare::Unequal,
        ]
    };
    let help = |compare: &Compare| match compare {
        Compare::Equal => "is",
        Compare::Unequal => "is not",
        Compare::Less => "is less than",
        Compare::AtMost => "is at most",
        Compare::Greater => "is more than",
        Compare::AtLeast => "is at least",
        Compare::Matches => "has this pattern in it",
        Compare::Differs => "has it not",
    };
    let own = signs.iter().map(|compare| (compare.sign().to_owned(), help(compare).to_owned()));
    own.chain([("in (".to_owned(), "is one of a list".to_owned())]).collect()
}

/// Values of a metric: its words, or what processes have now, the most frequent first; units behind a number.
fn values(metric: &'static Metric, typed: &str, sample: Option<&Sample>) -> Vec<(String, String)> {
    let pair = |word: &str, help: String| (word.to_owned(), help);
    if begins_number(typed) {
        let end = typed
            .find(|letter: char| !letter.is_ascii_digit() && !"+-.".contains(letter))
            .unwrap_or(typed.len());
        let with_unit = |(name, _): &(&str, f64)| {
            pair(&format!("{}{name}", &typed[..end]), metric.unit.word().to_owned())
        };
        return units(metric.unit).iter().map(with_unit).collect();
    }
    if !metric.words.is_empty() {
        return metric.words.iter().map(|word| pair(word, String::new())).collect();
    }
    let Some(sample) =
        sample.filter(|_| matches!(metric.eval, Eval::Process(_)) && metric.unit == Unit::Text)
    else {
        return vec![];
    };
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for at in 0..sample.now.processes.len() {
        if let Some(text) = metric.of(&sample.process(at)).text() {
            *counts.entry(text.to_owned()).or_default() += 1;
        }
    }
    let mut counts: Vec<(String, usize)> = counts.into_iter().collect();
    counts.cold_sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    counts.truncate(VALUES);
    let shown = |(text, count): (String, usize)| {
        let word = if is_plain_word(&text) { text } else { quote(&text) };
        let help = if count == 1 { "1 process".to_owned() } else { format!("{count} processes") };
        (word, help)
    };
    counts.into_iter().map(shown).collect()
}

/// Names of instances behind an open curly bracket.
fn of_instances(before: &str, open: usize, sample: Option<&Sample>) -> Vec<Completion> {
    let name = before[..open].rsplit(ends_word).next().unwrap_or_default();
    let (Some(metric), Some(sample)) = (find(name), sample) else { return vec![] };
    let typed = &before[open + 1..];
    let Instances::Many(values) = metric.of_system(sample) else { return vec![] };
    let named = values.into_iter().filter(|(name, _)| name.starts_with(typed) && **name != *typed);
    let completion = |name: &str, help: String| Completion {
        replace: open + 1..before.len(),
        word: format!("{name}}}"),
        help,
    };
    named
        .map(|(name, value)| {
            completion(&name, format!("{} {}", value.short(metric.unit), metric.unit.word()))
        })
        .collect()
}
