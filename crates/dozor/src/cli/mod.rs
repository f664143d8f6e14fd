//! The command line: one file per subcommand.
//!
//! Results go to standard output, messages to standard error. Bad arguments end with status 2 and one line, any
//! other failure with status 1; a closed pipe ends quietly.

mod access;
mod cells;
mod compare;
mod demo;
mod metrics;
mod note;
mod problem;
mod query;
mod record;
mod replay;
mod settings;
mod snapshot;
mod watch;

use crate::look::columns::ColumnSet;
use crate::look::symbols::Symbols;
use crate::look::theme::{Depth, Found, Theme};
use crate::run::{Connections, run};
use crate::screen::Screen;
use crate::settings::file::Places;
use crate::settings::{Origin, file, left, table};
use crate::state::State;
use crate::state::data::Stay;
use clap::{Args, Parser, Subcommand, ValueEnum as _};
use dozor_core::expr::{Expression, quote};
use dozor_core::lane::Severity;
use dozor_core::rank::{Arrange, Narrowing, Order, Whose};
use dozor_core::text::nearest;
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
#[command(
    after_help = "Examples: dozor --every 1s --where 'cpu > 5% and mine'\n          dozor 4711 --descendants"
)]
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
    #[command(
        after_help = "Examples: dozor demo --seed 7\n          dozor demo --record night.dozor --for 1h --every 2s"
    )]
    Demo(demo::Demo),
    /// Write readings into a recording.
    #[command(after_help = "Example: dozor record -o night.dozor --every 2s --for 8h")]
    Record(record::Record),
    /// Look at a recording on the same screen.
    #[command(
        after_help = "Examples: dozor replay night.dozor\n          ssh host dozor record -o - | dozor replay -"
    )]
    Replay(replay::Replay),
    /// Print values of a recording over time, their extremes, or when a condition held.
    #[command(
        after_help = "Examples: dozor query night.dozor --list\n          dozor query night.dozor cpu.total disk.busy{sda} --step 5m --stat max\n          dozor query night.dozor write --where 'user = astro' --stat p95\n          dozor query night.dozor --when 'mem.available < 500 MiB'"
    )]
    Query(query::Query),
    /// Put two moments or spans side by side: what differs, most first.
    #[command(
        after_help = "Examples: dozor compare night.dozor@02:10 @02:40\n          dozor compare monday.dozor@02:00..03:00 tuesday.dozor@02:00..03:00"
    )]
    Compare(compare::Compare),
    /// Add a note to a finished recording.
    #[command(after_help = "Example: dozor note night.dozor 'the dome opens' --at 02:10")]
    Note(note::Note),
    /// Print the processes and the state of the machine, as text or for other programs.
    #[command(after_help = "Example: dozor snapshot --format json --order rss --limit 10")]
    Snapshot(snapshot::Snapshot),
    /// Explain the metrics: what they mean, how they are misread, where they come from.
    #[command(after_help = "Examples: dozor metrics iowait\n          dozor metrics --format json")]
    Metrics(metrics::Metrics),
    /// Print the settings: their values, where each comes from, and what is wrong with the file.
    #[command(after_help = "Example: dozor settings")]
    Settings(settings::Settings),
    /// Say what cannot be read here, why, and what would allow it.
    #[command(after_help = "Example: dozor access")]
    Access(access::Access),
}

/// Options of every screen.
#[derive(Args)]
pub struct Look {
    /// Colours for a dark or a light background, none (mono), or your own theme by name
    #[arg(long, value_name = "THEME")]
    theme: Option<String>,
    /// Colours that the terminal has, where Dozor does not find out right
    #[arg(long, value_enum, value_name = "COLORS")]
    colors: Option<Depth>,
    /// Signs that the terminal can show; the locale says it otherwise
    #[arg(long, value_enum, value_name = "SYMBOLS")]
    symbols: Option<Symbols>,
    /// Leave the mouse to the terminal, so that text can be selected with it (S on the screen)
    #[arg(long)]
    no_mouse: bool,
    /// Order processes by one or two metrics; a minus before one puts the largest first, a plus the smallest
    #[arg(long, value_name = "ORDER", value_parser = order, allow_hyphen_values = true)]
    order: Option<Order>,
    /// Columns with commas between them; a width and a unit may follow behind colons, as in rss:10:MiB
    #[arg(long, value_name = "COLUMNS", value_parser = columns)]
    columns: Option<ColumnSet>,
    /// Arrange processes: flat, family, program, user, service, container
    #[arg(long, value_name = "ARRANGEMENT", value_parser = arrangement)]
    arrange: Option<Arrange>,
    /// Begin with this saved view
    #[arg(long, value_name = "NAME")]
    view: Option<String>,
    #[command(flatten)]
    kept: Kept,
}

