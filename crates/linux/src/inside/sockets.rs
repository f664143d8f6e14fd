//! Sockets of a process, with their peers, queues and bytes; sock_diag(7), `proc_net(5)`, unix(7).
//!
//! Those of our own network namespace are asked for over netlink, which gives bytes. Those of another are read from the
//! process's own `net`, where the kernel gives queues and states, but no bytes.

use super::files::kind_by_name;
use super::process::{Inside, REMOVED, socket_inode, told_apart};
use crate::netlink::sockets::{Diagnostics, InetSocket, Protocol};
use crate::proc::{lines, number, read_file, words};
use dozor_core::inside::{Connection, FileKind};
use dozor_core::known::{Known, Raw};
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::{Text, clean};
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::{Duration, Instant};

/// Names of sockets that were asked for are good for so long.
const FRESH: Duration = Duration::from_secs(1);

/// States of a connection in words; net/tcp_states.h.
fn state_word(state: u8) -> &'static str {
    match state {
        1 => "established",
        2 => "connecting",
        3 => "being accepted",
        4 | 5 => "closing: waits for the other side",
        6 => "over",
        7 => "closed",
        8 => "the other side has closed",
        9 | 11 => "closing",
        10 => "listens",
        12 => "new",
        _ => "",
    }
}

/// Sockets by inode, in words, remembered for a moment.
#[derive(Default)]
pub struct Peers {
    diagnostics: Option<Diagnostics>,
    refused: bool,
    /// Names by network namespace and inode.
    names: HashMap<(u64, u64), Text>,
    asked: Option<(u64, Instant)>,
}

impl Peers {
    /// What a socket is connected to, or what it is.
    pub(super) fn name(&mut self, inside: &Inside, inode: u64) -> Text {
        let namespace = inside.namespace();
        let fresh = self.asked.is_some_and(|(of, at)| of == namespace && at.elapsed() < FRESH);
        if !self.names.contains_key(&(namespace, inode)) && !fresh {
            self.names.clear();
            for (inode, socket) in self.all(inside) {
                let name = match (&*socket.remote, &*socket.state) {
                    ("", "listens") => format!("{} {} that listens", socket.protocol, socket.local),
                    ("", _) if socket.local.is_empty() => format!("a {} socket", socket.protocol),
                    ("", _) => format!("{} {}", socket.protocol, socket.local),
                    (remote, _) => remote.to_owned(),
                };
                self.names.insert((namespace, inode), name.into());
            }
            self.asked = Some((namespace, Instant::now()));
        }
        self.names.get(&(namespace, inode)).cloned().unwrap_or_else(|| "a socket".into())
    }

    /// All sockets that the process could have, by inode.
    fn all(&mut self, inside: &Inside) -> HashMap<u64, Connection> {
        let mut found = HashMap::new();
        let own = std::fs::read_link("/proc/self/ns/net").ok();
        let its = inside.at("ns/net").and_then(std::fs::read_link).ok();
        if own == its && own.is_some() {
            self.ask(&mut found);
        }
        if found.is_empty() {
            for (file, protocol) in [("tcp", "TCP"), ("tcp6", "TCP"), ("udp", "UDP"), ("udp6", "UDP")] {
                let Ok(text) = inside.at(&format!("net/{file}")).and_then(|path| read_file(&path)) else {
                    continue;
                };
                found.extend(lines(&text).skip(1).filter_map(|line| internet(line, protocol)));
            }
        }
        if let Ok(text) = inside.at("net/unix").and_then(|path| read_file(&path)) {
            found.extend(lines(&text).skip(1).filter_map(unix));
        }
        found
    }

    fn ask(&mut self, found: &mut HashMap<u64, Connection>) {
        if self.diagnostics.is_none() && !self.refused {
            self.diagnostics = Diagnostics::open().ok();
            self.refused = self.diagnostics.is_none();
        }
        let Some(diagnostics) = &mut self.diagnostics else { return };
        let mut sockets = vec![];
        for protocol in [Protocol::Tcp, Protocol::Udp] {
            if diagnostics.dump(protocol, &mut sockets).is_ok() {
                found.extend(sockets.iter().map(|socket| (u64::from(socket.inode), asked(socket, protocol))));
            }
        }
    }
}

