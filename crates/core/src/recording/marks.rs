//! Marks: what happened at an instant, in words. Notes, actions and losses stand in a recording beside its readings.

use crate::deed::Record;
use crate::lane::{Lane, Severity};
use crate::run::RunAccount;
use crate::text::clean;
use serde::{Deserialize, Deserializer, Serialize};

/// What kind of mark it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MarkKind {
    /// Somebody wanted to remember the moment.
    Bookmark,
    /// Something was done to processes.
    Action,
    /// Something stands out from here on, or is over.
    Finding,
    /// Readings before the next one could not be taken or written.
    Lost,
    /// Something that whoever reads should know, such as a recorder that began.
    #[serde(other)]
    Note,
}

impl MarkKind {
    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            MarkKind::Bookmark => "bookmark",
            MarkKind::Action => "action",
            MarkKind::Finding => "finding",
            MarkKind::Lost => "lost",
            MarkKind::Note => "note",
        }
    }
}

/// What was found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Found {
    /// The rule that found it.
    pub rule: String,
    /// Which of several: a device, a process, a group.
    #[serde(default)]
    pub subject: String,
    /// The resource.
    pub lane: Lane,
    /// How bad it was at worst up to then.
    pub severity: Severity,
    /// When it began, in nanoseconds since 1970 (UTC).
    pub from_ns: i64,
    /// When it was over; none where the mark tells of its beginning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until_ns: Option<i64>,
}

/// Something at an instant.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    /// When, in nanoseconds since 1970 (UTC).
    pub wall_ns: i64,
    /// What kind it is.
    pub kind: MarkKind,
    /// In words.
    #[serde(default)]
    pub text: String,
    /// How many readings were lost, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub readings: Option<u64>,
    /// What was done, target by target, of an action.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub deeds: Vec<Record>,
    /// What was found, of a finding.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "found_or_nothing")]
    pub found: Option<Found>,
    /// The account of a command that was followed, where this is its end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<Box<RunAccount>>,
}

/// What this version does not understand costs no more than itself: the words stay.
fn found_or_nothing<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Found>, D::Error> {
    let value = serde_json::Value::deserialize(from)?;
    Ok(serde_json::from_value(value).ok())
}

impl Mark {
    /// A mark with a text.
    pub fn new(wall_ns: i64, kind: MarkKind, text: impl Into<String>) -> Mark {
        Mark { wall_ns, kind, text: text.into(), readings: None, deeds: vec![], found: None, run: None }
    }

    /// Its frame's payload.
    pub(super) fn payload(&self) -> Vec<u8> {
        serde_json::to_vec(self).unwrap_or_else(|_| unreachable!("a mark has only plain fields"))
    }

    /// Reads it; none where it makes no sense.
    pub(super) fn parse(payload: &[u8]) -> Option<Mark> {
        let mark: Mark = serde_json::from_slice(payload).ok()?;
        let deeds = mark.deeds.into_iter().map(Record::cleaned).collect();
        let run = mark.run.map(|run| Box::new(run.cleaned()));
        let found = mark.found.map(|found| Found {
            rule: clean(found.rule.as_bytes()),
            subject: clean(found.subject.as_bytes()),
            ..found
        });
        Some(Mark { text: clean(mark.text.as_bytes()), deeds, found, run, ..mark })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_later_version_found_keeps_its_words() {
        let found = r#"{"rule":"a","lane":"light","severity":"Blinding","from_ns":1}"#;
        let text = format!(r#"{{"wall_ns":5,"kind":"finding","text":"too \u0007bright","found":{found}}}"#);
        let mark = Mark::parse(text.as_bytes()).expect("a mark");
        assert_eq!((mark.kind, mark.found), (MarkKind::Finding, None));
        assert!(mark.text.starts_with("too ") && !mark.text.contains('\u{7}'), "{:?}", mark.text);
        let ours = text.replace("light", "heat").replace("Blinding", "warning");
        let found = Mark::parse(ours.as_bytes()).expect("a mark").found.expect("what this version knows");
        assert_eq!((found.lane, found.severity, found.until_ns), (Lane::Heat, Severity::Warning, None));
        assert_eq!(
            Mark::parse(br#"{"wall_ns":5,"kind":"glow","text":"x"}"#).map(|mark| mark.kind),
            Some(MarkKind::Note)
        );
    }
}
