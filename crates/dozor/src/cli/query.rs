//! `dozor query`: values of a recording over time, their extremes, and when a condition held.

use super::cells::Cells;
use super::options::{Misuse, duration};
use crate::look::clock::Zone;
use crate::recordings::{self, Opened};
use anyhow::Context as _;
use clap::{Args, ValueEnum};
use dozor_core::catalogue::{Eval, Kind, Metric, Unit, Value};
use dozor_core::deed::Record;
use dozor_core::expr::Expression;
use dozor_core::query::{Answer, Asked, Line, Query as Question, Stat, present};
use dozor_core::recording::{Damage, Mark, MarkKind};
use dozor_core::text::Text;
use dozor_core::timeline::Timeline;
use dozor_core::units::{NANOS, long_duration};
use dozor_core::when::{Standpoint, When};
use dozor_export::sample::json_value;
use serde_json::{Map, Value as Json, json};
use std::io::{self, Write};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How results are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people
    Text,
    /// One column for each fact
    Csv,
    /// One array
    Json,
    /// One object a line
    Jsonl,
}

#[derive(Args)]
pub struct Query {
    /// The recording, or a folder of segments; - is one that arrives on standard input
    #[arg(value_name = "FILE")]
    file: PathBuf,
    /// Metrics (dozor metrics lists them), one instance in braces: disk.busy{sda}
    #[arg(value_name = "METRIC", value_parser = Asked::parse)]
    metrics: Vec<Asked>,
    /// Say what is in it
    #[arg(long, conflicts_with_all = ["metrics", "when", "stat", "step"])]
    list: bool,
    /// Say what was done to processes, when, by whom, and what became of it
    #[arg(long, conflicts_with_all = ["metrics", "when", "stat", "step", "list"])]
    actions: bool,
    /// From this time on, such as 02:10, 'yesterday 14:00', '2031-02-14 02:10' or '10m ago' (before its end)
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true)]
    from: Option<When>,
    /// Until this time
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true)]
    to: Option<When>,
    /// One line for each such time, at round times
    #[arg(long, value_name = "DURATION", value_parser = duration)]
    step: Option<Duration>,
    /// Only processes that an expression holds for count (docs/expressions.md)
    #[arg(long = "where", value_name = "EXPRESSION", value_parser = Expression::parse)]
    whom: Option<Expression>,
    /// What becomes of several samples; without --step of all of them. Extremes tell their time and process
    #[arg(long, value_name = "STAT", value_parser = stat)]
    stat: Option<Stat>,
    /// Only while this holds; without metrics: the spans in which it held
    #[arg(long, value_name = "EXPRESSION", value_parser = Expression::parse)]
    when: Option<Expression>,
    /// How it is written
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
    #[command(flatten)]
    cells: Cells,
}

fn stat(text: &str) -> Result<Stat, String> {
    let words = Stat::ALL.map(Stat::word);
    Stat::ALL
        .into_iter()
        .find(|stat| stat.word() == text)
        .ok_or_else(|| format!("'{text}' is none of {}", words.join(", ")))
}

/// The instants that a timeline reaches over, seen from its end.
pub fn standpoint(timeline: &Timeline) -> Standpoint {
    let wall = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
    let newest = wall(timeline.end().saturating_sub(1));
    Standpoint { first: wall(timeline.first()), newest, shown: newest }
}

/// The samples from one time up to another.
pub fn range(
    timeline: &Timeline,
    zone: &Zone,
    from: Option<&When>,
    to: Option<&When>,
) -> Result<Range<usize>, Misuse> {
    let stand = standpoint(timeline);
    let wall = |when: Option<&When>, usual: i64| match when {
        None => Ok(usual),
        Some(when) => {
            when.resolve(stand, zone.time_zone()).ok_or_else(|| Misuse("there is no such day".to_owned()))
        }
    };
    let (from, to) = (wall(from, i64::MIN)?, wall(to, i64::MAX)?);
    let begin = (timeline.first()..timeline.end())
        .find(|number| timeline.moment(*number).is_some_and(|moment| moment.wall_ns >= from));
    let end = if to < stand.first { timeline.first() } else { timeline.at(to) + 1 };
    let begin = begin.unwrap_or(timeline.end());
    if begin >= end {
        let day = |wall| zone.date_time(wall);
        return Err(Misuse(format!(
            "nothing was recorded then; the recording reaches from {} to {}",
            day(stand.first),
            day(stand.newest)
        )));
    }
    Ok(begin..end)
}

