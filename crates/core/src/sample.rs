//! Samples: what two consecutive readings give.
//!
//! Rates come from the monotonic time between the readings, never from the nominal interval. A counter that
//! went back, a row that was not there before, a suspend or a clock change give *unknown*, never a huge number.

use crate::known::{Known, Raw};
use crate::ports::Ports;
use crate::reading::{EndedRow, HostFacts, ProcessKey, ProcessRow, Reading};
use crate::row::Row;
use crate::units::NANOS;
use std::cmp::Ordering;
use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

/// Why two consecutive readings must not be compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gap {
    /// The machine slept for so many nanoseconds.
    Suspend(i64),
    /// Somebody moved the wall clock by so many nanoseconds.
    ClockChange(i64),
    /// The machine started anew, or time went back.
    Restart,
    /// Readings between the two are lost: a damaged part of a recording.
    Lost,
}

/// Smallest suspend that counts; below it the two clocks merely were not read at the same instant.
const SUSPEND_NS: i64 = NANOS / 5;
/// Smallest clock change that counts; slewing by a time service stays below it.
const CLOCK_CHANGE_NS: i64 = NANOS;

/// Finds out whether something happened between two readings that forbids rates over them.
pub fn gap_between(before: &Reading, now: &Reading) -> Option<Gap> {
    let monotonic = now.monotonic_ns().wrapping_sub(before.monotonic_ns());
    let boot = now.boot_ns().wrapping_sub(before.boot_ns());
    let wall = now.wall_ns().wrapping_sub(before.wall_ns());
    if monotonic <= 0 || boot < 0 {
        return Some(Gap::Restart);
    }
    let slept = boot.saturating_sub(monotonic);
    let moved = wall.saturating_sub(boot);
    if slept >= SUSPEND_NS {
        Some(Gap::Suspend(slept))
    } else if moved.saturating_abs() >= CLOCK_CHANGE_NS {
        Some(Gap::ClockChange(moved))
    } else {
        None
    }
}

/// Growth of a counter per second. Unknown when either value is, when time did not pass, or when the counter
/// went back (it wrapped, or its owner is another one).
pub fn rate(now: Raw, before: Option<Raw>, seconds: Option<f64>) -> Known<f64> {
    let before = before.map_or(Known::Absent, Raw::get);
    match (now.get().zip(before), seconds) {
        (Known::Value((now, before)), Some(seconds)) if seconds > 0.0 && now >= before => {
            Known::Value(now.wrapping_sub(before) as u64 as f64 / seconds)
        }
        (Known::Denied, _) => Known::Denied,
        _ => Known::Absent,
    }
}

/// How many tasks are in which state, counted from the processes of a reading.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TaskCounts {
    /// All processes.
    pub total: u32,
    /// Running or ready to run.
    pub running: u32,
    /// Sleeping, kernel threads that idle included.
    pub sleeping: u32,
    /// Blocked on a disk.
    pub blocked: u32,
    /// Stopped by a signal or a debugger.
    pub stopped: u32,
    /// Ended, but not yet waited for by the parent.
    pub zombie: u32,
}

impl TaskCounts {
    /// Counts a row; `by` is 1 or, where it is not there any more, −1.
    fn count(&mut self, row: &ProcessRow, by: i32) {
        // Traffic of nobody known is a row without a PID, and no task.
        if row.pid.value().is_none() {
            return;
        }
        let of_state = match process_state(row) {
            Some("running") => &mut self.running,
            Some("blocked") => &mut self.blocked,
            Some("stopped" | "traced") => &mut self.stopped,
            Some("zombie") => &mut self.zombie,
            _ => &mut self.sleeping,
        };
        *of_state = of_state.saturating_add_signed(by);
        self.total = self.total.saturating_add_signed(by);
    }
}

/// No row in the reading before.
const NONE: u32 = u32::MAX;

