//! `/proc/PID/mountinfo`; `proc_pid_mountinfo(5)`.

use super::{lines, words};
use dozor_core::reading::mount_word;
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::{Text, clean};
use std::collections::{HashMap, HashSet};
use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt as _;
use std::path::PathBuf;

/// One mount that holds files of people.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mount {
    /// Where it is, as bytes for the kernel.
    pub path: PathBuf,
    /// Where it is, cleaned for people.
    pub shown: String,
    /// Device or server.
    pub device: String,
    /// Type.
    pub kind: String,
    /// It lives on another machine.
    pub remote: bool,
    /// It can only be read: this mount, or the whole file system.
    pub read_only: bool,
}

/// Types that hold no files of people, or are full by design.
const PSEUDO: &[&str] = &[
    "autofs",
    "binder",
    "binfmt_misc",
    "bpf",
    "cgroup",
    "cgroup2",
    "configfs",
    "debugfs",
    "devpts",
    "devtmpfs",
    "efivarfs",
    "erofs",
    "fusectl",
    "hugetlbfs",
    "iso9660",
    "mqueue",
    "nsfs",
    "proc",
    "pstore",
    "ramfs",
    "rpc_pipefs",
    "securityfs",
    "selinuxfs",
    "squashfs",
    "sysfs",
    "tracefs",
];
/// Types whose files are on another machine.
const REMOTE: &[&str] = &[
    "9p",
    "afs",
    "ceph",
    "cifs",
    "fuse.sshfs",
    "gfs2",
    "glusterfs",
    "lustre",
    "nfs",
    "nfs4",
    "ocfs2",
    "smb3",
    "virtiofs",
];

/// Whether `ro` is among the options; of two that exclude each other only one stands there.
fn is_read_only(options: &[u8]) -> bool {
    options.split(|byte| *byte == b',').any(|option| option == b"ro")
}

/// All mounts with their device numbers; a mount over another hides it.
fn all(bytes: &[u8]) -> Vec<(Vec<u8>, Mount)> {
    let mut mounts: Vec<(Vec<u8>, Mount)> = vec![];
    for line in lines(bytes) {
        let fields: Vec<&[u8]> = words(line).collect();
        let Some(dash) = fields.iter().position(|field| *field == b"-") else { continue };
        let (Some(number), Some(point), Some(kind), Some(device)) =
            (fields.get(2), fields.get(4), fields.get(dash + 1), fields.get(dash + 2))
        else {
            continue;
        };
        let path = unescape(point);
        mounts.retain(|(_, mount)| mount.path.as_os_str().as_encoded_bytes() != &*path);
        let kind = clean(kind);
        let mount = Mount {
            shown: clean(&path),
            path: PathBuf::from(OsString::from_vec(path)),
            device: clean(&unescape(device)),
            remote: REMOTE.contains(&kind.as_str()),
            read_only: [fields.get(5), fields.get(dash + 3)].into_iter().flatten().any(|o| is_read_only(o)),
            kind,
        };
        mounts.push((number.to_vec(), mount));
    }
    mounts
}

/// Whether a mount holds no files of people: by its type, or because it is part of the kernel's own trees.
fn is_pseudo(mount: &Mount) -> bool {
    let in_kernel_tree = ["/proc", "/sys"].iter().any(|tree| mount.path.starts_with(tree));
    in_kernel_tree || PSEUDO.contains(&mount.kind.as_str())
}

/// Mounts that people care for, each device once.
pub fn parse(bytes: &[u8]) -> Vec<Mount> {
    let mut seen = HashSet::new();
    let of_people = all(bytes).into_iter().filter(|(_, mount)| !is_pseudo(mount));
    of_people.filter(|(number, _)| seen.insert(number.clone())).map(|(_, mount)| mount).collect()
}

/// Finds the file system of a path without touching it.
#[derive(Default)]
pub struct Places {
    /// Mount points, the longest first, and what [`parse`] calls the file system there; none for pseudo ones.
    mounts: Vec<(Vec<u8>, Option<Text>)>,
}

