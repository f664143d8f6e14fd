//! Processes and what their sockets counted, as all of this folder knows them.

use crate::netlink::sockets::InetSocket;
use dozor_core::known::Raw;
use dozor_core::reading::{ProcessKey, ProcessRow};
use dozor_core::row::Row as _;
use std::sync::Arc;

/// Where a process is.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// In this namespace.
    In(i64),
    /// It may not be asked.
    Denied,
    /// It has none, or is gone.
    Nowhere,
}

/// A socket, by the number of its namespace and its cookie: older kernels count cookies in each namespace.
pub type SocketKey = (i64, u64);

/// A process of the present reading, with what is kept of it.
pub struct Member {
    pub key: ProcessKey,
    /// Its row as it was given last, with its traffic.
    pub base: Arc<ProcessRow>,
    pub place: Option<Place>,
    /// How it stood when it was given, where it had no sockets and no traffic: whether datagrams, their bytes and
    /// its namespace are known, and which that is.
    pub quiet: Option<(bool, Raw, bool, Option<Place>)>,
    /// Whether it ran since the last reading, since sockets were listed, and since holders were looked at.
    pub ran: bool,
    pub ran_since_list: bool,
    pub ran_since_look: bool,
}

impl Member {
    /// It is there at the next reading as well.
    pub fn meet(&mut self, row: &Arc<ProcessRow>) {
        // The very same row: nothing of it needs to be looked at.
        self.ran = !Arc::ptr_eq(&self.base, row);
        if self.ran {
            (self.ran_since_list, self.ran_since_look) = (true, true);
            self.base = row.clone();
        }
    }

    pub fn new(base: Arc<ProcessRow>) -> Member {
        Member {
            key: base.key(),
            base,
            place: None,
            quiet: None,
            ran: true,
            ran_since_list: true,
            ran_since_look: true,
        }
    }
}

/// What sockets counted.
#[derive(Clone, Copy, Default, Debug, PartialEq, Eq)]
pub struct Bytes {
    pub received: u64,
    pub sent: u64,
    /// Datagrams.
    pub dropped: u64,
}

impl Bytes {
    pub fn add(&mut self, other: Bytes) {
        self.received += other.received;
        self.sent += other.sent;
        self.dropped += other.dropped;
    }

    pub fn since(self, before: Bytes) -> Bytes {
        Bytes {
            received: self.received.saturating_sub(before.received),
            sent: self.sent.saturating_sub(before.sent),
            dropped: self.dropped.saturating_sub(before.dropped),
        }
    }
}

/// What a socket has counted.
pub fn counts(socket: &InetSocket) -> Bytes {
    Bytes { received: socket.received, sent: socket.sent, dropped: 0 }
}
