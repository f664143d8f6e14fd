//! `dozor` and `dozor watch`: this machine, live.

use super::options::{KernelFiles, Look, Misuse, Pids, duration, interval, need_terminal, pid};
use super::show::{FAR, followed, plain_theme, show};
use crate::feed;
use crate::feed::{Again, Request};
use crate::machine::Machine;
use crate::recorder::{Notes, segment_begin};
use crate::recordings;
use crate::run::{Connections, Incoming, begin};
use crate::screen::Event;
use crate::state::State;
use crate::usual::keep_finding_out;
use clap::Args;
use dozor_core::reading::HostFacts;
use dozor_core::recording::StreamReader;
use dozor_core::source::Source as _;
use dozor_core::text::without_number;
use dozor_core::timeline::Timeline;
use dozor_core::units::NANOS;
use dozor_linux::{files as trusted, own, recorders};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

/// Time between readings where nobody says anything else.
const EVERY: Duration = Duration::from_secs(2);
/// So much of the time before is looked at where nobody says anything else.
const PAST: Duration = Duration::from_secs(24 * 3_600);

#[derive(Args)]
pub struct Watch {
    /// Time between readings [default: 2s, or what the settings say]
    #[arg(long, value_name = "DURATION", value_parser = interval)]
    every: Option<Duration>,
    /// Open on top of the recordings in this folder [default: those of a recorder that runs here]
    #[arg(long, value_name = "FOLDER", conflicts_with = "no_history")]
    history: Option<PathBuf>,
    /// How much of them [default: 24h]
    #[arg(long, value_name = "DURATION", value_parser = duration, conflicts_with = "no_history")]
    history_for: Option<Duration>,
    /// Begin now: nothing of the time before
    #[arg(long)]
    no_history: bool,
    /// Only these processes; or the address of a `dozor serve` whose machine is watched instead of this one
    #[arg(value_name = "PID|URL", value_parser = target)]
    targets: Vec<Target>,
    /// With the PIDs: also all that descend from them
    #[arg(long, requires = "targets")]
    descendants: bool,
    /// With an address: the token that it asks for, in this file
    #[arg(long, value_name = "FILE", requires = "targets")]
    token_file: Option<PathBuf>,
    #[command(flatten)]
    look: Look,
    #[command(flatten)]
    files: KernelFiles,
}

/// Whom or what to watch.
#[derive(Clone)]
enum Target {
    Pid(i64),
    Elsewhere(String),
}

fn target(text: &str) -> Result<Target, String> {
    if text.starts_with("https://") {
        return Err("TLS is left to a proxy".to_owned());
    }
    if text.starts_with("http://") {
        return Ok(Target::Elsewhere(text.trim_end_matches('/').to_owned()));
    }
    pid(text).map(Target::Pid).map_err(|error| format!("{error} and no address such as http://host:7373"))
}

/// Time until somebody answers.
const PATIENCE: Duration = Duration::from_secs(10);

