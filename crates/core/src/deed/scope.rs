//! Whom a deed is for: one process, it and those below it, all of a name, some.

use super::Target;
use crate::reading::{ProcessKey, ProcessRow};
use crate::row::Row as _;
use crate::sample::Sample;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// Whom a deed is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// The process that was chosen.
    This,
    /// It and all below it.
    Descendants,
    /// All of its name.
    Named,
    /// Those that are marked.
    Marked,
    /// All that are shown.
    Shown,
}

impl Scope {
    /// All of them in the order in which they are offered.
    pub const ALL: [Scope; 5] = [Scope::This, Scope::Descendants, Scope::Named, Scope::Marked, Scope::Shown];
}

/// A process as a target; none where it is not there or is no process.
pub fn target(sample: &Sample, key: ProcessKey) -> Option<Target> {
    targets(sample, &[key]).pop()
}

/// Processes as targets, without those that are not there.
pub fn targets(sample: &Sample, keys: &[ProcessKey]) -> Vec<Target> {
    let mut children: HashMap<i64, usize> = HashMap::new();
    for parent in sample.now.processes.iter().filter_map(|row| row.ppid.value()) {
        *children.entry(parent).or_default() += 1;
    }
    let of = |key: &ProcessKey| {
        let row = &sample.now.processes[sample.find(*key)?];
        row.pid.value()?;
        Some(Target {
            key: *key,
            name: row.name.clone(),
            user: row.user.clone(),
            command: row.command.clone(),
            service: row.service.clone(),
            children: children.get(&key.pid).copied().unwrap_or(0),
            kernel: row.kernel.value() == Some(1),
        })
    };
    keys.iter().filter_map(of).collect()
}

/// Some processes and all below them, parents before their children; each once.
pub fn descendants(sample: &Sample, keys: &[ProcessKey]) -> Vec<ProcessKey> {
    let mut children: HashMap<i64, Vec<ProcessKey>> = HashMap::new();
    for row in &sample.now.processes {
        if let (Some(parent), Some(_)) = (row.ppid.value(), row.pid.value()) {
            children.entry(parent).or_default().push(row.key());
        }
    }
    let mut found: Vec<ProcessKey> = vec![];
    let mut seen = HashSet::new();
    let mut next: std::collections::VecDeque<ProcessKey> = keys.iter().copied().collect();
    while let Some(key) = next.pop_front() {
        if seen.insert(key) {
            found.push(key);
            next.extend(children.get(&key.pid).into_iter().flatten());
        }
    }
    found
}

/// The targets of a scope: `chosen` are those that it begins with, `marked` and `shown` what the screen has.
pub fn of_scope(
    sample: &Sample,
    scope: Scope,
    chosen: ProcessKey,
    marked: &[ProcessKey],
    shown: &[ProcessKey],
) -> Vec<Target> {
    let keys = match scope {
        Scope::This => vec![chosen],
        Scope::Descendants => descendants(sample, &[chosen]),
        Scope::Named => {
            let name = sample.find(chosen).map(|at| sample.now.processes[at].name.clone());
            let same = |row: &&Arc<ProcessRow>| Some(&row.name) == name.as_ref() && row.pid.value().is_some();
            sample.now.processes.iter().filter(same).map(|row| row.key()).collect()
        }
        Scope::Marked => marked.to_vec(),
        Scope::Shown => shown.to_vec(),
    };
    targets(sample, &keys)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::{HostFacts, Reading, raw};

    #[test]
    fn a_family_is_walked_once_even_where_the_table_runs_in_circles() {
        let process = |pid: i64, ppid: i64| {
            Arc::new(ProcessRow {
                pid: raw(pid),
                ppid: raw(ppid),
                start_ticks: raw(1),
                name: if pid % 2 == 0 { "even".into() } else { "odd".into() },
                ..ProcessRow::default()
            })
        };
        let processes =
            vec![process(2, 9), process(3, 2), process(4, 2), process(5, 3), process(9, 5), process(20, 1)];
        let reading = Reading { processes, ..Reading::default() };
        let sample = Sample::new(Arc::new(HostFacts::default()), None, Arc::new(reading));
        let key = |pid| ProcessKey { pid, start: 1 };
        let pids = |scope| -> Vec<i64> {
            of_scope(&sample, scope, key(2), &[key(20), key(77)], &[])
                .iter()
                .map(|target| target.key.pid)
                .collect()
        };
        assert_eq!(pids(Scope::This), [2]);
        assert_eq!(pids(Scope::Descendants), [2, 3, 4, 5, 9]);
        assert_eq!(pids(Scope::Named), [2, 4, 20]);
        assert_eq!(pids(Scope::Marked), [20], "who is not there is no target");
        assert_eq!(pids(Scope::Shown), [] as [i64; 0]);
    }
}
