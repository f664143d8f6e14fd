//! What stands out, on this machine: things that really go wrong, all at once, each found in time with the one who does it.

use super::helper::{Helper, wait_for_go};
use super::limits::Group;
use super::{CORE, NETWORK, wanting};
use dozor_core::findings::{Engine, Finding};
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::Demand;
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream, UdpSocket};
use std::os::fd::AsRawFd as _;
use std::path::PathBuf;
use std::process::Command;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How long it is watched: what begins must be found within ten seconds.
const WATCHED: Duration = Duration::from_secs(13);

/// Calls something so many times a second, as long as somebody waits.
fn at_a_pace(a_second: u32, times: u32, mut each: impl FnMut()) {
    let begin = Instant::now();
    for time in 0..times {
        each();
        let due = begin + Duration::from_secs(1) * time / a_second;
        std::thread::sleep(due.saturating_duration_since(Instant::now()));
    }
}

fn stay() {
    std::thread::sleep(WATCHED * 2);
}

/// What the children of this test do wrong.
pub fn go_wrong(how: &str) {
    wait_for_go();
    match how {
        "reads nothing" => {
            let mut empty = std::fs::File::open("/dev/null").expect("it is there");
            let begin = Instant::now();
            while begin.elapsed() < WATCHED * 2 {
                for _ in 0..1_000 {
                    let _ = empty.read(&mut [0; 64]).expect("nothing comes");
                }
            }
        }
        "opens files" => {
            let limit = libc::rlimit { rlim_cur: 4_000, rlim_max: 4_000 };
            // SAFETY: the pointer is good.
            unsafe { libc::setrlimit(libc::RLIMIT_NOFILE, &raw const limit) };
            let mut files = vec![];
            at_a_pace(200, 2_600, || files.push(std::fs::File::open("/dev/null").expect("it is there")));
            stay();
        }
        "grows" => {
            let mut held: Vec<Vec<u8>> = vec![];
            at_a_pace(10, 130, || held.push(vec![7; 5_000_000]));
            stay();
        }
        "starts threads" => {
            at_a_pace(30, 380, || drop(std::thread::spawn(stay)));
            stay();
        }
        "leaves zombies" => {
            // SAFETY: the children end at once.
            (0..40).for_each(|_| unsafe {
                if libc::fork() == 0 {
                    libc::_exit(0);
                }
            });
            stay();
        }
        "stops" => {
            // SAFETY: a signal to oneself.
            unsafe { libc::raise(libc::SIGSTOP) };
        }
        "accepts nobody" => {
            let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
            // SAFETY: listen on our own socket once more changes how many may wait.
            assert_eq!(unsafe { libc::listen(listener.as_raw_fd(), 2) }, 0);
            let address = listener.local_addr().expect("an address");
            let patience = Duration::from_millis(300);
            let _held: Vec<_> = (0..4).map(|_| TcpStream::connect_timeout(&address, patience)).collect();
            stay();
        }
        "reads no datagrams" => {
            let here = UdpSocket::bind("127.0.0.1:0").expect("a port");
            let there = UdpSocket::bind("127.0.0.1:0").expect("a port");
            let address = here.local_addr().expect("an address");
            at_a_pace(600, 12_000, || drop(there.send_to(&[7; 1_000], address)));
        }
        "fills a file system" => {
            let path = std::env::var_os("DOZOR_TEST_PLACE").map(PathBuf::from).expect("a place");
            let mut file = std::fs::File::create(path.join("fills")).expect("a file");
            at_a_pace(4, 60, || drop(file.write_all(&vec![7; 2_000_000])));
            stay();
        }
        _ => {}
    }
}

/// A small file system of its own, where one may mount.
struct Small(tempfile::TempDir);

impl Small {
    fn mount() -> Option<Small> {
        let place = tempfile::tempdir().ok()?;
        let done = Command::new("mount")
            .args(["-t", "tmpfs", "-o", "size=128m", "tmpfs"])
            .arg(place.path())
            .status();
        done.is_ok_and(|status| status.success()).then_some(Small(place))
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = Command::new("umount").args(["-l"]).arg(self.0.path()).status();
    }
}

