//! `dozor check`: the elimination as a report, with a status for scripts.

use super::end::End;
use super::options::{KernelFiles, interval};
use super::problem;
use super::query::range;
use crate::draw::wrapped;
use crate::look::clock::Zone;
use crate::look::theme::{Depth, Found};
use crate::recordings;
use crate::settings::file::{Places, load};
use crate::settings::values::Values;
use crate::usual::{usual, wall_now};
use clap::{Args, ValueEnum};
use dozor_core::findings::{Engine, Line, Verdict};
use dozor_core::lane::{Lane, Severity};
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::text::without_number;
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
    /// One line with performance data, as monitoring systems read it from check plugins
    Plugin,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Level {
    /// Worth knowing; counted as a warning
    Notice,
    /// Hurts somebody, or will soon
    Warning,
    /// Hurts now
    Critical,
}

/// The exit statuses that check plugins of all monitoring systems share.
const UNKNOWN: u8 = 3;
/// Wrong usage; sysexits.h. The usual 2 would be taken for something critical.
pub const USAGE: u8 = 64;

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
    /// From this level on the exit status says so
    #[arg(long, value_name = "LEVEL", value_enum, default_value = "warning")]
    fail_on: Level,
    /// All that is known of each finding, and all of them
    #[arg(long)]
    details: bool,
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

/// Where lines go: a terminal gets signs, words, colours and a width; whoever else reads them whole lines with words.
struct Paper {
    width: u16,
    colours: bool,
    is_terminal: bool,
}

impl Paper {
    fn new() -> Paper {
        let is_terminal = io::stdout().is_terminal();
        let width = crossterm::terminal::size().map_or(u16::MAX, |(width, _)| width);
        let found = Found::by(|name| std::env::var(name).ok());
        Paper {
            width: if is_terminal { width } else { u16::MAX },
            colours: is_terminal && found.theme(None, None).depth != Depth::Mono,
            is_terminal,
        }
    }

    /// A line as it is written, in as many as it needs.
    fn written(&self, Line { lead, severity, text }: &Line) -> Vec<String> {
        let mark = severity.map_or(String::new(), |severity| match severity {
            // What is fine needs no word.
            Severity::Fine => format!("{} ", severity.sign()),
            _ => format!("{} {}: ", severity.sign(), severity.word()),
        });
        let hue = match severity {
            Some(Severity::Critical) => "\x1b[1;31m",
            Some(Severity::Warning) => "\x1b[1;33m",
            Some(Severity::Notice) => "\x1b[36m",
            _ => "",
        };
        let indent = lead.width();
        let room = self.width.saturating_sub(indent as u16).max(LEAST);
        let lines = wrapped(&format!("{mark}{text}"), room);
        let coloured = |line: &str| match line.strip_prefix(mark.trim_end()) {
            Some(rest) if self.colours && !hue.is_empty() && !mark.is_empty() => {
                format!("{hue}{}\x1b[0m{rest}", mark.trim_end())
            }
            _ => line.to_owned(),
        };
        let first = |(at, line): (usize, &String)| match at {
            0 => format!("{lead}{}", coloured(line)),
            _ => format!("{}{line}", " ".repeat(indent)),
        };
        lines.iter().enumerate().map(first).collect()
    }
}

/// What is seen on a terminal while a machine is watched: for how long already, and the verdict as soon as it is sure of something
/// critical.
struct Watching {
    paper: Paper,
    shows: bool,
    /// A count stands there.
    counts: bool,
    /// Lines of the verdict that stand there already.
    told: usize,
}

impl Watching {
    fn at(&mut self, done: Duration, all: Duration, verdict: impl FnOnce() -> Option<Verdict>) {
        if !self.shows {
            return;
        }
        self.clear();
        if self.told == 0
            && let Some(verdict) = verdict()
        {
            let lines = self.paper.written(&verdict.head());
            self.told = lines.len();
            println!("{}", lines.join("\n"));
        }
        self.counts = true;
        let _ = write!(io::stderr(), "{:.0} of {:.0} s", done.as_secs_f64(), all.as_secs_f64());
    }

    /// Takes the count away.
    fn clear(&mut self) {
        if std::mem::take(&mut self.counts) {
            let _ = write!(io::stderr(), "\r\x1b[K");
        }
    }

