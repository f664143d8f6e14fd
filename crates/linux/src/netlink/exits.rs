//! Accounts of tasks that ended: taskstats; Documentation/accounting/taskstats.rst.

use super::{Received, Socket, attributes, bytes_at, messages, put_attribute, u32_at, u64_at};
use dozor_core::text::{Text, clean};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use rustix::net::netlink;

/// Generic netlink's own family and its question for another; linux/genetlink.h.
const CONTROL: u16 = 16;
const GET_FAMILY: u8 = 3;
const FAMILY_ID: u16 = 1;
const FAMILY_NAME: u16 = 2;
/// Bytes of `struct genlmsghdr`.
const GENERIC_HEADER: usize = 4;
/// Commands and attributes; linux/taskstats.h.
const GET: u8 = 1;
const REGISTER_CPUMASK: u16 = 3;
const TYPE_STATS: u16 = 3;
const TYPE_PID: u16 = 1;
const TYPE_AGGR_PID: u16 = 4;
const TYPE_AGGR_TGID: u16 = 5;
/// Flag of the account of the last thread of a process, since version 12; linux/acct.h.
const AGROUP: u8 = 0x20;
/// CPU time from which on the scheduler's clock is taken, microseconds.
pub const MANY_TICKS_US: i64 = 100_000;
/// Version from which on an account names its process and tells which is the last.
const TELLS_GROUP: u16 = 12;
/// Flag of a request that wants an acknowledgement.
const ACK: u16 = 4;

/// What a task used in its life.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ExitRecord {
    /// Number of the task; that of the process for its first thread.
    pub tid: i64,
    /// Process that it was a thread of; nothing before version 12.
    pub pid: Option<i64>,
    /// Whether it was the last thread of its process; nothing before version 12.
    pub last: Option<bool>,
    /// Its parent.
    pub ppid: i64,
    /// Its name.
    pub name: Text,
    /// Its user.
    pub uid: u32,
    /// Life time, microseconds.
    pub elapsed_us: i64,
    /// CPU time in user mode, microseconds.
    pub user_us: i64,
    /// CPU time in the kernel, microseconds.
    pub system_us: i64,
    /// CPU time of all threads that the process ever had, microseconds; only with the last of several.
    pub group_us: Option<i64>,
    /// Most memory that it held, bytes.
    pub peak_bytes: i64,
    /// Bytes fetched from storage, of whole KiB.
    pub read_bytes: i64,
    /// Bytes that it made dirty, of whole KiB.
    pub write_bytes: i64,
    /// Bytes of dirty pages that it dropped before they were written, of whole KiB.
    pub cancelled_bytes: i64,
    /// Bytes handed to write calls, of whole KiB.
    pub write_any_bytes: i64,
    /// Write calls.
    pub write_calls: i64,
    /// Bytes returned by read calls, of whole KiB.
    pub read_any_bytes: i64,
}

/// Hears of accounts.
pub struct Exits(Socket);

impl Exits {
    /// Registers for all cores; needs `CAP_NET_ADMIN` and a kernel with taskstats.
    pub fn open() -> Result<Exits, Errno> {
        let mut socket = Socket::open(netlink::GENERIC, 0)?;
        let mut question = vec![GET_FAMILY, 1, 0, 0];
        put_attribute(FAMILY_NAME, b"TASKSTATS\0", &mut question);
        socket.send(CONTROL, 0, &question)?;
        let family = answer(&mut socket, |payload| {
            let (_, id) = attributes(payload.get(GENERIC_HEADER..)?).find(|(kind, _)| *kind == FAMILY_ID)?;
            bytes_at(id, 0).map(u16::from_ne_bytes)
        })?
        .ok_or(Errno::NOENT)?;
        let cores = std::fs::read("/sys/devices/system/cpu/possible").unwrap_or_else(|_| b"0".to_vec());
        let mut cores = cores.trim_ascii().to_vec();
        cores.push(0);
        let mut register = vec![GET, 1, 0, 0];
        put_attribute(REGISTER_CPUMASK, &cores, &mut register);
        socket.send(family, ACK, &register)?;
        answer(&mut socket, |_| Some(()))?;
        Ok(Exits(socket))
    }

