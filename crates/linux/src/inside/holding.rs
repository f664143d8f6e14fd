//! Who has what open: a walk over all processes; `proc_pid_fd(5)`, `proc_pid_cwd(5)`, `proc_pid_maps(5)`.

use super::files::{described, open_file};
use super::process::{Inside, REMOVED, told_apart};
use crate::Roots;
use crate::proc::{lines, number, pid_stat, pid_status, read_file, words};
use crate::users::Users;
use dozor_core::inside::holders::{Hold, Holders, Place, Way};
use dozor_core::inside::{FileKind, OpenFile};
use dozor_core::known::{Known, Raw};
use dozor_core::reading::ProcessKey;
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::{Text, clean, without_number};
use rustix::fs::{AtFlags, CWD, FileType, StatxFlags, makedev, statx};
use std::collections::HashSet;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

/// More is not kept.
const MOST: usize = 200_000;

/// What a path means: a mount point all that is on it, a folder all below it, a device node all on the device, a file itself.
///
/// # Errors
/// Why the path cannot be looked at, in words.
pub fn place_of(path: &Path) -> Result<Place, String> {
    let shown = clean(path.as_os_str().as_bytes());
    let flags = StatxFlags::BASIC_STATS | StatxFlags::MNT_ID;
    let seen = statx(CWD, path, AtFlags::STATX_DONT_SYNC, flags)
        .map_err(|error| format!("{shown}: {}", without_number(&error)))?;
    let device = makedev(seen.stx_dev_major, seen.stx_dev_minor);
    Ok(match FileType::from_raw_mode(u32::from(seen.stx_mode)) {
        FileType::BlockDevice => Place::Device(makedev(seen.stx_rdev_major, seen.stx_rdev_minor)),
        FileType::Directory => {
            let real = std::fs::canonicalize(path)
                .map_err(|error| format!("{shown}: {}", without_number(&error)))?;
            let real = clean(real.as_os_str().as_bytes());
            if is_mount_point(&seen) {
                Place::Mount(seen.stx_mnt_id as i64, device, real)
            } else {
                Place::Below(real)
            }
        }
        _ => Place::File(device, seen.stx_ino),
    })
}

/// Whether something is mounted there; statx(2) `STATX_ATTR_MOUNT_ROOT`.
fn is_mount_point(seen: &rustix::fs::Statx) -> bool {
    seen.stx_attributes.bits() & u64::from(libc::STATX_ATTR_MOUNT_ROOT as u32) != 0
}

/// Who is at a place.
pub fn holders(roots: &Roots, place: &Place) -> Holders {
    let mut found = Holders::default();
    let mut users = Users::default();
    for entry in std::fs::read_dir(&roots.proc).into_iter().flatten().flatten() {
        let Some(pid) = number(entry.file_name().as_encoded_bytes()) else { continue };
        let Some((key, name)) = who(&entry.path(), pid) else { continue };
        let inside = Inside::of(roots, key);
        let status = inside.file("status").value().unwrap_or_default();
        let user = pid_status::parse(&status).uid.map_or_else(|| Text::from(""), |uid| users.name(uid));
        match of_process(&inside, place) {
            Known::Value(list) => {
                found.looked += 1;
                found.list.extend(list.into_iter().map(|(way, file, mount, special)| Hold {
                    key,
                    name: name.clone(),
                    user: user.clone(),
                    way,
                    file,
                    mount,
                    special,
                }));
            }
            Known::Denied => found.denied += 1,
            Known::Absent => {}
        }
        if found.list.len() >= MOST {
            found.list.truncate(MOST);
            found.cut = true;
            break;
        }
    }
    found.list.cold_sort_by_key(|hold| (hold.key.pid, hold.way, hold.file.descriptor));
    found
}

fn who(folder: &Path, pid: i64) -> Option<(ProcessKey, Text)> {
    let stat = read_file(&folder.join("stat")).ok()?;
    let stat = pid_stat::parse(&stat, 1)?;
    // Threads of the kernel hold nothing in this sense.
    (!stat.is_kernel_thread).then(|| (ProcessKey { pid, start: stat.start_ticks }, clean(stat.name).into()))
}

type Found = (Way, OpenFile, Raw, u64);

