//! Truths about looking into processes and acting on them: what the test itself made its children do, read back from the
//! kernel.

use super::helper::{Forked, Helper, cpu_seconds, time_on_core, wait_for_go};
use super::limits::Group;
use super::{find, key_of, source};
use dozor_core::cores::CoreSet;
use dozor_core::deed::{Account, Deed, Outcome, Resource, Still};
use dozor_core::inside::close::Kind;
use dozor_core::inside::holders::{Place, Way};
use dozor_core::inside::waits::{Task, words};
use dozor_core::inside::{Facts, Subject, Told, Treatment};
use dozor_core::known::{Known, Raw};
use dozor_core::reading::ProcessKey;
use dozor_core::source::Source as _;
use dozor_linux::Roots;
use dozor_linux::act::{self, Ending};
use dozor_linux::inside::Looker;
use dozor_linux::inside::closely::look_closely;
use dozor_linux::inside::holding::{holders, place_of};
use std::io::{Read as _, Seek as _, Write as _};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

/// A shell that does what it is told; ended at the end of the test.
struct Shell(Child);

impl Shell {
    fn start(script: &str) -> Shell {
        let mut command = Command::new("sh");
        command.args(["-c", script]).stdin(Stdio::piped()).stdout(Stdio::piped());
        std::os::unix::process::CommandExt::process_group(&mut command, 0);
        Shell(command.spawn().expect("a shell"))
    }

    /// Starts it and waits for its first word.
    fn ready(script: &str) -> Shell {
        let mut shell = Shell::start(script);
        shell.0.stdout.as_mut().expect("its output").read_exact(&mut [0]).expect("a word");
        shell
    }

    fn key(&self) -> ProcessKey {
        key_of(i64::from(self.0.id()))
    }
}

