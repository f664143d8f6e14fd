//! Processes that are not in the newest reading but belong to its sample: those that are just gone, and those that
//! came and went unseen, gathered by program.
//!
//! They are put into a sample of their own, so that every metric of the catalogue is got for them in the same way.

use crate::catalogue::unaccounted;
use crate::known::Raw;
use crate::reading::{EndedRow, ProcessKey, ProcessRow, Reading};
use crate::sample::Sample;
use crate::signals::by_number;
use crate::sorting::ColdSort as _;
use crate::text::{Text, common_beginning};
use std::collections::HashMap;
use std::sync::Arc;

/// Programs with a row of their own; what else came and went unseen is one more row.
const PROGRAMS: usize = 6;
/// State of those who are gone; proc_pid_stat(5).
const DEAD: i64 = b'X' as i64;
/// State of those that ended before and were not waited for.
const ZOMBIE: Raw = Raw::new(b'Z' as i64);
/// CPU time in percent of a core from which on unseen processes without a name get a row.
const WORTH_A_ROW: f64 = 5.0;

/// The sample of those who are gone. Their counters are exact where the kernel reported their end, else unknown.
pub fn exited(sample: &Sample) -> Sample {
    those_gone(sample, true)
}

/// The same without command lines, for those who go through many samples.
pub fn exited_unsaid(sample: &Sample) -> Sample {
    those_gone(sample, false)
}

fn those_gone(sample: &Sample, said: bool) -> Sample {
    let of = |reading: &Reading| {
        let mut of_machine = Reading { system: reading.system.clone(), ..Reading::default() };
        // What those handed to devices who are gone is not kept.
        if of_machine.system.transfers_noted.value().is_some() {
            of_machine.system.transfers_noted = Raw::ABSENT;
        }
        of_machine
    };
    let mut now = of(&sample.now);
    let mut earlier = Reading::default();
    if let Some(before) = &sample.before {
        earlier = of(before);
        let mut ended: Option<HashMap<Raw, &EndedRow>> = None;
        for row in sample.gone_places().map(|place| &before.processes[place]) {
            let by_pid = ended.get_or_insert_with(|| {
                let known = sample.now.ended.iter().filter(|row| row.seen.value() != Some(0));
                known.map(|row| (row.pid, row)).collect()
            });
            now.processes.push(Arc::new(gone(sample, row, by_pid.get(&row.pid).copied())));
            earlier.processes.push(row.clone());
        }
        earlier.sort();
    }
    now.processes.extend(short_lived(sample, said).into_iter().map(Arc::new));
    now.sort();
    let before = sample.before.is_some().then(|| Arc::new(earlier));
    // The machine's counters bound what processes can have done.
    Sample::new(sample.host.clone(), before, Arc::new(now)).with_storage_of(sample)
}

/// Whether this key is that of gathered processes, which no action can reach.
pub fn is_gathered(key: ProcessKey) -> bool {
    key.pid < 0
}

fn ticks(sample: &Sample, micros: Raw) -> Raw {
    let per_second = i64::from(sample.host.ticks_per_second.max(1));
    micros.get().map(|micros| micros.saturating_mul(per_second) / 1_000_000).into()
}

