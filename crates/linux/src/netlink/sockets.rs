//! TCP sockets with their exact bytes, and UDP sockets, of which the kernel counts none; sock_diag(7), linux/inet_diag.h, linux/tcp.h.
//!
//! A dump gives every socket with its `tcp_info`. A notification gives the last counts of a socket that was
//! destroyed, but no inode; its cookie ties it to what an earlier dump said.

use super::listening::Listening;
use super::{
    DUMP, Message, NLMSG_DONE, NLMSG_ERROR, Received, Socket, attributes, bytes_at, messages, u32_at, u64_at,
};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use rustix::net::netlink;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

const SOCK_DIAG_BY_FAMILY: u16 = 20;
/// The older question for TCP sockets, which gives those of both families in one walk over the kernel's tables.
const TCPDIAG_GETSOCK: u16 = 18;
const AF_INET: u8 = 2;
const AF_INET6: u8 = 10;
const INET_DIAG_INFO: u16 = 2;
const INET_DIAG_SKMEMINFO: u16 = 7;
/// Place of the drops among the numbers of `INET_DIAG_SKMEMINFO`; linux/sock_diag.h.
const DROPS_AT: usize = 8 * 4;
/// Groups of destroyed TCP sockets, IPv4 and IPv6; `SKNLGRP_*` in linux/sock_diag.h.
pub(super) const DESTROYED: u32 = 1 << 0 | 1 << 2;
/// Offsets in `struct inet_diag_msg`.
const MESSAGE_BYTES: usize = 72;
const QUEUE_AT: usize = 56;
const QUEUE_MOST_AT: usize = 60;
const INODE_AT: usize = 68;
const UID_AT: usize = 64;
/// Offsets in `struct tcp_info`.
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

/// Asks for sockets and hears of destroyed ones.
pub struct Diagnostics {
    questions: Socket,
    destroyed: Option<Listening>,
    /// Whether the question for both families is refused.
    by_family: bool,
}

impl Diagnostics {
    /// Opens both sockets and tries a dump. Where notifications are refused, the last bytes of a socket that ends
    /// between two dumps are not known.
    pub fn open() -> Result<Diagnostics, Errno> {
        let questions = Socket::open(netlink::SOCK_DIAG, 0)?;
        let destroyed = Listening::start().ok();
        let mut diagnostics = Diagnostics { questions, destroyed, by_family: false };
        diagnostics.dump(Protocol::Tcp, &mut vec![])?;
        Ok(diagnostics)
    }

    /// All sockets of a protocol now.
    pub fn dump(&mut self, protocol: Protocol, sockets: &mut Vec<InetSocket>) -> Result<(), Errno> {
        sockets.clear();
        if protocol == Protocol::Tcp && !self.by_family {
            self.questions.send(TCPDIAG_GETSOCK, DUMP, &question_for_both())?;
            match self.answers(sockets) {
                Ok(()) => return Ok(()),
                Err(Errno::TIMEDOUT) => return Err(Errno::TIMEDOUT),
                Err(_) => self.by_family = true,
            }
            sockets.clear();
        }
        for family in [AF_INET, AF_INET6] {
            self.questions.send(SOCK_DIAG_BY_FAMILY, DUMP, &question(family, protocol))?;
            self.answers(sockets)?;
        }
        Ok(())
    }

    fn answers(&mut self, sockets: &mut Vec<InetSocket>) -> Result<(), Errno> {
        loop {
            let mut descriptors = [PollFd::new(&self.questions.socket, PollFlags::IN)];
            let patience = Timespec { tv_sec: 2, tv_nsec: 0 };
            if poll(&mut descriptors, Some(&patience))? == 0 {
                return Err(Errno::TIMEDOUT);
            }
            let Received::Bytes(bytes) = self.questions.receive()? else { continue };
            for message in messages(bytes) {
                match message.kind {
                    NLMSG_DONE => return Ok(()),
                    NLMSG_ERROR => return message.error().map_or(Ok(()), Err),
                    _ => sockets.extend(parse(&message)),
                }
            }
        }
    }

