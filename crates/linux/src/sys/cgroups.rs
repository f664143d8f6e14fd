//! Control groups as things: their limits and what they use; cgroups(7), Documentation/admin-guide/cgroup-v2.rst and
//! cgroup-v1/.
//!
//! A group of version 2 has all its files in one folder. Of version 1 each controller has a tree of its own; its groups are
//! named `CONTROLLER:PATH`. Only groups that limit something are read, limits by turns, use at every reading.

use crate::proc::{lines, number, read_file, words};
use dozor_core::known::Raw;
use dozor_core::reading::GroupRow;
use dozor_core::text::{Text, clean};
use std::collections::HashMap;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// Limits are looked at again every so many readings.
pub const TURN: u64 = 16;
/// A group that limits the number of its tasks alone, and is far from it, is read every so many readings: a service manager
/// sets such a limit for every service.
const CALM_TURN: u64 = 4;
/// Groups that are kept; more on one machine are left out.
const MOST: usize = 4096;
/// Values of version 1 from here on mean no limit: it is the largest number in whole pages.
const NO_LIMIT: i64 = i64::MAX / 2;

/// A blank in the name of a group.
const BLANK: &str = "\\040";

/// Controllers of version 1 that are read.
const CONTROLLERS: [&str; 4] = ["cpu", "memory", "pids", "cpuacct"];

/// A tree of groups.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Tree {
    /// The controller of version 1; none for version 2.
    controller: Option<&'static str>,
    mount: PathBuf,
}

/// Where control groups are mounted, of which kind, and how; proc_pid_mountinfo(5).
fn mounts(mountinfo: &[u8]) -> impl Iterator<Item = (PathBuf, &[u8], &[u8])> {
    lines(mountinfo).filter_map(|line| {
        let fields: Vec<&[u8]> = words(line).collect();
        let dash = fields.iter().position(|field| *field == b"-")?;
        let mount = PathBuf::from(String::from_utf8_lossy(fields.get(4)?).into_owned());
        Some((mount, *fields.get(dash + 1)?, *fields.get(dash + 3)?))
    })
}

fn has_option(options: &[u8], name: &str) -> bool {
    options.split(|byte| *byte == b',').any(|option| option == name.as_bytes())
}

/// The trees of a machine, from proc_pid_mountinfo(5).
fn trees(mountinfo: &[u8]) -> Vec<Tree> {
    let mut trees = vec![];
    for (mount, kind, options) in mounts(mountinfo) {
        match kind {
            b"cgroup2" => trees.push(Tree { controller: None, mount }),
            b"cgroup" => {
                let controllers = CONTROLLERS.iter().filter(|name| has_option(options, name));
                trees.extend(controllers.map(|name| Tree { controller: Some(*name), mount: mount.clone() }));
            }
            _ => {}
        }
    }
    trees
}

/// Groups by the number that the kernel gives each, the inode of its folder, in the tree that counts requests to block devices.
pub struct Numbered {
    root: Option<PathBuf>,
    paths: HashMap<u64, Text>,
    /// The reading in which all were listed last.
    listed: Option<u64>,
}

/// Groups that are listed at the most.
const LISTED: usize = 16 << 10;

impl Numbered {
    /// In the trees of a machine, from proc_pid_mountinfo(5).
    pub fn find(mountinfo: &[u8]) -> Numbered {
        let first =
            mounts(mountinfo).find(|(_, kind, options)| *kind == b"cgroup" && has_option(options, "blkio"));
        let root = first.or_else(|| mounts(mountinfo).find(|(_, kind, _)| *kind == b"cgroup2"));
        Numbered { root: root.map(|(mount, ..)| mount), paths: HashMap::new(), listed: None }
    }

    /// The path of a group; that of one which was gone before it was asked for is not known. All are listed for who is not known, once
    /// in a reading.
    pub fn path(&mut self, number: u64, reading: u64) -> Text {
        if !self.paths.contains_key(&number) && self.listed.replace(reading) != Some(reading) {
            if self.paths.len() > 2 * LISTED {
                self.paths.clear();
            }
            self.paths.extend(self.list());
        }
        // No number is given twice.
        self.paths.entry(number).or_insert_with(|| format!("{number} (removed)").into()).clone()
    }

