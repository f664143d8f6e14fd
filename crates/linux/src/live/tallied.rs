//! What programs in the kernel counted for processes, summed up: the kernel counts anew what it has no more room for.

use crate::clock::ticks;
use crate::kernel::Counted;
use dozor_core::reading::ProcessKey;
use std::collections::HashMap;

/// A process by number and start in nanoseconds after boot, and what it has to do with.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Key {
    pub pid: u32,
    pub start_ns: u64,
    pub with: u32,
    /// The control group for which it did so, where that is not its own; else 0.
    pub group: u64,
}

impl Key {
    /// The process.
    pub fn process(self) -> ProcessKey {
        let second = i64::try_from(rustix::param::clock_ticks_per_second()).unwrap_or(100);
        ProcessKey { pid: i64::from(self.pid), start: ticks(self.start_ns, second) }
    }
}

/// What the kernel counted last, and all of it.
#[derive(Clone, Copy, Default)]
struct Sums {
    last: [u64; 3],
    all: [u64; 3],
    /// Rests since it changed.
    quiet: u32,
    /// The kernel has room for others by now, and counts it anew when it comes again.
    dropped: bool,
}

/// The sums.
#[derive(Default)]
pub struct Tallied(HashMap<Key, Sums>);

impl Tallied {
    /// Takes over what was counted so far.
    pub fn take(&mut self, counted: Vec<Counted>) {
        // Of no list at all nobody was dropped.
        let listed = !counted.is_empty();
        for sums in self.0.values_mut() {
            sums.dropped |= listed;
        }
        for Counted { pid, start_ns, with, group, counts } in counted {
            self.0.entry(Key { pid, start_ns, with, group }).or_default().take(counts);
        }
    }

    /// Some of those that did not change so many times are begun anew, from nothing; they may come again.
    pub fn rest(&mut self, after: u32, some: impl Fn(&Key) -> bool) {
        self.0.retain(|key, sums| {
            sums.quiet = sums.quiet.saturating_add(1);
            if sums.quiet <= after || !some(key) {
                return true;
            }
            sums.all = [0; 3];
            !sums.dropped
        });
    }

    /// Looks at all of them, and keeps those that are still of interest.
    pub fn retain(&mut self, mut stays: impl FnMut(Key, [i64; 3]) -> bool) {
        let signed = |counts: [u64; 3]| counts.map(|count| i64::try_from(count).unwrap_or(i64::MAX));
        self.0.retain(|key, sums| stays(*key, signed(sums.all)));
    }
}

impl Sums {
    /// A count that went back was begun anew.
    fn take(&mut self, counts: [u64; 3]) {
        self.quiet = if counts == self.last { self.quiet } else { 0 };
        self.dropped = false;
        let begins_anew = counts.iter().zip(self.last).any(|(now, last)| *now < last);
        for ((all, last), now) in self.all.iter_mut().zip(&mut self.last).zip(counts) {
            *all += if begins_anew { now } else { now.saturating_sub(*last) };
            *last = now;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_kernel_counts_anew_is_added_to_what_was_counted_before() {
        let mut sums = Sums::default();
        for counts in [[4096, 0, 1], [4096, 8192, 3], [0, 512, 1], [512, 512, 2]] {
            sums.take(counts);
        }
        assert_eq!(sums.all, [4096 + 512, 8192 + 512, 5]);
    }
}
