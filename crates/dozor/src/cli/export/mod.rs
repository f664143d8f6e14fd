//! `dozor export`: recordings, and what is live, in forms that other people and programs read.

mod chart;
mod fleet;
mod table;

pub use table::{Format, Rows, sink, which};

use super::options::{KernelFiles, Misuse, duration, interval};
use super::query::range;
use crate::look::clock::Zone;
use crate::recordings;
use clap::{Args, ValueEnum};
use dozor_core::chart::Wish;
use dozor_core::lane::Lane;
use dozor_core::source::Source as _;
use dozor_core::timeline::Timeline;
use dozor_core::wanted::Wanted;
use dozor_core::when::When;
use dozor_export::chart::Form;
use dozor_export::table::Which;
use std::io::{self, Write as _};
use std::ops::Range;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Theme {
    /// For paper
    Light,
    /// For a dark ground
    Dark,
}

#[derive(Args)]
pub struct Export {
    /// Recordings, or folders of segments
    #[arg(value_name = "FILE", required_unless_present_any = ["live", "fleet"])]
    files: Vec<PathBuf>,
    /// Instead of a recording: this machine, watched for so long
    #[arg(long, value_name = "DURATION", value_parser = duration, conflicts_with = "files")]
    live: Option<Duration>,
    /// With --live: time between readings
    #[arg(long, value_name = "DURATION", default_value = "1s", value_parser = interval, requires = "live")]
    every: Duration,
    /// Draw a metric over time: disk.busy{sda}, cpu@stacker, rss@4711, write (by program); several may be given
    #[arg(long = "chart", value_name = "METRIC", value_parser = Wish::parse, num_args = 1..)]
    charts: Vec<Wish>,
    /// Draw lanes as the screen shows them, with commas between them, or all of them
    #[arg(long, value_name = "LANE", value_delimiter = ',', num_args = 0..=1, default_missing_value = "all", value_parser = lanes)]
    lanes: Option<Vec<Lanes>>,
    /// How metrics are drawn
    #[arg(long, value_name = "FORM", default_value = "auto", value_parser = form)]
    form: Form,
    /// A title for the chart
    #[arg(long, value_name = "TEXT")]
    title: Option<String>,
    /// Width and height in points (1/72 inch)
    #[arg(long, value_name = "WxH", default_value = "960x540", value_parser = size)]
    size: (f64, f64),
    /// Colours of the chart
    #[arg(long, value_enum, default_value = "light")]
    theme: Theme,
    /// Write a table
    #[arg(long, value_name = "TABLE", value_parser = which, conflicts_with_all = ["charts", "lanes"])]
    table: Option<Which>,
    /// Write the recordings of many machines as Parquet by host and day, only what is new: a folder with a folder for each machine
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["files", "live", "charts", "lanes", "table"])]
    fleet: Option<PathBuf>,
    #[command(flatten)]
    rows: Rows,
    /// From this time on, such as 02:10, 'yesterday 14:00', '2031-02-14 02:10' or '10m ago' (before its end)
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true)]
    from: Option<When>,
    /// Until this time
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true)]
    to: Option<When>,
    /// Where it is written; the ending says the form: .svg or .pdf of a chart; .csv, .json, .jsonl, .parquet or .txt of a table; with --fleet a folder
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
    #[command(flatten)]
    kernel: KernelFiles,
}

/// One lane, or all.
#[derive(Clone, Copy)]
enum Lanes {
    All,
    One(Lane),
}

fn lanes(text: &str) -> Result<Lanes, String> {
    if text == "all" {
        return Ok(Lanes::All);
    }
    let found = Lane::ALL.into_iter().find(|lane| lane.name() == text);
    let names = Lane::ALL.map(Lane::name).join(", ");
    found.map(Lanes::One).ok_or_else(|| format!("no lane is called '{text}'; there are {names}"))
}

fn form(text: &str) -> Result<Form, String> {
    let words = Form::ALL.map(|(_, word)| word).join(", ");
    let found = Form::ALL.into_iter().find(|(_, word)| *word == text);
    found.map(|(form, _)| form).ok_or_else(|| format!("'{text}' is none of {words}"))
}

/// The largest width and height of a drawing: a poster.
const LARGEST: f64 = 14_400.0;

pub fn size(text: &str) -> Result<(f64, f64), String> {
    let wrong = || format!("'{text}' is no size; expected one such as 960x540");
    let (width, height) = text.split_once(['x', '×']).ok_or_else(wrong)?;
    let number =
        |text: &str| text.trim().parse::<f64>().ok().filter(|number| number.is_finite() && *number > 0.0);
    let (width, height) = number(width).zip(number(height)).ok_or_else(wrong)?;
    if width > LARGEST || height > LARGEST {
        return Err(format!("'{text}' is too large; the most is {LARGEST:.0}x{LARGEST:.0}"));
    }
    Ok((width, height))
}

/// A timeline with what is meant of it.
pub struct Source {
    pub timeline: Timeline,
    pub numbers: Range<usize>,
}

impl Export {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        if let Some(folder) = &self.fleet {
            return self.fleet(folder);
        }
        if self.table.is_some() { self.table() } else { self.chart() }
    }

    /// What is exported: recordings, or this machine for a while.
    fn source(&self) -> anyhow::Result<Source> {
        let timeline = if let Some(length) = self.live {
            watched(&self.kernel, length, self.every)?
        } else {
            let opened = recordings::open(&self.files)?;
            for problem in &opened.problems {
                super::problem::say(problem);
            }
            opened.timeline
        };
        let zone = Zone::named(&timeline.host().time_zone);
        let numbers = range(&timeline, &zone, self.from.as_ref(), self.to.as_ref())?;
        Ok(Source { timeline, numbers })
    }
}

/// This machine, watched for a while.
fn watched(kernel: &KernelFiles, length: Duration, every: Duration) -> anyhow::Result<Timeline> {
    let mut source = kernel.source()?;
    source.want(Wanted::everything());
    let mut timeline = Timeline::live(Arc::new(source.host()));
    let begin = Instant::now();
    let mut due = begin;
    loop {
        timeline.append(Arc::new(source.read()));
        due = (due + every).max(Instant::now());
        if due > begin + length + every / 2 && timeline.end() - timeline.first() > 1 {
            return Ok(timeline);
        }
        std::thread::sleep(due.saturating_duration_since(Instant::now()));
    }
}

/// Writes a result into a file, whole or not at all; standard output where it is `-` or none is named.
pub fn put(output: Option<&PathBuf>, bytes: &[u8]) -> anyhow::Result<()> {
    match output.filter(|path| path.as_os_str() != "-") {
        None => Ok(io::stdout().lock().write_all(bytes)?),
        Some(path) => dozor_linux::files::replace(path, bytes).map_err(|error| {
            anyhow::anyhow!("{}: {}", path.display(), dozor_core::text::without_number(&error))
        }),
    }
}

/// The ending of a file's name, in small letters.
pub fn ending(output: Option<&PathBuf>) -> Option<String> {
    Some(output?.extension()?.to_str()?.to_ascii_lowercase())
}

/// What is wrong where an ending says no form.
pub fn no_form(output: Option<&PathBuf>, forms: &str) -> Misuse {
    match output {
        None => Misuse(format!("-o FILE is missing; its ending says the form: {forms}")),
        Some(path) => Misuse(format!("{}: the ending says no form; expected {forms}", path.display())),
    }
}
