//! What stands out: an experienced person's elimination at every sample, with culprit and evidence.
//!
//! A [`Rule`] looks at one sample (as a [`Scene`]) and may keep what it needs of the time before; it says what it sees
//! ([`Seen`]) and nothing about how long. The [`Engine`] waits until something has held long enough, keeps it until it has been
//! away long enough, puts consequences under their cause, and keeps the history. The same samples give the same findings,
//! whether they come live or from a recording: nothing else goes in.
//!
//! Severity goes by harm, not by use: critical is where somebody waits who should not or something will be lost, a warning what
//! will hurt soon or hurts somebody, a notice what is worth knowing.

mod check;
mod engine;
mod history;
mod replay;
pub mod rules;
mod scene;

pub use check::{Part, Reported, Verdict, findings_json};
pub use engine::{Engine, Standing};
pub use history::History;
pub use replay::found_in;
pub use scene::Scene;

use crate::catalogue::Unit;
use crate::lane::{Lane, Severity};
use crate::reading::ProcessKey;
use crate::units::NANOS;
use serde::{Deserialize, Serialize};

/// What is known about a rule beforehand.
#[derive(Debug, PartialEq)]
pub struct About {
    /// Its name in settings and outputs: `disk-saturated`.
    pub name: &'static str,
    /// The resource that it is about.
    pub lane: Lane,
    /// What it watches for, in a few words.
    pub title: &'static str,
    /// Seconds that it must hold before it is told.
    pub least: f64,
    /// Seconds that it must be away before it is over.
    pub calm: f64,
    /// Rules whose findings have this one as a consequence.
    pub explained_by: &'static [&'static str],
    /// What usually causes it.
    pub causes: &'static str,
    /// What to do next.
    pub next: &'static str,
}

/// A rule of the elimination.
pub trait Rule: Send {
    /// What is known about it beforehand.
    fn about(&self) -> &'static About;
    /// What it sees in a sample, most often nothing.
    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>);
}

/// Who does it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Culprit {
    /// The PID, of a single process.
    pub pid: Option<i64>,
    /// Its start in clock ticks after boot.
    pub start: Option<i64>,
    /// A process by name and PID, a program by name and number, else a device, group or peer.
    pub name: String,
    /// Its share in percent of what was measured for the machine, where that says something.
    pub share: Option<f64>,
}

impl Culprit {
    /// The process, where it is one.
    pub fn key(&self) -> Option<ProcessKey> {
        Some(ProcessKey { pid: self.pid.filter(|pid| *pid > 0)?, start: self.start? })
    }

    /// Something that is no process.
    pub fn thing(name: impl Into<String>) -> Culprit {
        Culprit { pid: None, start: None, name: name.into(), share: None }
    }
}

/// A number that speaks for a finding.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Evidence {
    /// What it is: a metric of the catalogue as one asks for it, `disk.busy{sda}`, `write@3820`.
    pub metric: String,
    /// Its value in the metric's unit.
    pub value: f64,
    /// The unit's word.
    pub unit: String,
    /// As people read it.
    pub text: String,
}

impl Evidence {
    /// A number with its unit.
    pub fn new(metric: impl Into<String>, value: f64, unit: Unit) -> Evidence {
        let unit_word = if unit == Unit::Number { "" } else { unit.word() };
        Evidence { metric: metric.into(), value, unit: unit_word.to_owned(), text: unit.long(value) }
    }
}

/// What a rule sees in one sample.
#[derive(Clone, Debug, PartialEq)]
pub struct Seen {
    /// Which of several: a device, a process, a group; empty where there is only one.
    pub subject: String,
    /// How bad it is.
    pub severity: Severity,
    /// One sentence with numbers.
    pub sentence: String,
    /// Who does it, the main one first.
    pub culprits: Vec<Culprit>,
    /// Numbers that speak for it.
    pub evidence: Vec<Evidence>,
}

impl Seen {
    /// Something that is seen, without culprit and evidence yet.
    pub fn new(severity: Severity, subject: impl Into<String>, sentence: impl Into<String>) -> Seen {
        Seen {
            subject: subject.into(),
            severity,
            sentence: sentence.into(),
            culprits: vec![],
            evidence: vec![],
        }
    }

    /// With who does it.
    #[must_use]
    pub fn by(mut self, culprits: impl IntoIterator<Item = Culprit>) -> Seen {
        self.culprits.extend(culprits);
        self
    }

    /// With a number that speaks for it.
    #[must_use]
    pub fn with(mut self, metric: impl Into<String>, value: f64, unit: Unit) -> Seen {
        self.evidence.push(Evidence::new(metric, value, unit));
        self
    }
}

/// How a finding was told at an instant.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Telling {
    /// When, in nanoseconds since 1970 (UTC).
    pub wall_ns: i64,
    /// How bad it was.
    pub severity: Severity,
    /// In one sentence.
    pub sentence: String,
    /// Who did it.
    pub culprits: Vec<Culprit>,
    /// Numbers that spoke for it.
    pub evidence: Vec<Evidence>,
}

/// A conclusion, from its beginning to its end.
#[derive(Clone, Debug, PartialEq)]
pub struct Finding {
    /// Its number in this history.
    pub number: usize,
    /// The rule that found it.
    pub about: &'static About,
    /// Which of several.
    pub subject: String,
    /// When it began, in nanoseconds since 1970 (UTC).
    pub from_ns: i64,
    /// When it was last so; while it stands, the newest sample.
    pub until_ns: i64,
    /// Whether it is over.
    pub over: bool,
    /// How bad it was at worst.
    pub worst: Severity,
    /// How it was told, in the order of time: again where severity or culprit changed, else now and then.
    pub tellings: Vec<Telling>,
    /// The findings that it is a consequence of, and from when on.
    pub under: Option<(usize, i64)>,
    /// What was ruled out when it began.
    pub ruled_out: Vec<String>,
}

impl Finding {
    /// How it was told at a time, or at first.
    pub fn at(&self, wall_ns: i64) -> &Telling {
        let told = self.tellings.partition_point(|telling| telling.wall_ns <= wall_ns);
        &self.tellings[told.saturating_sub(1)]
    }

    /// How it was told last.
    pub fn last(&self) -> &Telling {
        &self.tellings[self.tellings.len() - 1]
    }

    /// How it was told when it was worst, the last time.
    pub fn worst_told(&self) -> &Telling {
        self.tellings.iter().rev().find(|told| told.severity == self.worst).unwrap_or_else(|| self.last())
    }

    /// How long it lasts, in seconds.
    pub fn seconds(&self) -> f64 {
        (self.until_ns - self.from_ns).max(0) as f64 / NANOS as f64
    }

    /// Whether it stood at a time.
    pub fn stood(&self, wall_ns: i64) -> bool {
        self.from_ns <= wall_ns && wall_ns <= self.until_ns
    }

    /// A name that stays the same for the same trouble, by which it is put to rest.
    pub fn name(&self) -> String {
        if self.subject.is_empty() {
            self.about.name.to_owned()
        } else {
            format!("{} {}", self.about.name, self.subject)
        }
    }
}