/// Which processes are meant, by their PIDs.
#[derive(Args, Clone, Default)]
pub struct Pids {
    /// Only these processes
    #[arg(value_name = "PID", value_parser = pid)]
    pids: Vec<i64>,
    /// With the PIDs: also all that descend from them
    #[arg(long, requires = "pids")]
    descendants: bool,
}

impl Pids {
    /// Puts what was asked for into a narrowing; says whether anything was.
    fn apply(&self, narrowing: &mut Narrowing) -> bool {
        if !self.pids.is_empty() {
            narrowing.pids = Some(self.pids.iter().copied().collect());
            narrowing.descendants = self.descendants;
        }
        !self.pids.is_empty()
    }
}

/// Which processes are meant.
#[derive(Args, Clone)]
pub struct Whom {
    #[command(flatten)]
    pids: Pids,
    #[command(flatten)]
    kept: Kept,
}

impl Whom {
    /// A narrowing by this alone.
    fn narrowing(&self) -> Narrowing {
        let mut narrowing = Narrowing::of(dozor_linux::own::user());
        self.pids.apply(&mut narrowing);
        self.kept.apply(&mut narrowing);
        narrowing
    }
}

/// Which processes are meant, by what they are.
#[derive(Args, Clone)]
pub struct Kept {
    /// Only processes that an expression holds for (docs/expressions.md)
    #[arg(long = "where", value_name = "EXPRESSION", value_parser = Expression::parse)]
    narrow: Option<Expression>,
    /// Only processes of these users, with commas between them
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    user: Vec<String>,
    /// Only your own processes
    #[arg(long)]
    mine: bool,
    /// Only processes that do something
    #[arg(long)]
    active: bool,
}

impl Kept {
    /// Says so where this machine has no user of a name that was given: an empty table would not.
    fn check_users(&self) -> Result<(), Misuse> {
        match self.user.iter().find(|name| !dozor_linux::own::has_user(name)) {
            Some(name) => Err(Misuse(format!("--user: this machine has no user called '{name}'"))),
            None => Ok(()),
        }
    }

    /// Puts what was asked for into a narrowing; says whether anything was.
    fn apply(&self, narrowing: &mut Narrowing) -> bool {
        let users: Vec<String> = self.user.iter().map(|name| quote(name)).collect();
        let of_users = (!users.is_empty()).then(|| format!("user in ({})", users.join(", ")));
        let text = match (&self.narrow, of_users) {
            (Some(expression), Some(users)) => Some(format!("{users} and ({})", expression.text())),
            (Some(expression), None) => Some(expression.text().to_owned()),
            (None, users) => users,
        };
        if let Some(text) = &text {
            // It was parsed before; only the part in front of it is new.
            narrowing.expression = Expression::parse(text).ok();
        }
        if self.mine {
            narrowing.whose = Whose::Mine;
        }
        narrowing.active |= self.active;
        text.is_some() || self.mine || self.active
    }
}

/// Makes the screen as the settings, the last time and the options say, and runs it. `screen` names the kind of screen
/// whose last time is meant. `every` is kept where the pace is not the settings' business.
fn show(
    look: &Look,
    pids: &Pids,
    mut state: State,
    screen: &str,
    every: Option<Duration>,
    start: impl FnOnce(&State) -> Connections,
) -> anyhow::Result<Option<i32>> {
    let places = Places::find();
    look.prepare(pids, &mut state, &places, screen)?;
    if let Some(every) = every {
        state.values.every = every;
        state.values.configured.origins.insert("every", Origin::CommandLine);
    }
    let connections = start(&state);
    let mut shown = Screen::new(state);
    let result = run(&mut shown, connections);
    shown.state.leave();
    if let Err(problem) = left::keep(&shown.state.values, &places, screen) {
        problem::say(&format!("how the screen was left is not kept: {problem}"));
    }
    result
}

impl Look {
    fn prepare(&self, pids: &Pids, state: &mut State, places: &Places, screen: &str) -> anyhow::Result<()> {
        let variable = |name: &str| std::env::var(name).ok();
        state.begin(|values| {
            values.narrowing.me = dozor_linux::own::user();
            values.configured.found = Some(Found::by(variable));
            file::load(values, places);
            if values.configured.remember {
                left::restore(values, places, screen);
            }
        });
        let first = self.view.clone().unwrap_or_else(|| state.values.configured.first_view.clone());
        if !first.is_empty() {
            set(state, "view", &first).map_err(|problem| Misuse(format!("--view: {problem}")))?;
        }
        self.apply(pids, state)?;
        if let Some(problem) = state.values.configured.problem() {
            state.say_for(Severity::Warning, problem, Stay::UntilKey);
        }
        Ok(())
    }

