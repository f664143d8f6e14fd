//! `dozor compare`: two moments or spans, of one recording or of two: what differs, most first.

use super::options::Misuse;
use super::query::{at_time, standpoint};
use crate::look::clock::Zone;
use crate::recordings;
use clap::{Args, ValueEnum};
use dozor_core::catalogue::Value;
use dozor_core::compare::words::{cells, changes, label, presence_words, span, who};
use dozor_core::compare::{COMPARED, Compared, Comparison, Pair, Presence, Side, compare};
use dozor_core::timeline::Timeline;
use dozor_core::when::When;
use dozor_export::sample::json_value;
use serde_json::{Value as Json, json};
use std::io::{self, Write};
use std::path::PathBuf;

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For people
    Text,
    /// One object
    Json,
}

#[derive(Args)]
pub struct Compare {
    /// A recording and a time behind an @, or a span with two dots: night.dozor@02:10..02:20; without a time its end
    #[arg(value_name = "A[@TIME]")]
    a: String,
    /// The other; a time alone means the same recording
    #[arg(value_name = "B[@TIME]")]
    b: String,
    /// At most so many lines of each kind
    #[arg(long, value_name = "NUMBER", default_value_t = 12)]
    limit: usize,
    /// How it is written
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

/// The samples that a text such as `02:10..02:20` means.
fn side(timeline: &mut Timeline, zone: &Zone, time: Option<&str>) -> anyhow::Result<Side> {
    let stand = standpoint(timeline);
    let wall = |text: &str| {
        let when = When::parse(text).map_err(Misuse)?;
        when.resolve(stand, zone.time_zone()).ok_or_else(|| Misuse("there is no such day".to_owned()))
    };
    let (from, until) = match time.map(|time| time.split_once("..")) {
        None => (stand.newest, stand.newest),
        Some(None) => {
            let wall = wall(time.unwrap_or_default())?;
            (wall, wall)
        }
        Some(Some((from, until))) => {
            let wall = |text: &str, open| if text.is_empty() { Ok(open) } else { wall(text) };
            (wall(from, stand.first)?, wall(until, stand.newest)?)
        }
    };
    let (from, until) = (from.min(until), from.max(until));
    if until < stand.first || from > stand.newest {
        let (first, newest) = (zone.date_time(stand.first), zone.date_time(stand.newest));
        return Err(Misuse(format!(
            "nothing was recorded then; the recording reaches from {first} to {newest}"
        ))
        .into());
    }
    // A span reaches from one reading to another, those that are nearest to what was asked for; its first sample is the one
    // after the first of them.
    let (first, last) = (nearest(timeline, from), nearest(timeline, until));
    Ok(Side::of(timeline, (first + 1).min(last)..=last)?)
}

/// The reading that is nearest to a time.
fn nearest(timeline: &Timeline, wall: i64) -> usize {
    let at = timeline.at(wall);
    let away = |number| timeline.moment(number).map_or(u64::MAX, |moment| moment.wall_ns.abs_diff(wall));
    if away(at + 1) < away(at) { at + 1 } else { at }
}

impl Compare {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        let (path, time) = at_time(&self.a);
        let mut first = recordings::open(&[path.to_owned()])?;
        let zone = Zone::named(&first.timeline.host().time_zone);
        let a = side(&mut first.timeline, &zone, time)?;
        let (other, other_time) = at_time(&self.b);
        let (b, other_zone) = if other.exists() {
            let mut second = recordings::open(&[PathBuf::from(other)])?;
            first.problems.append(&mut second.problems);
            let zone = Zone::named(&second.timeline.host().time_zone);
            (side(&mut second.timeline, &zone, other_time)?, zone)
        } else {
            let time = self.b.strip_prefix('@').unwrap_or(&self.b);
            When::parse(time.split("..").next().unwrap_or_default())
                .map_err(|_| Misuse(format!("'{}' is neither a recording nor a time", self.b)))?;
            (side(&mut first.timeline, &zone, Some(time))?, zone.clone())
        };
        for problem in &first.problems {
            super::problem::say(problem);
        }
        let comparison = compare(&a, &b);
        let mut out = io::BufWriter::new(io::stdout().lock());
        match self.format {
            Format::Text => self.text(&[(&a, &zone), (&b, &other_zone)], &comparison, &mut out)?,
            Format::Json => {
                let sides = [(&a, &zone), (&b, &other_zone)].map(|(side, zone)| {
                    json!({
                        "host": side.host.name, "from": zone.rfc3339(side.from_ns),
                        "until": zone.rfc3339(side.until_ns), "gap": side.gap,
                    })
                });
                let object = json!({
                    "a": sides[0], "b": sides[1], "by_program": comparison.by_program,
                    "machine": comparison.machine.iter().map(pair).collect::<Vec<_>>(),
                    "parts": comparison.parts.iter().map(pair).collect::<Vec<_>>(),
                    "processes": comparison.processes.iter().map(process).collect::<Vec<_>>(),
                });
                serde_json::to_writer_pretty(&mut out, &object)?;
                writeln!(out)?;
            }
        }
        out.flush()?;
        Ok(None)
    }

