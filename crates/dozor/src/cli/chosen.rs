//! Processes of this machine that a command is about, by PID or by what they are.

use super::options::{Kept, KernelFiles, Misuse, pid};
use clap::Args;
use dozor_core::deed::{Target, descendants, targets};
use dozor_core::rank::Narrowing;
use dozor_core::reading::{HostFacts, ProcessKey};
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::Wanted;
use dozor_linux::{LiveSource, own};
use std::sync::Arc;
use std::time::Duration;

/// Rates are those of this time.
const SPAN: Duration = Duration::from_millis(500);

/// Which processes a command acts on.
#[derive(Args)]
pub struct Chosen {
    /// These processes
    #[arg(value_name = "PID", value_parser = pid)]
    pub pids: Vec<i64>,
    /// Also all that descend from them
    #[arg(long)]
    pub descendants: bool,
    #[command(flatten)]
    pub kept: Kept,
    #[command(flatten)]
    pub files: KernelFiles,
}

/// What was chosen.
pub struct Choice {
    /// The machine at that instant.
    pub sample: Sample,
    /// Those that are meant.
    pub targets: Vec<Target>,
    /// PIDs that were named and are not there.
    pub missing: Vec<i64>,
}

/// A sample of this machine: of one reading, or where rates are asked for of two.
pub fn sample(files: &KernelFiles, wanted: Wanted, rates: bool) -> anyhow::Result<Sample> {
    let mut source = LiveSource::open(files.roots())?;
    source.want(wanted);
    let host: Arc<HostFacts> = Arc::new(source.host());
    let mut before = None;
    if rates {
        before = Some(Arc::new(source.read()));
        std::thread::sleep(SPAN);
    }
    Ok(Sample::new(host, before, Arc::new(source.read())))
}

/// The processes of a sample that an expression and the like hold for.
pub fn kept(narrowing: &mut Narrowing, sample: &Sample) -> Vec<ProcessKey> {
    narrowing.follow(sample);
    let filter = narrowing.at(sample);
    let here = 0..sample.now.processes.len();
    here.filter(|at| filter.matches(&sample.process(*at)) == Some(true))
        .map(|at| sample.now.processes[at].key())
        .collect()
}

impl Kept {
    /// Whether it says anything.
    pub fn says(&self) -> bool {
        self.narrow.is_some() || !self.user.is_empty() || self.mine || self.active
    }

    /// A narrowing by this alone.
    pub fn narrowing(&self) -> Result<Narrowing, Misuse> {
        let mut narrowing = Narrowing::of(own::user());
        self.apply(&mut narrowing)?;
        Ok(narrowing)
    }
}

impl Chosen {
    /// Finds them.
    pub fn find(&self) -> anyhow::Result<Choice> {
        if self.pids.is_empty() && !self.kept.says() {
            return Err(Misuse("say to whom: PIDs, or --where EXPRESSION".to_owned()).into());
        }
        self.kept.check_users()?;
        let mut narrowing = self.kept.narrowing()?;
        let sample = sample(&self.files, narrowing.wanted(), self.kept.says())?;
        let key_of = |pid: i64| {
            let row = sample.now.processes.iter().find(|row| row.pid.value() == Some(pid));
            row.map(|row| row.key())
        };
        let mut missing = vec![];
        let mut keys: Vec<ProcessKey> = vec![];
        if self.pids.is_empty() {
            keys = kept(&mut narrowing, &sample);
        } else {
            let held = self.kept.says().then(|| kept(&mut narrowing, &sample));
            for pid in &self.pids {
                match key_of(*pid) {
                    Some(key) if held.as_ref().is_none_or(|held| held.contains(&key)) => keys.push(key),
                    Some(_) => {}
                    None => missing.push(*pid),
                }
            }
        }
        if self.descendants {
            keys = descendants(&sample, &keys);
        }
        let mut seen = std::collections::HashSet::new();
        keys.retain(|key| seen.insert(*key));
        let targets = targets(&sample, &keys);
        Ok(Choice { sample, targets, missing })
    }
}
