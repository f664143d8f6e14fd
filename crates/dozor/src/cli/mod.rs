//! The command line: one file per subcommand.
//!
//! Results go to standard output, messages to standard error. Bad arguments end with status 2 and one line, any
//! other failure with status 1; a closed pipe ends quietly.

mod access;
mod act;
mod burn;
mod cells;
mod check;
mod chosen;
mod compare;
mod demo;
mod end;
mod export;
mod files;
mod listed;
mod metrics;
mod note;
mod options;
mod ports;
mod problem;
mod query;
mod record;
mod replay;
mod report;
mod run;
mod selection;
mod serve;
mod settings;
mod show;
mod snapshot;
mod table;
mod watch;

use clap::{Parser, Subcommand};
use end::End;
use std::ffi::OsString;
use std::process::ExitCode;

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
    /// Draw charts of a recording or of this machine, for reports.
    #[command(
        after_help = "Examples: dozor export night.dozor --chart 'disk.busy{nvme0n1}' write@stacker -o disk.svg\n          dozor export night.dozor --lanes --from 02:00 --to 03:00 -o night.pdf\n          dozor export --live 60s --chart cpu --form heat -o cpu.svg"
    )]
    Export(export::Export),
    /// Say what is wrong with this machine, resource by resource, with the culprit and the evidence: the first thing to run after
    /// logging in, and in scripts.
    #[command(
        after_help = "Examples: dozor check\n          dozor check --for 30s --format json --fail-on critical\n          dozor check --format plugin\n          dozor check night.dozor --from 02:00 --to 02:10 --details\n\nExit status: 0 nothing at the level of --fail-on or above, 1 warning, 2 critical, 3 could not judge, 64 wrong usage"
    )]
    Check(check::Check),
    /// Load this machine for a bounded time and say whether it stays cool and fast: temperatures, frequencies, throttling, fans.
    #[command(
        after_help = "Examples: dozor burn --for 10m\n          dozor burn --for 2m --cores 0-3 --load 80 --until 85 -o burn.pdf\n          dozor burn --for 30s --memory 1GiB --plain --format json\n\nIt stops at the limit of any sensor. Exit status: 0 it ended in time or by hand, 1 a limit stopped it, 2 wrong usage"
    )]
    Burn(burn::Burn),
    /// Write the report of an incident: what stood out, charts, who used what, what differed, what was done.
    #[command(
        after_help = "Examples: dozor report night.dozor --from 02:00 --to 03:00 -o incident.pdf\n          dozor report /var/log/dozor --from 'yesterday 14:00' -o incident.html"
    )]
    Report(report::Report),
    /// Serve what is watched here over HTTP, read-only: a live page, metrics for collectors, samples, recordings.
    #[command(
        after_help = "Examples: dozor serve\n          dozor serve --recordings /var/log/dozor --unix /run/dozor.sock\n          dozor serve --listen 0.0.0.0:7373 --token-file /etc/dozor/token\n          dozor serve --push http://127.0.0.1:4318 --every 15s"
    )]
    Serve(serve::Serve),
    /// Say who has what open: files, folders, what is on a mount point, removed files that still take room.
    #[command(
        after_help = "Examples: dozor files /mnt/vault\n          dozor files --removed\n          dozor files --where 'user = astro' --kind file --format json\n\nExit status: 0 somebody was found, 1 nobody, 2 wrong usage"
    )]
    Files(files::Files),
    /// Say who listens on which port, how many wait and what was dropped.
    #[command(
        after_help = "Examples: dozor ports\n          dozor ports 443 --format json\n\nExit status: 0 somebody listens, 1 nobody, 2 wrong usage"
    )]
    Ports(ports::Ports),
    /// Send a signal, and say what became of each process.
    #[command(
        after_help = "Examples: dozor signal TERM 4711 --descendants\n          dozor signal KILL --where 'name = worker and age > 1h' --all\n          dozor signal HUP --where 'service = skyboard' --dry-run\n\nExit status: 0 all done, 1 some not, 2 wrong usage or not confirmed, 3 nobody is meant"
    )]
    Signal(act::Signal),
    /// Change the niceness of processes: plus is less CPU, minus is more.
    #[command(
        after_help = "Examples: dozor nice 10 4711\n          dozor nice 5 --where 'user = astro and cpu > 50%' --all\n\nExit status: 0 all done, 1 some not, 2 wrong usage or not confirmed, 3 nobody is meant"
    )]
    Nice(act::Nice),
    /// Change the cores that processes may use.
    #[command(
        after_help = "Examples: dozor pin 0-3 4711\n          dozor pin all --where 'name = stacker'\n\nExit status: 0 all done, 1 some not, 2 wrong usage or not confirmed, 3 nobody is meant"
    )]
    Pin(act::Pin),
    /// Run a command under watch, and print what it and its whole family used.
    #[command(
        after_help = "Examples: dozor run -- make frames\n          dozor run --nice 10 --cores 0-3 -o frames.dozor -- make frames\n          dozor run --compare frames.dozor -- make frames\n          dozor run --format json -- make frames\n\nExit status: that of the command; 127 where it is not found, 126 where it cannot be started, 128 and the signal that ended it"
    )]
    Run(run::Run),
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

