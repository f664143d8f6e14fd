//! What somebody says of rules in the settings.

use super::limit::Adjusted;
use super::rules;
use crate::catalogue::Unit;
use crate::expr::amount;
use crate::lane::Severity;
use crate::text::nearest;

/// What can be said of any rule, and what that means.
pub const MANNERS: [(&str, &str); 4] = [
    ("off", "true: the rule says nothing"),
    ("for", "how long it must hold before it is reported"),
    ("over", "how long it must be away before it is over"),
    ("severity", "the highest severity that it may have: notice, warning or critical"),
];

impl Adjusted {
    /// Says something of a rule: one of its limits, or how it is to behave. `Err` says what is wrong with it.
    pub fn set(&mut self, rule: &str, field: &str, text: &str) -> Result<(), String> {
        let all = rules::all();
        let Some(about) = all.iter().map(|one| one.about()).find(|about| about.name == rule) else {
            let near = nearest(rule, all.iter().map(|one| one.about().name));
            let hint = near
                .map_or("docs/findings.md has them all".to_owned(), |near| format!("did you mean {near}?"));
            return Err(format!("no rule is called '{rule}'; {hint}"));
        };
        let manner = self.manner(about.name);
        match field {
            "off" => {
                manner.off = text.parse().map_err(|_| format!("off is true or false, not '{text}'"))?;
            }
            "for" => manner.least = Some(length(text)?),
            "over" => manner.calm = Some(length(text)?),
            "severity" => {
                manner.most = Some(match text {
                    "notice" => Severity::Notice,
                    "warning" => Severity::Warning,
                    "critical" => Severity::Critical,
                    _ => return Err(format!("severity is notice, warning or critical, not '{text}'")),
                });
            }
            _ => {
                let Some(limit) = about.limits.iter().find(|limit| limit.name == field) else {
                    let names =
                        about.limits.iter().map(|limit| limit.name).chain(MANNERS.map(|(name, _)| name));
                    let known: Vec<&str> = names.clone().collect();
                    let near = nearest(field, names);
                    let hint = near.map_or(format!("it has {}", known.join(", ")), |near| {
                        format!("did you mean {near}?")
                    });
                    return Err(format!("{rule} has no '{field}'; {hint}"));
                };
                self.give(about.name, limit, limit.read(text)?);
            }
        }
        Ok(())
    }
}

fn length(text: &str) -> Result<f64, String> {
    let seconds = amount(text, Unit::Seconds)?;
    if seconds < 0.0 { Err(format!("'{text}' is less than nothing")) } else { Ok(seconds) }
}
