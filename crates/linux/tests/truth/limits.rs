//! Truths about limits: the kernel's own files of a control group that a test makes.

use super::helper::{Helper, agrees, time_on_core};
use super::{CORE, find, wanting};
use dozor_core::reading::GroupRow;
use dozor_core::source::Source as _;
use dozor_core::wanted::Demand;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// A control group of this test, removed at its end.
pub struct Group {
    folder: PathBuf,
    children: Vec<Child>,
}

fn name_of(controller: &str) -> String {
    format!("dozor-{controller}-{}", std::process::id())
}

impl Group {
    /// Where a controller has a tree of version 1, or version 2 hands it down.
    pub fn make(controller: &str, file: &str) -> Option<Group> {
        Group::another(controller, file, "")
    }

    /// One more of a controller, with something behind its name.
    pub fn another(controller: &str, file: &str, behind: &str) -> Option<Group> {
        let roots = [&format!("/sys/fs/cgroup/{controller}"), "/sys/fs/cgroup"];
        let name = name_of(controller) + behind;
        roots.iter().find_map(|root| Group::below(root, &name, file))
    }

    /// In a tree; none where its groups have no such file.
    pub fn below(root: &str, name: &str, file: &str) -> Option<Group> {
        let folder = Path::new(root).join(name);
        std::fs::create_dir(&folder).ok()?;
        let group = Group { folder, children: vec![] };
        group.has(file).then_some(group)
    }

    pub fn put(&self, file: &str, text: &str) -> bool {
        std::fs::write(self.folder.join(file), text).is_ok()
    }

    pub fn number(&self, file: &str, key: &str) -> f64 {
        let text = std::fs::read_to_string(self.folder.join(file)).expect("the kernel's file");
        let line = text.lines().find_map(|line| line.strip_prefix(key)).expect("its line");
        line.trim().parse().expect("a number")
    }

    /// Whether its controllers give it such a file.
    pub fn has(&self, file: &str) -> bool {
        self.folder.join(file).exists()
    }

    /// Of all devices together, `rbytes` or `wbytes`; Documentation/admin-guide/cgroup-v2.rst `io.stat`.
    pub fn io(&self, kind: &str) -> f64 {
        let text = std::fs::read_to_string(self.folder.join("io.stat")).expect("the kernel's account");
        let words = text.split_whitespace().filter_map(|word| word.strip_prefix(kind)?.strip_prefix('='));
        words.map(|word| word.parse::<f64>().expect("a number")).sum()
    }

    pub fn run(&mut self, script: &str) -> i64 {
        let enter = format!("echo $$ > {}/cgroup.procs; {script}", self.folder.display());
        let child = Command::new("sh").args(["-c", &enter]).process_group(0).spawn().expect("a shell");
        let pid = i64::from(child.id());
        self.children.push(child);
        pid
    }
}