impl Places {
    /// Knows these mounts.
    pub fn new(bytes: &[u8]) -> Places {
        let mut names: HashMap<Vec<u8>, Text> = HashMap::new();
        let mut mounts: Vec<(Vec<u8>, Option<Text>)> = vec![];
        for (number, mount) in all(bytes) {
            // A device that is mounted twice goes by the first mount.
            let name = (!is_pseudo(&mount))
                .then(|| names.entry(number).or_insert_with(|| mount_word(&mount.shown)).clone());
            mounts.push((mount.path.into_os_string().into_vec(), name));
        }
        mounts.cold_sort_by_key(|(path, _)| std::cmp::Reverse(path.len()));
        Places { mounts }
    }

    /// The file system of an absolute path.
    pub fn of(&self, path: &[u8]) -> Option<&Text> {
        let is_below = |mount: &[u8]| {
            mount == b"/" || path.strip_prefix(mount).is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
        };
        let place = self.mounts.iter().find(|(mount, _)| path.starts_with(b"/") && is_below(mount));
        place.and_then(|(_, name)| name.as_ref())
    }
}

/// The kernel writes blanks, tabs, line ends and backslashes as `\ooo`.
pub(crate) fn unescape(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    let mut at = 0;
    while at < text.len() {
        let octal =
            text.get(at + 1..at + 4).filter(|digits| digits.iter().all(|d| (b'0'..=b'7').contains(d)));
        if let (b'\\', Some(digits)) = (text[at], octal) {
            out.push(
                digits.iter().fold(0u8, |value, digit| value.wrapping_mul(8).wrapping_add(digit - b'0')),
            );
            at += 4;
        } else {
            out.push(text[at]);
            at += 1;
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mounts_of_people_are_kept_and_pseudo_ones_hidden() {
        let text = b"22 27 0:21 / /proc rw,relatime - proc proc rw\n\
            27 1 259:1 / / rw shared:1 - ext4 /dev/nvme0n1p1 rw\n\
            28 27 259:1 /var /bound rw - ext4 /dev/nvme0n1p1 rw\n\
            30 27 0:40 / /data/two\\040words rw - nfs4 store:/frames rw\n\
            29 27 0:30 / /sys/fs/cgroup rw - tmpfs tmpfs rw\n\
            31 27 8:1 / /hidden rw - xfs /dev/sda1 rw\n\
            32 27 8:2 / /hidden rw - xfs /dev/sda2 rw\ngarbage\n\
            33 27 8:3 / /disc ro,nosuid shared:1 - xfs /dev/sda3 rw\n\
            34 27 8:4 / /broken rw,nodev - ext4 /dev/sda4 ro,errors=remount-ro\n\
            35 27 8:5 / /whole rw,nodev - ext4 /dev/sda5 rw,errors=remount-ro\n";
        let mounts = parse(text);
        let read_only: Vec<_> = mounts.iter().filter(|m| m.read_only).map(|m| m.shown.as_str()).collect();
        assert_eq!(read_only, ["/disc", "/broken"]);
        let mounts = &mounts[..3];
        let shown: Vec<_> = mounts.iter().map(|m| (m.shown.as_str(), m.device.as_str(), m.remote)).collect();
        assert_eq!(
            shown,
            [
                ("/", "/dev/nvme0n1p1", false),
                ("/data/two words", "store:/frames", true),
                ("/hidden", "/dev/sda2", false)
            ]
        );
    }

    #[test]
    fn a_path_belongs_to_the_longest_mount_and_a_bound_one_to_its_device() {
        let places = Places::new(
            b"22 27 0:21 / /proc rw - proc proc rw\n27 1 259:1 / / rw - ext4 /dev/a rw\n\
              28 27 259:2 / /data rw - ext4 /dev/b rw\n29 27 259:2 /x /bound rw - ext4 /dev/b rw\n\
              30 27 0:40 / /data/two\\040words rw - nfs4 store:/frames rw\n",
        );
        let of = |path: &[u8]| places.of(path).map(ToString::to_string);
        for (path, mount) in [
            ("/etc/hosts", Some("/")),
            ("/data", Some("/data")),
            ("/database/x", Some("/")),
            ("/bound/file", Some("/data")),
            ("/data/two words/x", Some("/data/two\\040words")),
            ("/proc/self/maps", None),
            ("socket:[12]", None),
        ] {
            assert_eq!(of(path.as_bytes()).as_deref(), mount, "{path}");
        }
    }
}
