//! The event loop: connections with their limits. A connection has so long for its head, so much room for it, and may not stop
//! taking what it asked for; there are never more than so many.

use super::answer::{Service, answer};
use super::steady::Steady;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use std::convert::Infallible;
use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt as _};
use tokio::net::{TcpListener, UnixListener};
use tokio::sync::Semaphore;
use tokio::time::sleep;

/// Connections at once.
pub const CLIENTS: usize = 256;
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
        let room = Arc::new(Semaphore::new(CLIENTS));
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
                                    Ok((stream, _)) => {
                                        let _ = stream.set_nodelay(true);
                                        serve(stream, &service, &room);
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
                                    Ok((stream, _)) => serve(stream, &own, &room),
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

/// Serves one connection, on its own.
fn serve<S>(stream: S, service: &Arc<Service>, room: &Arc<Semaphore>)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let Ok(place) = room.clone().try_acquire_owned() else {
        tokio::spawn(async move {
            let mut stream = Steady::new(stream, Duration::from_secs(1));
            let _ = stream
                .write_all(
                    b"HTTP/1.1 503 Service Unavailable\r\nconnection: close\r\ncontent-length: 0\r\n\r\n",
                )
                .await;
        });
        return;
    };
    let service = service.clone();
    tokio::spawn(async move {
        let service = service_fn(move |request| {
            let service = service.clone();
            async move { Ok::<_, Infallible>(answer(&service, &request).await) }
        });
        let connection = http1::Builder::new()
            .timer(TokioTimer::new())
            .header_read_timeout(HEAD_PATIENCE)
            .max_buf_size(HEAD)
            .max_headers(HEADERS)
            .serve_connection(TokioIo::new(Steady::new(stream, PATIENCE)), service);
        // What goes wrong with a connection is the client's affair.
        let _ = connection.await;
        drop(place);
    });
}