/// Two consecutive readings and what belongs together in them.
#[derive(Clone)]
pub struct Sample {
    /// Facts of the host.
    pub host: Arc<HostFacts>,
    /// The earlier reading, when rates may be computed over the two.
    pub before: Option<Arc<Reading>>,
    /// The later reading: the instant of this sample.
    pub now: Arc<Reading>,
    /// Why there is no earlier reading although there was one.
    pub gap: Option<Gap>,
    seconds: Option<f64>,
    previous: Vec<u32>,
    /// All processes stand in the places in which they stood.
    all_stand: bool,
    /// Places of the processes that did something or are new, once somebody asks.
    active: OnceLock<Vec<usize>>,
    /// How many are in which state, once somebody asks.
    tasks: OnceLock<TaskCounts>,
    /// Places in the earlier reading of processes that are gone, by their parent's PID.
    gone: HashMap<i64, Vec<u32>>,
    /// Places of the records of ended processes, by their parent's PID.
    ended: OnceLock<HashMap<i64, Vec<u32>>>,
    /// Ports by process, once somebody asks.
    ports: OnceLock<Ports>,
    /// What the disks took, once somebody asks.
    took: OnceLock<Option<f64>>,
    /// What processes surely wrote to them, once somebody asks.
    pub(crate) surely_written: OnceLock<f64>,
}

/// The rows' counts of owners are wanted one after another when a reading goes; asked for some hundred at once, the waits for
/// memory overlap, and they are still in the cache when they are counted down.
pub(crate) fn let_go(reading: &mut Arc<Reading>) {
    const AT_ONCE: usize = 256;
    let Some(Reading { processes, .. }) = Arc::get_mut(reading) else { return };
    while !processes.is_empty() {
        let rest = processes.len().saturating_sub(AT_ONCE);
        std::hint::black_box(processes[rest..].iter().map(Arc::strong_count).sum::<usize>());
        processes.truncate(rest);
    }
}

impl Drop for Sample {
    fn drop(&mut self) {
        self.before.iter_mut().chain([&mut self.now]).for_each(let_go);
    }
}

impl Sample {
    /// Builds the sample of `now`; `before` is the reading just before it, where there is one.
    pub fn new(host: Arc<HostFacts>, before: Option<Arc<Reading>>, now: Arc<Reading>) -> Sample {
        Sample::following(host, before, now, None)
    }

    /// The same, where it is known which processes did something since the reading before, if all of them stand in the same
    /// places in both: of the others the very same rows are in both.
    pub(crate) fn following(
        host: Arc<HostFacts>,
        before: Option<Arc<Reading>>,
        now: Arc<Reading>,
        changed: Option<Vec<usize>>,
    ) -> Sample {
        let gap = before.as_deref().and_then(|before| gap_between(before, &now));
        let before = if gap.is_some() { None } else { before };
        let seconds = before
            .as_deref()
            .map(|before| now.monotonic_ns().saturating_sub(before.monotonic_ns()) as f64 / NANOS as f64);
        let changed = changed.filter(|_| before.is_some());
        let previous = match before.as_deref() {
            Some(_) if changed.is_some() => (0..now.processes.len() as u32).collect(),
            Some(before) => pair(&before.processes, &now.processes),
            None => vec![],
        };
        let earlier = before.as_deref().filter(|_| changed.is_none());
        let gone = earlier.map(|before| gone(&before.processes, &previous)).unwrap_or_default();
        let stand = |before: &Reading| {
            before.processes.len() == now.processes.len()
                && previous.iter().enumerate().all(|(at, place)| *place as usize == at)
        };
        let all_stand = changed.is_some() || before.as_deref().is_some_and(stand);
        let active = changed.map_or_else(OnceLock::new, OnceLock::from);
        let (ended, ports, tasks) = (OnceLock::new(), OnceLock::new(), OnceLock::new());
        Sample {
            host,
            before,
            now,
            gap,
            seconds,
            previous,
            all_stand,
            active,
            tasks,
            gone,
            ended,
            ports,
            took: OnceLock::new(),
            surely_written: OnceLock::new(),
        }
    }

    /// Places of the records of ended processes, by their parent's PID.
    fn ended_by_parent(&self) -> &HashMap<i64, Vec<u32>> {
        self.ended.get_or_init(|| {
            let mut ended: HashMap<i64, Vec<u32>> = HashMap::new();
            for (place, row) in self.now.ended.iter().enumerate() {
                if let Some(parent) = row.ppid.value() {
                    ended.entry(parent).or_default().push(place as u32);
                }
            }
            ended
        })
    }

