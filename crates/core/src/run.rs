//! The account of a command and its whole family: what it used, by program and over time.
//!
//! Totals of CPU time come from the kernel's account of children that were waited for (`wait4(2)`), to the microsecond; who
//! used them comes from records of ends and from readings, so programs can add up to less than the total where ends are not
//! told. Nobody counts twice: a process is counted once under the name that it had last.

use crate::catalogue::is_beyond_calls;
use crate::known::Raw;
use crate::reading::{EndedRow, ProcessKey, ProcessRow, Reading};
use crate::row::Row as _;
use crate::sorting::ColdSort as _;
use crate::text::clean;
use crate::units::{long_bytes, long_duration, short_bytes, short_count, short_duration};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::fmt::Write as _;

/// Columns of a chart.
const CHART: usize = 24;
/// Programs that are named.
const NAMED: usize = 12;

/// One program of the family.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct ProgramAccount {
    /// Its name.
    pub name: String,
    /// Processes of it.
    pub processes: i64,
    /// CPU time in microseconds.
    pub cpu_us: i64,
    /// Most memory that one of them held, in bytes.
    pub peak_rss: i64,
    /// Bytes fetched from storage; none where that is not known of one of them.
    pub read: Option<i64>,
    /// Bytes that it made to be written.
    pub written: Option<i64>,
    /// Percent of a core over its life, in equal parts of time.
    pub chart: Vec<i64>,
}

/// What a command and its family used.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct RunAccount {
    /// The command.
    pub command: String,
    /// Its exit status; 128 and the signal where a signal ended it.
    pub exit_status: i32,
    /// The signal that ended it.
    pub signal: Option<i32>,
    /// Nanoseconds from its start to its end.
    pub wall_ns: i64,
    /// CPU time in user mode in microseconds.
    pub user_us: i64,
    /// CPU time in the kernel in microseconds.
    pub system_us: i64,
    /// Most memory of the family at one time, in bytes; what came and went between readings may have held more.
    pub peak_rss: i64,
    /// It is no more than this: what held less than the program that started it held is not told apart.
    pub peak_rss_at_most: bool,
    /// Bytes fetched from storage; none where that may not be seen.
    pub read: Option<i64>,
    /// Bytes that were written to files, without what was dropped before it reached a device.
    pub written: Option<i64>,
    /// Bytes received over TCP, and over UDP where those are counted; none where sockets cannot be listed.
    pub net_in: Option<i64>,
    /// Bytes sent, of the same.
    pub net_out: Option<i64>,
    /// Processes of the family.
    pub processes: i64,
    /// There may have been more, too short to be seen.
    pub processes_at_least: bool,
    /// Most processes at one time.
    pub most_at_once: i64,
    /// Context switches because it waited.
    pub switches_wait: i64,
    /// Context switches because its turn was over.
    pub switches_forced: i64,
    /// Most threads at one time.
    pub most_threads: i64,
    /// Most open files at one time; none where they cannot be counted.
    pub most_files: Option<i64>,
    /// Programs, those that used most CPU time first.
    pub programs: Vec<ProgramAccount>,
    /// Those that went on after the command ended, with their PIDs.
    pub left: Vec<String>,
}

/// What the kernel says of a child that was waited for, with all that it waited for itself.
#[derive(Clone, Debug, Default)]
pub struct Reaped {
    /// PID.
    pub pid: i64,
    /// Name that it had last.
    pub name: String,
    /// Its own CPU time in microseconds, without children.
    pub own_us: i64,
    /// Its start in ticks after boot.
    pub start: i64,
    /// With all that it waited for: user and system time in microseconds, switches, most memory of one.
    pub user_us: i64,
    /// Time in the kernel.
    pub system_us: i64,
    /// Context switches because it waited.
    pub switches_wait: i64,
    /// Context switches because its turn was over.
    pub switches_forced: i64,
    /// Most memory of it or one of its children, in bytes; of who started it where that held more (getrusage(2) ru_maxrss
    /// outlives execve(2)).
    pub peak_rss: i64,
    /// Bytes fetched from storage.
    pub read: Option<i64>,
    /// Bytes written.
    pub written: Option<i64>,
}