impl Query {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        self.cells.check(self.format == Format::Csv)?;
        if !self.list && !self.actions && self.metrics.is_empty() && self.when.is_none() {
            return Err(Misuse("a metric is missing; --list says what there is".to_owned()).into());
        }
        for asked in &self.metrics {
            if let Some(stat) = self.stat
                && stat.unit(asked.metric).is_none()
            {
                let alias = asked.metric.alias;
                return Err(Misuse(format!("{alias} cannot be added up over time; only rates can")).into());
            }
            if matches!(asked.metric.unit, Unit::Text) && self.stat.is_some_and(|stat| stat != Stat::Last) {
                return Err(
                    Misuse(format!("{} is a text: of it there is only last", asked.metric.alias)).into()
                );
            }
        }
        let Opened { mut timeline, problems, .. } = recordings::open(std::slice::from_ref(&self.file))?;
        for problem in problems {
            super::problem::say(&problem);
        }
        let zone = Zone::named(&timeline.host().time_zone);
        let numbers = range(&timeline, &zone, self.from.as_ref(), self.to.as_ref())?;
        let mut out = io::BufWriter::new(io::stdout().lock());
        if self.actions {
            self.actions(&timeline, &numbers, &zone, &mut out)?;
        } else if self.list {
            self.list(&mut timeline, numbers, &zone, &mut out)?;
        } else {
            let question = Question {
                metrics: self.metrics.clone(),
                whom: self.whom.clone(),
                when: self.when.clone(),
                step_ns: self.step.map(|step| (step.as_nanos() as i64).max(1)),
                stat: self.stat,
                me: dozor_linux::own::user().to_string(),
            };
            let answer = question.answer(&timeline, numbers).context("a part of it cannot be read")?;
            if self.metrics.is_empty() {
                self.spans(&answer, &zone, &mut out)?;
            } else {
                self.values(&answer, &zone, &mut out)?;
            }
        }
        out.flush()?;
        Ok(None)
    }

    fn values(&self, answer: &Answer, zone: &Zone, out: &mut impl Write) -> anyhow::Result<()> {
        let stat = self.stat.or(self.step.map(|_| Stat::Mean));
        match self.format {
            Format::Text => self.text(answer, zone, stat, out)?,
            Format::Csv => {
                let mut csv = csv::Writer::from_writer(out);
                csv.write_record([
                    "from", "until", "metric", "instance", "stat", "of", "value", "unit", "at", "pid",
                    "name", "known", "unknown",
                ])?;
                for line in &answer.lines {
                    let time = |wall: Option<i64>| wall.map_or(String::new(), |wall| zone.rfc3339(wall));
                    csv.write_record([
                        zone.rfc3339(line.from_ns),
                        zone.rfc3339(line.until_ns),
                        line.metric.alias.to_owned(),
                        self.cells.text(line.instance.as_deref().unwrap_or_default()),
                        stat_of(line, stat).map_or("", Stat::word).to_owned(),
                        whose(line, stat).to_owned(),
                        self.cells.value(&line.value, |number| number.to_string()),
                        line.unit.word().to_owned(),
                        time(line.at_ns),
                        line.who.as_ref().map_or(String::new(), |who| who.key.pid.to_string()),
                        line.who.as_ref().map_or(String::new(), |who| self.cells.text(&who.name)),
                        line.known.to_string(),
                        line.unknown.to_string(),
                    ])?;
                }
                csv.flush()?;
            }
            Format::Json | Format::Jsonl => {
                let lines = answer.lines.iter().map(|line| object(line, zone, stat));
                self.json(lines, out)?;
            }
        }
        Ok(())
    }

    fn json(&self, lines: impl Iterator<Item = Json>, out: &mut impl Write) -> anyhow::Result<()> {
        if self.format == Format::Json {
            serde_json::to_writer_pretty(&mut *out, &lines.collect::<Vec<_>>())?;
            writeln!(out)?;
        } else {
            for line in lines {
                serde_json::to_writer(&mut *out, &line)?;
                writeln!(out)?;
            }
        }
        Ok(())
    }

    fn text(&self, answer: &Answer, zone: &Zone, stat: Option<Stat>, out: &mut impl Write) -> io::Result<()> {
        let mut heading = None;
        let mut day = String::new();
        let mut until = None;
        for line in &answer.lines {
            let title = (line.metric.alias, line.instance.clone());
            if heading.as_ref() != Some(&title) {
                if heading.is_some() {
                    writeln!(out)?;
                }
                let instance = line.instance.as_ref().map_or(String::new(), |name| format!("{{{name}}}"));
                let of = match whose(line, stat) {
                    "process" => ", of a single process",
                    "processes" => ", of all processes together",
                    _ => "",
                };
                let how = stat_of(line, stat).map_or(String::new(), |stat| format!(", {}", stat.word()));
                writeln!(out, "{}{instance}{how}{of}, in {}", line.metric.alias, unit_word(line.unit))?;
                heading = Some(title);
                (day, until) = (String::new(), None);
            }
            let shown = if stat.is_some() && self.step.is_none() {
                line.at_ns.unwrap_or(line.until_ns)
            } else {
                line.until_ns
            };
            let shown = if self.step.is_some() { line.from_ns } else { shown };
            if zone.day(shown) != day {
                day = zone.day(shown);
                writeln!(out, "{day}")?;
            }
            if let Some(gap) = until.map(|until| line.from_ns - until).filter(|gap| *gap > self.gap_from()) {
                writeln!(out, "  no readings for {}", long_duration(gap as f64 / NANOS as f64))?;
            }
            until = Some(line.until_ns);
            let who =
                line.who.as_ref().map_or(String::new(), |who| format!("  {}[{}]", who.name, who.key.pid));
            let at = match line.at_ns {
                Some(at) if self.step.is_some() => format!("  at {}", zone.time(at)),
                _ => String::new(),
            };
            let unknown = if line.unknown > 0 && line.known > 0 {
                format!("  (not known for {} of {} samples)", line.unknown, line.known + line.unknown)
            } else {
                String::new()
            };
            let value = line.value.short(line.unit);
            let text = format!("{}  {value:>10}{at}{who}{unknown}", zone.time(shown));
            writeln!(out, "{}", text.trim_end())?;
        }
        if answer.lines.is_empty() {
            // Values are asked for, not a condition; or nobody met the one that they were asked under.
            let told =
                if self.when.is_some() { "it never held" } else { "there is nothing of that in this time" };
            writeln!(out, "{told}")?;
        }
        Ok(())
    }

    /// A time without lines from which on it is worth a word.
    fn gap_from(&self) -> i64 {
        self.step.map_or(NANOS, |step| step.as_nanos() as i64 / 2)
    }

    fn spans(&self, answer: &Answer, zone: &Zone, out: &mut impl Write) -> anyhow::Result<()> {
        let seconds = |from: i64, until: i64| (until - from) as f64 / NANOS as f64;
        match self.format {
            Format::Text => {
                for span in &answer.spans {
                    let length = long_duration(seconds(span.from_ns, span.until_ns));
                    let (from, until) = (zone.date_time(span.from_ns), zone.time(span.until_ns));
                    writeln!(out, "{from}  until {until}  {length}")?;
                }
                let all: f64 = answer.spans.iter().map(|span| seconds(span.from_ns, span.until_ns)).sum();
                let unknown = match answer.undecided {
                    0 => String::new(),
                    1 => "; unknown in 1 sample".to_owned(),
                    many => format!("; unknown in {many} samples"),
                };
                match answer.spans.len() {
                    0 => writeln!(out, "it never held{unknown}")?,
                    1 => writeln!(out, "it held once{unknown}")?,
                    many => writeln!(out, "it held {many} times, {} in all{unknown}", long_duration(all))?,
                }
            }
            Format::Csv => {
                let mut csv = csv::Writer::from_writer(out);
                csv.write_record(["from", "until", "seconds", "samples"])?;
                for span in &answer.spans {
                    csv.write_record([
                        zone.rfc3339(span.from_ns),
                        zone.rfc3339(span.until_ns),
                        seconds(span.from_ns, span.until_ns).to_string(),
                        span.samples.to_string(),
                    ])?;
                }
                csv.flush()?;
            }
            Format::Json | Format::Jsonl => {
                let lines = answer.spans.iter().map(|span| {
                    json!({
                        "from": zone.rfc3339(span.from_ns), "until": zone.rfc3339(span.until_ns),
                        "seconds": seconds(span.from_ns, span.until_ns), "samples": span.samples,
                    })
                });
                self.json(lines, out)?;
            }
        }
        Ok(())
    }

    /// What was done to processes, a line for each target.
    fn actions(
        &self,
        timeline: &Timeline,
        numbers: &Range<usize>,
        zone: &Zone,
        out: &mut impl Write,
    ) -> anyhow::Result<()> {
        let wall = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
        // What was done after the last reading of the range belongs to it where the recording ends there.
        let until = if numbers.end == timeline.end() { i64::MAX } else { wall(numbers.end - 1) };
        let from = if numbers.start == timeline.first() { i64::MIN } else { wall(numbers.start) };
        let marks = timeline.marks().into_iter().filter(|mark| (from..=until).contains(&mark.wall_ns));
        let done: Vec<(i64, Record)> =
            marks.flat_map(|mark| mark.deeds.into_iter().map(move |record| (mark.wall_ns, record))).collect();
        match self.format {
            Format::Text => {
                for (wall, record) in &done {
                    writeln!(out, "{}  {}", zone.date_time(*wall), record.words())?;
                }
            }
            Format::Csv => {
                let mut csv = csv::Writer::from_writer(out);
                csv.write_record([
                    "time", "by", "deed", "pid", "start", "name", "user", "before", "after", "outcome",
                    "done",
                ])?;
                for (wall, record) in &done {
                    csv.write_record([
                        zone.rfc3339(*wall),
                        self.cells.text(&record.by),
                        record.deed.clone(),
                        record.pid.to_string(),
                        record.start.to_string(),
                        self.cells.text(&record.name),
                        self.cells.text(&record.user),
                        record.before.clone(),
                        record.after.clone(),
                        self.cells.text(&record.outcome),
                        record.done.to_string(),
                    ])?;
                }
                csv.flush()?;
            }
            Format::Json | Format::Jsonl => {
                let lines = done.iter().map(|(wall, record)| {
                    let text = |text: &str| (!text.is_empty()).then(|| text.to_owned());
                    json!({
                        "time": zone.rfc3339(*wall), "by": record.by, "deed": record.deed, "pid": record.pid,
                        "start": record.start, "name": record.name, "user": record.user,
                        "before": text(&record.before), "after": text(&record.after), "outcome": record.outcome,
                        "done": record.done,
                    })
                });
                self.json(lines, out)?;
            }
        }
        Ok(())
    }

    fn list(
        &self,
        timeline: &mut Timeline,
        numbers: Range<usize>,
        zone: &Zone,
        out: &mut impl Write,
    ) -> anyhow::Result<()> {
        let host = timeline.host().clone();
        let wall = |timeline: &Timeline, number| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
        let (from, until) = (wall(timeline, numbers.start), wall(timeline, numbers.end - 1));
        let within = |at: i64| at >= from && at <= until;
        let marks: Vec<_> = timeline.marks().into_iter().filter(|mark| within(mark.wall_ns)).collect();
        let gaps: Vec<(i64, i64)> = numbers
            .clone()
            .skip(1)
            .filter(|number| timeline.moment(*number).is_some_and(|moment| moment.seconds.is_none()))
            .map(|number| (wall(timeline, number - 1), wall(timeline, number)))
            .collect();
        let damages = timeline.damages();
        let every = timeline.every();
        let metrics = present(timeline)?;
        if self.format != Format::Text {
            let object = json!({
                "host": host.name, "kernel": host.kernel, "cores": host.cores, "time_zone": host.time_zone,
                "note": host.note, "every_seconds": every,
                "from": zone.rfc3339(from), "until": zone.rfc3339(until), "readings": numbers.len(),
                "gaps": gaps.iter().map(|(from, until)| json!({
                    "from": zone.rfc3339(*from), "until": zone.rfc3339(*until),
                })).collect::<Vec<_>>(),
                "damages": damages.iter().map(ToString::to_string).collect::<Vec<_>>(),
                "marks": marks.iter().map(|mark| json!({
                    "at": zone.rfc3339(mark.wall_ns), "kind": mark.kind.word(), "text": mark.text,
                    "readings": mark.readings,
                    "over": mark.found.as_ref().map(|found| found.until_ns.is_some()),
                })).collect::<Vec<_>>(),
                "metrics": metrics.iter().map(|(metric, instances)| json!({
                    "alias": metric.alias, "name": metric.name, "unit": metric.unit.word(),
                    "of": if matches!(metric.eval, Eval::Process(_)) { "process" } else { "system" },
                    "instances": instances.iter().map(|name| &**name).collect::<Vec<_>>(),
                })).collect::<Vec<_>>(),
            });
            if self.format == Format::Csv {
                return Err(Misuse("--list is written as text or json".to_owned()).into());
            }
            return self.json(std::iter::once(object), out);
        }
        let note = if host.note.is_empty() { String::new() } else { format!(" ({})", host.note) };
        writeln!(out, "host      {}{note}, {}, {} cores", host.name, host.kernel, host.cores)?;
        let known =
            if host.time_zone.is_empty() { "UTC: the host's zone is not known" } else { &host.time_zone };
        writeln!(out, "zone      {known}")?;
        let length = long_duration((until - from) as f64 / NANOS as f64);
        writeln!(out, "time      {} to {}, {length}", zone.date_time(from), zone.date_time(until))?;
        let every = every.map_or(String::new(), |every| format!(", one every {}", long_duration(every)));
        writeln!(out, "readings  {}{every}", numbers.len())?;
        list_rest(&gaps, &damages, &marks, &metrics, zone, out)
    }
}

