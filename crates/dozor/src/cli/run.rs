//! `dozor run`: a command under watch, and its account at the end.

use super::end::End;
use super::options::{Misuse, interval};
use super::problem;
use crate::recorder::Recorder;
use crate::recordings;
use clap::{Args, ValueEnum};
use dozor_core::cores::CoreSet;
use dozor_core::reading::Reading;
use dozor_core::recording::{Mark, MarkKind};
use dozor_core::run::{Family, RunAccount};
use dozor_core::source::Source as _;
use dozor_core::text::{clean, without_number};
use dozor_core::wanted::{Demand, Wanted};
use dozor_linux::{LiveSource, Roots, act, inside, launch};
use serde_json::{Map, Value as Json, json};
use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
use std::ffi::OsString;
use std::io::{self, Write as _};
use std::os::unix::process::ExitStatusExt as _;
use std::path::{Path, PathBuf};
use std::process::ExitStatus;
use std::sync::Arc;
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::{Duration, Instant};

/// Statuses of shells for a command that cannot be started.
const NOT_FOUND: u8 = 127;
const NOT_EXECUTABLE: u8 = 126;

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For people
    Text,
    /// One object
    Json,
}

#[derive(Args)]
pub struct Run {
    /// Run it with this niceness, from -20 (most CPU) to 19 (least)
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(i32).range(-20..=19), allow_negative_numbers = true)]
    nice: Option<i32>,
    /// Run it on these cores only, such as 0-3,8
    #[arg(long, value_name = "CORES")]
    cores: Option<CoreSet>,
    /// Time between readings
    #[arg(long, value_name = "DURATION", default_value = "500ms", value_parser = interval)]
    every: Duration,
    /// Also write a recording of just this family
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Put it beside an earlier run: its recording, or its account as JSON
    #[arg(long, value_name = "FILE")]
    compare: Option<PathBuf>,
    /// How the account is written
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
    /// The command and its arguments
    #[arg(value_name = "COMMAND", required = true, last = true)]
    command: Vec<OsString>,
}

/// What happened meanwhile.
enum Event {
    /// A child ended.
    Ended(launch::End),
    /// All children have ended.
    Alone,
    /// A signal for the command.
    Signal(i32),
}