/// CPU time that a process used between two readings, by PID and start.
type Used = ((i64, i64), i64);

#[derive(Clone, Debug, Default)]
struct Member {
    name: String,
    cpu_us: i64,
    peak_rss: i64,
    read: Option<i64>,
    written: Option<i64>,
    net: Option<(i64, i64)>,
    udp: Option<(i64, i64)>,
    /// Its end was told with its last counts.
    told: bool,
}

/// Follows the family of a command through readings and ends.
#[derive(Debug, Default)]
pub struct Family {
    /// PID of who starts the command and takes over what loses its parent.
    root: i64,
    /// A tick of CPU time in microseconds.
    tick_us: i64,
    members: BTreeMap<(i64, i64), Member>,
    /// PIDs of all who ever belonged to it.
    pids: HashSet<i64>,
    account: RunAccount,
    /// Ends are told by the kernel.
    tells_ends: bool,
    /// Time since the start, and the CPU time that each process used since the reading before: under the name that it has at
    /// the end, since a shell often becomes the program that it starts.
    history: Vec<(i64, Vec<Used>)>,
    /// Those of whom something came since the last reading.
    touched: Vec<(i64, i64)>,
    /// CPU time of each process up to the last reading.
    counted: HashMap<(i64, i64), i64>,
    /// Most memory that this program had held when it started the command, in bytes.
    starter: i64,
    /// Ends that no reading has shown get starts of their own, below all real ones.
    unseen: i64,
}

/// What was written: pages made dirty less those that were dropped, at most what was handed to write calls, unless so many calls
/// cannot have made that much dirty; all since the start. None where that may not be seen.
pub fn bytes_written(dirtied: Raw, cancelled: Raw, handed: Raw, calls: Raw) -> Option<i64> {
    let net = dirtied.value()?.saturating_sub(cancelled.value().unwrap_or(0)).max(0);
    // The kernel counts large folios whole: more than was handed to write calls is not believed where there were any.
    let is_beyond = |handed: i64| {
        calls.value().is_some_and(|calls| is_beyond_calls(net as f64, handed as f64, calls as f64))
    };
    Some(match handed.value() {
        Some(handed) if handed > 0 && !is_beyond(handed) => net.min(handed),
        _ => net,
    })
}

impl Family {
    /// Of what this process starts, which had held so many bytes of memory by then.
    pub fn new(root: i64, ticks_per_second: u32, starter: i64) -> Family {
        let tick_us = 1_000_000 / i64::from(ticks_per_second.max(1));
        Family { root, tick_us, starter, ..Family::default() }
    }