/// What netlink says of a socket.
fn asked(socket: &InetSocket, protocol: Protocol) -> Connection {
    let tcp = protocol == Protocol::Tcp;
    let connected = !socket.remote.ip().is_unspecified() || socket.remote.port() != 0;
    let counted = |count: u64| if tcp && !socket.listens() { Raw::new(count as i64) } else { Raw::ABSENT };
    Connection {
        descriptor: 0,
        protocol: if tcp { "TCP".into() } else { "UDP".into() },
        local: socket.local.to_string().into(),
        remote: if connected { socket.remote.to_string().into() } else { "".into() },
        state: if tcp { state_word(socket.state).into() } else { "".into() },
        received: counted(socket.received),
        sent: counted(socket.sent),
        again: counted(socket.again),
        to_read: Raw::new(i64::from(socket.queue)),
        to_send: Raw::new(i64::from(socket.queue_most)),
        drops: socket.drops.map(i64::from).into(),
        round_trip_us: if tcp && connected {
            socket.round_trip_us.map(i64::from).into()
        } else {
            Raw::ABSENT
        },
    }
}

/// A line of `net/tcp` and the like; `proc_net(5)`.
fn internet(line: &[u8], protocol: &str) -> Option<(u64, Connection)> {
    let fields: Vec<&[u8]> = words(line).collect();
    let text = |at: usize| std::str::from_utf8(fields.get(at)?).ok();
    let (local, remote) = (address(text(1)?)?, address(text(2)?)?);
    let state = u8::from_str_radix(text(3)?, 16).ok()?;
    let (out, into) = text(4)?.split_once(':')?;
    let hexadecimal = |digits: &str| i64::from_str_radix(digits, 16).ok();
    let inode = u64::try_from(number(fields.get(9)?)?).ok()?;
    let connected = !remote.ip().is_unspecified() || remote.port() != 0;
    Some((
        inode,
        Connection {
            protocol: protocol.into(),
            local: local.to_string().into(),
            remote: if connected { remote.to_string().into() } else { "".into() },
            state: if protocol == "TCP" { state_word(state).into() } else { "".into() },
            to_read: hexadecimal(into).into(),
            to_send: hexadecimal(out).into(),
            drops: if protocol == "UDP" {
                fields.get(12).and_then(|word| number(word)).into()
            } else {
                Raw::ABSENT
            },
            ..Connection::default()
        },
    ))
}

/// `0100007F:1F90`: words of four bytes in the order of this machine, and the port.
fn address(text: &str) -> Option<SocketAddr> {
    let (address, port) = text.split_once(':')?;
    let port = u16::from_str_radix(port, 16).ok()?;
    let word =
        |at: usize| u32::from_str_radix(address.get(at * 8..at * 8 + 8)?, 16).ok().map(u32::to_ne_bytes);
    let ip = match address.len() {
        8 => IpAddr::V4(Ipv4Addr::from(word(0)?)),
        32 => {
            let mut bytes = [0; 16];
            for at in 0..4 {
                bytes[at * 4..at * 4 + 4].copy_from_slice(&word(at)?);
            }
            IpAddr::V6(Ipv6Addr::from(bytes)).to_canonical()
        }
        _ => return None,
    };
    Some(SocketAddr::new(ip, port))
}

/// A line of `net/unix`; unix(7).
fn unix(line: &[u8]) -> Option<(u64, Connection)> {
    let fields: Vec<&[u8]> = words(line).collect();
    let flags = i64::from_str_radix(std::str::from_utf8(fields.get(3)?).ok()?, 16).ok()?;
    let inode = u64::try_from(number(fields.get(6)?)?).ok()?;
    // SO_ACCEPTCON: it waits for connections.
    let listens = flags & 0x1_0000 != 0;
    let state = match (listens, *fields.get(5)?) {
        (true, _) => "listens",
        (false, b"03") => "established",
        (false, b"02") => "connecting",
        _ => "",
    };
    Some((
        inode,
        Connection {
            protocol: "Unix".into(),
            local: fields.get(7).map_or_else(|| "".into(), |path| clean(path).into()),
            state: state.into(),
            ..Connection::default()
        },
    ))
}