fn of_process(inside: &Inside, place: &Place) -> Known<Vec<Found>> {
    let entries = match told_apart(inside.at("fd").and_then(std::fs::read_dir)) {
        Known::Value(entries) => entries,
        Known::Denied => return Known::Denied,
        Known::Absent => return Known::Absent,
    };
    let mut found: Vec<Found> = vec![];
    let fits = |(way, file, mount, special): &Found| {
        let hold = Hold {
            key: ProcessKey { pid: 0, start: 0 },
            name: "".into(),
            user: "".into(),
            way: *way,
            file: file.clone(),
            mount: *mount,
            special: *special,
        };
        place.has(&hold)
    };
    for entry in entries.flatten() {
        let path = entry.path();
        let target = match std::fs::read_link(&path) {
            Ok(target) => target,
            // The list may be seen by whoever may not see what is in it.
            Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => return Known::Denied,
            Err(_) => continue,
        };
        let Some(descriptor) = number(entry.file_name().as_encoded_bytes()) else { continue };
        let target = target.as_os_str().as_bytes();
        // What has no name in the file system is no place.
        if !target.starts_with(b"/") {
            continue;
        }
        let (mut file, mount, special) = described(&path, descriptor, target);
        let hold = (Way::Open, file.clone(), mount, special);
        if fits(&hold) {
            let info = inside.at(&format!("fdinfo/{descriptor}")).and_then(|path| read_file(&path));
            let whole = open_file(descriptor, &path, target, &info.unwrap_or_default());
            (file.offset, file.flags) = (whole.offset, whole.flags);
            found.push((Way::Open, file, mount, special));
        }
    }
    let mut program = (0, 0);
    for (name, way) in [("cwd", Way::Directory), ("root", Way::Root), ("exe", Way::Program)] {
        let Ok(path) = inside.at(name) else { continue };
        let Ok(target) = std::fs::read_link(&path) else { continue };
        let (file, mount, special) = described(&path, -1, target.as_os_str().as_bytes());
        if way == Way::Program {
            program = file.identity;
        }
        // That it sees the whole tree is nothing that it holds.
        let usual_root = way == Way::Root && file.target == "/";
        let hold = (way, file, mount, special);
        if !usual_root && fits(&hold) {
            found.push(hold);
        }
    }
    if *place != Place::All {
        let maps = inside.file("maps").value().unwrap_or_default();
        let open: HashSet<(u64, u64)> = found.iter().map(|(_, file, ..)| file.identity).collect();
        let mapped = mapped(&maps)
            .into_iter()
            .filter(|file| file.identity != program && !open.contains(&file.identity));
        found.extend(mapped.map(|file| (Way::Mapped, file, Raw::ABSENT, 0)).filter(fits));
    }
    Known::Value(found)
}

/// Files that are mapped, each once.
fn mapped(maps: &[u8]) -> Vec<OpenFile> {
    let mut seen = HashSet::new();
    let one = |line: &[u8]| {
        let mut fields = words(line);
        let (device, inode) = (fields.nth(3)?, number(fields.next()?)?);
        let (major, minor) = std::str::from_utf8(device).ok()?.split_once(':')?;
        let part = |digits: &str| u32::from_str_radix(digits, 16).ok();
        let identity = (makedev(part(major)?, part(minor)?), u64::try_from(inode).ok()?);
        let path = line.get(line.iter().position(|byte| *byte == b'/')?..)?;
        if identity.1 == 0 || !seen.insert(identity) {
            return None;
        }
        let kept = path.strip_suffix(REMOVED);
        Some(OpenFile {
            descriptor: -1,
            target: clean(kept.unwrap_or(path)),
            kind: FileKind::File,
            offset: Raw::ABSENT,
            size: Raw::ABSENT,
            holds: Raw::ABSENT,
            identity,
            flags: Raw::ABSENT,
            removed: kept.is_some(),
        })
    };
    lines(maps).filter_map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mapped_files_are_told_once_by_device_and_inode() {
        let text = b"7f00-7f01 r--p 00000000 fe:01 77 /opt/lib one.so\n7f01-7f02 r-xp 00001000 fe:01 77 /opt/lib one.so\n\
            7f02-7f03 rw-p 00000000 00:00 0 \n7f03-7f04 rw-p 00000000 00:00 0 [heap]\n7f04-7f05 rw-s 00000000 fe:02 9 /data/x (deleted)\n";
        let found = mapped(text);
        let told: Vec<(&str, u64, bool)> =
            found.iter().map(|file| (file.target.as_str(), file.identity.1, file.removed)).collect();
        assert_eq!(told, [("/opt/lib one.so", 77, false), ("/data/x", 9, true)]);
    }

    #[test]
    fn a_path_means_what_is_there() {
        let folder = tempfile::tempdir().expect("a folder");
        let file = folder.path().join("frame");
        std::fs::write(&file, "x").expect("a file");
        assert!(matches!(place_of(&file), Ok(Place::File(..))));
        assert!(matches!(place_of(folder.path()), Ok(Place::Below(_))));
        assert!(matches!(place_of(Path::new("/proc")), Ok(Place::Mount(..))));
        assert!(place_of(&folder.path().join("missing")).expect_err("nothing there").contains("missing"));
    }
}
