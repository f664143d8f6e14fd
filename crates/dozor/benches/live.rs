//! What Dozor costs from outside: time to the first complete screen, CPU time and memory of a live screen with 300 processes at
//! 1 s, and CPU time of a recorder with 1,000 idle processes at 1 s, by the kernel's account of its threads.
//!
//! Beside it stands the bare cost of opening, reading and closing `stat` and `io` of each process, measured in the
//! same run. Run with `cargo bench --bench live`; takes about three minutes.

#[path = "../tests/all/terminal/pair.rs"]
mod pair;

use std::fs::File;
use std::io::{Read as _, Write as _};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

const DOZOR: &str = env!("CARGO_BIN_EXE_dozor");
const WATCHED: Duration = Duration::from_secs(30);
/// Processes that were started a moment ago are read with more care; those of a machine mostly were not.
const OLD: Duration = Duration::from_secs(12);

/// Dozor in a terminal of 160×48 that nobody looks at but us.
struct Watched {
    child: Child,
    terminal: File,
    output: Receiver<Vec<u8>>,
    begin: Instant,
}

impl Watched {
    fn start(arguments: &[&str]) -> Watched {
        let (master, slave) = pair::open((160, 48));
        let copy = || Stdio::from(slave.try_clone().expect("a copy"));
        let mut command = Command::new(DOZOR);
        command.args(arguments).env("TERM", "xterm-256color").env("COLORTERM", "truecolor");
        command.stdin(copy()).stdout(copy()).stderr(copy());
        let begin = Instant::now();
        let child = command.spawn().expect("dozor");
        drop((command, slave));
        let terminal = File::from(master);
        let mut reader = terminal.try_clone().expect("a copy");
        let (sender, output) = channel();
        std::thread::spawn(move || {
            let mut buffer = vec![0; 1 << 16];
            while let Ok(got @ 1..) = reader.read(&mut buffer) {
                if sender.send(buffer[..got].to_vec()).is_err() {
                    return;
                }
            }
        });
        Watched { child, terminal, output, begin }
    }

    /// Time until the screen is complete: lanes with rates, processes, hints.
    fn first_screen(&self) -> Duration {
        let mut screen = vt100::Parser::new(48, 160, 0);
        loop {
            screen.process(&self.output.recv_timeout(Duration::from_secs(10)).expect("a screen"));
            let text = screen.screen().contents();
            let rates =
                text.contains("user ") && !text.contains("user –") && !text.contains("rates need a second");
            if rates && text.contains("[kthreadd]") | text.contains("sleep") && text.contains("quit") {
                return self.begin.elapsed();
            }
        }
    }

    /// CPU time so far in seconds and resident bytes.
    fn cost(&self) -> (f64, f64) {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).expect("it runs");
        let fields: Vec<&str> = stat.rsplit(") ").next().expect("fields").split(' ').collect();
        let number = |at: usize| fields[at].parse::<f64>().expect("a number");
        let ticks = rustix::param::clock_ticks_per_second() as f64;
        ((number(11) + number(12)) / ticks, number(21) * rustix::param::page_size() as f64)
    }

    fn end(mut self) {
        self.terminal.write_all(b"q").expect("it listens");
        self.child.wait().expect("its end");
    }
}

/// Opens, reads and closes `stat` and `io` of every process; gives their number and the time.
fn bare_loop() -> (usize, Duration) {
    let begin = Instant::now();
    let mut count = 0;
    let mut buffer = vec![0; 4096];
    for entry in std::fs::read_dir("/proc").expect("/proc").flatten() {
        if entry.file_name().to_string_lossy().bytes().all(|byte| byte.is_ascii_digit()) {
            count += 1;
            for name in ["stat", "io"] {
                if let Ok(mut file) = File::open(entry.path().join(name)) {
                    let _ = file.read(&mut buffer);
                }
            }
        }
    }
    (count, begin.elapsed())
}

/// CPU time in seconds of all threads of a process that live, to the nanosecond; Documentation/scheduler/sched-stats.rst.
fn on_cores(process: &Child) -> f64 {
    let tasks = std::fs::read_dir(format!("/proc/{}/task", process.id())).expect("it runs");
    let of = |task: std::fs::DirEntry| {
        let told = std::fs::read_to_string(task.path().join("schedstat")).unwrap_or_default();
        told.split(' ').next().and_then(|ns| ns.parse::<f64>().ok()).unwrap_or(0.0)
    };
    tasks.flatten().map(of).sum::<f64>() / 1e9
}

