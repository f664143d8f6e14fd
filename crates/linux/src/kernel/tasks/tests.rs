//! Both ways to walk over all tasks, in runs of any length, and what becomes of one whose next task has ended.
//!
//! Where this machine does not let us load a program nothing is tested, and the tests say so.

use super::*;
use std::collections::{BTreeMap, BTreeSet};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Sender, channel};

/// The program for one of the ways, where this machine lets us.
fn load(way: Way) -> Option<Tasks> {
    load_with(way, true)
}

fn load_with(way: Way, memory: bool) -> Option<Tasks> {
    let loaded = crate::kernel::types(&crate::Roots::default()).and_then(|btf| {
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        Tasks::load_for(way, memory, &btf, 1000, cores)
    });
    loaded.map_err(|refused| println!("not tested here: {way:?}: {refused}")).ok()
}

const CHANGED: Turn = Turn { everybody: false, hand: 0, swept: 0 };
const EVERYBODY: Turn = Turn { everybody: true, hand: 0, swept: 0 };

/// Everything that a walk gives of some processes, and how often each task was seen.
fn walk(tasks: &mut Tasks, turn: Turn, of: &[u32]) -> BTreeMap<u32, (usize, Option<(Task, Whole)>)> {
    let mut all = BTreeMap::new();
    let see = |seen: &Seen| {
        let (tid, pid, counted) = match *seen {
            Seen::Same { tid, pid } => (tid, pid, None),
            Seen::Changed(task, whole) => (task.tid, task.pid, Some((task, whole))),
        };
        if of.contains(&pid) {
            let entry = all.entry(tid).or_insert((0, None));
            *entry = (entry.0 + 1, counted);
        }
    };
    tasks.walk(turn, see).expect("a walk");
    all
}

/// Sleeping threads of ours, until this is dropped.
struct Sleeping {
    ends: Vec<Sender<()>>,
    threads: Vec<std::thread::JoinHandle<()>>,
    numbers: Vec<u32>,
}

impl Sleeping {
    fn new(count: usize) -> Sleeping {
        let (tell, told) = channel();
        let (mut ends, mut threads) = (vec![], vec![]);
        for _ in 0..count {
            let (end, ended) = channel();
            let tell = tell.clone();
            let thread = std::thread::Builder::new().stack_size(64 << 10).spawn(move || {
                tell.send(rustix::thread::gettid().as_raw_nonzero().get() as u32).expect("somebody asks");
                let _ = ended.recv();
            });
            ends.push(end);
            threads.push(thread.expect("a thread"));
        }
        let numbers: Vec<u32> = told.iter().take(count).collect();
        // One that has told its number may still be on its way to sleep.
        let sleeps = |number: &u32| {
            std::fs::read_to_string(format!("/proc/self/task/{number}/stat"))
                .is_ok_and(|stat| stat.rsplit_once(") ").is_some_and(|(_, rest)| rest.starts_with('S')))
        };
        while !numbers.iter().all(sleeps) {
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
        Sleeping { ends, threads, numbers }
    }
}

impl Drop for Sleeping {
    fn drop(&mut self) {
        self.ends.clear();
        for thread in self.threads.drain(..) {
            let _ = thread.join();
        }
    }
}

/// Children that sleep, ended with the test.
struct Children(Vec<Child>);

impl Children {
    fn new(count: usize) -> Children {
        let one = || Command::new("sleep").arg("100").stdin(Stdio::null()).spawn().expect("a child");
        let children = Children((0..count).map(|_| one()).collect());
        // Until the last of them sleeps.
        std::thread::sleep(std::time::Duration::from_millis(300));
        children
    }