    /// Rows of a reading that belong to the family: descendants, and whoever did before.
    fn rows<'a>(&self, reading: &'a Reading) -> Vec<&'a ProcessRow> {
        let mut children: HashMap<i64, Vec<&ProcessRow>> = HashMap::new();
        for row in &reading.processes {
            if let Some(parent) = row.ppid.value() {
                children.entry(parent).or_default().push(row);
            }
        }
        let mut found: Vec<&ProcessRow> = vec![];
        let mut seen = HashSet::new();
        let mut next = vec![self.root];
        while let Some(parent) = next.pop() {
            for row in children.get(&parent).into_iter().flatten() {
                if row.pid.value() != Some(self.root) && seen.insert(row.key()) {
                    found.push(row);
                    next.extend(row.pid.value());
                }
            }
        }
        let known = |row: &&ProcessRow| {
            let key = row.key();
            self.members.contains_key(&(key.pid, key.start)) && !seen.contains(&key)
        };
        let others: Vec<&ProcessRow> = reading.processes.iter().map(AsRef::as_ref).filter(known).collect();
        found.extend(others);
        found
    }

    /// Takes in a reading, so long after the start. `tells_ends` says that the kernel tells ends here.
    pub fn take(&mut self, reading: &Reading, since_ns: i64, tells_ends: bool) {
        self.tells_ends = tells_ends;
        let rows = self.rows(reading);
        let mut sums = (0i64, 0i64, 0i64, Some(0i64));
        for row in &rows {
            let key = row.key();
            self.pids.insert(key.pid);
            self.touched.push((key.pid, key.start));
            let zombie = row.state.value() == Some(i64::from(b'Z'));
            let rss = row.rss_bytes.value().unwrap_or(0);
            if !zombie {
                sums.0 += 1;
                sums.1 += row.threads.value().unwrap_or(1);
                sums.2 += rss;
                sums.3 = sums.3.zip(row.files.value()).map(|(sum, files)| sum + files);
            }
            let member = self.members.entry((key.pid, key.start)).or_default();
            if member.told {
                continue;
            }
            member.name = row.name.to_string();
            let ticks = row
                .user_ticks
                .value()
                .zip(row.system_ticks.value())
                .map(|(user, system)| (user + system) * self.tick_us);
            let fine = row.run_ns.value().map(|ns| ns / 1_000);
            member.cpu_us = fine.or(ticks).unwrap_or(0).max(member.cpu_us);
            member.peak_rss = member.peak_rss.max(rss);
            member.read = row.read_bytes.value().or(member.read);
            member.written =
                bytes_written(row.write_bytes, row.cancelled_bytes, row.write_any_bytes, row.write_calls)
                    .or(member.written);
            member.net = row.net_in_bytes.value().zip(row.net_out_bytes.value()).or(member.net);
            member.udp = row.udp_in_bytes.value().zip(row.udp_out_bytes.value()).or(member.udp);
        }
        let account = &mut self.account;
        account.most_at_once = account.most_at_once.max(sums.0);
        account.most_threads = account.most_threads.max(sums.1);
        account.peak_rss = account.peak_rss.max(sums.2);
        if let Some(files) = sums.3.filter(|_| !rows.is_empty()) {
            account.most_files = Some(account.most_files.unwrap_or(0).max(files));
        }
        // A parent is told after its children as often as before: those that belong are looked for until none is new.
        let mut left: Vec<&EndedRow> = reading.ended.iter().collect();
        loop {
            let before = left.len();
            left.retain(|row| !self.take_end(row));
            if left.len() == before {
                break;
            }
        }
        let mut used = vec![];
        // Only those of this reading: of a hundred thousand that have ended nothing changes any more.
        for key in std::mem::take(&mut self.touched) {
            let now = self.members.get(&key).map_or(0, |member| member.cpu_us);
            let before = self.counted.insert(key, now).unwrap_or(0);
            if now > before {
                used.push((key, now - before));
            }
        }
        self.history.push((since_ns, used));
    }

    /// Takes in an end, where it is one of the family.
    fn take_end(&mut self, row: &EndedRow) -> bool {
        let (Some(pid), parent) = (row.pid.value(), row.ppid.value()) else { return false };
        let ours = parent.is_some_and(|parent| parent == self.root || self.pids.contains(&parent));
        let of_pid = (pid, i64::MIN)..=(pid, i64::MAX);
        let shown = self.members.range(of_pid).rev().find(|(_, member)| !member.told);
        let key = match shown.map(|(key, _)| *key) {
            Some(key) => key,
            None if ours => {
                self.unseen -= 1;
                (pid, self.unseen)
            }
            None => return false,
        };
        self.pids.insert(pid);
        self.touched.push(key);
        let member = self.members.entry(key).or_default();
        member.name = row.name.to_string();
        if let Some((user, system)) = row.user.value().zip(row.system.value()) {
            member.cpu_us = user + system;
        }
        let peak = row.peak_bytes.value().filter(|peak| parent != Some(self.root) || *peak > self.starter);
        member.peak_rss = member.peak_rss.max(peak.unwrap_or(0));
        member.read = row.read_bytes.value().or(member.read);
        member.written =
            bytes_written(row.write_bytes, row.cancelled_bytes, row.write_any_bytes, row.write_calls)
                .or(member.written);
        member.net = row.net_in_bytes.value().zip(row.net_out_bytes.value()).or(member.net);
        member.udp = row.udp_in_bytes.value().zip(row.udp_out_bytes.value()).or(member.udp);
        member.told = true;
        true
    }

    /// Takes in a child that was waited for.
    pub fn reap(&mut self, reaped: &Reaped) {
        let account = &mut self.account;
        account.user_us += reaped.user_us;
        account.system_us += reaped.system_us;
        account.switches_wait += reaped.switches_wait;
        account.switches_forced += reaped.switches_forced;
        // Up to what who started it held it is not its own.
        let own_peak = reaped.peak_rss > self.starter;
        if own_peak {
            account.peak_rss = account.peak_rss.max(reaped.peak_rss);
        }
        let add = |sum: &mut Option<i64>, more: Option<i64>, first: bool| {
            *sum = if first { more } else { sum.zip(more).map(|(sum, more)| sum.saturating_add(more)) };
        };
        let first = account.processes == 0;
        add(&mut account.read, reaped.read, first);
        add(&mut account.written, reaped.written, first);
        account.processes += 1;
        self.pids.insert(reaped.pid);
        // What it used itself, where nobody tells it better.
        self.touched.push((reaped.pid, reaped.start));
        let member = self.members.entry((reaped.pid, reaped.start)).or_default();
        if !member.told {
            member.name.clone_from(&reaped.name);
            member.cpu_us = member.cpu_us.max(reaped.own_us);
            if own_peak {
                member.peak_rss = member.peak_rss.max(reaped.peak_rss);
            }
        }
    }

    /// The rows of a reading that belong to the family, with what belongs to them.
    pub fn only(&self, reading: &Reading) -> Reading {
        let keys: HashSet<ProcessKey> = self.rows(reading).iter().map(|row| row.key()).collect();
        let mut only = reading.clone();
        only.processes.retain(|row| keys.contains(&row.key()));
        let pids: HashSet<i64> = keys.iter().map(|key| key.pid).collect();
        let ours = |pid: Raw| pid.value().is_some_and(|pid| pids.contains(&pid));
        only.connections.retain(|row| ours(row.pid));
        only.listeners.retain(|row| ours(row.pid));
        only.threads.retain(|row| ours(row.pid));
        only.ended.retain(|row| {
            let of = |pid: Raw| pid.value().is_some_and(|pid| pid == self.root || self.pids.contains(&pid));
            of(row.ppid) || row.pid.value().is_some_and(|pid| self.pids.contains(&pid))
        });
        only
    }

    /// CPU time of a program over the life of the family, in equal parts: percent of a core.
    fn chart(&self, name: &str, wall_ns: i64) -> Vec<i64> {
        let width = (wall_ns / CHART as i64).max(1);
        let is_its = |key: &(i64, i64)| self.members.get(key).is_some_and(|member| member.name == name);
        let sums: Vec<f64> = self
            .history
            .iter()
            .scan(0.0, |sum, (_, used)| {
                *sum += used.iter().filter(|(key, _)| is_its(key)).map(|(_, us)| *us as f64).sum::<f64>();
                Some(*sum)
            })
            .collect();
        let at = |time: i64| -> f64 {
            // Between two readings it is taken to grow evenly.
            let after = self.history.iter().position(|(since, _)| *since >= time);
            let value = |place: usize| sums[place];
            match after {
                None => self.history.len().checked_sub(1).map_or(0.0, value),
                Some(place) => {
                    let (begin, from) = place
                        .checked_sub(1)
                        .map_or((0, 0.0), |before| (self.history[before].0, value(before)));
                    let span = (self.history[place].0 - begin).max(1) as f64;
                    from + (value(place) - from) * ((time - begin) as f64 / span).clamp(0.0, 1.0)
                }
            }
        };
        let part = |part: usize| {
            let (begin, end) = (width * part as i64, width * (part as i64 + 1));
            ((at(end) - at(begin)).max(0.0) * 1e3 / width as f64 * 100.0).round() as i64
        };
        (0..CHART).map(part).collect()
    }

    /// The kernel tells the time of short processes by its ticks, which is right on average only; what is missing of the exact
    /// total, or too much, is theirs, as far as ticks can be off. Where more was told than that, there are children in it that
    /// nobody waited for (who ignores SIGCHLD; wait(2)), and the exact total is not that of all.
    fn share_out(&mut self) {
        const SHORT_US: i64 = 100_000;
        let exact = self.account.user_us + self.account.system_us;
        let told: i64 = self.members.values().map(|member| member.cpu_us).sum();
        let is_short = |member: &&mut Member| member.told && member.cpu_us < SHORT_US;
        let short: i64 = self.members.values_mut().filter(is_short).map(|member| member.cpu_us).sum();
        if short <= 0 || exact <= 0 {
            return;
        }
        let count = self.members.values_mut().filter(is_short).count() as f64;
        // Each end of a life is off by a tick at most, this way or that.
        let off = 3.0 * count.sqrt() * self.tick_us as f64;
        let missing = (exact - told) as f64;
        if missing.abs() > off {
            return;
        }
        let factor = ((short as f64 + missing) / short as f64).clamp(0.5, 2.0);
        for member in self.members.values_mut().filter(is_short) {
            member.cpu_us = (member.cpu_us as f64 * factor).round() as i64;
        }
    }

    /// The account at the end. `alive` are PIDs of those that go on.
    pub fn finish(
        mut self,
        command: String,
        status: (i32, Option<i32>),
        wall_ns: i64,
        alive: &Reading,
    ) -> RunAccount {
        let left: Vec<String> = self
            .rows(alive)
            .iter()
            .filter(|row| row.state.value() != Some(i64::from(b'Z')))
            .map(|row| format!("{}[{}]", row.name, row.pid.value().unwrap_or(0)))
            .collect();
        self.share_out();
        let mut programs: HashMap<String, ProgramAccount> = HashMap::new();
        let mut net: Option<(i64, i64)> = None;
        for member in self.members.values() {
            let sum = programs.entry(member.name.clone()).or_insert_with(|| ProgramAccount {
                name: member.name.clone(),
                read: Some(0),
                written: Some(0),
                ..ProgramAccount::default()
            });
            sum.processes += 1;
            sum.cpu_us += member.cpu_us;
            sum.peak_rss = sum.peak_rss.max(member.peak_rss);
            sum.read = sum.read.zip(member.read).map(|(sum, more)| sum + more);
            sum.written = sum.written.zip(member.written).map(|(sum, more)| sum + more);
            for (received, sent) in [member.net, member.udp].into_iter().flatten() {
                let (all_in, all_out) = net.unwrap_or_default();
                net = Some((all_in + received, all_out + sent));
            }
        }
        let mut programs: Vec<ProgramAccount> = programs.into_values().collect();
        for program in &mut programs {
            program.chart = self.chart(&program.name, wall_ns);
        }
        programs.cold_sort_by(|a, b| b.cpu_us.cmp(&a.cpu_us).then(a.name.cmp(&b.name)));
        // Children whose parent did not wait for them are in no account of waiting, but their ends are told.
        let told: i64 = self.members.values().map(|member| member.cpu_us).sum();
        // All together have more write calls than those who wrote, which bound it less well.
        let wrote: i64 = self.members.values().filter_map(|member| member.written).sum();
        let account = &mut self.account;
        if self.tells_ends && told > account.user_us + account.system_us {
            let missing = told - account.user_us - account.system_us;
            account.user_us += missing;
        }
        if self.tells_ends {
            account.written = account.written.map(|written| written.max(wrote));
        }
        let peaks = self.members.values().map(|member| member.peak_rss);
        account.peak_rss = account.peak_rss.max(peaks.max().unwrap_or(0));
        // Nobody told how much those held.
        if account.peak_rss == 0 && self.starter > 0 {
            (account.peak_rss, account.peak_rss_at_most) = (self.starter, true);
        }
        account.processes = self.members.len() as i64;
        account.processes_at_least = !self.tells_ends;
        account.most_at_once = account.most_at_once.max(1);
        account.most_threads = account.most_threads.max(1);
        RunAccount {
            command,
            exit_status: status.0,
            signal: status.1,
            wall_ns,
            net_in: net.map(|(received, _)| received),
            net_out: net.map(|(_, sent)| sent),
            programs,
            left,
            ..self.account
        }
    }
}

