//! The command line: one file per subcommand.
//!
//! Results go to standard output, messages to standard error. Bad arguments end with status 2 and one line, any
//! other failure with status 1; a closed pipe ends quietly.

mod access;
mod demo;
mod metrics;
mod problem;
mod record;
mod replay;
mod snapshot;
mod watch;

use crate::ui::symbols::Symbols;
use crate::ui::theme::{Depth, Shade, Theme};
use clap::{Args, Parser, Subcommand};
use dozor_core::catalogue::{Metric, process_metric};
use dozor_core::units::parse_duration;
use dozor_linux::Roots;
use std::ffi::OsString;
use std::io::{self, IsTerminal as _};
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

/// Watches this machine: who uses its CPU, memory, disks and network, and what is wrong with it.
#[derive(Parser)]
#[command(name = "dozor", version, args_conflicts_with_subcommands = true, disable_help_subcommand = true)]
#[command(after_help = "Example: dozor --every 1s --narrow stacker")]
struct Cli {
    #[command(subcommand)]
    command: Option<Command>,
    #[command(flatten)]
    watch: watch::Watch,
}

#[derive(Subcommand)]
enum Command {
    /// Watch this machine (the same as no command at all).
    #[command(after_help = "Example: dozor watch --every 1s --order rss")]
    Watch(watch::Watch),
    /// Show Dozor on a simulated machine: an observatory on a winter night.
    #[command(after_help = "Example: dozor demo --seed 7")]
    Demo(demo::Demo),
    /// Write readings into a recording.
    #[command(after_help = "Example: dozor record -o night.dozor --every 2s --for 8h")]
    Record(record::Record),
    /// Look at a recording on the same screen.
    #[command(
        after_help = "Examples: dozor replay night.dozor\n          ssh host dozor record -o - | dozor replay -"
    )]
    Replay(replay::Replay),
    /// Print the processes and the state of the machine, as text or for other programs.
    #[command(after_help = "Example: dozor snapshot --format json --order rss --limit 10")]
    Snapshot(snapshot::Snapshot),
    /// Explain the metrics: what they mean, how they are misread, where they come from.
    #[command(after_help = "Examples: dozor metrics iowait\n          dozor metrics --format json")]
    Metrics(metrics::Metrics),
    /// Say what cannot be read here, why, and what would allow it.
    #[command(after_help = "Example: dozor access")]
    Access(access::Access),
}

/// Options of every screen.
#[derive(Args)]
pub struct Look {
    /// Colours for a dark or a light background, or none at all
    #[arg(long, value_enum, value_name = "THEME")]
    theme: Option<Shade>,
    /// Colours that the terminal has, where Dozor does not find out right
    #[arg(long, value_enum, value_name = "COLORS")]
    colors: Option<Depth>,
    /// Signs that the terminal can show; the locale says it otherwise
    #[arg(long, value_enum, value_name = "SYMBOLS")]
    symbols: Option<Symbols>,
    /// Leave the mouse to the terminal, so that text can be selected with it (S on the screen)
    #[arg(long)]
    no_mouse: bool,
    /// Order processes by this metric
    #[arg(long, value_name = "ALIAS", value_parser = metric)]
    order: Option<&'static Metric>,
    /// Show only processes whose name or command contains this text
    #[arg(long, value_name = "TEXT")]
    narrow: Option<String>,
}

impl Look {
    fn theme(&self) -> Theme {
        Theme::detect(self.theme, self.colors, |name| std::env::var(name).ok())
    }

    fn apply(&self, state: &mut crate::ui::state::State) {
        state.symbols = self.symbols.unwrap_or_else(|| Symbols::detect(|name| std::env::var(name).ok()));
        state.mouse = !self.no_mouse;
        if let Some(metric) = self.order {
            state.order = dozor_core::rank::Order::by(metric);
        }
        if let Some(text) = &self.narrow {
            state.narrow = dozor_core::rank::Narrow::by_text(text);
        }
    }
}

/// Where the kernel's files are; for made-up trees.
#[derive(Args)]
pub struct KernelFiles {
    /// Read this tree instead of /proc
    #[arg(long, value_name = "FOLDER", default_value = "/proc", hide_default_value = true)]
    proc_root: PathBuf,
    /// Read this tree instead of /sys
    #[arg(long, value_name = "FOLDER", default_value = "/sys", hide_default_value = true)]
    sys_root: PathBuf,
}

