//! What stands out, in words: what is short, and who uses it.

use super::facts::{bad_fan, disks_severity, hung_filesystem, reads_more, share_of_link};
use super::severity::{FULL, NETWORK, SLOW_SERVER, filesystem_severity, group_severity, remote_severity};
use super::{Lane, Severity};
use crate::catalogue::{Metric, Value, core_busy, cpu_busy, listed, remote_time, sent_again, unaccounted};
use crate::exited::{UNNAMED, is_gathered, out_of_sight, unseen};
use crate::known::Known;
use crate::limits;
use crate::rank::{Population, RowRef};
use crate::reading::{ProcessRow, RemoteRow};
use crate::row::Row as _;
use crate::sample::Sample;
use crate::sorting::ColdSort as _;
use crate::text::Text;
use crate::units::{long_bytes, short_count, short_wait};
use std::collections::HashMap;

/// A program that uses most of something: the name to start with.
pub struct MainUser {
    /// The program's name.
    pub name: Text,
    /// How it is called: a process by name and PID, several equal ones by name and number.
    pub label: String,
    /// Whether it is several.
    pub several: bool,
    /// Its share of all in percent.
    pub part: f64,
}

/// Which program uses most of a metric. Those who are just gone, and programs that came and went, count as well; equal
/// programs are one user, unless one of them has most of it. The share is of `all` where that is given, else of what
/// all of them have together.
pub fn main_user(population: &Population<'_>, metric: &Metric, all: Option<f64>) -> Option<MainUser> {
    /// From this part of its program's on a process is named alone.
    const ALONE: f64 = 0.6;
    /// Below this part of the largest one a process does not count as one of those that use it.
    const LITTLE: f64 = 0.1;
    let mut total = 0.0;
    type OfProgram = (f64, Vec<(RowRef, f64)>);
    let mut programs: HashMap<&Text, OfProgram> = HashMap::new();
    for row in population.all() {
        let view = population.view(row);
        let Value::Number(value) = metric.of(&view) else { continue };
        if value > 0.0 {
            total += value;
            let (sum, rows) = programs.entry(&view.now.name).or_default();
            *sum += value;
            rows.push((row, value));
        }
    }
    let by_sum =
        |a: &(&Text, (f64, _)), b: &(&Text, (f64, _))| a.1.0.total_cmp(&b.1.0).then_with(|| b.0.cmp(a.0));
    let (name, (sum, rows)) = programs.into_iter().max_by(by_sum)?;
    let (most, largest) = rows.iter().copied().max_by(|a, b| a.1.total_cmp(&b.1))?;
    let alone = largest >= ALONE * sum;
    let count = rows.iter().filter(|(_, value)| *value >= LITTLE * largest).count();
    let label = if alone { label(population.view(most).now) } else { format!("{name} ×{count}") };
    let value = if alone { largest } else { sum };
    let part = value / all.unwrap_or(total).max(value) * 100.0;
    Some(MainUser { name: name.clone(), label, several: !alone, part })
}

/// CPU time in use on the machine, in percent of one core.
fn cpu_in_use(sample: &Sample) -> Option<f64> {
    Some(cpu_busy(sample).value()? * f64::from(sample.host.cores.max(1)))
}

/// CPU time of the machine that no process which can be seen explains, in words, and its share of what is in use.
fn unexplained(sample: &Sample) -> Option<(f64, String)> {
    let share = unaccounted(sample).value()? / cpu_in_use(sample)?.max(1.0) * 100.0;
    if let Some((seen, all)) = out_of_sight(sample) {
        let text = format!("processes that cannot be seen from here ({seen} of {all} tasks can)");
        return Some((share.min(100.0), text));
    }
    // With the records of those that ended they are named.
    if sample.now.system.notifications_lost.value().is_some() {
        return None;
    }
    Some((share.min(100.0), "processes too short to be seen".to_owned()))
}