    fn list(&self) -> HashMap<u64, Text> {
        let mut paths = HashMap::new();
        let mut left: Vec<(PathBuf, String)> =
            self.root.iter().map(|root| (root.clone(), String::new())).collect();
        while let Some((folder, path)) = left.pop().filter(|_| paths.len() < LISTED) {
            if let Ok(about) = std::fs::metadata(&folder) {
                let path = if path.is_empty() { "/".into() } else { Text::from(&*path) };
                paths.insert(about.ino(), path);
            }
            let entries = std::fs::read_dir(&folder).into_iter().flatten().flatten();
            let below = entries.filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_dir()));
            left.extend(below.map(|entry| {
                let name = clean(entry.file_name().as_encoded_bytes());
                (entry.path(), format!("{path}/{name}"))
            }));
        }
        paths
    }
}

/// The groups that a process is in, as they are named here, from proc_pid_cgroup(5).
pub fn names(cgroup: &[u8]) -> Vec<String> {
    let mut names = vec![];
    for line in lines(cgroup) {
        let mut parts = line.splitn(3, |byte| *byte == b':');
        let (Some(_), Some(controllers), Some(path)) = (parts.next(), parts.next(), parts.next()) else {
            continue;
        };
        let path = clean(path);
        // What was removed has no folder any more; what is outside of our own tree has none that can be seen.
        if path == "/" || path.ends_with(" (deleted)") || path.split('/').any(|part| part == "..") {
            continue;
        }
        // Names stand in a list with blanks between them, and whoever makes a group chooses its name.
        let path = path.replace(' ', BLANK);
        if controllers.is_empty() {
            names.push(path);
            continue;
        }
        let held = CONTROLLERS[..3].iter();
        let held =
            held.filter(|name| controllers.split(|byte| *byte == b',').any(|held| held == name.as_bytes()));
        names.extend(held.map(|name| format!("{name}:{path}")));
    }
    names
}

/// A group and all above it that have a name.
fn with_ancestors(name: &str) -> impl Iterator<Item = &str> {
    let path = name.find('/').unwrap_or(0);
    std::iter::successors(Some(name), move |name| {
        let cut = name.rfind('/').filter(|cut| *cut > path)?;
        Some(&name[..cut])
    })
}

/// What is known of a group.
struct Known {
    limits: Option<Limits>,
    /// Its row as it was read last, and when.
    row: Option<(GroupRow, u64)>,
    checked: u64,
    seen: u64,
}

impl Known {
    /// Its last row, where that is new enough.
    fn calm(&self, reading: u64) -> Option<&GroupRow> {
        let limits = self.limits.as_ref()?;
        let (row, at) = self.row.as_ref()?;
        let tasks_alone = Limits { tasks: None, ..*limits } == Limits::default();
        let far = row.tasks.value().zip(row.tasks_limit.value()).is_some_and(|(now, most)| now < most / 2);
        (tasks_alone && far && row.tasks_limit == limits.tasks.into() && reading - at < CALM_TURN)
            .then_some(row)
    }
}

/// What a group limits, in the units of [`GroupRow`].
#[derive(Clone, Copy, Default, PartialEq, Eq, Debug)]
struct Limits {
    cpu: Option<i64>,
    memory: Option<i64>,
    high: Option<i64>,
    swap: Option<i64>,
    tasks: Option<i64>,
}

impl Limits {
    fn any(&self) -> bool {
        *self != Limits::default()
    }
}

/// Reads groups.
pub struct Groups {
    trees: Vec<Tree>,
    known: HashMap<Text, Known>,
    /// The limited groups of a list of groups, as one text.
    limited: HashMap<Text, Text>,
    reading: u64,
}

impl Groups {
    /// Finds the trees.
    pub fn find(mountinfo: &[u8]) -> Groups {
        Groups { trees: trees(mountinfo), known: HashMap::new(), limited: HashMap::new(), reading: 0 }
    }

    /// A new reading begins.
    pub fn begin(&mut self) {
        self.reading += 1;
        if self.reading.is_multiple_of(TURN) {
            self.limited.clear();
        }
    }

