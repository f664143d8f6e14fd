//! What it takes to look into a process with 5,000 descriptors and 500 threads: opening the inspector with its first frame,
//! what is asked then, beside reading the same files plainly. Run with `cargo bench --bench inspect`.

mod common;

use common::report;
use dozor::feed::Delivery;
use dozor::look::theme::{Depth, Theme};
use dozor::screen::{Event, Screen};
use dozor::state::State;
use dozor_core::inside::{Subject, Told};
use dozor_core::known::Known;
use dozor_core::reading::ProcessKey;
use dozor_core::row::Row as _;
use dozor_core::source::Source as _;
use dozor_core::timeline::Timeline;
use dozor_linux::inside::Looker;
use dozor_linux::{LiveSource, Roots, own};
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use std::hint::black_box;
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

const HELPER: &str = "DOZOR_BENCH_HELPER";
const FILES: usize = 5_000;
const THREADS: usize = 500;
const ROUNDS: usize = 20;

/// The process that is looked into: it holds what it has until it is ended.
fn hold() {
    let _ = rustix::process::setrlimit(
        rustix::process::Resource::Nofile,
        rustix::process::Rlimit { current: Some(8_192), maximum: Some(8_192) },
    );
    let files: Vec<_> = (0..FILES).map_while(|_| std::fs::File::open("/proc/self/exe").ok()).collect();
    for _ in 0..THREADS {
        let thread = std::thread::Builder::new().stack_size(32 << 10);
        let _ = thread.spawn(|| {
            loop {
                std::thread::park();
            }
        });
    }
    println!("{}", files.len());
    let mut line = String::new();
    let _ = std::io::stdin().read_line(&mut line);
}

fn start() -> (Child, usize) {
    let program = std::env::current_exe().expect("our own path");
    let mut child = Command::new(program)
        .env(HELPER, "1")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("a child");
    let mut line = String::new();
    BufReader::new(child.stdout.take().expect("its output")).read_line(&mut line).expect("a line");
    (child, line.trim().parse().expect("a number"))
}

fn timed(mut work: impl FnMut()) -> Vec<Duration> {
    (0..ROUNDS)
        .map(|_| {
            let begin = Instant::now();
            work();
            begin.elapsed()
        })
        .collect()
}

fn median(times: &[Duration]) -> f64 {
    let mut times: Vec<f64> = times.iter().map(Duration::as_secs_f64).collect();
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

/// The files of one process, opened, read and closed as plainly as it goes.
fn plainly(pid: u32, folder: &str, files: &[&str]) {
    let place = format!("/proc/{pid}/{folder}");
    for entry in std::fs::read_dir(&place).expect("the process").flatten() {
        if files.is_empty() {
            black_box(std::fs::read_link(entry.path()).ok());
            black_box(std::fs::metadata(entry.path()).ok());
            let name = entry.file_name();
            black_box(std::fs::read(format!("/proc/{pid}/fdinfo/{}", name.to_string_lossy())).ok());
        }
        for file in files {
            black_box(std::fs::read(entry.path().join(file)).ok());
        }
    }
}

fn main() {
    if std::env::var_os(HELPER).is_some() {
        return hold();
    }
    let (mut child, files) = start();
    let pid = child.id();
    let mut source = LiveSource::open(Roots::default()).expect("the machine");
    let reading = source.read();
    let row =
        reading.processes.iter().find(|row| row.pid.value() == Some(i64::from(pid))).expect("the child");
    let key: ProcessKey = row.key();
    println!("a process with {files} descriptors and {THREADS} threads");

    let timeline = Timeline::live(Arc::new(source.host()));
    let mut state = State::new(timeline, Theme::new(Depth::True, false), Duration::from_secs(1), (160, 48));
    state.act_as(&own::user(), Some(i64::from(std::process::id())));
    let mut screen = Screen::new(state);
    let mut terminal = Terminal::new(TestBackend::new(160, 48)).expect("a screen");
    for _ in 0..60 {
        screen.update(Event::Feed(Delivery::Reading(Arc::new(source.read()))), Instant::now());
        std::thread::sleep(Duration::from_millis(5));
    }
    screen.state.select_pid(i64::from(pid));
    let press = |screen: &mut Screen, code| {
        screen.update(Event::Key(KeyEvent::new(code, KeyModifiers::NONE)), Instant::now());
    };
    let opening = timed(|| {
        press(&mut screen, KeyCode::Enter);
        terminal.draw(|frame| screen.draw(frame, Instant::now())).expect("a frame");
        press(&mut screen, KeyCode::Esc);
    });
    report("  opening it, with its first frame", opening, " (budget 30 ms)");

    let mut looker = Looker::new(Roots::default());
    let mut look = |subject| match looker.look(key, subject) {
        Told::Gone => panic!("it is there"),
        told => told,
    };
    black_box(look(Subject::Facts));
    let facts = timed(|| drop(black_box(look(Subject::Facts))));
    report("  facts, on the thread that looks", facts, "");
    let plain = timed(|| plainly(pid, "fd", &[]));
    let ours = timed(|| drop(black_box(look(Subject::Files))));
    report("  open files", ours.clone(), "");
    println!("  open files beside reading them plainly: {:.2} (at most 1.2)", median(&ours) / median(&plain));
    let plain = timed(|| plainly(pid, "task", &["stat", "schedstat", "syscall", "wchan"]));
    let ours = timed(|| drop(black_box(look(Subject::Threads))));
    report("  threads", ours.clone(), "");
    println!("  threads beside reading them plainly: {:.2} (at most 1.2)", median(&ours) / median(&plain));
    if let Told::Files(look) = look(Subject::Files)
        && let Known::Value(list) = look.seen
    {
        assert!(list.len() >= files, "all of them");
    }

    // Keys while it is open and answers come: the frame with the longest table.
    press(&mut screen, KeyCode::Enter);
    press(&mut screen, KeyCode::Tab);
    press(&mut screen, KeyCode::Tab);
    for _ in 0..2 {
        screen.update(Event::Told(key, look(Subject::Facts)), Instant::now());
        screen.update(Event::Told(key, look(Subject::Files)), Instant::now());
    }
    let keys = timed(|| {
        press(&mut screen, KeyCode::Down);
        terminal.draw(|frame| screen.draw(frame, Instant::now())).expect("a frame");
    });
    report("  a key among its open files, with the frame", keys, " (budget 30 ms)");
    child.kill().and_then(|()| child.wait().map(drop)).expect("its end");
}
