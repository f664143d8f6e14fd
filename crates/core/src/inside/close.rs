//! A close look: what the threads of a process were seen doing many times a second, counted.
//!
//! A share is one of looks, which stands for time because the looks come at uneven distances. Threads that did nothing but
//! wait at one kind of place all the time are said apart: a pool of idle workers must not drown those that work.

use super::{Sighting, Spent};
use crate::sorting::ColdSort as _;
use crate::text::Text;
use crate::units::{share, short_count};
use std::collections::{BTreeMap, HashMap, HashSet};

/// What a thread did, roughly.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Kind {
    /// It ran, or waited for a core.
    Running,
    /// It waited in the kernel and took no signal: mostly for a disk.
    Blocked,
    /// It waited for something to come.
    Waiting,
    /// It was stopped, traced or had ended.
    Halted,
    /// Of the time that it was seen to run: what it ran in the kernel without being in a call that could be seen.
    InKernel,
    /// Of the same: what it was ready to run without a core.
    Queued,
}

impl Kind {
    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Kind::Running => "running",
            Kind::Blocked => "blocked",
            Kind::Waiting => "waiting",
            Kind::Halted => "halted",
            Kind::InKernel => "running in the kernel",
            Kind::Queued => "waiting for a core",
        }
    }

    fn of(state: char) -> Kind {
        match state {
            'R' => Kind::Running,
            'D' => Kind::Blocked,
            'S' | 'I' => Kind::Waiting,
            _ => Kind::Halted,
        }
    }
}

/// Where a thread was seen.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct Place {
    kind: Kind,
    call: Text,
    on: Text,
    channel: Text,
}

impl Place {
    fn of(sighting: &Sighting) -> Place {
        let kind = Kind::of(sighting.state);
        // Where it runs, what it did last in the kernel says nothing.
        let (call, on, channel) = if kind == Kind::Running {
            (sighting.call.clone(), sighting.on.clone(), Text::from(""))
        } else {
            (sighting.call.clone(), sighting.on.clone(), sighting.wait_channel.clone())
        };
        Place { kind, call, on, channel }
    }
}

/// What one thread was seen doing.
#[derive(Clone, Debug, Default)]
struct Seen {
    name: Option<Text>,
    looks: u64,
    places: HashMap<Place, u64>,
    /// What it had spent at the first look and at the last.
    spent: Option<(Spent, Spent)>,
}

/// A line of the result.
#[derive(Clone, Debug, PartialEq)]
pub struct Line {
    /// Percent of the looks at threads that did something.
    pub percent: f64,
    /// What it was, roughly.
    pub kind: Kind,
    /// System call, empty where it was in none or may not be seen.
    pub call: Text,
    /// The file or the peer of the call.
    pub on: Text,
    /// Function of the kernel that it waited in.
    pub channel: Text,
    /// Threads that were seen there.
    pub threads: usize,
    /// The function of the kernel's stack that was seen there most often, with those that called it; empty where it may not be
    /// seen.
    pub stack: Vec<Text>,
}

impl Line {
    /// In words: `waiting in read of /data/frame.fits`.
    pub fn words(&self) -> String {
        let place = match (&*self.call, &*self.on, &*self.channel) {
            _ if matches!(self.kind, Kind::InKernel | Kind::Queued) => return self.kind.words().to_owned(),
            ("", _, "") if self.kind == Kind::Running => return "running its own code".to_owned(),
            ("", _, "") => return self.kind.words().to_owned(),
            ("", _, channel) => format!("{channel} of the kernel"),
            (call, "", _) => call.to_owned(),
            (call, on, _) => format!("{call} of {on}"),
        };
        format!("{} in {place}", self.kind.words())
    }
}

/// One thread of the result.
#[derive(Clone, Debug, PartialEq)]
pub struct OfThread {
    /// Its number.
    pub tid: i64,
    /// Its name.
    pub name: Text,
    /// Percent of its looks by kind: running, blocked, waiting, halted.
    pub percent: [f64; 4],
    /// Where it was seen most often.
    pub mostly: String,
}

