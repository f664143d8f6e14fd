//! `dozor snapshot`: samples as text or for other programs.

use super::cells::Cells;
use super::check::engine;
use super::export::{Format as TableFormat, sink, which};
use super::options::{KernelFiles, Misuse, Whom, columns, interval, order, positive};
use crate::look::clock::Zone;
use crate::look::columns::{ColumnSet, What};
use clap::{Args, ValueEnum};
use dozor_core::catalogue::{Metric, PROCESS_METRICS, SYSTEM_METRICS, listed};
use dozor_core::exited::exited;
use dozor_core::findings::at_once;
use dozor_core::lane::Lane;
use dozor_core::rank::{Narrowing, Order, Population, RowRef};
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::{Demand, Wanted};
use dozor_export::sample::{number, object};
use dozor_export::table::{Batch, Chosen, Table, Which, chosen_rows};
use std::io::{self, IsTerminal as _, Write};
use std::sync::Arc;
use std::time::{Duration, Instant};

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For people
    Table,
    /// One object, or an array of several
    Json,
    /// One object a line
    Jsonl,
    /// Processes with one column a metric
    Csv,
    /// Processes as Apache Parquet, for a file or a pipe
    Parquet,
}

#[derive(Args)]
pub struct Snapshot {
    /// How it is written
    #[arg(long, value_enum, default_value = "table")]
    format: Format,
    #[command(flatten)]
    cells: Cells,
    /// A table of its own (docs/output.md) instead of the whole sample
    #[arg(long, value_name = "TABLE", value_parser = which)]
    table: Option<Which>,
    /// Number of samples
    #[arg(long, value_name = "NUMBER", default_value_t = 1, value_parser = positive)]
    count: u64,
    /// Time that a sample covers
    #[arg(long, value_name = "DURATION", default_value = "1s", value_parser = interval)]
    every: Duration,
    /// Order processes by one or two metrics; a minus before one puts the largest first, a plus the smallest
    #[arg(long, value_name = "ORDER", default_value = "cpu", value_parser = order, allow_hyphen_values = true)]
    order: Order,
    /// Metrics of processes, with commas between them
    #[arg(long, value_name = "COLUMNS", value_parser = columns)]
    columns: Option<ColumnSet>,
    /// At most so many processes
    #[arg(long, value_name = "NUMBER")]
    limit: Option<usize>,
    #[command(flatten)]
    whom: Whom,
    #[command(flatten)]
    files: KernelFiles,
}

impl Snapshot {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        self.cells.check(self.format == Format::Csv)?;
        let columns = self.metrics()?;
        let all: Vec<&Metric> = PROCESS_METRICS.iter().collect();
        let metrics = columns.as_ref().unwrap_or(&all);
        self.whom.kept.check_users()?;
        let narrowing = self.whom.narrowing()?;
        if self.table.is_some() || self.format == Format::Parquet {
            let chosen = Chosen { metrics: columns, narrowing, order: Some(self.order), limit: self.limit };
            return self.as_table(chosen);
        }
        let wanted = self.wanted(columns.as_deref(), &narrowing);
        let mut chosen = Chosen { metrics: None, narrowing, order: Some(self.order), limit: self.limit };
        let mut source = self.files.source_at_once()?;
        source.want(wanted);
        let host = Arc::new(source.host());
        let zone = Zone::named(&host.time_zone);
        let mut out = io::BufWriter::new(io::stdout().lock());
        let mut before = Arc::new(source.read());
        let mut due = Instant::now();
        for number in 0..self.count {
            due = (due + self.every).max(Instant::now());
            std::thread::sleep(due.saturating_duration_since(Instant::now()));
            let now = Arc::new(source.read());
            let sample = Sample::new(host.clone(), Some(before), now.clone());
            before = now;
            let gone = exited(&sample);
            let population = Population::new(&sample, &gone);
            chosen.narrowing.follow(&sample);
            let rows = chosen_rows(&population, &chosen);
            match self.format {
                Format::Table => table(&population, &rows, &zone, (columns.as_ref(), &self.order), &mut out)?,
                Format::Jsonl => writeln!(out, "{}", object(&population, &rows, &zone, metrics))?,
                Format::Json => {
                    let (open, close) = (number == 0, number + 1 == self.count);
                    let begin = if self.count == 1 {
                        ""
                    } else if open {
                        "["
                    } else {
                        ","
                    };
                    let end = if close && self.count > 1 { "]" } else { "" };
                    writeln!(out, "{begin}{}{end}", object(&population, &rows, &zone, metrics))?;
                }
                Format::Csv => csv(&population, &rows, &zone, (metrics, self.cells), number == 0, &mut out)?,
                // It is a table; see above.
                Format::Parquet => {}
            }
            out.flush()?;
        }
        Ok(None)
    }

    /// Samples as rows of one table.
    fn as_table(&self, chosen: Chosen) -> anyhow::Result<Option<i32>> {
        let format = match self.format {
            Format::Table => TableFormat::Text,
            Format::Json => TableFormat::Json,
            Format::Jsonl => TableFormat::Jsonl,
            Format::Csv => TableFormat::Csv,
            Format::Parquet if io::stdout().is_terminal() => {
                return Err(
                    Misuse("Parquet is nothing for a terminal; write it into a file".to_owned()).into()
                );
            }
            Format::Parquet => TableFormat::Parquet,
        };
        let wanted = match self.table {
            None | Some(Which::Processes) => self.wanted(chosen.metrics.as_deref(), &chosen.narrowing),
            Some(_) => Wanted::everything(),
        };
        let mut table = Table::new(self.table.unwrap_or(Which::Processes), chosen).map_err(Misuse)?;
        let mut source = self.files.source_at_once()?;
        source.want(wanted);
        let host = Arc::new(source.host());
        let shape = (table.which(), &table.columns().to_vec()[..]);
        let mut sink = sink((format, self.cells), io::BufWriter::new(io::stdout()), shape, &host)?;
        let mut batch = Batch::new(table.columns());
        let mut before = Arc::new(source.read());
        let mut due = Instant::now();
        for _ in 0..self.count {
            due = (due + self.every).max(Instant::now());
            std::thread::sleep(due.saturating_duration_since(Instant::now()));
            let now = Arc::new(source.read());
            table.fill(&Sample::new(host.clone(), Some(before), now.clone()), &mut batch);
            before = now;
            sink.put(&batch)?;
            batch.clear();
        }
        sink.end()?;
        Ok(None)
    }
}

