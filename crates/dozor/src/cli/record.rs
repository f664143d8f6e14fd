//! `dozor record`: readings into a recording, without a screen.

use super::{KernelFiles, duration, interval, positive};
use crate::recorder::Recorder;
use clap::Args;
use dozor_core::source::Source as _;
use dozor_core::wanted::Wanted;
use dozor_linux::LiveSource;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
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
    files: KernelFiles,
}

impl Record {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        let mut source = LiveSource::open(self.files.roots())?;
        source.want(Wanted::recorded());
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
            recorder.write(&Arc::new(source.read()))?;
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
