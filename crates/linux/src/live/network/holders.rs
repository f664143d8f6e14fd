//! Who holds a socket: processes by the inodes that their descriptors lead to; proc_pid_fd(5).

use super::members::Member;
use crate::proc::number;
use dozor_core::reading::ProcessKey;
use rustix::fs::{CWD, Mode, OFlags, RawDir, openat, readlinkat};
use rustix::io::Errno;
use rustix::net::{SocketType, getpeername, sockopt};
use rustix::process::{Pid, PidfdFlags, PidfdGetfdFlags, pidfd_getfd, pidfd_open};
use std::collections::{HashMap, HashSet};
use std::mem::MaybeUninit;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};

/// Holders of sockets by inode. Only the inodes that are keys are looked for.
pub type Holders = HashMap<u32, Vec<ProcessKey>>;

/// Looks for the holders of sockets among some processes.
pub fn look<'a>(proc: &Path, among: impl Iterator<Item = &'a Member>, holders: &mut Holders) {
    if holders.is_empty() {
        return;
    }
    for member in among.filter(|member| member.base.kernel.value() != Some(1)) {
        sockets_of(proc, member.key.pid, |_, inode| {
            if let Some(found) = holders.get_mut(&inode)
                && found.last() != Some(&member.key)
            {
                found.push(member.key);
            }
        });
    }
}

/// The one of several holders that bytes are counted for: of those that ran, else of all, the youngest, since who serves a
/// connection is mostly a child of who accepted it.
pub fn of_several(holders: &[ProcessKey], ran: &HashSet<ProcessKey>) -> Option<ProcessKey> {
    holders.iter().copied().max_by_key(|key| (ran.contains(key), key.start, key.pid))
}

/// Of several processes that may have done something, the one that stands for them: the only one, or the one that is the
/// parent of the others, or their common parent where it is of the same program, or the oldest where all are siblings of
/// one program. Nobody where they have nothing in common.
pub fn in_common(candidates: &[ProcessKey], members: &[Member]) -> Option<ProcessKey> {
    let find = |key: ProcessKey| {
        let at = members.binary_search_by_key(&key, |member| member.key).ok()?;
        Some(&members[at])
    };
    let by_pid = |pid: i64| {
        let at = members.partition_point(|member| member.key.pid < pid);
        members.get(at).filter(|member| member.key.pid == pid)
    };
    let known: Vec<&Member> = candidates.iter().filter_map(|key| find(*key)).collect();
    let [first, rest @ ..] = &known[..] else { return None };
    if rest.is_empty() {
        return Some(first.key);
    }
    let of = |member: &Member| member.base.ppid.value();
    let parent = known
        .iter()
        .find(|one| known.iter().all(|other| other.key == one.key || of(other) == Some(one.key.pid)));
    if let Some(parent) = parent {
        return Some(parent.key);
    }
    let siblings =
        rest.iter().all(|other| of(other) == of(first) && other.base.program == first.base.program);
    if !siblings {
        return None;
    }
    let parent = of(first).and_then(by_pid).filter(|parent| parent.base.program == first.base.program);
    parent
        .map(|parent| parent.key)
        .or_else(|| known.iter().map(|one| one.key).min_by_key(|key| (key.start, key.pid)))
}

/// Calls `each` with the descriptor and the inode of every socket that a process holds.
fn sockets_of(proc: &Path, pid: i64, mut each: impl FnMut(i32, u32)) {
    let path: PathBuf = proc.join(pid.to_string()).join("fd");
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let Ok(folder) = openat(CWD, &path, flags, Mode::empty()) else { return };
    let mut space = [MaybeUninit::uninit(); 8 << 10];
    let mut entries = RawDir::new(&folder, &mut space);
    let mut target = Vec::with_capacity(64);
    while let Some(Ok(entry)) = entries.next() {
        target.clear();
        let Ok(link) = readlinkat(&folder, entry.file_name(), target) else {
            target = Vec::with_capacity(64);
            continue;
        };
        let inode =
            link.to_bytes().strip_prefix(b"socket:[").and_then(|rest| number(rest.strip_suffix(b"]")?));
        let descriptor = number(entry.file_name().to_bytes()).and_then(|number| i32::try_from(number).ok());
        if let (Some(descriptor), Some(inode)) =
            (descriptor, inode.and_then(|inode| u32::try_from(inode).ok()))
        {
            each(descriptor, inode);
        }
        target = link.into_bytes();
    }
}

