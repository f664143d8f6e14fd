//! Readings thinned out: one stands for all those since the one before. Counters go on counting, so rates over the longer time
//! are right; who ended in the meantime is gathered, and the highest points of the lanes are kept beside what they were on the
//! whole.

use crate::known::Raw;
use crate::lane::{Lane, PerLane, Point};
use crate::reading::{EndedRow, ProcessRow, Reading, with_pid};
use crate::sorting::ColdSort as _;
use crate::text::{Text, common_beginning, no_text};
use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// Rows of those who ended that a thinned reading has at most, beside those whom the one before it had.
const ENDED: usize = 24;
/// Kinds of those who ended that are told apart until then.
const KINDS: usize = 2_000;
/// Name of the row for those who are of too many kinds.
const OTHERS: &str = "others";

/// A reading that stands for those before it.
#[derive(Clone, Debug)]
pub struct Thinned {
    /// The last of them, with the ends of all.
    pub reading: Arc<Reading>,
    /// The highest point of each lane.
    pub peaks: PerLane<Point>,
}

/// Thins readings out as they come.
#[derive(Debug)]
pub struct Thinner {
    step_ns: i64,
    /// The newest thinned reading.
    before: Option<Arc<Reading>>,
    newest: Option<Arc<Reading>>,
    ends: Ends,
    peaks: Option<PerLane<Point>>,
}

impl Thinner {
    /// One reading for each step of the wall clock.
    pub fn new(step_ns: i64) -> Thinner {
        Thinner { step_ns: step_ns.max(1), before: None, newest: None, ends: Ends::default(), peaks: None }
    }

    /// Takes in a reading and what the lanes show of it. Gives the one that stands for those before it where a step is over. The
    /// very first stands for itself, since rates begin there.
    pub fn take(&mut self, reading: &Arc<Reading>, points: &PerLane<Point>) -> Option<Thinned> {
        let step = |reading: &Reading| reading.wall_ns().div_euclid(self.step_ns);
        let is_over = self.newest.as_ref().is_some_and(|newest| step(newest) != step(reading));
        let whole = if is_over { self.finish() } else { None };
        self.ends.add(&reading.ended, self.before.as_deref());
        self.newest = Some(reading.clone());
        match &mut self.peaks {
            Some(peaks) => raise(peaks, points),
            None => self.peaks = Some(*points),
        }
        if self.before.is_none() { self.finish() } else { whole }
    }

    /// Readings behind those that were taken in are lost: the same, and the next one stands for itself again.
    pub fn break_off(&mut self) -> Option<Thinned> {
        let last = self.finish();
        self.before = None;
        last
    }

    /// The reading that stands for those of which none was given yet.
    pub fn finish(&mut self) -> Option<Thinned> {
        let (newest, peaks) = (self.newest.take()?, self.peaks.take()?);
        let reading = with_ends(&newest, std::mem::take(&mut self.ends));
        self.before = Some(reading.clone());
        Some(Thinned { reading, peaks })
    }
}

/// Puts the higher of two points of each lane into the first, and the worse severity.
fn raise(peaks: &mut PerLane<Point>, points: &PerLane<Point>) {
    for lane in Lane::ALL {
        let (peak, point) = (&mut peaks[lane], &points[lane]);
        let severity = peak.severity.max(point.severity);
        if point.value.value() > peak.value.value() {
            *peak = *point;
        }
        peak.severity = severity;
    }
}

/// The last of some readings, with the ends of all of them; `before` is the one that is kept before it.
pub fn merged(group: &[Arc<Reading>], before: Option<&Reading>) -> Arc<Reading> {
    let Some(last) = group.last() else { return Arc::default() };
    let mut ends = Ends::default();
    for reading in group {
        ends.add(&reading.ended, before);
    }
    with_ends(last, ends)
}

fn with_ends(reading: &Arc<Reading>, ends: Ends) -> Arc<Reading> {
    let rows = ends.rows();
    if rows.is_empty() && reading.ended.is_empty() {
        return reading.clone();
    }
    Arc::new(Reading { ended: rows, ..(**reading).clone() })
}