    /// Accounts since the last call, in order; and how often some were lost.
    pub fn take(&mut self, records: &mut Vec<ExitRecord>) -> u64 {
        records.clear();
        let mut overruns = 0;
        loop {
            match self.0.receive() {
                Ok(Received::Bytes(bytes)) => {
                    for message in messages(bytes) {
                        parse(message.payload, records);
                    }
                }
                Ok(Received::Overrun) => overruns += 1,
                Ok(Received::Nothing) | Err(_) => return overruns,
            }
        }
    }
}

/// Waits for the answer to a question, or for the kernel's refusal.
fn answer<T>(socket: &mut Socket, read: impl Fn(&[u8]) -> Option<T>) -> Result<Option<T>, Errno> {
    let mut descriptors = [PollFd::new(&socket.socket, PollFlags::IN)];
    if poll(&mut descriptors, Some(&Timespec { tv_sec: 2, tv_nsec: 0 }))? == 0 {
        return Err(Errno::TIMEDOUT);
    }
    let Received::Bytes(bytes) = socket.receive()? else { return Ok(None) };
    for message in messages(bytes) {
        if let Some(error) = message.error() {
            return Err(error);
        }
        if let Some(found) = read(message.payload) {
            return Ok(Some(found));
        }
    }
    Ok(None)
}

fn parse(payload: &[u8], records: &mut Vec<ExitRecord>) {
    let Some(body) = payload.get(GENERIC_HEADER..) else { return };
    let part = |nested, wanted| attributes(nested).find(|(kind, _)| *kind == wanted).map(|(_, bytes)| bytes);
    let first = records.len();
    for (kind, nested) in attributes(body) {
        match kind {
            TYPE_AGGR_PID => {
                let task = part(nested, TYPE_PID).and_then(|bytes| u32_at(bytes, 0));
                records.extend(part(nested, TYPE_STATS).and_then(|stats| record(stats, task?)));
            }
            // Beside the account of the last thread stands that of the group, of which the kernel sums up the CPU time alone.
            TYPE_AGGR_TGID => {
                let record = records.get_mut(first..).and_then(<[ExitRecord]>::last_mut);
                let used = part(nested, TYPE_STATS).and_then(|stats| cpu_us(stats, shift_of(stats, None)?));
                if let (Some(record), Some(used)) = (record, used) {
                    record.group_us = Some(used);
                }
            }
            _ => {}
        }
    }
}

/// Bytes by which the fields behind the first delays are moved. One version of the kernel put new fields between the old
/// ones; the number of the task, which is known from elsewhere, tells where it is.
fn shift_of(stats: &[u8], task: Option<u32>) -> Option<usize> {
    const MOVED: u16 = 15;
    if u16::from_ne_bytes(bytes_at(stats, 0)?) != MOVED {
        return Some(0);
    }
    // The account of a group has no number; then both kinds of new fields are there.
    let Some(task) = task else { return Some(48) };
    [0, 24, 48].into_iter().find(|shift| u32_at(stats, 128 + shift) == Some(task))
}

/// CPU time in the proportion of two others.
pub fn divided(used: i64, user: i64, system: i64) -> (i64, i64) {
    let all = i128::from(user) + i128::from(system);
    let user = if all > 0 { (i128::from(used) * i128::from(user) / all) as i64 } else { used };
    (user, used - user)
}

/// CPU time by the scheduler's clock, microseconds; nothing where the kernel is built without delay accounting.
fn cpu_us(stats: &[u8], shift: usize) -> Option<i64> {
    let ns = u64_at(stats, 72 + shift).and_then(|ns| i64::try_from(ns).ok())?;
    (ns > 0).then_some(ns / 1000)
}

