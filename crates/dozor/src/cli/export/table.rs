//! `dozor export --table`: recordings as tables, in pieces: while one is written the next is decoded.

use super::{Export, Source, ending, no_form};
use crate::cli::cells::Cells;
use crate::cli::options::{Kept, Misuse, order};
use crate::look::clock::Zone;
use clap::{Args, ValueEnum};
use dozor_core::catalogue::{Metric, named};
use dozor_core::rank::Order;
use dozor_core::reading::HostFacts;
use dozor_core::timeline::Timeline;
use dozor_export::table::csv::{Csv, TextCell};
use dozor_export::table::json::Rows as JsonRows;
use dozor_export::table::parquet::Parquet;
use dozor_export::table::text::Lines;
use dozor_export::table::{Chosen, Column, Sink, Table, Which, WriteError, stream};
use std::fs::File;
use std::io::{self, BufWriter, IsTerminal as _, Write};
use std::ops::Range;
use std::path::PathBuf;
use std::time::{Duration, Instant};

/// How a table is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people
    Text,
    /// RFC 4180
    Csv,
    /// One array
    Json,
    /// One object a line
    Jsonl,
    /// Apache Parquet, typed columns with units
    Parquet,
}

/// What is wanted of a table.
#[derive(Args)]
pub struct Rows {
    /// How a table is written, where the ending of the file does not say it
    #[arg(long, value_enum)]
    pub format: Option<Format>,
    #[command(flatten)]
    pub cells: Cells,
    /// Columns of a table: metrics with commas between them (docs/output.md)
    #[arg(long, value_name = "METRICS", value_delimiter = ',', value_parser = metric)]
    pub columns: Option<Vec<&'static Metric>>,
    /// Order processes of a sample by one or two metrics; a minus before one puts the largest first, a plus the smallest
    #[arg(long, value_name = "ORDER", value_parser = order, allow_hyphen_values = true)]
    pub order: Option<Order>,
    /// At most so many processes of a sample
    #[arg(long, value_name = "NUMBER")]
    pub limit: Option<usize>,
    #[command(flatten)]
    pub kept: Kept,
}

fn metric(text: &str) -> Result<&'static Metric, String> {
    named(text)
}

pub fn which(text: &str) -> Result<Which, String> {
    let words = Which::ALL.map(Which::name).join(", ");
    let found = Which::ALL.into_iter().find(|which| which.name() == text);
    found.ok_or_else(|| format!("no table is called '{text}'; there are {words}"))
}

/// Bytes in front of standard output or a file.
const BUFFER: usize = 1 << 20;

impl Rows {
    /// The table that is wanted.
    pub fn table(&self, which: Which) -> Result<Table, Misuse> {
        let narrowing = self.kept.narrowing()?;
        let chosen =
            Chosen { metrics: self.columns.clone(), narrowing, order: self.order, limit: self.limit };
        Table::new(which, chosen).map_err(Misuse)
    }

    /// How it is written: as is said, else as the ending says, else for people.
    pub fn form(&self, output: Option<&PathBuf>) -> Result<Format, Misuse> {
        let by_ending = match ending(output).as_deref() {
            Some("csv") => Some(Format::Csv),
            Some("json") => Some(Format::Json),
            Some("jsonl" | "ndjson") => Some(Format::Jsonl),
            Some("parquet") => Some(Format::Parquet),
            Some("txt") => Some(Format::Text),
            _ => None,
        };
        let to_file = output.is_some_and(|path| path.as_os_str() != "-");
        let format = self.format.or(by_ending).or((!to_file).then_some(Format::Text));
        let format =
            format.ok_or_else(|| no_form(output, ".csv, .json, .jsonl, .parquet or .txt, or --format"))?;
        self.cells.check(format == Format::Csv)?;
        Ok(format)
    }
}

/// Writes the rows of a range of samples, and says how far it is where somebody sits before it.
pub fn write<W: Write + Send>(
    timeline: &Timeline,
    numbers: Range<usize>,
    table: Table,
    form: (Format, Cells),
    out: W,
) -> Result<(), WriteError> {
    let columns = table.columns().to_vec();
    let which = table.which();
    let host = timeline.host().clone();
    let mut progress = Progress::new(numbers.len());
    stream(timeline, numbers, (table, true), || sink(form, out, (which, &columns), &host), &mut |done| {
        progress.at(done);
    })
}

/// What writes a table in a form.
pub fn sink<'a, W: Write + Send + 'a>(
    (format, cells): (Format, Cells),
    out: W,
    (which, columns): (Which, &[Column]),
    host: &HostFacts,
) -> Result<Box<dyn Sink + 'a>, WriteError> {
    let zone = Zone::named(&host.time_zone);
    let text: TextCell = if cells.spreadsheet() { |text| Cells::PROTECTED.text(text) } else { str::to_owned };
    Ok(match format {
        Format::Text => Box::new(Lines::begin(out, columns, &zone)),
        Format::Csv => Box::new(Csv::begin(out, columns, &zone, text)?),
        Format::Json => Box::new(JsonRows::begin(out, columns, &zone, false)),
        Format::Jsonl => Box::new(JsonRows::begin(out, columns, &zone, true)),
        Format::Parquet => Box::new(Parquet::begin(out, which, columns, host)?),
    })
}

impl Export {
    pub(super) fn table(&self) -> anyhow::Result<Option<i32>> {
        let Some(which) = self.table else { return Ok(None) };
        let format = self.rows.form(self.output.as_ref())?;
        let table = self.rows.table(which)?;
        let Source { timeline, numbers } = self.source()?;
        let form = (format, self.rows.cells);
        match self.output.as_ref().filter(|path| path.as_os_str() != "-") {
            None => {
                if format == Format::Parquet && io::stdout().is_terminal() {
                    return Err(
                        Misuse("Parquet is nothing for a terminal; name a file with -o".to_owned()).into()
                    );
                }
                write(&timeline, numbers, table, form, BufWriter::with_capacity(BUFFER, io::stdout()))?;
            }
            Some(path) => {
                let told = |error: io::Error| {
                    anyhow::anyhow!("{}: {}", path.display(), dozor_core::text::without_number(&error))
                };
                let beside = dozor_linux::files::Beside::create(path).map_err(told)?;
                let file: File = beside.file().try_clone().map_err(told)?;
                write(&timeline, numbers, table, form, BufWriter::with_capacity(BUFFER, file)).map_err(
                    |error| anyhow::anyhow!("{}: {error}; nothing was written there", path.display()),
                )?;
                beside.finish().map_err(told)?;
            }
        }
        Ok(None)
    }
}

/// Says how far it is, where somebody sits before it.
struct Progress {
    shown: bool,
    begin: Instant,
    last: Instant,
    all: usize,
}

impl Progress {
    fn new(all: usize) -> Progress {
        let now = Instant::now();
        Progress { shown: io::stderr().is_terminal(), begin: now, last: now, all }
    }

    fn at(&mut self, done: usize) {
        let now = Instant::now();
        if self.shown
            && now - self.begin > Duration::from_millis(500)
            && now - self.last > Duration::from_millis(100)
        {
            self.last = now;
            let percent = done as f64 / self.all.max(1) as f64 * 100.0;
            let _ = write!(io::stderr(), "\r{percent:.0} % of {} samples \x1b[K", self.all);
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if self.shown && self.last > self.begin {
            let _ = write!(io::stderr(), "\r\x1b[K");
        }
    }
}