impl Snapshot {
    /// Parts of a reading that the output needs: looking into all memory maps and descriptors takes ten times as long as all else.
    fn wanted(&self, columns: Option<&[&'static Metric]>, narrowing: &Narrowing) -> Wanted {
        let is_table = self.format == Format::Table;
        let metrics: Vec<&Metric> = match columns {
            Some(columns) => columns.to_vec(),
            None if is_table => COLUMNS.iter().map(|alias| listed(alias)).collect(),
            // Everything that there is, as was asked for.
            None => return Wanted::everything(),
        };
        let ordered = [Some(&self.order.first), self.order.then.as_ref()];
        let ordered = ordered.into_iter().flatten().filter_map(|by| by.metric.needs);
        let of_columns = metrics.iter().filter_map(|metric| metric.needs);
        let machine: Wanted = match self.format {
            // What the lanes and their sentences tell.
            Format::Table => Wanted::NOTHING.with(Demand::Filesystems).with(Demand::Ended),
            Format::Json | Format::Jsonl => SYSTEM_METRICS.iter().filter_map(|metric| metric.needs).collect(),
            Format::Csv | Format::Parquet => Wanted::NOTHING,
        };
        of_columns.chain(ordered).collect::<Wanted>().union(narrowing.wanted()).union(machine)
    }

    /// The metrics that were chosen. What the screen draws is no metric.
    fn metrics(&self) -> Result<Option<Vec<&'static Metric>>, Misuse> {
        let Some(set) = &self.columns else { return Ok(None) };
        let metric = |what: What| match what {
            What::Metric(metric) => Ok(metric),
            other => Err(Misuse(format!("--columns: {} is drawn on the screen only", other.alias()))),
        };
        set.0.iter().map(|spec| metric(spec.what)).collect::<Result<_, _>>().map(Some)
    }
}

fn csv(
    population: &Population<'_>,
    rows: &[RowRef],
    zone: &Zone,
    (metrics, cells): (&[&Metric], Cells),
    heading: bool,
    out: &mut impl Write,
) -> anyhow::Result<()> {
    let mut writer = csv::Writer::from_writer(out);
    if heading {
        writer.write_record(["time"].into_iter().chain(metrics.iter().map(|metric| metric.alias)))?;
    }
    let time = zone.rfc3339(population.here.now.wall_ns());
    for row in rows {
        let view = population.view(*row);
        let row =
            metrics.iter().map(|metric| cells.value(&metric.of(&view), |value| number(value).to_string()));
        writer.write_record([time.clone()].into_iter().chain(row))?;
    }
    writer.flush()?;
    Ok(())
}

const COLUMNS: [&str; 9] = ["pid", "user", "state", "cpu", "rss", "read", "write", "age", "command"];

fn table(
    population: &Population<'_>,
    rows: &[RowRef],
    zone: &Zone,
    (chosen, order): (Option<&Vec<&'static Metric>>, &Order),
    out: &mut impl Write,
) -> anyhow::Result<()> {
    let sample = population.here;
    let host = &sample.host;
    let seconds = sample.seconds().unwrap_or(0.0);
    writeln!(
        out,
        "{}  {}  {}  over {seconds:.2} s",
        host.name,
        host.kernel,
        zone.date_time(sample.now.wall_ns())
    )?;
    for lane in Lane::ALL {
        let point = lane.point(sample);
        let [first, second] = lane.facts(sample);
        let value = lane.label(&point);
        writeln!(out, "{} {:<8} {value:>9}  {first}  {second}", point.severity.sign(), lane.name())?;
    }
    for (severity, _, text) in at_once(sample, engine().adjustments()) {
        writeln!(out, "{} {text}", severity.sign())?;
    }
    let usual = || {
        let mut metrics: Vec<&Metric> = COLUMNS.iter().map(|alias| listed(alias)).collect();
        if !metrics.contains(&order.first.metric) {
            metrics.insert(3, order.first.metric);
        }
        metrics
    };
    let metrics: Vec<&Metric> = chosen.cloned().unwrap_or_else(usual);
    let rows: Vec<Vec<String>> = rows
        .iter()
        .map(|row| {
            let view = population.view(*row);
            metrics.iter().map(|metric| metric.of(&view).short(metric.unit)).collect()
        })
        .collect();
    let headings: Vec<&str> = metrics.iter().map(|metric| metric.heading).collect();
    let is_number = |at: &usize| !metrics[*at].unit.is_text();
    let numbers: Vec<usize> = (0..metrics.len()).filter(is_number).collect();
    super::table::table(&headings, &numbers, &rows, out)?;
    Ok(())
}