/// System calls of one kind, counted by the kernel.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct OfCall {
    /// Its name.
    pub name: Text,
    /// How many ended.
    pub count: u64,
    /// Time within them, of all threads, seconds.
    pub seconds: f64,
    /// Bytes that they moved; none of a kind that moves no bytes.
    pub bytes: Option<u64>,
    /// How many failed.
    pub failed: u64,
}

/// All system calls that ended meanwhile.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Calls {
    /// By kind, those with most time within them first.
    pub kinds: Vec<OfCall>,
    /// For how long they were counted, seconds.
    pub seconds: f64,
    /// By how much counting makes each call of anybody on the machine longer, nanoseconds.
    pub each_ns: f64,
    /// Some calls on the machine were not looked at: there are at least so many as counted.
    pub at_least: bool,
}

impl Calls {
    /// Of these kinds, in any order.
    pub fn new(mut kinds: Vec<OfCall>, seconds: f64, each_ns: f64) -> Calls {
        kinds.cold_sort_by(|a, b| b.seconds.total_cmp(&a.seconds).then_with(|| a.name.cmp(&b.name)));
        Calls { kinds, seconds, each_ns, at_least: false }
    }

    /// How many a second, in words: `at least 9.1 k` where some were not looked at.
    pub fn many(&self) -> String {
        let least = if self.at_least { "at least " } else { "" };
        format!("{least}{}", short_count(self.rate(self.count())))
    }

    /// So many of something, a second.
    pub fn rate(&self, count: u64) -> f64 {
        if self.seconds > 0.0 { count as f64 / self.seconds } else { 0.0 }
    }

    /// How many ended in all.
    pub fn count(&self) -> u64 {
        self.kinds.iter().map(|kind| kind.count).sum()
    }

    /// In one line: `9.1 k calls a second, most of them read (8.8 k, moving nothing)`.
    fn sentence(&self) -> Option<String> {
        let most = self.kinds.iter().max_by_key(|kind| kind.count)?;
        let moving = match most.bytes {
            Some(0) => ", moving nothing",
            _ if most.failed == most.count => ", all failing",
            _ => "",
        };
        let (all, of_most) = (self.many(), short_count(self.rate(most.count)));
        Some(format!("{all} calls a second, most of them {} ({of_most}{moving})", most.name))
    }
}

/// What was seen so far.
#[derive(Clone, Debug, Default)]
pub struct CloseLook {
    calls: Option<Calls>,
    threads: BTreeMap<i64, Seen>,
    stacks: HashMap<Place, HashMap<Vec<Text>, u64>>,
    looks: u64,
    seconds: f64,
    cost: f64,
    denied: bool,
}

impl CloseLook {
    /// Takes in one look at all threads. `seconds` is the time since the first, `cost` the CPU time that looking took so far;
    /// `denied` says that system calls may not be seen.
    pub fn add(&mut self, sightings: &[Sighting], seconds: f64, cost: f64, denied: bool) {
        self.looks += 1;
        (self.seconds, self.cost) = (seconds, cost);
        self.denied |= denied;
        for sighting in sightings {
            let place = Place::of(sighting);
            if !sighting.stack.is_empty() {
                *self.stacks.entry(place.clone()).or_default().entry(sighting.stack.clone()).or_default() +=
                    1;
            }
            let seen = self.threads.entry(sighting.tid).or_default();
            if let Some(spent) = sighting.spent {
                seen.spent.get_or_insert((spent, spent)).1 = spent;
            }
            seen.name = Some(sighting.name.clone());
            seen.looks += 1;
            *seen.places.entry(place).or_default() += 1;
        }
    }

    /// Sets what was counted of system calls so far, where somebody counts.
    pub fn count_calls(&mut self, calls: Option<Calls>) {
        self.calls = calls;
    }

    /// System calls by kind, where the kernel counts them.
    pub fn calls(&self) -> Option<&Calls> {
        self.calls.as_ref()
    }

    /// Looks so far.
    pub fn looks(&self) -> u64 {
        self.looks
    }