/// Counters of processes that are not kept for years: details of the CPU and of calls. The rest tells who used what. What was handed
/// to write calls, and in how many, stays, since what a process wrote is held against it.
const DETAILS: [fn(&mut ProcessRow) -> &mut Raw; 8] = [
    |row| &mut row.switches_wait,
    |row| &mut row.switches_forced,
    |row| &mut row.core_wait_ns,
    |row| &mut row.faults_minor,
    |row| &mut row.children_faults,
    |row| &mut row.core,
    |row| &mut row.read_calls,
    |row| &mut row.read_any_bytes,
];

/// What of a reading is kept for years. What is left out is absent, as where nobody asked for it.
#[must_use]
pub fn for_years(reading: &Reading) -> Reading {
    let mut kept = reading.clone();
    kept.interrupts.clear();
    kept.softirqs.clear();
    kept.connections.clear();
    kept.listeners.clear();
    kept.threads.clear();
    kept.transfers.clear();
    // They say that connections and transfers were collected.
    let system = &mut kept.system;
    (system.unattributed_in, system.unattributed_out, system.unseen_traffic) = Default::default();
    (system.transfers_noted, system.transfers_missed) = (Raw::ABSENT, Raw::ABSENT);
    for row in &mut kept.processes {
        let row = Arc::make_mut(row);
        for detail in DETAILS {
            *detail(row) = Raw::ABSENT;
        }
        // The same time in ticks is exact enough over a minute.
        if row.user_ticks.value().is_some() {
            row.run_ns = Raw::ABSENT;
        }
    }
    for row in &mut kept.ended {
        row.read_any_bytes = Raw::ABSENT;
    }
    kept
}

/// What several processes that ended have in common where one row stands for them: name, parent, its number, how they ended.
type Kind = (Text, Text, Raw, Raw);

/// Those who ended since a reading that is kept.
#[derive(Debug, Default)]
struct Ends {
    /// Those whom that reading had, each with what it counted.
    known: Vec<EndedRow>,
    pids: HashSet<i64>,
    /// The others by kind.
    gathered: Vec<EndedRow>,
    places: HashMap<Kind, usize>,
    /// Those of too many kinds.
    others: Option<EndedRow>,
}

impl Ends {
    /// Adds those who ended up to a reading; `before` is the one that is kept.
    fn add(&mut self, rows: &[EndedRow], before: Option<&Reading>) {
        for row in rows {
            // Of those with one number the first to end is the one that the reading before had.
            let pid = row
                .pid
                .value()
                .filter(|pid| before.is_some_and(|before| with_pid(&before.processes, *pid).is_some()));
            if pid.is_some_and(|pid| self.pids.insert(pid)) {
                self.known.push(EndedRow { seen: Raw::new(1), ..row.clone() });
                continue;
            }
            let kind = (row.name.clone(), row.parent.clone(), row.ppid, row.status);
            match self.places.get(&kind) {
                Some(place) => gather(&mut self.gathered[*place], row),
                None if self.gathered.len() < KINDS => {
                    self.places.insert(kind, self.gathered.len());
                    self.gathered.push(EndedRow { seen: Raw::new(0), ..row.clone() });
                }
                None => self.put_to_others(row),
            }
        }
    }

    fn put_to_others(&mut self, row: &EndedRow) {
        match &mut self.others {
            Some(others) => gather(others, row),
            None => self.others = Some(EndedRow { seen: Raw::new(0), ..row.clone() }),
        }
    }

    /// The rows of a thinned reading: of the kinds those with most CPU time.
    fn rows(mut self) -> Vec<EndedRow> {
        let mut gathered = std::mem::take(&mut self.gathered);
        if gathered.len() > ENDED {
            gathered.cold_sort_by_key(|row| Reverse((row.cpu_us(), row.processes())));
            for row in gathered.split_off(ENDED - 1) {
                self.put_to_others(&row);
            }
        }
        let mut rows = self.known;
        rows.extend(gathered.into_iter().chain(self.others));
        for (order, row) in rows.iter_mut().enumerate() {
            row.order = Raw::new(order as i64);
        }
        rows
    }
}

