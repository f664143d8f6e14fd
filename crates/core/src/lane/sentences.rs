//! What stands out, in words: what is short, and who uses it.

use super::facts::{bad_fan, reads_more, share_of_link};
use super::severity::{NETWORK, filesystem_severity};
use super::{Lane, Severity};
use crate::aside::is_gathered;
use crate::catalogue::{Metric, Value, core_busy, cpu_busy, listed};
use crate::rank::{Everybody, Listed};
use crate::reading::{EndedRow, ProcessRow};
use crate::row::Row as _;
use crate::sample::Sample;
use crate::text::Text;
use crate::units::long_bytes;
use std::collections::HashMap;

/// Who uses most of a metric, with its share of all in percent: the name to start with. Those who are just gone, and
/// programs that came and went, count as well.
pub fn main_user(everybody: &Everybody<'_>, metric: &Metric) -> Option<(Listed, f64)> {
    let mut total = 0.0;
    let mut most: Option<(Listed, f64)> = None;
    for row in everybody.all() {
        if let Value::Number(value) = metric.of(&everybody.view(row)) {
            total += value.max(0.0);
            if value > most.map_or(0.0, |(_, most)| most) {
                most = Some((row, value));
            }
        }
    }
    most.map(|(row, value)| (row, value / total * 100.0))
}

/// Name and PID of a process; of several that are one row their name and number.
fn label(row: &ProcessRow) -> String {
    if is_gathered(row.key()) {
        row.command.split(',').next().unwrap_or("").to_owned()
    } else {
        format!("{}[{}]", row.name, row.pid.value().unwrap_or(0))
    }
}

/// What stands out at the moment of a sample, the worst first.
pub fn sentences(everybody: &Everybody<'_>) -> Vec<(Severity, Lane, String)> {
    let sample = everybody.here;
    let lanes = Lane::ALL.into_iter().filter_map(|lane| {
        let severity = lane.point(sample).severity;
        Some((severity, lane, of_lane(lane, everybody)?))
    });
    let others = [hot_core(sample), short_lived(sample), full_filesystem(sample), killed(sample)]
        .into_iter()
        .flatten();
    let mut all: Vec<_> = lanes.chain(others).collect();
    all.sort_by_key(|(severity, ..)| std::cmp::Reverse(*severity));
    all
}

/// One sentence for a lane that is not fine: what is short, and who uses most of it.
fn of_lane(lane: Lane, everybody: &Everybody<'_>) -> Option<String> {
    let sample = everybody.here;
    let point = lane.point(sample);
    if point.severity == Severity::Fine {
        return None;
    }
    let [first, second] = lane.facts(sample);
    let what = match lane {
        Lane::Cpu => format!("cpu {} busy, {second}", lane.label(&point)),
        Lane::Memory => format!("memory {} in use, {first}, {second}", lane.label(&point)),
        Lane::Disk => first,
        // Errors are another interface's as often as not; traffic that fills nothing is no part of the sentence.
        Lane::Network if share_of_link(&point) < NETWORK[0] => second,
        Lane::Network => format!("{first}, {second}"),
        Lane::Heat => match bad_fan(sample) {
            Some(fan) => format!("{fan}; {} at {first}", lane.label(&point)),
            None => format!("{} at {first}, {second}", lane.label(&point)),
        },
    };
    // A hot package has no single owner, and errors have none at all.
    let (lens, words) = match lane {
        Lane::Cpu => (listed("cpu"), ["uses", "of the CPU time of all processes"]),
        Lane::Memory => (listed("rss"), ["holds", "of what all processes hold"]),
        Lane::Disk if reads_more(sample) => (listed("read"), ["reads", "of what all processes read"]),
        Lane::Disk => (listed("write"), ["writes", "of what all processes write"]),
        Lane::Network if share_of_link(&point) >= NETWORK[0] => {
            (listed("net"), ["moves", "of the TCP traffic of all processes"])
        }
        Lane::Network | Lane::Heat => return Some(format!("{what}.")),
    };
    let who = main_user(everybody, lens).filter(|(_, part)| *part >= 20.0).map(|(row, part)| {
        let [verb, of_what] = words;
        format!(" {} {verb} {part:.0} % {of_what}.", label(everybody.view(row).now))
    });
    Some(format!("{what}.{}", who.unwrap_or_default()))
}