    fn text(
        &self,
        sides: &[(&Side, &Zone); 2],
        comparison: &Comparison,
        out: &mut impl Write,
    ) -> io::Result<()> {
        for (letter, (side, zone)) in ["A", "B"].iter().zip(sides) {
            writeln!(out, "{letter}  {}  {}", side.host.name, span(side, zone))?;
        }
        for (title, pairs) in [("The machine", &comparison.machine), ("Its parts", &comparison.parts)] {
            if !pairs.is_empty() {
                writeln!(out, "\n{title:<30} {:>12} {:>12} {:>12}", "A", "B", "difference")?;
            }
            for pair in pairs.iter().take(self.limit) {
                let name = label(pair);
                let [a, b, difference] = cells(pair);
                writeln!(out, "{name:<30} {a:>12} {b:>12} {difference:>12}")?;
            }
            more(pairs.len(), self.limit, out)?;
        }
        let title = if comparison.by_program { "Programs" } else { "Processes" };
        if !comparison.processes.is_empty() {
            writeln!(out, "\n{title}")?;
        }
        for process in comparison.processes.iter().take(self.limit) {
            let (who, presence) = (who(process), presence_words(process));
            let line =
                format!("{who:<28} {:<10} {presence:<10} {}", process.user, changes(process).join(", "));
            writeln!(out, "{}", line.trim_end())?;
        }
        more(comparison.processes.len(), self.limit, out)
    }
}

fn more(count: usize, limit: usize, out: &mut impl Write) -> io::Result<()> {
    if count > limit { writeln!(out, "and {} more; --limit shows them", count - limit) } else { Ok(()) }
}

fn pair(pair: &Pair) -> Json {
    let denied: Vec<&str> = [("a", &pair.a), ("b", &pair.b)]
        .into_iter()
        .filter(|(_, value)| **value == Value::Denied)
        .map(|(side, _)| side)
        .collect();
    json!({
        "denied": denied,
        "metric": pair.metric.alias, "instance": pair.instance.as_deref(), "unit": pair.metric.unit.word(),
        "a": json_value(&pair.a), "b": json_value(&pair.b), "difference": pair.difference(),
    })
}

fn process(compared: &Compared) -> Json {
    let presence = match compared.presence {
        Presence::Both => "both",
        Presence::Appeared => "appeared",
        Presence::Vanished => "vanished",
    };
    let pairs = COMPARED.iter().zip(&compared.pairs);
    json!({
        "name": *compared.name, "user": *compared.user, "pid": compared.pid, "presence": presence,
        "count": {"a": compared.count[0], "b": compared.count[1]},
        "metrics": pairs.map(|(_, metric)| pair(metric)).collect::<Vec<_>>(),
    })
}
