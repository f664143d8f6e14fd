//! What one reading costs against a bare loop that lists `/proc`, then opens, reads and closes `stat` and `io` of each
//! process, both in the same run; and how often a reading allocates.
//!
//! `cargo bench --bench collect`: with 1,000 and 10,000 processes, idle and with 3 % that run now and then. Needs about 80 s and
//! room for 10,000 processes.

use dozor_core::source::Source as _;
use dozor_linux::{LiveSource, Roots};
use rustix::fs::{CWD, Mode, OFlags, RawDir, openat};
use std::alloc::{GlobalAlloc, Layout, System};
use std::mem::MaybeUninit;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// Counts allocations of this process.
struct Counting;

static ALLOCATIONS: AtomicU64 = AtomicU64::new(0);

// SAFETY: every call is handed to the system's allocator unchanged.
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        ALLOCATIONS.fetch_add(1, Ordering::Relaxed);
        // SAFETY: the caller's promises are the system allocator's demands.
        unsafe { System.alloc(layout) }
    }
    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        // SAFETY: the pointer came from the system's allocator with this layout.
        unsafe { System.dealloc(pointer, layout) }
    }
    unsafe fn realloc(&self, pointer: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        ALLOCATIONS.fetch_add(1, Ordering::Relaxed);
        // SAFETY: the pointer came from the system's allocator with this layout.
        unsafe { System.realloc(pointer, layout, size) }
    }
}

#[global_allocator]
static ALLOCATOR: Counting = Counting;

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

fn measure(count: usize, with_active: bool, children: &mut Vec<Child>) {
    let own = std::env::current_exe().expect("our own path");
    while children.len() < count {
        let active = with_active && children.len().is_multiple_of(33);
        let mut command = Command::new(&own);
        command.env("DOZOR_BENCH_CHILD", if active { "active" } else { "idle" }).stdin(Stdio::null());
        children.push(command.spawn().expect("room for another process"));
    }
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
        std::thread::sleep(Duration::from_millis(if count > 5000 { 150 } else { 60 }));
        let begin = Instant::now();
        processes = bare_loop(&mut buffer);
        bare.push(begin.elapsed());
        for (at, (_, source)) in sources.iter_mut().enumerate() {
            let before = ALLOCATIONS.load(Ordering::Relaxed);
            let begin = Instant::now();
            let reading = source.read();
            ours[at].push(begin.elapsed());
            allocations[at] = allocations[at].min(ALLOCATIONS.load(Ordering::Relaxed) - before);
            drop(reading);
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

fn end(children: &mut Vec<Child>) {
    for child in &mut *children {
        let _ = child.kill();
    }
    for mut child in children.drain(..) {
        let _ = child.wait();
    }
}

fn main() {
    match std::env::var("DOZOR_BENCH_CHILD").as_deref() {
        Ok("active") => loop {
            std::thread::sleep(Duration::from_millis(50));
        },
        Ok(_) => loop {
            std::thread::sleep(Duration::from_secs(600));
        },
        Err(_) => {}
    }
    let mut children = vec![];
    for with_active in [false, true] {
        for count in [1_000, 10_000] {
            measure(count, with_active, &mut children);
        }
        end(&mut children);
    }
}
