//! What a rule is, and what it says of one sample.

use super::culprit::{Culprit, Evidence};
use super::limit::Limit;
use super::scene::Scene;
use super::step::Advice;
use crate::catalogue::Unit;
use crate::lane::{Lane, Severity};

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
    pub next: &'static [Advice],
    /// From where on it speaks, as far as somebody may want that otherwise.
    pub limits: &'static [Limit],
    /// It is about numbers that may not be passed, or about processes, not about how full a resource is.
    pub is_of_limits: bool,
    /// Its resource's lane shows the measure itself.
    pub is_of_lane: bool,
}

impl About {
    /// A rule that stands alone, for the rest of a table's row.
    pub const PLAIN: About = About {
        name: "",
        lane: Lane::Cpu,
        title: "",
        least: 0.0,
        calm: 0.0,
        explained_by: &[],
        causes: "",
        next: &[],
        limits: &[],
        is_of_limits: false,
        is_of_lane: false,
    };
}

/// A rule of the elimination.
pub trait Rule: Send {
    /// What is known about it beforehand.
    fn about(&self) -> &'static About;
    /// What it sees in a sample, most often nothing.
    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>);
    /// What it says of a sample by itself, whatever was before: of one that covers the last seconds, so that numbers in
    /// sentences do not jump, or of the only one that there is. Nothing where it needs the time before.
    fn tell(&self, _scene: &Scene<'_>, _seen: &mut Vec<Seen>) {}
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

/// A rule that needs nothing of the time before.
pub struct Simple(pub &'static About, pub fn(&Scene<'_>, &mut Vec<Seen>));

impl Rule for Simple {
    fn about(&self) -> &'static About {
        self.0
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        self.1(scene, seen);
    }

    fn tell(&self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        self.1(scene, seen);
    }
}