    /// A sample over several readings, the newest last: its rates are means over all of the time between the first and
    /// the last of them. None of the steps between them may be a gap.
    pub fn over(host: Arc<HostFacts>, readings: &[Arc<Reading>]) -> Option<Sample> {
        let (first, rest) = readings.split_first()?;
        let (last, between) = rest.split_last()?;
        if between.is_empty() {
            return Some(Sample::new(host, Some(first.clone()), last.clone()));
        }
        // Whoever ended on the way counts as well: what children wrote is taken off their parents.
        let mut whole = (**last).clone();
        whole.ended =
            between.iter().chain([last]).flat_map(|reading| reading.ended.iter().cloned()).collect();
        Some(Sample::new(host, Some(first.clone()), Arc::new(whole)))
    }

    /// What a process may have taken over from children that are gone: all that they ever counted where the kernel
    /// reported their end, else what they had counted up to the earlier reading.
    fn counted_by_gone_children(
        &self,
        parent: i64,
        counter: impl Fn(&ProcessRow) -> Raw,
        at_the_end: Option<fn(&EndedRow) -> Raw>,
    ) -> i64 {
        let reported = self.ended_by_parent().get(&parent).map_or(&[][..], |places| &places[..]);
        let reported = reported.iter().map(|place| &self.now.ended[*place as usize]);
        let seen = self.gone.get(&parent).map_or(&[][..], |places| &places[..]);
        let seen = seen.iter().filter_map(|place| Some(&self.before.as_ref()?.processes[*place as usize]));
        let Some(at_the_end) = at_the_end else {
            return seen.filter_map(|row| counter(row).value()).fold(0, i64::saturating_add);
        };
        let known = |row: &&Arc<ProcessRow>| !reported.clone().any(|ended| ended.pid == row.pid);
        let unreported = seen.filter(known).filter_map(|row| counter(row).value());
        let reported = reported.clone().filter_map(|row| at_the_end(row).value());
        reported.chain(unreported).fold(0, i64::saturating_add)
    }

    /// Real time between the two readings, in seconds.
    pub fn seconds(&self) -> Option<f64> {
        self.seconds
    }

    /// Ports of processes.
    pub fn ports(&self) -> &Ports {
        self.ports.get_or_init(|| Ports::new(&self.now))
    }

    /// Bytes per second that whole disks and servers of network file systems took, and by which what waits to be written grew:
    /// more cannot have been written. Nothing where neither is known.
    pub fn storage_took(&self) -> Option<f64> {
        *self.took.get_or_init(|| {
            let seconds = self.seconds()?;
            let (before, system) = (self.before.as_deref()?, &self.now.system);
            let disks = self.parts(|reading| &reading.disks[..]).filter(|disk| disk.now.whole.is_empty());
            let disks = disks.filter_map(|disk| disk.rate(|d| d.write_bytes).value());
            let remotes = self.parts(|reading| &reading.remotes[..]);
            let remotes = remotes.filter_map(|remote| remote.rate(|r| r.write_bytes).value());
            let mut taken: Vec<f64> = disks.chain(remotes).collect();
            // Processes are read after the disks, so they may have done more than those had.
            if let (Some(after), false) = (system.written_after.value(), taken.is_empty()) {
                let whole = self.now.disks.iter().filter(|disk| disk.whole.is_empty());
                let then: i64 = whole.filter_map(|disk| disk.write_bytes.value()).sum();
                taken.push(after.saturating_sub(then).max(0) as f64 / seconds);
            }
            // What goes to servers that tell no bytes is not known.
            let tells = |mount: &str| self.now.remotes.iter().any(|row| *row.mount == *mount);
            if self.now.filesystems.iter().any(|row| row.remote == Raw::new(1) && !tells(&row.mount)) {
                return None;
            }
            let waits = system.dirty_after.value().max(system.mem_dirty.value());
            let grown = waits.zip(before.system.mem_dirty.value());
            let grown = grown.map(|(now, before)| now.saturating_sub(before));
            if taken.is_empty() && grown.is_none() {
                return None;
            }
            Some(taken.iter().sum::<f64>() + grown.unwrap_or(0).max(0) as f64 / seconds)
        })
    }

    /// The same for other processes of the time of another sample, whose disks took what they took.
    pub(crate) fn with_storage_of(mut self, other: &Sample) -> Sample {
        self.took = other.storage_took().into();
        self
    }