/// Gaps, damages, marks and metrics, a line each.
fn list_rest(
    gaps: &[(i64, i64)],
    damages: &[Damage],
    marks: &[Mark],
    metrics: &[(&'static Metric, Vec<Text>)],
    zone: &Zone,
    out: &mut impl Write,
) -> anyhow::Result<()> {
    for (from, until) in gaps {
        let length = long_duration((until - from) as f64 / NANOS as f64);
        writeln!(out, "gap       {}, {length}", zone.date_time(*from))?;
    }
    for damage in damages {
        writeln!(out, "damage    {damage}")?;
    }
    for mark in marks {
        let readings = match (mark.kind, mark.readings) {
            (MarkKind::Lost, Some(readings)) => format!("{readings} readings: "),
            _ => String::new(),
        };
        let kind = match &mark.found {
            Some(found) if found.until_ns.is_some() => "over",
            _ => mark.kind.word(),
        };
        writeln!(out, "{kind:<9} {}  {readings}{}", zone.date_time(mark.wall_ns), mark.text)?;
    }
    for (metric, instances) in metrics {
        let names: Vec<&str> = instances.iter().map(|name| &**name).collect();
        let text = format!("metric    {:<16} {:<10} {}", metric.alias, metric.unit.word(), names.join(" "));
        writeln!(out, "{}", text.trim_end())?;
    }
    Ok(())
}

fn unit_word(unit: Unit) -> &'static str {
    let word = unit.word();
    if word.is_empty() { "numbers" } else { word }
}

/// What became of it: of names that happen to be numbers there is no mean, but a last one.
fn stat_of(line: &Line, stat: Option<Stat>) -> Option<Stat> {
    let is_name = line.metric.kind == Kind::Label;
    stat.map(|stat| if is_name && stat == Stat::Mean { Stat::Last } else { stat })
}

/// Whose a value is: the largest and the smallest of a metric of processes are those of a single one, so they may be below
/// the mean of all of them together.
fn whose(line: &Line, stat: Option<Stat>) -> &'static str {
    match (line.metric.eval, stat) {
        (Eval::System(_), _) => "machine",
        (Eval::Process(_), Some(Stat::Max | Stat::Min)) => "process",
        (Eval::Process(_), _) => "processes",
    }
}