    /// The groups among those of a process, and above them, that limit something, separated by blanks. `names` are all of its
    /// groups, separated by blanks.
    pub fn limiting(&mut self, names: &Text) -> Text {
        if let Some(limited) = self.limited.get(names) {
            return limited.clone();
        }
        let mut found: Vec<&str> = vec![];
        for name in names.split(' ').filter(|name| !name.is_empty()).flat_map(with_ancestors) {
            if !found.contains(&name) && self.check(name) {
                found.push(name);
            }
        }
        let limited = Text::from(found.join(" "));
        self.limited.insert(names.clone(), limited.clone());
        limited
    }

    /// Whether a group limits something; it counts as there.
    fn check(&mut self, name: &str) -> bool {
        let reading = self.reading;
        if let Some(known) = self.known.get_mut(name)
            && reading - known.checked < TURN
        {
            known.seen = reading;
            return known.limits.is_some();
        }
        if self.known.len() >= MOST && !self.known.contains_key(name) {
            return false;
        }
        let limits = self.folder(name).map(|folder| limits(&folder, name)).filter(Limits::any);
        let limited = limits.is_some();
        let row = self.known.remove(name).and_then(|known| known.row);
        self.known.insert(name.into(), Known { limits, row, checked: reading, seen: reading });
        limited
    }

    fn folder(&self, name: &str) -> Option<PathBuf> {
        let (controller, path) = match name.split_once(':') {
            Some((controller, path)) if !name.starts_with('/') => (Some(controller), path),
            _ => (None, name),
        };
        let tree = self.trees.iter().find(|tree| tree.controller == controller)?;
        Some(tree.mount.join(path.trim_start_matches('/').replace(BLANK, " ")))
    }

    /// Rows of the groups that limit something and that somebody is in.
    pub fn rows(&mut self) -> Vec<GroupRow> {
        let reading = self.reading;
        self.known.retain(|_, known| reading - known.seen < 2 * TURN);
        let mut rows = vec![];
        let mut known = std::mem::take(&mut self.known);
        for (name, known) in &mut known {
            let Some(limits) = known.limits else { continue };
            if let Some(row) = known.calm(reading) {
                rows.push(row.clone());
            } else if let Some(folder) = self.folder(name) {
                let row = self.row(name, &folder, &limits);
                known.row = Some((row.clone(), reading));
                rows.push(row);
            }
        }
        self.known = known;
        rows
    }

    fn row(&self, name: &Text, folder: &Path, limits: &Limits) -> GroupRow {
        let one = |file: &str| -> Raw { single(folder, file).into() };
        let mut row = GroupRow {
            path: name.clone(),
            cpu_limit: limits.cpu.into(),
            memory_limit: limits.memory.into(),
            memory_high: limits.high.into(),
            swap_limit: limits.swap.into(),
            tasks_limit: limits.tasks.into(),
            ..GroupRow::default()
        };
        let old = !name.starts_with('/');
        if limits.cpu.is_some() {
            let stat = Keys::read(folder, "cpu.stat");
            row.periods = stat.get("nr_periods");
            row.throttled_periods = stat.get("nr_throttled");
            if old {
                row.throttled_us = stat.get("throttled_time").get().map(|ns| ns / 1000).into();
                let account = self.folder(&name.replacen("cpu:", "cpuacct:", 1));
                let used = account.and_then(|folder| single(&folder, "cpuacct.usage"));
                row.cpu_us = used.map(|ns| ns / 1000).into();
            } else {
                (row.throttled_us, row.cpu_us) = (stat.get("throttled_usec"), stat.get("usage_usec"));
            }
        }
        if limits.memory.or(limits.high).or(limits.swap).is_some() {
            if old {
                row.memory_bytes = one("memory.usage_in_bytes");
                row.at_limit = one("memory.failcnt");
                row.oom_kills = Keys::read(folder, "memory.oom_control").get("oom_kill");
                let both = single(folder, "memory.memsw.usage_in_bytes");
                row.swap_bytes = both
                    .zip(row.memory_bytes.value())
                    .map(|(both, memory)| both.saturating_sub(memory).max(0))
                    .into();
            } else {
                (row.memory_bytes, row.swap_bytes) = (one("memory.current"), one("memory.swap.current"));
                let events = Keys::read(folder, "memory.events");
                (row.at_limit, row.above_high) = (events.get("max"), events.get("high"));
                row.oom_kills = events.get("oom_kill");
            }
        }
        if limits.tasks.is_some() {
            row.tasks = one("pids.current");
        }
        if !old && limits.memory.or(limits.high).or(limits.cpu).is_some() {
            let io = read_file(&folder.join("io.stat")).unwrap_or_default();
            let sum = |key: &[u8]| -> Raw {
                let values = lines(&io).flat_map(words).filter_map(|word| number(word.strip_prefix(key)?));
                if io.is_empty() { Raw::ABSENT } else { Raw::new(values.fold(0, i64::saturating_add)) }
            };
            (row.read_bytes, row.write_bytes) = (sum(b"rbytes="), sum(b"wbytes="));
        }
        row
    }
}

