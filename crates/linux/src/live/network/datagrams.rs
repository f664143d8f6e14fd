//! Bytes over UDP, as programs in the kernel count them.

use super::super::tallied::{Key, Tallied};
use crate::Roots;
use crate::kernel::{self, How, Later};
use dozor_core::known::Raw;
use dozor_core::reading::ProcessKey;
use std::collections::{HashMap, HashSet};
use std::time::{Duration, Instant};

/// Readings in which the end of a process may still be told.
const PATIENCE: u64 = 3;

/// Datagrams a second of the machine from which on who moves them is worth what counting costs everybody, and how long it goes on
/// when they are fewer.
const MANY: f64 = 100.0;
const GOES_ON: Duration = Duration::from_secs(60);

/// When it is counted: while somebody asks for it, or there is much to count.
#[derive(Default)]
struct Occasion {
    before: Option<(Instant, i64)>,
    last: Option<Instant>,
}

impl Occasion {
    /// Whether it is counted. `moved`: datagrams of the machine since its start.
    fn lasts(&mut self, asked: bool, moved: Option<i64>, now: Instant) -> bool {
        let before = std::mem::replace(&mut self.before, moved.map(|moved| (now, moved)));
        let many = before.zip(moved).is_some_and(|((then, before), moved)| {
            let seconds = now.duration_since(then).as_secs_f64();
            moved.saturating_sub(before) as f64 >= MANY * seconds
        });
        if asked || many {
            self.last = Some(now);
        }
        self.last.is_some_and(|last| now.duration_since(last) <= GOES_ON)
    }
}

/// What is known of bytes over UDP.
#[derive(Default)]
pub struct Datagrams {
    occasion: Occasion,
    counts: bool,
    loaded: Later<kernel::datagrams::Datagrams>,
    tallied: Tallied,
    /// Bytes received and sent of processes that are there.
    there: HashMap<ProcessKey, [i64; 2]>,
    /// Those of processes that are not, and the reading that missed them first: until their end is told.
    gone: HashMap<ProcessKey, ([i64; 2], u64)>,
    /// Processes that are not there, and of which the kernel still has counts.
    left: HashSet<Key>,
    reading: u64,
}

impl Datagrams {
    /// Whether it is to be counted from here on: `asked` for by name, or because so many datagrams were `moved`.
    pub fn count(&mut self, asked: bool, moved: Option<i64>) {
        let counts = self.occasion.lasts(asked, moved, Instant::now());
        if self.counts && !counts {
            *self = Datagrams { occasion: std::mem::take(&mut self.occasion), ..Datagrams::default() };
        }
        self.counts = counts;
    }

    /// Looks at what was counted so far. `is_there` knows the processes of this reading.
    pub fn take(&mut self, how: How, roots: &Roots, is_there: impl Fn(ProcessKey) -> bool) {
        if !self.counts {
            return;
        }
        self.loaded.begin(how, roots, kernel::datagrams);
        self.loaded.arrives();
        let Some(Ok(counted)) = self.loaded.get().map(kernel::datagrams::Datagrams::counted) else { return };
        self.reading += 1;
        self.tallied.take(counted);
        let (there, gone, reading) = (&mut self.there, &mut self.gone, self.reading);
        there.clear();
        let mut left = HashSet::new();
        let before = &self.left;
        self.tallied.retain(|key, [received, sent, _]| {
            let process = key.process();
            if is_there(process) {
                there.insert(process, [received, sent]);
                // It was too young for the reading before.
                gone.remove(&process);
                return true;
            }
            left.insert(key);
            if !before.contains(&key) {
                gone.insert(process, ([received, sent], reading));
            }
            false
        });
        self.left = left;
        gone.retain(|_, (_, since)| *since + PATIENCE > reading);
    }

    /// Processes that moved any.
    pub fn moved(&self) -> impl Iterator<Item = &ProcessKey> {
        self.there.keys()
    }

    /// How many calls on any socket were not looked at; absent where nobody counts.
    pub fn missed(&self) -> Raw {
        let missed = self.loaded.get().map(kernel::datagrams::Datagrams::missed);
        missed.map_or(Raw::ABSENT, |missed| Raw::new(i64::try_from(missed).unwrap_or(i64::MAX)))
    }

    /// Bytes received and sent of a process; absent where nobody counts.
    pub fn of(&self, process: ProcessKey) -> [Raw; 2] {
        let moved = self.there.get(&process).filter(|_| self.loaded.get().is_some());
        moved.map_or_else(|| self.of_nobody(), |bytes| bytes.map(Raw::new))
    }

    /// The same of one that moved none.
    pub fn of_nobody(&self) -> [Raw; 2] {
        match self.loaded.get() {
            Some(_) => [Raw::new(0); 2],
            None if self.loaded.is_denied() => [Raw::DENIED; 2],
            None => [Raw::ABSENT; 2],
        }
    }

    /// The same of one that ended since the last reading.
    pub fn of_gone(&mut self, pid: i64) -> Option<[i64; 2]> {
        self.loaded.get()?;
        let process = self.gone.keys().copied().filter(|key| key.pid == pid).min_by_key(|key| key.start);
        Some(process.and_then(|key| self.gone.remove(&key)).map_or([0; 2], |(bytes, _)| bytes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_counted_while_there_is_much_and_a_while_longer_or_on_demand() {
        let (mut occasion, begin) = (Occasion::default(), Instant::now());
        let mut moved = 0;
        let mut pass = |second: u64, asked: bool, datagrams: i64| {
            moved += datagrams;
            occasion.lasts(asked, Some(moved), begin + Duration::from_secs(second))
        };
        assert_eq!([pass(0, false, 9_000), pass(2, false, 150), pass(4, false, 200)], [false, false, true]);
        assert_eq!([pass(60, false, 10), pass(64, false, 0), pass(65, false, 0)], [true, true, false]);
        assert_eq!([pass(70, true, 0), pass(100, false, 0), pass(131, false, 0)], [true, true, false]);
    }
}
