//! Traffic of processes: sockets with their bytes, tied to processes by inode.
//!
//! Only sockets that are new are looked for, first among the processes that ran since the last reading, then once
//! among all. What cannot be tied to a process is counted as such, never dropped.

use crate::netlink::sockets::{Diagnostics, InetSocket, Protocol};
use crate::proc::number;
use dozor_core::known::Raw;
use dozor_core::reading::{ConnectionRow, ProcessKey, ProcessRow, Reading};
use dozor_core::row::Row as _;
use rustix::fs::{CWD, Mode, OFlags, RawDir, openat, readlinkat};
use std::collections::{HashMap, HashSet};
use std::mem::MaybeUninit;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Every so many readings all processes are asked for sockets that nobody was found for.
const ASK_ALL_EVERY: u64 = 8;

/// A socket that a dump has shown.
struct Known {
    inode: u32,
    protocol: Protocol,
    owner: Option<ProcessKey>,
    received: u64,
    sent: u64,
    /// Bytes that wait for an owner.
    unowned: Bytes,
    /// How often an owner was looked for.
    searches: u8,
    /// Number of the dump that showed it last.
    seen: u64,
}

#[derive(Clone, Copy, Default, PartialEq, Eq)]
struct Bytes {
    received: u64,
    sent: u64,
}

impl Bytes {
    fn add(&mut self, other: Bytes) {
        self.received += other.received;
        self.sent += other.sent;
    }
}

/// Counts traffic by process.
#[derive(Default)]
pub struct Network {
    diagnostics: Option<Diagnostics>,
    unavailable: bool,
    dump: u64,
    sockets: HashMap<u64, Known>,
    accounts: HashMap<ProcessKey, Bytes>,
    unattributed: Bytes,
    lost: u64,
    /// Rows as they were given last, with the row that they were made from.
    given: HashMap<ProcessKey, (Arc<ProcessRow>, Arc<ProcessRow>)>,
    found: Vec<InetSocket>,
    /// Whether the last dump of UDP sockets was answered: some kernels are built without.
    datagrams_known: bool,
}

impl Network {
    /// How often notifications were lost so far.
    pub fn lost(&self) -> u64 {
        self.lost
    }

    /// Adds traffic to a reading whose processes are complete.
    pub fn complete(&mut self, proc: &Path, reading: &mut Reading) {
        if self.diagnostics.is_none() && !self.unavailable {
            self.diagnostics = Diagnostics::open().ok();
            self.unavailable = self.diagnostics.is_none();
        }
        let Some(mut diagnostics) = self.diagnostics.take() else { return };
        let mut found = std::mem::take(&mut self.found);
        if diagnostics.dump(Protocol::Tcp, &mut found).is_ok() {
            self.dump += 1;
            for socket in &found {
                self.take_in(socket, Protocol::Tcp);
            }
            reading.connections = Network::connections(&found);
            self.datagrams_known = diagnostics.dump(Protocol::Udp, &mut found).is_ok();
            if self.datagrams_known {
                for socket in &found {
                    self.take_in(socket, Protocol::Udp);
                }
            }
        }
        self.lost += diagnostics.destroyed(&mut found);
        for socket in &found {
            self.take_last(socket);
        }
        (self.found, self.diagnostics) = (found, Some(diagnostics));
        self.find_owners(proc, &reading.processes);
        for connection in &mut reading.connections {
            let cookie = connection.cookie.value().unwrap_or(-1) as u64;
            connection.pid =
                self.sockets.get(&cookie).and_then(|known| known.owner).map(|owner| owner.pid).into();
        }
        let dump = self.dump;
        self.sockets.retain(|_, known| known.seen == dump);
        self.fill(reading);
    }

    fn connections(found: &[InetSocket]) -> Vec<ConnectionRow> {
        let connected = found.iter().filter(|socket| !socket.listens());
        connected
            .map(|socket| ConnectionRow {
                local: socket.local.to_string().into(),
                remote: socket.remote.to_string().into(),
                cookie: Raw::new(socket.cookie as i64),
                pid: Raw::ABSENT,
                state: i64::from(socket.state).into(),
                in_bytes: Raw::new(socket.received as i64),
                out_bytes: Raw::new(socket.sent as i64),
            })
            .collect()
    }

    /// A socket of a dump. What it counted before the first dump is not ours to tell.
    fn take_in(&mut self, socket: &InetSocket, protocol: Protocol) {
        let first = self.dump == 1;
        let known = self.sockets.entry(socket.cookie).or_insert_with(|| Known {
            inode: socket.inode,
            protocol,
            owner: None,
            received: if first { socket.received } else { 0 },
            sent: if first { socket.sent } else { 0 },
            unowned: Bytes::default(),
            searches: 0,
            seen: 0,
        });
        known.seen = self.dump;
        if socket.inode != 0 && known.inode == 0 {
            known.inode = socket.inode;
        }
        let grown = grown(known, socket);
        match known.owner {
            Some(owner) => self.accounts.entry(owner).or_default().add(grown),
            None => known.unowned.add(grown),
        }
    }

    /// The last counts of a socket that is gone. One that no dump saw cannot be tied to a process.
    fn take_last(&mut self, socket: &InetSocket) {
        let Some(mut known) = self.sockets.remove(&socket.cookie) else {
            self.unattributed.add(Bytes { received: socket.received, sent: socket.sent });
            return;
        };
        let mut rest = grown(&mut known, socket);
        rest.add(known.unowned);
        match known.owner {
            Some(owner) => self.accounts.entry(owner).or_default().add(rest),
            None => self.unattributed.add(rest),
        }
    }

