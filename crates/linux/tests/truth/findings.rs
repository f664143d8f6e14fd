//! What stands out, on this machine: things that really go wrong, all at once, each found in time with the one who does it.

use super::helper::{Helper, wait_for_go};
use super::limits::Group;
use super::{CORE, NETWORK, wanting};
use dozor_core::findings::{Engine, Finding};
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::Demand;
use std::io::{Read as _, Seek as _, Write as _};
use std::net::{TcpListener, TcpStream, UdpSocket};
use std::os::fd::{AsRawFd as _, FromRawFd as _};
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

/// Memory that a group may have in which somebody only grows: his end is near enough to be told in time.
const GROWTH_LIMIT: usize = 1_800 << 20;
/// Bytes that somebody holds in a group that may have a little more.
const HELD: usize = 52 << 20;
const GROUP_LIMIT: usize = 64 << 20;

/// A connection on whose way every twentieth packet is lost: the receiver's filter drops them before TCP sees them.
fn lossy() -> (TcpStream, TcpStream) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    // SAFETY: plain calls; the descriptor goes to its owner, and the pointers are good.
    let client = unsafe {
        let client =
            TcpStream::from_raw_fd(libc::socket(libc::AF_INET, libc::SOCK_STREAM | libc::SOCK_CLOEXEC, 0));
        let small: libc::c_int = 1_000;
        let (level, size) = (libc::IPPROTO_TCP, size_of_val(&small) as libc::socklen_t);
        libc::setsockopt(client.as_raw_fd(), level, libc::TCP_MAXSEG, (&raw const small).cast(), size);
        client
    };
    let std::net::SocketAddr::V4(to) = address else { unreachable!("it is of version 4") };
    // SAFETY: a C struct of numbers, filled in.
    unsafe {
        let mut place: libc::sockaddr_in = std::mem::zeroed();
        place.sin_family = libc::AF_INET as libc::sa_family_t;
        place.sin_port = to.port().to_be();
        place.sin_addr.s_addr = u32::from(*to.ip()).to_be();
        let size = size_of_val(&place) as libc::socklen_t;
        assert_eq!(libc::connect(client.as_raw_fd(), (&raw const place).cast(), size), 0);
    }
    let (server, _) = listener.accept().expect("the other side");
    // Loads a random number, and lets pass what is not below a twentieth; Documentation/networking/filter.rst.
    let one = |code: u32, jt, jf, k| libc::sock_filter { code: code as u16, jt, jf, k };
    let random = (libc::SKF_AD_OFF + libc::SKF_AD_RANDOM) as u32;
    let mut program = [
        one(libc::BPF_LD | libc::BPF_W | libc::BPF_ABS, 0, 0, random),
        one(libc::BPF_JMP | libc::BPF_JGE | libc::BPF_K, 0, 1, u32::MAX / 20),
        one(libc::BPF_RET | libc::BPF_K, 0, 0, u32::MAX),
        one(libc::BPF_RET | libc::BPF_K, 0, 0, 0),
    ];
    let whole = libc::sock_fprog { len: program.len() as u16, filter: program.as_mut_ptr() };
    // SAFETY: the program lives until the kernel has copied it.
    let attached = unsafe {
        let size = size_of_val(&whole) as libc::socklen_t;
        let name = libc::SO_ATTACH_FILTER;
        libc::setsockopt(server.as_raw_fd(), libc::SOL_SOCKET, name, (&raw const whole).cast(), size)
    };
    assert_eq!(attached, 0, "a filter of one's own socket is always permitted");
    client.set_nodelay(true).expect("ours");
    (client, server)
}

/// How many seconds so far the disks had to be called a bottleneck, by the kernel's own files: tasks waited for more than a third
/// of the time, and a disk was busy for more than a third.
#[derive(Default)]
struct Waited {
    before: Option<(f64, f64)>,
    seconds: u32,
}

