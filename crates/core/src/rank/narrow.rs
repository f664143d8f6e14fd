//! Who is kept: by an expression, by user, by PID, by what they do.

use super::activity::is_active;
use crate::expr::{Bound, Expression};
use crate::reading::ProcessKey;
use crate::row::Row as _;
use crate::sample::{ProcessView, Sample};
use crate::text::Text;
use crate::wanted::{Demand, Wanted};
use std::collections::{HashMap, HashSet};

/// Whose processes are kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Whose {
    /// All.
    #[default]
    Everyone,
    /// Those of the user who looks, by the real or the effective user.
    Mine,
    /// All but those.
    Others,
}

impl Whose {
    /// All of them, in the order of their key.
    pub const ALL: [Whose; 3] = [Whose::Everyone, Whose::Mine, Whose::Others];

    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            Whose::Everyone => "everyone",
            Whose::Mine => "mine",
            Whose::Others => "others",
        }
    }
}

/// All that narrows.
#[derive(Clone, Debug, PartialEq)]
pub struct Narrowing {
    /// The name of the user who looks.
    pub me: Text,
    /// An expression.
    pub expression: Option<Expression>,
    /// By user.
    pub whose: Whose,
    /// Only those that do something.
    pub active: bool,
    /// Threads of the kernel as well.
    pub kernel_threads: bool,
    /// Only these processes; none for all.
    pub pids: Option<HashSet<i64>>,
    /// And those that descend from them.
    pub descendants: bool,
    /// Those that were found by PID, so that who loses its parent is not lost.
    kin: HashSet<ProcessKey>,
}

impl Default for Narrowing {
    fn default() -> Narrowing {
        Narrowing {
            me: crate::text::no_text(),
            expression: None,
            whose: Whose::Everyone,
            active: false,
            kernel_threads: true,
            pids: None,
            descendants: false,
            kin: HashSet::new(),
        }
    }
}

impl Narrowing {
    /// By nothing, for a user.
    pub fn of(me: Text) -> Narrowing {
        Narrowing { me, ..Narrowing::default() }
    }

    /// The same without what was asked for at the moment: threads of the kernel stay as they are.
    #[must_use]
    pub fn cleared(&self) -> Narrowing {
        Narrowing { kernel_threads: self.kernel_threads, ..Narrowing::of(self.me.clone()) }
    }

    /// Whether everybody is kept.
    pub fn is_empty(&self) -> bool {
        self.expression.is_none()
            && self.whose == Whose::Everyone
            && !self.active
            && self.kernel_threads
            && self.pids.is_none()
    }

    /// Whether a process that does nothing is kept as it was in the sample before.
    pub fn rests(&self) -> bool {
        // Who descends from whom is found out anew at each sample.
        self.pids.is_none() && self.expression.as_ref().is_none_or(Expression::rests)
    }

    /// Parts of a reading that it needs.
    pub fn wanted(&self) -> Wanted {
        let wanted = self.expression.as_ref().map_or(Wanted::NOTHING, Expression::wanted);
        if self.active { wanted.with(Demand::Sockets) } else { wanted }
    }

    /// Takes in a sample: whoever descends from the named processes now stays one of them.
    pub fn follow(&mut self, sample: &Sample) {
        let Some(pids) = &self.pids else { return };
        let processes = &sample.now.processes;
        self.kin.retain(|key| sample.find(*key).is_some());
        let named = processes.iter().filter(|row| row.pid.value().is_some_and(|pid| pids.contains(&pid)));
        self.kin.extend(named.map(|row| row.key()));
        if !self.descendants {
            return;
        }
        let mut children: HashMap<i64, Vec<ProcessKey>> = HashMap::new();
        for row in processes {
            if let Some(parent) = row.ppid.value() {
                children.entry(parent).or_default().push(row.key());
            }
        }
        let mut open: Vec<i64> = self.kin.iter().map(|key| key.pid).collect();
        while let Some(pid) = open.pop() {
            for child in children.get(&pid).map_or(&[][..], |children| &children[..]) {
                if self.kin.insert(*child) {
                    open.push(child.pid);
                }
            }
        }
    }

    /// Decides for the processes of a sample.
    pub fn at<'a>(&'a self, sample: &Sample) -> Filter<'a> {
        let bound = self.expression.as_ref().map(|expression| expression.bind(sample, &self.me));
        Filter { narrowing: self, bound }
    }
}

