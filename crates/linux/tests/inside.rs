//! The reader in the kernel: field by field what files say, gone without a trace, and refused in words.
//!
//! Where this machine does not let us load a program, only the refusals are tested, and the tests say so.

use dozor_core::known::Raw;
use dozor_core::reading::{ProcessRow, Reading};
use dozor_core::row::{Kind, Row as _};
use dozor_core::source::Source as _;
use dozor_core::wanted::{Demand, Wanted};
use dozor_linux::kernel::Refused;
use dozor_linux::{LiveSource, Roots};
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Names the part that a child plays.
const PART: &str = "DOZOR_TEST_PART";

/// Held by tests that count what is loaded in the kernel.
static LOADED: std::sync::Mutex<()> = std::sync::Mutex::new(());

fn open() -> LiveSource {
    LiveSource::open(Roots::default()).expect("the machine")
}

/// A source that counts in the kernel, where this machine lets us.
fn inside() -> Option<LiveSource> {
    let source = open().from_inside();
    match source.inside() {
        Some(Ok(())) => Some(source),
        refused => {
            println!("not tested here: {refused:?}");
            None
        }
    }
}

/// Children that are ended with the test.
struct Children(Vec<Child>);

impl Drop for Children {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// Ends a child of a child.
struct EndOf(i64);

impl Drop for EndOf {
    fn drop(&mut self) {
        // SAFETY: a signal to a process that a child of ours started.
        unsafe { libc::kill(self.0 as i32, libc::SIGKILL) };
    }
}

fn play(part: &str) -> Command {
    let mut command = Command::new(std::env::current_exe().expect("our own path"));
    command.args(["--exact", "child", "--nocapture", "--test-threads=1"]).env(PART, part);
    command.stdin(Stdio::null()).stdout(Stdio::piped());
    command
}

/// Not a test of its own: what the children do.
#[test]
fn child() {
    let Ok(part) = std::env::var(PART) else { return };
    match part.as_str() {
        "threads" => std::thread::scope(|scope| {
            for at in 0..6 {
                scope.spawn(move || {
                    // Some work, some sleep, some end and are followed by others.
                    for _ in 0..20_000 {
                        let begin = Instant::now();
                        while begin.elapsed() < Duration::from_millis(at) {}
                        std::thread::sleep(Duration::from_millis(3));
                        if at == 5 {
                            std::thread::spawn(|| std::hint::black_box(vec![1u8; 100_000]));
                        }
                    }
                });
            }
        }),
        "writes" => loop {
            let _ = std::fs::write("/dev/null", [0; 5_000]);
            let held = vec![1u8; 4 << 20];
            std::thread::sleep(Duration::from_millis(2));
            drop(std::hint::black_box(held));
        },
        "starts" => loop {
            let _ = Command::new("true").status();
        },
        "worked" => {
            // A thread worked, and only the first is left.
            // SAFETY: the child makes threads of its own and never returns.
            if unsafe { libc::fork() } == 0 {
                // So much of a core, however busy the machine is.
                let work = || {
                    let clock = rustix::time::ClockId::ThreadCPUTime;
                    while rustix::time::clock_gettime(clock).tv_nsec < 400_000_000 {}
                };
                std::thread::spawn(work).join().expect("it ends");
                println!("> {}", std::process::id());
                loop {
                    std::thread::sleep(Duration::from_millis(3));
                }
            }
            std::thread::sleep(Duration::from_secs(100));
        }
        "sleeps" => std::thread::sleep(Duration::from_secs(100)),
        "loads" => {
            let mut source = open().from_inside();
            println!("> {:?}", source.inside());
            source.want([Demand::Ended, Demand::Sockets, Demand::Transfers].into_iter().collect());
            source.read();
            std::thread::sleep(Duration::from_secs(100));
        }
        "repeats" => {
            let times = std::env::var("DOZOR_TEST_TIMES").expect("how often").parse().expect("a number");
            // The first leaves what the standard library opens once.
            let once = || {
                let mut source = inside().expect("as the test found");
                let parts = [Demand::Ended, Demand::Sockets, Demand::Datagrams, Demand::Transfers];
                source.want(parts.into_iter().collect());
                source.read();
            };
            once();
            let before = descriptors();
            for _ in 0..times {
                once();
            }
            println!("> {before} {}", descriptors());
        }
        "calls" => {
            let (mut from, mut line) =
                (std::fs::File::open("/dev/zero").expect("it is there"), String::new());
            println!("> ready");
            std::io::stdin().read_line(&mut line).expect("somebody says when");
            let mut piece = [0; 4096];
            for _ in 0..READS {
                std::io::Read::read_exact(&mut from, &mut piece).expect("it has no end");
                let _ = std::fs::metadata("/nowhere/at/all");
            }
            std::thread::sleep(Duration::from_millis(300));
            println!("> done");
            std::thread::sleep(Duration::from_secs(100));
        }
        "says" => {
            let mut source = open().from_inside();
            source.want([Demand::Sockets, Demand::Datagrams].into_iter().collect());
            let reading = source.read();
            let refused = source.inside().and_then(Result::err);
            let own = find(&reading, i64::from(std::process::id())).map(|row| row.udp_in_bytes);
            // Not permitted is another thing than not known.
            let told = own == Some(if refused == Some(&Refused::Denied) { Raw::DENIED } else { Raw::ABSENT });
            println!("> {} {refused:?}", told && reading.processes.len() > 1);
        }
        part => panic!("nobody plays {part}"),
    }
}

/// A program of 32 bits that sleeps 20 ms again and again.
#[cfg(target_arch = "x86_64")]
fn narrow_program() -> Vec<u8> {
    const AT: u32 = 0x0804_8000;
    const BEGIN: u32 = 52 + 32;
    // mov eax, 162 (nanosleep); mov ebx, (behind the code); xor ecx, ecx; int 0x80; jmp to the beginning.
    let mut code = vec![0xb8, 162, 0, 0, 0, 0xbb];
    code.extend((AT + BEGIN + 16).to_le_bytes());
    code.extend([0x31, 0xc9, 0xcd, 0x80, 0xeb, 0xf0]);
    code.extend([0u32, 20_000_000].iter().flat_map(|half| half.to_le_bytes()));
    let long = BEGIN + code.len() as u32;
    let halves = |halves: &[u16]| halves.iter().flat_map(|half| half.to_le_bytes()).collect::<Vec<u8>>();
    let words = |words: &[u32]| words.iter().flat_map(|word| word.to_le_bytes()).collect::<Vec<u8>>();
    // elf(5): 32 bits, an executable for the 386, one piece that is loaded.
    let mut program = b"\x7fELF\x01\x01\x01\0\0\0\0\0\0\0\0\0".to_vec();
    program.extend(halves(&[2, 3]));
    program.extend(words(&[1, AT + BEGIN, 52, 0, 0]));
    program.extend(halves(&[52, 32, 1, 0, 0, 0]));
    program.extend(words(&[1, 0, AT, AT, long, long, 5, 4096]));
    program.extend(code);
    program
}

/// Its calls have other numbers, and must not be told by the names of ours.
#[cfg(target_arch = "x86_64")]
#[test]
fn calls_of_a_program_of_32_bits_have_their_own_names() {
    let _loaded = LOADED.lock();
    let path = std::env::temp_dir().join(format!("dozor-narrow-{}", std::process::id()));
    std::fs::write(&path, narrow_program()).expect("a file");
    let may_run = <std::fs::Permissions as std::os::unix::fs::PermissionsExt>::from_mode(0o755);
    std::fs::set_permissions(&path, may_run).expect("it may run");
    let child = Command::new(&path).spawn();
    let _ = std::fs::remove_file(&path);
    let child = match child {
        Ok(child) => Children(vec![child]),
        Err(why) => return println!("not tested here: {why}"),
    };
    let pid = i64::from(child.0[0].id());
    std::thread::sleep(Duration::from_millis(50));
    let reading = open().read();
    let key = find(&reading, pid).expect("a row").key();
    let stop = std::sync::atomic::AtomicBool::new(false);
    let time = Duration::from_secs(1);
    let look = dozor_linux::inside::closely::look_closely(&Roots::default(), key, time, &stop, |_| ());
    let seen = format!("{look:?}");
    if rustix::process::geteuid().is_root() {
        assert!(seen.contains("nanosleep") && !seen.contains("sync\""), "{seen}");
    }
    if let Some(calls) = look.calls() {
        let names: Vec<&str> = calls.kinds.iter().map(|kind| &*kind.name).collect();
        assert_eq!(names, ["nanosleep"]);
        assert!((30..60).contains(&calls.kinds[0].count), "{calls:?}");
    }
}

/// Reads that a child makes.
const READS: u64 = 5_000;

/// Counted while four others make calls as fast as they can.
#[test]
fn system_calls_of_one_process_are_counted_to_the_last() {
    let _loaded = LOADED.lock();
    if inside().is_none() {
        return;
    }
    let before = loaded().expect("they can be counted");
    let mut children = Children(vec![play("calls").stdin(Stdio::piped()).spawn().expect("a child")]);
    for _ in 0..2 {
        children
            .0
            .push(Command::new("sh").args(["-c", "while :; do kill -0 $$; done"]).spawn().expect("a shell"));
    }
    let pid = i64::from(children.0[0].id());
    let output = std::io::BufReader::new(children.0[0].stdout.take().expect("its output"));
    let mut lines = std::io::BufRead::lines(output).map_while(Result::ok).filter(|line| line.contains("> "));
    assert!(lines.next().expect("a word").ends_with("ready"));
    let start = open().read();
    let key = find(&start, pid).expect("a row").key();
    let stop = std::sync::atomic::AtomicBool::new(false);
    let mut input = children.0[0].stdin.take().expect("its input");
    let look = std::thread::scope(|scope| {
        let closely = || {
            dozor_linux::inside::closely::look_closely(
                &Roots::default(),
                key,
                Duration::from_secs(60),
                &stop,
                |_| (),
            )
        };
        let look = scope.spawn(closely);
        std::thread::sleep(Duration::from_secs(1));
        std::io::Write::write_all(&mut input, b"go\n").expect("it listens");
        assert!(lines.next().expect("a word").ends_with("done"));
        std::thread::sleep(Duration::from_millis(100));
        stop.store(true, std::sync::atomic::Ordering::Relaxed);
        look.join().expect("it looks")
    });
    let calls = look.calls().expect("counted");
    let of = |name: &str| calls.kinds.iter().find(|kind| &*kind.name == name);
    // And the word that it was told, whose read had begun before anybody counted.
    let reads = of("read").expect("it reads");
    // A kernel that let some pass uncounted says so.
    let all = |counted: u64| counted == READS || calls.at_least && (READS * 9 / 10..READS).contains(&counted);
    assert!(all(reads.count), "{reads:?} of {READS}");
    assert_eq!((reads.bytes, reads.failed), (Some(reads.count * 4096), 0));
    assert!(reads.seconds > 0.0 && reads.seconds < 5.0, "{reads:?}");
    let stats = of("statx").expect("it asks");
    assert!(all(stats.count), "{stats:?} of {READS}");
    assert_eq!((stats.failed, stats.bytes), (stats.count, None));
    match of("clock_nanosleep") {
        Some(sleep) => assert!(sleep.count == 1 && (0.29..1.0).contains(&sleep.seconds), "{sleep:?}"),
        None => assert!(calls.at_least, "it sleeps"),
    }
    assert!(calls.each_ns < 20_000.0, "{} ns", calls.each_ns);
    println!("each call of the machine takes {:.0} ns longer", calls.each_ns);
    drop(children);
    settles(before);
}

fn find(reading: &Reading, pid: i64) -> Option<&ProcessRow> {
    reading.processes.iter().find(|row| row.pid.value() == Some(pid)).map(|row| &**row)
}

/// A counter is between what files say before and after. All else is as they say before, of a process that did not run since
/// `earlier`, where they say the same after.
fn compare(earlier: &Reading, before: &Reading, between: &Reading, after: &Reading) -> usize {
    let mut compared = 0;
    for row in &between.processes {
        let pid = row.pid.value().expect("a number");
        let (Some(first), Some(last)) = (find(before, pid), find(after, pid)) else { continue };
        if first.start_ticks != last.start_ticks {
            continue;
        }
        // Of one that has ended the texts are gone; who read them before still has them.
        if [first, &**row, last].iter().any(|row| row.state.value() == Some(i64::from(b'Z'))) {
            continue;
        }
        let several = row.threads.value() > Some(1) || first.threads != last.threads;
        // One that was woken has another state and core before any of its time there is counted.
        let runs = [first, &**row, last].iter().any(|row| row.state.value() == Some(i64::from(b'R')));
        // Also where that came between its state and its core.
        let ran = !several && last.run_ns != row.run_ns;
        let is_idle = !runs && !ran && find(earlier, pid).is_some_and(|earlier| earlier.run_ns == row.run_ns);
        let last_waited = last.children_faults.value() > Some(0);
        for field in ProcessRow::FIELDS {
            let [first, now, last] = [first, row, last].map(|row| (field.get)(row));
            // What it read and wrote is told from its children's as each reader saw it, from its own first look on.
            let is_io = field.name.starts_with("read_")
                || field.name.starts_with("write_")
                || field.name == "cancelled_bytes";
            // Like the texts, this is read at other turns.
            let is_text_like = field.name == "replaced";
            if is_text_like || (is_io || field.name == "io_unknown") && last_waited {
                continue;
            }
            // What files tell of processes with one thread only, and by the main thread.
            if several
                && matches!(
                    field.name,
                    "run_ns" | "switches_wait" | "switches_forced" | "core_wait_ns" | "state"
                )
            {
                continue;
            }
            let (Some(least), Some(most)) = (first.value(), last.value()) else {
                assert!(first != last || first == now, "{} of {pid}: {first:?} {now:?} {last:?}", field.name);
                continue;
            };
            let now = now.value().unwrap_or_else(|| panic!("{} of {pid} is known", field.name));
            let is_right = match field.kind {
                // Files tell those of the thread that is left; the kernel those of all that ever were.
                _ if matches!(
                    field.name,
                    "run_ns" | "switches_wait" | "switches_forced" | "core_wait_ns"
                ) =>
                {
                    now >= least
                }
                // The kernel divides time on a core anew whenever it is asked.
                Kind::Counter if field.unit == "ticks" => (least - 1..=most + 1).contains(&now),
                Kind::Counter => (least..=most).contains(&now),
                _ => !is_idle || least != most || now == least,
            };
            assert!(is_right, "{} of {pid} {}: {least} {now} {most}", field.name, row.name);
            compared += 1;
        }
        for field in ProcessRow::TEXTS {
            let [first, now, last] = [first, row, last].map(|row| (field.get)(row));
            assert!(
                !is_idle || first != last || now == first,
                "{} of {pid}: {first} {now} {last}",
                field.name
            );
        }
    }
    compared
}

#[test]
fn both_readers_say_the_same_field_by_field_under_load() {
    let Some(mut inside) = inside() else { return };
    let mut files = open().always_in_full();
    for source in [&mut inside, &mut files] {
        source.want(Wanted::NOTHING.with(Demand::CoreWait));
    }
    let parts = ["threads", "threads", "writes", "starts", "sleeps"];
    let children = Children(parts.map(|part| play(part).spawn().expect("a child")).into());
    let mut compared = 0;
    let mut earlier = inside.read();
    for turn in 0..60 {
        std::thread::sleep(Duration::from_millis(25));
        let (before, between, after) = (files.read(), inside.read(), files.read());
        // In the first readings a child is still starting its program.
        if turn > 8 {
            compared += compare(&earlier, &before, &between, &after);
        }
        earlier = between;
    }
    assert!(compared > 50_000, "{compared}");
    drop(children);
}

#[test]
fn what_threads_counted_that_have_ended_is_neither_lost_nor_taken_back() {
    let Some(mut inside) = inside() else { return };
    let children = Children(vec![play("threads").spawn().expect("a child")]);
    let pid = i64::from(children.0[0].id());
    let counted = |row: &ProcessRow| {
        [row.run_ns, row.user_ticks, row.system_ticks, row.faults_minor, row.switches_wait, row.read_calls]
            .map(|raw| raw.value().expect("known"))
    };
    let mut before = [0; 6];
    for _ in 0..150 {
        std::thread::sleep(Duration::from_millis(10));
        let reading = inside.read();
        let now = counted(find(&reading, pid).expect("the child"));
        assert!(now.iter().zip(before).all(|(now, before)| *now >= before), "{now:?} after {before:?}");
        before = now;
    }
    // The kernel's own clock of the whole process, with all threads that ever were.
    // SAFETY: the pointers are good, and a time is two plain numbers.
    let clock = unsafe {
        let (mut clock, mut time): (_, libc::timespec) = (0, std::mem::zeroed());
        assert_eq!(libc::clock_getcpuclockid(pid as i32, &raw mut clock), 0);
        assert_eq!(libc::clock_gettime(clock, &raw mut time), 0);
        time.tv_sec as f64 + time.tv_nsec as f64 / 1e9
    };
    let reading = inside.read();
    let ours = find(&reading, pid).expect("the child").run_ns.value().expect("known") as f64 / 1e9;
    assert!((ours - clock).abs() < 0.06, "{clock} s by the kernel's clock, we say {ours}");
}

/// How many programs and maps are loaded in the kernel; bpf(2).
fn loaded() -> Option<[usize; 2]> {
    let mut counts = [0; 2];
    for (command, count) in [11, 12].into_iter().zip(&mut counts) {
        let mut attributes = [0u32; 8];
        loop {
            // SAFETY: the attributes are as long as said.
            let result = unsafe {
                libc::syscall(libc::SYS_bpf, command, attributes.as_mut_ptr(), size_of_val(&attributes))
            };
            if result < 0 {
                let error = std::io::Error::last_os_error().raw_os_error();
                if error == Some(libc::ENOENT) {
                    break;
                }
                return None;
            }
            // The next number follows that which was asked for.
            attributes[0] = attributes[1];
            *count += 1;
        }
    }
    Some(counts)
}

/// The kernel frees what nobody holds any more a moment later.
fn settles(expected: [usize; 2]) {
    let begin = Instant::now();
    loop {
        let now = loaded().expect("they can be counted");
        if now.iter().zip(expected).all(|(now, expected)| *now <= expected) {
            return;
        }
        assert!(begin.elapsed() < Duration::from_secs(20), "{now:?} are loaded, {expected:?} were");
        std::thread::sleep(Duration::from_millis(50));
    }
}

fn descriptors() -> usize {
    std::fs::read_dir("/proc/self/fd").expect("our own").count()
}

/// Loads and unloads it so many times.
fn comes_and_goes(times: u32) {
    let _loaded = LOADED.lock();
    if inside().is_none() {
        return;
    }
    let before = loaded().expect("they can be counted");
    // In a program of its own: other tests of this one open files meanwhile.
    let mut command = play("repeats");
    command.env("DOZOR_TEST_TIMES", times.to_string());
    let said = said(command);
    let counts: Vec<usize> = said.split(' ').map(|count| count.parse().expect("a number")).collect();
    assert!(counts[1] <= counts[0], "{} descriptors, {} before", counts[1], counts[0]);
    settles(before);
}

#[test]
fn it_comes_and_goes_without_leaving_anything() {
    comes_and_goes(30);
}

#[test]
#[ignore = "takes minutes: cargo test -p dozor-linux --test inside -- --ignored"]
fn it_comes_and_goes_a_thousand_times_without_leaving_anything() {
    comes_and_goes(1_000);
}

#[test]
fn of_a_program_that_is_killed_nothing_stays_loaded() {
    use std::io::{BufRead as _, BufReader};
    let _loaded = LOADED.lock();
    if inside().is_none() {
        return;
    }
    let before = loaded().expect("they can be counted");
    for moment in [None, Some(0), Some(2), Some(10), Some(25)] {
        let mut children = Children(vec![play("loads").spawn().expect("a child")]);
        if let Some(milliseconds) = moment {
            // In the middle of loading.
            std::thread::sleep(Duration::from_millis(20 + milliseconds));
        } else {
            let output = BufReader::new(children.0[0].stdout.take().expect("its output"));
            assert!(output.lines().map_while(Result::ok).any(|line| line.contains("> Some(Ok")));
        }
        children.0[0].kill().expect("it is there");
        drop(children);
        settles(before);
    }
}

/// What a program here is told that may not load anything: this, unless nobody could here.
fn told(refused: Refused) -> String {
    let here = open().from_inside().inside().and_then(Result::err).cloned();
    let refused =
        here.filter(|here| matches!(here, Refused::NoTypes | Refused::Elsewhere)).unwrap_or(refused);
    format!("true Some({refused:?})")
}

fn said(mut command: Command) -> String {
    let output = command.output().expect("it runs");
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let said = text.lines().find_map(|line| line.split_once("> ").map(|(_, said)| said.to_owned()));
    said.unwrap_or_else(|| panic!("{text} {}", String::from_utf8_lossy(&output.stderr)))
}

#[test]
fn without_privilege_files_are_read_and_it_is_said() {
    // SAFETY: asking who we are changes nothing.
    if unsafe { libc::geteuid() } != 0 {
        assert_eq!(said(play("says")), told(Refused::Denied));
        return;
    }
    let mut command = play("says");
    // The test program may lie where others may not go; it is open already.
    let program = std::fs::File::open(std::env::current_exe().expect("our own path")).expect("our own");
    let path = format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(&program));
    let copy = std::env::temp_dir().join(format!("dozor-test-{}", std::process::id()));
    std::fs::copy(path, &copy).expect("a copy");
    let mut elsewhere = Command::new(&copy);
    elsewhere.args(command.get_args()).env(PART, "says").uid(65_534).gid(65_534).current_dir("/");
    command = elsewhere;
    let said = said(command);
    let _ = std::fs::remove_file(copy);
    assert_eq!(said, told(Refused::Denied));
}