/// Adds one that ended, or several, to a row. What is not the same of all of them is not told.
fn gather(all: &mut EndedRow, row: &EndedRow) {
    all.alike = Raw::new(all.processes() + row.processes());
    if all.name != row.name {
        all.name = OTHERS.into();
    }
    if all.command != row.command {
        all.command = common(&all.command, &row.command);
    }
    if all.parent != row.parent {
        all.parent = no_text();
    }
    for (one, other) in [(&mut all.ppid, row.ppid), (&mut all.status, row.status)] {
        if *one != other {
            *one = Raw::ABSENT;
        }
    }
    all.pid = Raw::ABSENT;
    for (one, other) in [(&mut all.elapsed, row.elapsed), (&mut all.peak_bytes, row.peak_bytes)] {
        if other.value() > one.value() {
            *one = other;
        }
    }
    let added = [
        (&mut all.user, row.user),
        (&mut all.system, row.system),
        (&mut all.read_bytes, row.read_bytes),
        (&mut all.write_bytes, row.write_bytes),
        (&mut all.cancelled_bytes, row.cancelled_bytes),
        (&mut all.read_any_bytes, row.read_any_bytes),
        (&mut all.write_any_bytes, row.write_any_bytes),
        (&mut all.write_calls, row.write_calls),
        (&mut all.net_in_bytes, row.net_in_bytes),
        (&mut all.net_out_bytes, row.net_out_bytes),
        (&mut all.udp_in_bytes, row.udp_in_bytes),
        (&mut all.udp_out_bytes, row.udp_out_bytes),
    ];
    for (one, other) in added {
        // What is known of some is at least that of all.
        *one = match (one.value(), other.value()) {
            (Some(one), Some(other)) => Raw::new(one.saturating_add(other)),
            (None, Some(_)) => other,
            (_, None) => *one,
        };
    }
}

