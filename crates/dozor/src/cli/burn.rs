//! `dozor burn`: a bounded load of our own, to see whether the machine stays cool and fast under it.

use super::end::End;
use super::export::{ending, put};
use super::options::{KernelFiles, Look, Misuse, Pids, duration, need_terminal};
use super::problem;
use super::show::{plain_theme, show};
use crate::feed;
use crate::machine::Machine;
use crate::run::{Connections, Incoming, begin};
use crate::state::State;
use crate::state::data::Stay;
use clap::{Args, ValueEnum};
use dozor_core::burn::{Burn as Account, Ended};
use dozor_core::catalogue::Unit;
use dozor_core::chart::Wish;
use dozor_core::cores::CoreSet;
use dozor_core::expr::amount;
use dozor_core::lane::{Lane, Severity};
use dozor_core::reading::Reading;
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::text::without_number;
use dozor_core::timeline::Timeline;
use dozor_core::units::{long_bytes, long_duration};
use dozor_export::chart::{Composing, Form as Shape, Look as Colours, compose, draw};
use dozor_export::file::Form as File;
use dozor_linux::burn::Load;
use dozor_linux::sys::cgroups;
use dozor_linux::{LiveSource, Roots, inside};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use std::io::{self, IsTerminal as _, Write as _};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// Time between two looks at the sensors.
const EVERY: Duration = Duration::from_secs(1);
/// Time between two lines where there is no screen.
const LINE: Duration = Duration::from_secs(10);
/// The longest that it may take.
const LONGEST: Duration = Duration::from_secs(24 * 3_600);
/// Memory that stays for everybody else.
const SPARE: i64 = 256 << 20;
/// Memory that Dozor itself takes in its group meanwhile.
const OWN: i64 = 48 << 20;

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For people
    Text,
    /// One object
    Json,
}

#[derive(Args)]
pub struct Burn {
    /// For how long; without it nothing begins
    #[arg(long = "for", value_name = "DURATION", value_parser = duration)]
    length: Option<Duration>,
    /// On these cores, such as 0-3,8 [default: all]
    #[arg(long, value_name = "CORES")]
    cores: Option<CoreSet>,
    /// Busy for so much of the time
    #[arg(long, value_name = "PERCENT", default_value_t = 100, value_parser = clap::value_parser!(u8).range(1..=100))]
    load: u8,
    /// Also write and read so much memory, in all
    #[arg(long, value_name = "SIZE", value_parser = size)]
    memory: Option<u64>,
    /// Stop at this temperature, below the sensors' own limits
    #[arg(long, value_name = "CELSIUS", value_parser = celsius, allow_negative_numbers = true)]
    until: Option<f64>,
    /// Also draw it into this file, .svg or .pdf
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// How the verdict is written
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
    /// No screen: a line now and then
    #[arg(long)]
    plain: bool,
    #[command(flatten)]
    look: Look,
    #[command(flatten)]
    files: KernelFiles,
}

fn celsius(text: &str) -> Result<f64, String> {
    let degrees = amount(text, Unit::Celsius)?;
    if (1.0..=150.0).contains(&degrees) { Ok(degrees) } else { Err("expected 1 to 150 °C".to_owned()) }
}

fn size(text: &str) -> Result<u64, String> {
    let bytes = amount(text, Unit::Bytes)?;
    if bytes >= 1.0 { Ok(bytes as u64) } else { Err("expected a size such as 500 MiB".to_owned()) }
}

/// What came of it.
struct Done {
    account: Account,
    ended: Ended,
    timeline: Timeline,
}

