//! `dozor record`: readings into a recording, without a screen.

use super::{KernelFiles, Whom, duration, interval, positive};
use crate::recorder::Recorder;
use clap::Args;
use dozor_core::rank::Narrowing;
use dozor_core::reading::{HostFacts, ProcessKey, Reading};
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::Wanted;
use dozor_linux::LiveSource;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::{Duration, Instant};

#[derive(Args)]
pub struct Record {
    /// The new file; - is standard output
    #[arg(short, long, value_name = "FILE")]
    output: PathBuf,
    /// Time between readings
    #[arg(long, value_name = "DURATION", default_value = "2s", value_parser = interval)]
    every: Duration,
    /// End after this time
    #[arg(long = "for", value_name = "DURATION", value_parser = duration, conflicts_with = "count")]
    length: Option<Duration>,
    /// End after this number of readings
    #[arg(long, value_name = "NUMBER", value_parser = positive)]
    count: Option<u64>,
    #[command(flatten)]
    whom: Whom,
    #[command(flatten)]
    files: KernelFiles,
}

impl Record {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        let mut source = LiveSource::open(self.files.roots())?;
        let mut selection = Selection::new(self.whom.narrowing());
        source.want(Wanted::recorded().union(selection.narrowing.wanted()));
        let host = Arc::new(source.host());
        let mut recorder = Recorder::create(&self.output, &source.host(), self.every)?;
        let (sender, stop) = channel();
        let mut signals = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP])?;
        std::thread::spawn(move || {
            for signal in signals.forever() {
                let _ = sender.send(signal);
            }
        });
        let begin = Instant::now();
        let mut due = begin;
        let mut written = 0;
        loop {
            recorder.write(&selection.of(&host, Arc::new(source.read())))?;
            written += 1;
            due = (due + self.every).max(Instant::now());
            let over = self.length.is_some_and(|length| due.duration_since(begin) > length);
            if over || self.count == Some(written) {
                break;
            }
            match stop.recv_timeout(due.saturating_duration_since(Instant::now())) {
                Err(RecvTimeoutError::Timeout) => {}
                // Whoever ends a recording has what was asked for: that is no failure.
                Ok(_) | Err(RecvTimeoutError::Disconnected) => break,
            }
        }
        let to_pipe = recorder.path() == Path::new("-");
        let account = recorder.finish()?;
        if !to_pipe {
            eprintln!("dozor: {account}");
        }
        Ok(None)
    }
}

/// The processes that a recording holds. Whoever was meant once stays in it until its end, so that a replay does not show
/// it coming and going.
struct Selection {
    narrowing: Narrowing,
    meant: HashSet<ProcessKey>,
    before: Option<Arc<Reading>>,
}

impl Selection {
    fn new(narrowing: Narrowing) -> Selection {
        Selection { narrowing, meant: HashSet::new(), before: None }
    }

    /// The reading with those processes alone, and what belongs to them.
    fn of(&mut self, host: &Arc<HostFacts>, reading: Arc<Reading>) -> Arc<Reading> {
        if self.narrowing.is_empty() {
            return reading;
        }
        let sample = Sample::new(host.clone(), self.before.replace(reading.clone()), reading.clone());
        self.narrowing.follow(&sample);
        self.meant.retain(|key| sample.find(*key).is_some());
        let keeper = self.narrowing.at(&sample);
        let now = (0..reading.processes.len()).map(|at| sample.process(at));
        self.meant.extend(now.filter(|view| keeper.keeps(view) == Some(true)).map(|view| view.now.key()));
        let mut only = (*reading).clone();
        only.processes.retain(|row| self.meant.contains(&row.key()));
        let pids: HashSet<_> = only.processes.iter().map(|row| row.pid).collect();
        only.connections.retain(|row| pids.contains(&row.pid));
        only.threads.retain(|row| pids.contains(&row.pid));
        only.ended.retain(|row| pids.contains(&row.ppid));
        Arc::new(only)
    }
}
