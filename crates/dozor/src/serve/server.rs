//! The event loop: connections with their limits. A connection has so long for its head, so much room for it, and may not stop
//! taking what it asked for; there are never more than so many.

use super::answer::{Service, answer, no_room};
use super::steady::Steady;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use std::collections::HashMap;
use std::convert::Infallible;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream, UnixListener};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::sleep;

/// Connections at once.
pub const CLIENTS: usize = 256;
/// Of these one peer may have so many: a user of this machine, or an address.
const OF_ONE: usize = CLIENTS - 32;
/// So many that find no room are told so at once; of more the connection is only closed.
const TURNED_AWAY: usize = 64;
/// Time that those have for their request.
const TURNED_AWAY_PATIENCE: Duration = Duration::from_secs(2);
/// Bytes of a request's head at most; hyper has room for at least so much.
const HEAD: usize = 16 << 10;
/// Lines of it.
const HEADERS: usize = 64;
/// Time that a head may take, and that a connection may wait for the next request.
const HEAD_PATIENCE: Duration = Duration::from_secs(10);
/// Time without progress after which who does not read is dropped.
const PATIENCE: Duration = Duration::from_secs(10);
/// Pause where the kernel gives no more connections.
const EXHAUSTED: Duration = Duration::from_millis(200);

/// Where it listens.
pub enum Listen {
    /// An address.
    Tcp(std::net::TcpListener),
    /// A socket in the file system.
    Unix(std::os::unix::net::UnixListener),
}

/// Serves.
pub struct Server {
    /// What is answered.
    pub service: Service,
}

impl Server {
    /// Serves until the process ends.
    pub fn run(self, listeners: Vec<Listen>) -> io::Result<()> {
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_io()
            .enable_time()
            .max_blocking_threads(2)
            .build()?;
        let service = Arc::new(self.service);
        let room = Arc::new(Room {
            all: Arc::new(Semaphore::new(CLIENTS)),
            turned_away: Arc::new(Semaphore::new(TURNED_AWAY)),
            by_peer: Mutex::default(),
        });
        runtime.block_on(async move {
            let mut loops = vec![];
            for listener in listeners {
                let (service, room) = (service.clone(), room.clone());
                match listener {
                    Listen::Tcp(listener) => {
                        listener.set_nonblocking(true)?;
                        let listener = TcpListener::from_std(listener)?;
                        loops.push(tokio::spawn(async move {
                            loop {
                                match listener.accept().await {
                                    Ok((stream, peer)) => {
                                        let _ = stream.set_nodelay(true);
                                        let peer = who(&stream, peer);
                                        serve(stream, peer, &service, &room);
                                    }
                                    Err(_) => sleep(EXHAUSTED).await,
                                }
                            }
                        }));
                    }
                    Listen::Unix(listener) => {
                        listener.set_nonblocking(true)?;
                        let listener = UnixListener::from_std(listener)?;
                        let own = Arc::new(service.by_file());
                        loops.push(tokio::spawn(async move {
                            loop {
                                match listener.accept().await {
                                    Ok((stream, _)) => {
                                        let user = stream.peer_cred().ok().map(|peer| peer.uid());
                                        serve(stream, Peer { ip: None, user }, &own, &room);
                                    }
                                    Err(_) => sleep(EXHAUSTED).await,
                                }
                            }
                        }));
                    }
                }
            }
            for one in loops {
                let _ = one.await;
            }
            Ok(())
        })
    }
}

/// Who is at the other end.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
struct Peer {
    /// Its address, where it is another machine or nobody's.
    ip: Option<IpAddr>,
    /// The user, where it is one of this machine.
    user: Option<u32>,
}

/// The user at the other end of a connection on this machine, by the kernel's table of sockets; else the address.
fn who(stream: &TcpStream, peer: SocketAddr) -> Peer {
    let here = stream.local_addr().ok().filter(|_| peer.ip().to_canonical().is_loopback());
    let user = here.and_then(|here| dozor_linux::netlink::sockets::user_of(peer, here).ok().flatten());
    Peer { ip: user.is_none().then(|| peer.ip()), user }
}

/// How many are connected.
struct Room {
    all: Arc<Semaphore>,
    turned_away: Arc<Semaphore>,
    by_peer: Mutex<HashMap<Peer, usize>>,
}

/// A place in the room.
struct Place {
    room: Arc<Room>,
    peer: Peer,
    _of_all: OwnedSemaphorePermit,
}

impl Room {
    fn enter(self: &Arc<Room>, peer: Peer) -> Option<Place> {
        let of_all = self.all.clone().try_acquire_owned().ok()?;
        let mut by_peer = self.by_peer.lock().unwrap_or_else(PoisonError::into_inner);
        let connected = by_peer.entry(peer).or_default();
        if *connected >= OF_ONE {
            return None;
        }
        *connected += 1;
        Some(Place { room: self.clone(), peer, _of_all: of_all })
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut by_peer = self.room.by_peer.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(connected) = by_peer.get_mut(&self.peer) {
            *connected -= 1;
            if *connected == 0 {
                by_peer.remove(&self.peer);
            }
        }
    }
}

/// Serves one connection, on its own.
fn serve<S>(stream: S, peer: Peer, service: &Arc<Service>, room: &Arc<Room>)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let builder = |patience| {
        let mut builder = http1::Builder::new();
        builder
            .timer(TokioTimer::new())
            .header_read_timeout(patience)
            .max_buf_size(HEAD)
            .max_headers(HEADERS);
        builder
    };
    let Some(place) = room.enter(peer) else {
        // It is read before it is answered: who is cut off while it sends sees no answer.
        if let Ok(place) = room.turned_away.clone().try_acquire_owned() {
            tokio::spawn(async move {
                let service = service_fn(|_| async { Ok::<_, Infallible>(no_room()) });
                let stream = TokioIo::new(Steady::new(stream, TURNED_AWAY_PATIENCE));
                let _ = builder(TURNED_AWAY_PATIENCE).serve_connection(stream, service).await;
                drop(place);
            });
        }
        return;
    };
    let service = service.clone();
    tokio::spawn(async move {
        let service = service_fn(move |request| {
            let service = service.clone();
            async move { Ok::<_, Infallible>(answer(&service, &request, peer.user).await) }
        });
        let stream = TokioIo::new(Steady::new(stream, PATIENCE));
        // What goes wrong with a connection is the client's affair.
        let _ = builder(HEAD_PATIENCE).serve_connection(stream, service).await;
        drop(place);
    });
}