    /// Sockets destroyed since the last call, with their last counts; and how often notifications were lost.
    pub fn destroyed(&mut self, sockets: &mut Vec<InetSocket>) -> u64 {
        sockets.clear();
        self.destroyed.as_ref().map_or(0, |listening| listening.take(sockets))
    }
}

impl Diagnostics {
    /// Whether destroyed sockets are told.
    pub fn tells_ends(&self) -> bool {
        self.destroyed.is_some()
    }
}

const EXTENSIONS: u8 = 1 << (INET_DIAG_INFO - 1) | 1 << (INET_DIAG_SKMEMINFO - 1);

/// `struct inet_diag_req` for all states with `tcp_info`.
fn question_for_both() -> [u8; 60] {
    let mut request = [0; 60];
    (request[0], request[3]) = (AF_INET, EXTENSIONS);
    request[52..56].copy_from_slice(&u32::MAX.to_ne_bytes());
    request
}

/// `struct inet_diag_req_v2` for all states with `tcp_info`.
fn question(family: u8, protocol: Protocol) -> [u8; 56] {
    let mut request = [0; 56];
    request[0] = family;
    request[1] = protocol as u8;
    request[2] = EXTENSIONS;
    request[4..8].copy_from_slice(&u32::MAX.to_ne_bytes());
    request
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
pub(super) fn parse(message: &Message<'_>) -> Option<InetSocket> {
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
    use std::io::{Read as _, Write as _};
    use std::net::{TcpListener, TcpStream};
    use std::os::fd::AsRawFd as _;
    use std::time::{Duration, Instant};

    fn find(sockets: &[InetSocket], local: SocketAddr) -> Option<&InetSocket> {
        sockets.iter().find(|socket| socket.local == local && !socket.listens())
    }

    #[test]
    fn bytes_of_both_ends_are_exact_and_the_last_ones_come_with_the_end() {
        for host in ["127.0.0.1:0", "[::1]:0"] {
            let Ok(listener) = TcpListener::bind(host) else { continue };
            let mut client =
                TcpStream::connect(listener.local_addr().expect("an address")).expect("a connection");
            let (mut server, _) = listener.accept().expect("the other side");
            let mut diagnostics = Diagnostics::open().expect("socket diagnostics");
            client.write_all(&vec![7; 100_000]).expect("room in the buffers");
            server.read_exact(&mut vec![0; 100_000]).expect("all bytes");
            let mut sockets = vec![];
            diagnostics.dump(Protocol::Tcp, &mut sockets).expect("a dump");
            let sides = [&client, &server].map(|side| side.local_addr().expect("an address"));
            let [ours, theirs] = sides.map(|side| find(&sockets, side).expect("the socket").clone());
            assert_eq!((ours.sent, ours.received), (100_000, 0), "{host}");
            assert_eq!((theirs.sent, theirs.received), (0, 100_000), "{host}");
            assert_eq!(ours.remote, theirs.local);
            let link =
                std::fs::read_link(format!("/proc/self/fd/{}", client.as_raw_fd())).expect("a descriptor");
            assert_eq!(link.to_string_lossy(), format!("socket:[{}]", ours.inode));
            client.write_all(b"last words").expect("room");
            server.read_exact(&mut [0; 10]).expect("all bytes");
            drop((client, server));
            let (begin, mut gone) = (Instant::now(), vec![]);
            let mut ended = vec![];
            while !ended.iter().any(|socket: &InetSocket| socket.cookie == ours.cookie) {
                assert!(begin.elapsed() < Duration::from_secs(20), "no notification for {host}");
                assert_eq!(diagnostics.destroyed(&mut gone), 0);
                ended.append(&mut gone);
                std::thread::sleep(Duration::from_millis(5));
            }
            let last = ended.iter().find(|socket| socket.cookie == ours.cookie).expect("the socket");
            assert_eq!(last.sent, 100_010, "{host}");
        }
    }

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