/// One core full while the others have room: a program with a single busy thread.
fn hot_core(sample: &Sample) -> Option<(Severity, Lane, String)> {
    const HOT: f64 = 95.0;
    const CALM: f64 = 75.0;
    let several = sample.now.cores.len() > 1;
    let calm = cpu_busy(sample).value().is_some_and(|busy| busy < CALM);
    if !several || !calm {
        return None;
    }
    let cores = sample.parts(|reading| &reading.cores[..]);
    let busy = cores.filter_map(|core| Some((core.now.number.value()?, core_busy(&core).value()?)));
    let (number, busy) = busy.max_by(|a, b| a.1.total_cmp(&b.1)).filter(|(_, busy)| *busy >= HOT)?;
    let cpu = listed("cpu");
    let there = (0..sample.now.processes.len())
        .filter(|at| sample.now.processes[*at].core.value() == Some(number))
        .filter_map(|at| Some((at, cpu.of(&sample.process(at)).number()?)))
        .max_by(|a, b| a.1.total_cmp(&b.1))
        .filter(|(_, used)| *used >= 50.0);
    let who = there
        .map(|(at, used)| format!(" {} uses {used:.0} % of a core there.", label(&sample.now.processes[at])));
    let text =
        format!("core {number} is {busy:.0} % busy while others have room.{}", who.unwrap_or_default());
    Some((Severity::Notice, Lane::Cpu, text))
}

/// Programs that came and went between two readings, by name, those with most CPU time first.
pub(crate) fn unseen(sample: &Sample) -> Vec<(Text, Vec<&EndedRow>, f64)> {
    let mut by_name: HashMap<&Text, (Vec<&EndedRow>, f64)> = HashMap::new();
    for row in sample.now.ended.iter().filter(|row| row.seen.value() == Some(0)) {
        let entry = by_name.entry(&row.name).or_default();
        entry.0.push(row);
        entry.1 += [row.user, row.system].iter().filter_map(|us| us.value()).sum::<i64>() as f64 / 1e6;
    }
    let mut all: Vec<_> = by_name.into_iter().map(|(name, (rows, cpu))| (name.clone(), rows, cpu)).collect();
    all.sort_by(|a, b| {
        b.2.total_cmp(&a.2).then_with(|| b.1.len().cmp(&a.1.len())).then_with(|| a.0.cmp(&b.0))
    });
    all
}

/// CPU time that goes to processes too short to be seen.
fn short_lived(sample: &Sample) -> Option<(Severity, Lane, String)> {
    let seconds = sample.seconds()?;
    let programs = unseen(sample);
    let used: f64 = programs.iter().map(|(.., cpu)| cpu).sum();
    let share = used / seconds / f64::from(sample.host.cores.max(1)) * 100.0;
    let severity = Severity::reached(share, [5.0, 20.0, 60.0]);
    let (name, rows, _) = programs.first().filter(|_| severity > Severity::Fine)?;
    let parent = rows.iter().find(|row| !row.parent.is_empty());
    let parent = parent.map(|row| format!(", started by {}[{}]", row.parent, row.ppid.value().unwrap_or(0)));
    let a_minute = rows.len() as f64 / seconds * 60.0;
    let text = format!(
        "{share:.0} % of all CPU time goes to processes gone within a sample: {name} ×{a_minute:.0} a minute{}.",
        parent.unwrap_or_default()
    );
    Some((severity, Lane::Cpu, text))
}

fn full_filesystem(sample: &Sample) -> Option<(Severity, Lane, String)> {
    let worst = sample.now.filesystems.iter().max_by_key(|row| filesystem_severity(row))?;
    let severity = filesystem_severity(worst);
    if severity < Severity::Warning {
        return None;
    }
    let text = match (worst.answers.value(), worst.used.value(), worst.available.value()) {
        (Some(0), ..) => format!("{} does not answer; whoever touches its files waits.", worst.mount),
        (_, Some(used), Some(left)) => {
            let full = used as f64 / ((used + left) as f64).max(1.0) * 100.0;
            let inodes = worst.inodes_free.value().filter(|free| *free == 0).map(|_| ", no inodes left");
            let left = long_bytes(left as f64);
            format!("{} is {full:.0} % full, {left} left{}.", worst.mount, inodes.unwrap_or(""))
        }
        _ => return None,
    };
    Some((severity, Lane::Disk, text))
}

fn killed(sample: &Sample) -> Option<(Severity, Lane, String)> {
    let kills = sample.rate(|reading| reading.system.oom_kills).value().filter(|rate| *rate > 0.0)?;
    let count = (kills * sample.seconds()?).round();
    let gone = sample.now.ended.iter().max_by_key(|row| row.peak_bytes.value());
    let who = gone.map(|row| format!("; {}[{}] is gone", row.name, row.pid.value().unwrap_or(0)));
    let text = format!("the kernel ended {count:.0} because memory ran out{}.", who.unwrap_or_default());
    Some((Severity::Critical, Lane::Memory, text))
}
