//! The package that a file came from, from the text files of dpkg; dpkg(1), deb-version(7).
//!
//! `info/PACKAGE.list` names the files of a package; it is written when the package is installed or changed, so its time is
//! that of the installation. `status` has the versions. The database of RPM is no text and is not read.

use crate::proc::lines;
use dozor_core::inside::Package;
use std::collections::HashMap;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// Larger lists are those of no program.
const LONGEST: u64 = 32 << 20;

/// Packages that were asked for, by file.
pub struct Packages {
    folder: PathBuf,
    known: HashMap<String, Option<Package>>,
}

impl Default for Packages {
    fn default() -> Packages {
        Packages { folder: "/var/lib/dpkg".into(), known: HashMap::new() }
    }
}

fn read(path: &Path) -> Option<Vec<u8>> {
    let size = std::fs::metadata(path).ok()?.len();
    if size > LONGEST { None } else { std::fs::read(path).ok() }
}

/// Names under which a database may have a file: where `/bin` leads to `/usr/bin` both are the same.
fn names(path: &str) -> Vec<String> {
    let mut names = vec![path.to_owned()];
    match path.strip_prefix("/usr/") {
        Some(rest) => names.push(format!("/{rest}")),
        None => names.push(format!("/usr{path}")),
    }
    names
}

impl Packages {
    /// The package of a file; none where no package has it or there is no such database.
    pub fn of(&mut self, path: &str) -> Option<Package> {
        if let Some(known) = self.known.get(path) {
            return known.clone();
        }
        let found = self.find(path);
        self.known.insert(path.to_owned(), found.clone());
        found
    }

    fn find(&self, path: &str) -> Option<Package> {
        let names = names(path);
        let is_it = |line: &[u8]| names.iter().any(|name| line == name.as_bytes());
        let list = std::fs::read_dir(self.folder.join("info")).ok()?.flatten().find(|entry| {
            let list = entry.path();
            list.extension().is_some_and(|end| end == "list")
                && read(&list).is_some_and(|text| lines(&text).any(is_it))
        })?;
        let name = list.path().file_stem()?.to_string_lossy().into_owned();
        // Several architectures of one package stand apart as `NAME:ARCHITECTURE`.
        let name = name.split(':').next().unwrap_or_default().to_owned();
        let version = self.version(&name)?;
        Some(Package { name, version, installed: list.metadata().ok().map(|meta| meta.mtime()) })
    }

    fn version(&self, name: &str) -> Option<String> {
        let status = read(&self.folder.join("status"))?;
        let mut is_it = false;
        for line in status.split(|byte| *byte == b'\n') {
            if let Some(other) = line.strip_prefix(b"Package: ") {
                is_it = other == name.as_bytes();
            } else if is_it && let Some(version) = line.strip_prefix(b"Version: ") {
                return Some(dozor_core::text::clean(version));
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_found_under_both_its_names_with_version_and_time() {
        let tree = crate::sys::tests::tree(&[
            ("info/night-tools:amd64.list", "/.\n/opt/night/bin/stacker\n"),
            ("info/other.list", "/bin/sh\n"),
            (
                "status",
                "Package: other\nVersion: 0.5-1\n\nPackage: night-tools\nStatus: install ok\nVersion: 4.2.1\n",
            ),
        ]);
        let mut packages = Packages { folder: tree.path().to_owned(), known: HashMap::new() };
        let found = packages.of("/opt/night/bin/stacker").expect("the package");
        assert_eq!((found.name.as_str(), found.version.as_str()), ("night-tools", "4.2.1"));
        assert!(found.installed.is_some_and(|at| at > 1_000_000_000));
        assert_eq!(packages.of("/usr/bin/sh").map(|package| package.version).as_deref(), Some("0.5-1"));
        assert_eq!(packages.of("/home/astro/own"), None);
    }
}
