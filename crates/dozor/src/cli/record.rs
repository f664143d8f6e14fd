//! `dozor record`: readings into a recording, without a screen.

use super::options::{KernelFiles, Misuse, Whom, duration, interval, positive};
use super::problem;
use super::selection::Selection;
use crate::recorder::{Bounds, RecordError, Recorder, SMALLEST_LIMIT, Then, Written};
use clap::Args;
use dozor_core::catalogue::{self, Metric, Unit};
use dozor_core::expr::amount;
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::{Mark, MarkKind};
use dozor_core::source::Source as _;
use dozor_core::units::long_duration;
use dozor_core::wanted::{Demand, Wanted};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::{Duration, Instant};

/// Time between readings that are kept longer, at least.
const SHORTEST_STEP: Duration = Duration::from_secs(10);

#[derive(Args)]
pub struct Record {
    /// The new file, or a folder of segments (it ends with a slash, or is there already); - is standard output
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
    /// In a folder: readings older than this go
    #[arg(long, value_name = "AGE", value_parser = duration)]
    keep: Option<Duration>,
    /// In a folder: of what is older than --keep, one reading for each step is kept up to an age, as in 1m:1y; several times, the
    /// steps growing
    #[arg(long, value_name = "STEP:AGE", value_parser = then, requires = "keep")]
    then: Vec<Then>,
    /// In a folder: all segments together have at most this size, as in 500MiB; the oldest go first
    #[arg(long, value_name = "SIZE", value_parser = size)]
    limit: Option<u64>,
    /// Threads as well
    #[arg(long)]
    threads: bool,
    /// Beyond the cheap counters only what these metrics need, with commas between them [default: control groups, file
    /// systems, connections, numbers of open files, ends of processes]
    #[arg(long, value_name = "METRICS", value_delimiter = ',', value_parser = catalogue::named)]
    metrics: Option<Vec<&'static Metric>>,
    #[command(flatten)]
    whom: Whom,
    #[command(flatten)]
    files: KernelFiles,
}

fn then(text: &str) -> Result<Then, String> {
    let told = || format!("'{text}' is no step and age; 1m:1y keeps one reading a minute for a year");
    let (step, keep) = text.split_once(':').ok_or_else(told)?;
    let [step, keep] = [step, keep].map(|text| duration(text).map_err(|error| error.to_string()));
    let (step, keep) = (step?, keep?);
    if step < SHORTEST_STEP || step.subsec_nanos() != 0 {
        return Err(format!("'{text}': a step is of whole seconds, at least 10"));
    }
    if keep <= step {
        return Err(format!("'{text}': the age is no longer than the step"));
    }
    Ok(Then { step, keep })
}

fn size(text: &str) -> Result<u64, String> {
    let bytes = amount(text, Unit::Bytes)?;
    if bytes < SMALLEST_LIMIT as f64 {
        return Err(format!("'{text}' is too little; the smallest limit is 1 MiB"));
    }
    Ok(bytes as u64)
}

