//! Control groups that freeze and thaw; Documentation/admin-guide/cgroup-v2.rst `cgroup.freeze`,
//! Documentation/admin-guide/cgroup-v1/freezer-subsystem.rst.

use crate::proc::{lines, read_file};
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::clean;
use std::ffi::OsStr;
use std::fs::File;
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

/// A group that can be frozen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Group {
    /// Its folder.
    pub folder: PathBuf,
    /// Its name.
    pub name: String,
    /// It is of version 1.
    pub first_version: bool,
}

impl Group {
    /// Whether it is frozen, by itself or by one above it.
    pub fn is_frozen(&self) -> bool {
        if self.first_version {
            read_file(&self.folder.join("freezer.state")).is_ok_and(|state| state.trim_ascii() != b"THAWED")
        } else {
            let events = read_file(&self.folder.join("cgroup.events")).unwrap_or_default();
            lines(&events).any(|line| line == b"frozen 1")
        }
    }

    /// Freezes or thaws it.
    pub fn set(&self, frozen: bool) -> std::io::Result<()> {
        let (mut file, text) = self.switch(frozen)?;
        file.write_all(text)
    }

    /// Its open file, and what thaws it when it is written there; none where we may not.
    pub(crate) fn thawing(&self) -> Option<(File, &'static [u8])> {
        self.switch(false).ok()
    }

    fn switch(&self, frozen: bool) -> std::io::Result<(File, &'static [u8])> {
        let (file, text): (_, &[u8]) = match (self.first_version, frozen) {
            (true, true) => ("freezer.state", b"FROZEN"),
            (true, false) => ("freezer.state", b"THAWED"),
            (false, true) => ("cgroup.freeze", b"1"),
            (false, false) => ("cgroup.freeze", b"0"),
        };
        Ok((File::options().write(true).open(self.folder.join(file))?, text))
    }

    /// Processes that are in it itself.
    pub fn members(&self) -> Vec<i64> {
        let text = read_file(&self.folder.join("cgroup.procs")).unwrap_or_default();
        lines(&text).filter_map(crate::proc::number).collect()
    }

    /// Whether it has groups below it.
    pub fn has_below(&self) -> bool {
        let mut entries = std::fs::read_dir(&self.folder).into_iter().flatten().flatten();
        entries.any(|entry| entry.file_type().is_ok_and(|kind| kind.is_dir()))
    }

    fn is_one(&self) -> bool {
        let file = if self.first_version { "freezer.state" } else { "cgroup.freeze" };
        self.folder.join(file).exists()
    }
}

/// The groups of a process that can freeze it, those of version 2 first, from the text of `proc_pid_cgroup(5)`. The root
/// cannot be frozen.
pub fn groups(sys: &Path, cgroup: &[u8]) -> Vec<Group> {
    let root = sys.join("fs/cgroup");
    let mut found = vec![];
    for line in lines(cgroup) {
        let mut parts = line.splitn(3, |byte| *byte == b':');
        let (Some(_), Some(controllers), Some(path)) = (parts.next(), parts.next(), parts.next()) else {
            continue;
        };
        let outside = path.split(|byte| *byte == b'/').any(|part| part == b"..");
        if path == b"/" || outside {
            continue;
        }
        let below = Path::new(OsStr::from_bytes(path.strip_prefix(b"/").unwrap_or(path)));
        let trees: &[&str] = match controllers {
            b"" => &["", "unified"],
            _ if controllers.split(|byte| *byte == b',').any(|name| name == b"freezer") => &["freezer"],
            _ => continue,
        };
        let of = |tree: &&str| Group {
            folder: root.join(tree).join(below),
            name: clean(path),
            first_version: !controllers.is_empty(),
        };
        found.extend(trees.iter().map(of).find(Group::is_one));
    }
    found.cold_sort_by_key(|group| group.first_version);
    found
}

/// The group that is frozen and has a process in it; none where it is not frozen.
pub fn frozen_by(sys: &Path, cgroup: &[u8]) -> Option<String> {
    groups(sys, cgroup).into_iter().find(Group::is_frozen).map(|group| group.name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn groups_of_both_versions_are_found_where_they_are_mounted() {
        let tree = crate::sys::tests::tree(&[
            ("fs/cgroup/unified/night/cgroup.freeze", "1\n"),
            ("fs/cgroup/unified/night/cgroup.events", "populated 1\nfrozen 1\n"),
            ("fs/cgroup/freezer/old/freezer.state", "THAWED\n"),
        ]);
        let text = b"5:freezer:/old\n3:cpu,cpuacct:/x\n0::/night\n";
        let found = groups(tree.path(), text);
        let names: Vec<(&str, bool)> = found.iter().map(|g| (g.name.as_str(), g.first_version)).collect();
        assert_eq!(names, [("/night", false), ("/old", true)]);
        assert_eq!(frozen_by(tree.path(), text).as_deref(), Some("/night"));
        assert_eq!(groups(tree.path(), b"0::/\n"), []);
        assert_eq!(groups(tree.path(), b"0::/../other\n"), []);
        found[1].set(true).expect("a file");
        assert!(found[1].is_frozen());
    }
}
