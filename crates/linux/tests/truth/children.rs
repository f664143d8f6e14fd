//! Truths about children: what belongs to them and what to those who wait for them.

use super::helper::{Helper, agrees, cpu_seconds, wait_for_go};
use super::limits::Group;
use super::{CORE, INSIDE, wanting};
use dozor_core::catalogue::{Instances, find, process_metric};
use dozor_core::exited::exited;
use dozor_core::reading::{EndedRow, Reading};
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::Demand;
use dozor_linux::LiveSource;
use std::io::{BufRead as _, BufReader, Write as _};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// A process whose four threads end between two readings, and it with them.
pub fn pool_that_ends() {
    wait_for_go();
    let work = || {
        let begin = Instant::now();
        while begin.elapsed() < Duration::from_millis(400) {
            std::hint::black_box(begin);
        }
    };
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(work);
        }
    });
    println!("> {}", cpu_seconds());
    std::process::exit(0);
}

/// A process with a child that nobody will wait for.
pub fn not_waited_for() {
    // SAFETY: the child calls the C library alone, and dies with its parent.
    unsafe {
        libc::signal(libc::SIGCHLD, libc::SIG_IGN);
        let child = libc::fork();
        if child == 0 {
            libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            while cpu_seconds() < 3.0 {}
            libc::pause();
            libc::_exit(0);
        }
        println!("> {child}");
    }
}

pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// A shell that waits for a line, runs a script, says that it is done, and waits again.
struct Shell {
    child: Child,
    said: BufReader<std::process::ChildStdout>,
}

impl Shell {
    fn new(script: &str) -> Shell {
        let script = format!("read go; {script}; echo done; read go");
        let mut child = Command::new("sh")
            .args(["-c", &script])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("a shell");
        let said = BufReader::new(child.stdout.take().expect("its output"));
        Shell { child, said }
    }

    fn run(&mut self) {
        self.child.stdin.as_mut().expect("its input").write_all(b"go\n").expect("it listens");
        self.said.read_line(&mut String::new()).expect("its answer");
    }

    fn pid(&self) -> i64 {
        i64::from(self.child.id())
    }
}

