//! From where on rules speak, and how somebody may have it otherwise.

use crate::catalogue::Unit;
use crate::expr::amount;
use crate::lane::Severity;
use std::collections::BTreeMap;

/// From where on something is told.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Limit {
    /// Its name in the settings.
    pub name: &'static str,
    /// What it limits.
    pub what: &'static str,
    /// The metric of the evidence that it is held against, where its unit does not tell.
    pub of: &'static str,
    /// The unit of its values.
    pub unit: Unit,
    /// Three for notice, warning and critical, or fewer where `what` says which.
    pub values: &'static [f64],
}

/// How a rule is to behave.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Manner {
    /// Nothing is to be heard of it.
    pub off: bool,
    /// For how long it must hold.
    pub least: Option<f64>,
    /// For how long it must be away.
    pub calm: Option<f64>,
    /// How bad it may be at most.
    pub most: Option<Severity>,
}

/// What somebody wants otherwise than the rules have it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Adjusted {
    limits: BTreeMap<(&'static str, &'static str), Vec<f64>>,
    rules: BTreeMap<&'static str, Manner>,
}

impl Adjusted {
    /// How a rule is to behave.
    pub fn manner(&mut self, rule: &'static str) -> &mut Manner {
        self.rules.entry(rule).or_default()
    }

    /// Gives a limit of a rule other values, as many as it has.
    pub fn give(&mut self, rule: &'static str, limit: &Limit, values: Vec<f64>) {
        if values.len() == limit.values.len() {
            self.limits.insert((rule, limit.name), values);
        }
    }

    /// The values of a limit of a rule, as many as there are.
    pub fn all_values<'a>(&'a self, rule: &'static str, limit: &'a Limit) -> &'a [f64] {
        self.limits.get(&(rule, limit.name)).map_or(limit.values, Vec::as_slice)
    }

    /// The values of a limit of a rule.
    pub fn values<const N: usize>(&self, rule: &'static str, limit: &Limit) -> [f64; N] {
        let own = self.limits.get(&(rule, limit.name));
        let values = own.map_or(limit.values, Vec::as_slice);
        values.try_into().unwrap_or_else(|_| unreachable!("{} has {} values", limit.name, limit.values.len()))
    }

    /// Whether nothing is to be heard of a rule.
    pub fn is_off(&self, rule: &str) -> bool {
        self.rules.get(rule).is_some_and(|manner| manner.off)
    }

    /// For how long it must hold before it is told.
    pub fn least(&self, rule: &str, usual: f64) -> f64 {
        self.rules.get(rule).and_then(|manner| manner.least).unwrap_or(usual)
    }

    /// For how long it must be away before it is over.
    pub fn calm(&self, rule: &str, usual: f64) -> f64 {
        self.rules.get(rule).and_then(|manner| manner.calm).unwrap_or(usual)
    }

    /// How bad it may be at most.
    pub fn most(&self, rule: &str) -> Severity {
        self.rules.get(rule).and_then(|manner| manner.most).unwrap_or(Severity::Critical)
    }
}

impl Limit {
    /// Reads its values: as many as it has, with commas between them.
    pub fn read(&self, text: &str) -> Result<Vec<f64>, String> {
        let one = |word: &str| match word.trim() {
            "never" if self.falls() => Ok(f64::NEG_INFINITY),
            "never" => Ok(f64::INFINITY),
            word => amount(word, self.unit),
        };
        let values = text.split(',').map(one).collect::<Result<Vec<f64>, String>>()?;
        let many = self.values.len();
        if values.len() != many {
            let what = if many == 3 { "three values: notice, warning, critical" } else { self.what };
            return Err(format!("{} needs {many} of them, not {} ({what})", self.name, values.len()));
        }
        let rises = values.is_sorted();
        let falls = values.is_sorted_by(|a, b| a >= b);
        if !(if self.falls() { falls } else { rises }) {
            let how = if self.falls() { "falling" } else { "rising" };
            return Err(format!("{} needs {how} values: '{text}'", self.name));
        }
        Ok(values)
    }

    /// Whether less is worse.
    fn falls(&self) -> bool {
        self.values.first() > self.values.last()
    }

    /// Its values as somebody would write them.
    pub fn text(&self) -> String {
        self.text_of(self.values)
    }

    /// Other values of it as somebody would write them.
    pub fn text_of(&self, values: &[f64]) -> String {
        let one = |value: &f64| match self.unit {
            _ if !value.is_finite() => "never".to_owned(),
            Unit::Seconds => whole_units(*value),
            unit => unit.long(*value),
        };
        values.iter().map(one).collect::<Vec<_>>().join(", ")
    }
}

/// A duration in the largest unit of which it is a whole number, as expressions read it.
fn whole_units(seconds: f64) -> String {
    const UNITS: [(f64, &str); 3] = [(86_400.0, "d"), (3_600.0, "h"), (60.0, "min")];
    let whole = UNITS.iter().find(|(unit, _)| seconds >= *unit && seconds % unit == 0.0);
    match whole {
        Some((unit, name)) => format!("{} {name}", seconds / unit),
        None => format!("{seconds} s"),
    }
}

#[cfg(test)]
mod tests {
    use crate::findings::rules;

    #[test]
    fn every_limit_is_read_as_it_is_written() {
        let rules = rules::all();
        let all = rules.iter().flat_map(|rule| rule.about().limits.iter().map(|limit| (rule.about(), limit)));
        for (about, limit) in all {
            let read = limit.read(&limit.text());
            let name = format!("{} {}: {}", about.name, limit.name, limit.text());
            let read = read.unwrap_or_else(|problem| panic!("{name}: {problem}"));
            for (value, read) in limit.values.iter().zip(read) {
                // Bytes are written in few digits.
                let is_near = (value - read).abs() <= 0.02 * value.abs();
                assert!(is_near || value.is_infinite() && read.is_infinite(), "{name}: {read}");
            }
        }
    }
}