#[test]
fn a_filter_of_system_calls_that_refuses_it_is_no_trouble() {
    for (error, expected) in [(libc::EPERM, Refused::Denied), (libc::ENOSYS, Refused::Kernel)] {
        let mut command = play("says");
        // SAFETY: between fork and exec only system calls are made.
        unsafe { command.pre_exec(move || refuse_bpf(error)) };
        assert_eq!(said(command), told(expected));
    }
}

/// From here on `bpf(2)` fails like this, as in many containers.
fn refuse_bpf(error: i32) -> std::io::Result<()> {
    let statement =
        |code: u32, yes: u8, no: u8, k: u32| libc::sock_filter { code: code as u16, jt: yes, jf: no, k };
    let mut filter = [
        // The number of the call is the first word.
        statement(libc::BPF_LD | libc::BPF_W | libc::BPF_ABS, 0, 0, 0),
        statement(libc::BPF_JMP | libc::BPF_JEQ | libc::BPF_K, 0, 1, libc::SYS_bpf as u32),
        statement(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_ERRNO | error as u32),
        statement(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_ALLOW),
    ];
    let program = libc::sock_fprog { len: filter.len() as u16, filter: filter.as_mut_ptr() };
    // SAFETY: the filter lives until the call returns, which copies it.
    let result = unsafe {
        libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
        libc::prctl(libc::PR_SET_SECCOMP, libc::SECCOMP_MODE_FILTER, &raw const program)
    };
    if result == 0 { Ok(()) } else { Err(std::io::Error::last_os_error()) }
}

