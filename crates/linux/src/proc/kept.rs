//! Files of `/proc` that are read again and again: they stay open.

use super::read_file;
use crate::Roots;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{CWD, Mode, OFlags, openat};
use std::collections::HashMap;
use std::os::fd::OwnedFd;
use std::path::PathBuf;

/// A file that is not there is looked for every so many times that it is asked for: a module may be loaded that brings it.
const ABSENT_TURN: u32 = 8;

/// An open file and room for what it says.
struct File {
    file: OwnedFd,
    text: Vec<u8>,
}

/// Files below `/proc` by their names. Those of a made-up tree are opened anew each time: somebody may put others in their place.
pub struct Kept {
    proc: PathBuf,
    is_here: bool,
    files: HashMap<&'static str, File>,
    /// Those that are not there, and how often they are taken for that without looking.
    absent: HashMap<&'static str, u32>,
    other: Vec<u8>,
}

impl Kept {
    /// Nothing is opened yet.
    pub fn new(roots: &Roots) -> Kept {
        let is_here = roots.proc == Roots::default().proc;
        Kept {
            proc: roots.proc.clone(),
            is_here,
            files: HashMap::new(),
            absent: HashMap::new(),
            other: vec![],
        }
    }

    /// What a list of mounts says if it changed since this was asked last, which the kernel tells whoever waits for it;
    /// proc_pid_mounts(5).
    pub fn read_if_changed(&mut self, name: &'static str) -> Option<&[u8]> {
        let changed = self.files.get(name).is_none_or(|file| {
            let mut waits = [PollFd::new(&file.file, PollFlags::PRI)];
            let told = poll(&mut waits, Some(&Timespec { tv_sec: 0, tv_nsec: 0 }));
            told.is_err() || waits[0].revents().intersects(PollFlags::PRI | PollFlags::ERR)
        });
        // Nothing of a made-up tree is kept, so it counts as changed.
        changed.then(|| self.read(name))
    }

    /// What a file says now; nothing where it is not there.
    pub fn read(&mut self, name: &'static str) -> &[u8] {
        if !self.is_here {
            self.other = read_file(&self.proc.join(name)).unwrap_or_default();
            return &self.other;
        }
        if !self.files.contains_key(name) {
            if let Some(left @ 1..) = self.absent.get_mut(name) {
                *left -= 1;
                return &[];
            }
            let flags = OFlags::RDONLY | OFlags::CLOEXEC;
            let Ok(file) = openat(CWD, self.proc.join(name), flags, Mode::empty()) else {
                self.absent.insert(name, ABSENT_TURN);
                return &[];
            };
            self.files.insert(name, File { file, text: vec![0; 4 << 10] });
        }
        let Some(File { file, text }) = self.files.get_mut(name) else { return &[] };
        let mut filled = 0;
        loop {
            if filled == text.len() {
                text.resize(2 * filled, 0);
            }
            match rustix::io::pread(&*file, &mut text[filled..], filled as u64) {
                Ok(0) => break,
                Ok(got) => filled += got,
                Err(rustix::io::Errno::INTR) => {}
                // What was read of it is not whole.
                Err(_) => {
                    filled = 0;
                    break;
                }
            }
        }
        &text[..filled]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_kept_file_says_what_a_fresh_one_says() {
        let mut kept = Kept::new(&Roots::default());
        for name in ["version", "filesystems", "net/protocols", "kallsyms"] {
            let fresh = read_file(&Roots::default().proc.join(name)).unwrap_or_default();
            // Programs that are loaded meanwhile have names at the end of a long one.
            let same = fresh.len().min(256 << 10);
            for _ in 0..2 {
                assert!(kept.read(name).get(..same) == Some(&fresh[..same]), "{name}");
            }
        }
        assert!(kept.read("no such file").is_empty());
    }

    #[test]
    fn a_list_of_mounts_is_read_again_when_it_changed() {
        const LIST: &str = "self/mountinfo";
        let mut kept = Kept::new(&Roots::default());
        assert!(kept.read_if_changed(LIST).is_some());
        let place = tempfile::tempdir().expect("a folder");
        let run = |mut command: std::process::Command| {
            command.arg(place.path()).status().is_ok_and(|status| status.success())
        };
        let mut mount = std::process::Command::new("mount");
        mount.args(["-t", "tmpfs", "dozor-test"]);
        if !run(mount) {
            println!("not tested here: nothing may be mounted");
            return;
        }
        let said = kept.read_if_changed(LIST).map(|text| String::from_utf8_lossy(text).into_owned());
        let gone = run(std::process::Command::new("umount"));
        assert!(said.is_some_and(|text| text.contains(&*place.path().to_string_lossy())));
        let said = kept.read_if_changed(LIST).map(|text| String::from_utf8_lossy(text).into_owned());
        assert!(gone && said.is_some_and(|text| !text.contains(&*place.path().to_string_lossy())));
        // Others may mount something at any time, but not always.
        assert!((0..100).any(|_| kept.read_if_changed(LIST).is_none()));
    }

    #[test]
    fn of_a_made_up_tree_it_is_what_lies_there_now() {
        let tree = crate::sys::tests::tree(&[("loadavg", "1")]);
        let mut kept = Kept::new(&Roots { proc: tree.path().to_owned(), ..Roots::default() });
        assert_eq!(kept.read("loadavg"), b"1");
        std::fs::write(tree.path().join("new"), "2").expect("a file");
        std::fs::rename(tree.path().join("new"), tree.path().join("loadavg")).expect("in its place");
        assert_eq!(kept.read("loadavg"), b"2");
    }
}
