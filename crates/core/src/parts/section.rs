//! Tables of parts, and how they are made.

use crate::catalogue::{Instances, Unit, Value, listed_system};
use crate::lane::Severity;
use crate::sample::Sample;
use crate::text::Text;
use std::collections::HashMap;

/// Names a part, the same in every sample.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum PartId {
    /// A logical processor.
    Core(i64),
    /// A source of interrupts.
    Interrupt(Text),
    /// A kind of deferred interrupt work.
    Softirq(Text),
    /// One of our own figures: a class of CPU time, a kind of memory, a rate of the whole machine.
    Figure(&'static str),
    /// A block device or partition.
    Device(Text),
    /// A file system, by its mount point.
    Mount(Text),
    /// A control group that limits something, by its path.
    Group(Text),
    /// A network interface.
    Interface(Text),
    /// An address that this machine talks to.
    Peer(Text),
    /// A TCP connection, by its cookie.
    Connection(i64),
    /// A socket that waits for others, by its cookie.
    Listener(i64),
    /// TCP traffic that no process could be found for.
    Unattributed,
    /// A sensor.
    Sensor(Text),
    /// A battery.
    Battery(Text),
    /// A graphics processor.
    Gpu(Text),
}

/// How a column is drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Look {
    /// Text at the left, so many cells wide.
    Text(u16),
    /// A number at the right.
    Number,
    /// A percentage as a bar with its number.
    Bar,
    /// A sentence that takes what is left.
    Rest,
}

/// One column.
#[derive(Clone, Debug, PartialEq)]
pub struct Column {
    /// Heading.
    pub heading: &'static str,
    /// Unit of its numbers.
    pub unit: Unit,
    /// How it is drawn.
    pub look: Look,
    /// On a narrow screen columns with larger numbers go first; 0 always stays.
    pub keep: u8,
}

/// One part.
#[derive(Clone, Debug, PartialEq)]
pub struct PartRow {
    /// Which part.
    pub id: PartId,
    /// How bad it is.
    pub severity: Severity,
    /// It belongs to the row above it: a partition.
    pub under: bool,
    /// A value for each column.
    pub cells: Vec<Value>,
    /// Shares in percent that are drawn as one stacked bar; empty where there is none.
    pub stack: Vec<f64>,
}

/// What a section looks like beyond its table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// Nothing more.
    Table,
    /// Rows carry the classes of CPU time; where they do not fit, a map of cells takes their place.
    Cores,
    /// All rows together are one stacked strip.
    Strip,
}

/// One table of parts.
#[derive(Clone, Debug, PartialEq)]
pub struct Section {
    /// What the parts are.
    pub title: &'static str,
    /// What it looks like.
    pub shape: Shape,
    /// Columns; the first names the part.
    pub columns: Vec<Column>,
    /// Parts.
    pub rows: Vec<PartRow>,
    /// What must be known to read it right.
    pub note: Option<String>,
}

impl Section {
    pub(super) fn new(title: &'static str, first: &'static str, width: u16) -> Section {
        let name = Column { heading: first, unit: Unit::Text, look: Look::Text(width), keep: 0 };
        Section { title, shape: Shape::Table, columns: vec![name], rows: vec![], note: None }
    }

    pub(super) fn add(&mut self, id: PartId, name: &Text) -> &mut PartRow {
        let cells = vec![Value::from(name)];
        self.rows.push(PartRow { id, severity: Severity::Fine, under: false, cells, stack: vec![] });
        let last = self.rows.len() - 1;
        &mut self.rows[last]
    }

    /// Adds a column with a value for each row.
    pub(super) fn column(&mut self, column: Column, mut value: impl FnMut(&PartRow) -> Value) {
        for row in &mut self.rows {
            let value = value(row);
            row.cells.push(value);
        }
        self.columns.push(column);
    }

    pub(super) fn text(
        &mut self,
        heading: &'static str,
        width: u16,
        keep: u8,
        value: impl FnMut(&PartRow) -> Value,
    ) {
        self.column(Column { heading, unit: Unit::Text, look: Look::Text(width), keep }, value);
    }

