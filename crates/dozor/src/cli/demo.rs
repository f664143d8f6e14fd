//! `dozor demo`: the simulated observatory.

use super::options::{Look, Pids, interval, need_terminal};
use super::problem;
use super::show::{plain_theme, show};
use crate::feed;
use crate::machine::{self, lock};
use crate::recorder::Recorder;
use crate::run::{Connections, begin};
use crate::state::State;
use clap::Args;
use dozor_core::demo::incidents::{Troubled, World, incidents};
use dozor_core::demo::{PRELUDE, SimulatedMachine, Site, USER};
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::source::Source;
use dozor_core::text::nearest;
use dozor_core::timeline::Timeline;
use dozor_core::wanted::{Demand, Wanted};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

#[derive(Args)]
pub struct Demo {
    /// Time between readings
    #[arg(long, value_name = "DURATION", default_value = "1s", value_parser = interval)]
    every: Duration,
    /// Begin so far into the story; what happened before is there to look at
    #[arg(long, value_name = "DURATION", value_parser = super::options::duration)]
    after: Option<Duration>,
    /// Another number gives another night
    #[arg(long, value_name = "NUMBER", default_value_t = 1)]
    seed: u64,
    /// Which of the simulated machines
    #[arg(long, value_enum, value_name = "MACHINE", default_value_t = Machine::Observatory)]
    machine: Machine,
    /// Instead of the night: what a rule of what stands out looks for (docs/findings.md), on a small machine that is quiet before
    /// and after; or all of them one after another
    #[arg(long, value_name = "RULE|all", conflicts_with_all = ["machine", "seed"])]
    incident: Option<String>,
    /// Write a recording of it into this new file instead of showing it, as fast as it goes
    #[arg(long, value_name = "FILE", requires = "length")]
    record: Option<PathBuf>,
    /// With --record: so much of the night
    #[arg(long = "for", value_name = "DURATION", value_parser = super::options::duration, requires = "record")]
    length: Option<Duration>,
    #[command(flatten)]
    pids: Pids,
    #[command(flatten)]
    look: Look,
}

/// The simulated machines.
#[derive(Clone, Copy, clap::ValueEnum)]
enum Machine {
    /// Eight cores on a mountain
    Observatory,
    /// 128 cores
    Server,
    /// A battery and a wireless link
    Laptop,
    /// A graphics processor
    Workstation,
}

impl Machine {
    fn site(self) -> Site {
        match self {
            Machine::Observatory => Site::Observatory,
            Machine::Server => Site::Server,
            Machine::Laptop => Site::Laptop,
            Machine::Workstation => Site::Workstation,
        }
    }
}

/// Longest story that is lived through before the screen opens.
const LONGEST: Duration = Duration::from_secs(4 * 3600);

/// The simulation at the pace of the wall clock.
struct DemoSource {
    machine: Arc<Mutex<SimulatedMachine>>,
    ahead: Duration,
    begun: Option<Instant>,
}

impl Source for DemoSource {
    fn host(&self) -> HostFacts {
        lock(&self.machine).host()
    }

    fn want(&mut self, wanted: Wanted) {
        lock(&self.machine).want(wanted);
    }

