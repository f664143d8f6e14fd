//! How the cost of a reading grows: a made-up tree of files in memory with ten times as many processes, cores or devices. What a
//! row costs more than a tenth of that grows faster than it should. Beside it a bare loop over the same tree, which opens, reads
//! and closes `stat` and `io` of each process, or reads the one file.
//!
//! `cargo bench -p dozor-linux --bench scale`: takes a minute, and some 2 GiB of memory for 100,000 processes.

use dozor_core::source::Source as _;
use dozor_core::wanted::{Demand, Wanted};
use dozor_linux::{LiveSource, Roots};
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use std::fmt::Write as _;
use std::fs;
use std::io::{BufRead as _, BufReader};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// A tree of files that goes with it.
struct Tree(PathBuf);

impl Drop for Tree {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.0);
    }
}

fn fixture(name: &str) -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures").join(name);
    fs::read_to_string(path).expect("a fixture")
}

/// The line of a process that ran so long.
fn stat(pid: usize, ticks: u64) -> String {
    let sample = fixture("pid_stat");
    let mut words: Vec<String> = sample.split_whitespace().map(str::to_owned).collect();
    // Places as in proc_pid_stat(5), counted from 1.
    for (place, value) in [(1, pid as u64), (4, 1), (14, ticks), (22, 1_000 + pid as u64 / 10)] {
        words[place - 1] = format!("{value:08}");
    }
    words[0] = pid.to_string();
    words.join(" ") + "\n"
}

impl Tree {
    fn new(cores: usize, devices: usize) -> Tree {
        let root = Path::new("/dev/shm").join(format!("dozor-scale-{}", std::process::id()));
        let tree = Tree(root);
        let proc = tree.proc();
        fs::create_dir_all(proc.join("net")).expect("room in memory");
        for name in ["loadavg", "meminfo", "vmstat"] {
            fs::write(proc.join(name), fixture(name)).expect("room");
        }
        let mut text = String::from("cpu  1421 0 989 14539 522 0 32 4401 0 0\n");
        for core in 0..cores {
            let _ = writeln!(text, "cpu{core} 673 0 501 7522 41 0 17 2274 0 0");
        }
        text.push_str("intr 92471 0 0\nctxt 171709\nbtime 1795413000\nprocesses 2090\nprocs_running 3\nprocs_blocked 1\n");
        fs::write(proc.join("stat"), text).expect("room");
        let mut text = String::from("           ");
        for core in 0..cores {
            let _ = write!(text, "CPU{core:<8}");
        }
        for source in 0..40 {
            let _ = write!(text, "\n {source}: ");
            for core in 0..cores {
                let _ = write!(text, "{:>10} ", source * 7 + core);
            }
            text.push_str(" PCI-MSI 1-edge queue");
        }
        text.push('\n');
        fs::write(proc.join("interrupts"), text).expect("room");
        let mut text = String::new();
        for device in 0..devices {
            let _ = writeln!(
                text,
                " 254 {device} vd{device} 4539 2559 802642 10540 454 3333 252504 2694 0 6364 13651 3026 23 37976 401 6 15"
            );
        }
        fs::write(proc.join("diskstats"), text).expect("room");
        let mut text = String::from("Inter-|   Receive  |  Transmit\n face |bytes\n");
        for device in 0..devices {
            let _ = writeln!(text, "eth{device}: 3193 29 0 0 0 0 0 0 3193 29 0 0 0 0 0 0");
        }
        fs::write(proc.join("net/dev"), text).expect("room");
        tree
    }

    fn proc(&self) -> PathBuf {
        self.0.join("proc")
    }

    fn processes(&self, count: usize) {
        let proc = self.proc();
        for (name, fixture_name) in [("io", "pid_io"), ("status", "pid_status")] {
            fs::write(self.0.join(name), fixture(fixture_name)).expect("room");
        }
        fs::write(self.0.join("cmdline"), "service\0--instance\0").expect("room");
        fs::write(self.0.join("statm"), "765 394 300 5 0 120 0\n").expect("room");
        fs::write(self.0.join("cgroup"), "0::/system.slice/lynx.service\n").expect("room");
        for pid in 2..count + 2 {
            let own = proc.join(pid.to_string());
            fs::create_dir(&own).expect("room");
            fs::write(own.join("stat"), stat(pid, 0)).expect("room");
            fs::write(own.join("schedstat"), format!("{:012} 0 1\n", 0)).expect("room");
            // What is the same of all is one file.
            for name in ["io", "status", "statm", "cmdline", "cgroup"] {
                fs::hard_link(self.0.join(name), own.join(name)).expect("room");
            }
        }
    }

    /// Three of a hundred run.
    fn run(&self, count: usize, ticks: u64) {
        use std::os::unix::fs::FileExt as _;
        for pid in (2..count + 2).step_by(33) {
            let own = self.proc().join(pid.to_string());
            let write = |name: &str, text: String| {
                let file = fs::File::options().write(true).open(own.join(name)).expect("its file");
                file.write_all_at(text.as_bytes(), 0).expect("room");
            };
            write("stat", stat(pid, ticks));
            write("schedstat", format!("{:012} 0 1\n", ticks * 10_000_000));
        }
    }
}