/// Names of all commands.
fn commands() -> Vec<String> {
    <Cli as clap::CommandFactory>::command().get_subcommands().map(|it| it.get_name().to_owned()).collect()
}

/// Reads the arguments, does what they say, and gives the exit status.
pub fn main() -> ExitCode {
    crate::run::terminal::end_on_panic();
    let arguments: Vec<OsString> = std::env::args_os().collect();
    let cli = match Cli::try_parse_from(&arguments) {
        Ok(cli) => cli,
        Err(error) => {
            let is_check = arguments.get(1).is_some_and(|word| word == "check");
            return problem::report(&error, &commands(), if is_check { check::USAGE } else { 2 });
        }
    };
    // A file that reaches the limit of this process is an error of its write, not the end of the program.
    let xfsz = rustix::process::Signal::XFSZ.as_raw();
    let _ = signal_hook::flag::register(xfsz, std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false)));
    let result = run(cli);
    match result {
        Ok(End::Done) => ExitCode::SUCCESS,
        Ok(End::Status(status)) => ExitCode::from(status),
        Ok(End::Signal(signal)) => ExitCode::from(128u8.wrapping_add(signal as u8)),
        Err(error) if problem::is_closed_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            problem::say(&problem::chain(&error));
            ExitCode::from(if error.is::<options::Misuse>() { 2 } else { 1 })
        }
    }
}

fn run(cli: Cli) -> anyhow::Result<End> {
    let ended = match cli.command {
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
        Some(Command::Export(export)) => export.run(),
        Some(Command::Burn(burn)) => return burn.run(),
        Some(Command::Check(check)) => return Ok(check.run()),
        Some(Command::Report(report)) => report.run(),
        Some(Command::Serve(serve)) => serve.run(),
        Some(Command::Files(files)) => return files.run(),
        Some(Command::Ports(ports)) => return ports.run(),
        Some(Command::Signal(signal)) => return signal.run(),
        Some(Command::Nice(nice)) => return nice.run(),
        Some(Command::Pin(pin)) => return pin.run(),
        Some(Command::Run(run)) => return run.run(),
    };
    ended.map(End::from)
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
        let path = std::path::PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name);
        if std::env::var_os("DOZOR_UPDATE_DOCS").is_some() {
            std::fs::write(&path, text).expect("writing the document");
        }
        let written = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(written == text, "docs/{name} is out of date; DOZOR_UPDATE_DOCS=1 cargo test writes it anew");
    }

    #[test]
    fn the_generated_documents_are_current() {
        is_current("cli.md", &markdown());
        is_current("findings.md", &dozor_core::findings::markdown());
        is_current("keys.md", &crate::look::action::markdown());
        is_current("metrics.md", &dozor_core::catalogue::markdown());
        is_current("output.md", &dozor_export::table::markdown());
        is_current("settings.md", &settings::markdown());
    }

    #[test]
    fn the_arguments_are_consistent() {
        <Cli as clap::CommandFactory>::command().debug_assert();
    }
}
