//! The files of `/sys` and of `/run`, one module each.

pub mod blocks;
pub mod cgroups;
pub mod containers;
pub mod cores;
pub mod filesystems;
pub mod freezer;
pub mod gpus;
pub mod inside;
pub mod links;
pub mod power;
pub mod sensors;
pub mod sessions;

use crate::proc::{number, read_file};
use std::path::{Path, PathBuf};

/// A file that holds one number.
fn number_in(path: &Path) -> Option<i64> {
    number(read_file(path).ok()?.trim_ascii())
}

/// A file that holds one line of text, cleaned.
fn text_in(path: &Path) -> Option<String> {
    let text = dozor_core::text::clean(read_file(path).ok()?.trim_ascii());
    (!text.is_empty()).then_some(text)
}

/// Entries of `path` whose names begin with `prefix`, in order.
fn folders(path: &Path, prefix: &str) -> Vec<PathBuf> {
    let mut found: Vec<PathBuf> = std::fs::read_dir(path)
        .into_iter()
        .flatten()
        .flatten()
        .filter(|entry| entry.file_name().to_string_lossy().starts_with(prefix))
        .map(|entry| entry.path())
        .collect();
    found.sort();
    found
}

#[cfg(test)]
pub(crate) mod tests {
    /// A made-up tree of small files.
    pub fn tree(files: &[(&str, &str)]) -> tempfile::TempDir {
        let root = tempfile::tempdir().expect("a scratch folder");
        for (path, text) in files {
            let path = root.path().join(path);
            std::fs::create_dir_all(path.parent().expect("a parent")).expect("folders");
            std::fs::write(path, text).expect("a file");
        }
        root
    }
}
