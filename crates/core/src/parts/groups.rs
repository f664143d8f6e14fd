//! Control groups that limit something: how near they are to it.

use super::section::{Look, PartId, Section};
use crate::lane::group_severity;
use crate::reading::GroupRow;
use crate::sample::Sample;
use crate::sorting::ColdSort as _;

/// Groups that are meant, the worst first.
fn rows(sample: &Sample, is_meant: fn(&GroupRow) -> bool) -> Section {
    let mut section = Section::new("limits", "control group", 36);
    let mut groups: Vec<_> =
        sample.parts(|reading| &reading.groups[..]).filter(|group| is_meant(group.now)).collect();
    groups.cold_sort_by_key(|group| std::cmp::Reverse(group_severity(group)));
    for group in &groups {
        section.add(PartId::Group(group.now.path.clone()), &group.now.path).severity = group_severity(group);
    }
    section
}

/// Groups with a limit of CPU time or of tasks.
pub fn of_cpu(sample: &Sample) -> Section {
    let mut section = rows(sample, |group| group.cpu_limit.value().or(group.tasks_limit.value()).is_some());
    section.metric(sample, "group.throttled", "held back", Look::Bar, 0);
    section.numbers(
        sample,
        &[
            ("group.cpu", "cpu %", 0),
            ("group.cpu_limit", "at most", 1),
            ("group.tasks", "tasks", 2),
            ("group.tasks_limit", "at most", 3),
            ("group.tasks_used", "tasks used", 4),
        ],
    );
    section.note = Some("held back: periods in which its CPU time was used up".to_owned());
    section
}

/// Groups with a limit of memory.
pub fn of_memory(sample: &Sample) -> Section {
    let mut section =
        rows(sample, |group| group.memory_limit.value().or(group.memory_high.value()).is_some());
    section.metric(sample, "group.memory_used", "of its limit", Look::Bar, 0);
    section.numbers(
        sample,
        &[
            ("group.memory", "holds", 0),
            ("group.memory_limit", "at most", 1),
            ("group.memory_high", "slowed from", 4),
            ("group.swap", "swap", 2),
            ("group.at_limit", "met it/s", 3),
        ],
    );
    section.note = Some("caches of its files are in it".to_owned());
    section
}