/// The process whose children that ended used most CPU time, where that is worth a word.
fn parent_of_short_ones(sample: &Sample) -> Option<String> {
    const WORTH_A_WORD: f64 = 5.0;
    let children = listed("cpu_children");
    let most = (0..sample.now.processes.len())
        .filter_map(|at| Some((at, children.of(&sample.process(at)).number()?)))
        .max_by(|a, b| a.1.total_cmp(&b.1))
        .filter(|(_, used)| *used >= WORTH_A_WORD)?;
    Some(label(&sample.now.processes[most.0]))
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
pub fn sentences(population: &Population<'_>) -> Vec<(Severity, Lane, String)> {
    let sample = population.here;
    let lanes = Lane::ALL.into_iter().filter_map(|lane| {
        let severity = lane.point(sample).severity;
        Some((severity, lane, of_lane(lane, population)?))
    });
    let others = [
        hot_core(sample),
        short_lived(sample),
        rewriter(sample),
        loses_datagrams(sample),
        full_filesystem(sample),
        killed(sample),
        slow_server(sample),
        held_back(sample),
    ];
    let others = others.into_iter().flatten();
    let mut all: Vec<_> = lanes.chain(others).collect();
    all.cold_sort_by_key(|(severity, ..)| std::cmp::Reverse(*severity));
    all
}

/// From this share on somebody is worth naming.
const WORTH_NAMING: f64 = 20.0;

/// One sentence for a lane that is not fine: what is short, and who uses most of it.
fn of_lane(lane: Lane, population: &Population<'_>) -> Option<String> {
    let sample = population.here;
    let point = lane.point(sample);
    if point.severity == Severity::Fine {
        return None;
    }
    let [first, second] = lane.facts(sample);
    let what = match lane {
        Lane::Cpu => format!("cpu {} busy, {second}", lane.label(&point)),
        Lane::Memory => format!("memory {} in use, {first}, {second}", lane.label(&point)),
        // A file system that does not answer has a sentence of its own.
        Lane::Disk if disks_severity(sample) == Severity::Fine => return None,
        Lane::Disk if hung_filesystem(sample).is_some() => second,
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
        Lane::Cpu => (listed("cpu"), ["uses", "use", "of the CPU time in use"]),
        Lane::Memory => (listed("rss"), ["holds", "hold", "of what all processes hold"]),
        Lane::Disk if reads_more(sample) => (listed("read"), ["reads", "read", "of what all processes read"]),
        Lane::Disk => (listed("write"), ["writes", "write", "of what all processes write"]),
        Lane::Network if share_of_link(&point) >= NETWORK[0] => {
            (listed("net"), ["moves", "move", "of the TCP traffic of all processes"])
        }
        Lane::Network | Lane::Heat => return Some(format!("{what}.")),
    };
    let all = if lane == Lane::Cpu { cpu_in_use(sample) } else { None };
    let user =
        main_user(population, lens, all).filter(|user| user.part >= WORTH_NAMING && &*user.name != UNNAMED);
    let hidden = if lane == Lane::Cpu { unexplained(sample) } else { None };
    let hidden = hidden.filter(|(share, _)| *share >= user.as_ref().map_or(WORTH_NAMING, |user| user.part));
    // What nobody who can be seen explains goes before whoever happens to be visible.
    let who = match (hidden, user) {
        (Some((share, whose)), _) => {
            let parent =
                parent_of_short_ones(sample).map(|parent| format!(", many of them started by {parent}"));
            format!(" {share:.0} % of the CPU time in use goes to {whose}{}.", parent.unwrap_or_default())
        }
        (None, Some(MainUser { label, several, part, .. })) => {
            let [one, many, of_what] = words;
            format!(" {label} {} {part:.0} % {of_what}.", if several { many } else { one })
        }
        (None, None) => String::new(),
    };
    Some(format!("{what}.{who}"))
}

/// One core full while the others have room: a program with a single busy thread.
fn hot_core(sample: &Sample) -> Option<(Severity, Lane, String)> {
    const HOT: f64 = 95.0;
    const CALM: f64 = 75.0;
    let several = sample.now.cores.len() > 1;
    let averaged = cpu_busy(sample).value().is_some_and(|busy| busy < CALM);
    if !several || !averaged {
        return None;
    }
    let cores = sample.parts(|reading| &reading.cores[..]);
    let busy = cores.filter_map(|core| Some((core.now.number.value()?, core_busy(&core).value()?)));
    let hottest = busy.max_by(|a, b| a.1.total_cmp(&b.1)).filter(|(_, busy)| *busy >= HOT);
    let cpu = listed("cpu");
    let Some((number, busy)) = hottest else {
        // A single loop that the scheduler moves about fills no core, and is as slow as one that does.
        let moving = (0..sample.now.processes.len())
            .filter(|at| !stayed(sample, *at))
            .filter_map(|at| Some((at, cpu.of(&sample.process(at)).number()?)))
            .find(|(_, used)| (HOT - 5.0..=105.0).contains(used))?;
        let who = label(&sample.now.processes[moving.0]);
        let text = format!(
            "{who} uses {:.0} % of a core, now this one, now that, while others have room.",
            moving.1
        );
        return Some((Severity::Notice, Lane::Cpu, text));
    };
    let there = (0..sample.now.processes.len())
        .filter(|at| sample.now.processes[*at].core.value() == Some(number) && stayed(sample, *at))
        .filter_map(|at| Some((at, cpu.of(&sample.process(at)).number()?)))
        .max_by(|a, b| a.1.total_cmp(&b.1))
        .filter(|(_, used)| *used >= 50.0);
    let who = there
        .map(|(at, used)| format!(" {} uses {used:.0} % of a core there.", label(&sample.now.processes[at])));
    let text =
        format!("core {number} is {busy:.0} % busy while others have room.{}", who.unwrap_or_default());
    Some((Severity::Notice, Lane::Cpu, text))
}

/// Whether a process was last on the same core in both readings: of one that moved it is not known where it used its time.
pub(crate) fn stayed(sample: &Sample, at: usize) -> bool {
    let view = sample.process(at);
    view.before.is_none_or(|before| before.core == view.now.core)
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

/// Who writes the same pages again and again, so that the kernel counts many times what reaches the disk.
fn rewriter(sample: &Sample) -> Option<(Severity, Lane, String)> {
    /// Bytes per second, and times what is written, from which on it is worth a word.
    const MUCH: f64 = 64e6;
    const TIMES: f64 = 8.0;
    let (dirtied, write) = (listed("dirtied"), listed("write"));
    let (at, pages, bytes) = (0..sample.now.processes.len())
        .filter_map(|at| {
            let pages = dirtied.of(&sample.process(at)).number().filter(|pages| *pages >= MUCH)?;
            let bytes = write.of(&sample.process(at)).number()?;
            (pages >= TIMES * bytes).then_some((at, pages, bytes))
        })
        .max_by(|a, b| a.1.total_cmp(&b.1))?;
    let who = label(&sample.now.processes[at]);
    let text = format!(
        "{who} rewrites the same pages: {}/s dirtied, {}/s written.",
        long_bytes(pages),
        long_bytes(bytes)
    );
    Some((Severity::Notice, Lane::Disk, text))
}

/// Who loses datagrams because it does not read them in time.
fn loses_datagrams(sample: &Sample) -> Option<(Severity, Lane, String)> {
    let drops = listed("udp_drops");
    let (at, lost) = (0..sample.now.processes.len())
        .filter_map(|at| Some((at, drops.of(&sample.process(at)).number().filter(|lost| *lost >= 1.0)?)))
        .max_by(|a, b| a.1.total_cmp(&b.1))?;
    let row = &sample.now.processes[at];
    let socket = sample.parts(|reading| &reading.listeners[..]).filter(|socket| socket.now.pid == row.pid);
    let lossy =
        socket.filter_map(|socket| Some((socket.now.local.clone(), socket.rate(|s| s.drops).value()?)));
    let place = lossy.max_by(|a, b| a.1.total_cmp(&b.1)).map(|(local, _)| format!(" on {local}"));
    let text = format!(
        "{} loses {lost:.0} datagrams a second{}: it reads too slowly.",
        label(row),
        place.unwrap_or_default()
    );
    Some((Severity::Notice, Lane::Network, text))
}

/// A network file system whose operations take long.
fn slow_server(sample: &Sample) -> Option<(Severity, Lane, String)> {
    let remotes = sample.parts(|reading| &reading.remotes[..]);
    let (severity, remote) = remotes
        .map(|remote| (remote_severity(&remote, SLOW_SERVER), remote))
        .max_by_key(|(severity, _)| *severity)
        .filter(|(severity, _)| *severity > Severity::Fine)?;
    let RemoteRow { mount, device, .. } = remote.now;
    let times = [remote_time(&remote, |r| r.whole_ms), remote_time(&remote, |r| r.answer_ms)];
    let again = sent_again(&remote).value().filter(|again| *again >= 0.1);
    let again = again.map_or(String::new(), |again| format!(", {} sent again a second", short_count(again)));
    let text = match times.map(Known::value) {
        [Some(whole), Some(answer)] if answer >= 0.5 * whole => {
            format!("{mount} is slow: {device} takes {} to answer{again}.", short_wait(answer))
        }
        [Some(whole), _] => {
            format!(
                "{mount} is slow: an operation takes {}, mostly on this machine{again}.",
                short_wait(whole)
            )
        }
        _ => format!("{mount}: {device} does not answer in time{again}."),
    };
    Some((severity, Lane::Disk, text))
}

/// A control group that is at one of its limits.
fn held_back(sample: &Sample) -> Option<(Severity, Lane, String)> {
    let groups = sample.parts(|reading| &reading.groups[..]);
    let (severity, group) = groups
        .map(|group| (group_severity(&group), group))
        .max_by_key(|(severity, group)| (*severity, group.now.path.clone()))
        .filter(|(severity, _)| *severity > Severity::Fine)?;
    let name = limits::short(&group.now.path);
    let grows = |rate: Known<f64>| rate.value().is_some_and(|rate| rate > 0.0);
    let held = limits::throttled(&group).value().unwrap_or(0.0);
    let tasks = limits::usage(group.now.tasks, group.now.tasks_limit).value().unwrap_or(0.0);
    let (lane, text) = if grows(group.rate(|g| g.oom_kills)) {
        let limit = group
            .now
            .memory_limit
            .value()
            .map_or(String::new(), |limit| format!(" of {}", long_bytes(limit as f64)));
        (Lane::Memory, format!("the kernel ended a process of {name}: its limit{limit} of memory ran out."))
    } else if held >= 25.0 {
        let limit = limits::cpu_limit(group.now).value().unwrap_or(0.0);
        let text =
            format!("{name} may use {limit:.0} % of a core and is held back in {held:.0} % of the periods.");
        (Lane::Cpu, text)
    } else if tasks >= 90.0 {
        let [now, most] = [group.now.tasks, group.now.tasks_limit].map(|raw| raw.value().unwrap_or(0));
        (Lane::Cpu, format!("{name} has {now} of the {most} tasks that it may have."))
    } else {
        let limit = group
            .now
            .memory_limit
            .value()
            .map_or(String::new(), |limit| format!(" of {}", long_bytes(limit as f64)));
        (Lane::Memory, format!("{name} is at its limit{limit} of memory; the kernel takes its pages away."))
    };
    Some((severity, lane, text))
}

fn full_filesystem(sample: &Sample) -> Option<(Severity, Lane, String)> {
    let worst = sample.now.filesystems.iter().max_by_key(|row| filesystem_severity(row, FULL))?;
    let severity = filesystem_severity(worst, FULL);
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
