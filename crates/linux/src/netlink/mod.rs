//! Netlink: sockets with their bytes, starts and ends of processes; netlink(7).
//!
//! Messages are parsed by hand with every length checked: they come from the kernel, but a parser that trusts
//! lengths is a bug in waiting.

pub mod events;
pub mod exits;
mod inet;
mod listening;
pub mod sockets;

use rustix::io::Errno;
use rustix::net::netlink::SocketAddrNetlink;
use rustix::net::{
    AddressFamily, Protocol, RecvFlags, SendFlags, SocketFlags, SocketType, bind, recv, sendto, socket_with,
    sockopt,
};
use std::os::fd::OwnedFd;

/// Bytes of a message's header, of an attribute's header, and what both are aligned to; linux/netlink.h.
const HEADER: usize = 16;
const ATTRIBUTE: usize = 4;
const ALIGN: usize = 4;
/// Types and flags of messages; linux/netlink.h.
const NLMSG_ERROR: u16 = 2;
const NLMSG_DONE: u16 = 3;
const REQUEST: u16 = 1;
const DUMP: u16 = 0x300;
/// Room for notifications that come faster than they are read.
const RECEIVE_BUFFER: usize = 8 << 20;

/// A netlink socket that does not block.
pub struct Socket {
    socket: OwnedFd,
    buffer: Vec<u8>,
}

/// What stands in the socket.
pub enum Received<'a> {
    /// One or more messages.
    Bytes(&'a [u8]),
    /// Messages were lost because they came faster than they were read.
    Overrun,
    /// Nothing more at the moment.
    Nothing,
}

impl Socket {
    /// Opens a socket and joins groups by their bits.
    pub fn open(protocol: Protocol, groups: u32) -> Result<Socket, Errno> {
        let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
        let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, flags, Some(protocol))?;
        bind(&socket, &SocketAddrNetlink::new(0, groups))?;
        // Beyond the usual limit where that is permitted, up to it otherwise.
        if sockopt::set_socket_recv_buffer_size_force(&socket, RECEIVE_BUFFER).is_err() {
            let _ = sockopt::set_socket_recv_buffer_size(&socket, RECEIVE_BUFFER);
        }
        Ok(Socket { socket, buffer: vec![0; 256 << 10] })
    }

    /// Sends a message to the kernel.
    pub fn send(&self, kind: u16, flags: u16, payload: &[u8]) -> Result<(), Errno> {
        let mut message = Vec::with_capacity(HEADER + payload.len());
        message.extend(((HEADER + payload.len()) as u32).to_ne_bytes());
        message.extend(kind.to_ne_bytes());
        message.extend((REQUEST | flags).to_ne_bytes());
        message.extend([0; 8]);
        message.extend(payload);
        sendto(&self.socket, &message, SendFlags::empty(), &SocketAddrNetlink::new(0, 0)).map(drop)
    }

    /// What has arrived, without waiting.
    pub fn receive(&mut self) -> Result<Received<'_>, Errno> {
        match recv(&self.socket, &mut self.buffer[..], RecvFlags::DONTWAIT) {
            Ok((0, _)) | Err(Errno::AGAIN | Errno::INTR) => Ok(Received::Nothing),
            Ok((got, _)) => Ok(Received::Bytes(&self.buffer[..got.min(self.buffer.len())])),
            Err(Errno::NOBUFS) => Ok(Received::Overrun),
            Err(error) => Err(error),
        }
    }
}

/// One message: its type and what is behind its header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Message<'a> {
    /// Type.
    pub kind: u16,
    /// Behind the header.
    pub payload: &'a [u8],
}

impl Message<'_> {
    /// The error that the kernel answers with; `None` for an acknowledgement and for other messages.
    pub fn error(&self) -> Option<Errno> {
        let code = i32::from_ne_bytes(bytes_at(self.payload, 0)?);
        (self.kind == NLMSG_ERROR && code != 0).then(|| Errno::from_raw_os_error(code.wrapping_neg()))
    }
}

/// The messages in what was received; a broken length ends them.
pub fn messages(mut bytes: &[u8]) -> impl Iterator<Item = Message<'_>> {
    std::iter::from_fn(move || {
        let length = u32::from_ne_bytes(bytes_at(bytes, 0)?) as usize;
        let kind = u16::from_ne_bytes(bytes_at(bytes, 4)?);
        let payload = bytes.get(HEADER..length)?;
        bytes = bytes.get(length.next_multiple_of(ALIGN)..).unwrap_or_default();
        Some(Message { kind, payload })
    })
}

/// Attributes by type; a broken length ends them. The top bits of a type are flags.
pub fn attributes(mut bytes: &[u8]) -> impl Iterator<Item = (u16, &[u8])> {
    std::iter::from_fn(move || {
        let length = usize::from(u16::from_ne_bytes(bytes_at(bytes, 0)?));
        let kind = u16::from_ne_bytes(bytes_at(bytes, 2)?) & 0x3fff;
        let payload = bytes.get(ATTRIBUTE..length)?;
        bytes = bytes.get(length.next_multiple_of(ALIGN)..).unwrap_or_default();
        Some((kind, payload))
    })
}

/// Appends an attribute.
pub fn put_attribute(kind: u16, payload: &[u8], out: &mut Vec<u8>) {
    out.extend(((ATTRIBUTE + payload.len()) as u16).to_ne_bytes());
    out.extend(kind.to_ne_bytes());
    out.extend(payload);
    out.resize(out.len().next_multiple_of(ALIGN), 0);
}

/// Some bytes at a place.
pub fn bytes_at<const N: usize>(bytes: &[u8], at: usize) -> Option<[u8; N]> {
    bytes.get(at..at + N)?.try_into().ok()
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    bytes_at(bytes, at).map(u32::from_ne_bytes)
}

fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    bytes_at(bytes, at).map(u64::from_ne_bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_and_attributes_are_walked_and_broken_lengths_end_them() {
        let mut payload = vec![];
        put_attribute(3, b"abcde", &mut payload);
        put_attribute(7, &[1, 2, 3, 4], &mut payload);
        let found: Vec<_> = attributes(&payload).collect();
        assert_eq!(found, [(3, &b"abcde"[..]), (7, &[1, 2, 3, 4][..])]);
        for broken in [&[0u8, 0, 1, 0][..], &[200, 0, 1, 0], &[3, 0, 1, 0], &[1]] {
            assert_eq!(attributes(broken).count(), 0, "{broken:?}");
        }
        let mut bytes = 20u32.to_ne_bytes().to_vec();
        bytes.extend(NLMSG_ERROR.to_ne_bytes());
        bytes.extend([0; 10]);
        bytes.extend((-1i32).to_ne_bytes());
        let all: Vec<_> = messages(&bytes).collect();
        assert_eq!(all.len(), 1);
        assert_eq!(all[0].error(), Some(Errno::PERM));
        for cut in 0..bytes.len() {
            assert_eq!(messages(&bytes[..cut]).count(), 0);
        }
    }
}