fn object(line: &Line, zone: &Zone, stat: Option<Stat>) -> Json {
    let mut object = Map::new();
    object.insert("from".to_owned(), zone.rfc3339(line.from_ns).into());
    object.insert("until".to_owned(), zone.rfc3339(line.until_ns).into());
    object.insert("metric".to_owned(), line.metric.alias.into());
    if let Some(instance) = &line.instance {
        object.insert("instance".to_owned(), (**instance).into());
    }
    if let Some(stat) = stat_of(line, stat) {
        object.insert("stat".to_owned(), stat.word().into());
    }
    object.insert("of".to_owned(), whose(line, stat).into());
    object.insert("value".to_owned(), json_value(&line.value));
    if line.value == Value::Denied {
        object.insert("denied".to_owned(), true.into());
    }
    object.insert("unit".to_owned(), line.unit.word().into());
    if let Some(at) = line.at_ns {
        object.insert("at".to_owned(), zone.rfc3339(at).into());
    }
    if let Some(who) = &line.who {
        object.insert("pid".to_owned(), who.key.pid.into());
        object.insert("name".to_owned(), (*who.name).into());
    }
    object.insert("known".to_owned(), line.known.into());
    object.insert("unknown".to_owned(), line.unknown.into());
    Json::Object(object)
}

/// A path and a time behind its last @, as in `night.dozor@02:10`.
pub fn at_time(text: &str) -> (&Path, Option<&str>) {
    match text.rsplit_once('@') {
        // A file may have the sign in its name.
        Some((path, time)) if !Path::new(text).exists() => (Path::new(path), Some(time)),
        _ => (Path::new(text), None),
    }
}