fn median(mut times: Vec<Duration>) -> f64 {
    times.sort();
    times[times.len() / 2].as_secs_f64() * 1e3
}

/// Reads files of the tree as a bare loop does; milliseconds.
fn bare(paths: &[PathBuf]) -> f64 {
    let mut buffer = vec![0; 1 << 20];
    let mut once = |_| {
        let begin = Instant::now();
        for path in paths {
            let file = fs::File::open(path).expect("it is there");
            while std::io::Read::read(&mut &file, &mut buffer).is_ok_and(|read| read > 0) {}
        }
        begin.elapsed()
    };
    median((0..5).map(&mut once).collect())
}

/// Milliseconds of a reading.
fn ours(tree: &Tree, wanted: Wanted, mut between: impl FnMut(u64)) -> f64 {
    let roots = Roots { proc: tree.proc(), sys: tree.0.clone(), run: tree.0.clone(), lib: tree.0.clone() };
    let mut source = LiveSource::open(roots).expect("a made-up machine");
    source.want(wanted);
    for at in 0..6 {
        between(at);
        source.read();
    }
    let mut once = |at: u64| {
        between(at);
        let begin = Instant::now();
        std::hint::black_box(source.read());
        begin.elapsed()
    };
    median((6..17).map(&mut once).collect())
}

/// Opens so many connections to itself and keeps them until its input ends.
fn connected(count: usize) {
    let limit = getrlimit(Resource::Nofile);
    let _ = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, maximum: limit.maximum });
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("its address");
    let open = |_| (TcpStream::connect(address).expect("room"), listener.accept().expect("room"));
    let all: Vec<_> = (0..count).map(open).collect();
    println!("ready");
    let _ = std::io::stdin().read_line(&mut String::new());
    drop(all);
}

/// Milliseconds of a reading with so many TCP sockets on this machine.
fn sockets(count: usize) -> f64 {
    /// Each process has so many descriptors at most.
    const EACH: usize = 8_000;
    let own = std::env::current_exe().expect("our own path");
    let start = |sockets: usize| {
        let mut command = Command::new(&own);
        command.env("DOZOR_SCALE_CONNECTIONS", (sockets / 2).to_string());
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("a child");
        let mut line = String::new();
        let out = child.stdout.take().expect("its output");
        BufReader::new(out).read_line(&mut line).expect("it is ready");
        child
    };
    let parts = (0..count).step_by(EACH).map(|begin| EACH.min(count - begin));
    let mut children: Vec<_> = parts.map(start).collect();
    let mut source = LiveSource::open(Roots::default()).expect("the machine");
    source.want(Wanted::NOTHING.with(Demand::Sockets));
    let mut once = |_| {
        std::thread::sleep(Duration::from_millis(100));
        let begin = Instant::now();
        let reading = source.read();
        let time = begin.elapsed();
        assert!(reading.connections.len() >= count, "{} connections", reading.connections.len());
        time
    };
    let times = (0..11).map(&mut once).collect();
    for child in &mut children {
        drop(child.stdin.take());
        let _ = child.wait();
    }
    median(times)
}

fn told(what: &str, sizes: [usize; 2], ours: [f64; 2], bare: Option<[f64; 2]>) {
    let each = |at: usize| ours[at] / sizes[at] as f64 * 1e3;
    let ratio = |at: usize| {
        bare.map_or(String::new(), |bare| format!(" ({:.2} of the bare loop)", ours[at] / bare[at]))
    };
    println!(
        "{what}: {} in {:.2} ms{}, {} in {:.2} ms{}; each {:.2} µs and {:.2} µs: {:.2} times",
        sizes[0],
        ours[0],
        ratio(0),
        sizes[1],
        ours[1],
        ratio(1),
        each(0),
        each(1),
        each(1) / each(0)
    );
}

fn main() {
    if let Some(count) = std::env::var("DOZOR_SCALE_CONNECTIONS").ok().and_then(|count| count.parse().ok()) {
        return connected(count);
    }
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    for (kind, active) in [("processes, idle", false), ("processes, 3 % active", true)] {
        let sizes = [10_000, 100_000];
        let both = sizes.map(|count| {
            let tree = Tree::new(8, 4);
            tree.processes(count);
            let own = |pid: usize, name: &str| tree.proc().join(pid.to_string()).join(name);
            let files: Vec<PathBuf> =
                (2..count + 2).flat_map(|pid| [own(pid, "stat"), own(pid, "io")]).collect();
            let ours = ours(&tree, Wanted::NOTHING, |at| {
                if active {
                    tree.run(count, at);
                }
            });
            (ours, bare(&files))
        });
        told(kind, sizes, both.map(|one| one.0), Some(both.map(|one| one.1)));
    }
    let wanted = || Wanted::recorded().with(Demand::Interrupts);
    let of = |tree: Tree| ours(&tree, wanted(), |_| {});
    let cores = [64, 512];
    told("cores, each with 40 interrupts", cores, cores.map(|cores| of(Tree::new(cores, 4))), None);
    let devices = [200, 2_000];
    told("disks and interfaces", devices, devices.map(|devices| of(Tree::new(8, devices))), None);
    let count = [2_000, 20_000];
    told("TCP sockets", count, count.map(sockets), None);
}