    /// What the options say goes before everything else.
    fn apply(&self, pids: &Pids, state: &mut State) -> anyhow::Result<()> {
        let word =
            |value: Option<clap::builder::PossibleValue>| value.map(|value| value.get_name().to_owned());
        let texts = [
            ("theme", self.theme.clone()),
            ("colors", self.colors.and_then(|colors| word(colors.to_possible_value()))),
            ("symbols", self.symbols.and_then(|symbols| word(symbols.to_possible_value()))),
            ("mouse", self.no_mouse.then(|| "false".to_owned())),
            ("arrange", self.arrange.map(|arrange| arrange.word().to_owned())),
            ("order", self.order.map(|order| order.written())),
        ];
        for (name, text) in texts {
            if let Some(text) = text {
                set(state, name, &text).map_err(|problem| Misuse(format!("--{name}: {problem}")))?;
            }
        }
        if let Some(columns) = &self.columns {
            state.values.column_sets.insert(state.values.lane, columns.clone());
            state.values.configured.given_columns = Some((state.values.lane, columns.clone()));
        }
        let by_pid = pids.apply(&mut state.values.narrowing);
        if self.kept.apply(&mut state.values.narrowing) || by_pid {
            for name in ["narrow", "whose", "active"] {
                state.values.configured.origins.insert(name, Origin::CommandLine);
            }
        }
        Ok(())
    }
}

/// Sets something for this time only.
fn set(state: &mut State, name: &'static str, text: &str) -> Result<(), String> {
    let setting = table::setting(name).ok_or_else(|| format!("no setting is called '{name}'"))?;
    state.change(|values| setting.set(values, text))?;
    state.values.configured.origins.insert(name, Origin::CommandLine);
    Ok(())
}

fn order(text: &str) -> Result<Order, dozor_core::rank::OrderError> {
    Order::parse(text)
}

fn columns(text: &str) -> Result<ColumnSet, crate::look::columns::ColumnsError> {
    ColumnSet::parse(text)
}

fn arrangement(text: &str) -> Result<Arrange, String> {
    Arrange::ALL.into_iter().find(|arrange| arrange.word() == text).ok_or_else(|| {
        let words = Arrange::ALL.map(Arrange::word);
        let near =
            nearest(text, words).map_or_else(|| words.join(", "), |near| format!("did you mean {near}?"));
        format!("no arrangement is called '{text}'; {near}")
    })
}

fn pid(text: &str) -> Result<i64, String> {
    text.parse().ok().filter(|pid| *pid > 0).ok_or_else(|| format!("'{text}' is not a PID"))
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

/// The screen before anything is known of the settings.
fn plain_theme() -> Theme {
    Theme::new(Depth::Sixteen, false)
}

/// Names of all commands.
fn commands() -> Vec<String> {
    <Cli as clap::CommandFactory>::command().get_subcommands().map(|it| it.get_name().to_owned()).collect()
}

/// A failure that was caused by what was asked for.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct Misuse(String);

/// The screen needs a terminal on both sides; standard input may be a pipe.
fn need_terminal() -> anyhow::Result<()> {
    if io::stdout().is_terminal() {
        // These names say that nothing can be placed on it (terminfo(5)); nobody says what an unnamed one can do.
        let name = std::env::var("TERM").unwrap_or_default();
        return match name.as_str() {
            "" => Err(Misuse("TERM does not say what terminal this is, so no screen can be drawn; set it, as in TERM=xterm, or use dozor snapshot".to_owned()).into()),
            "dumb" | "unknown" => Err(Misuse(format!("a terminal called '{name}' (TERM) can show no screen; use dozor snapshot, or set TERM to what it is")).into()),
            _ => Ok(()),
        };
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
    // A file that reaches the limit of this process is an error of its write, not the end of the program.
    let xfsz = rustix::process::Signal::XFSZ.as_raw();
    let _ = signal_hook::flag::register(xfsz, std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false)));
    let result = match cli.command {
        None => cli.watch.run(),
        Some(Command::Watch(watch)) => watch.run(),
        Some(Command::Demo(demo)) => demo.run(),
        Some(Command::Record(record)) => record.run(),
        Some(Command::Replay(replay)) => replay.run(),
        Some(Command::Query(query)) => query.run(),
        Some(Command::Compare(compare)) => compare.run(),
        Some(Command::Note(note)) => note.run(),
        Some(Command::Snapshot(snapshot)) => snapshot.run(),
        Some(Command::Metrics(metrics)) => metrics.run(),
        Some(Command::Settings(settings)) => settings.run(),
        Some(Command::Access(access)) => access.run(),
    };
    match result {
        Ok(None) => ExitCode::SUCCESS,
        Ok(Some(signal)) => ExitCode::from(128u8.wrapping_add(signal as u8)),
        Err(error) if problem::is_closed_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            problem::say(&problem::chain(&error));
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
        is_current("keys.md", &crate::look::action::markdown());
        is_current("metrics.md", &dozor_core::catalogue::markdown());
        is_current("settings.md", &settings::markdown());
    }

    #[test]
    fn the_arguments_are_consistent() {
        <Cli as clap::CommandFactory>::command().debug_assert();
    }
}
