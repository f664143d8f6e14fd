//! TCP sockets with their exact bytes, and UDP sockets, of which the kernel counts none; sock_diag(7), linux/inet_diag.h, linux/tcp.h.
//!
//! A dump gives every socket with its `tcp_info`. A notification gives the last counts of a socket that was
//! destroyed, but no inode; its cookie ties it to what an earlier dump said.

pub use super::inet::{InetSocket, Protocol};

use super::inet::{
    AF_INET, AF_INET6, INET_DIAG_INFO, INET_DIAG_SKMEMINFO, SOCK_DIAG_BY_FAMILY, TCPDIAG_GETSOCK, parse,
};
use super::listening::Listening;
use super::{DUMP, NLMSG_DONE, NLMSG_ERROR, Received, Socket, messages};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use rustix::net::netlink;
use std::net::{IpAddr, SocketAddr};

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

    /// The one message that answers a question without a dump.
    fn answer_for_one(&mut self, sockets: &mut Vec<InetSocket>) -> Result<(), Errno> {
        let mut descriptors = [PollFd::new(&self.questions.socket, PollFlags::IN)];
        if poll(&mut descriptors, Some(&Timespec { tv_sec: 1, tv_nsec: 0 }))? == 0 {
            return Err(Errno::TIMEDOUT);
        }
        let Received::Bytes(bytes) = self.questions.receive()? else { return Err(Errno::AGAIN) };
        for message in messages(bytes) {
            if message.kind == NLMSG_ERROR {
                return message.error().map_or(Ok(()), Err);
            }
            sockets.extend(parse(&message));
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

/// User who holds the socket of a TCP connection of this machine that is bound to `local` and talks to `remote`; none where there is no
/// such socket here, or nobody holds it any more (then the kernel says 0, which is not root).
pub fn user_of(local: SocketAddr, remote: SocketAddr) -> Result<Option<u32>, Errno> {
    let socket = Socket::open(netlink::SOCK_DIAG, 0)?;
    let mut diagnostics = Diagnostics { questions: socket, destroyed: None, by_family: true };
    let (local, remote) = (canonical(local), canonical(remote));
    diagnostics.questions.send(SOCK_DIAG_BY_FAMILY, 0, &question_for_one(local, remote))?;
    let mut found = vec![];
    match diagnostics.answer_for_one(&mut found) {
        Ok(()) => {}
        Err(Errno::NOENT) => return Ok(None),
        Err(other) => return Err(other),
    }
    let held = |socket: &&InetSocket| socket.local == local && socket.remote == remote && socket.inode != 0;
    Ok(found.iter().find(held).map(|socket| socket.uid))
}

fn canonical(address: SocketAddr) -> SocketAddr {
    SocketAddr::new(address.ip().to_canonical(), address.port())
}

/// All states but that of sockets which have an address and neither listen nor are connected: looking for those goes through a
/// table of its own, and they have no traffic. net/tcp_states.h.
const STATES: u32 = (1 << 13) - 1;
const EXTENSIONS: u8 = 1 << (INET_DIAG_INFO - 1) | 1 << (INET_DIAG_SKMEMINFO - 1);

/// `struct inet_diag_req` for all states with `tcp_info`.
fn question_for_both() -> [u8; 60] {
    let mut request = [0; 60];
    (request[0], request[3]) = (AF_INET, EXTENSIONS);
    request[52..56].copy_from_slice(&STATES.to_ne_bytes());
    request
}

/// `struct inet_diag_req_v2` for all states with `tcp_info`.
fn question(family: u8, protocol: Protocol) -> [u8; 56] {
    let mut request = [0; 56];
    request[0] = family;
    request[1] = protocol as u8;
    request[2] = EXTENSIONS;
    request[4..8].copy_from_slice(&STATES.to_ne_bytes());
    request
}

/// `struct inet_diag_req_v2` for one connection.
fn question_for_one(local: SocketAddr, remote: SocketAddr) -> [u8; 56] {
    let mut request = question(if local.is_ipv4() { AF_INET } else { AF_INET6 }, Protocol::Tcp);
    request[2] = 0;
    request[8..10].copy_from_slice(&local.port().to_be_bytes());
    request[10..12].copy_from_slice(&remote.port().to_be_bytes());
    for (at, address) in [(12, local), (28, remote)] {
        match address.ip() {
            IpAddr::V4(ip) => request[at..at + 4].copy_from_slice(&ip.octets()),
            IpAddr::V6(ip) => request[at..at + 16].copy_from_slice(&ip.octets()),
        }
    }
    // INET_DIAG_NOCOOKIE: whichever has these addresses.
    request[48..56].fill(0xff);
    request
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Read as _, Write as _};
    use std::net::{TcpListener, TcpStream};
    use std::os::fd::AsRawFd as _;
    use std::time::{Duration, Instant};

    #[test]
    fn the_user_at_the_other_end_of_a_connection_is_told_as_long_as_it_is_held() {
        for address in ["127.0.0.1:0", "[::1]:0"] {
            let Ok(listener) = TcpListener::bind(address) else { continue };
            let client = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
            let (server, peer) = listener.accept().unwrap();
            let here = server.local_addr().unwrap();
            assert_eq!(user_of(peer, here), Ok(Some(rustix::process::geteuid().as_raw())), "{address}");
            assert_eq!(user_of(SocketAddr::new(peer.ip(), 1), here), Ok(None));
            drop(client);
            assert_eq!(user_of(peer, here), Ok(None), "a connection that nobody holds is nobody's");
        }
    }

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
}