impl Drop for Shell {
    fn drop(&mut self) {
        // SAFETY: a signal to the process group that this test made; CONT lets one that is stopped end.
        unsafe {
            libc::kill(-(self.0.id() as i32), libc::SIGKILL);
            libc::kill(-(self.0.id() as i32), libc::SIGCONT);
        }
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn facts(key: ProcessKey) -> Facts {
    match Looker::new(Roots::default()).look(key, Subject::Facts) {
        Told::Facts(facts) => *facts,
        other => panic!("{other:?}"),
    }
}

fn doing(key: ProcessKey) -> String {
    let facts = facts(key);
    let state = facts.state.value().and_then(|code| u8::try_from(code).ok()).map(char::from);
    words(Task { state, doing: &facts.doing, wait_channel: &facts.wait_channel, frozen: facts.frozen })
}

/// Waits until something holds; the kernel needs a moment.
fn until<T>(what: &str, mut seen: impl FnMut() -> T, good: impl Fn(&T) -> bool) -> T
where
    T: std::fmt::Debug,
{
    let begin = Instant::now();
    loop {
        let now = seen();
        if good(&now) {
            return now;
        }
        assert!(begin.elapsed() < Duration::from_secs(20), "{what}: {now:?}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn why_a_process_is_still_there_is_said_right() {
    let loops = "while :; do sleep 0.05; done";
    for (script, still) in [
        (format!("trap : TERM; echo r; {loops}"), Still::Handles),
        (format!("trap '' TERM; echo r; {loops}"), Still::Ignores),
    ] {
        let shell = Shell::ready(&script);
        let sent = act::send(shell.key(), 15).expect("it is ours");
        assert_eq!(sent.wait_gone(Duration::from_millis(300)), Ending::StillThere);
        assert_eq!(act::why_still(shell.key(), 15), still);
        let treatment = if still == Still::Handles { Treatment::Handled } else { Treatment::Ignored };
        // While it starts another one a shell holds all signals back.
        let seen = || facts(shell.key()).signals.value().expect("our own child").treatment(15);
        until("its treatment", seen, |seen| *seen == treatment);
    }
    let stopped = Shell::ready("echo r; read x");
    act::send(stopped.key(), 19).expect("pausing it");
    until("stopped", || doing(stopped.key()), |words| words.contains("stopped"));
    act::send(stopped.key(), 15).expect("it waits for its continuing");
    assert_eq!(act::why_still(stopped.key(), 15), Still::Stopped);
    let sent = act::send(stopped.key(), 18).expect("continuing it");
    assert!(!matches!(sent.wait_gone(Duration::from_secs(5)), Ending::StillThere));
}

/// What a neighbour in the process group starts meanwhile is nobody's heir.
#[test]
fn who_is_left_behind_is_told_apart_from_what_others_start() {
    let since = act::now_ticks() - 1;
    let busy = Shell::ready("echo r; while :; do sleep 0.05; done");
    let group = busy.key().pid;
    std::thread::sleep(Duration::from_millis(200));
    assert!(!act::left_behind(group, since, 0).is_empty(), "all of them are new");
    let now = act::now_ticks();
    std::thread::sleep(Duration::from_millis(200));
    assert_eq!(act::left_behind(group, now, 0), [], "its shell was there before");
}

/// The parent of a vfork is blocked in the kernel until its child goes on; one that handles TERM does not take it there.
#[test]
fn who_is_blocked_in_the_kernel_takes_no_signal_and_that_is_said() {
    let mut child = Helper::start("blocked");
    child.says();
    let pid: i64 = child.says().parse().expect("a PID");
    let key = key_of(pid);
    until("blocked", || facts(key).state, |state| *state == Raw::new(i64::from(b'D')));
    let said = doing(key);
    assert!(
        said.starts_with("blocked in the kernel: waits for the child that it has just started"),
        "{said}"
    );
    let sent = act::send(key, 15).expect("it is ours");
    assert_eq!(sent.wait_gone(Duration::from_millis(200)), Ending::StillThere);
    let Still::Blocked(why) = act::why_still(key, 15) else { panic!("{:?}", act::why_still(key, 15)) };
    assert!(why.contains("blocked in the kernel"), "{why}");
    act::send(key, 9).expect("KILL reaches it all the same");
}

/// Helper: a child that handles TERM and waits for the one that it started with `CLONE_VFORK`, which sleeps.
pub fn blocked() {
    extern "C" fn handle(_: i32) {}
    let handler = handle as extern "C" fn(i32);
    // SAFETY: the children call the C library alone, have memory of their own, and die with their parents.
    let child = unsafe {
        let child = libc::fork();
        if child == 0 {
            libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
            libc::signal(libc::SIGTERM, handler as libc::sighandler_t);
            let flags = libc::CLONE_VFORK | libc::SIGCHLD;
            let inner = libc::syscall(libc::SYS_clone, flags, 0, 0, 0, 0);
            if inner == 0 {
                libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
                libc::sleep(30);
            }
            libc::_exit(0);
        }
        child
    };
    println!("> {child}");
    let mut status = 0;
    // SAFETY: the pointer is good for the call.
    unsafe { libc::waitpid(child, &raw mut status, 0) };
}

#[test]
fn what_a_process_waits_for_is_said_with_its_file() {
    let folder = tempfile::tempdir().expect("a folder");
    let fifo = folder.path().join("night");
    let status = Command::new("mkfifo").arg(&fifo).status().expect("mkfifo");
    assert!(status.success());
    let opening = Shell::start(&format!("exec 3< {}", fifo.display()));
    let said = until("opening", || doing(opening.key()), |said| said.contains("open"));
    assert!(said.contains("for the other end of a FIFO") || said.contains("for a file to open"), "{said}");
    assert!(said.ends_with(&format!("of {}", fifo.display())), "{said}");
    let reading = Shell::ready(&format!("exec 3<> {}; echo r; exec cat <&3", fifo.display()));
    let said = until("reading", || doing(reading.key()), |said| said.contains("night"));
    assert_eq!(said, format!("waits for data, in read of {}", fifo.display()));
    let waiting = Shell::ready("sleep 30 & echo r; wait");
    until(
        "waiting",
        || doing(waiting.key()),
        |said| said.contains("for a child") || said.contains("for a signal"),
    );
    let sleeping = Shell::start("exec sleep 30");
    until("sleeping", || doing(sleeping.key()), |said| said.contains("for a time to pass"));
}

fn tasks(pid: i64) -> Vec<String> {
    let entries = std::fs::read_dir(format!("/proc/{pid}/task")).expect("the process");
    entries.flatten().map(|entry| entry.path().display().to_string()).collect()
}

fn status_line(task: &str, name: &str) -> String {
    let text = std::fs::read_to_string(format!("{task}/status")).expect("the thread");
    let line = text.lines().find_map(|line| line.strip_prefix(name)).expect("its line");
    line.trim_start_matches(':').trim().to_owned()
}

fn nice_of(task: &str) -> i64 {
    let text = std::fs::read_to_string(format!("{task}/stat")).expect("the thread");
    let rest = text.rsplit_once(')').expect("a name").1;
    rest.split_whitespace().nth(16).and_then(|word| word.parse().ok()).expect("its niceness")
}

#[test]
fn all_fifty_threads_are_changed_and_what_is_said_is_what_the_kernel_has() {
    let mut child = Helper::start("threads");
    child.says();
    assert_eq!(child.says(), "running");
    let key = key_of(child.pid());
    let account = act::change(key, &Deed::Nice(7));
    assert_eq!(
        (account.outcome, &account.before, &account.after),
        (Outcome::Changed, &Some(Deed::Nice(0)), &Some(Deed::Nice(7)))
    );
    let all = tasks(key.pid);
    assert!(all.len() >= 50, "{}", all.len());
    assert!(all.iter().all(|task| nice_of(task) == 7));
    let one: CoreSet = "0".parse().expect("a set");
    let account = act::change(key, &Deed::Cores(one.clone()));
    assert_eq!(
        (account.outcome.clone(), &account.after),
        (Outcome::Changed, &Some(Deed::Cores(one.clone()))),
        "{account:?}"
    );
    assert!(tasks(key.pid).iter().all(|task| status_line(task, "Cpus_allowed_list") == "0"));
    assert_eq!(account.seen_on, Some(one.clone()), "two of them work, and only there");
    assert_eq!(act::change(key, &Deed::Cores(one)).outcome, Outcome::AsBefore);
    let back = account.undo().expect("something to undo");
    assert_eq!(act::change(key, &back).outcome, Outcome::Changed);
    let none: CoreSet = "4000".parse().expect("a set");
    assert!(matches!(act::change(key, &Deed::Cores(none)).outcome, Outcome::Failed(_)));
    let account = act::change(key, &Deed::Policy(3, 0));
    assert_eq!((account.outcome, account.after), (Outcome::Changed, Some(Deed::Policy(3, 0))));
    let account = act::change(key, &Deed::Io(3 << 13));
    assert_eq!(account.outcome, Outcome::Changed, "{account:?}");
    assert_eq!(facts(key).scheduling.io, Raw::new(3 << 13));
}

/// Helper: fifty threads, two of which work.
pub fn threads() {
    for at in 0..50 {
        std::thread::spawn(move || {
            if at < 2 {
                loop {
                    std::hint::black_box(at);
                }
            }
            std::thread::park();
        });
    }
    println!("> running");
    wait_for_go();
}

/// Who changes its name between choosing and acting is still the one that was chosen.
#[test]
fn another_name_is_no_other_process() {
    let mut child = Shell::ready("echo r; read x; echo renamed > /proc/$$/comm; sleep 30 & wait");
    let key = child.key();
    child.0.stdin.as_mut().expect("its input").write_all(b"go\n").expect("it listens");
    let name = || std::fs::read_to_string(format!("/proc/{}/comm", key.pid)).expect("it is there");
    until("renamed", name, |name| name.trim() == "renamed");
    assert_eq!(act::change(key, &Deed::Nice(3)).outcome, Outcome::Changed);
    let sent = act::send(key, 9).expect("it is the same");
    assert!(!matches!(sent.wait_gone(Duration::from_millis(300)), Ending::StillThere));
}

#[test]
fn limits_and_the_oom_preference_are_read_back() {
    let child = Shell::ready("echo r; read x");
    let key = child.key();
    let deed = Deed::Limit(Resource::Files, Some(77), Some(88));
    let account = act::change(key, &deed);
    assert_eq!((account.outcome, account.after), (Outcome::Changed, Some(deed)));
    let text = std::fs::read_to_string(format!("/proc/{}/limits", key.pid)).expect("its limits");
    let line = text.lines().find(|line| line.starts_with("Max open files")).expect("the line");
    assert_eq!(line.split_whitespace().skip(3).take(2).collect::<Vec<_>>(), ["77", "88"]);
    let account = act::change(key, &Deed::Oom(300));
    assert_eq!(account.outcome, Outcome::Changed);
    let now = std::fs::read_to_string(format!("/proc/{}/oom_score_adj", key.pid)).expect("its preference");
    assert_eq!((now.trim(), account.undo()), ("300", Some(Deed::Oom(0))));
    let gone = ProcessKey { start: key.start + 1, ..key };
    assert_eq!(act::change(gone, &Deed::Nice(3)), Account::from(Outcome::AlreadyGone));
}

/// What a group freezes takes no signal; frozen by signals where it is not alone in its group.
#[test]
fn a_frozen_group_takes_no_signal_and_that_is_said() {
    let name = format!("dozor-frozen-{}", std::process::id());
    let trees = [("", "cgroup.freeze"), ("/unified", "cgroup.freeze"), ("/freezer", "freezer.state")];
    let made =
        trees.iter().find_map(|(tree, file)| Group::below(&format!("/sys/fs/cgroup{tree}"), &name, file));
    // One that handles the signal: in a group of version 2 the kernel ends others although they are frozen.
    let child = Shell::ready("trap 'exit 0' TERM; sleep 30 & echo r; wait");
    let key = child.key();
    // Its group has others in it: a signal does it.
    let account = act::freeze(&[key], true).remove(0);
    assert_eq!((account.outcome, account.after), (Outcome::Changed, Some(Deed::Freeze)));
    assert_eq!(act::freeze(&[key], true)[0].outcome, Outcome::AsBefore);
    assert_eq!(act::freeze(&[key], false)[0].outcome, Outcome::Changed);
    if let Some(group) = made {
        assert!(group.put("cgroup.procs", &key.pid.to_string()), "it goes in");
        let account = act::freeze(&[key], true).remove(0);
        assert_eq!(account.outcome, Outcome::Changed, "{account:?}");
        assert_eq!(facts(key).group, format!("/{name}"), "by its group, in which it is alone");
        assert!(facts(key).frozen && doing(key).starts_with("frozen with its control group"));
        act::send(key, 15).expect("it is ours");
        assert_eq!(act::why_still(key, 15), Still::Frozen);
        assert_eq!(act::freeze(&[key], false)[0].after.clone().or(Some(Deed::Thaw)), Some(Deed::Thaw));
        until("gone", || act::send(key, 0).is_err(), |gone| *gone);
        drop(child);
    }
}

#[test]
fn who_a_process_is_is_what_the_test_made_it() {
    let folder = tempfile::tempdir().expect("a folder");
    let place = std::fs::canonicalize(folder.path()).expect("its real name");
    let mut command = Command::new("sh");
    command.args(["-c", "read 'a b'", "x y"]).env_clear().env("NIGHT", "2031=14").current_dir(&place);
    let mut child = Shell(command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("a shell"));
    let key = until(
        "the shell",
        || child.key(),
        |key| matches!(facts(*key).arguments, Known::Value(ref list) if list.len() == 4),
    );
    let facts = facts(key);
    assert_eq!(facts.directory, Known::Value(place.display().to_string()));
    assert_eq!(facts.arguments, Known::Value(["sh", "-c", "read 'a b'", "x y"].map(str::to_owned).to_vec()));
    let mut looker = Looker::new(Roots::default());
    let Told::Environment(Known::Value(environment)) = looker.look(key, Subject::Environment) else {
        panic!("ours")
    };
    assert!(environment.contains(&("NIGHT".to_owned(), "2031=14".to_owned())), "{environment:?}");
    let limits = facts.limits.value().expect("our own child's");
    let files = limits.iter().find(|limit| limit.name == "Max open files").expect("a limit");
    assert!(files.soft > Some(0) && files.unit == "files");
    let Told::Memory(memory) = looker.look(key, Subject::Memory) else { panic!("ours") };
    let mappings = memory.mappings.value().expect("our own child's");
    let sum: i64 = mappings.iter().filter_map(|mapping| mapping.resident.value()).sum();
    let rss = super::helper::resident(key.pid);
    assert!((sum - rss).abs() < rss / 50 + (1 << 14), "mappings add up to {sum} of {rss}");
    let kinds = memory.kinds.value().expect("its status");
    let resident = kinds.iter().find(|(name, _)| name == "VmRSS").expect("resident memory").1;
    // Before Linux 6.2 each thread adds its pages of each kind to this sum 64 at a time.
    assert!((resident - rss).abs() < rss / 5 + (3 << 18), "{resident} of {rss}");
    let other = ProcessKey { start: key.start + 1, ..key };
    assert_eq!(looker.look(other, Subject::Facts), Told::Gone, "another start time, another process");
    child.0.kill().and_then(|()| child.0.wait().map(drop)).expect("its end");
    assert_eq!(looker.look(key, Subject::Facts), Told::Gone);
}

#[test]
fn sockets_are_told_with_their_bytes_and_their_peers() {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    let mut client = std::net::TcpStream::connect(address).expect("a connection");
    let (mut server, _) = listener.accept().expect("the other side");
    client.write_all(&vec![7; 70_000]).expect("room");
    server.read_exact(&mut vec![0; 70_000]).expect("all of it");
    let key = key_of(i64::from(std::process::id()));
    let Told::Sockets(look) = Looker::new(Roots::default()).look(key, Subject::Sockets) else {
        panic!("ours")
    };
    let sockets = look.seen.value().expect("our own");
    let local = client.local_addr().expect("an address").to_string();
    let ours = sockets.iter().find(|socket| *socket.local == *local).expect("the client's side");
    assert_eq!((&*ours.remote, &*ours.state), (&*address.to_string(), "established"));
    assert_eq!((ours.sent, ours.received), (Raw::new(70_000), Raw::new(0)));
    assert!(
        sockets.iter().any(|socket| *socket.local == *address.to_string() && &*socket.state == "listens")
    );
}

#[test]
fn who_has_a_file_a_folder_and_a_removed_file_open_is_found() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = std::fs::canonicalize(folder.path()).expect("its real name").join("frame");
    let mut file = std::fs::File::create(&path).expect("a file");
    file.write_all(&vec![7; 100_000]).and_then(|()| file.sync_all()).expect("room");
    file.seek(std::io::SeekFrom::Start(40_000)).expect("a place");
    let worker = {
        let mut command = Command::new("sleep");
        Shell(command.arg("30").current_dir(folder.path()).spawn().expect("a child"))
    };
    let own = i64::from(std::process::id());
    let roots = Roots::default();
    let place = place_of(&path).expect("it is there");
    let found = holders(&roots, &place);
    let ours = found.list.iter().find(|hold| hold.key.pid == own).expect("we have it open");
    assert_eq!((ours.way, ours.file.offset, ours.file.mode()), (Way::Open, Raw::new(40_000), "write"));
    let below = holders(&roots, &place_of(folder.path()).expect("a folder"));
    let ways: Vec<(i64, Way)> = below.list.iter().map(|hold| (hold.key.pid, hold.way)).collect();
    assert!(
        ways.contains(&(own, Way::Open)) && ways.contains(&(i64::from(worker.0.id()), Way::Directory)),
        "{ways:?}"
    );
    use std::os::unix::fs::MetadataExt as _;
    let blocks = file.metadata().expect("it is there").blocks() as i64 * 512;
    std::fs::remove_file(&path).expect("ours");
    let removed = holders(&roots, &Place::Removed);
    let ours = removed
        .list
        .iter()
        .find(|hold| hold.key.pid == own && hold.file.target.ends_with("/frame"))
        .expect("it still is");
    assert_eq!((ours.file.holds, ours.file.size), (Raw::new(blocks), Raw::new(100_000)));
    let on_mount = holders(&roots, &place_of(Path::new("/proc")).expect("a mount point"));
    assert!(
        on_mount.list.iter().all(|hold| hold.file.target.starts_with("/proc")),
        "{:?}",
        on_mount.list.first()
    );
}

/// A thread that works half of the time and one that only waits.
#[test]
fn a_close_look_says_where_time_goes() {
    let _alone = super::CORE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let mut child = Helper::start("half");
    child.says();
    let pid: i64 = child.says().parse().expect("a PID");
    let stop = AtomicBool::new(false);
    let mut told = 0;
    let look = look_closely(&Roots::default(), key_of(pid), Duration::from_secs(3), &stop, |_| told += 1);
    assert!(look.looks() > 60 && told > 5, "{} looks, told {told} times", look.looks());
    let lines = look.lines();
    let of = |kind| lines.iter().filter(|line| line.kind == kind).map(|line| line.percent).sum::<f64>();
    let (runs, waits) = (of(Kind::Running), of(Kind::Waiting));
    assert!((30.0..70.0).contains(&runs) && (30.0..70.0).contains(&waits), "{}", look.sentence());
    let sleeps = lines.iter().find(|line| line.kind == Kind::Waiting).expect("it sleeps");
    assert!(sleeps.call.contains("nanosleep"), "{lines:?}");
    assert!(look.cost() > 0.0 && look.cost() < 30.0, "{}", look.cost());
}

/// Helper: works 20 ms, sleeps 20 ms.
pub fn half() {
    // SAFETY: the calls take plain values.
    let child = Forked::start(|| unsafe {
        for _ in 0..1_000 {
            let mut begin: libc::timespec = std::mem::zeroed();
            libc::clock_gettime(libc::CLOCK_MONOTONIC, &raw mut begin);
            loop {
                let mut now: libc::timespec = std::mem::zeroed();
                libc::clock_gettime(libc::CLOCK_MONOTONIC, &raw mut now);
                if (now.tv_sec - begin.tv_sec) * 1_000_000_000 + now.tv_nsec - begin.tv_nsec > 20_000_000 {
                    break;
                }
            }
            libc::usleep(20_000);
        }
    });
    child.order();
    println!("> {}", child.pid);
    wait_for_go();
}

/// The numbers of `/proc` are those of its namespace; by them, a process of another would be asked for its time on a core.
#[test]
fn whoever_is_in_another_namespace_than_proc_is_told_nobody_elses_cpu_time() {
    let mut helper = Helper::start("look from another namespace");
    let said = loop {
        match helper.says() {
            said if said == "ready" => {}
            said => break said,
        }
    };
    assert!(said == "no namespace" || said == "right", "{said}");
}

/// Helper: the first process of a namespace whose `/proc` is that of another one. What is the number one there is another.
pub fn look_at_others() {
    let mut source = source();
    let reading = source.read();
    let first = find(&reading, 1);
    let own = (cpu_seconds() * 1e9) as i64;
    let right = if first.threads.value() == Some(1) {
        first.run_ns.value().is_some_and(|ns| ns as f64 / 1e9 <= time_on_core(1))
    } else {
        first.run_ns == Raw::ABSENT
    };
    let (one, told) = (std::process::id(), first.run_ns);
    println!(
        "> {}",
        if right && one == 1 { "right".to_owned() } else { format!("{one}: {told:?} of {own}") }
    );
}

/// In a PID namespace of its own a test gives a PID again; whoever has it then is not hit.
#[test]
fn a_pid_that_came_back_is_never_hit() {
    let mut child = Helper::start("recycle");
    child.says();
    // Its own child is the same program and says that it is ready as well.
    let said = loop {
        match child.says() {
            said if said == "ready" => {}
            said => break said,
        }
    };
    // Without root there is no such namespace.
    if said == "no namespace" {
        return;
    }
    assert_eq!(said, "AlreadyGone AlreadyGone lives 0");
}

/// Helper: another helper as the first process of a PID namespace of its own.
pub fn in_a_namespace(helper: &str) {
    // SAFETY: plain calls of the C library; the child that is made has memory of its own.
    let inside = unsafe { libc::unshare(libc::CLONE_NEWPID | libc::CLONE_NEWNS) == 0 };
    if !inside {
        println!("> no namespace");
        return;
    }
    // The helper's own program again: only a child is in the new namespace.
    let program = std::env::current_exe().expect("our own path");
    let mut first = Command::new(program);
    first.args(["--exact", "child", "--nocapture", "--test-threads=1"]).env(super::HELPER, helper);
    let _ = first.status();
}

/// Helper of the helper: the first process of the namespace.
pub fn recycle_inside() {
    // SAFETY: plain calls with strings that end in a zero.
    let mounted = unsafe {
        libc::mount(
            c"none".as_ptr(),
            c"/".as_ptr(),
            std::ptr::null(),
            libc::MS_REC | libc::MS_PRIVATE,
            std::ptr::null(),
        ) == 0
            && libc::mount(c"proc".as_ptr(), c"/proc".as_ptr(), c"proc".as_ptr(), 0, std::ptr::null()) == 0
    };
    // The number that the kernel gave last in this namespace; proc_sys_kernel(5). The largest one may be the machine's.
    let last = "/proc/sys/kernel/ns_last_pid";
    let start = || Command::new("sleep").arg("30").spawn().expect("a child");
    let mut chosen = start();
    let key = key_of(i64::from(chosen.id()));
    chosen.kill().and_then(|()| chosen.wait().map(drop)).expect("its end");
    if !mounted || std::fs::write(last, (key.pid - 1).to_string()).is_err() {
        println!("> no namespace");
        return;
    }
    std::thread::sleep(Duration::from_millis(30));
    for _ in 0..100 {
        let set = std::fs::write(last, (key.pid - 1).to_string());
        set.expect("what could be set a moment ago");
        let mut next = start();
        if i64::from(next.id()) != key.pid {
            let _ = next.kill().and_then(|()| next.wait().map(drop));
            continue;
        }
        let signal = act::send(key, 9).err();
        let nice = act::change(key, &Deed::Nice(9)).outcome;
        std::thread::sleep(Duration::from_millis(50));
        let lives = next.try_wait().expect("its state").is_none();
        let word =
            |outcome: Option<Outcome>| outcome.map_or("sent".to_owned(), |outcome| format!("{outcome:?}"));
        println!(
            "> {} {nice:?} {} {}",
            word(signal),
            if lives { "lives" } else { "was hit" },
            nice_of(&format!("/proc/{}", next.id()))
        );
        let _ = next.kill().and_then(|()| next.wait().map(drop));
        return;
    }
    println!("> it never came back");
}
