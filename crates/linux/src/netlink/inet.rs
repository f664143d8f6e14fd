//! One socket as the kernel describes it; linux/inet_diag.h, linux/tcp.h.

use super::{Message, attributes, bytes_at, u32_at, u64_at};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

/// Questions by family, and answers; linux/sock_diag.h.
pub const SOCK_DIAG_BY_FAMILY: u16 = 20;
/// The older question for TCP sockets, which gives those of both families in one walk over the kernel's tables.
pub const TCPDIAG_GETSOCK: u16 = 18;
/// IPv4.
pub const AF_INET: u8 = 2;
/// IPv6.
pub const AF_INET6: u8 = 10;
/// The attribute with `struct tcp_info`.
pub const INET_DIAG_INFO: u16 = 2;
/// The attribute with what its memory holds.
pub const INET_DIAG_SKMEMINFO: u16 = 7;
/// Place of the drops among the numbers of `INET_DIAG_SKMEMINFO`; linux/sock_diag.h.
const DROPS_AT: usize = 8 * 4;
/// Groups of destroyed TCP sockets, IPv4 and IPv6; `SKNLGRP_*` in linux/sock_diag.h.
pub const DESTROYED: u32 = 1 << 0 | 1 << 2;
/// Offsets in `struct inet_diag_msg`.
const MESSAGE_BYTES: usize = 72;
const QUEUE_AT: usize = 56;
const QUEUE_MOST_AT: usize = 60;
const INODE_AT: usize = 68;
const UID_AT: usize = 64;
/// Offsets in `struct tcp_info`.
const ROUND_TRIP_AT: usize = 68;
const RESENT_AT: usize = 100;
const BYTES_ACKED_AT: usize = 120;
const BYTES_RECEIVED_AT: usize = 128;
const BYTES_SENT_AT: usize = 200;
const BYTES_RETRANSMITTED_AT: usize = 208;
/// States in which the other side's end of data was received and counted as a byte; net/tcp_states.h.
const AFTER_FIN: [u8; 5] = [6, 7, 8, 9, 11];
const LISTEN: u8 = 10;
const TIME_WAIT: u8 = 6;

/// What a socket speaks; netinet/in.h.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Protocol {
    /// Streams.
    Tcp = 6,
    /// Datagrams.
    Udp = 17,
}

/// One socket.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InetSocket {
    /// Names the socket for its whole life.
    pub cookie: u64,
    /// Ties it to a descriptor; zero once nobody holds it.
    pub inode: u32,
    /// User who made it.
    pub uid: u32,
    /// State; net/tcp_states.h.
    pub state: u8,
    /// This side.
    pub local: SocketAddr,
    /// The other side.
    pub remote: SocketAddr,
    /// Bytes of data received; zero for datagrams, which are not counted.
    pub received: u64,
    /// Bytes of data sent, each counted once; zero for datagrams.
    pub sent: u64,
    /// Bytes sent again; zero for datagrams and where the kernel does not tell.
    pub again: u64,
    /// Segments sent again; nothing for datagrams and where the kernel does not tell.
    pub resent: Option<u32>,
    /// Smoothed round trip time in microseconds; nothing for datagrams.
    pub round_trip_us: Option<u32>,
    /// Connections that wait to be accepted, of a socket that listens; else bytes that wait to be read.
    pub queue: u32,
    /// Most connections that may wait to be accepted, of a socket that listens; else bytes that wait to be sent.
    pub queue_most: u32,
    /// Connections or datagrams that were dropped for want of room; nothing where the kernel does not tell.
    pub drops: Option<u32>,
}

impl InetSocket {
    /// Whether it waits for connections.
    pub fn listens(&self) -> bool {
        self.state == LISTEN
    }

    /// Whether it is only the memory of a connection that is over, which nobody holds.
    pub fn is_remembered(&self) -> bool {
        self.state == TIME_WAIT
    }
}

fn address(family: u8, bytes: [u8; 16], port: [u8; 2]) -> SocketAddr {
    let ip = if family == AF_INET {
        IpAddr::V4(Ipv4Addr::new(bytes[0], bytes[1], bytes[2], bytes[3]))
    } else {
        IpAddr::V6(Ipv6Addr::from(bytes)).to_canonical()
    };
    SocketAddr::new(ip, u16::from_be_bytes(port))
}

/// `struct inet_diag_msg` and its attributes; `None` for what is no such socket.
pub fn parse(message: &Message<'_>) -> Option<InetSocket> {
    let bytes = message.payload;
    let (family, state) = (*bytes.first()?, *bytes.get(1)?);
    if ![SOCK_DIAG_BY_FAMILY, TCPDIAG_GETSOCK].contains(&message.kind)
        || ![AF_INET, AF_INET6].contains(&family)
    {
        return None;
    }
    let cookie = u64::from(u32_at(bytes, 44)?) | u64::from(u32_at(bytes, 48)?) << 32;
    let mut socket = InetSocket {
        cookie,
        inode: u32_at(bytes, INODE_AT)?,
        uid: u32_at(bytes, UID_AT)?,
        state,
        local: address(family, bytes_at(bytes, 8)?, bytes_at(bytes, 4)?),
        remote: address(family, bytes_at(bytes, 24)?, bytes_at(bytes, 6)?),
        received: 0,
        sent: 0,
        again: 0,
        resent: None,
        round_trip_us: None,
        queue: u32_at(bytes, QUEUE_AT)?,
        queue_most: u32_at(bytes, QUEUE_MOST_AT)?,
        drops: None,
    };
    let attribute = |wanted: u16| {
        let mut all = attributes(bytes.get(MESSAGE_BYTES..).unwrap_or_default());
        all.find(|(kind, _)| *kind == wanted).map(|(_, bytes)| bytes)
    };
    socket.drops = attribute(INET_DIAG_SKMEMINFO).and_then(|memory| u32_at(memory, DROPS_AT));
    if let Some(info) = attribute(INET_DIAG_INFO) {
        let received = u64_at(info, BYTES_RECEIVED_AT).unwrap_or(0);
        // The other side's end of data is counted like a byte.
        socket.received = if AFTER_FIN.contains(&state) { received.saturating_sub(1) } else { received };
        socket.again = u64_at(info, BYTES_RETRANSMITTED_AT).unwrap_or(0);
        socket.resent = u32_at(info, RESENT_AT);
        socket.round_trip_us = u32_at(info, ROUND_TRIP_AT).filter(|time| *time > 0);
        // Acknowledged bytes count the beginning and the end of the connection too; newer kernels count what was sent.
        socket.sent = match u64_at(info, BYTES_SENT_AT).zip(u64_at(info, BYTES_RETRANSMITTED_AT)) {
            Some((sent, again)) => sent.saturating_sub(again),
            None => u64_at(info, BYTES_ACKED_AT).unwrap_or(0),
        };
    }
    Some(socket)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_broken_message_does_harm() {
        let mut payload = vec![0u8; MESSAGE_BYTES];
        payload[0] = AF_INET;
        super::super::put_attribute(INET_DIAG_INFO, &[1; 300], &mut payload);
        for cut in 0..payload.len() {
            let message = Message { kind: SOCK_DIAG_BY_FAMILY, payload: &payload[..cut] };
            assert_eq!(parse(&message).is_some(), cut >= MESSAGE_BYTES, "cut at {cut}");
        }
    }
}