    /// Growth per second of a counter of the whole machine.
    pub fn rate(&self, counter: impl Fn(&Reading) -> Raw) -> Known<f64> {
        rate(counter(&self.now), self.before.as_deref().map(counter), self.seconds)
    }

    /// Places in the earlier reading of the processes that are gone.
    pub fn gone_places(&self) -> impl Iterator<Item = usize> {
        self.gone.values().flatten().map(|place| *place as usize)
    }

    /// Places of the processes that did something since the earlier reading, or were not in it, ascending: of the others the very
    /// same rows are in both.
    pub fn active(&self) -> &[usize] {
        self.active.get_or_init(|| {
            let before = self.before.as_deref().map_or(&[][..], |before| &before.processes);
            let is_another = |at: &usize| {
                let place = self.earlier_place(*at);
                place.is_none_or(|place| !Arc::ptr_eq(&before[place], &self.now.processes[*at]))
            };
            (0..self.now.processes.len()).filter(is_another).collect()
        })
    }

    /// Places of the processes that did something since the earlier reading, where all processes stand in the same places in
    /// both. None where somebody came or went, or there is no earlier reading.
    pub fn changed(&self) -> Option<&[usize]> {
        self.all_stand.then(|| self.active())
    }

    /// About how many bytes of memory its reading takes beside the earlier one; see [`Reading::own_bytes`].
    pub fn own_bytes(&self) -> usize {
        let row = |at: &usize| match self.earlier_place(*at) {
            // Its texts are those of the row before.
            Some(_) => size_of::<ProcessRow>(),
            None => self.now.processes[*at].bytes(),
        };
        self.now.parts_bytes() + self.active().iter().map(row).sum::<usize>()
    }

    /// Whether a process was last on the same core in both readings: of one that moved it is not known where it used its time.
    pub fn stayed(&self, at: usize) -> bool {
        let view = self.process(at);
        view.before.is_none_or(|before| before.core == view.now.core)
    }

    /// The process in this place of the reading.
    pub fn process(&self, at: usize) -> ProcessView<'_> {
        let now = &self.now.processes[at];
        let before = self
            .previous
            .get(at)
            .filter(|index| **index != NONE)
            .and_then(|index| self.before.as_ref().map(|before| &*before.processes[*index as usize]));
        let ticks = f64::from(self.host.ticks_per_second.max(1));
        let born = before.is_none()
            && self.before.as_ref().is_some_and(|reading| {
                // Traffic of nobody has no row as long as there was none.
                if now.pid.value().is_none() {
                    return reading.system.unattributed_in.value().is_some();
                }
                let start = now.start_ticks.value().unwrap_or(0) as f64 / ticks;
                // One tick of tolerance: the start time is cut off to whole ticks.
                start + 1.0 / ticks >= reading.boot_ns() as f64 / NANOS as f64
            });
        ProcessView { sample: self, now, before, born }
    }

    /// The place in the earlier reading of the process in this place; none where it was not there.
    pub fn earlier_place(&self, at: usize) -> Option<usize> {
        self.previous.get(at).filter(|index| **index != NONE).map(|index| *index as usize)
    }

    /// The place of a process in this sample's reading.
    pub fn find(&self, key: ProcessKey) -> Option<usize> {
        self.now.processes.binary_search_by_key(&key, |row| row.key()).ok()
    }

    /// Counts the processes by state.
    pub fn tasks(&self) -> TaskCounts {
        *self.tasks.get_or_init(|| {
            let mut counts = TaskCounts::default();
            self.now.processes.iter().for_each(|row| counts.count(row, 1));
            counts
        })
    }

    /// The same after it is known of the sample before: only those are counted who did something, came or went.
    pub(crate) fn count_on(&self, earlier: &Sample) {
        let (Some(known), Some(before)) = (earlier.tasks.get(), &self.before) else { return };
        if !Arc::ptr_eq(before, &earlier.now) {
            return;
        }
        let mut counts = *known;
        for at in self.active() {
            counts.count(&self.now.processes[*at], 1);
            if let Some(place) = self.earlier_place(*at) {
                counts.count(&before.processes[place], -1);
            }
        }
        self.gone_places().for_each(|place| counts.count(&before.processes[place], -1));
        // Whoever asked first has counted the same.
        let _ = self.tasks.set(counts);
    }

    /// The rows of one kind of part with their counterparts in the earlier reading.
    pub fn parts<'a, R: Row>(
        &'a self,
        rows: impl Fn(&'a Reading) -> &'a [R],
    ) -> impl Iterator<Item = PartView<'a, R>> {
        let before = self.before.as_deref().map(&rows);
        let seconds = self.seconds;
        // A kind that was not collected before has no row there; then nothing is new.
        let begins = FROM_ZERO.contains(&R::GROUP) && before.is_some_and(|before| !before.is_empty());
        rows(&self.now).iter().map(move |now| {
            let before = before.and_then(|before| {
                before.binary_search_by_key(&now.key(), Row::key).ok().map(|at| &before[at])
            });
            PartView { now, before, seconds, born: begins && before.is_none() }
        })
    }
}

