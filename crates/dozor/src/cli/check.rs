//! `dozor check`: the elimination as a report, with a status for scripts.

use super::end::End;
use super::options::{KernelFiles, interval};
use super::problem;
use super::query::range;
use crate::draw::wrapped;
use crate::look::clock::Zone;
use crate::recordings;
use crate::settings::file::{Places, load};
use crate::settings::values::Values;
use crate::usual::{usual, wall_now};
use clap::{Args, ValueEnum};
use dozor_core::findings::{Engine, Verdict};
use dozor_core::lane::Severity;
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::timeline::Reach;
use dozor_core::wanted::{Demand, Wanted};
use dozor_core::when::When;
use dozor_linux::live::removed;
use dozor_linux::recorders;
use std::io::{self, IsTerminal as _, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use unicode_width::UnicodeWidthStr as _;

/// Columns that a text has at least, however narrow the terminal is.
const LEAST: u16 = 20;
/// Time between two readings; of a short look a tenth of it.
const EVERY: Duration = Duration::from_secs(1);

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For people
    Text,
    /// One object
    Json,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Level {
    /// Worth knowing
    Notice,
    /// Hurts somebody, or will soon
    Warning,
    /// Hurts now
    Critical,
}

#[derive(Args)]
pub struct Check {
    /// Recordings, or folders of segments, instead of this machine
    #[arg(value_name = "RECORDING")]
    files: Vec<PathBuf>,
    /// How long this machine is watched
    #[arg(long = "for", value_name = "DURATION", default_value = "10s", value_parser = interval, conflicts_with = "files")]
    length: Duration,
    /// Of a recording, from this time on
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true, requires = "files")]
    from: Option<When>,
    /// Until this time
    #[arg(long, value_name = "TIME", value_parser = When::parse, allow_hyphen_values = true, requires = "files")]
    to: Option<When>,
    /// How it is written
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
    /// The status is 1 from this level on
    #[arg(long, value_name = "LEVEL", value_enum, default_value = "warning")]
    fail_on: Level,
    #[command(flatten)]
    kernel: KernelFiles,
}

/// An engine with the rules as somebody wants them; what is wrong with that is said.
pub(super) fn engine() -> Engine {
    let mut values = Values::new(EVERY);
    load(&mut values, &Places::find());
    for problem in values
        .configured
        .problems
        .iter()
        .filter(|problem| problem.contains("rule") || problem.contains("findings"))
    {
        problem::say(problem);
    }
    values.configured.engine()
}

/// The report in lines that fit a terminal; whoever reads it otherwise gets whole lines.
fn fitted(verdict: &Verdict) -> String {
    let width = match crossterm::terminal::size() {
        Ok((width, _)) if io::stdout().is_terminal() => width,
        _ => u16::MAX,
    };
    let mut lines = vec![];
    for (lead, text) in verdict.lines() {
        let indent = lead.width();
        let room = width.saturating_sub(indent as u16).max(LEAST);
        for (at, line) in wrapped(&text, room).into_iter().enumerate() {
            lines.push(if at == 0 {
                format!("{lead}{line}")
            } else {
                format!("{}{line}", " ".repeat(indent))
            });
        }
    }
    lines.join("\n")
}

impl Check {
    /// Status 1 where something is as bad as `--fail-on` says.
    pub fn run(self) -> anyhow::Result<End> {
        let verdict = if self.files.is_empty() { self.here()? } else { self.recorded()? };
        let text = match self.format {
            Format::Text => fitted(&verdict),
            Format::Json => verdict.json().to_string(),
        };
        writeln!(io::stdout().lock(), "{text}")?;
        let level = match self.fail_on {
            Level::Notice => Severity::Notice,
            Level::Warning => Severity::Warning,
            Level::Critical => Severity::Critical,
        };
        Ok(if verdict.severity() >= level { End::Status(1) } else { End::Done })
    }

    /// This machine, watched for a while.
    fn here(&self) -> anyhow::Result<Verdict> {
        let mut source = self.kernel.source()?;
        source.want(Wanted::recorded().with(Demand::Interrupts).with(Demand::CoreWait));
        let host = Arc::new(source.host());
        let mut engine = engine();
        // A recorder that runs here knows what is usual.
        if let Ok(Some(folder)) = recorders::running(Path::new("/proc")) {
            engine.know(usual(&folder, &host.name, wall_now()));
        }
        let begin = Instant::now();
        let mut before = Arc::new(source.read());
        let every = EVERY.min(self.length / 10).max(Duration::from_millis(100));
        let mut due = begin;
        let (mut last, mut seconds) = (None, 0.0);
        while due < begin + self.length || last.is_none() {
            due += every;
            std::thread::sleep(due.saturating_duration_since(Instant::now()));
            let mut now = source.read();
            // Looking for removed files takes its time, and once is enough.
            if due >= begin + self.length {
                now.removed = removed(&self.kernel.roots());
            }
            let now = Arc::new(now);
            let sample = Sample::new(host.clone(), Some(before), now.clone());
            before = now;
            engine.look(&sample);
            seconds += sample.seconds().unwrap_or(0.0);
            last = Some(sample);
        }
        let last = last.ok_or_else(|| anyhow::anyhow!("nothing was read"))?;
        Ok(Verdict::new(&engine, &last, seconds))
    }

    fn recorded(&self) -> anyhow::Result<Verdict> {
        let opened = recordings::open(&self.files)?;
        for problem in &opened.problems {
            problem::say(problem);
        }
        let timeline = opened.timeline;
        let zone = Zone::named(&timeline.host().time_zone);
        let numbers = range(&timeline, &zone, self.from.as_ref(), self.to.as_ref())?;
        let mut engine = engine();
        let (mut last, mut seconds) = (None, 0.0);
        timeline.walk(numbers, Reach::All, |_, sample| {
            engine.learn(&timeline, sample.now.wall_ns());
            engine.look(sample);
            seconds += sample.seconds().unwrap_or(0.0);
            last = Some(sample.clone());
            Ok::<(), anyhow::Error>(())
        })?;
        let last = last.ok_or_else(|| anyhow::anyhow!("nothing was recorded then"))?;
        Ok(Verdict::new(&engine, &last, seconds))
    }
}
