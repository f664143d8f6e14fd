//! Findings in the order of their beginning, those that are over too.

use super::finding::Finding;
use crate::lane::Severity;
use crate::sorting::ColdSort as _;

/// Findings that are kept; of more the oldest that are over go.
const MOST: usize = 1_000;

/// All findings of a time.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct History {
    findings: Vec<Finding>,
}

impl History {
    /// All of them, in the order of their beginning.
    pub fn all(&self) -> &[Finding] {
        &self.findings
    }

    /// The number that the next one will have.
    pub fn next_number(&self) -> usize {
        self.findings.last().map_or(0, |last| last.number + 1)
    }

    /// The one with a number.
    pub fn find(&self, number: usize) -> Option<&Finding> {
        self.findings
            .binary_search_by_key(&number, |finding| finding.number)
            .ok()
            .map(|at| &self.findings[at])
    }

    pub(super) fn find_mut(&mut self, number: usize) -> Option<&mut Finding> {
        let at = self.findings.binary_search_by_key(&number, |finding| finding.number).ok()?;
        self.findings.get_mut(at)
    }

    pub(super) fn push(&mut self, finding: Finding) {
        self.findings.push(finding);
        if self.findings.len() > MOST
            && let Some(old) = self.findings.iter().position(|finding| finding.over)
        {
            self.findings.remove(old);
        }
    }

    /// Those that stood at a time and are nobody's consequence then: the worst first, then what is not usual, then the oldest.
    pub fn at(&self, wall_ns: i64) -> Vec<&Finding> {
        let mut standing: Vec<&Finding> = self.findings.iter().filter(|one| one.stood(wall_ns)).collect();
        standing.retain(|one| !self.is_hidden(one, wall_ns));
        standing.cold_sort_by_key(|one| {
            let told = one.at(wall_ns);
            (std::cmp::Reverse(told.severity), told.usual, one.from_ns, one.number)
        });
        standing
    }

    /// Whether a finding stands under another one at a time.
    fn is_hidden(&self, finding: &Finding, wall_ns: i64) -> bool {
        let cause = finding.under.filter(|(_, since)| *since <= wall_ns);
        cause.and_then(|(cause, _)| self.find(cause)).is_some_and(|cause| cause.stood(wall_ns))
    }

    /// What a finding explained at a time.
    pub fn explained(&self, number: usize, wall_ns: i64) -> Vec<&Finding> {
        let under =
            |one: &&Finding| one.under.is_some_and(|(cause, _)| cause == number) && one.stood(wall_ns);
        self.findings.iter().filter(under).collect()
    }

    /// Those that stood at some time within a span, but for consequences.
    pub fn within(&self, from_ns: i64, until_ns: i64) -> Vec<&Finding> {
        let mut found: Vec<&Finding> = self
            .findings
            .iter()
            .filter(|one| one.from_ns <= until_ns && one.until_ns >= from_ns && one.under.is_none())
            .collect();
        found.cold_sort_by_key(|one| (std::cmp::Reverse(one.worst), one.from_ns, one.number));
        found
    }

    /// The same with consequences, in the order of their beginning.
    pub fn within_all(&self, from_ns: i64, until_ns: i64) -> impl Iterator<Item = &Finding> {
        self.findings.iter().filter(move |one| one.from_ns <= until_ns && one.until_ns >= from_ns)
    }

    /// The worst that stood at a time.
    pub fn worst(&self, wall_ns: i64) -> Severity {
        self.at(wall_ns).first().map_or(Severity::Fine, |one| one.at(wall_ns).severity)
    }
}
