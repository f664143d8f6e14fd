//! How a deed is kept in a recording: who did what to whom, and what became of it, all as text that anybody can read.

use super::{Account, Deed, Target};
use crate::text::clean;
use serde::{Deserialize, Serialize};

/// One deed at one target.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Record {
    /// What was done: `signal TERM`, `nice 5`.
    pub deed: String,
    /// The user who did it.
    pub by: String,
    /// PID of the target.
    pub pid: i64,
    /// Its start in clock ticks after boot.
    pub start: i64,
    /// Its name.
    pub name: String,
    /// Its user.
    pub user: String,
    /// How it was before; empty where that says nothing.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub before: String,
    /// How it was afterwards, as read back.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub after: String,
    /// What became of it, in words; empty where that is not known yet.
    pub outcome: String,
    /// Whether what was wanted is so.
    pub done: bool,
}

impl Record {
    /// What became of a deed at a target.
    pub fn new(deed: &Deed, by: &str, target: &Target, account: &Account) -> Record {
        let value = |deed: &Option<Deed>| deed.as_ref().map_or(String::new(), Deed::value);
        Record {
            deed: deed.name(),
            by: by.to_owned(),
            pid: target.key.pid,
            start: target.key.start,
            name: target.name.to_string(),
            user: target.user.to_string(),
            before: value(&account.before),
            after: value(&account.after),
            outcome: account.words(),
            done: account.is_good(),
        }
    }

    /// Without what could do harm on a screen: it may come from anybody's file.
    #[must_use]
    pub fn cleaned(self) -> Record {
        let clean = |text: String| clean(text.as_bytes());
        Record {
            deed: clean(self.deed),
            by: clean(self.by),
            name: clean(self.name),
            user: clean(self.user),
            before: clean(self.before),
            after: clean(self.after),
            outcome: clean(self.outcome),
            ..self
        }
    }

    /// In one line: `nice 5 to stacker[3820] by astro: nice 0 → 5`.
    pub fn words(&self) -> String {
        let Record { deed, name, pid, by, outcome, .. } = self;
        format!("{deed} to {name}[{pid}] by {by}: {outcome}")
    }
}