fn gone(sample: &Sample, last: &ProcessRow, ended: Option<&EndedRow>) -> ProcessRow {
    let mut row = ProcessRow {
        name: last.name.clone(),
        program: last.program.clone(),
        command: last.command.clone(),
        user: last.user.clone(),
        real_user: last.real_user.clone(),
        pid: last.pid,
        start_ticks: last.start_ticks,
        ppid: last.ppid,
        nice: last.nice,
        core: last.core,
        state: Raw::new(DEAD),
        ..ProcessRow::default()
    };
    if let Some(ended) = ended {
        row.net_in_bytes = ended.net_in_bytes;
        row.net_out_bytes = ended.net_out_bytes;
        (row.udp_in_bytes, row.udp_out_bytes) = (ended.udp_in_bytes, ended.udp_out_bytes);
        row.datagram_sockets = last.datagram_sockets;
    }
    let growth_known = last.io_unknown.value().unwrap_or(0) == 0;
    // Bytes of records are of whole KiB, so they may be a little behind what was read before.
    let bytes = |ended: Raw, before: Raw| -> Raw {
        let all = ended.get().zip(before.get());
        all.map(|(ended, before)| if ended.saturating_add(1024) > before { ended.max(before) } else { ended })
            .into()
    };
    if last.state == ZOMBIE {
        // It had ended before; nothing was added since.
        (row.user_ticks, row.system_ticks) = (last.user_ticks, last.system_ticks);
        (row.read_bytes, row.write_bytes) = (last.read_bytes, last.write_bytes);
        (row.cancelled_bytes, row.io_unknown) = (last.cancelled_bytes, last.io_unknown);
        (row.read_any_bytes, row.write_any_bytes) = (last.read_any_bytes, last.write_any_bytes);
        row.write_calls = last.write_calls;
    } else if let Some(ended) = ended {
        // The kernel divides the same sum between the two a little differently in its two accounts.
        let most = |ended: Raw, before: Raw| -> Raw {
            ended.get().map(|all| all.max(before.value().unwrap_or(0))).into()
        };
        row.user_ticks = most(ticks(sample, ended.user), last.user_ticks);
        row.system_ticks = most(ticks(sample, ended.system), last.system_ticks);
        if growth_known {
            row.read_bytes = bytes(ended.read_bytes, last.read_bytes);
            row.write_bytes = bytes(ended.write_bytes, last.write_bytes);
            row.cancelled_bytes = bytes(ended.cancelled_bytes, last.cancelled_bytes);
            row.read_any_bytes = bytes(ended.read_any_bytes, last.read_any_bytes);
            row.write_any_bytes = bytes(ended.write_any_bytes, last.write_any_bytes);
            row.write_calls = ended.write_calls;
            row.io_unknown = last.io_unknown;
        }
    }
    row
}

/// Programs that came and went between two readings, by name, those with most CPU time first.
pub(crate) fn unseen(sample: &Sample) -> Vec<(Text, Vec<&EndedRow>, f64)> {
    let ended = sample.now.ended.iter().filter(|row| row.seen.value() == Some(0));
    let mut rows: Vec<&EndedRow> = ended.collect();
    rows.cold_sort_by(|a, b| a.name.cmp(&b.name));
    let cpu = |row: &&EndedRow| row.cpu_us();
    let of_one = rows.chunk_by(|a, b| a.name == b.name);
    let mut all: Vec<_> = of_one
        .map(|rows| (rows[0].name.clone(), rows.to_vec(), rows.iter().map(cpu).sum::<i64>() as f64 / 1e6))
        .collect();
    all.cold_sort_by(|a, b| {
        b.2.total_cmp(&a.2).then_with(|| processes(&b.1).cmp(&processes(&a.1))).then_with(|| a.0.cmp(&b.0))
    });
    all
}

/// One row for each program whose processes came and went unseen.
fn short_lived(sample: &Sample, said: bool) -> Vec<ProcessRow> {
    let programs = unseen(sample);
    if programs.is_empty() {
        return nameless(sample).into_iter().collect();
    }
    let (shown, others) = programs.split_at(programs.len().min(PROGRAMS));
    let mut rows = vec![];
    for (number, (name, ended, cpu)) in shown.iter().enumerate() {
        let mut row = gathered(sample, -2 - number as i64, ended, *cpu);
        row.name = name.clone();
        row.program = name.clone();
        if said {
            row.command = line(name, ended).into();
        }
        row.ppid = ended.first().map_or(Raw::ABSENT, |row| row.ppid);
        rows.push(row);
    }
    if !others.is_empty() {
        let count: i64 = others.iter().map(|(_, ended, _)| processes(ended)).sum();
        let cpu = others.iter().map(|(.., cpu)| cpu).sum();
        let ended: Vec<&EndedRow> = others.iter().flat_map(|(_, ended, _)| ended.iter().copied()).collect();
        let mut row = gathered(sample, -2 - shown.len() as i64, &ended, cpu);
        row.name = "others".into();
        if said {
            row.command = format!("{} other programs ×{count}", others.len()).into();
        }
        rows.push(row);
    }
    rows
}