    /// Seconds since the first look.
    pub fn seconds(&self) -> f64 {
        self.seconds
    }

    /// CPU time that looking took, in percent of a core.
    pub fn cost(&self) -> f64 {
        if self.seconds > 0.0 { self.cost / self.seconds * 100.0 } else { 0.0 }
    }

    /// System calls may not be seen.
    pub fn is_denied(&self) -> bool {
        self.denied
    }

    fn idles(seen: &Seen) -> bool {
        seen.places.keys().all(|place| place.kind == Kind::Waiting)
    }

    /// Threads that did nothing but wait; none where all did: then waiting is what the process does.
    fn idle(&self) -> HashSet<i64> {
        let idle: HashSet<i64> =
            self.threads.iter().filter(|(_, seen)| Self::idles(seen)).map(|(tid, _)| *tid).collect();
        if idle.len() == self.threads.len() { HashSet::new() } else { idle }
    }

    /// Threads that were seen, and how many of them did nothing but wait while others worked.
    pub fn threads_seen(&self) -> (usize, usize) {
        (self.threads.len(), self.idle().len())
    }

    /// Where time goes, most first.
    pub fn lines(&self) -> Vec<Line> {
        let idle = self.idle();
        let mut places: BTreeMap<&Place, (u64, usize)> = BTreeMap::new();
        let mut all = 0;
        for (_, seen) in self.threads.iter().filter(|(tid, _)| !idle.contains(tid)) {
            for (place, count) in &seen.places {
                let sum = places.entry(place).or_default();
                *sum = (sum.0 + count, sum.1 + 1);
                all += count;
            }
        }
        let mut lines: Vec<Line> = places
            .into_iter()
            .map(|(place, (count, threads))| Line {
                percent: count as f64 / all as f64 * 100.0,
                kind: place.kind,
                call: place.call.clone(),
                on: place.on.clone(),
                channel: place.channel.clone(),
                threads,
                stack: self.stack_of(place),
            })
            .collect();
        self.divide(&mut lines, &idle);
        lines.cold_sort_by(|a, b| b.percent.total_cmp(&a.percent));
        lines
    }

    /// A look cannot tell whether who runs is in its own code, in the kernel, or ready without a core; the kernel's counters over
    /// the same time can. All three add up to what was seen running.
    fn divide(&self, lines: &mut Vec<Line>, idle: &HashSet<i64>) {
        let spans =
            self.threads.iter().filter(|(tid, _)| !idle.contains(tid)).filter_map(|(_, seen)| seen.spent);
        let mut spent = [0.0; 3];
        for (first, last) in spans {
            let grown = |of: fn(&Spent) -> u64| of(&last).saturating_sub(of(&first)) as f64;
            let run = grown(|spent| spent.run_ns);
            let (user, system) = (grown(|spent| spent.user_ticks), grown(|spent| spent.system_ticks));
            // Ticks are too few to say how long, but say where.
            let in_kernel = if user + system > 0.0 { system / (user + system) } else { 0.0 };
            spent[0] += run * (1.0 - in_kernel);
            spent[1] += run * in_kernel;
            spent[2] += grown(|spent| spent.wait_ns);
        }
        let all: f64 = spent.iter().sum();
        let is_running = |line: &&mut Line| line.kind == Kind::Running;
        let running: f64 = lines.iter_mut().filter(is_running).map(|line| line.percent).sum();
        if all <= 0.0 || running <= 0.0 {
            return;
        }
        let [own, kernel, queued] = spent.map(|part| part / all * running);
        let threads = lines.iter_mut().filter(is_running).map(|line| line.threads).max().unwrap_or(0);
        let in_calls: f64 = lines
            .iter_mut()
            .filter(is_running)
            .filter(|line| !line.call.is_empty())
            .map(|line| line.percent)
            .sum();
        for line in lines.iter_mut().filter(is_running) {
            line.percent = match (line.call.is_empty(), in_calls > 0.0) {
                (true, _) => own,
                (false, true) => line.percent / in_calls * kernel,
                (false, false) => 0.0,
            };
        }
        let mut add = |kind: Kind, percent: f64| {
            if percent > 0.0 {
                let nothing = || Text::from("");
                let (call, on, channel) = (nothing(), nothing(), nothing());
                lines.push(Line { percent, kind, call, on, channel, threads, stack: vec![] });
            }
        };
        add(Kind::Queued, queued);
        if in_calls <= 0.0 {
            add(Kind::InKernel, kernel);
        }
        let has_own = lines.iter().any(|line| line.kind == Kind::Running && line.call.is_empty());
        if !has_own && own > 0.0 {
            let nothing = || Text::from("");
            let (call, on, channel) = (nothing(), nothing(), nothing());
            lines.push(Line { percent: own, kind: Kind::Running, call, on, channel, threads, stack: vec![] });
        }
    }