    fn read(&mut self) -> Reading {
        let begun = *self.begun.get_or_insert_with(Instant::now);
        loop {
            let mut machine = lock(&self.machine);
            // Two readings at one instant of the simulation would look like a clock that stands still.
            if machine.advance_to(self.ahead + begun.elapsed()) {
                return machine.reading();
            }
            drop(machine);
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

/// Incidents at the pace of the wall clock.
struct IncidentSource {
    troubled: Arc<Mutex<Troubled>>,
    ahead: Duration,
    /// Seconds that were lived through.
    lived: u64,
    begun: Option<Instant>,
}

impl Source for IncidentSource {
    fn host(&self) -> HostFacts {
        (*lock(&self.troubled).host()).clone()
    }

    fn read(&mut self) -> Reading {
        let begun = *self.begun.get_or_insert_with(Instant::now);
        loop {
            let until = (self.ahead + begun.elapsed()).as_secs();
            let mut newest = None;
            while self.lived < until {
                newest = Some(lock(&self.troubled).pass());
                self.lived += 1;
            }
            if let Some(newest) = newest {
                return (*newest).clone();
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

/// Why nothing can be done to processes that exist for one incident.
const MADE_UP: &str = "these processes are made up: nothing can be done to them";

impl Demo {
    pub fn run(self) -> anyhow::Result<Option<i32>> {
        self.look.check()?;
        if let Some(rule) = &self.incident {
            return self.incidents(rule);
        }
        let after = self.after.unwrap_or_default();
        if after + self.length.unwrap_or_default() > LONGEST {
            return Err(super::options::Misuse("the night has 4 hours only".to_owned()).into());
        }
        if let (Some(path), Some(length)) = (&self.record, self.length) {
            return self.record(path, after, length);
        }
        need_terminal()?;
        let begun = begin()?;
        let ahead = Duration::from_secs_f64(PRELUDE) + after;
        let mut machine = SimulatedMachine::at(self.machine.site(), self.seed);
        machine.want(Wanted::NOTHING.with(Demand::CoreWait));
        let steps = (ahead.as_secs_f64() / self.every.as_secs_f64()) as u32;
        let machine = Arc::new(Mutex::new(machine));
        let (simulated, every) = (machine.clone(), self.every);
        let past = (0..steps).map(move |step| {
            let mut machine = lock(&simulated);
            machine.advance_to(every * step);
            machine.reading()
        });
        let source = DemoSource { machine: machine.clone(), ahead, begun: None };
        let timeline = Timeline::live(Arc::new(source.host()));
        let mut state = State::new(timeline, plain_theme(), self.every, (0, 0));
        state.act_as(&USER.into(), None);
        show(&self.look, &self.pids, state, "demo", Some(self.every), begun, |state, post| {
            let pace = feed::start(Box::new(source), state.values.every, past, post.of_feed());
            Connections { machine: machine::Machine::Simulated(machine), notes: None, pace: Some(pace) }
        })
    }

    /// Shows incidents, or writes them into a file.
    fn incidents(&self, rule: &str) -> anyhow::Result<Option<i32>> {
        let rule = Some(rule).filter(|rule| *rule != "all");
        let Some(mut troubled) = Troubled::new(rule) else {
            let rule = rule.unwrap_or_default();
            let near = nearest(rule, incidents().iter().map(|one| one.rule));
            let hint = near
                .map_or("docs/findings.md has them all".to_owned(), |near| format!("did you mean {near}?"));
            return Err(super::options::Misuse(format!("no rule is called '{rule}'; {hint}")).into());
        };
        let step = self.every.as_secs();
        if step == 0 || self.every.subsec_nanos() > 0 {
            return Err(super::options::Misuse(
                "incidents go second by second: --every 1s, 2s, …".to_owned(),
            )
            .into());
        }
        let begun = if self.record.is_none() {
            need_terminal()?;
            Some(begin()?)
        } else {
            None
        };
        let after = self.after.unwrap_or_default().as_secs();
        let shown = move |second: u64| (second + 1).is_multiple_of(step);
        if let (Some(path), Some(length)) = (&self.record, self.length) {
            (0..after).for_each(|_| drop(troubled.pass()));
            let mut recorder = Recorder::create(path, World::host(), self.every)?;
            for second in 0..=length.as_secs() {
                let reading = troubled.pass();
                if shown(second) {
                    recorder.write(&reading)?;
                }
            }
            problem::say(&recorder.finish()?);
            return Ok(None);
        }
        let Some(begun) = begun else { return Ok(None) };
        let troubled = Arc::new(Mutex::new(troubled));
        let simulated = troubled.clone();
        let past = (0..after).filter_map(move |second| {
            let reading = lock(&simulated).pass();
            shown(second).then(|| (*reading).clone())
        });
        let source =
            IncidentSource { troubled, ahead: Duration::from_secs(after), lived: after, begun: None };
        let state = State::new(Timeline::live(Arc::new(source.host())), plain_theme(), self.every, (0, 0));
        show(&self.look, &self.pids, state, "demo", Some(self.every), begun, |state, post| {
            let pace = feed::start(Box::new(source), state.values.every, past, post.of_feed());
            Connections { machine: machine::Machine::Elsewhere(MADE_UP), notes: None, pace: Some(pace) }
        })
    }

    /// Writes a part of the night into a file.
    fn record(&self, path: &Path, after: Duration, length: Duration) -> anyhow::Result<Option<i32>> {
        let mut machine = SimulatedMachine::at(self.machine.site(), self.seed);
        machine.want(Wanted::recorded());
        let begin = Duration::from_secs_f64(PRELUDE) + after;
        machine.advance_to(begin);
        let _ = machine.reading();
        let mut recorder = Recorder::create(path, Arc::new(machine.host()), self.every)?;
        let mut at = Duration::ZERO;
        while at <= length {
            machine.advance_to(begin + at);
            recorder.write(&Arc::new(machine.reading()))?;
            at += self.every;
        }
        problem::say(&recorder.finish()?);
        Ok(None)
    }
}
