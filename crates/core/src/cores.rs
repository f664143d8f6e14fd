//! Sets of logical processors, written as the kernel does: `0-3,8`; `proc_pid_status(5)` `Cpus_allowed_list`, cpuset(7).

use std::collections::BTreeSet;
use std::fmt;
use std::str::FromStr;

/// No machine has more processors than this.
pub const MOST: usize = 8192;

/// Numbers of logical processors.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct CoreSet(BTreeSet<usize>);

impl CoreSet {
    /// The first so many.
    pub fn first(count: usize) -> CoreSet {
        (0..count.min(MOST)).collect()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// How many.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether this one is among them.
    pub fn has(&self, core: usize) -> bool {
        self.0.contains(&core)
    }

    /// Takes one in, or leaves it out.
    pub fn turn(&mut self, core: usize) {
        if core < MOST && !self.0.remove(&core) {
            self.0.insert(core);
        }
    }

    /// All of them in order.
    pub fn iter(&self) -> impl Iterator<Item = usize> + '_ {
        self.0.iter().copied()
    }

    /// Whether all of them are among others.
    pub fn is_within(&self, others: &CoreSet) -> bool {
        self.0.is_subset(&others.0)
    }
}

impl FromIterator<usize> for CoreSet {
    fn from_iter<I: IntoIterator<Item = usize>>(cores: I) -> CoreSet {
        CoreSet(cores.into_iter().filter(|core| *core < MOST).collect())
    }
}

impl fmt::Display for CoreSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut cores = self.0.iter().copied().peekable();
        let mut separator = "";
        while let Some(first) = cores.next() {
            let mut last = first;
            while let Some(next) = cores.next_if(|next| *next == last + 1) {
                last = next;
            }
            match last - first {
                0 => write!(f, "{separator}{first}")?,
                1 => write!(f, "{separator}{first},{last}")?,
                _ => write!(f, "{separator}{first}-{last}")?,
            }
            separator = ",";
        }
        Ok(())
    }
}

/// Why a text is no set of processors.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum CoreSetError {
    /// Something in it is no number and no range.
    #[error("'{0}' is no core and no range of cores; write 0-3,8")]
    Wrong(String),
    /// It names none.
    #[error("name at least one core, such as 0-3,8")]
    Empty,
}

impl FromStr for CoreSet {
    type Err = CoreSetError;

    fn from_str(text: &str) -> Result<CoreSet, CoreSetError> {
        let mut set = BTreeSet::new();
        for part in text.split(',').map(str::trim).filter(|part| !part.is_empty()) {
            let wrong = || CoreSetError::Wrong(part.chars().take(40).collect());
            let number =
                |word: &str| word.trim().parse::<usize>().ok().filter(|core| *core < MOST).ok_or_else(wrong);
            let (first, last) = match part.split_once('-') {
                Some((first, last)) => (number(first)?, number(last)?),
                None => (number(part)?, number(part)?),
            };
            if first > last {
                return Err(wrong());
            }
            set.extend(first..=last);
        }
        if set.is_empty() { Err(CoreSetError::Empty) } else { Ok(CoreSet(set)) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_the_kernel_writes_is_read_and_what_nobody_means_is_not() {
        let set: CoreSet = "0-3,8".parse().expect("a set");
        assert_eq!(set.iter().collect::<Vec<_>>(), [0, 1, 2, 3, 8]);
        for wrong in ["", ",", "3-1", "a", "1-", "-1", "99999", "1-99999999999999999999"] {
            assert!(wrong.parse::<CoreSet>().is_err(), "{wrong}");
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(cores in prop::collection::btree_set(0usize..200, 1..40)) {
            let set: CoreSet = cores.iter().copied().collect();
            prop_assert_eq!(set.to_string().parse::<CoreSet>(), Ok(set));
        }
    }
}