    fn stack_of(&self, place: &Place) -> Vec<Text> {
        let stacks = self.stacks.get(place).into_iter().flatten();
        stacks
            .max_by_key(|(stack, count)| (**count, std::cmp::Reverse(*stack)))
            .map_or(vec![], |(stack, _)| stack.clone())
    }

    /// What each thread did, those that ran or were blocked most first.
    pub fn by_thread(&self) -> Vec<OfThread> {
        let mut threads: Vec<OfThread> = self
            .threads
            .iter()
            .map(|(tid, seen)| {
                let mut percent = [0.0; 4];
                for (place, count) in &seen.places {
                    percent[place.kind as usize] += *count as f64 / seen.looks as f64 * 100.0;
                }
                let most =
                    seen.places.iter().max_by_key(|(place, count)| (**count, std::cmp::Reverse(*place)));
                let mostly = most.map_or(String::new(), |(place, count)| {
                    let line = Line {
                        percent: *count as f64 / seen.looks as f64 * 100.0,
                        kind: place.kind,
                        call: place.call.clone(),
                        on: place.on.clone(),
                        channel: place.channel.clone(),
                        threads: 1,
                        stack: vec![],
                    };
                    line.words()
                });
                let name = seen.name.clone().unwrap_or_else(|| "".into());
                OfThread { tid: *tid, name, percent, mostly }
            })
            .collect();
        let weight = |thread: &OfThread| thread.percent[0] + thread.percent[1];
        threads.cold_sort_by(|a, b| weight(b).total_cmp(&weight(a)).then(a.tid.cmp(&b.tid)));
        threads
    }