    fn pids(&self) -> Vec<u32> {
        self.0.iter().map(Child::id).collect()
    }
}

impl Drop for Children {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// Some kernels keep processes from programs like ours.
#[test]
fn both_ways_see_the_same_processes() {
    let (Some(mut list), Some(mut file)) = (load(Way::List), load(Way::File)) else { return };
    let all = |tasks: &mut Tasks| {
        let mut pids = BTreeSet::new();
        let see = |seen: &Seen| match *seen {
            Seen::Same { pid, .. } => drop(pids.insert(pid)),
            Seen::Changed(task, _) => drop(pids.insert(task.pid)),
        };
        tasks.walk(CHANGED, see).expect("a walk");
        pids
    };
    for _ in 0..5 {
        let [first, second, third, last] = [all(&mut list), all(&mut file), all(&mut list), all(&mut file)];
        // Whoever was there all the time was seen in the other way as well.
        assert!(second.is_superset(&(&first & &third)), "{first:?} {second:?} {third:?}");
        assert!(third.is_superset(&(&second & &last)), "{second:?} {third:?} {last:?}");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
}

#[test]
fn both_ways_tell_the_same_of_who_sleeps() {
    let (Some(mut list), Some(mut file)) = (load(Way::List), load(Way::File)) else { return };
    let children = Children::new(20);
    let of = children.pids();
    let (one, other) = (walk(&mut list, EVERYBODY, &of), walk(&mut file, EVERYBODY, &of));
    assert_eq!(one.keys().copied().collect::<Vec<_>>(), {
        let mut of = of.clone();
        of.sort_unstable();
        of
    });
    assert_eq!(one, other);
    assert!(one.values().all(|(times, counted)| *times == 1 && counted.is_some()), "{one:?}");
    for tasks in [&mut list, &mut file] {
        let same = walk(tasks, CHANGED, &of);
        assert!(same.len() == of.len() && same.values().all(|(_, counted)| counted.is_none()), "{same:?}");
    }
}

/// As where a machine does not let a program copy from memory.
#[test]
fn without_resident_memory_all_else_is_told() {
    let (Some(mut all), Some(mut rest)) = (load(Way::List), load_with(Way::List, false)) else { return };
    assert!(rest.missing().memory);
    let children = Children::new(5);
    let [with, without] = [&mut all, &mut rest].map(|tasks| walk(tasks, EVERYBODY, &children.pids()));
    for (tid, (_, counted)) in &with {
        let (task, whole) = counted.expect("everybody is told");
        let nothing = Whole { pages: [0; 4], ..whole };
        assert_eq!(without[tid], (1, Some((task, nothing))));
        assert!(whole.has_memory && whole.virtual_pages > 0, "{whole:?}");
        assert!(all.missing().memory || whole.pages[0] > 0, "{whole:?}");
    }
    assert_eq!(with.len(), 5);
}

/// Also where a run ends within a process: more of its threads changed than one run may write of.
#[test]
fn walks_in_short_runs_see_each_task_once() {
    let Some(mut tasks) = load(Way::List) else { return };
    let (children, sleeping) = (Children::new(10), Sleeping::new(2 * PIECE / (record::BYTES)));
    let mut of = children.pids();
    of.push(std::process::id());
    for run in [1, 2, 3, 7, 100, RUN] {
        tasks.run = run;
        for turn in [EVERYBODY, CHANGED] {
            let seen = walk(&mut tasks, turn, &of);
            // Other tests begin and end threads of ours at the same time.
            let missing = sleeping.numbers.iter().chain(&of).filter(|tid| !seen.contains_key(tid)).count();
            let twice =
                sleeping.numbers.iter().chain(&of).filter(|tid| seen.get(tid).is_some_and(|seen| seen.0 > 1));
            assert_eq!((missing, twice.count()), (0, 0), "{run} at a time, {turn:?}");
            let changed = sleeping.numbers.iter().filter(|tid| seen[tid].1.is_some()).count();
            assert_eq!(changed, if turn.everybody { sleeping.numbers.len() } else { 0 }, "{run} at a time");
        }
    }
}

#[test]
fn walks_go_on_only_at_the_process_and_thread_that_were_meant() {
    let Some(Tasks { mut shared, way: Loaded::List(program), .. }) = load(Way::List) else { return };
    let mut children = Children::new(2);
    let [ended, living] = [children.0[0].id(), children.0[1].id()].map(u64::from);
    let (thread, own) = (Sleeping::new(1).numbers[0], Place::own());
    let mut run = |place: Place| {
        shared.begin(EVERYBODY, place, u64::MAX);
        call::run(program.as_fd()).expect("a run");
        (shared.state(), shared.has_lost_threads())
    };
    // A run that is full says when the process began at which the next goes on.
    let at = |process: u64, start: u64, thread: u64| Place { process, start, thread };
    assert_ne!(run(at(living, 0, 0)).0, State::Lost);
    assert_eq!(run(at(living, 1, 0)), (State::Lost, false), "another has its number");
    children.0[0].kill().expect("it ends");
    children.0[0].wait().expect("it ended");
    assert_eq!(run(at(ended, 0, 0)), (State::Lost, false));
    assert!(run(Place { thread: u64::from(thread), ..own }).1, "the thread has ended");
    assert_eq!(run(at(u64::from(thread), 0, 0)), (State::Lost, false), "a thread is no process");
    assert!(!run(own).1);
}
