//! A table whose processes start and end all the time: no wrong number, no leak of descriptors or memory.
//!
//! Takes some seconds among some processes; `DOZOR_CHURN_SECONDS=300 DOZOR_CHURN_PROCESSES=10000` makes it long.

use dozor_core::catalogue::{PROCESS_METRICS, Unit, Value, process_metric};
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::{Demand, Wanted};
use dozor_linux::{LiveSource, Roots};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

fn setting(name: &str, usual: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
}

fn open_descriptors() -> usize {
    std::fs::read_dir("/proc/self/fd").expect("our own files").count()
}

fn resident_bytes() -> u64 {
    let text = std::fs::read_to_string("/proc/self/statm").expect("our own memory");
    let pages: u64 = text.split(' ').nth(1).and_then(|word| word.parse().ok()).expect("pages");
    pages * rustix::param::page_size() as u64
}

/// Nothing that a process can use passes what the machine has; nothing is below zero.
fn check(sample: &Sample) {
    let cores = f64::from(sample.host.cores);
    for place in 0..sample.now.processes.len() {
        let view = sample.process(place);
        for metric in PROCESS_METRICS {
            if let Value::Number(value) = metric.of(&view) {
                let name = (&view.now.name, metric.alias, value);
                assert!(value.is_finite(), "{name:?}");
                assert!(
                    value >= 0.0
                        || matches!(metric.alias, "nice" | "priority" | "tty" | "session" | "growth"),
                    "{name:?}"
                );
                if metric.unit == Unit::PercentOfCore && metric.alias != "cpu_children" {
                    assert!(value <= cores * 100.0 + 60.0, "{name:?} of {cores} cores");
                }
            }
        }
        // A terabyte a second would be a counter gone wrong.
        for alias in ["read", "write", "read_any", "write_any"] {
            let rate = process_metric(alias).expect("a metric").of(&view).number().unwrap_or(0.0);
            assert!(rate < 1e12, "{:?} {alias} {rate}", view.now.name);
        }
    }
}

/// Processes that stand by; they end with the test, however it ends.
struct Standing(Vec<Child>);

impl Standing {
    fn end(&mut self) {
        for mut child in self.0.drain(..) {
            child.kill().and_then(|()| child.wait()).expect("its end");
        }
    }
}

impl Drop for Standing {
    fn drop(&mut self) {
        self.end();
    }
}

fn sleeper() -> Child {
    let mut command = Command::new("sleep");
    command.arg("1000").stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command.spawn().expect("a child")
}

#[test]
fn starts_and_ends_leave_no_trace() {
    churn(LiveSource::open(Roots::default()).expect("the machine"));
}

/// The same with the reader in the kernel, where this machine lets us; both count descriptors, so not at the same time.
#[test]
fn starts_and_ends_leave_no_trace_in_the_kernel_either() {
    churn(LiveSource::open(Roots::default()).expect("the machine").from_inside());
}

fn churn(mut source: LiveSource) {
    static ALONE: std::sync::Mutex<()> = std::sync::Mutex::new(());
    let _alone = ALONE.lock();
    let length = Duration::from_secs(setting("DOZOR_CHURN_SECONDS", 6));
    let mut standing = Standing((0..setting("DOZOR_CHURN_PROCESSES", 100)).map(|_| sleeper()).collect());
    let (stop, started) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let starters: Vec<_> = (0..2)
        .map(|_| {
            let (stop, started) = (stop.clone(), started.clone());
            std::thread::spawn(move || {
                while !stop.load(Ordering::Relaxed) {
                    let status = Command::new("true").stdin(Stdio::null()).status().expect("a child");
                    assert!(status.success());
                    started.fetch_add(1, Ordering::Relaxed);
                }
            })
        })
        .collect();
    let all = Demand::ALL.into_iter().filter(|part| *part != Demand::Proportional);
    source.want(all.collect::<Wanted>());
    let host = Arc::new(source.host());
    let mut before = Arc::new(source.read());
    let (begin, mut warm, mut readings) = (Instant::now(), None, 0);
    while begin.elapsed() < length {
        std::thread::sleep(Duration::from_millis(50));
        let now = Arc::new(source.read());
        check(&Sample::new(host.clone(), Some(before), now.clone()));
        before = now;
        readings += 1;
        if warm.is_none() && begin.elapsed() > length / 3 {
            warm = Some((resident_bytes(), open_descriptors()));
        }
    }
    stop.store(true, Ordering::Relaxed);
    for starter in starters {
        starter.join().expect("it ends");
    }
    let (memory, descriptors) = warm.expect("it went on for a while");
    let (memory_now, descriptors_now) = (resident_bytes(), open_descriptors());
    let started = started.load(Ordering::Relaxed);
    println!(
        "{started} processes in {readings} readings; {} MiB then {} MiB, {descriptors} then {descriptors_now} descriptors",
        memory >> 20,
        memory_now >> 20
    );
    assert!(started > 50);
    assert!(memory_now < memory + (24 << 20), "{memory} bytes grew to {memory_now}");
    // What tells of the memory of an idle process is opened at its turn.
    let more = 60 + standing.0.len();
    assert!(descriptors_now <= descriptors + more, "{descriptors} descriptors grew to {descriptors_now}");
    standing.end();
    // Once all are gone, so are their descriptors.
    source.read();
    let seen = source.read().processes.len();
    // Five files of a process stay open at the most.
    assert!(open_descriptors() <= 5 * seen + 60, "{} descriptors, {seen} processes", open_descriptors());
    drop(source);
    assert!(open_descriptors() < 60, "{} descriptors", open_descriptors());
}