impl Watch {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        let pids = Pids {
            pids: self
                .targets
                .iter()
                .filter_map(|target| match target {
                    Target::Pid(pid) => Some(*pid),
                    Target::Elsewhere(_) => None,
                })
                .collect(),
            descendants: self.descendants,
        };
        let mut urls = self.targets.iter().filter_map(|target| match target {
            Target::Elsewhere(url) => Some(url),
            Target::Pid(_) => None,
        });
        match (urls.next(), urls.next()) {
            (Some(url), None) => return self.elsewhere(url, &pids),
            (Some(_), Some(_)) => return Err(Misuse("one machine is watched at a time".to_owned()).into()),
            _ => {}
        }
        let roots = self.files.roots();
        let is_there = |pid: &i64| roots.proc.join(pid.to_string()).exists();
        if !pids.pids.is_empty() && !pids.pids.iter().any(is_there) {
            let all: Vec<String> = pids.pids.iter().map(ToString::to_string).collect();
            anyhow::bail!("there is no process {}", all.join(", "));
        }
        self.look.kept.check_users()?;
        self.look.check()?;
        need_terminal()?;
        let begun = begin()?;
        let mut source = self.files.source_of_screen()?;
        let host = Arc::new(source.host());
        // It is read while the screen is made: the second reading is waited for anyway.
        source.want(State::always_wanted());
        let pace = feed::start(Box::new(source), EVERY, std::iter::empty(), begun.post.of_feed());
        let mut timeline = Timeline::live(host.clone());
        let (notes, problem) = self.open_past(&host, &mut timeline)?;
        let mut state = State::new(timeline, plain_theme(), EVERY, (0, 0));
        state.values.configured.problems.extend(problem);
        state.act_as(&own::user(), Some(i64::from(std::process::id())));
        show(&self.look, &pids, state, "watch", self.every, begun, |state, post| {
            if let Some(Notes::Folder(folder, _)) = &notes {
                let told = post.clone();
                keep_finding_out(folder.clone(), host.name.clone(), move |usual| {
                    told.send(Incoming::Event(Event::Usual(Box::new(usual))))
                });
            }
            let _ = pace.send(Request::Every(state.values.every));
            Connections { machine: Machine::Here(roots), notes, pace: Some(pace) }
        })
    }

    /// The same screen on another machine, which serves its readings.
    fn elsewhere(&self, url: &str, pids: &Pids) -> anyhow::Result<Option<i32>> {
        let agent: ureq::Agent = ureq::Agent::config_builder()
            .timeout_connect(Some(PATIENCE))
            .timeout_recv_response(Some(PATIENCE))
            .http_status_as_error(false)
            .build()
            .into();
        let token = match &self.token_file {
            Some(path) => {
                let told = |why: String| anyhow::anyhow!("{}: {why}", path.display());
                let text = dozor_linux::trusted::read_text(path, 4_096).map_err(told)?;
                let text = text.ok_or_else(|| told("there is no such file".to_owned()))?;
                Some(format!("Bearer {}", text.trim()))
            }
            None => None,
        };
        let address = url.to_owned();
        let ask = move || {
            let mut request = agent.get(format!("{address}/stream"));
            if let Some(token) = &token {
                request = request.header("authorization", token);
            }
            let answer = request.call().map_err(|error| anyhow::anyhow!("{address}: {error}"))?;
            let status = answer.status();
            if status == 401 {
                return Err(Misuse(format!("{address} asks for a token: --token-file FILE")).into());
            }
            anyhow::ensure!(status.is_success(), "{address} answers {status}");
            StreamReader::open(answer.into_body().into_reader(), true)
                .map_err(|error| anyhow::anyhow!("{address}: {error}"))
        };
        self.look.check()?;
        let stream = ask()?;
        need_terminal()?;
        let begun = begin()?;
        let again: Again<_> = Box::new(move || ask().map_err(|error| error.to_string()));
        let state = followed(stream, Some(again), &begun.post);
        let every = state.values.every;
        let connections = Connections { machine: Machine::Elsewhere(FAR), notes: None, pace: None };
        show(&self.look, pids, state, "watch", Some(every), begun, |_, _| connections)
    }

    /// Puts what recorders of this machine have written before what comes now. Gives where signs are kept, and what could
    /// not be read.
    fn open_past(
        &self,
        host: &Arc<HostFacts>,
        timeline: &mut Timeline,
    ) -> anyhow::Result<(Option<Notes>, Option<String>)> {
        if self.no_history {
            return Ok((None, None));
        }
        // Whoever names a folder knows whose it is; what was merely found may hold no link to somewhere else.
        let (folder, open) = match &self.history {
            Some(folder) => (folder.clone(), trusted::open as fn(&Path) -> std::io::Result<std::fs::File>),
            None => match recorders::running(Path::new("/proc")) {
                Ok(Some(folder)) => (folder, trusted::open_no_link as _),
                Ok(None) => return Ok((None, None)),
                Err(reason) => return Ok((None, Some(format!("no history: {reason}")))),
            },
        };
        let files = match recordings::in_folder(&folder) {
            Ok(files) => files,
            Err(error) if self.history.is_some() => {
                anyhow::bail!("{}: {}", folder.display(), without_number(&error))
            }
            // Root's recorder: its folder need not be open to everybody.
            Err(error) => {
                let reason = without_number(&error);
                return Ok((None, Some(format!("no history: {}: {reason}", folder.display()))));
            }
        };
        let mut problems = vec![];
        let past = self.history_for.unwrap_or(PAST);
        let files = recent(files, past, &host.name);
        let opening = recordings::Opening::begin();
        let failed = timeline.put_before(recordings::frames(&files, open, &opening, &mut problems));
        drop(opening);
        problems
            .extend(failed.into_iter().map(|(place, error)| format!("{}: {error}", files[place].display())));
        let named = self.history.is_some();
        if named && files.is_empty() {
            problems.push(format!("{} holds no recording", folder.display()));
        }
        let problem = recordings::told(&problems).map(|problem| format!("history: {problem}"));
        Ok((Some(Notes::Folder(folder, own::user().to_string())), problem))
    }
}

/// The segments that reach into the time that is looked at: of those that begin before it, the last; and files that are
/// named otherwise.
fn recent(files: Vec<PathBuf>, past: Duration, host: &str) -> Vec<PathBuf> {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    let since = now.saturating_sub(past).as_nanos() as i64 / NANOS;
    let begin = |path: &PathBuf| {
        let name = path.file_name().and_then(|name| name.to_str())?;
        segment_begin(name, host)
    };
    let begins: Vec<(_, PathBuf)> = files.into_iter().map(|path| (begin(&path), path)).collect();
    // What was thinned out has files of its own.
    let last_before = |step: Option<u64>| {
        let of_step = begins.iter().filter_map(|(begin, _)| begin.filter(|(_, of)| *of == step));
        of_step.map(|(begin, _)| begin).filter(|begin| *begin < since).max()
    };
    let reaches = |(begin, step)| begin >= since || Some(begin) == last_before(step);
    let recent = begins.iter().filter(|(begin, _)| begin.is_none_or(reaches));
    recent.map(|(_, path)| path.clone()).collect()
}