/// Memory that this process may take before a group that it is in is at its limit, page cache that can be dropped counted as free;
/// none where no group limits it. Documentation/admin-guide/cgroup-v2.rst `memory.max`, `memory.high`, `memory.stat`.
pub fn memory_left() -> Option<i64> {
    let own = |file: &str| read_file(&Path::new("/proc/self").join(file)).unwrap_or_default();
    let groups = Groups::find(&own("mountinfo"));
    let left = |name: &str| {
        let folder = groups.folder(name)?;
        let limits = limits(&folder, name);
        let old = !name.starts_with('/');
        // Of version 1 the other limit is only what is taken back first.
        let limit = if old { limits.memory? } else { limits.memory.into_iter().chain(limits.high).min()? };
        let (used, prefix) = if old { ("memory.usage_in_bytes", "total_") } else { ("memory.current", "") };
        let stat = Keys::read(&folder, "memory.stat");
        let cache = |kind: &str| stat.get(&format!("{prefix}{kind}_file")).value().unwrap_or(0);
        Some(limit - single(&folder, used)? + cache("inactive") + cache("active"))
    };
    let names = names(&own("cgroup"));
    names.iter().flat_map(|name| with_ancestors(name)).filter_map(left).min().map(|left| left.max(0))
}

/// A file of one number; nothing for `max` and where there is none.
fn single(folder: &Path, file: &str) -> Option<i64> {
    read_file(&folder.join(file)).ok().and_then(|text| number(text.trim_ascii()))
}

/// Lines of a name and a number.
struct Keys(Vec<u8>);

impl Keys {
    fn read(folder: &Path, file: &str) -> Keys {
        Keys(read_file(&folder.join(file)).unwrap_or_default())
    }

    fn get(&self, name: &str) -> Raw {
        let mut found = lines(&self.0).filter_map(|line| {
            let mut words = words(line);
            (words.next() == Some(name.as_bytes())).then(|| words.next().and_then(number))?
        });
        found.next().into()
    }
}

/// Hundredths of a percent of one core that a quota in a period allows.
fn share(quota: i64, period: i64) -> Option<i64> {
    (quota > 0 && period > 0).then(|| (i128::from(quota) * 10_000 / i128::from(period)) as i64)
}