/// What two command lines begin with; a sign says that they go on otherwise.
fn common(one: &str, other: &str) -> Text {
    const MORE: char = '…';
    let (one, other) = (one.trim_end_matches(MORE), other.trim_end_matches(MORE));
    let text = common_beginning(one, other).trim_end();
    if text.is_empty() { no_text() } else { format!("{text}{MORE}").into() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::known::Known;
    use crate::lane::Severity;
    use crate::units::NANOS;

    fn ended(pid: i64, name: &str, command: &str, status: i64) -> EndedRow {
        EndedRow {
            name: name.into(),
            command: command.into(),
            parent: "sh".into(),
            pid: pid.into(),
            ppid: Raw::new(2),
            user: Raw::new(10),
            elapsed: Raw::new(pid),
            status: Raw::new(status),
            ..EndedRow::default()
        }
    }

    fn reading(second: i64, pids: &[i64], ends: Vec<EndedRow>) -> Arc<Reading> {
        let mut reading = Reading { ended: ends, ..Reading::default() };
        reading.system.wall_ns = Raw::new(second * NANOS);
        let row =
            |pid: &i64| ProcessRow { pid: (*pid).into(), start_ticks: Raw::new(1), ..ProcessRow::default() };
        reading.processes = pids.iter().map(|pid| Arc::new(row(pid))).collect();
        Arc::new(reading)
    }

    fn points(value: f64, severity: Severity) -> PerLane<Point> {
        PerLane::from_fn(|_| Point { value: Known::Value(value), full: Known::Value(100.0), severity })
    }

    #[test]
    fn one_reading_stands_for_all_of_a_step_with_the_highest_points() {
        let mut thinner = Thinner::new(60 * NANOS);
        let mut all = vec![];
        for second in (5..200).step_by(5) {
            let severity = if second == 70 { Severity::Warning } else { Severity::Fine };
            let shown = points((second % 60) as f64, severity);
            all.extend(thinner.take(&reading(second, &[], vec![]), &shown));
        }
        all.extend(thinner.finish());
        assert!(thinner.finish().is_none());
        let told: Vec<_> = all
            .iter()
            .map(|one| {
                let peak = one.peaks[Lane::Cpu];
                (one.reading.wall_ns() / NANOS, peak.value.value(), peak.severity)
            })
            .collect();
        let (fine, warning) = (Severity::Fine, Severity::Warning);
        let expected = [
            (5, Some(5.0), fine),
            (55, Some(55.0), fine),
            (115, Some(55.0), warning),
            (175, Some(55.0), fine),
            (195, Some(15.0), fine),
        ];
        assert_eq!(told, expected);
    }

    #[test]
    fn behind_a_loss_rates_begin_anew() {
        let mut thinner = Thinner::new(60 * NANOS);
        let take = |thinner: &mut Thinner, second: i64| {
            let one = thinner.take(&reading(second, &[], vec![]), &points(1.0, Severity::Fine));
            one.map(|one| one.reading.wall_ns() / NANOS)
        };
        assert_eq!([0, 10, 20].map(|second| take(&mut thinner, second)), [Some(0), None, None]);
        assert_eq!(thinner.break_off().map(|one| one.reading.wall_ns() / NANOS), Some(20));
        assert_eq!([30, 40, 70].map(|second| take(&mut thinner, second)), [Some(30), None, Some(40)]);
    }

    #[test]
    fn who_was_there_stands_alone_and_the_others_by_what_they_have_in_common() {
        let before = reading(0, &[7, 8], vec![]);
        let first = vec![
            ended(7, "solve", "solve field1", 0),
            ended(20, "check", "check -q moon", 256),
            ended(21, "check", "check -q mars", 256),
        ];
        // The number of one that ended was given away again.
        let second = vec![ended(7, "check", "check -q sun", 256), ended(22, "check", "check", 0)];
        let group = [reading(1, &[8], first), reading(2, &[8], second)];
        let one = merged(&group, Some(&before));
        let told: Vec<_> = one
            .ended
            .iter()
            .map(|row| {
                let numbers = [row.pid, row.seen, row.user, row.elapsed, row.status].map(Raw::value);
                (&*row.name, &*row.command, row.processes(), numbers)
            })
            .collect();
        assert_eq!(
            told,
            [
                ("solve", "solve field1", 1, [Some(7), Some(1), Some(10), Some(7), Some(0)]),
                ("check", "check -q…", 3, [None, Some(0), Some(30), Some(21), Some(256)]),
                ("check", "check", 1, [Some(22), Some(0), Some(10), Some(22), Some(0)]),
            ]
        );
    }

    #[test]
    fn of_too_many_kinds_the_smallest_are_one_row_and_none_is_forgotten() {
        let ends = |count: i64| {
            let one = |at: i64| EndedRow { user: Raw::new(at), ..ended(100 + at, &format!("p{at}"), "", 0) };
            (0..count).map(one).collect::<Vec<_>>()
        };
        for count in [ENDED as i64, 100, 3 * KINDS as i64] {
            let one = merged(&[reading(1, &[], ends(count))], None);
            let cpu: i64 = one.ended.iter().map(EndedRow::cpu_us).sum();
            let processes: i64 = one.ended.iter().map(EndedRow::processes).sum();
            assert_eq!((processes, cpu), (count, count * (count - 1) / 2));
            assert!(one.ended.len() <= ENDED);
            let orders: Vec<_> = one.ended.iter().filter_map(|row| row.order.value()).collect();
            assert!(orders.iter().copied().eq(0..one.ended.len() as i64));
        }
    }

    #[test]
    fn what_is_left_out_for_years_is_absent_and_not_zero() {
        let row = ProcessRow {
            run_ns: Raw::new(5),
            user_ticks: Raw::new(1),
            read_calls: Raw::new(3),
            write_any_bytes: Raw::new(7),
            rss_bytes: Raw::new(9),
            ..ProcessRow::default()
        };
        let other = ProcessRow { run_ns: Raw::new(5), ..ProcessRow::default() };
        let processes = vec![Arc::new(row), Arc::new(other)];
        let mut reading = Reading { processes, ..Reading::default() };
        reading.system.unattributed_in = Raw::new(0);
        let kept = for_years(&reading);
        assert_eq!(kept.system.unattributed_in, Raw::ABSENT, "connections were not collected");
        let of = |at: usize| {
            let row = &kept.processes[at];
            [row.run_ns, row.user_ticks, row.read_calls, row.rss_bytes].map(Raw::value)
        };
        assert_eq!(of(0), [None, Some(1), None, Some(9)]);
        assert_eq!(kept.processes[0].write_any_bytes.value(), Some(7), "what was written is held against it");
        assert_eq!(of(1)[0], Some(5), "where nothing else tells the time it stays");
    }
}