/// Sockets of a process, as descriptor and inode, that are in none of the kernel's lists that were read before: opened since,
/// or closed and held.
pub fn unlisted(proc: &Path, pid: i64, listed: &HashSet<u32>) -> Vec<(i32, u32)> {
    let mut unknown = vec![];
    sockets_of(proc, pid, |descriptor, inode| {
        if !listed.contains(&inode) {
            unknown.push((descriptor, inode));
        }
    });
    unknown
}

/// Tries to take over a descriptor between the connections that a process opens one after the other.
const TRIES: usize = 24;

/// The other side of a socket that a process has open: the descriptor is taken over for the blink of an eye, which needs the
/// right to trace the process; pidfd_getfd(2). Where it was closed in the meantime, or its connection, the next one is
/// awaited: who is hasty opens it at once. Nothing where it is no connection.
pub fn other_side(pid: i64, descriptor: i32) -> Option<SocketAddr> {
    let process = pidfd_open(Pid::from_raw(i32::try_from(pid).ok()?)?, PidfdFlags::empty()).ok()?;
    for _ in 0..TRIES {
        let address = pidfd_getfd(&process, descriptor, PidfdGetfdFlags::empty()).and_then(|socket| {
            match sockopt::socket_type(&socket)? {
                SocketType::STREAM => getpeername(&socket),
                _ => Ok(None),
            }
        });
        match address {
            Err(Errno::BADF | Errno::NOTCONN) => std::thread::yield_now(),
            Err(_) => return None,
            Ok(address) => {
                let address = SocketAddr::try_from(address?).ok()?;
                return Some(SocketAddr::new(address.ip().to_canonical(), address.port()));
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::known::Raw;
    use dozor_core::reading::ProcessRow;
    use dozor_core::row::Row as _;
    use std::sync::Arc;

    fn member(pid: i64, parent: i64, program: &str) -> Member {
        let base = Arc::new(ProcessRow {
            pid: Raw::new(pid),
            start_ticks: Raw::new(pid * 10),
            ppid: Raw::new(parent),
            program: program.into(),
            ..ProcessRow::default()
        });
        Member::new(base)
    }

    #[test]
    fn several_who_may_have_done_it_are_one_only_where_they_have_something_in_common() {
        let members = [
            member(1, 0, "init"),
            member(5, 1, "web"),
            member(6, 5, "web"),
            member(7, 5, "web"),
            member(9, 1, "db"),
        ];
        let of = |pids: &[i64]| {
            let keys: Vec<ProcessKey> =
                members.iter().filter(|m| pids.contains(&m.key.pid)).map(|m| m.base.key()).collect();
            in_common(&keys, &members).map(|key| key.pid)
        };
        assert_eq!(of(&[6]), Some(6));
        assert_eq!(of(&[5, 6, 7]), Some(5), "the parent among them");
        assert_eq!(of(&[6, 7]), Some(5), "their parent, which is of the same program");
        assert_eq!(of(&[5, 9]), None, "two programs");
        assert_eq!(of(&[]), None);
        let alone = [member(1, 0, "init"), member(6, 1, "web"), member(7, 1, "web")];
        let keys: Vec<ProcessKey> = alone[1..].iter().map(|m| m.key).collect();
        assert_eq!(in_common(&keys, &alone).map(|key| key.pid), Some(6), "the oldest sibling");
        let of_those =
            |ran: &[ProcessKey]| of_several(&keys, &ran.iter().copied().collect()).map(|key| key.pid);
        assert_eq!(of_those(&[]), Some(7), "the youngest");
        assert_eq!(of_those(&keys[..1]), Some(6), "a child that sleeps moves nothing");
    }
}
