//! Recordings as tables: columns with types and units, filled sample by sample, written in pieces. Memory does not grow with the
//! length of what is written.
//!
//! [`Table`] says which columns there are and fills a [`Batch`]; [`csv`], [`json`], [`text`] and [`parquet`] write batches.
//! The schema has a version, [`VERSION`]; `docs/output.md` is made from it.

pub mod csv;
mod document;
pub mod json;
pub mod parquet;
mod stream;
mod tables;
pub mod text;

pub use document::markdown;
pub use stream::{marks_in, stream};
pub use tables::{Chosen, Table, Which, chosen_rows};

use dozor_core::catalogue::{Metric, Unit, Value};
use dozor_core::text::Text;

/// The version of the schema: it grows when a column changes its meaning, its type or its unit, or goes; new columns do not count.
pub const VERSION: u32 = 1;

/// What values of a column are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Type {
    /// Instants: nanoseconds since 1970 (UTC).
    Time,
    /// Whole numbers.
    Whole,
    /// Numbers.
    Number,
    /// Texts.
    Text,
}

impl Type {
    /// Its word in documents.
    pub const fn word(self) -> &'static str {
        match self {
            Type::Time => "time",
            Type::Whole => "whole number",
            Type::Number => "number",
            Type::Text => "text",
        }
    }
}

/// A column.
#[derive(Clone, Debug, PartialEq)]
pub struct Column {
    /// Its key.
    pub key: &'static str,
    /// What its values are.
    pub kind: Type,
    /// Their unit; empty where they have none.
    pub unit: &'static str,
    /// What it means.
    pub help: &'static str,
    /// The metric that it shows, where it is one.
    pub metric: Option<&'static Metric>,
}

impl Column {
    const fn new(key: &'static str, kind: Type, unit: &'static str, help: &'static str) -> Column {
        Column { key, kind, unit, help, metric: None }
    }

    /// Whether it says when a row is: as a time for people.
    pub fn is_instant(&self) -> bool {
        self.kind == Type::Time && self.metric.is_none()
    }

    /// Whether it is a metric that is an instant: in seconds since 1970, as everywhere.
    pub fn is_seconds(&self) -> bool {
        self.kind == Type::Time && self.metric.is_some()
    }

    /// The column of a metric.
    pub fn of(metric: &'static Metric) -> Column {
        let kind = match metric.unit {
            Unit::Text => Type::Text,
            Unit::Time => Type::Time,
            _ if metric.is_whole() => Type::Whole,
            _ => Type::Number,
        };
        let unit = match metric.unit {
            Unit::Text | Unit::Number | Unit::Time => "",
            unit => unit.word(),
        };
        Column { key: metric.alias, kind, unit, help: metric.help, metric: Some(metric) }
    }
}

/// Values of a column, one for each row that has one.
#[derive(Clone, Debug)]
pub enum Values {
    /// Instants and whole numbers.
    Whole(Vec<i64>),
    /// Numbers.
    Number(Vec<f64>),
    /// Texts.
    Text(Vec<Text>),
}

/// A column's values for the rows of a batch.
#[derive(Clone, Debug)]
pub struct Filled {
    /// Those that are known.
    pub values: Values,
    /// For each row 1 where it has a value, else 0.
    pub there: Vec<i16>,
    /// Rows of which it may not be seen.
    pub denied: Vec<u32>,
    /// Rows whose number is only the least that it may be.
    pub least: Vec<u32>,
}

/// One value of a row.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Cell<'a> {
    /// Not known, or not there.
    Absent,
    /// Not permitted.
    Denied,
    /// An instant in nanoseconds, or a whole number.
    Whole(i64),
    /// A number.
    Number(f64),
    /// A number, or more than that.
    Least(f64),
    /// A text.
    Text(&'a str),
}

/// Some rows, column by column.
#[derive(Clone, Debug)]
pub struct Batch {
    /// What was filled in.
    pub columns: Vec<Filled>,
    /// How many rows.
    pub rows: usize,
}

impl Filled {
    fn new(kind: Type) -> Filled {
        let values = match kind {
            Type::Time | Type::Whole => Values::Whole(vec![]),
            Type::Number => Values::Number(vec![]),
            Type::Text => Values::Text(vec![]),
        };
        Filled { values, there: vec![], denied: vec![], least: vec![] }
    }

    fn clear(&mut self) {
        match &mut self.values {
            Values::Whole(values) => values.clear(),
            Values::Number(values) => values.clear(),
            Values::Text(values) => values.clear(),
        }
        self.there.clear();
        self.denied.clear();
        self.least.clear();
    }

    fn absent(&mut self) {
        self.there.push(0);
    }

    fn denied(&mut self) {
        self.denied.push(self.there.len() as u32);
        self.there.push(0);
    }

    fn whole(&mut self, value: i64) {
        if let Values::Whole(values) = &mut self.values {
            values.push(value);
            self.there.push(1);
        } else {
            self.number(value as f64);
        }
    }

    fn number(&mut self, value: f64) {
        match &mut self.values {
            Values::Number(values) if value.is_finite() => values.push(value),
            Values::Whole(values) if value.is_finite() => values.push(value.round() as i64),
            _ => return self.absent(),
        }
        self.there.push(1);
    }

    fn text(&mut self, value: Text) {
        match &mut self.values {
            Values::Text(values) => {
                values.push(value);
                self.there.push(1);
            }
            _ => self.absent(),
        }
    }

    /// The same, or of a number the least that it may be.
    fn bounded(&mut self, (value, is_least): (Value, bool), kind: Type) {
        if is_least {
            self.least.push(self.there.len() as u32);
        }
        self.value(value, kind);
    }