impl Drop for Shell {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn sample(source: &LiveSource, before: Reading, now: Reading) -> Sample {
    Sample::new(Arc::new(source.host()), Some(Arc::new(before)), Arc::new(now))
}

/// What a metric of one process sums up to over the sample; nothing where it is unknown.
fn of(sample: &Sample, pid: i64, alias: &str) -> Option<f64> {
    let at = sample.now.processes.iter().position(|row| row.pid.value() == Some(pid)).expect("a row");
    let value = process_metric(alias).expect("a metric").of(&sample.process(at));
    Some(value.number()? * sample.seconds()?)
}

/// The same over all that ended and descend from a process.
fn of_ended(sample: &Sample, alias: &str, is_meant: impl Fn(&str) -> bool) -> f64 {
    let gone = exited(sample);
    let metric = process_metric(alias).expect("a metric");
    let values = (0..gone.now.processes.len()).filter(|at| is_meant(&gone.now.processes[*at].name));
    let sum: f64 = values.filter_map(|at| metric.of(&gone.process(at)).number()).sum();
    sum * sample.seconds().unwrap_or(0.0)
}

/// A shell that writes nothing, whose grandchildren write 48 MiB: the kernel adds all of it to the shell.
#[test]
fn what_grandchildren_wrote_is_not_the_shells() {
    let _core = CORE.lock();
    let folder = std::path::Path::new(env!("CARGO_TARGET_TMPDIR"));
    let target = folder.join(format!("grandchildren-{}", std::process::id()));
    let write = |count: u32| {
        format!(
            "sh -c 'dd if=/dev/zero of={}-{count} bs=1M count={count} 2>/dev/null; true'",
            target.display()
        )
    };
    let mut shell = Shell::new(&format!("{}; {}", write(32), write(16)));
    let mut source = wanting(&[Demand::Ended]);
    let before = source.read();
    let truth = f64::from(48 << 20);
    shell.run();
    let now = source.read();
    let sample = sample(&source, before, now);
    for metric in ["write", "write_any", "disk"] {
        let at_the_shell = of(&sample, shell.pid(), metric).expect("its own bytes are known");
        agrees(&format!("{metric} of a shell whose grandchildren write, bytes"), 0.0, at_the_shell, 4096.0);
    }
    if is_root() {
        let at_the_writers = of_ended(&sample, "write", |name| name == "dd");
        agrees("write of grandchildren that came and went, bytes", truth, at_the_writers, truth * 0.01);
        let again = source.read();
        let later = self::sample(&source, (*sample.now).clone(), again);
        assert!(of_ended(&later, "write", |name| name == "dd") <= 0.0, "they are counted once");
    }
    for count in [32, 16] {
        let _ = std::fs::remove_file(format!("{}-{count}", target.display()));
    }
}

/// A chain of shells that all end between two readings: the kernel adds what the last wrote to each that waited for it.
#[test]
fn what_those_who_are_gone_wrote_counts_once() {
    if !is_root() {
        return;
    }
    let _core = CORE.lock();
    let folder = std::path::Path::new(env!("CARGO_TARGET_TMPDIR"));
    let target = folder.join(format!("chain-{}", std::process::id()));
    let dd = |end: &str| format!("dd if=/dev/zero of={}{end} bs=1M count=48 2>/dev/null", target.display());
    // Nobody becomes what it starts, and the first writes a little itself, with threads' bytes nowhere.
    let script = format!(
        "sh -c 'timeout 60 sh -c \"{}; true\"; true'; head -c 8388608 /dev/zero > {}-2",
        dd("-3"),
        target.display()
    );
    let mut source = wanting(&[Demand::Ended]);
    let before = source.read();
    let mut old = Shell::new(&format!("{}; true", dd("")));
    old.run();
    let middle = source.read();
    let mut chain = Command::new("bash").args(["-c", &format!("{script}; true")]).spawn().expect("bash");
    chain.wait().expect("its end");
    let now = source.read();
    let host = Arc::new(source.host());
    let sample = Sample::new(host.clone(), Some(Arc::new(middle.clone())), Arc::new(now.clone()));
    let truth = f64::from((48 + 8) << 20);
    agrees(
        "write of a chain of processes that are gone, bytes",
        truth,
        of_ended(&sample, "write", |_| true),
        truth * 0.01,
    );
    let at_shells = of_ended(&sample, "write", |name| name != "dd" && name != "head");
    agrees("write of shells that only waited for writers, bytes", 0.0, at_shells, 65_536.0);
    // One that a reading has shown, and whose child wrote before it ended.
    drop(old);
    let last = source.read();
    let sample = Sample::new(host.clone(), Some(Arc::new(now)), Arc::new(last));
    agrees(
        "write of a shell that ends after its writer, bytes",
        0.0,
        of_ended(&sample, "write", |_| true),
        65_536.0,
    );
    let first = Sample::new(host, Some(Arc::new(before)), Arc::new(middle));
    let by_dd = of_ended(&first, "write", |name| name == "dd");
    agrees("write of a writer whose shell lives on, bytes", f64::from(48 << 20), by_dd, 524_288.0);
    for end in ["", "-2", "-3"] {
        let _ = std::fs::remove_file(format!("{}{end}", target.display()));
    }
}

/// Four threads of a process that ends between two readings.
#[test]
fn a_process_that_is_gone_has_the_cpu_time_of_all_its_threads() {
    let _core = CORE.lock();
    let mut child = Helper::start("pool that ends");
    child.says();
    let mut source = wanting(&[Demand::Ended]);
    let before = source.read();
    let name = before.processes.iter().find(|row| row.pid.value() == Some(child.pid())).expect("a row");
    let name = name.name.to_string();
    child.go();
    let truth: f64 = child.says().parse().expect("its own account");
    // The end of the process comes a moment after its last word.
    let mut status = 0;
    // SAFETY: it is our own child, and the pointer is good.
    unsafe { libc::waitpid(child.pid() as i32, &raw mut status, 0) };
    let now = source.read();
    // The thread that ended it has another name than the process.
    let of_end =
        now.ended.iter().find(|row| row.pid.value() == Some(child.pid())).map(|row| row.name.to_string());
    assert_eq!(of_end, is_root().then(|| name.clone()));
    let sample = sample(&source, before, now);
    if is_root() {
        let ours = of_ended(&sample, "cpu", |row| row == name) / 100.0;
        agrees("cpu of a process that ended, with its threads, s", truth, ours, truth * 0.03 + 0.02);
    }
}

/// Three seconds of CPU time long ago are not this sample's, though nobody takes them over.
#[test]
fn the_end_of_a_child_that_nobody_waits_for_moves_no_old_cpu_time_into_the_sample() {
    let _core = CORE.lock();
    for parts in [&[Demand::Ended][..], &[]] {
        let mut parent = Helper::start("not waited for");
        parent.says();
        let child: i64 = parent.says().parse().expect("a number");
        let mut source = wanting(parts);
        let used = |reading: &Reading| {
            let row = reading.processes.iter().find(|row| row.pid.value() == Some(child)).expect("a row");
            row.user_ticks.value().unwrap_or(0) + row.system_ticks.value().unwrap_or(0)
        };
        let begin = Instant::now();
        while used(&source.read()) < 280 {
            assert!(begin.elapsed() < Duration::from_secs(60), "it does not work");
            std::thread::sleep(Duration::from_millis(50));
        }
        std::thread::sleep(Duration::from_millis(200));
        let before = source.read();
        // SAFETY: a signal to the child of our own child, which it dies of.
        unsafe { libc::kill(child as i32, libc::SIGKILL) };
        std::thread::sleep(Duration::from_millis(500));
        let now = source.read();
        assert!(now.processes.iter().all(|row| row.pid.value() != Some(child)), "it is gone");
        let sample = sample(&source, before, now);
        let metric = find("unaccounted").expect("a metric");
        let Instances::One(value) = metric.of_system(&sample) else { panic!("one value") };
        let ours = value.number().expect("a share") / 100.0 * sample.seconds().expect("an interval");
        agrees("unaccounted when a child that nobody waits for ends, s", 0.0, ours, 0.3);
        assert!(sample.now.processes.iter().any(|row| row.key().pid == parent.pid()));
    }
}

/// Processes that each of two starts as fast as it can.
const STORM: usize = 20_000;

/// Starts processes that end at once, and waits for each.
pub fn storm() {
    extern "C" fn ends(_: *mut libc::c_void) -> libc::c_int {
        // SAFETY: nothing of the parent is touched.
        unsafe { libc::_exit(0) }
    }
    wait_for_go();
    let begin = Instant::now();
    let mut stack = vec![0u128; 4 << 10];
    // As libraries start programs: with the memory of who starts, who waits meanwhile.
    let flags = libc::CLONE_VM | libc::CLONE_VFORK | libc::SIGCHLD;
    for _ in 0..STORM {
        // SAFETY: the child has a stack of its own, on which nobody else is, and ends at once.
        unsafe {
            let child = libc::clone(ends, stack.as_mut_ptr_range().end.cast(), flags, std::ptr::null_mut());
            assert_eq!(libc::waitpid(child, std::ptr::null_mut(), 0), child);
        }
    }
    println!("> {}", begin.elapsed().as_secs_f64());
}

/// As many as this machine can start, while nobody reads.
#[test]
fn of_many_thousand_ends_a_second_none_is_lost() {
    if !(INSIDE && is_root()) {
        return;
    }
    let _core = CORE.lock();
    let mut source = wanting(&[Demand::Ended]);
    source.read();
    let mut starters = [Helper::start("storm"), Helper::start("storm")];
    for starter in &mut starters {
        starter.says();
    }
    starters.iter_mut().for_each(Helper::go);
    let seconds = starters.iter_mut().map(|starter| starter.says().parse::<f64>().expect("seconds"));
    let seconds = seconds.fold(0.0, f64::max);
    let pids: Vec<i64> = starters.iter().map(Helper::pid).collect();
    // Where numbers go to 32,768, these have some that those had.
    let mut later: Vec<_> = (0..8).map(|_| Command::new("sleep").arg("30").spawn().expect("sleep")).collect();
    let now = source.read();
    for child in &mut later {
        child.kill().and_then(|()| child.wait().map(|_| ())).expect("it was there");
    }
    let ours = |row: &&EndedRow| row.ppid.value().is_some_and(|parent| pids.contains(&parent));
    let named = now.ended.iter().filter(ours).count();
    println!("{:.0} ends a second", 2.0 * STORM as f64 / seconds);
    // Some kernels let another end on the core while the program tells of one (Linux 7.3 of 20,000 some ten): those are counted.
    let lost = now.system.notifications_lost.value().expect("it is told");
    assert!(lost <= STORM as i64 / 100, "{lost} of {STORM} twice");
    agrees(
        "ends of 40,000 processes, named or counted as lost",
        2.0 * STORM as f64,
        named as f64 + lost as f64,
        0.0,
    );
}

/// Lives of some milliseconds, by the kernel's account of a group that nobody but them is in.
#[test]
fn the_shortest_lives_have_a_command_line_an_end_and_all_their_cpu_time() {
    if !(INSIDE && is_root()) {
        return;
    }
    let _core = CORE.lock();
    let (file, name) = ("cpuacct.usage", "cpuacct");
    let Some(mut group) = Group::make(name, file) else { return };
    let mut source = wanting(&[Demand::Ended]);
    source.read();
    let work = "sh -c 'i=0; while [ $i -lt 400 ]; do i=$((i+1)); done' worker; ";
    let ends = "sh -c 'exit 3'; sh -c 'kill -9 $$'; cat /proc/self/none 2>/dev/null; sleep 0.2";
    let shell = group.run(&format!("i=0; while [ $i -lt 150 ]; do i=$((i+1)); {work} done; {ends}"));
    let mut lives: Vec<EndedRow> = vec![];
    let begin = Instant::now();
    while lives.iter().all(|row| row.pid.value() != Some(shell)) {
        assert!(begin.elapsed() < Duration::from_secs(60), "it does not end");
        std::thread::sleep(Duration::from_millis(200));
        let of_shell = |row: &&EndedRow| row.pid.value() == Some(shell) || row.ppid.value() == Some(shell);
        lives.extend(source.read().ended.iter().filter(of_shell).cloned());
    }
    let used = |row: &EndedRow| row.user.value().unwrap_or(0) + row.system.value().unwrap_or(0);
    let ours = lives.iter().map(used).sum::<i64>() as f64 / 1e6;
    let truth = group.number(file, "") / 1e9;
    // The shell began outside of the group.
    agrees("cpu of 155 short lives, s", truth, ours, truth * 0.02 + 0.015);
    let with = |text: &str| lives.iter().filter(|row| row.command.starts_with(text)).count();
    assert_eq!(with("sh -c i=0; while [ $i -lt 400 ]; do i=$((i+1)); done worker"), 150);
    let status =
        |text: &str| lives.iter().find(|row| &*row.command == text).and_then(|row| row.status.value());
    assert_eq!(status("sh -c exit 3"), Some(3 << 8));
    assert_eq!(status("sh -c kill -9 $$"), Some(9));
    assert_eq!(status("cat /proc/self/none"), Some(1 << 8));
    assert!(lives.iter().all(|row| row.elapsed.value().is_some_and(|us| us > 0)));
    assert!(lives.iter().all(|row| row.peak_bytes.value().is_some_and(|bytes| bytes > 100_000)), "{lives:?}");
}