#[test]
fn what_really_goes_wrong_is_found_in_time_with_who_does_it() {
    let _core = CORE.lock();
    let _network = NETWORK.lock();
    let begun = |how: &str| Helper::start(&format!("wrong: {how}"));
    let mut children: Vec<(&str, &str, Helper)> = [
        ("empty-calls", "reads nothing"),
        ("descriptor-leak", "opens files"),
        ("leak", "grows"),
        ("thread-leak", "starts threads"),
        ("zombies", "leaves zombies"),
        ("stopped", "stops"),
        ("backlog", "accepts nobody"),
        ("udp-lost", "reads no datagrams"),
    ]
    .map(|(rule, how)| (rule, how, begun(how)))
    .into_iter()
    .collect();
    let small = Small::mount();
    if let Some(small) = &small {
        let mut command = Command::new(std::env::current_exe().expect("our own path"));
        command.env("DOZOR_TEST_PLACE", small.0.path());
        let how = "fills a file system";
        children.push(("filesystem-full", how, Helper::spawn(command, &format!("wrong: {how}"))));
    }
    let mut held = Group::make("cpu", "cpu.stat");
    let mut expected: Vec<(&str, i64)> = vec![];
    if let Some(group) = &mut held {
        if !group.put("cpu.max", "20000 100000") {
            let _ = group.put("cpu.cfs_period_us", "100000");
            let _ = group.put("cpu.cfs_quota_us", "20000");
        }
        expected.push(("group-throttled", group.run("while :; do :; done")));
    }
    for (rule, _, child) in &mut children {
        child.says();
        expected.push((rule, child.pid()));
    }
    let demands = [
        Demand::Sockets,
        Demand::Files,
        Demand::Filesystems,
        Demand::ControlGroup,
        Demand::Ended,
        Demand::Mounts,
    ];
    let mut source = wanting(&demands);
    let host = Arc::new(source.host());
    let mut before = Arc::new(source.read());
    let mut engine = Engine::default();
    let mut look = |engine: &mut Engine| {
        std::thread::sleep(Duration::from_secs(1));
        let now = Arc::new(source.read());
        let sample = Sample::new(host.clone(), Some(before.clone()), now.clone());
        before = now;
        engine.look(&sample);
        sample.now.wall_ns()
    };
    let mut begin_ns = 0;
    for _ in 0..2 {
        begin_ns = look(&mut engine);
    }
    for (.., child) in &mut children {
        child.go();
    }
    let begin = Instant::now();
    while begin.elapsed() < WATCHED {
        look(&mut engine);
    }
    let history = engine.history();
    let mut missed = vec![];
    for (rule, pid) in &expected {
        let named = |one: &&Finding| {
            one.about.name == *rule
                && one
                    .tellings
                    .iter()
                    .any(|told| told.culprits.first().is_some_and(|culprit| culprit.pid == Some(*pid)))
        };
        match history.all().iter().find(named) {
            Some(one) => {
                let after = (one.tellings[0].wall_ns - begin_ns) as f64 / 1e9;
                println!("found\t{rule}\tafter {after:.0} s\t{:?}\t{}", one.worst, one.last().sentence);
                if after > 10.5 && *rule != "group-throttled" {
                    missed.push(format!("{rule} only after {after:.1} s"));
                }
            }
            None => missed.push(format!("{rule} of {pid}")),
        }
    }
    let known: Vec<&str> = expected.iter().map(|(rule, _)| *rule).collect();
    for other in history.all().iter().filter(|one| !known.contains(&one.about.name)) {
        println!("besides\t{:?}\t{}\t{}", other.worst, other.name(), other.last().sentence);
        // Other tests do other things at the same time, and end a process of a group on purpose: those are only told.
    }
    let all: Vec<String> =
        history.all().iter().map(|one| format!("{} {}", one.name(), one.last().sentence)).collect();
    assert!(missed.is_empty(), "{missed:#?} of {all:#?}");
}