    /// In one line, for a mark: `71 % waiting in read of /data/x, 20 % running its own code, 9 % in fdatasync`.
    pub fn sentence(&self) -> String {
        const NAMED: usize = 4;
        let lines = self.lines();
        let named: Vec<String> = lines
            .iter()
            .take(NAMED)
            .map(|line| format!("{} % {}", share(line.percent), line.words()))
            .collect();
        if named.is_empty() {
            return "nothing was seen".to_owned();
        }
        let calls = self.calls.as_ref().and_then(Calls::sentence);
        named.join(", ") + &calls.map_or(String::new(), |calls| format!("; {calls}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sighting(tid: i64, state: char, call: &str, on: &str) -> Sighting {
        Sighting {
            tid,
            name: "worker".into(),
            state,
            call: call.into(),
            on: on.into(),
            wait_channel: "".into(),
            stack: vec![],
            spent: None,
        }
    }

    #[test]
    fn shares_are_of_looks_and_idle_workers_do_not_drown_who_works() {
        let mut look = CloseLook::default();
        for round in 0..100 {
            let worker = match round {
                0..71 => sighting(1, 'S', "read", "/data/x"),
                71..91 => sighting(1, 'R', "", ""),
                _ => sighting(1, 'D', "fdatasync", ""),
            };
            let idle: Vec<Sighting> = (2..50).map(|tid| sighting(tid, 'S', "futex", "")).collect();
            let all: Vec<Sighting> = std::iter::once(worker).chain(idle).collect();
            look.add(&all, f64::from(round) / 50.0, 0.002, false);
        }
        assert_eq!(look.threads_seen(), (49, 48));
        assert_eq!(
            look.sentence(),
            "71.0 % waiting in read of /data/x, 20.0 % running its own code, 9.0 % blocked in fdatasync"
        );
        let sum: f64 = look.lines().iter().map(|line| line.percent).sum();
        assert!((sum - 100.0).abs() < 1e-9);
        let first = &look.by_thread()[0];
        assert_eq!((first.tid, first.percent[0].round(), first.percent[1].round()), (1, 20.0, 9.0));
    }

    /// Half in its own code, a fifth in the kernel, the rest without a core: of what was seen running.
    #[test]
    fn what_runs_is_divided_by_the_kernels_counters_and_all_adds_up() {
        let mut look = CloseLook::default();
        for round in 0..100u64 {
            let state = if round < 60 { 'R' } else { 'S' };
            let spent = Spent {
                run_ns: round * 7_000_000,
                wait_ns: round * 3_000_000,
                user_ticks: round * 5,
                system_ticks: round * 2,
            };
            let one = Sighting { spent: Some(spent), ..sighting(1, state, "", "") };
            look.add(&[one], round as f64 / 50.0, 0.0, false);
        }
        let lines = look.lines();
        let percent =
            |kind: Kind| lines.iter().find(|line| line.kind == kind).map_or(0.0, |line| line.percent);
        let near = |kind: Kind, expected: f64| (percent(kind) - expected).abs() < 1e-6;
        assert!(
            near(Kind::Running, 30.0) && near(Kind::InKernel, 12.0) && near(Kind::Queued, 18.0),
            "{lines:?}"
        );
        assert!((lines.iter().map(|line| line.percent).sum::<f64>() - 100.0).abs() < 1e-6);
        assert!(look.sentence().contains("18.0 % waiting for a core"), "{}", look.sentence());
    }

    #[test]
    fn calls_are_told_by_time_and_the_most_frequent_in_a_sentence() {
        let kind = |name: &str, count, seconds, bytes| OfCall {
            name: name.into(),
            count,
            seconds,
            bytes,
            failed: if name == "access" { count } else { 0 },
        };
        let mut look = CloseLook::default();
        look.add(&[sighting(1, 'R', "", "")], 0.0, 0.0, false);
        let all = [kind("read", 40_000, 0.5, Some(0)), kind("poll", 20, 3.5, None)];
        look.count_calls(Some(Calls::new(all.to_vec(), 4.0, 200.0)));
        let calls = look.calls().expect("counted");
        assert_eq!((&*calls.kinds[0].name, calls.count(), calls.rate(20)), ("poll", 40_020, 5.0));
        let expected =
            "100 % running its own code; 10 k calls a second, most of them read (10 k, moving nothing)";
        assert_eq!(look.sentence(), expected);
        look.count_calls(Some(Calls { at_least: true, ..Calls::new(all.to_vec(), 4.0, 200.0) }));
        assert!(
            look.sentence()
                .ends_with("; at least 10 k calls a second, most of them read (10 k, moving nothing)")
        );
        look.count_calls(Some(Calls::new(vec![kind("access", 8, 0.1, None)], 4.0, 200.0)));
        assert!(look.sentence().ends_with("2 calls a second, most of them access (2, all failing)"));
        look.count_calls(Some(Calls::new(vec![], 4.0, 200.0)));
        assert_eq!(look.sentence(), "100 % running its own code");
        assert!(Calls::default().rate(3) <= 0.0, "no time has passed");
    }

    #[test]
    fn who_only_waits_waits_for_all_of_it() {
        let mut look = CloseLook::default();
        for _ in 0..10 {
            look.add(&[sighting(1, 'S', "epoll_wait", ""), sighting(2, 'S', "futex", "")], 1.0, 0.0, false);
        }
        assert_eq!(look.threads_seen(), (2, 0));
        assert_eq!(look.sentence(), "50.0 % waiting in epoll_wait, 50.0 % waiting in futex");
        assert_eq!(CloseLook::default().sentence(), "nothing was seen");
    }
}