    /// Adds a column whose values come in the order of the rows.
    pub(super) fn values(&mut self, column: Column, mut values: impl Iterator<Item = Value>) {
        self.column(column, |_| values.next().unwrap_or(Value::Absent));
    }

    /// Adds a metric of the catalogue; its instances are found by the names in the first column.
    pub(super) fn metric(
        &mut self,
        sample: &Sample,
        alias: &'static str,
        heading: &'static str,
        look: Look,
        keep: u8,
    ) {
        let metric = listed_system(alias);
        let values: HashMap<Text, Value> = match metric.of_system(sample) {
            Instances::Many(values) => values.into_iter().collect(),
            Instances::One(_) => HashMap::new(),
        };
        let column = Column { heading, unit: metric.unit, look, keep };
        self.column(column, |row| match &row.cells[0] {
            Value::Text(name) => values.get(name).cloned().unwrap_or(Value::Absent),
            _ => Value::Absent,
        });
    }

    /// Numbers of metrics, one column each.
    pub(super) fn numbers(&mut self, sample: &Sample, columns: &[(&'static str, &'static str, u8)]) {
        for (alias, heading, keep) in columns {
            self.metric(sample, alias, heading, Look::Number, *keep);
        }
    }

    /// The value of a row in the column with this heading.
    pub fn value(&self, row: usize, heading: &str) -> Option<&Value> {
        let at = self.columns.iter().position(|column| column.heading == heading)?;
        self.rows.get(row)?.cells.get(at)
    }
}

/// A figure of the whole machine with its explanation, as a row of a table of figures.
pub(super) fn figures(
    title: &'static str,
    sample: &Sample,
    rows: &[(&'static str, &'static str, [f64; 3])],
) -> Section {
    let mut section = Section::new(title, "what", 24);
    let metrics: Vec<_> = rows.iter().map(|(alias, ..)| listed_system(alias)).collect();
    let values: Vec<Value> = metrics
        .iter()
        .map(|metric| match metric.of_system(sample) {
            Instances::One(value) => value,
            Instances::Many(_) => Value::Absent,
        })
        .collect();
    for ((alias, name, thresholds), value) in rows.iter().zip(&values) {
        let row = section.add(PartId::Figure(alias), &Text::from(*name));
        row.severity = value.number().map_or(Severity::Fine, |number| Severity::reached(number, *thresholds));
    }
    let shown = metrics.iter().zip(&values).map(|(metric, value)| match value {
        Value::Number(_) => Value::Text(with_unit(value, metric.unit).into()),
        other => other.clone(),
    });
    let now = Column { heading: "now", unit: Unit::Number, look: Look::Number, keep: 0 };
    section.values(now, shown);
    let help = metrics.iter().map(|metric| Value::Word(metric.help));
    section.values(meaning(), help);
    section
}

/// Heading of the column that explains.
const MEANING: &str = "what it means";

impl Section {
    /// What a row means, in tables that explain their rows.
    pub fn meaning(&self, row: usize) -> Option<&str> {
        let at = self.columns.len().checked_sub(1).filter(|at| self.columns[*at].heading == MEANING)?;
        self.rows.get(row)?.cells[at].text()
    }
}

/// The column that explains.
pub(super) fn meaning() -> Column {
    Column { heading: MEANING, unit: Unit::Text, look: Look::Rest, keep: 1 }
}

/// A number with its unit, for tables whose rows have different ones.
fn with_unit(value: &Value, unit: Unit) -> String {
    let short = value.short(unit);
    match unit {
        Unit::Percent | Unit::PercentOfCore => format!("{short} %"),
        Unit::BytesPerSecond | Unit::PerSecond => format!("{short}/s"),
        _ => short,
    }
}

/// A limit that nothing reaches.
pub(super) const NEVER: [f64; 3] = [f64::INFINITY; 3];