/// Finds for each row of `now` the index of the same process in `before`; both are sorted.
fn pair(before: &[Arc<ProcessRow>], now: &[Arc<ProcessRow>]) -> Vec<u32> {
    let mut at = 0;
    now.iter()
        .map(|row| {
            while let Some(candidate) = before.get(at) {
                // Mostly it is the very same row, which need not be looked into.
                let order = if Arc::ptr_eq(candidate, row) {
                    Ordering::Equal
                } else {
                    candidate.key().cmp(&row.key())
                };
                match order {
                    Ordering::Less => at += 1,
                    Ordering::Equal => {
                        at += 1;
                        return at as u32 - 1;
                    }
                    Ordering::Greater => return NONE,
                }
            }
            NONE
        })
        .collect()
}

/// Places of the processes of `before` that nothing in the later reading was paired with, by parent.
fn gone(before: &[Arc<ProcessRow>], previous: &[u32]) -> HashMap<i64, Vec<u32>> {
    let mut gone: HashMap<i64, Vec<u32>> = HashMap::new();
    // Pairs rise in both readings, so what is left out between two of them is gone.
    let mut next = 0;
    for paired in previous.iter().copied().filter(|at| *at != NONE).chain([before.len() as u32]) {
        for place in next..paired {
            // Traffic of nobody known is no process that could be gone.
            let row = &before[place as usize];
            if row.pid.value().is_some() {
                gone.entry(row.ppid.value().unwrap_or(0)).or_default().push(place);
            }
        }
        next = paired + 1;
    }
    gone
}

/// One process in a sample.
#[derive(Clone, Copy)]
pub struct ProcessView<'a> {
    /// The sample it belongs to.
    pub sample: &'a Sample,
    /// Its counters now.
    pub now: &'a ProcessRow,
    /// Its counters in the earlier reading.
    pub before: Option<&'a ProcessRow>,
    /// It started between the two readings, so all that it counted belongs to this sample.
    pub born: bool,
}

impl ProcessView<'_> {
    /// Growth per second of one of its counters.
    pub fn rate(&self, counter: impl Fn(&ProcessRow) -> Raw) -> Known<f64> {
        let before = match self.before {
            Some(before) => Some(counter(before)),
            None if self.born => Some(Raw::new(0)),
            None => None,
        };
        rate(counter(self.now), before, self.sample.seconds)
    }

    /// Growth per second of one of its counters of input and output. Unknown in a sample in which it could not be told
    /// from what it took over from children.
    ///
    /// Older recordings hold the kernel's counters. When a process waits for a child that ended, the kernel adds all that the
    /// child ever read and wrote to the parent (kernel/exit.c). That was the child's own and is taken off again, as far as it
    /// is known: where ends are reported and hold the counter (`at_the_end`) all of it, else what the child had shown up
    /// to the earlier reading.
    pub fn io_rate(
        &self,
        counter: impl Fn(&ProcessRow) -> Raw,
        at_the_end: Option<fn(&EndedRow) -> Raw>,
    ) -> Known<f64> {
        let rate = self.rate(&counter);
        if let Some(unknown) = self.now.io_unknown.value() {
            let before = self.before.and_then(|before| before.io_unknown.value()).unwrap_or(0);
            return if unknown > before { Known::Absent } else { rate };
        }
        let (Known::Value(value), Some(pid), Some(seconds)) =
            (rate, self.now.pid.value(), self.sample.seconds)
        else {
            return rate;
        };
        // Who counted nothing inherited nothing; of thousands most did not.
        if value <= 0.0 {
            return rate;
        }
        let inherited = self.sample.counted_by_gone_children(pid, counter, at_the_end) as f64 / seconds;
        // A parent that does not wait inherits nothing; then the growth is its own.
        Known::Value(if inherited <= value { value - inherited } else { value })
    }

    /// Share of one core that a counter of clock ticks stands for, in percent.
    pub fn share(&self, ticks: impl Fn(&ProcessRow) -> Raw) -> Known<f64> {
        let per_second = f64::from(self.sample.host.ticks_per_second.max(1));
        self.rate(ticks).map(|rate| rate / per_second * 100.0)
    }
}

