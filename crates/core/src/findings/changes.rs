//! What has begun and what is over since one last looked into a history: for marks and messages.

use super::finding::Finding;
use super::history::History;
use std::collections::BTreeSet;

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
