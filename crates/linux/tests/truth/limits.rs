//! Truths about limits: the kernel's own files of a control group that a test makes.

use super::helper::agrees;
use super::{find, wanting};
use dozor_core::reading::GroupRow;
use dozor_core::source::Source as _;
use dozor_core::wanted::Demand;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};
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
        let name = name_of(controller);
        let roots = [format!("/sys/fs/cgroup/{controller}"), "/sys/fs/cgroup".to_owned()];
        roots.iter().find_map(|root| {
            let folder = Path::new(root).join(&name);
            std::fs::create_dir(&folder).ok()?;
            let group = Group { folder, children: vec![] };
            group.folder.join(file).exists().then_some(group)
        })
    }

    pub fn put(&self, file: &str, text: &str) -> bool {
        std::fs::write(self.folder.join(file), text).is_ok()
    }

    pub fn number(&self, file: &str, key: &str) -> f64 {
        let text = std::fs::read_to_string(self.folder.join(file)).expect("the kernel's file");
        let line = text.lines().find_map(|line| line.strip_prefix(key)).expect("its line");
        line.trim().parse().expect("a number")
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