impl Burn {
    /// Status 1 where it was stopped by a limit.
    pub fn run(self) -> anyhow::Result<End> {
        let Some(length) = self.length else {
            return Err(Misuse(
                "say for how long, such as --for 5m: a load without an end is none of ours".to_owned(),
            )
            .into());
        };
        if length > LONGEST || length < EVERY {
            return Err(
                Misuse(format!("--for is 1 s to 24 h, not {}", long_duration(length.as_secs_f64()))).into()
            );
        }
        let form =
            match (&self.output, ending(self.output.as_ref()).and_then(|ending| File::by_ending(&ending))) {
                (Some(_), None) => {
                    return Err(Misuse("-o: expected a file that ends in .svg or .pdf".to_owned()).into());
                }
                (_, form) => form,
            };
        let there = inside::online(&Roots::default());
        let cores = self.cores.clone().unwrap_or_else(|| there.clone());
        if cores.is_empty() || !cores.is_within(&there) {
            return Err(Misuse(format!("--cores: this machine has cores {there}")).into());
        }
        self.has_room()?;
        let screen = !self.plain && io::stdout().is_terminal() && io::stdin().is_terminal();
        if screen {
            self.look.check()?;
            need_terminal()?;
        }
        let stop = Arc::new(AtomicBool::new(false));
        let done = if screen {
            self.on_screen(&cores, length, &stop)?
        } else {
            self.plainly(&cores, length, &stop)?
        };
        let (severity, verdict) = done.account.verdict(&done.ended);
        match self.format {
            Format::Json => writeln!(io::stdout().lock(), "{}", done.account.json(&done.ended))?,
            Format::Text => {
                let mut out = io::stdout().lock();
                writeln!(out, "{} {verdict}", severity.sign())?;
                if let Some(strip) = strip(done.account.temperatures()) {
                    writeln!(out, "  {strip}")?;
                }
            }
        }
        if let (Some(path), Some(form)) = (&self.output, form) {
            put(Some(path), &drawn(done.timeline, &verdict, form)?)?;
        }
        Ok(if severity == Severity::Critical { End::Status(1) } else { End::Done })
    }

    /// What is asked for must leave something for everybody else.
    fn has_room(&self) -> anyhow::Result<()> {
        let Some(memory) = self.memory else { return Ok(()) };
        let reading = LiveSource::open(Roots::default())?.read();
        let available = reading.system.mem_available.value().unwrap_or(0);
        let memory = i64::try_from(memory).unwrap_or(i64::MAX);
        // Beyond the limit of its group the kernel would end it without a word.
        let in_group = cgroups::memory_left().map(|left| (left - OWN).max(0));
        let (most, of) = match in_group.filter(|most| *most < available - SPARE) {
            Some(most) => (most, "the limit of its control group leaves"),
            None => ((available - SPARE).max(0), "the machine can spare"),
        };
        if memory > most {
            return Err(Misuse(format!("--memory: {of} {} now", long_bytes(most as f64))).into());
        }
        Ok(())
    }

    /// Without a screen: a line now and then on standard error.
    fn plainly(&self, cores: &CoreSet, length: Duration, stop: &Arc<AtomicBool>) -> anyhow::Result<Done> {
        for signal in [SIGINT, SIGTERM, SIGHUP] {
            signal_hook::flag::register(signal, stop.clone())?;
        }
        let mut told = Instant::now();
        self.watch(cores, length, stop, &mut |account| {
            if told.elapsed() >= LINE {
                told = Instant::now();
                problem::say(&account.line());
            }
        })
    }

    /// On the screen of this machine, at its heat, until it is over or somebody leaves.
    fn on_screen(&self, cores: &CoreSet, length: Duration, stop: &Arc<AtomicBool>) -> anyhow::Result<Done> {
        let roots = self.files.roots();
        let source = LiveSource::open(roots.clone())?;
        let mut state = State::new(Timeline::live(Arc::new(source.host())), plain_theme(), EVERY, (0, 0));
        let text = format!(
            "a load of our own on cores {cores} at {} % for {}: q ends it at once",
            self.load,
            long_duration(length.as_secs_f64())
        );
        state.load_on_purpose();
        state.say_for(Severity::Notice, text, Stay::UntilKey);
        state
            .change(|values| {
                values.lane = Some(Lane::Heat);
                Ok::<(), String>(())
            })
            .map_err(anyhow::Error::msg)?;
        let begun = begin()?;
        std::thread::scope(|scope| {
            let over = begun.post.clone();
            let load = scope.spawn(move || {
                let done = self.watch(cores, length, stop, &mut |_| {});
                // Whoever looks on is told by the end of the screen.
                over.send(Incoming::Stop(0));
                done
            });
            let shown =
                show(&self.look, &Pids::default(), state, "burn", Some(EVERY), begun, |state, post| {
                    let pace =
                        feed::start(Box::new(source), state.values.every, std::iter::empty(), post.of_feed());
                    Connections { machine: Machine::Here(roots), notes: None, pace: Some(pace) }
                });
            stop.store(true, Ordering::Relaxed);
            let done = load.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            shown?;
            done
        })
    }