impl Record {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        let mut source = self.files.source()?;
        self.whom.kept.check_users()?;
        let mut selection = Selection::new(self.whom.narrowing()?);
        source.want(self.wanted().union(selection.narrowing.wanted()));
        let host = Arc::new(source.host());
        let mut recorder = self.recorder(&host)?;
        let (sender, stop) = channel();
        let mut signals = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP])?;
        std::thread::spawn(move || {
            for signal in signals.forever() {
                let _ = sender.send(signal);
            }
        });
        let begin = Instant::now();
        let mut due = begin;
        let mut pace = Pace::default();
        let mut taken = 0;
        let mut last: Option<Arc<Reading>> = None;
        let mut ends = false;
        loop {
            let woken = Instant::now();
            let reading = selection.of(&host, Arc::new(source.read()));
            let read = Instant::now();
            if taken == 0 {
                // Its own process is worth knowing: what it costs is in the recording.
                let text = format!("recording begins, PID {}", std::process::id());
                recorder.mark(&Mark::new(reading.wall_ns(), MarkKind::Note, text))?;
            }
            let wall = reading.wall_ns();
            tell(&recorder.write(&reading)?);
            // The one before is compared with no more.
            if let Some(old) = last.replace(reading).and_then(Arc::into_inner) {
                source.reuse(old);
            }
            taken += 1;
            let now = Instant::now();
            let took =
                [woken.saturating_duration_since(due), read.duration_since(woken), now.duration_since(read)];
            if let Some(note) = pace.note(took, self.every, now) {
                recorder.mark(&Mark::new(wall, MarkKind::Note, note.clone()))?;
                problem::say(&note);
            }
            due = (due + self.every).max(now);
            let over = self.length.is_some_and(|length| due.duration_since(begin) > length);
            if ends || over || self.count == Some(taken) {
                break;
            }
            match stop.recv_timeout(due.saturating_duration_since(Instant::now())) {
                Err(RecvTimeoutError::Timeout) => {}
                // Whoever ends a recording has what was asked for: that is no failure. What was counted while a slow reading was
                // taken is in one more.
                Ok(_) | Err(RecvTimeoutError::Disconnected) => {
                    ends = woken.elapsed() >= self.every;
                    if !ends {
                        break;
                    }
                }
            }
        }
        let to_pipe = recorder.path() == Path::new("-");
        let account = recorder.finish()?;
        if !to_pipe {
            problem::say(&account);
        }
        Ok(None)
    }

    fn wanted(&self) -> Wanted {
        let wanted = match &self.metrics {
            Some(metrics) => metrics.iter().filter_map(|metric| metric.needs).collect(),
            None => Wanted::recorded(),
        };
        if self.threads { wanted.with(Demand::Threads) } else { wanted }
    }

    /// Each tier has fewer readings than the one before and keeps them longer.
    fn check_tiers(&self) -> Result<(), Misuse> {
        let first = Then { step: self.every, keep: self.keep.unwrap_or_default() };
        let mut before = first;
        for then in &self.then {
            if then.step <= before.step {
                let (step, other) = (told(then.step), told(before.step));
                return Err(Misuse(format!(
                    "--then: a step of {step} is not longer than the {other} before it"
                )));
            }
            if then.keep <= before.keep {
                let (keep, other) = (told(then.keep), told(before.keep));
                return Err(Misuse(format!(
                    "--then: an age of {keep} is not more than the {other} before it"
                )));
            }
            if then.step >= before.keep {
                let (step, other) = (told(then.step), told(before.keep));
                return Err(Misuse(format!(
                    "--then: a step of {step} is longer than {other}, which is kept before it"
                )));
            }
            before = *then;
        }
        Ok(())
    }

    fn recorder(&self, host: &Arc<HostFacts>) -> anyhow::Result<Recorder> {
        let slash = self.output.as_os_str().as_encoded_bytes().ends_with(b"/");
        let in_folder = slash || self.output.is_dir();
        let bounded = self.keep.is_some() || self.limit.is_some();
        if bounded && !in_folder {
            let path = self.output.display();
            return Err(Misuse(format!(
                "--keep and --limit are for a folder of segments: write --output {path}/"
            ))
            .into());
        }
        let recorder: Result<Recorder, RecordError> = if in_folder {
            self.check_tiers()?;
            let bounds = Bounds { keep: self.keep, limit: self.limit, ..Bounds::default() };
            Recorder::in_folder(&self.output, bounds, host.clone(), self.every)
                .and_then(|recorder| recorder.keeping(&self.then, host))
        } else {
            Recorder::create(&self.output, host.clone(), self.every)
        };
        Ok(recorder?)
    }
}

/// Whether readings come in time. One that is late is a sample over a longer time, in which all is that the kernel counted: nothing is
/// missing but points between.
#[derive(Default)]
struct Pace {
    /// Since when they are late, and when that was noted last.
    noted: Option<Instant>,
}

/// It is noted this often at most.
const NOTED_AGAIN: Duration = Duration::from_secs(60);

impl Pace {
    /// What made a reading late, of waiting for its time, reading and writing; nothing where it is not, or that was noted lately.
    fn note(&mut self, took: [Duration; 3], every: Duration, now: Instant) -> Option<String> {
        if took.iter().sum::<Duration>() <= (every * 3).max(every + Duration::from_secs(1)) {
            return None;
        }
        if self.noted.is_some_and(|noted| now.saturating_duration_since(noted) < NOTED_AGAIN) {
            return None;
        }
        self.noted = Some(now);
        let worst = (0..took.len()).max_by_key(|at| took[*at])?;
        let length = long_duration(took[worst].as_secs_f64());
        let what = match worst {
            0 => format!("Dozor did not run for {length}"),
            1 => format!("a reading took {length}"),
            _ => format!("writing a reading took {length}"),
        };
        Some(format!("{what}: samples are longer here, with all that was counted"))
    }
}

fn told(time: Duration) -> String {
    long_duration(time.as_secs_f64())
}

/// Says on standard error when readings begin to be lost, and when they are written again.
fn tell(written: &Written) {
    match written {
        Written::Lost(reason, true) => problem::say(&format!("a reading is lost: {reason}; trying goes on")),
        Written::Again(missing, reason) => {
            problem::say(&format!("recording again; {missing} readings are missing: {reason}"));
        }
        Written::Done | Written::Lost(_, false) => {}
    }
}
