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
const TYPE_AGGR_PID: u16 = 4;
#[cfg(test)]
const TYPE_AGGR_TGID: u16 = 5;
/// Flag of a request that wants an acknowledgement.
const ACK: u16 = 4;

/// What a task used in its life.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExitRecord {
    /// Number of the task; that of the process for its first thread.
    pub pid: i64,
    /// Its parent.
    pub ppid: i64,
    /// Its name.
    pub name: Text,
    /// Its user.
    pub uid: u32,
    /// Life time, microseconds.
    pub elapsed_us: i64,
    /// CPU time in user mode, microseconds; by clock ticks, so right on average over many short tasks.
    pub user_us: i64,
    /// CPU time in the kernel, microseconds.
    pub system_us: i64,
    /// Most memory that it held, bytes.
    pub peak_bytes: i64,
    /// Bytes fetched from storage.
    pub read_bytes: i64,
    /// Bytes sent to storage.
    pub write_bytes: i64,
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
    for (kind, nested) in attributes(body) {
        // The sums of a whole group come beside the accounts of its threads; those are summed by their owner.
        if kind == TYPE_AGGR_PID {
            let stats = attributes(nested).find(|(kind, _)| *kind == TYPE_STATS);
            records.extend(stats.and_then(|(_, stats)| record(stats)));
        }
    }
}

/// `struct taskstats`; fields are only ever added behind those that are read here.
fn record(stats: &[u8]) -> Option<ExitRecord> {
    let number = |at: usize| u64_at(stats, at).and_then(|value| i64::try_from(value).ok());
    let name: [u8; 32] = bytes_at(stats, 80)?;
    let end = name.iter().position(|byte| *byte == 0).unwrap_or(name.len());
    Some(ExitRecord {
        name: clean(&name[..end]).into(),
        uid: u32_at(stats, 120)?,
        pid: i64::from(u32_at(stats, 128)?),
        ppid: i64::from(u32_at(stats, 132)?),
        elapsed_us: number(144)?,
        user_us: number(152)?,
        system_us: number(160)?,
        peak_bytes: number(200)?.saturating_mul(1024),
        read_bytes: number(248)?,
        write_bytes: number(256)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_account_is_read_and_a_short_one_is_none() {
        let mut stats = vec![0u8; 264];
        stats[80..90].copy_from_slice(b"platesolve");
        stats[128..132].copy_from_slice(&4711u32.to_ne_bytes());
        stats[152..160].copy_from_slice(&1500u64.to_ne_bytes());
        stats[200..208].copy_from_slice(&22u64.to_ne_bytes());
        let account = record(&stats).expect("an account");
        assert_eq!((&*account.name, account.pid, account.user_us), ("platesolve", 4711, 1500));
        assert_eq!(account.peak_bytes, 22 * 1024);
        for cut in 0..stats.len() {
            assert_eq!(record(&stats[..cut]), None);
        }
        let mut nested = vec![];
        put_attribute(TYPE_STATS, &stats, &mut nested);
        let mut payload = vec![0; GENERIC_HEADER];
        put_attribute(TYPE_AGGR_PID, &nested, &mut payload);
        put_attribute(TYPE_AGGR_TGID, &nested, &mut payload);
        let mut records = vec![];
        parse(&payload, &mut records);
        assert_eq!(records.len(), 1, "the group's sum is not counted beside its threads");
    }
}
