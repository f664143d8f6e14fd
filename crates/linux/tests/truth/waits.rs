//! Waiting for a core: the time that a busy thread was not on one, by its own two clocks.

use super::children::is_root;
use super::helper::{Helper, agrees, wait_for_go};
use super::{CORE, INSIDE, wanting};
use dozor_core::catalogue::process_metric;
use dozor_core::known::Raw;
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::Demand;
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Barrier};
use std::time::{Duration, Instant};

/// Threads that share a core, and for how long.
const SHARERS: usize = 3;
const LONG: Duration = Duration::from_millis(600);

/// Lets this thread, and those that it starts, run on one core only: the last that it may.
fn stay_on_one_core() {
    // SAFETY: the set is a plain array of bits, for which zeros are valid, and the pointers are good.
    unsafe {
        let mut set: libc::cpu_set_t = std::mem::zeroed();
        assert_eq!(libc::sched_getaffinity(0, size_of::<libc::cpu_set_t>(), &raw mut set), 0);
        let one = (0..1024).rev().find(|core| libc::CPU_ISSET(*core, &set)).expect("a core");
        libc::CPU_ZERO(&mut set);
        libc::CPU_SET(one, &mut set);
        assert_eq!(libc::sched_setaffinity(0, size_of::<libc::cpu_set_t>(), &raw const set), 0);
    }
}

fn thread_cpu() -> Duration {
    // SAFETY: the pointer is good, and a time is two plain numbers.
    unsafe {
        let mut time: libc::timespec = std::mem::zeroed();
        assert_eq!(libc::clock_gettime(libc::CLOCK_THREAD_CPUTIME_ID, &raw mut time), 0);
        Duration::new(time.tv_sec as u64, time.tv_nsec as u32)
    }
}

/// For how much of `LONG` a thread that always wants to run did not.
fn busy() -> f64 {
    let (begin, used) = (Instant::now(), thread_cpu());
    while begin.elapsed() < LONG {
        std::hint::black_box(());
    }
    begin.elapsed().saturating_sub(thread_cpu().saturating_sub(used)).as_secs_f64()
}

/// Threads that are there when they are read and share a core, and others that come and go in between.
pub fn share_a_core() {
    stay_on_one_core();
    let barrier = Arc::new(Barrier::new(SHARERS + 1));
    let sharer = || {
        let barrier = barrier.clone();
        std::thread::spawn(move || {
            barrier.wait();
            let waited = busy();
            barrier.wait();
            barrier.wait();
            waited
        })
    };
    let sharers: Vec<_> = (0..SHARERS).map(|_| sharer()).collect();
    println!("> there");
    wait_for_go();
    barrier.wait();
    barrier.wait();
    println!("> done");
    wait_for_go();
    barrier.wait();
    let waited: f64 = sharers.into_iter().map(|one| one.join().expect("it ends")).sum();
    println!("> {waited}");
    wait_for_go();
    let others: Vec<_> = (0..SHARERS).map(|_| std::thread::spawn(busy)).collect();
    let waited: f64 = others.into_iter().map(|one| one.join().expect("it ends")).sum();
    println!("> {waited}");
    wait_for_go();
}

/// Wants to run once it is told to.
pub fn want_to_run() {
    stay_on_one_core();
    println!("> there");
    wait_for_go();
    println!("> done");
    wait_for_go();
}

/// Has a core for itself for so long, and says when.
fn hog(length: Duration, begun: &Sender<()>) {
    stay_on_one_core();
    // SAFETY: a parameter is one plain number, and the pointer is good.
    let set = unsafe {
        let first = libc::sched_param { sched_priority: 1 };
        libc::sched_setscheduler(0, libc::SCHED_FIFO, &raw const first)
    };
    assert_eq!(set, 0, "root may");
    begun.send(()).expect("somebody listens");
    let begin = Instant::now();
    while begin.elapsed() < length {
        std::hint::black_box(());
    }
}

#[test]
fn who_waits_for_a_core_does_not_sleep() {
    if !(INSIDE && is_root()) || std::thread::available_parallelism().is_ok_and(|cores| cores.get() < 2) {
        return;
    }
    let _core = CORE.lock();
    let mut child = Helper::start("want to run");
    for _ in 0..2 {
        child.says();
    }
    let mut source = wanting(&[]);
    let pid = child.pid();
    let state = |reading: &dozor_core::reading::Reading| {
        let row = reading.processes.iter().find(|row| row.pid.value() == Some(pid)).expect("a row");
        (row.state.value().expect("a state") as u8 as char, row.run_ns)
    };
    let before = state(&source.read());
    assert_eq!(before.0, 'S');
    let (begun, begins) = channel();
    let hog = std::thread::spawn(move || hog(Duration::from_millis(800), &begun));
    begins.recv().expect("it has the core");
    child.go();
    std::thread::sleep(Duration::from_millis(50));
    assert_eq!(state(&source.read()), ('R', before.1), "it has not run since");
    hog.join().expect("it ends");
    child.says();
}

#[test]
fn waiting_for_a_core_is_what_a_busy_threads_clocks_say() {
    let _core = CORE.lock();
    let mut child = Helper::start("share a core");
    let pid = child.pid();
    for _ in 0..2 {
        child.says();
    }
    let mut source = wanting(&[Demand::CoreWait]);
    let counted = |reading: &dozor_core::reading::Reading| {
        let row = reading.processes.iter().find(|row| row.pid.value() == Some(pid)).expect("a row");
        row.core_wait_ns.value().expect("it is known") as f64 / 1e9
    };
    let before = source.read();
    child.go();
    child.says();
    let now = source.read();
    child.go();
    let truth: f64 = child.says().parse().expect("a number");
    assert!(truth > 0.8 * (SHARERS - 1) as f64 * LONG.as_secs_f64(), "they shared a core: {truth}");
    agrees("core_wait (s) of threads that share a core", truth, counted(&now) - counted(&before), 0.2);
    let ended = source.read();
    agrees("core_wait (s) after they ended", counted(&now), counted(&ended), 0.15);
    child.go();
    let truth: f64 = child.says().parse().expect("a number");
    let after = source.read();
    let grown = counted(&after) - counted(&ended);
    if INSIDE {
        agrees("core_wait (s) of threads that came and went unseen", truth, grown, 0.2);
    }
    assert!(grown >= 0.0, "never taken back");
    let sample = Sample::new(Arc::new(source.host()), Some(Arc::new(ended)), Arc::new(after));
    let at = sample.now.processes.iter().position(|row| row.pid.value() == Some(pid)).expect("a row");
    let share = process_metric("core_wait").expect("a metric").of(&sample.process(at));
    let share = share.number().expect("a number") * sample.seconds().expect("seconds");
    assert!((share / 100.0 - grown).abs() < 1e-6, "{share} {grown}");
    let unasked = wanting(&[]).read();
    assert!(unasked.processes.iter().all(|row| row.core_wait_ns == Raw::ABSENT), "nobody asked");
}