impl Waited {
    fn look(&mut self) {
        let pressure = std::fs::read_to_string("/proc/pressure/io").unwrap_or_default();
        let total =
            pressure.lines().next().and_then(|line| line.rsplit("total=").next()?.trim().parse().ok());
        let disks = std::fs::read_to_string("/proc/diskstats").unwrap_or_default();
        let busy = disks.lines().filter_map(|line| line.split_whitespace().nth(12)?.parse::<f64>().ok());
        let now = (total.unwrap_or(0.0), busy.fold(0.0, f64::max));
        if let Some((waited, busy)) = self.before.replace(now) {
            let is_so = now.0 - waited > 350_000.0 && now.1 - busy > 350.0;
            self.seconds = if is_so { self.seconds + 1 } else { 0 };
        }
    }
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
            at_a_pace(300, 3_600, || files.push(std::fs::File::open("/dev/null").expect("it is there")));
            stay();
        }
        "grows" => {
            let mut held: Vec<Vec<u8>> = vec![];
            at_a_pace(20, 260, || held.push(vec![7; 5_000_000]));
            stay();
        }
        "starts threads" => {
            at_a_pace(400, 4_000, || drop(std::thread::Builder::new().stack_size(16 << 10).spawn(stay)));
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
        "loses packets" => {
            let (client, server) = lossy();
            std::thread::spawn(move || while (&server).read(&mut [0; 8_192]).is_ok_and(|count| count > 0) {});
            at_a_pace(2_000, 52_000, || drop((&client).write_all(&[7; 1_000])));
        }
        "crowds its group" => {
            let held = vec![7_u8; HELD];
            let mut file = tempfile::tempfile_in(env!("CARGO_TARGET_TMPDIR")).expect("a file");
            let mut block = vec![7; 1 << 20];
            (0..24).for_each(|_| file.write_all(&block).expect("room"));
            at_a_pace(3, 80, || {
                file.seek(std::io::SeekFrom::Start(0)).expect("its beginning");
                while file.read(&mut block).is_ok_and(|count| count > 0) {}
            });
            std::hint::black_box(held);
        }
        "syncs" => {
            let write = || {
                let mut file = tempfile::tempfile_in(env!("CARGO_TARGET_TMPDIR")).expect("a file");
                let begin = Instant::now();
                while begin.elapsed() < WATCHED * 2 {
                    let _ = file.write_all(&[7; 4_096]).and_then(|()| file.sync_data());
                }
            };
            std::thread::scope(|scope| (0..8).for_each(|_| drop(scope.spawn(write))));
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

/// Prints what was found and what was found besides; gives what is missed, and all in words.
fn told(engine: &Engine, expected: &[(&str, i64)], begin_ns: i64) -> (Vec<String>, Vec<String>) {
    let history = engine.history();
    let mut missed = vec![];
    for (rule, pid) in expected {
        let named = |one: &&Finding| {
            one.about.name == *rule
                && one
                    .tellings
                    .iter()
                    .any(|told| told.culprits.first().is_some_and(|culprit| culprit.pid == Some(*pid)))
        };
        match history.all().iter().find(named) {
            Some(one) => {
                // It made its limit a small one itself.
                let is_known = *rule != "descriptor-leak" || one.last().sentence.contains(" of 4.0 k,");
                assert!(is_known, "{}", one.last().sentence);
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
    (missed, all)
}

/// A child for each rule, which waits until it may do wrong.
fn children() -> Vec<(&'static str, &'static str, Helper)> {
    let begun = |how: &str| Helper::start(&format!("wrong: {how}"));
    [
        ("empty-calls", "reads nothing"),
        ("descriptor-leak", "opens files"),
        ("leak", "grows"),
        ("thread-leak", "starts threads"),
        ("zombies", "leaves zombies"),
        ("stopped", "stops"),
        ("backlog", "accepts nobody"),
        ("udp-lost", "reads no datagrams"),
        ("retransmits", "loses packets"),
        ("group-memory", "crowds its group"),
    ]
    .map(|(rule, how)| (rule, how, begun(how)))
    .into_iter()
    .collect()
}

#[test]
fn what_really_goes_wrong_is_found_in_time_with_who_does_it() {
    let _core = CORE.lock();
    let _network = NETWORK.lock();
    let mut children = children();
    let small = Small::mount();
    if let Some(small) = &small {
        let mut command = Command::new(std::env::current_exe().expect("our own path"));
        command.env("DOZOR_TEST_PLACE", small.0.path());
        let how = "fills a file system";
        children.push(("filesystem-full", how, Helper::spawn(command, &format!("wrong: {how}"))));
    }
    // A disk that is slow enough for it is found out below.
    let mut syncs = Helper::start("wrong: syncs");
    syncs.says();
    let crowded = Group::make("memory", "memory.stat").filter(|group| {
        let limit = GROUP_LIMIT.to_string();
        group.put("memory.max", &limit) || group.put("memory.limit_in_bytes", &limit)
    });
    let grown = Group::another("memory", "memory.stat", "-grown").filter(|group| {
        let limit = GROWTH_LIMIT.to_string();
        group.put("memory.max", &limit) || group.put("memory.limit_in_bytes", &limit)
    });
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
        let puts = |group: &Option<Group>| {
            group.as_ref().is_some_and(|group| group.put("cgroup.procs", &child.pid().to_string()))
        };
        let may = match *rule {
            "group-memory" => puts(&crowded),
            "leak" => puts(&grown),
            _ => true,
        };
        if may {
            expected.push((rule, child.pid()));
        }
    }
    let demands = [Demand::Sockets, Demand::Files, Demand::Filesystems, Demand::ControlGroup, Demand::Ended];
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
    for child in children.iter_mut().map(|(.., child)| child).chain([&mut syncs]) {
        child.go();
    }
    let begin = Instant::now();
    let (mut waited, mut is_slow) = (Waited::default(), false);
    while begin.elapsed() < WATCHED {
        look(&mut engine);
        waited.look();
        is_slow |= waited.seconds >= 6;
    }
    if is_slow {
        expected.push(("disk-saturated", syncs.pid()));
    }
    let (missed, all) = told(&engine, &expected, begin_ns);
    assert!(missed.is_empty(), "{missed:#?} of {all:#?}");
}
