//! Hears of destroyed sockets all the time: a busy server closes more of them between two readings than the kernel keeps
//! notifications of.

use super::inet::{DESTROYED, InetSocket, parse};
use super::{Received, Socket, messages};
use rustix::event::{EventfdFlags, PollFd, PollFlags, eventfd, poll};
use rustix::io::Errno;
use rustix::net::netlink;
use std::os::fd::OwnedFd;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// Sockets that are kept until somebody takes them; more are lost.
const MOST: usize = 500_000;
/// Time in which notifications gather before they are read: the thread wakes no more often than that.
const GATHER: Duration = Duration::from_millis(20);

struct Heard {
    socket: Socket,
    sockets: Vec<InetSocket>,
    lost: u64,
}

/// Ends its thread when it goes.
pub struct Listening {
    heard: Arc<Mutex<Heard>>,
    end: OwnedFd,
}

fn lock(heard: &Mutex<Heard>) -> MutexGuard<'_, Heard> {
    heard.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Listening {
    /// Joins the groups and begins to listen, in the network namespace of the calling thread.
    pub fn start() -> Result<Listening, Errno> {
        let socket = Socket::open(netlink::SOCK_DIAG, DESTROYED)?;
        let end = eventfd(0, EventfdFlags::CLOEXEC)?;
        let again = |descriptor| rustix::io::fcntl_dupfd_cloexec(descriptor, 0);
        let (arrives, ended) = (again(&socket.socket)?, again(&end)?);
        let heard = Arc::new(Mutex::new(Heard { socket, sockets: vec![], lost: 0 }));
        let shared = heard.clone();
        let listen = move || {
            loop {
                let mut descriptors =
                    [PollFd::new(&arrives, PollFlags::IN), PollFd::new(&ended, PollFlags::IN)];
                let woken = poll(&mut descriptors, None);
                let ends = !descriptors[1].revents().is_empty();
                if ends || woken.is_err_and(|error| error != Errno::INTR) {
                    return;
                }
                std::thread::sleep(GATHER);
                lock(&shared).drain();
            }
        };
        std::thread::Builder::new().name("sockets".to_owned()).spawn(listen).map_err(|_| Errno::AGAIN)?;
        Ok(Listening { heard, end })
    }

    /// What was heard since the last call; and how often notifications were lost.
    pub fn take(&self, sockets: &mut Vec<InetSocket>) -> u64 {
        let mut heard = lock(&self.heard);
        heard.drain();
        std::mem::swap(sockets, &mut heard.sockets);
        heard.sockets.clear();
        std::mem::take(&mut heard.lost)
    }
}

impl Drop for Listening {
    fn drop(&mut self) {
        let _ = rustix::io::write(&self.end, &1u64.to_ne_bytes());
    }
}

impl Heard {
    /// Takes in what has arrived.
    fn drain(&mut self) {
        loop {
            match self.socket.receive() {
                Ok(Received::Bytes(bytes)) => {
                    for socket in messages(bytes).filter_map(|message| parse(&message)) {
                        if self.sockets.len() < MOST {
                            self.sockets.push(socket);
                        } else {
                            self.lost += 1;
                        }
                    }
                }
                Ok(Received::Overrun) => self.lost += 1,
                Ok(Received::Nothing) | Err(_) => return,
            }
        }
    }
}