const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

fn chart(values: &[i64]) -> String {
    let most = values.iter().copied().max().unwrap_or(0).max(1);
    values.iter().map(|value| BARS[((value * 7 + most / 2) / most).clamp(0, 7) as usize]).collect()
}

fn seconds(us: i64) -> f64 {
    us as f64 / 1e6
}

fn bytes(value: Option<i64>) -> String {
    value.map_or_else(|| "–".to_owned(), |value| long_bytes(value as f64))
}

impl RunAccount {
    /// Without what could do harm on a screen: it may come from anybody's file.
    #[must_use]
    pub fn cleaned(self) -> RunAccount {
        let clean = |text: String| clean(text.as_bytes());
        RunAccount {
            command: clean(self.command),
            left: self.left.into_iter().map(clean).collect(),
            programs: self
                .programs
                .into_iter()
                .map(|program| ProgramAccount { name: clean(program.name), ..program })
                .collect(),
            ..self
        }
    }

    /// CPU time in seconds.
    pub fn cpu_seconds(&self) -> f64 {
        seconds(self.user_us + self.system_us)
    }

    /// For people, in some lines.
    pub fn text(&self) -> String {
        let mut out = String::new();
        let wall = self.wall_ns as f64 / 1e9;
        let end = match self.signal {
            Some(signal) => {
                let name = crate::signals::by_number(signal)
                    .map_or_else(|| signal.to_string(), |it| it.name.to_string());
                format!("ended by signal {name}")
            }
            None => format!("ended with {}", self.exit_status),
        };
        let cores = if wall > 0.0 { self.cpu_seconds() / wall } else { 0.0 };
        let _ = writeln!(
            out,
            "{end} after {}   CPU {} ({cores:.1} cores; user {}, system {})   most memory {}   wrote {}, read {}   sent {}, received {}",
            precise(wall),
            precise(self.cpu_seconds()),
            precise(seconds(self.user_us)),
            precise(seconds(self.system_us)),
            format_args!(
                "{}{}",
                if self.peak_rss_at_most { "≤ " } else { "" },
                long_bytes(self.peak_rss as f64)
            ),
            bytes(self.written),
            bytes(self.read),
            bytes(self.net_out),
            bytes(self.net_in),
        );
        let least = if self.processes_at_least { "at least " } else { "" };
        let files = self.most_files.map_or(String::new(), |files| format!(", {files} open files"));
        let _ = writeln!(
            out,
            "  {least}{} process{}, {} seen at once, {} threads{files}   waited {} times, lost its core {} times",
            short_count(self.processes as f64),
            if self.processes == 1 { "" } else { "es" },
            self.most_at_once,
            self.most_threads,
            short_count(self.switches_wait as f64),
            short_count(self.switches_forced as f64),
        );
        let width = self
            .programs
            .iter()
            .take(NAMED)
            .map(|program| program.name.chars().count())
            .max()
            .unwrap_or(0)
            .max(8);
        let _ = writeln!(
            out,
            "  {:<width$}  {:>7}  {:>9}  {:>11}  {:>8}  {:>8}  cpu over its life",
            "program", "times", "cpu", "most memory", "wrote", "read"
        );
        for program in self.programs.iter().take(NAMED) {
            let cell =
                |value: Option<i64>| value.map_or_else(|| "–".to_owned(), |value| short_bytes(value as f64));
            let _ = writeln!(
                out,
                "  {:<width$}  {:>7}  {:>9}  {:>11}  {:>8}  {:>8}  {}",
                program.name,
                program.processes,
                short_time(seconds(program.cpu_us)),
                short_bytes(program.peak_rss as f64),
                cell(program.written),
                cell(program.read),
                chart(&program.chart),
            );
        }
        if self.programs.len() > NAMED {
            let _ = writeln!(out, "  and {} more programs", self.programs.len() - NAMED);
        }
        if !self.left.is_empty() {
            let _ = writeln!(
                out,
                "  {} goes on: {}",
                if self.left.len() == 1 { "1" } else { "some" },
                self.left.join(", ")
            );
        }
        out
    }