/// Kinds of parts whose counters begin at zero when they appear: those that have never counted are not listed. A core that
/// comes back goes on where it was.
const FROM_ZERO: [&str; 6] = ["disk", "interface", "interrupt", "softirq", "connection", "listener"];

/// One part (a core, a disk, …) in a sample.
pub struct PartView<'a, R> {
    /// Its counters now.
    pub now: &'a R,
    /// Its counters in the earlier reading.
    pub before: Option<&'a R>,
    /// Real time between the readings, in seconds.
    pub seconds: Option<f64>,
    /// It appeared between the two readings, so all that it counted belongs to this sample.
    pub born: bool,
}

impl<R> Clone for PartView<'_, R> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<R> Copy for PartView<'_, R> {}

impl<R> PartView<'_, R> {
    /// Growth per second of one of its counters.
    pub fn rate(&self, counter: impl Fn(&R) -> Raw) -> Known<f64> {
        let before = match self.before {
            None if self.born => Some(Raw::new(0)),
            before => before.map(&counter),
        };
        rate(counter(self.now), before, self.seconds)
    }
}

/// All words for the state of a process.
pub const STATES: [&str; 9] =
    ["running", "working", "sleeping", "blocked", "stopped", "traced", "zombie", "idle", "gone"];

/// The state of a process; none where it is not known. A main thread that has ended while others live makes no zombie.
pub fn process_state(row: &ProcessRow) -> Option<&'static str> {
    state_word(row.state).filter(|word| *word != "zombie" || row.threads.value() <= Some(1))
}

