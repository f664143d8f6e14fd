//! What limits a process: the control groups that it is in, and the files that it may open.

use crate::known::{Known, Raw};
use crate::reading::GroupRow;
use crate::sample::{PartView, ProcessView, Sample};
use crate::text::Text;

/// The group with this name at the moment of a sample.
pub fn group<'a>(sample: &'a Sample, name: &str) -> Option<PartView<'a, GroupRow>> {
    let find = |rows: &'a [GroupRow]| {
        let at = rows.binary_search_by(|row| (*row.path).cmp(name)).ok()?;
        Some(&rows[at])
    };
    let now = find(&sample.now.groups)?;
    let before = sample.before.as_deref().and_then(|before| find(&before.groups));
    Some(PartView { now, before, seconds: sample.seconds(), born: false })
}

/// The limited groups that a process is in, its own first.
pub fn groups<'a>(view: &ProcessView<'a>) -> impl Iterator<Item = PartView<'a, GroupRow>> {
    let (sample, names) = (view.sample, view.now.limits.as_ref());
    names.split(' ').filter(|name| !name.is_empty()).filter_map(move |name| group(sample, name))
}

/// Use against a limit, in percent.
pub fn usage(used: Raw, limit: Raw) -> Known<f64> {
    match used.float().zip(limit.float()) {
        Known::Value((_, limit)) if limit <= 0.0 => Known::Absent,
        other => other.map(|(used, limit)| used / limit * 100.0),
    }
}

/// Share of the periods in which a group was held back, in percent; unknown where there was no period.
pub fn throttled(group: &PartView<'_, GroupRow>) -> Known<f64> {
    match group.rate(|g| g.throttled_periods).zip(group.rate(|g| g.periods)) {
        Known::Value((_, periods)) if periods <= 0.0 => Known::Absent,
        other => other.map(|(held, periods)| (held / periods * 100.0).min(100.0)),
    }
}

/// CPU time of a group in percent of one core.
pub fn cpu(group: &PartView<'_, GroupRow>) -> Known<f64> {
    group.rate(|g| g.cpu_us).map(|us| us / 1e4)
}

/// CPU time that a group may use in percent of one core.
pub fn cpu_limit(group: &GroupRow) -> Known<f64> {
    group.cpu_limit.float().map(|hundredths| hundredths / 100.0)
}

/// The name by which people know a group: the last part of its path.
pub fn short(path: &Text) -> &str {
    path.rsplit('/').find(|part| !part.is_empty()).unwrap_or(path)
}

/// The largest or the smallest of some values; unknown where there is none.
fn extreme(values: impl Iterator<Item = Known<f64>>, better: fn(f64, f64) -> f64) -> Known<f64> {
    values.filter_map(Known::value).reduce(better).into()
}

/// Of all groups of a process, how near the one is that is nearest to its limit.
pub fn nearest(view: &ProcessView<'_>, of: fn(&GroupRow) -> (Raw, Raw)) -> Known<f64> {
    extreme(
        groups(view).map(|group| {
            let (used, limit) = of(group.now);
            usage(used, limit)
        }),
        f64::max,
    )
}

/// Of all groups of a process, the strictest limit.
pub fn strictest(view: &ProcessView<'_>, of: fn(&GroupRow) -> Known<f64>) -> Known<f64> {
    extreme(groups(view).map(|group| of(group.now)), f64::min)
}

/// Of all groups of a process, what the one was held back that was held back most.
pub fn most_throttled(view: &ProcessView<'_>) -> Known<f64> {
    extreme(groups(view).map(|group| throttled(&group)), f64::max)
}