    /// Beside an earlier run.
    pub fn beside(&self, earlier: &RunAccount) -> String {
        let mut out = String::new();
        let _ = writeln!(out, "  {:<14}{:>14}{:>14}  difference", "", "earlier", "now");
        let mut line = |name: &str, before: Option<f64>, now: Option<f64>, text: &dyn Fn(f64) -> String| {
            let cell = |value: Option<f64>| value.map_or_else(|| "–".to_owned(), text);
            let difference = match before.zip(now) {
                Some((before, now)) if before > 0.0 => format!("{:+.0} %", (now - before) / before * 100.0),
                Some((_, now)) if now > 0.0 => "new".to_owned(),
                _ => String::new(),
            };
            let _ = writeln!(out, "  {name:<14}{:>14}{:>14}  {difference}", cell(before), cell(now));
        };
        let whole = |value: Option<i64>| value.map(|value| value as f64);
        let wall = |account: &RunAccount| Some(account.wall_ns as f64 / 1e9);
        line("wall time", wall(earlier), wall(self), &precise);
        line("CPU", Some(earlier.cpu_seconds()), Some(self.cpu_seconds()), &precise);
        line("  user", Some(seconds(earlier.user_us)), Some(seconds(self.user_us)), &precise);
        line("  system", Some(seconds(earlier.system_us)), Some(seconds(self.system_us)), &precise);
        line("most memory", Some(earlier.peak_rss as f64), Some(self.peak_rss as f64), &long_bytes);
        line("wrote", whole(earlier.written), whole(self.written), &long_bytes);
        line("read", whole(earlier.read), whole(self.read), &long_bytes);
        line("sent", whole(earlier.net_out), whole(self.net_out), &long_bytes);
        line("received", whole(earlier.net_in), whole(self.net_in), &long_bytes);
        line("processes", Some(earlier.processes as f64), Some(self.processes as f64), &short_count);
        let names = self.programs.iter().chain(&earlier.programs).map(|program| program.name.as_str());
        let mut seen = HashSet::new();
        let used = |account: &RunAccount, name: &str| {
            account
                .programs
                .iter()
                .find(|program| program.name == name)
                .map(|program| seconds(program.cpu_us))
        };
        for name in names.filter(|name| seen.insert(*name)).take(NAMED) {
            line(name, used(earlier, name), used(self, name), &precise);
        }
        out
    }
}

/// A length of time with so many places that runs can be compared.
fn precise(seconds: f64) -> String {
    if seconds < 60.0 { format!("{seconds:.2} s") } else { long_duration(seconds) }
}

fn short_time(seconds: f64) -> String {
    if seconds < 60.0 { format!("{seconds:.2} s") } else { short_duration(seconds) }
}

#[cfg(test)]
mod tests;
