//! A connection that must go on: one that takes nothing of what is written to it for a while is closed.

use std::future::Future as _;
use std::io::{self, ErrorKind, IoSlice};
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Instant, Sleep, sleep};

/// A connection with a limit to how long a write may wait.
pub struct Steady<S> {
    inner: S,
    patience: Duration,
    waiting: Option<Pin<Box<Sleep>>>,
}

impl<S> Steady<S> {
    /// Closes after so long without progress.
    pub fn new(inner: S, patience: Duration) -> Steady<S> {
        Steady { inner, patience, waiting: None }
    }

    fn judged<T>(&mut self, context: &mut Context<'_>, written: Poll<io::Result<T>>) -> Poll<io::Result<T>> {
        if written.is_ready() {
            self.waiting = None;
            return written;
        }
        let patience = self.patience;
        let waiting = self.waiting.get_or_insert_with(|| Box::pin(sleep(patience)));
        if waiting.deadline() <= Instant::now() || waiting.as_mut().poll(context).is_ready() {
            return Poll::Ready(Err(ErrorKind::TimedOut.into()));
        }
        Poll::Pending
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Steady<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_read(context, buffer)
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Steady<S> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.inner).poll_write(context, bytes);
        self.judged(context, written)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        parts: &[IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.inner).poll_write_vectored(context, parts);
        self.judged(context, written)
    }

    fn is_write_vectored(&self) -> bool {
        self.inner.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let flushed = Pin::new(&mut self.inner).poll_flush(context);
        self.judged(context, flushed)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let closed = Pin::new(&mut self.inner).poll_shutdown(context);
        self.judged(context, closed)
    }
}
