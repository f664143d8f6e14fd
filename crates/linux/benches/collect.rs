//! What one reading costs against a bare loop that lists `/proc`, then opens, reads and closes `stat` and `io` of each
//! process, both in the same run; and how often a reading allocates.
//!
//! `cargo bench --bench collect`: with 1,000 and 10,000 processes, idle and with 3 % that run now and then. Needs about 80 s and
//! room for 10,000 processes. `cargo bench --bench collect -- 100000` instead has a crowd of that size, whose processes share one
//! memory; it needs room for their numbers (`/proc/sys/kernel/pid_max`) and some 30 KB each.

#[path = "../tests/counting/mod.rs"]
mod counting;

use counting::allocations as asked;
use dozor_core::source::Source as _;
use dozor_linux::{LiveSource, Roots};
use rustix::fs::{CWD, Mode, OFlags, RawDir, openat};
use std::io::{BufRead as _, BufReader};
use std::mem::MaybeUninit;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Lists `/proc`, opens, reads and closes `stat` and `io` of each process; gives how many there were.
fn bare_loop(buffer: &mut [u8]) -> usize {
    let flags = OFlags::RDONLY | OFlags::CLOEXEC;
    let proc = openat(CWD, "/proc", flags | OFlags::DIRECTORY, Mode::empty()).expect("/proc");
    let mut space = [MaybeUninit::uninit(); 16 << 10];
    let mut entries = RawDir::new(&proc, &mut space);
    let mut count = 0;
    let mut path = Vec::with_capacity(32);
    while let Some(Ok(entry)) = entries.next() {
        let name = entry.file_name().to_bytes();
        if !name.iter().all(u8::is_ascii_digit) {
            continue;
        }
        count += 1;
        for file in [&b"/stat\0"[..], b"/io\0"] {
            path.clear();
            path.extend_from_slice(name);
            path.extend_from_slice(file);
            let path = std::ffi::CStr::from_bytes_with_nul(&path).expect("a path");
            if let Ok(file) = openat(&proc, path, flags, Mode::empty()) {
                let _ = rustix::io::read(&file, &mut *buffer);
            }
        }
    }
    count
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

/// One of so many is active.
const ACTIVE: usize = 33;
/// From so many processes on they share one memory, and there is a second from reading to reading.
const CROWD: usize = 20_000;

fn child(what: &str, output: Stdio) -> Child {
    let own = std::env::current_exe().expect("our own path");
    let mut command = Command::new(&own);
    command.env("DOZOR_BENCH_CHILD", what).stdin(Stdio::null()).stdout(output);
    command.spawn().expect("room for another process")
}

/// Sleeps, again and again.
fn sleep_on(piece: Duration) -> ! {
    loop {
        std::thread::sleep(piece);
    }
}

/// Starts processes that share the memory of this one and end with it, and sleeps.
fn crowd(count: usize, with_active: bool) -> ! {
    const STACK: usize = 512;
    extern "C" fn member(active: *mut libc::c_void) -> libc::c_int {
        let piece = if active.is_null() { 600_000_000_000 } else { 500_000_000 };
        let piece = libc::timespec { tv_sec: piece / 1_000_000_000, tv_nsec: piece % 1_000_000_000 };
        // SAFETY: calls that touch nothing of the memory that all share.
        unsafe {
            libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            loop {
                libc::nanosleep(&raw const piece, std::ptr::null_mut());
            }
        }
    }
    let mut stacks = vec![0u128; count * STACK];
    for (at, stack) in stacks.chunks_exact_mut(STACK).enumerate() {
        let is_active = with_active && at.is_multiple_of(ACTIVE);
        let flags = libc::CLONE_VM | libc::CLONE_FS | libc::CLONE_FILES | libc::SIGCHLD;
        let top = stack.as_mut_ptr_range().end.cast();
        let active = std::ptr::without_provenance_mut(usize::from(is_active));
        // SAFETY: the stack is the member's own, and lives as long as this process, with which it ends.
        let start = || unsafe { libc::clone(member, top, flags, active) > 0 };
        // A crowd that was ended before may not be gone yet.
        if !start()
            && !(0..100).any(|_| {
                std::thread::sleep(Duration::from_millis(100));
                start()
            })
        {
            println!("only {at} processes: {}", std::io::Error::last_os_error());
            std::process::exit(1);
        }
    }
    println!("there");
    sleep_on(Duration::from_secs(600))
}

/// Ends them when it goes.
#[derive(Default)]
struct Children(Vec<Child>);

impl Children {
    fn start(&mut self, count: usize, with_active: bool) {
        if count > CROWD {
            let mut leader = child(&format!("{count} {with_active}"), Stdio::piped());
            let mut said = String::new();
            let _ = BufReader::new(leader.stdout.as_mut().expect("its output")).read_line(&mut said);
            self.0.push(leader);
            assert_eq!(said.trim(), "there");
            return;
        }
        while self.0.len() < count {
            let active = with_active && self.0.len().is_multiple_of(ACTIVE);
            // A pipe to each would take the descriptors that are to be measured with.
            self.0.push(child(if active { "active" } else { "idle" }, Stdio::null()));
        }
    }
}

impl Drop for Children {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
        }
        for child in &mut self.0 {
            let _ = child.wait();
        }
    }
}