    /// A value of a metric; instants of metrics are in seconds.
    fn value(&mut self, value: Value, kind: Type) {
        match value {
            Value::Number(seconds) if kind == Type::Time => self.whole((seconds * 1e9).round() as i64),
            Value::Number(number) => self.number(number),
            Value::Text(text) => self.text(text),
            Value::Word(word) => self.text(dozor_core::text::word(word)),
            Value::Absent => self.absent(),
            Value::Denied => self.denied(),
        }
    }
}

impl Batch {
    /// An empty one.
    pub fn new(columns: &[Column]) -> Batch {
        Batch { columns: columns.iter().map(|column| Filled::new(column.kind)).collect(), rows: 0 }
    }

    /// Empties it; what it took of memory it keeps.
    pub fn clear(&mut self) {
        self.columns.iter_mut().for_each(Filled::clear);
        self.rows = 0;
    }

    /// Goes through its rows.
    pub fn each<E>(&self, mut row: impl FnMut(&[Cell<'_>]) -> Result<(), E>) -> Result<(), E> {
        let mut next = vec![0; self.columns.len()];
        let mut next_denied = vec![0; self.columns.len()];
        let mut next_least = next_denied.clone();
        let mut cells = Vec::with_capacity(self.columns.len());
        for at in 0..self.rows {
            cells.clear();
            for (place, column) in self.columns.iter().enumerate() {
                if column.there[at] == 0 {
                    let denied = column.denied.get(next_denied[place]) == Some(&(at as u32));
                    next_denied[place] += usize::from(denied);
                    cells.push(if denied { Cell::Denied } else { Cell::Absent });
                    continue;
                }
                let index = next[place];
                next[place] += 1;
                cells.push(match &column.values {
                    Values::Whole(values) => Cell::Whole(values[index]),
                    Values::Number(values) => {
                        let least = column.least.get(next_least[place]) == Some(&(at as u32));
                        next_least[place] += usize::from(least);
                        if least { Cell::Least(values[index]) } else { Cell::Number(values[index]) }
                    }
                    Values::Text(values) => Cell::Text(&values[index]),
                });
            }
            row(&cells)?;
        }
        Ok(())
    }
}

/// What writes batches.
pub trait Sink {
    /// Writes the rows of a batch.
    fn put(&mut self, batch: &Batch) -> Result<(), WriteError>;
    /// Writes what is left; nothing comes after it.
    fn end(&mut self) -> Result<(), WriteError>;
}

/// Why a table cannot be written.
#[derive(Debug, thiserror::Error)]
pub enum WriteError {
    /// The operating system.
    #[error("{}", dozor_core::text::without_number(.0))]
    Io(#[from] std::io::Error),
    /// Parquet.
    #[error("{0}")]
    Parquet(#[from] ::parquet::errors::ParquetError),
    /// CSV.
    #[error("{0}")]
    Csv(#[from] ::csv::Error),
    /// JSON.
    #[error("{0}")]
    Json(#[from] serde_json::Error),
    /// A recording.
    #[error("{0}")]
    Read(#[from] dozor_core::recording::ReadError),
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample::process;
    use dozor_core::catalogue::listed;
    use dozor_core::clock::Zone;
    use dozor_core::demo::incidents::{World, add};
    use dozor_core::sample::Sample;

    /// Two processes have a UDP socket each, whose bytes nobody counts: one moved some over TCP, the other may not be seen.
    fn sample() -> Sample {
        let mut world = World::new();
        world.now.processes.truncate(2);
        let before = world.pass();
        add(&mut world.process(210).net_in_bytes, 3_000);
        world.process(1).net_in_bytes = dozor_core::known::Raw::DENIED;
        let now = world.pass();
        Sample::new(World::host(), Some(before), now)
    }

    #[test]
    fn what_is_only_the_least_that_it_may_be_says_so() {
        let sample = sample();
        let metrics = vec![listed("pid"), listed("net_in"), listed("net_out")];
        let chosen = Chosen { metrics: Some(metrics.clone()), ..Chosen::default() };
        let mut table = Table::new(Which::Processes, chosen).expect("a table");
        let columns = table.columns().to_vec();
        let mut batch = Batch::new(&columns);
        let zone = Zone::named("UTC");
        for _ in 0..2 {
            // A batch is used again.
            batch.clear();
            table.fill(&sample, &mut batch);
        }
        let written = |sink: &mut dyn Sink| {
            sink.put(&batch).expect("room");
            sink.end().expect("room");
        };
        let (mut json, mut csv, mut text) = (vec![], vec![], vec![]);
        written(&mut json::Rows::begin(&mut json, &columns, &zone, false));
        written(&mut csv::Csv::begin(&mut csv, &columns, &zone, str::to_owned).expect("room"));
        written(&mut text::Lines::begin(&mut text, &columns, &zone));
        let json: serde_json::Value = serde_json::from_slice(&json).expect("JSON");
        let of = |at: usize, key: &str| json[at][key].to_string();
        assert_eq!([of(0, "denied"), of(0, "at_least"), of(0, "net_in")], ["[\"net_in\"]", "null", "null"]);
        assert_eq!([of(1, "denied"), of(1, "at_least"), of(1, "net_in")], ["null", "[\"net_in\"]", "3000.0"]);
        let [csv, text] = [csv, text].map(|bytes| String::from_utf8(bytes).expect("text"));
        assert!(csv.contains(",210,3000,") && csv.contains(",1,denied,"), "{csv}");
        assert!(text.contains(" ≥2.9 k ") && text.contains(" × "), "{text}");
        let at = sample.now.processes.iter().position(|row| row.pid.value() == Some(210)).expect("it");
        assert_eq!(process(&sample.process(at), &metrics)["at_least"].to_string(), "[\"net_in\"]");
    }
}
