//! `dozor snapshot`: samples as text or for other programs.

use super::cells::Cells;
use super::options::{KernelFiles, Misuse, Whom, columns, interval, order, positive};
use crate::look::clock::Zone;
use crate::look::columns::{ColumnSet, What};
use clap::{Args, ValueEnum};
use dozor_core::catalogue::{Instances, Metric, PROCESS_METRICS, SYSTEM_METRICS, Value, listed};
use dozor_core::exited::exited;
use dozor_core::known::Known;
use dozor_core::lane::{Lane, sentences};
use dozor_core::parts::peers;
use dozor_core::rank::{Narrowing, Order, Population, RowRef};
use dozor_core::reading::ListenerRow;
use dozor_core::sample::{PartView, ProcessView, Sample};
use dozor_core::source::Source as _;
use dozor_core::wanted::Wanted;
use dozor_linux::LiveSource;
use serde_json::{Map, Number, Value as Json, json};
use std::io::{self, Write};
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
}

#[derive(Args)]
pub struct Snapshot {
    /// How it is written
    #[arg(long, value_enum, default_value = "table")]
    format: Format,
    #[command(flatten)]
    cells: Cells,
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
        let chosen = self.metrics()?;
        let all: Vec<&Metric> = PROCESS_METRICS.iter().collect();
        let metrics = chosen.as_ref().unwrap_or(&all);
        self.whom.kept.check_users()?;
        let mut narrowing = self.whom.narrowing();
        let mut source = LiveSource::open(self.files.roots())?;
        source.want(Wanted::everything());
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
            narrowing.follow(&sample);
            let gone = exited(&sample);
            let population = Population::new(&sample, &gone);
            let mut rows = rows(&population, &narrowing, &self.order);
            rows.truncate(self.limit.unwrap_or(usize::MAX));
            match self.format {
                Format::Table => table(&population, &rows, &zone, (chosen.as_ref(), &self.order), &mut out)?,
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
            }
            out.flush()?;
        }
        Ok(None)
    }
}

