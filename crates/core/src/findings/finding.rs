//! A conclusion, from its beginning to its end, and how it was told.

use super::culprit::{Culprit, Evidence};
use super::rule::About;
use crate::lane::Severity;
use crate::units::NANOS;
use serde::{Deserialize, Serialize};

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
    /// It is so at this hour on most days.
    #[serde(default)]
    pub usual: bool,
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
    /// It was so already when watching began: it began at `from_ns` or before.
    pub is_older: bool,
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
    /// Who joined in while it stood, and when.
    pub joined: Vec<(i64, Culprit)>,
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

    /// Who joined in while it stood and was still in it at a time, the first one first.
    pub fn joined_at(&self, wall_ns: i64) -> impl Iterator<Item = &(i64, Culprit)> {
        let told = self.at(wall_ns);
        let there = |one: &Culprit| told.culprits.iter().any(|other| other.name == one.name);
        self.joined.iter().filter(move |(since, one)| *since <= wall_ns && there(one))
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