    fn find_owners(&mut self, proc: &Path, processes: &[Arc<ProcessRow>]) {
        let unknown = |known: &Known, searches: u8| {
            known.owner.is_none() && known.inode != 0 && known.searches == searches
        };
        // Asking everybody is left to now and then, so that sockets whose owner cannot be found cost little.
        let rounds = if self.dump <= 2 || self.dump.is_multiple_of(ASK_ALL_EVERY) { 2 } else { 1 };
        for round in 0..rounds {
            let mut wanted: HashMap<u32, u64> = self
                .sockets
                .iter()
                .filter(|(_, known)| unknown(known, round))
                .map(|(cookie, known)| (known.inode, *cookie))
                .collect();
            for known in self.sockets.values_mut().filter(|known| unknown(known, round)) {
                known.searches += 1;
            }
            for row in processes {
                if wanted.is_empty() {
                    break;
                }
                // Whoever made or took over a socket ran; only the second round asks everybody.
                let key = row.key();
                let ran = self.given.get(&key).is_none_or(|(base, _)| !Arc::ptr_eq(base, row));
                if round == 1 || self.dump == 1 || ran {
                    sockets_of(proc, key.pid, |inode| {
                        if let Some(cookie) = wanted.remove(&inode) {
                            self.own(cookie, key);
                        }
                    });
                }
            }
        }
        for known in self.sockets.values_mut().filter(|known| known.owner.is_none() && known.searches >= 2) {
            self.unattributed.add(std::mem::take(&mut known.unowned));
        }
    }

    fn own(&mut self, cookie: u64, owner: ProcessKey) {
        if let Some(known) = self.sockets.get_mut(&cookie) {
            known.owner = Some(owner);
            let waiting = std::mem::take(&mut known.unowned);
            self.accounts.entry(owner).or_default().add(waiting);
        }
    }

    /// Puts the accounts into the rows; a row that does not change is the one given last time.
    fn fill(&mut self, reading: &mut Reading) {
        let mut counts: HashMap<ProcessKey, [i64; 2]> = HashMap::new();
        for (owner, known) in self.sockets.values().filter_map(|known| Some((known.owner?, known))) {
            let [connections, datagrams] = counts.entry(owner).or_default();
            match known.protocol {
                Protocol::Tcp => *connections += 1,
                Protocol::Udp => *datagrams += 1,
            }
        }
        let mut given = HashMap::with_capacity(reading.processes.len());
        for row in &mut reading.processes {
            let key = row.key();
            let account = self.accounts.get(&key).copied().unwrap_or_default();
            let [count, datagrams] = counts.get(&key).copied().unwrap_or_default();
            // Whose descriptors may not be read has sockets that may not be told from others'.
            let denied =
                row.read_bytes == Raw::DENIED && count + datagrams == 0 && account == Bytes::default();
            let value = |number: i64| if denied { Raw::DENIED } else { Raw::new(number) };
            let (received, sent) = (value(account.received as i64), value(account.sent as i64));
            let count = value(count);
            let datagrams = if self.datagrams_known { value(datagrams) } else { Raw::ABSENT };
            let base = row.clone();
            let same = self.given.get(&key).filter(|(old, last)| {
                Arc::ptr_eq(old, row) && traffic_of(last) == (received, sent, count, datagrams)
            });
            if let Some((_, last)) = same {
                *row = last.clone();
            } else {
                let changed = Arc::make_mut(row);
                (changed.net_in_bytes, changed.net_out_bytes) = (received, sent);
                (changed.connections, changed.datagram_sockets) = (count, datagrams);
            }
            given.insert(key, (base, row.clone()));
        }
        self.accounts.retain(|key, _| given.contains_key(key));
        let gone: HashSet<u64> = self
            .sockets
            .iter()
            .filter(|(_, known)| known.owner.is_some_and(|owner| !given.contains_key(&owner)))
            .map(|(cookie, _)| *cookie)
            .collect();
        // A socket that outlives its process belongs to a child that took it over, or to nobody.
        for cookie in gone {
            if let Some(known) = self.sockets.get_mut(&cookie) {
                (known.owner, known.searches) = (None, 0);
            }
        }
        self.given = given;
        if self.unattributed != Bytes::default() {
            let Bytes { received, sent } = self.unattributed;
            let row = ProcessRow::unattributed(Raw::new(received as i64), Raw::new(sent as i64));
            reading.processes.insert(0, Arc::new(row));
        }
        reading.system.unattributed_in = Raw::new(self.unattributed.received as i64);
        reading.system.unattributed_out = Raw::new(self.unattributed.sent as i64);
    }
}

fn traffic_of(row: &ProcessRow) -> (Raw, Raw, Raw, Raw) {
    (row.net_in_bytes, row.net_out_bytes, row.connections, row.datagram_sockets)
}

fn grown(known: &mut Known, socket: &InetSocket) -> Bytes {
    let grown = Bytes {
        received: socket.received.saturating_sub(known.received),
        sent: socket.sent.saturating_sub(known.sent),
    };
    known.received = known.received.max(socket.received);
    known.sent = known.sent.max(socket.sent);
    grown
}

/// Calls `each` with the inode of every socket that a process holds.
fn sockets_of(proc: &Path, pid: i64, mut each: impl FnMut(u32)) {
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
        inode.and_then(|inode| u32::try_from(inode).ok()).into_iter().for_each(&mut each);
        target = link.into_bytes();
    }
}