impl Inside {
    /// What a descriptor leads to, in a word for people: the path of a file, the other side of a connection.
    pub(super) fn name_of_descriptor(&self, descriptor: i64, peers: &mut Peers) -> Option<Text> {
        let path = self.at(&format!("fd/{descriptor}")).ok()?;
        let target = std::fs::read_link(path).ok()?;
        let target = target.as_os_str().as_encoded_bytes();
        match kind_by_name(target) {
            Some(FileKind::Socket(inode)) => Some(peers.name(self, inode)),
            Some(FileKind::Pipe) => Some("a pipe".into()),
            Some(FileKind::Kernel) => {
                let name = clean(target);
                let name = name.strip_prefix("anon_inode:").unwrap_or(&name);
                Some(name.trim_matches(['[', ']']).into())
            }
            _ => Some(clean(target.strip_suffix(REMOVED).unwrap_or(target)).into()),
        }
    }

    /// Number of its network namespace, 0 where that is not known; network_namespaces(7).
    fn namespace(&self) -> u64 {
        let link = self.at("ns/net").and_then(std::fs::read_link).ok();
        let number = link.as_ref().and_then(|link| {
            let text = link.to_str()?.strip_prefix("net:[")?.strip_suffix(']')?;
            text.parse().ok()
        });
        number.unwrap_or(0)
    }

    /// Its sockets by descriptor; one that is open several times stands once.
    pub(super) fn sockets(&self, peers: &mut Peers) -> Known<Vec<Connection>> {
        let entries = match told_apart(self.at("fd").and_then(std::fs::read_dir)) {
            Known::Value(entries) => entries,
            Known::Denied => return Known::Denied,
            Known::Absent => return Known::Absent,
        };
        let mut held: HashMap<u64, i64> = HashMap::new();
        for entry in entries.flatten() {
            let path = entry.path();
            let descriptor = path.file_name().and_then(|name| number(name.as_encoded_bytes()));
            let target = std::fs::read_link(&path);
            // The list may be seen by whoever may not see what is in it.
            if target.as_ref().is_err_and(|error| error.kind() == std::io::ErrorKind::PermissionDenied) {
                return Known::Denied;
            }
            let target = target.ok();
            let inode = target.and_then(|target| socket_inode(target.as_os_str().as_encoded_bytes()));
            if let (Some(descriptor), Some(inode)) = (descriptor, inode) {
                let lowest = held.entry(inode).or_insert(descriptor);
                *lowest = descriptor.min(*lowest);
            }
        }
        if held.is_empty() {
            return Known::Value(vec![]);
        }
        let mut all = peers.all(self);
        let mut sockets: Vec<Connection> = held
            .into_iter()
            .map(|(inode, descriptor)| {
                let unknown = || Connection { protocol: "other".into(), ..Connection::default() };
                Connection { descriptor, ..all.remove(&inode).unwrap_or_else(unknown) }
            })
            .collect();
        sockets.cold_sort_by_key(|socket| socket.descriptor);
        Known::Value(sockets)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_the_kernel_are_read_with_their_addresses() {
        let line = b"   0: 0100007F:1F90 0200007F:0016 01 00000010:00000020 00:00000000 00000000  1000        0 12345 1 0";
        let (inode, socket) = internet(line, "TCP").expect("a socket");
        assert_eq!(inode, 12345);
        assert_eq!((&*socket.local, &*socket.remote), ("127.0.0.1:8080", "127.0.0.2:22"));
        assert_eq!(
            (&*socket.state, socket.to_read, socket.to_send),
            ("established", Raw::new(32), Raw::new(16))
        );
        assert_eq!(socket.received, Raw::ABSENT, "these files count no bytes");
        let line = b"ffff0000: 00000002 00000000 00010000 0001 01 777 /run/night board.sock";
        let (inode, socket) = unix(line).expect("a socket");
        assert_eq!((inode, &*socket.local, &*socket.state), (777, "/run/night", "listens"));
        for broken in [&b""[..], b"x", b"0: 1:2 3", b"0: 0100007F:1F90 zz 01 1:2 0 0 0 0 1"] {
            assert!(internet(broken, "TCP").is_none());
            let _ = unix(broken);
        }
    }
}