    /// Takes the verdict of before away too: the whole report follows.
    fn end(&mut self) {
        self.clear();
        if self.told > 0 {
            print!("\x1b[{}A\x1b[J", self.told);
        }
    }
}

/// A text in one line without the sign that separates it from the performance data.
fn plain(text: &str) -> String {
    text.chars().map(|letter| if letter == '|' || letter.is_control() { ' ' } else { letter }).collect()
}

/// Writes what was found and ends with its status: also where nobody reads on. What cannot be written is no verdict.
fn written(text: &str, status: u8) -> End {
    match writeln!(io::stdout().lock(), "{text}") {
        Err(error) if error.kind() != io::ErrorKind::BrokenPipe => {
            problem::say(&without_number(&error));
            End::Status(UNKNOWN)
        }
        _ => End::Status(status),
    }
}

/// The line of a check plugin: its state, the conclusion, and numbers in the form `label=value unit;warning;critical;least;most`.
fn plugin(verdict: &Verdict, status: u8) -> String {
    let state = ["OK", "WARNING", "CRITICAL", "UNKNOWN"][usize::from(status.min(UNKNOWN))];
    let mut numbers = vec![];
    for lane in Lane::ALL {
        let point = &verdict.points[lane];
        let value = point.value.value().map_or("U".to_owned(), |value| match lane {
            // Bytes a second; temperatures have no unit in this convention.
            Lane::Network => format!("{value:.0}B"),
            Lane::Heat => format!("{value:.1}"),
            _ => format!("{value:.1}%;;;0;100"),
        });
        numbers.push(format!("{}={value}", lane.name()));
    }
    for severity in [Severity::Critical, Severity::Warning, Severity::Notice] {
        numbers.push(format!("{}={}", severity.word(), verdict.count(severity)));
    }
    format!("DOZOR {state} - {} | {}", plain(&verdict.sentence()), numbers.join(" "))
}

impl Check {
    /// Status 0 where nothing is as bad as `--fail-on` says, 1 for warnings, 2 for what is critical, 3 where nothing could be judged.
    pub fn run(self) -> End {
        let paper = Paper::new();
        let shows = paper.is_terminal && io::stderr().is_terminal() && self.format == Format::Text;
        let mut watching = Watching { paper, shows, counts: false, told: 0 };
        let judged = if self.files.is_empty() { self.here(&mut watching) } else { self.recorded() };
        let verdict = match judged {
            Ok(verdict) => verdict,
            Err(error) => {
                let said = problem::chain(&error);
                if self.format == Format::Plugin {
                    return written(&format!("DOZOR UNKNOWN - {}", plain(&said)), UNKNOWN);
                }
                problem::say(&said);
                return End::Status(UNKNOWN);
            }
        };
        let status = self.status(&verdict);
        let text = match self.format {
            Format::Text => {
                watching.end();
                let lines = verdict.lines(self.details);
                lines.iter().flat_map(|line| watching.paper.written(line)).collect::<Vec<_>>().join("\n")
            }
            Format::Json => verdict.json().to_string(),
            Format::Plugin => plugin(&verdict, status),
        };
        written(&text, status)
    }

    fn status(&self, verdict: &Verdict) -> u8 {
        let (worst, level) = (
            verdict.severity(),
            match self.fail_on {
                Level::Notice => Severity::Notice,
                Level::Warning => Severity::Warning,
                Level::Critical => Severity::Critical,
            },
        );
        match worst {
            _ if worst < level => {
                // Nothing found in too short a time is no answer.
                if verdict.is_sure() { 0 } else { UNKNOWN }
            }
            Severity::Critical => 2,
            _ => 1,
        }
    }

    /// This machine, watched for a while.
    fn here(&self, watching: &mut Watching) -> anyhow::Result<Verdict> {
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
            watching.at(due - begin, self.length, || {
                let is_critical = engine.history().worst(sample.now.wall_ns()) == Severity::Critical;
                is_critical.then(|| Verdict::new(&engine, &sample, seconds))
            });
            last = Some(sample);
        }
        watching.clear();
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
        Ok(Verdict { is_recorded: true, ..Verdict::new(&engine, &last, seconds) })
    }
}