impl Run {
    /// Ends with the command's own status.
    pub fn run(self) -> anyhow::Result<End> {
        if let Some(cores) = &self.cores {
            let there = inside::online(&Roots::default());
            if !there.is_empty() && !cores.iter().any(|core| there.has(core)) {
                return Err(Misuse(format!("--cores: this machine has cores {there}")).into());
            }
        }
        let earlier = self.compare.as_deref().map(read_account).transpose()?;
        let mut source = LiveSource::open(Roots::default())?.listening();
        source.want(self.wanted());
        let host = Arc::new(source.host());
        let ticks = host.ticks_per_second;
        // The first reading also begins to listen to ends.
        let mut reading = Arc::new(source.read());
        let mut recorder = match &self.output {
            Some(path) => Some(Recorder::create(path, host, self.every)?),
            None => None,
        };
        let (sender, events) = channel();
        let signals = sender.clone();
        let mut caught = signal_hook::iterator::Signals::new([SIGINT, SIGQUIT, SIGTERM, SIGHUP])?;
        std::thread::spawn(move || {
            for signal in caught.forever() {
                let _ = signals.send(Event::Signal(signal));
            }
        });
        let begin = Instant::now();
        let launched = match launch::launch(&self.command, self.nice, self.cores.as_ref()) {
            Ok(launched) => launched,
            Err(error) => return Ok(self.not_started(&error)),
        };
        std::thread::spawn(move || {
            loop {
                let Ok(Some(end)) = launch::reap(false) else {
                    let _ = sender.send(Event::Alone);
                    return;
                };
                let _ = sender.send(Event::Ended(end));
            }
        });
        let mut family = Family::new(i64::from(std::process::id()), ticks, launched.starter);
        let mut due = begin + self.every.min(Duration::from_millis(50));
        let mut status: Option<(ExitStatus, Duration)> = None;
        while status.is_none() {
            match events.recv_timeout(due.saturating_duration_since(Instant::now())) {
                Ok(Event::Ended(end)) => {
                    let ours = end.reaped.pid == launched.pid;
                    family.reap(&end.reaped);
                    if ours {
                        status = Some((end.status, begin.elapsed()));
                    }
                }
                Ok(Event::Signal(signal)) => pass_on(launched.pid, signal),
                Ok(Event::Alone) | Err(RecvTimeoutError::Disconnected) => break,
                Err(RecvTimeoutError::Timeout) => {
                    reading = Arc::new(source.read());
                    take(&mut family, &reading, begin, &mut recorder);
                    due = (due + self.every).max(Instant::now());
                }
            }
        }
        // Others that ended with it are waited for by the thread; what it has told by now counts.
        std::thread::sleep(Duration::from_millis(20));
        while let Ok(event) = events.try_recv() {
            if let Event::Ended(end) = event {
                family.reap(&end.reaped);
            }
        }
        let last = Arc::new(source.read());
        take(&mut family, &last, begin, &mut recorder);
        drop(reading);
        let (status, wall) = status.unwrap_or((ExitStatus::from_raw(0), begin.elapsed()));
        let code = status.code().unwrap_or_else(|| 128 + status.signal().unwrap_or(0));
        let command: Vec<String> = self.command.iter().map(|word| clean(word.as_encoded_bytes())).collect();
        let account =
            family.finish(command.join(" "), (code, status.signal()), wall.as_nanos() as i64, &last);
        if let Some(mut recorder) = recorder {
            let mark = Mark {
                run: Some(Box::new(account.clone())),
                ..Mark::new(last.wall_ns(), MarkKind::Note, format!("{} ended", account.command))
            };
            match recorder.mark(&mark).and_then(|()| recorder.finish()) {
                Ok(account) => problem::say(&account),
                Err(error) => problem::say(&format!("the recording is not whole: {error}")),
            }
        }
        self.tell(&account, earlier.as_ref())?;
        Ok(if code == 0 { End::Done } else { End::Status(code as u8) })
    }

    fn wanted(&self) -> Wanted {
        // What it moves over UDP is known in full or not at all.
        let usual = [Demand::Ended, Demand::Sockets, Demand::Datagrams, Demand::Files]
            .into_iter()
            .collect::<Wanted>();
        if self.output.is_some() { usual.union(Wanted::recorded()) } else { usual }
    }

    fn not_started(&self, error: &io::Error) -> End {
        let name = clean(self.command[0].as_encoded_bytes());
        problem::say(&format!("{name} cannot be started: {}", without_number(error)));
        match error.kind() {
            io::ErrorKind::NotFound => End::Status(NOT_FOUND),
            _ => End::Status(NOT_EXECUTABLE),
        }
    }

    fn tell(&self, account: &RunAccount, earlier: Option<&RunAccount>) -> anyhow::Result<()> {
        let mut out = io::stdout().lock();
        match self.format {
            Format::Text => {
                write!(out, "{}", account.text())?;
                if let Some(earlier) = earlier {
                    write!(out, "{}", account.beside(earlier))?;
                }
            }
            Format::Json => {
                let mut object = json(account)?;
                if let Some(earlier) = earlier {
                    object.insert("earlier".to_owned(), Json::Object(json(earlier)?));
                }
                writeln!(out, "{}", Json::Object(object))?;
            }
        }
        Ok(())
    }
}

/// Gives a signal that came to this process on to the command. What the terminal sends it has got itself.
fn pass_on(pid: i64, signal: i32) {
    if signal == SIGINT || signal == SIGQUIT {
        return;
    }
    let stat = std::fs::read(format!("/proc/{pid}/stat")).unwrap_or_default();
    if let Some(stat) = dozor_linux::proc::pid_stat::parse(&stat, 1) {
        let key = dozor_core::reading::ProcessKey { pid, start: stat.start_ticks };
        let _ = act::send(key, signal);
    }
}