fn limits(folder: &Path, name: &str) -> Limits {
    let limited = |file: &str| single(folder, file).filter(|limit| (0..NO_LIMIT).contains(limit));
    match name.split_once(':').filter(|_| !name.starts_with('/')) {
        None => {
            let text = read_file(&folder.join("cpu.max")).unwrap_or_default();
            let mut parts = words(text.trim_ascii()).map(number);
            let (quota, period) = (parts.next().flatten(), parts.next().flatten());
            Limits {
                cpu: quota.zip(period).and_then(|(quota, period)| share(quota, period)),
                memory: limited("memory.max"),
                high: limited("memory.high"),
                swap: limited("memory.swap.max"),
                tasks: limited("pids.max"),
            }
        }
        Some(("cpu", _)) => {
            let both = single(folder, "cpu.cfs_quota_us").zip(single(folder, "cpu.cfs_period_us"));
            Limits { cpu: both.and_then(|(quota, period)| share(quota, period)), ..Limits::default() }
        }
        Some(("memory", _)) => Limits {
            memory: limited("memory.limit_in_bytes"),
            high: limited("memory.soft_limit_in_bytes"),
            ..Limits::default()
        },
        Some(("pids", _)) => Limits { tasks: limited("pids.max"), ..Limits::default() },
        Some(_) => Limits::default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn put(folder: &Path, files: &[(&str, &str)]) {
        std::fs::create_dir_all(folder).expect("a folder");
        for (name, text) in files {
            std::fs::write(folder.join(name), text).expect("a file");
        }
    }

    #[test]
    fn groups_of_both_versions_are_read_with_what_stands_above_them() {
        let root = tempfile::tempdir().expect("a folder");
        let at = |name: &str| root.path().join(name);
        let mountinfo = format!(
            "1 0 0:1 / {0}/two rw - cgroup2 cgroup rw\n2 0 0:2 / {0}/one rw - cgroup cgroup rw,cpu,cpuacct\n\
             3 0 0:3 / {0}/old rw - cgroup cgroup rw,memory\n",
            root.path().display()
        );
        put(
            &at("two/board.slice"),
            &[
                ("memory.max", "1073741824\n"),
                ("memory.current", "900000000\n"),
                ("memory.events", "low 0\nhigh 3\nmax 7\noom 1\noom_kill 1\n"),
                ("pids.max", "max\n"),
            ],
        );
        put(
            &at("two/board.slice/web.service"),
            &[
                ("cpu.max", "50000 100000\n"),
                ("cpu.stat", "usage_usec 1500\nnr_periods 10\nnr_throttled 8\nthrottled_usec 250\n"),
                ("pids.max", "64\n"),
                ("pids.current", "60\n"),
                ("memory.max", "max\n"),
                ("io.stat", "259:0 rbytes=100 wbytes=7 rios=1\n8:0 rbytes=20 wbytes=3\n"),
            ],
        );
        put(
            &at("one/box"),
            &[
                ("cpu.cfs_quota_us", "200000\n"),
                ("cpu.cfs_period_us", "100000\n"),
                ("cpu.stat", "nr_periods 4\nnr_throttled 2\nthrottled_time 9000\n"),
                ("cpuacct.usage", "7000000\n"),
            ],
        );
        put(
            &at("old/box"),
            &[
                ("memory.limit_in_bytes", "9223372036854771712\n"),
                ("memory.soft_limit_in_bytes", "9223372036854771712\n"),
            ],
        );
        let mut groups = Groups::find(mountinfo.as_bytes());
        groups.begin();
        let names = names(b"5:cpu,cpuacct:/box\n4:memory:/box\n0::/board.slice/web.service\n");
        assert_eq!(names, ["cpu:/box", "memory:/box", "/board.slice/web.service"]);
        let limited = groups.limiting(&Text::from(names.join(" ")));
        assert_eq!(&*limited, "cpu:/box /board.slice/web.service /board.slice", "the old one has no limit");
        let mut rows = groups.rows();
        rows.sort_by(|a, b| a.path.cmp(&b.path));
        let [slice, web, old] = &rows[..] else { panic!("{rows:?}") };
        assert_eq!((slice.memory_limit, slice.memory_bytes), (Raw::new(1 << 30), Raw::new(900_000_000)));
        assert_eq!(
            (slice.at_limit, slice.oom_kills, slice.tasks_limit),
            (Raw::new(7), Raw::new(1), Raw::ABSENT)
        );
        assert_eq!(
            (web.cpu_limit, web.periods, web.throttled_periods),
            (Raw::new(5_000), Raw::new(10), Raw::new(8))
        );
        assert_eq!((web.cpu_us, web.throttled_us), (Raw::new(1500), Raw::new(250)));
        assert_eq!((web.tasks, web.tasks_limit, web.memory_limit), (Raw::new(60), Raw::new(64), Raw::ABSENT));
        assert_eq!((web.read_bytes, web.write_bytes), (Raw::new(120), Raw::new(10)));
        assert_eq!(
            (old.cpu_limit, old.cpu_us, old.throttled_us),
            (Raw::new(20_000), Raw::new(7000), Raw::new(9))
        );
    }

    #[test]
    fn groups_that_are_gone_or_nonsense_limit_nothing() {
        assert_eq!(names(b"0::/\n3:cpuset:/a\nx\n0::/gone (deleted)\n0::/../../etc\n"), [""; 0]);
        let named = names(b"0::/mine/x /system.slice/web.service\n");
        assert_eq!(named, ["/mine/x\\040/system.slice/web.service"], "a name pretends to be no other group");
        let mut groups = Groups::find(b"nonsense\n");
        groups.begin();
        assert_eq!(&*groups.limiting(&Text::from("/a/b memory:/c")), "");
        assert!(groups.rows().is_empty());
    }
}