/// The line of a program whose processes came and went: `check ×12, all with exit code 1, from watch[233]: check -q`.
fn line(name: &str, ended: &[&EndedRow]) -> String {
    let parent = ended.iter().find(|row| !row.parent.is_empty());
    let parent = parent
        .map_or(String::new(), |row| format!(", from {}[{}]", row.parent, row.ppid.value().unwrap_or(0)));
    let ways = ways(ended).map_or(String::new(), |ways| format!(", {ways}"));
    let command = command(ended).map_or(String::new(), |command| format!(": {command}"));
    format!("{name} ×{}{ways}{parent}{command}", processes(ended))
}

/// How many processes rows stand for.
pub(crate) fn processes(ended: &[&EndedRow]) -> i64 {
    ended.iter().map(|row| row.processes()).sum()
}

/// How several ended, where that was not well with most of those: `all with exit code 1`.
pub(crate) fn ways(ended: &[&EndedRow]) -> Option<String> {
    let mut counts: HashMap<i64, i64> = HashMap::new();
    for row in ended {
        if let Some(status) = row.status.value().filter(|status| *status != 0) {
            *counts.entry(status).or_default() += row.processes();
        }
    }
    let (status, count) = counts.into_iter().max_by_key(|(status, count)| (*count, *status))?;
    let who = if count == processes(ended) { "all".to_owned() } else { count.to_string() };
    // A signal is in the lower seven bits, an exit code above eight; wait(2).
    Some(match status & 0x7f {
        0 => format!("{who} with exit code {}", status >> 8 & 0xff),
        signal => match by_number(signal as i32) {
            Some(signal) => format!("{who} ended by {}", signal.name),
            None => format!("{who} ended by signal {signal}"),
        },
    })
}

/// The command line of several, as far as it is the same.
fn command(ended: &[&EndedRow]) -> Option<String> {
    let (first, others) = ended.split_first()?;
    let whole = &*first.command;
    let text = others.iter().fold(whole, |text, row| common_beginning(text, &row.command)).trim();
    let is_same = ended.iter().all(|row| row.command == first.command);
    (!text.is_empty()).then(|| if is_same { text.to_owned() } else { format!("{text}…") })
}

/// The name of a row for processes of which nothing is known.
pub(crate) const UNNAMED: &str = "unseen";

/// Where tasks of the machine are not among the processes (another namespace, a `/proc` that hides others, a recording of a
/// few): how many are, and how many there are in all, by proc_loadavg(5), which counts the whole machine.
pub fn out_of_sight(sample: &Sample) -> Option<(i64, i64)> {
    /// Some come and go between the two files.
    const FEW: i64 = 24;
    let all = sample.now.system.threads.value()?;
    let of = |row: &Arc<ProcessRow>| row.pid.value().map_or(0, |_| row.threads.value().unwrap_or(1).max(1));
    let seen: i64 = sample.now.processes.iter().map(of).sum();
    (all - seen > FEW.max(all / 5)).then_some((seen, all))
}

/// Where ends are not reported: what the counters say about processes that nobody saw.
fn nameless(sample: &Sample) -> Option<ProcessRow> {
    // Reported, and there were none.
    if sample.now.system.notifications_lost.value().is_some() {
        return None;
    }
    let seconds = sample.seconds()?;
    let used = unaccounted(sample).value().filter(|used| *used >= WORTH_A_ROW)?;
    if let Some((seen, all)) = out_of_sight(sample) {
        let mut row = gathered(sample, -2, &[], used / 100.0 * seconds);
        row.name = UNNAMED.into();
        row.command = format!("{} tasks that cannot be seen from here", all - seen).into();
        return Some(row);
    }
    let started = sample.rate(|reading| reading.system.forks).value().map_or(0.0, |rate| rate * seconds);
    let born = (0..sample.now.processes.len()).filter(|at| sample.process(*at).born).count() as f64;
    let unseen = (started - born).max(0.0);
    if unseen < 1.0 {
        return None;
    }
    let mut row = gathered(sample, -2, &[], used / 100.0 * seconds);
    row.name = UNNAMED.into();
    row.command =
        format!("{unseen:.0} processes or threads came and went unseen; root would see their names").into();
    Some(row)
}