fn take(family: &mut Family, reading: &Arc<Reading>, begin: Instant, recorder: &mut Option<Recorder>) {
    let tells = reading.system.notifications_lost.value().is_some();
    family.take(reading, begin.elapsed().as_nanos() as i64, tells);
    // The command and its account go on without it.
    if let Some(Err(error)) = recorder.as_mut().map(|it| it.write(&Arc::new(family.only(reading)))) {
        problem::say(&format!("the recording ends here: {error}"));
        *recorder = None;
    }
}

/// The account as an object: times in seconds, sizes in bytes, what is not known as null.
fn json(account: &RunAccount) -> anyhow::Result<Map<String, Json>> {
    let seconds = |us: i64| us as f64 / 1e6;
    let programs: Vec<Json> = account
        .programs
        .iter()
        .map(|program| {
            json!({
                "name": program.name, "processes": program.processes, "cpu_time": seconds(program.cpu_us),
                "peak_rss": program.peak_rss, "read": program.read, "written": program.written, "chart": program.chart,
            })
        })
        .collect();
    let object = json!({
        "command": account.command, "exit_status": account.exit_status, "signal": account.signal,
        "wall_time": account.wall_ns as f64 / 1e9, "cpu_time": account.cpu_seconds(),
        "user_time": seconds(account.user_us), "system_time": seconds(account.system_us),
        "peak_rss": account.peak_rss, "peak_rss_at_most": account.peak_rss_at_most,
        "read": account.read, "written": account.written, "net_in": account.net_in, "net_out": account.net_out,
        "processes": account.processes, "processes_at_least": account.processes_at_least,
        "most_at_once": account.most_at_once, "most_threads": account.most_threads, "most_files": account.most_files,
        "switches_wait": account.switches_wait, "switches_forced": account.switches_forced,
        "programs": programs, "left": account.left,
    });
    match object {
        Json::Object(object) => Ok(object),
        _ => anyhow::bail!("an account is an object"),
    }
}

/// The account of an earlier run, from its recording or from its JSON.
fn read_account(path: &Path) -> anyhow::Result<RunAccount> {
    let shown = path.display();
    let bytes =
        std::fs::read(path).map_err(|error| Misuse(format!("{shown}: {}", without_number(&error))))?;
    if bytes.first().is_some_and(|first| *first == b'{') {
        return from_json(&bytes).ok_or_else(|| Misuse(format!("{shown} is no account of dozor run")).into());
    }
    let opened = recordings::open(&[path.to_owned()])?;
    let account = opened.timeline.marks().into_iter().rev().find_map(|mark| mark.run);
    account
        .map(|account| *account)
        .ok_or_else(|| Misuse(format!("{shown} holds no account of dozor run")).into())
}

fn from_json(bytes: &[u8]) -> Option<RunAccount> {
    let object: Json = serde_json::from_slice(bytes).ok()?;
    let us = |value: &Json| value.as_f64().map(|seconds| (seconds * 1e6).round() as i64);
    let whole = |name: &str| object[name].as_i64();
    let program = |value: &Json| {
        Some(dozor_core::run::ProgramAccount {
            name: value["name"].as_str()?.to_owned(),
            processes: value["processes"].as_i64()?,
            cpu_us: us(&value["cpu_time"])?,
            peak_rss: value["peak_rss"].as_i64().unwrap_or(0),
            read: value["read"].as_i64(),
            written: value["written"].as_i64(),
            chart: vec![],
        })
    };
    Some(
        RunAccount {
            command: object["command"].as_str().unwrap_or_default().to_owned(),
            exit_status: i32::try_from(whole("exit_status")?).ok()?,
            wall_ns: us(&object["wall_time"])?.checked_mul(1_000)?,
            user_us: us(&object["user_time"])?,
            system_us: us(&object["system_time"])?,
            peak_rss: whole("peak_rss")?,
            peak_rss_at_most: object["peak_rss_at_most"].as_bool().unwrap_or(false),
            read: whole("read"),
            written: whole("written"),
            net_in: whole("net_in"),
            net_out: whole("net_out"),
            processes: whole("processes")?,
            programs: object["programs"].as_array()?.iter().filter_map(program).collect(),
            ..RunAccount::default()
        }
        .cleaned(),
    )
}