impl Snapshot {
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

/// The processes that are meant, in order; those who are just gone, or came and went between two readings, among them.
fn rows(population: &Population<'_>, narrowing: &Narrowing, order: &Order) -> Vec<RowRef> {
    let (here, gone) = (narrowing.at(population.here), narrowing.at(population.gone));
    let kept = |row: &RowRef| {
        let filter = if matches!(row, RowRef::Gone(_)) { &gone } else { &here };
        filter.matches(&population.view(*row)) == Some(true)
    };
    population.ordered(order).rows.into_iter().filter(kept).collect()
}

/// A number as JSON: whole ones without a point, others to six places.
fn number(value: f64) -> Json {
    const EXACT: f64 = 9.0e15;
    if value.fract() == 0.0 && value.abs() < EXACT {
        return Json::from(value as i64);
    }
    Number::from_f64((value * 1e6).round() / 1e6).map_or(Json::Null, Json::Number)
}

pub fn json_value(value: &Value) -> Json {
    match value {
        Value::Number(value) => number(*value),
        Value::Text(text) => Json::from(&**text),
        Value::Word(word) => Json::from(*word),
        Value::Absent | Value::Denied => Json::Null,
    }
}

/// A sample as an object. What is not permitted is `null` like what is unknown, and named in `denied`. Those who are just
/// gone, and programs that came and went, are apart from the processes that are there.
fn object(population: &Population<'_>, rows: &[RowRef], zone: &Zone, metrics: &[&Metric]) -> Json {
    let sample = population.here;
    let host = &sample.host;
    let system: Map<String, Json> = SYSTEM_METRICS
        .iter()
        .map(|metric| {
            let value = match metric.of_system(sample) {
                Instances::One(value) => json_value(&value),
                Instances::Many(values) => {
                    values.iter().map(|(name, value)| (name.to_string(), json_value(value))).collect()
                }
            };
            (metric.alias.to_owned(), value)
        })
        .collect();
    let told = |is_meant: fn(&RowRef) -> bool| -> Vec<Json> {
        let rows = rows.iter().filter(|row| is_meant(row));
        rows.map(|row| process(&population.view(*row), metrics)).collect()
    };
    let processes = told(|row| matches!(row, RowRef::Here(_)));
    let gone = told(|row| matches!(row, RowRef::Gone(_)));
    let known = |known: Known<f64>| json_value(&Value::from(known));
    let peers: Vec<Json> = peers(sample)
        .into_iter()
        .map(|p| {
            let (received, sent) = (known(p.received), known(p.sent));
            json!({"address": &*p.address, "connections": p.connections, "in": received, "out": sent})
        })
        .collect();
    let ended: Vec<Json> = sample
        .now
        .ended
        .iter()
        .map(|row| {
            let cpu = row.user.float().zip(row.system.float()).map(|(user, system)| (user + system) / 1e6);
            json!({
                "pid": row.pid.value(), "name": &*row.name, "ppid": row.ppid.value(), "parent": &*row.parent,
                "seen": row.seen.value().map(|seen| seen == 1), "age": known(row.elapsed.float().map(|us| us / 1e6)),
                "cpu_time": known(cpu), "peak": row.peak_bytes.value(), "read": row.read_bytes.value(),
                "write": row.write_bytes.value(),
            })
        })
        .collect();
    json!({
        "time": zone.rfc3339(sample.now.wall_ns()),
        "interval": sample.seconds().map_or(Json::Null, number),
        "host": {
            "name": host.name, "kernel": host.kernel, "cpu_model": host.cpu_model,
            "cores": host.cores, "time_zone": host.time_zone, "inside": host.inside,
        },
        "system": system,
        "processes": processes,
        "gone": gone,
        "listeners": listeners(sample),
        "connections": connections(sample),
        "peers": peers,
        "ended": ended,
    })
}

fn process(view: &ProcessView<'_>, metrics: &[&Metric]) -> Json {
    let mut object = Map::new();
    let mut denied = vec![];
    for metric in metrics {
        let value = metric.of(view);
        if value == Value::Denied {
            denied.push(metric.alias);
        }
        object.insert(metric.alias.to_owned(), json_value(&value));
    }
    if !denied.is_empty() {
        object.insert("denied".to_owned(), json!(denied));
    }
    Json::Object(object)
}

/// Sockets that wait for others, with the processes that hold them.
fn listeners(sample: &Sample) -> Vec<Json> {
    let told = |row: PartView<'_, ListenerRow>| {
        let others: Vec<i64> = row.now.others.split(' ').filter_map(|pid| pid.parse().ok()).collect();
        let drops = json_value(&Value::from(row.rate(|socket| socket.drops)));
        let udp = row.now.protocol.value() == Some(17);
        let (waiting, unread) =
            if udp { (None, row.now.queue.value()) } else { (row.now.queue.value(), None) };
        json!({
            "local": &*row.now.local, "protocol": if udp { "udp" } else { "tcp" },
            "port": row.now.port.value(), "pid": row.now.pid.value(), "others": others,
            "waiting": waiting, "waiting_at_most": row.now.queue_most.value(), "unread": unread,
            "drops": drops, "namespace": row.now.namespace.value(),
        })
    };
    sample.parts(|reading| &reading.listeners[..]).map(told).collect()
}

/// TCP connections with the process that holds them.
fn connections(sample: &Sample) -> Vec<Json> {
    sample
        .parts(|reading| &reading.connections[..])
        .map(|connection| {
            let rate = |known: Known<f64>| json_value(&Value::from(known));
            json!({
                "local": &*connection.now.local, "remote": &*connection.now.remote,
                "pid": connection.now.pid.value(),
                "in": rate(connection.rate(|c| c.in_bytes)), "out": rate(connection.rate(|c| c.out_bytes)),
            })
        })
        .collect()
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
    for (.., text) in sentences(population) {
        writeln!(out, "{text}")?;
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