/// `struct taskstats`; fields are only ever added behind those that are read here, but for [`shift_of`].
fn record(stats: &[u8], task: u32) -> Option<ExitRecord> {
    let version = u16::from_ne_bytes(bytes_at(stats, 0)?);
    let shift = shift_of(stats, Some(task))?;
    let number = |at: usize| u64_at(stats, at + shift).and_then(|value| i64::try_from(value).ok());
    let name: [u8; 32] = bytes_at(stats, 80 + shift)?;
    let end = name.iter().position(|byte| *byte == 0).unwrap_or(name.len());
    // The kernel samples the two kinds at its ticks, which is right on average over many short tasks. The scheduler's clock
    // is exact but for what a task did since its last tick, so it is the better one for a task of many ticks.
    let (user, system) = (number(152)?, number(160)?);
    let (user_us, system_us) = match cpu_us(stats, shift).filter(|used| *used >= MANY_TICKS_US) {
        Some(used) => divided(used, user, system),
        None => (user, system),
    };
    let group = (version >= TELLS_GROUP).then(|| u32_at(stats, 368 + 2 * shift)).flatten();
    Some(ExitRecord {
        name: clean(&name[..end]).into(),
        uid: u32_at(stats, 120 + shift)?,
        tid: i64::from(task),
        pid: group.map(i64::from),
        last: group.and(stats.get(8)).map(|flags| flags & AGROUP != 0),
        ppid: i64::from(u32_at(stats, 132 + shift)?),
        elapsed_us: number(144)?,
        user_us,
        system_us,
        group_us: None,
        peak_bytes: number(200)?.saturating_mul(1024),
        read_any_bytes: number(216)?,
        write_any_bytes: number(224)?,
        write_calls: number(240)?,
        read_bytes: number(248)?,
        write_bytes: number(256)?,
        cancelled_bytes: number(264)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn account(version: u16, shift: usize) -> Vec<u8> {
        let mut stats = vec![0u8; 400 + 2 * shift];
        stats[0..2].copy_from_slice(&version.to_ne_bytes());
        stats[8] = AGROUP;
        stats[72 + shift..80 + shift].copy_from_slice(&250_000_000u64.to_ne_bytes());
        stats[80 + shift..90 + shift].copy_from_slice(b"platesolve");
        stats[128 + shift..132 + shift].copy_from_slice(&4711u32.to_ne_bytes());
        stats[152 + shift..160 + shift].copy_from_slice(&4000u64.to_ne_bytes());
        stats[160 + shift..168 + shift].copy_from_slice(&1000u64.to_ne_bytes());
        stats[200 + shift..208 + shift].copy_from_slice(&22u64.to_ne_bytes());
        stats[368 + 2 * shift..372 + 2 * shift].copy_from_slice(&4700u32.to_ne_bytes());
        stats
    }

    #[test]
    fn an_account_is_read_and_a_short_one_is_none() {
        for (version, shift) in [(13, 0), (15, 24), (15, 48), (16, 0)] {
            let stats = account(version, shift);
            let account = record(&stats, 4711).expect("an account");
            assert_eq!((&*account.name, account.tid, account.peak_bytes), ("platesolve", 4711, 22 * 1024));
            assert_eq!((account.user_us, account.system_us), (200_000, 50_000), "by the exact sum");
            assert_eq!((account.pid, account.last), (Some(4700), Some(true)), "version {version}");
            for cut in 0..272 + shift {
                assert_eq!(record(&stats[..cut], 4711), None);
            }
        }
        let old = record(&account(11, 0), 4711).expect("an account");
        assert_eq!((old.pid, old.last), (None, None));
    }

    #[test]
    fn the_cpu_time_of_a_group_comes_with_its_last_thread() {
        let stats = account(13, 0);
        let mut nested = vec![];
        put_attribute(TYPE_PID, &4711u32.to_ne_bytes(), &mut nested);
        put_attribute(TYPE_STATS, &stats, &mut nested);
        let mut group = vec![];
        let mut sums = stats.clone();
        sums[72..80].copy_from_slice(&900_000_000u64.to_ne_bytes());
        put_attribute(TYPE_STATS, &sums, &mut group);
        let mut payload = vec![0; GENERIC_HEADER];
        put_attribute(TYPE_AGGR_PID, &nested, &mut payload);
        put_attribute(TYPE_AGGR_TGID, &group, &mut payload);
        let mut records = vec![];
        parse(&payload, &mut records);
        assert_eq!(records.len(), 1, "the group's sum is not counted beside its threads");
        assert_eq!(records[0].group_us, Some(900_000));
    }
}