#[test]
fn without_the_kernels_types_or_in_a_made_up_tree_it_says_why_not() {
    let nothing = tempfile::tempdir().expect("a folder");
    let refused = |roots: Roots| {
        let source = LiveSource::open(roots).expect("a tree").from_inside();
        source.inside().and_then(Result::err).cloned()
    };
    let without = Roots { sys: nothing.path().to_owned(), ..Roots::default() };
    let elsewhere = Roots { proc: nothing.path().to_owned(), ..Roots::default() };
    assert_eq!(refused(elsewhere), Some(Refused::Elsewhere));
    std::fs::create_dir_all(nothing.path().join("kernel/btf")).expect("folders");
    assert!(matches!(refused(without.clone()), Some(Refused::NoTypes | Refused::Elsewhere)));
    // Something else in its place.
    for text in [&b""[..], b"\x9f\xeb", &[0xff; 4096]] {
        std::fs::write(nothing.path().join("kernel/btf/vmlinux"), text).expect("a file");
        assert!(matches!(refused(without.clone()), Some(Refused::NoTypes | Refused::Elsewhere)));
    }
}

#[test]
fn it_may_be_loaded_while_files_are_read() {
    let Some(reference) = inside() else { return };
    drop(reference);
    let mut children = Children(vec![play("worked").spawn().expect("a child")]);
    let output = std::io::BufReader::new(children.0[0].stdout.take().expect("its output"));
    let mut lines = std::io::BufRead::lines(output).map_while(Result::ok);
    let worker = lines.find_map(|line| line.split_once("> ")?.1.parse::<i64>().ok()).expect("its number");
    let _ends = EndOf(worker);
    let mut source = open().from_inside_later();
    assert_eq!(source.inside(), None, "nobody waits for it");
    let begin = Instant::now();
    let mut before = source.read();
    assert!(before.processes.len() > 1);
    let mut after = 0;
    while after < 5 {
        assert!(begin.elapsed() < Duration::from_secs(20), "{:?}", source.inside());
        std::thread::sleep(Duration::from_millis(15));
        let now = source.read();
        after += u32::from(source.inside() == Some(Ok(())));
        let ran = |reading: &Reading| find(reading, worker).and_then(|row| row.run_ns.value());
        if let Some((before, now)) = ran(&before).zip(ran(&now)) {
            assert!((0..150_000_000).contains(&(now - before)), "{} ns in one interval", now - before);
        }
        before = now;
    }
    let whole = find(&before, worker).and_then(|row| row.run_ns.value()).expect("known");
    assert!(whole > 200_000_000, "{whole} ns, its ended thread's included");
}

#[test]
fn everybody_is_there() {
    let Some(mut inside) = inside() else { return };
    let mut files = open();
    for turn in 0..40 {
        let (before, between, after) = (files.read(), inside.read(), files.read());
        let pids = |reading: &Reading| -> Vec<i64> {
            reading.processes.iter().filter_map(|row| row.pid.value()).collect()
        };
        let (before, between, after) = (pids(&before), pids(&between), pids(&after));
        let missed: Vec<&i64> =
            before.iter().filter(|pid| after.contains(pid) && !between.contains(pid)).collect();
        assert!(missed.is_empty(), "{missed:?} in reading {turn} of {}", between.len());
        let made_up: Vec<&i64> =
            between.iter().filter(|pid| !before.contains(pid) && !after.contains(pid)).collect();
        assert!(made_up.len() <= 3, "{made_up:?} in reading {turn}");
        std::thread::sleep(Duration::from_millis(15));
    }
}