/// A narrowing at the moment of a sample.
pub struct Filter<'a> {
    narrowing: &'a Narrowing,
    bound: Option<Bound<'a>>,
}

impl Filter<'_> {
    /// Whether a process is kept; `None` where that cannot be known.
    pub fn matches(&self, process: &ProcessView<'_>) -> Option<bool> {
        let narrowing = self.narrowing;
        let row = process.now;
        if narrowing.pids.is_some() && !narrowing.kin.contains(&row.key())
            || !narrowing.kernel_threads && row.kernel.value() == Some(1)
        {
            return Some(false);
        }
        let mine = *row.user == *narrowing.me || *row.real_user == *narrowing.me;
        let of_user = match narrowing.whose {
            Whose::Everyone => Some(true),
            _ if row.user.is_empty() && row.real_user.is_empty() => None,
            Whose::Mine => Some(mine),
            Whose::Others => Some(!mine),
        };
        if of_user == Some(false) || narrowing.active && !is_active(process) {
            return Some(false);
        }
        match self.bound.as_ref().map_or(Some(true), |bound| bound.holds(process)) {
            Some(true) => of_user,
            decided => decided,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::{ProcessRow, Reading, raw};
    use std::sync::Arc;

    fn sample(processes: &[(i64, i64, &str)]) -> Sample {
        let row = |(pid, ppid, user): &(i64, i64, &str)| {
            Arc::new(ProcessRow {
                pid: raw(*pid),
                ppid: raw(*ppid),
                start_ticks: raw(1),
                user: (*user).into(),
                kernel: raw(i64::from(*ppid == 2)),
                ..ProcessRow::default()
            })
        };
        let mut reading = Reading { processes: processes.iter().map(row).collect(), ..Reading::default() };
        reading.sort();
        Sample::new(Arc::default(), None, Arc::new(reading))
    }

    fn matching(narrowing: &Narrowing, sample: &Sample) -> Vec<Option<i64>> {
        let filter = narrowing.at(sample);
        let views = (0..sample.now.processes.len()).map(|at| sample.process(at));
        views.filter(|view| filter.matches(view) == Some(true)).map(|view| view.now.pid.value()).collect()
    }

    #[test]
    fn descendants_are_kept_when_they_lose_their_parents() {
        let mut narrowing = Narrowing { pids: Some([5].into()), descendants: true, ..Narrowing::default() };
        let before = sample(&[(1, 0, "a"), (5, 1, "a"), (6, 5, "a"), (7, 6, "a"), (8, 1, "a")]);
        narrowing.follow(&before);
        assert_eq!(matching(&narrowing, &before), [Some(5), Some(6), Some(7)]);
        // 5 and 6 ended; 7 was given to 1, and has started 9. A new 5 is another process, but has the PID that was named.
        let after = sample(&[(1, 0, "a"), (7, 1, "a"), (8, 1, "a"), (9, 7, "a")]);
        narrowing.follow(&after);
        assert_eq!(matching(&narrowing, &after), [Some(7), Some(9)]);
        // Parents that go round in a circle do no harm.
        let circle = sample(&[(5, 7, "a"), (7, 9, "a"), (9, 5, "a"), (10, 10, "a")]);
        narrowing.follow(&circle);
        assert_eq!(matching(&narrowing, &circle), [Some(5), Some(7), Some(9)]);
    }

    #[test]
    fn whose_and_kernel_threads_narrow_and_an_unknown_user_is_nobodys() {
        let all = sample(&[(1, 0, "root"), (3, 2, "root"), (4, 1, "astro"), (5, 1, "")]);
        let mut narrowing = Narrowing::of("astro".into());
        assert!(narrowing.is_empty());
        narrowing.whose = Whose::Mine;
        assert_eq!(matching(&narrowing, &all), [Some(4)]);
        narrowing.whose = Whose::Others;
        assert_eq!(matching(&narrowing, &all), [Some(1), Some(3)]);
        narrowing.kernel_threads = false;
        assert_eq!(matching(&narrowing, &all), [Some(1)]);
        let undecided = narrowing.at(&all).matches(&all.process(3));
        assert_eq!(undecided, None);
        assert_eq!(matching(&narrowing.cleared(), &all), [Some(1), Some(4), Some(5)]);
    }
}
