//! What has begun and what is over since one last looked into a history: for marks and messages.

use super::finding::Finding;
use super::history::History;
use crate::recording::{Found, Mark, MarkKind};
use std::collections::BTreeSet;

/// The mark in a recording that says what has begun, or is over.
pub fn mark(one: &Finding, is_over: bool, wall_ns: i64) -> Mark {
    let found = Found {
        rule: one.about.name.to_owned(),
        subject: one.subject.clone(),
        lane: one.about.lane,
        severity: one.worst,
        from_ns: one.from_ns,
        until_ns: is_over.then_some(one.until_ns),
    };
    Mark { found: Some(found), ..Mark::new(wall_ns, MarkKind::Finding, one.worst_told().sentence.clone()) }
}

/// Follows a history.
#[derive(Default)]
pub struct Changes {
    /// Findings from this number on were not told yet.
    next: usize,
    /// Numbers of those that were told and stand.
    standing: BTreeSet<usize>,
}

impl Changes {
    /// What is over (`true`) and what has begun since the last time. Consequences are told with their causes, not by themselves.
    pub fn look<'a>(&mut self, history: &'a History) -> Vec<(&'a Finding, bool)> {
        let mut changes = vec![];
        self.standing.retain(|number| {
            let Some(one) = history.find(*number) else { return false };
            if one.over {
                changes.push((one, true));
            }
            !one.over
        });
        for one in history.all().iter().filter(|one| one.number >= self.next) {
            if one.under.is_none() && !one.over {
                self.standing.insert(one.number);
                changes.push((one, false));
            }
        }
        self.next = history.next_number();
        changes
    }
}