/// CPU time in seconds that a reading costs a recorder, of so many of them once it has settled; and bare loops, one after each
/// reading: whoever reads once a second finds the processor's memory full of what others did.
fn recorder(reader: &str, readings: u32) -> (f64, Vec<(usize, Duration)>) {
    let folder = tempfile::tempdir().expect("a folder");
    let mut command = Command::new(DOZOR);
    command
        .args(["record", "--every", "1s", "--reader", reader, "-o"])
        .arg(folder.path().join("bench.dozor"));
    let mut recorder = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it runs");
    // Between two readings, so that each of them is counted as a whole.
    std::thread::sleep(Duration::from_millis(8_500));
    let (before, begin) = (on_cores(&recorder), Instant::now());
    let mut bare = vec![];
    for second in 1..=readings {
        bare.push(bare_loop());
        std::thread::sleep(
            (begin + Duration::from_secs(second.into())).saturating_duration_since(Instant::now()),
        );
    }
    let used = on_cores(&recorder) - before;
    let _ = recorder.kill();
    let _ = recorder.wait();
    (used / f64::from(readings), bare)
}

/// What a reading costs a recorder, everything included but its start.
fn recorders() {
    const READINGS: u32 = 40;
    let present = bare_loop().0;
    let sleepers: Vec<Child> = (present..1_000)
        .map(|_| Command::new("sleep").arg("300").stdin(Stdio::null()).spawn().expect("a child"))
        .collect();
    std::thread::sleep(OLD);
    for (reader, budget) in [("files", 0.4), ("kernel", 0.15)] {
        let (reading, mut bare) = recorder(reader, READINGS);
        bare.sort_by_key(|(_, time)| *time);
        let (count, bare) = bare[bare.len() / 2];
        println!(
            "a recorder with the reader of {reader}, {count} idle processes: {:.2} ms a reading, beside {:.2} ms of the bare \
             loop: {:.2} (budget {budget})",
            reading * 1e3,
            bare.as_secs_f64() * 1e3,
            reading / bare.as_secs_f64(),
        );
    }
    for mut sleeper in sleepers {
        let _ = sleeper.kill();
        let _ = sleeper.wait();
    }
}

fn main() {
    if std::env::args().any(|argument| argument == "recorder") {
        return recorders();
    }
    let present = bare_loop().0;
    let sleepers: Vec<Child> = (present..300)
        .map(|_| Command::new("sleep").arg("300").stdin(Stdio::null()).spawn().expect("a child"))
        .collect();
    std::thread::sleep(OLD);

    let mut starts: Vec<Duration> = (0..15)
        .map(|_| {
            let watched = Watched::start(&["--every", "1s"]);
            let time = watched.first_screen();
            watched.end();
            time
        })
        .collect();
    starts.sort();
    let milliseconds = |time: Duration| time.as_secs_f64() * 1e3;
    println!(
        "first complete screen: median {:.0} ms, slowest of {} {:.0} ms (budget 150 ms)",
        milliseconds(starts[starts.len() / 2]),
        starts.len(),
        milliseconds(starts[starts.len() - 1])
    );

    let watched = Watched::start(&["--every", "1s"]);
    watched.first_screen();
    std::thread::sleep(Duration::from_secs(2));
    watched.output.try_iter().for_each(drop);
    let (before, _) = watched.cost();
    let begin = Instant::now();
    std::thread::sleep(WATCHED);
    let (after, resident) = watched.cost();
    let share = (after - before) / begin.elapsed().as_secs_f64() * 100.0;
    let bytes: usize = watched.output.try_iter().map(|part| part.len()).sum();
    watched.end();
    let mut bare: Vec<_> = (0..9).map(|_| bare_loop()).collect();
    bare.sort_by_key(|(_, time)| *time);
    let (count, bare) = bare[bare.len() / 2];
    println!(
        "live, {count} processes at 1 s, 160×48: {share:.2} % of a core (budget 1 %, aim 0.5 %), {:.1} MiB resident \
         (budget 20 MiB), {:.0} bytes a second to the terminal",
        resident / 1_048_576.0,
        bytes as f64 / WATCHED.as_secs_f64()
    );
    println!(
        "the bare loop over {count} processes takes {:.2} ms, that is {:.2} % of a core at 1 s; reading, drawing and \
         all else cost {:.2} times that",
        milliseconds(bare),
        bare.as_secs_f64() * 100.0,
        share / (bare.as_secs_f64() * 100.0)
    );
    for mut sleeper in sleepers {
        let _ = sleeper.kill();
        let _ = sleeper.wait();
    }
    recorders();
}