/// The kernel's letter for a process state in words; `proc_pid_stat(5)` state.
pub fn state_word(state: Raw) -> Option<&'static str> {
    let letter = state.value().and_then(|code| u8::try_from(code).ok())?;
    Some(match letter {
        b'R' => "running",
        b'S' => "sleeping",
        b'D' => "blocked",
        b'T' => "stopped",
        b't' => "traced",
        b'Z' => "zombie",
        b'I' => "idle",
        b'X' | b'x' => "gone",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(seconds: f64) -> Reading {
        let ns = Raw::new((seconds * 1e9) as i64);
        let mut reading = Reading::default();
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
        reading
    }

    fn process(pid: i64, start: i64, user_ticks: i64) -> Arc<ProcessRow> {
        Arc::new(ProcessRow {
            pid: Raw::new(pid),
            start_ticks: Raw::new(start),
            user_ticks: Raw::new(user_ticks),
            ..ProcessRow::default()
        })
    }

    fn host() -> Arc<HostFacts> {
        Arc::new(HostFacts { ticks_per_second: 100, cores: 4, ..HostFacts::default() })
    }

    fn sample(before: Vec<Arc<ProcessRow>>, now: Vec<Arc<ProcessRow>>) -> Sample {
        let (mut a, mut b) = (at(10.0), at(12.0));
        (a.processes, b.processes) = (before, now);
        Sample::new(host(), Some(Arc::new(a)), Arc::new(b))
    }

    #[test]
    fn a_share_comes_from_the_real_time_between_readings() {
        let sample = sample(vec![process(7, 1, 100)], vec![process(7, 1, 200)]);
        assert_eq!(sample.process(0).share(|row| row.user_ticks), Known::Value(50.0));
    }

    #[test]
    fn a_parent_does_not_write_what_its_child_had_written_before() {
        let row = |pid: i64, parent: i64, written: i64| {
            Arc::new(ProcessRow {
                ppid: parent.into(),
                write_bytes: written.into(),
                ..(*process(pid, 1, 0)).clone()
            })
        };
        let writes = |sample: &Sample, at: usize| {
            sample.process(at).io_rate(|row| row.write_bytes, Some(|row| row.write_bytes))
        };
        // The child wrote a gigabyte in an hour and 600 bytes in this sample; the parent itself 400.
        let hour = 1_000_000_000;
        let ended = sample(vec![row(7, 1, 50), row(8, 7, hour)], vec![row(7, 1, 50 + hour + 600 + 400)]);
        assert_eq!(writes(&ended, 0), Known::Value(500.0));
        let not_waited_for = sample(vec![row(7, 1, 50), row(8, 7, hour)], vec![row(7, 1, 450)]);
        assert_eq!(writes(&not_waited_for, 0), Known::Value(200.0));
        let lives_on =
            sample(vec![row(7, 1, 50), row(8, 7, hour)], vec![row(7, 1, 450), row(8, 7, hour + 20)]);
        assert_eq!((writes(&lives_on, 0), writes(&lives_on, 1)), (Known::Value(200.0), Known::Value(10.0)));
        // With records of the ends nothing of the children is left: neither of the one that was seen nor of two that
        // came and went.
        let mut now = at(12.0);
        now.processes = vec![row(7, 1, 50 + hour + 600 + 5_000 + 400)];
        let record = |pid: i64, written: i64| EndedRow {
            pid: pid.into(),
            ppid: 7.into(),
            write_bytes: written.into(),
            ..EndedRow::default()
        };
        now.ended = vec![record(8, hour + 600), record(20, 2_000), record(21, 3_000)];
        let mut before = at(10.0);
        before.processes = vec![row(7, 1, 50), row(8, 7, hour)];
        let reported = Sample::new(host(), Some(Arc::new(before)), Arc::new(now));
        assert_eq!(writes(&reported, 0), Known::Value(200.0));
    }

    #[test]
    fn a_recycled_pid_is_another_process() {
        let sample = sample(vec![process(7, 1, 100)], vec![process(7, 5, 200)]);
        assert_eq!(sample.process(0).share(|row| row.user_ticks), Known::Absent);
    }

    #[test]
    fn a_process_born_in_the_sample_counts_from_zero() {
        let sample = sample(vec![], vec![process(9, 1100, 40)]);
        assert!(sample.process(0).born);
        assert_eq!(sample.process(0).share(|row| row.user_ticks), Known::Value(20.0));
    }

    #[test]
    fn a_process_first_seen_later_is_unknown_not_huge() {
        let sample = sample(vec![], vec![process(9, 1, 1_000_000)]);
        assert_eq!(sample.process(0).share(|row| row.user_ticks), Known::Absent);
    }

    #[test]
    fn suspend_clock_change_and_restart_are_gaps() {
        let before = at(10.0);
        let mut slept = at(12.0);
        slept.system.boot_ns = Raw::new(100 * NANOS);
        slept.system.wall_ns = Raw::new(100 * NANOS);
        assert_eq!(gap_between(&before, &slept), Some(Gap::Suspend(88 * NANOS)));
        let mut moved = at(12.0);
        moved.system.wall_ns = Raw::new(2 * NANOS);
        assert_eq!(gap_between(&before, &moved), Some(Gap::ClockChange(-10 * NANOS)));
        assert_eq!(gap_between(&before, &at(3.0)), Some(Gap::Restart));
        assert_eq!(gap_between(&before, &at(12.0)), None);
        let over_gap = Sample::new(host(), Some(Arc::new(before)), Arc::new(slept));
        assert_eq!(over_gap.rate(|reading| reading.system.wall_ns), Known::Absent);
    }

    fn any_raw() -> impl Strategy<Value = Raw> {
        prop_oneof![Just(Raw::ABSENT), Just(Raw::DENIED), any::<i64>().prop_map(Raw::new)]
    }

    proptest! {
        #[test]
        fn a_rate_is_finite_and_never_negative(
            now in any_raw(),
            before in proptest::option::of(any_raw()),
            seconds in proptest::option::of(-1.0..1e6f64),
        ) {
            match rate(now, before, seconds) {
                Known::Value(value) => {
                    prop_assert!(value >= 0.0 && value.is_finite());
                    prop_assert!(now.value() >= before.and_then(Raw::value));
                }
                Known::Denied => prop_assert!(now == Raw::DENIED || before == Some(Raw::DENIED)),
                Known::Absent => {}
            }
        }
    }
}
