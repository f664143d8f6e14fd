//! Who does it, and the numbers that speak for it.

use crate::catalogue::Unit;
use crate::reading::ProcessKey;
use serde::{Deserialize, Serialize};

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
