//! Connections that came and went between two readings: their end names addresses and bytes, but no process.
//!
//! Whoever alone listens on the port through which a connection came in served it. Who opened one is told by connections to the
//! same address that a reading did see, where they were those of one process.

use super::members::{Bytes, SocketKey};
use crate::netlink::sockets::InetSocket;
use dozor_core::reading::ProcessKey;
use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, SocketAddr};

/// Readings for which bytes wait for somebody to be found.
const WAIT: u64 = 8;
/// Readings for which a process counts as opening connections to an address.
const OPENS: u64 = 32;
/// Addresses that are kept.
const MOST: usize = 4096;

/// To whom bytes belong.
pub enum Whose {
    /// To a process.
    Process(ProcessKey),
    /// To none that is known, but to this user where that is known.
    Nobody(Option<u32>),
}

/// Who may have had a connection.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Side {
    /// Somebody who listens at this address.
    Came(i64, SocketAddr),
    /// Somebody who opened a connection to this address.
    Went(i64, SocketAddr),
}

/// A socket that waits for connections.
struct Listener {
    at: SocketAddr,
    holders: Vec<ProcessKey>,
    /// The reading at which it ended; connections that it let in may still end.
    ended: Option<u64>,
}

/// What is known about ends and beginnings of connections.
#[derive(Default)]
pub struct Guesses {
    listeners: HashMap<SocketKey, Listener>,
    /// Those by namespace and port: a busy server ends thousands of connections between two readings.
    by_port: HashMap<(i64, u16), Vec<SocketKey>>,
    openers: HashMap<(i64, SocketAddr), HashMap<ProcessKey, u64>>,
    /// Users to whom connections to an address belonged, of those that a reading saw.
    users: HashMap<(i64, SocketAddr), HashMap<u32, u64>>,
    waiting: HashMap<Side, (Bytes, u64)>,
    /// Bytes of connections opened here that ended before a reading saw whose they were, in all.
    pub unseen: u64,
}

impl Guesses {
    /// A socket waits for connections at an address.
    pub fn listens(&mut self, socket: SocketKey, at: SocketAddr) {
        self.listeners.entry(socket).or_insert_with(|| {
            self.by_port.entry((socket.0, at.port())).or_default().push(socket);
            Listener { at, holders: vec![], ended: None }
        });
    }

    /// Who holds a socket that waits for connections.
    pub fn owned(&mut self, socket: SocketKey, holders: &[ProcessKey]) {
        if let Some(listener) = self.listeners.get_mut(&socket) {
            listener.holders.clear();
            listener.holders.extend_from_slice(holders);
        }
    }

    /// A socket is gone.
    pub fn ended(&mut self, socket: SocketKey, reading: u64) {
        if let Some(listener) = self.listeners.get_mut(&socket) {
            listener.ended = Some(reading);
        }
    }

    /// A process was seen to open a connection to an address.
    pub fn opens(&mut self, space: i64, remote: SocketAddr, owner: ProcessKey, reading: u64) {
        if self.openers.len() < MOST || self.openers.contains_key(&(space, remote)) {
            self.openers.entry((space, remote)).or_default().insert(owner, reading);
        }
    }

    /// A connection to an address belonged to a user.
    pub fn belongs(&mut self, space: i64, remote: SocketAddr, uid: u32, reading: u64) {
        if self.users.len() < MOST || self.users.contains_key(&(space, remote)) {
            self.users.entry((space, remote)).or_default().insert(uid, reading);
        }
    }

    /// Bytes of a connection that ended, of which no process is known.
    pub fn wait(&mut self, space: i64, socket: &InetSocket, bytes: Bytes, reading: u64) {
        if bytes == Bytes::default() {
            return;
        }
        let side = if self.listener(space, socket.local).next().is_some() {
            Side::Came(space, socket.local)
        } else {
            self.unseen += bytes.received + bytes.sent;
            Side::Went(space, socket.remote)
        };
        self.waiting.entry(side).or_insert((Bytes::default(), reading)).0.add(bytes);
    }

    /// Who listens at an address: those who named it, else those who listen at that port of every address.
    fn listener(&self, space: i64, at: SocketAddr) -> impl Iterator<Item = &Vec<ProcessKey>> {
        let fits = move |bound: IpAddr| bound == at.ip() || bound.is_unspecified();
        let there = self.by_port.get(&(space, at.port())).into_iter().flatten();
        let there = there.filter_map(|socket| self.listeners.get(socket));
        there.filter(move |listener| fits(listener.at.ip())).map(|listener| &listener.holders)
    }

    /// What has waited and whose it is; nobody's where too long, of a user where that is known.
    pub fn resolve(&mut self, reading: u64) -> Vec<(Whose, Bytes)> {
        let recent = |seen: u64| reading.saturating_sub(seen) <= OPENS;
        let before = self.listeners.len();
        self.listeners.retain(|_, listener| listener.ended.is_none_or(recent));
        if self.listeners.len() != before {
            self.by_port.retain(|_, sockets| {
                sockets.retain(|socket| self.listeners.contains_key(socket));
                !sockets.is_empty()
            });
        }
        self.users.retain(|_, users| {
            users.retain(|_, seen| recent(*seen));
            !users.is_empty()
        });
        self.openers.retain(|_, owners| {
            owners.retain(|_, seen| recent(*seen));
            !owners.is_empty()
        });
        let mut resolved = vec![];
        let mut waiting = std::mem::take(&mut self.waiting);
        waiting.retain(|side, (bytes, since)| {
            let candidates: HashSet<ProcessKey> = match side {
                Side::Came(space, at) => self.listener(*space, *at).flatten().copied().collect(),
                Side::Went(space, to) => {
                    let openers = self.openers.get(&(*space, *to));
                    openers.into_iter().flatten().map(|(owner, _)| *owner).collect()
                }
            };
            // Of several who may have had it nobody knows which one did: workers that wait at one socket serve in turns.
            let owner = candidates.iter().next().copied().filter(|_| candidates.len() == 1);
            let over = reading.saturating_sub(*since) >= WAIT;
            if let Some(owner) = owner {
                resolved.push((Whose::Process(owner), *bytes));
            } else if over {
                let users = match side {
                    Side::Went(space, to) => self.users.get(&(*space, *to)),
                    Side::Came(..) => None,
                };
                let only = users.filter(|users| users.len() == 1).and_then(|users| users.keys().next());
                resolved.push((Whose::Nobody(only.copied()), *bytes));
            }
            owner.is_none() && !over
        });
        self.waiting = waiting;
        resolved
    }
}