fn measure(count: usize, with_active: bool) {
    std::thread::sleep(Duration::from_secs(3));
    let kind = if with_active { "3 % active" } else { "idle" };
    let open = || LiveSource::open(Roots::default()).expect("the machine");
    let begin = Instant::now();
    let inside = open().from_inside();
    let loading = begin.elapsed();
    let mut sources = vec![("files", open())];
    match inside.inside() {
        Some(Err(refused)) => println!("no reader in the kernel: {refused}"),
        _ => sources.push(("kernel", inside)),
    }
    for (_, source) in &mut sources {
        // A process is new for its first readings.
        for _ in 0..6 {
            source.read();
        }
    }
    let mut buffer = vec![0; 4096];
    let (mut bare, mut processes) = (vec![], 0);
    let mut ours = vec![vec![]; sources.len()];
    let mut allocations = vec![u64::MAX; sources.len()];
    for _ in 0..33 {
        std::thread::sleep(Duration::from_millis(match count {
            CROWD.. => 1_000,
            5_000.. => 150,
            _ => 60,
        }));
        let begin = Instant::now();
        processes = bare_loop(&mut buffer);
        bare.push(begin.elapsed());
        for (at, (_, source)) in sources.iter_mut().enumerate() {
            let before = asked();
            let begin = Instant::now();
            let reading = source.read();
            ours[at].push(begin.elapsed());
            allocations[at] = allocations[at].min(asked() - before);
            source.reuse(reading);
        }
    }
    let bare = median(bare).as_secs_f64();
    println!(
        "{processes} processes, {kind}: the bare loop {:.2} ms; loading the program {loading:.1?}",
        bare * 1e3
    );
    for (((name, _), ours), least) in sources.iter().zip(ours).zip(allocations) {
        let (idle, active) = if *name == "kernel" { (0.06, 0.08) } else { (0.2, 0.25) };
        let aim = if with_active { active } else { idle };
        let ours = median(ours).as_secs_f64();
        println!(
            "  {name}: a reading {:.2} ms, ratio {:.3} (aim {aim}); {least} allocations at the least",
            ours * 1e3,
            ours / bare,
        );
    }
}

fn main() {
    match std::env::var("DOZOR_BENCH_CHILD").as_deref().map(|what| what.split_once(' ').ok_or(what)) {
        Ok(Ok((count, with_active))) => crowd(count.parse().expect("a number"), with_active == "true"),
        Ok(Err("active")) => sleep_on(Duration::from_millis(50)),
        Ok(Err(_)) => sleep_on(Duration::from_secs(600)),
        Err(_) => {}
    }
    let wanted = std::env::args().find_map(|word| word.parse().ok());
    for with_active in [false, true] {
        let mut children = Children::default();
        for count in wanted.map_or(vec![1_000, 10_000], |count| vec![count]) {
            children.start(count, with_active);
            measure(count, with_active);
        }
    }
}