impl KernelFiles {
    fn roots(&self) -> Roots {
        Roots { proc: self.proc_root.clone(), sys: self.sys_root.clone(), ..Roots::default() }
    }
}

fn duration(text: &str) -> Result<Duration, dozor_core::units::QuantityError> {
    parse_duration(text)
}

/// An interval: not shorter than reading itself takes.
fn interval(text: &str) -> Result<Duration, String> {
    let every = parse_duration(text).map_err(|error| error.to_string())?;
    if every < Duration::from_millis(50) {
        return Err(format!("'{text}' is too short; the shortest interval is 50ms"));
    }
    Ok(every)
}

fn positive(text: &str) -> Result<u64, String> {
    text.parse()
        .ok()
        .filter(|number| *number > 0)
        .ok_or_else(|| format!("'{text}' is not a whole number from 1 on"))
}

fn metric(alias: &str) -> Result<&'static Metric, dozor_core::catalogue::NoSuchMetric> {
    process_metric(alias)
}

/// A failure that was caused by what was asked for.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct Misuse(String);

/// The screen needs a terminal on both sides; standard input may be a pipe.
fn need_terminal() -> anyhow::Result<()> {
    if io::stdout().is_terminal() {
        return Ok(());
    }
    Err(Misuse(
        "the screen needs a terminal; for files and pipes use dozor snapshot or dozor record".to_owned(),
    )
    .into())
}

/// Reads the arguments, does what they say, and gives the exit status.
pub fn main() -> ExitCode {
    let arguments: Vec<OsString> = std::env::args_os().collect();
    let cli = match Cli::try_parse_from(&arguments) {
        Ok(cli) => cli,
        Err(error) => return problem::report(&error),
    };
    let result = match cli.command {
        None => cli.watch.run(),
        Some(Command::Watch(watch)) => watch.run(),
        Some(Command::Demo(demo)) => demo.run(),
        Some(Command::Record(record)) => record.run(),
        Some(Command::Replay(replay)) => replay.run(),
        Some(Command::Snapshot(snapshot)) => snapshot.run(),
        Some(Command::Metrics(metrics)) => metrics.run(),
        Some(Command::Access(access)) => access.run(),
    };
    match result {
        Ok(None) => ExitCode::SUCCESS,
        Ok(Some(signal)) => ExitCode::from(128u8.wrapping_add(signal as u8)),
        Err(error) if problem::is_closed_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("dozor: {}", problem::chain(&error));
            ExitCode::from(if error.is::<Misuse>() { 2 } else { 1 })
        }
    }
}

/// The text of `docs/cli.md`.
#[cfg(test)]
fn markdown() -> String {
    use clap::CommandFactory as _;
    let mut command = Cli::command().term_width(100);
    command.build();
    let mut out = String::from(
        "# The command line\n\nMade from the program's own help; a test keeps it current. Durations are written \
         `200ms`, `2s`, `1m30s`, `8h`.\n",
    );
    let mut section = |title: &str, command: &mut clap::Command| {
        let help = command.render_long_help().to_string();
        let lines: Vec<&str> = help.lines().map(str::trim_end).collect();
        out.push_str(&format!("\n## {title}\n\n```text\n{}\n```\n", lines.join("\n").trim_end()));
    };
    section("dozor", &mut command);
    for subcommand in command.get_subcommands_mut() {
        section(&format!("dozor {}", subcommand.get_name().to_owned()), subcommand);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Compares a document with what the tables say; `DOZOR_UPDATE_DOCS=1` writes it anew.
    fn is_current(name: &str, text: &str) {
        let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name);
        if std::env::var_os("DOZOR_UPDATE_DOCS").is_some() {
            std::fs::write(&path, text).expect("writing the document");
        }
        let written = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(written == text, "docs/{name} is out of date; DOZOR_UPDATE_DOCS=1 cargo test writes it anew");
    }

    #[test]
    fn the_generated_documents_are_current() {
        is_current("cli.md", &markdown());
        is_current("keys.md", &crate::ui::action::markdown());
        is_current("metrics.md", &dozor_core::catalogue::markdown());
    }

    #[test]
    fn the_arguments_are_consistent() {
        <Cli as clap::CommandFactory>::command().debug_assert();
    }
}