    /// Loads the cores and looks at the sensors until something ends it.
    fn watch(
        &self,
        cores: &CoreSet,
        length: Duration,
        stop: &AtomicBool,
        each: &mut dyn FnMut(&Account),
    ) -> anyhow::Result<Done> {
        let mut source = LiveSource::open(self.files.roots())?;
        let host = Arc::new(source.host());
        let mut account = Account::new(cores.clone(), f64::from(self.load), self.until);
        let mut timeline = Timeline::live(host.clone());
        let mut before = Arc::new(source.read());
        let put = |timeline: &mut Timeline, reading: &Arc<Reading>| timeline.append(reading.clone());
        put(&mut timeline, &before);
        let memory = usize::try_from(self.memory.unwrap_or(0)).unwrap_or(usize::MAX);
        let share = f64::from(self.load) / 100.0;
        let load = Load::start(cores, share, memory)
            .map_err(|error| anyhow::anyhow!("the load cannot be started: {}", without_number(&error)))?;
        let begin = Instant::now();
        let mut due = begin;
        let ended = loop {
            due += EVERY;
            while Instant::now() < due && !stop.load(Ordering::Relaxed) {
                std::thread::sleep(
                    due.saturating_duration_since(Instant::now()).min(Duration::from_millis(50)),
                );
            }
            let now = Arc::new(source.read());
            let reached = account.take(&Sample::new(host.clone(), Some(before), now.clone()));
            put(&mut timeline, &now);
            before = now;
            each(&account);
            if let Some(reached) = reached {
                break reached;
            }
            if begin.elapsed() >= length {
                break Ended::Time;
            }
            if stop.load(Ordering::Relaxed) {
                break Ended::Asked;
            }
        };
        drop(load);
        Ok(Done { account, ended, timeline })
    }
}

/// Temperatures as a line, lowest to highest.
fn strip(values: &[f64]) -> Option<String> {
    const WIDTH: usize = 60;
    const STEPS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let low = values.iter().copied().reduce(f64::min)?;
    let high = values.iter().copied().reduce(f64::max)?;
    let size = values.len().div_ceil(WIDTH);
    let cell = |part: &[f64]| {
        let most = part.iter().copied().fold(low, f64::max);
        let step = if high > low { (most - low) / (high - low) * 7.0 } else { 0.0 };
        STEPS[step.round() as usize]
    };
    let cells: String = values.chunks(size).map(cell).collect();
    Some(format!("{low:.0} °C {cells} {high:.0} °C"))
}

/// The verdict with its charts as a file.
fn drawn(mut timeline: Timeline, verdict: &str, form: File) -> anyhow::Result<Vec<u8>> {
    let all = timeline.first()..timeline.end();
    let wishes = ["sensor.temperature", "cpu.frequency", "cpu.throttled", "sensor.fan", "cpu.total"];
    let wishes = wishes.iter().filter_map(|wish| Wish::parse(wish).ok());
    // What this machine does not have is no part of it.
    let wishes: Vec<Wish> = wishes
        .filter(|wish| {
            let found =
                dozor_core::chart::gather(&timeline, all.clone(), std::slice::from_ref(wish), &|_| false, 10);
            found.is_ok_and(|found| found.series.iter().flatten().any(|series| !series.points.is_empty()))
        })
        .collect();
    let what = Composing {
        wishes,
        form: Shape::Auto,
        lanes: vec![],
        columns: 768,
        happenings: 4,
        brief: false,
        title: Some(verdict.trim_end_matches('.').to_owned()),
    };
    let chart = compose(&mut timeline, all, &what)?;
    let scene =
        draw(&chart, (960.0, 640.0), Colours { light: true }).map_err(|error| Misuse(error.to_string()))?;
    Ok(form.bytes(&scene, &chart.host))
}