impl Drop for Group {
    fn drop(&mut self) {
        for child in &mut self.children {
            // SAFETY: a signal to the process group that this test made.
            unsafe { libc::kill(-(child.id() as i32), libc::SIGKILL) };
            let _ = child.wait();
        }
        // Who else is in it goes on outside.
        let above = self.folder.with_file_name("cgroup.procs");
        let members = std::fs::read_to_string(self.folder.join("cgroup.procs")).unwrap_or_default();
        for member in members.lines() {
            let _ = std::fs::write(&above, member);
        }
        for _ in 0..100 {
            if std::fs::remove_dir(&self.folder).is_ok() {
                break;
            }
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

fn row_of(groups: &[GroupRow], name: &str) -> GroupRow {
    groups.iter().find(|row| row.path.ends_with(name)).expect("its row").clone()
}

/// A loop that may use a fifth of a core.
#[test]
fn who_is_held_back_by_its_control_group_is_known() {
    let Some(mut group) = Group::make("cpu", "cpu.stat") else { return };
    if !group.put("cpu.max", "20000 100000") {
        let _ = group.put("cpu.cfs_period_us", "100000");
        if !group.put("cpu.cfs_quota_us", "20000") {
            return;
        }
    }
    let pid = group.run("while :; do :; done");
    std::thread::sleep(Duration::from_millis(300));
    let mut source = wanting(&[Demand::ControlGroup]);
    let name = name_of("cpu");
    let first = row_of(&source.read().groups, &name);
    let begin = group.number("cpu.stat", "nr_throttled ");
    std::thread::sleep(Duration::from_secs(2));
    let reading = source.read();
    let end = group.number("cpu.stat", "nr_throttled ");
    let last = row_of(&reading.groups, &name);
    assert_eq!(last.cpu_limit.value(), Some(2_000), "20 % of a core");
    let held =
        last.throttled_periods.value().expect("known") - first.throttled_periods.value().expect("known");
    agrees("periods in which a control group was held back", end - begin, held as f64, 2.0);
    assert!(find(&reading, pid).limits.split(' ').any(|limit| limit.ends_with(&*name)));
}

/// A group that may have so many tasks.
#[test]
fn the_tasks_of_a_control_group_are_counted_against_its_limit() {
    let Some(mut group) = Group::make("pids", "pids.max") else { return };
    if !group.put("pids.max", "40") {
        return;
    }
    group.run("for i in 1 2 3 4 5; do sleep 60 & done; wait");
    std::thread::sleep(Duration::from_millis(400));
    let mut source = wanting(&[Demand::ControlGroup]);
    let row = row_of(&source.read().groups, &name_of("pids"));
    let truth = group.number("pids.current", "");
    agrees("tasks of a control group", truth, row.tasks.value().expect("known") as f64, 0.0);
    assert_eq!(row.tasks_limit.value(), Some(40));
}

/// Open files of this process against its own limit.
#[test]
fn open_files_stand_beside_their_limit() {
    let reading = wanting(&[Demand::Files]).read();
    let row = find(&reading, i64::from(std::process::id()));
    let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile).current.expect("a limit");
    agrees("files_limit of this process", limit as f64, row.files_limit.value().expect("known") as f64, 0.0);
}

/// Descriptors that a reader may have, most of which it leaves to others; and processes, far more than there are for.
const DESCRIPTORS: u64 = 280;
const SLEEPERS: usize = 120;

/// Reads with hardly a descriptor: tells what a child used that began to work after many idle readings, what the kernel's clock of
/// it says, and how many files were open at most.
pub fn few_descriptors(clocks: bool) {
    let limit = libc::rlimit { rlim_cur: DESCRIPTORS, rlim_max: DESCRIPTORS };
    // SAFETY: the pointer is good; the limit is that of this process and its children.
    assert_eq!(unsafe { libc::setrlimit(libc::RLIMIT_NOFILE, &raw const limit) }, 0);
    let started = |command: &mut Command| command.stdin(Stdio::piped()).spawn().expect("a child");
    let mut children: Vec<Child> = (0..SLEEPERS).map(|_| started(Command::new("sleep").arg("60"))).collect();
    for child in &mut children {
        drop(child.stdin.take());
    }
    // It ends by itself, whatever becomes of us.
    let mut worker = started(
        Command::new("sh").args(["-c", "read x; i=0; while [ $i -lt 5000000 ]; do i=$((i+1)); done"]),
    );
    let pid = i64::from(worker.id());
    let mut source = wanting(&[]);
    if !clocks {
        source = source.without_clocks();
    }
    let mut files = 0;
    let mut used = || {
        let reading = source.read();
        files = files.max(std::fs::read_dir("/proc/self/fd").expect("our files").count());
        let found = reading.processes.iter().find(|row| row.pid.value() == Some(pid));
        let row = found.expect("its row");
        row.run_ns.value().expect("known of one with a single thread")
    };
    for _ in 0..8 {
        used();
        std::thread::sleep(Duration::from_millis(40));
    }
    std::io::Write::write_all(&mut worker.stdin.take().expect("its input"), b"go\n").expect("it listens");
    std::thread::sleep(Duration::from_millis(500));
    let (before, ours, after) = (time_on_core(pid), used(), time_on_core(pid));
    // Whoever hears of it may end us at once: nobody is left behind.
    for mut child in children.into_iter().chain([worker]) {
        child.kill().and_then(|()| child.wait().map(drop)).expect("it was there");
    }
    println!("> {} {} {after}", ours as f64 / 1e9, before);
    println!("> {files}");
}

#[test]
fn without_descriptors_an_idle_process_that_works_again_is_seen_at_once() {
    let _core = CORE.lock();
    works_again("few descriptors");
}

#[test]
fn without_descriptors_and_clocks_an_idle_process_that_works_again_is_seen_at_once() {
    let _core = CORE.lock();
    works_again("few descriptors without clocks");
}

fn works_again(helper: &str) {
    let mut helper = Helper::start(helper);
    helper.says();
    let numbers: Vec<f64> =
        helper.says().split(' ').map(|number| number.parse().expect("a number")).collect();
    let (ours, before, after) = (numbers[0], numbers[1], numbers[2]);
    agrees(
        "CPU time read without descriptors, s",
        f64::midpoint(before, after),
        ours,
        (after - before) / 2.0 + 0.005,
    );
    assert!(before > 0.1, "{before}");
    let files: u64 = helper.says().parse().expect("a number");
    assert!(files <= DESCRIPTORS, "{files}");
}