/// Numbers of those who ended, and where in a row they are added up.
type Summed = (fn(&EndedRow) -> Raw, fn(&mut ProcessRow) -> &mut Raw);
const SUMMED: [Summed; 10] = [
    (|ended| ended.read_bytes, |row| &mut row.read_bytes),
    (|ended| ended.write_bytes, |row| &mut row.write_bytes),
    (|ended| ended.cancelled_bytes, |row| &mut row.cancelled_bytes),
    (|ended| ended.read_any_bytes, |row| &mut row.read_any_bytes),
    (|ended| ended.write_any_bytes, |row| &mut row.write_any_bytes),
    (|ended| ended.write_calls, |row| &mut row.write_calls),
    (|ended| ended.net_in_bytes, |row| &mut row.net_in_bytes),
    (|ended| ended.net_out_bytes, |row| &mut row.net_out_bytes),
    (|ended| ended.udp_in_bytes, |row| &mut row.udp_in_bytes),
    (|ended| ended.udp_out_bytes, |row| &mut row.udp_out_bytes),
];

/// A row for several processes. It started with the sample, so that all that it counted belongs to it.
fn gathered(sample: &Sample, pid: i64, ended: &[&EndedRow], cpu_seconds: f64) -> ProcessRow {
    let sum = |field: fn(&EndedRow) -> Raw| -> Raw {
        ended.iter().filter_map(|row| field(row).value()).reduce(i64::saturating_add).into()
    };
    let per_second = f64::from(sample.host.ticks_per_second.max(1));
    let start = sample.now.boot_ns() as f64 / 1e9 * per_second;
    let peak = ended.iter().map(|row| row.peak_bytes).max_by_key(|raw| raw.value());
    let mut row = ProcessRow {
        pid: Raw::new(pid),
        start_ticks: Raw::new(start as i64 + 1),
        state: Raw::new(DEAD),
        run_ns: Raw::new((cpu_seconds * 1e9) as i64),
        user_ticks: ticks(sample, sum(|row| row.user)),
        system_ticks: ticks(sample, sum(|row| row.system)),
        rss_bytes: peak.unwrap_or(Raw::ABSENT),
        io_unknown: Raw::new(0),
        ..ProcessRow::default()
    };
    for (of, to) in SUMMED {
        *to(&mut row) = sum(of);
    }
    row
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(command: &str, status: i64) -> EndedRow {
        EndedRow { command: command.into(), status: Raw::new(status), ..EndedRow::default() }
    }

    #[test]
    fn how_several_ended_and_what_they_were_is_said_together() {
        let words = |rows: &[EndedRow]| {
            let rows: Vec<&EndedRow> = rows.iter().collect();
            (ways(&rows), command(&rows))
        };
        let text = |text: &str| Some(text.to_owned());
        assert_eq!(words(&[]), (None, None));
        assert_eq!(words(&[EndedRow::default()]), (None, None), "nobody told");
        assert_eq!(words(&[row("stack é1", 0), row("stack ê2", 0)]), (None, text("stack…")));
        let failed = [row("check -q", 1 << 8), row("check -q", 1 << 8)];
        assert_eq!(words(&failed), (text("all with exit code 1"), text("check -q")));
        let killed = [row("a", 9), row("b", 0), row("c", 9), row("d", 127 << 8)];
        assert_eq!(words(&killed), (text("2 ended by KILL"), None));
        assert_eq!(words(&[row("core dumped", 0x8b)]).0, text("all ended by SEGV"));
    }
}
