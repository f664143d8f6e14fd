//! Children of tests: this test program again, with the name of what it shall do in the environment, and what two of them do.

use std::io::{BufRead as _, BufReader, Write as _};
use std::process::{Child, ChildStdout, Command, Stdio};
use std::time::{Duration, Instant};

pub const HELPER: &str = "DOZOR_TEST_HELPER";

/// A child that does what a helper says; killed and waited for at the end of the test.
pub struct Helper {
    pub child: Child,
    lines: std::io::Lines<BufReader<ChildStdout>>,
}

impl Helper {
    pub fn start(name: &str) -> Helper {
        Helper::spawn(Command::new(std::env::current_exe().expect("our own path")), name)
    }

    pub fn spawn(mut command: Command, name: &str) -> Helper {
        let mut child = command
            .args(["--exact", "child", "--nocapture", "--test-threads=1"])
            .env(HELPER, name)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("a child");
        let lines = BufReader::new(child.stdout.take().expect("its output")).lines();
        Helper { child, lines }
    }

    /// The rest of the next line that begins with `> `; the test harness prints lines of its own.
    pub fn says(&mut self) -> String {
        loop {
            let line = self.lines.next().expect("the helper goes on").expect("text");
            if let Some((_, said)) = line.split_once("> ") {
                return said.to_owned();
            }
        }
    }

    pub fn go(&mut self) {
        self.child.stdin.as_mut().expect("its input").write_all(b"go\n").expect("it listens");
    }

    pub fn pid(&self) -> i64 {
        i64::from(self.child.id())
    }
}

impl Drop for Helper {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// What the kernel, or the test itself, says beside what we say; `scripts/truth` gathers these lines.
pub fn agrees(metric: &str, truth: f64, ours: f64, within: f64) {
    println!("truth\t{metric}\t{truth}\t{ours}");
    assert!((ours - truth).abs() <= within, "{metric}: {truth} is true, we say {ours}");
}

pub fn seconds(time: libc::timeval) -> f64 {
    time.tv_sec as f64 + time.tv_usec as f64 / 1e6
}

pub fn cpu_seconds() -> f64 {
    // SAFETY: rusage is a plain C struct of numbers, for which zeros are valid, and the pointer is good.
    let usage = unsafe {
        let mut usage: libc::rusage = std::mem::zeroed();
        libc::getrusage(libc::RUSAGE_SELF, &raw mut usage);
        usage
    };
    seconds(usage.ru_utime) + seconds(usage.ru_stime)
}

/// CPU time of a process with a single thread, as a file of the kernel says it; Documentation/scheduler/sched-stats.rst.
pub fn time_on_core(pid: i64) -> f64 {
    let text = std::fs::read_to_string(format!("/proc/{pid}/schedstat")).expect("it is there");
    text.split(' ').next().and_then(|ns| ns.parse::<f64>().ok()).expect("a number") / 1e9
}

pub fn wait_for_go() {
    let mut line = String::new();
    std::io::stdin().read_line(&mut line).expect("an order");
}

extern "C" fn spin(_: *mut libc::c_void) -> *mut libc::c_void {
    loop {
        std::hint::black_box(());
    }
}

extern "C" fn burn(_: *mut libc::c_void) -> *mut libc::c_void {
    let end = Instant::now() + Duration::from_millis(100);
    while Instant::now() < end {
        std::hint::black_box(end);
    }
    std::ptr::null_mut()
}

/// A child of a helper that works when it is told to. The harness has two threads; such a child has one.
pub struct Forked {
    pub pid: i32,
    orders: i32,
    answers: i32,
}

impl Forked {
    /// Begins a child that does its work once for each order. The work calls the C library alone.
    pub fn start(mut work: impl FnMut()) -> Forked {
        let (mut orders, mut answers) = ([0; 2], [0; 2]);
        // SAFETY: the arrays have room for two descriptors; the child calls the C library alone and dies with its parent.
        unsafe {
            libc::pipe(orders.as_mut_ptr());
            libc::pipe(answers.as_mut_ptr());
            let pid = libc::fork();
            if pid == 0 {
                libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
                let mut byte = 0u8;
                while libc::read(orders[0], (&raw mut byte).cast(), 1) == 1 {
                    work();
                    libc::write(answers[1], (&raw const byte).cast(), 1);
                }
                libc::_exit(0);
            }
            Forked { pid, orders: orders[1], answers: answers[0] }
        }
    }

    /// Tells it to work.
    pub fn order(&self) {
        // SAFETY: the descriptor is open and there is a byte.
        unsafe { libc::write(self.orders, [0u8].as_ptr().cast(), 1) };
    }

    /// Waits until it has.
    pub fn done(&self) {
        let mut byte = 0u8;
        // SAFETY: the descriptor is open and there is room for a byte.
        unsafe { libc::read(self.answers, (&raw mut byte).cast(), 1) };
    }
}

impl Forked {
    /// Ends it; gives the CPU time of its whole life, as its parent is told.
    pub fn end(self) -> f64 {
        // SAFETY: it is our own child, which is waited for; the pointers are good, and rusage is plain numbers.
        let usage = unsafe {
            let mut usage: libc::rusage = std::mem::zeroed();
            libc::kill(self.pid, libc::SIGKILL);
            libc::wait4(self.pid, std::ptr::null_mut(), 0, &raw mut usage);
            usage
        };
        std::mem::forget(self);
        seconds(usage.ru_utime) + seconds(usage.ru_stime)
    }
}

impl Drop for Forked {
    fn drop(&mut self) {
        // SAFETY: it is our own child, which is waited for.
        unsafe {
            libc::kill(self.pid, libc::SIGKILL);
            libc::waitpid(self.pid, std::ptr::null_mut(), 0);
        }
    }
}

/// Threads that come and go between two readings: at each of them there is one thread.
pub fn pool() {
    let child = Forked::start(|| {
        let mut thread = 0;
        for _ in 0..5 {
            // SAFETY: the pointers are good, and each thread is waited for.
            unsafe {
                libc::pthread_create(&raw mut thread, std::ptr::null(), burn, std::ptr::null_mut());
                libc::pthread_join(thread, std::ptr::null_mut());
                libc::usleep(20_000);
            }
        }
    });
    println!("> {}", child.pid);
    wait_for_go();
    child.order();
    child.done();
    println!("> done");
    wait_for_go();
    println!("> {}", child.end());
}

/// A process whose main thread has ended while another works.
pub fn work_without_main() {
    // The harness keeps the main thread for itself, so the work is done in a child, whose main thread is this one.
    // SAFETY: the child calls the C library alone, and dies with its parent.
    let child = unsafe {
        let child = libc::fork();
        if child == 0 {
            libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            let mut thread = 0;
            libc::pthread_create(&raw mut thread, std::ptr::null(), spin, std::ptr::null_mut());
            libc::syscall(libc::SYS_exit, 0);
        }
        child
    };
    println!("> {child}");
    let mut status = 0;
    // SAFETY: the pointer is good for the call.
    unsafe { libc::waitpid(child, &raw mut status, 0) };
    println!("> ended");
}

/// Resident memory in bytes, as the kernel adds it up over the mappings; Documentation/filesystems/proc.rst `smaps_rollup`.
pub fn resident(pid: i64) -> i64 {
    let rollup = std::fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).expect("the kernel's sum");
    let rss = rollup.lines().find_map(|line| line.strip_prefix("Rss:")).expect("resident memory");
    1024 * rss.trim_end_matches("kB").trim().parse::<i64>().expect("a number")
}
