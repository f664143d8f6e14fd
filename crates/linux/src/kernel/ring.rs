//! A ring that programs in the kernel write to and that is read here; Documentation/bpf/ringbuf.rst.

use super::call;
use super::mapped::Mapped;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use std::os::fd::{AsFd as _, AsRawFd as _, BorrowedFd, OwnedFd};
use std::sync::atomic::Ordering;

/// Says of a record's length that it is not written yet, or that it was given up.
const BUSY: u32 = 1 << 31;
const DISCARDED: u32 = 1 << 30;
/// Bytes before each record; records begin at multiples of it.
const HEADER: usize = 8;

/// A ring, and how far it was read.
pub struct Ring {
    descriptor: OwnedFd,
    /// The place up to which it was read, which the kernel looks at; on a page of its own.
    read: Mapped,
    /// The place up to which it was written, and behind it on the next page the records.
    written: Mapped,
    page: usize,
    size: usize,
    record: Vec<u8>,
}

impl Ring {
    /// A new ring of so many bytes, a power of two and of whole pages.
    pub fn new(size: u32) -> Result<Ring, Errno> {
        let (descriptor, page, size) = (call::ring(size)?, rustix::param::page_size(), size as usize);
        let read = Mapped::of(descriptor.as_fd(), page, libc::PROT_READ | libc::PROT_WRITE, 0)?;
        let written = Mapped::of(descriptor.as_fd(), page + size, libc::PROT_READ, page)?;
        Ok(Ring { descriptor, read, written, page, size, record: vec![] })
    }

    /// By which programs name it.
    pub fn descriptor(&self) -> i32 {
        self.descriptor.as_raw_fd()
    }

    /// Another descriptor of it, to wait with.
    pub fn waits(&self) -> Result<OwnedFd, Errno> {
        rustix::io::fcntl_dupfd_cloexec(&self.descriptor, 0)
    }

    /// Takes all records that are there, in order.
    pub fn take(&mut self, mut see: impl FnMut(&[u8])) {
        let mut at = self.read.place().load(Ordering::Relaxed);
        let until = self.written.place().load(Ordering::Acquire);
        while at < until {
            let length = self.length(at);
            if length & BUSY != 0 {
                break;
            }
            let bytes = (length & !(BUSY | DISCARDED)) as usize;
            if bytes > self.size {
                // The kernel writes none of these.
                at = until;
                break;
            }
            if length & DISCARDED == 0 {
                self.copy(at + HEADER, bytes);
                see(&self.record);
            }
            at += (HEADER + bytes).next_multiple_of(HEADER);
        }
        self.read.place().store(at, Ordering::Release);
    }

    /// The length of the record at a place.
    fn length(&self, at: usize) -> u32 {
        // Records are aligned, and places are taken within the ring's size.
        self.written.half(self.page + at % self.size)
    }

    /// Copies so many bytes, which may go on at the ring's beginning.
    fn copy(&mut self, at: usize, bytes: usize) {
        let from = at % self.size;
        let first = bytes.min(self.size - from);
        self.record.clear();
        for (from, bytes) in [(from, first), (0, bytes - first)] {
            // SAFETY: the kernel has written these bytes and does not touch them until they are given back.
            self.record.extend_from_slice(unsafe { self.written.bytes(self.page + from, bytes) });
        }
    }
}

/// Waits until the kernel says that much is there, or the other descriptor has something; the latter is told.
pub fn wait(ring: BorrowedFd<'_>, other: BorrowedFd<'_>, longest: Timespec) -> bool {
    let mut both =
        [PollFd::from_borrowed_fd(ring, PollFlags::IN), PollFd::from_borrowed_fd(other, PollFlags::IN)];
    // Interrupted or out of time: whoever waits looks again.
    let _ = poll(&mut both, Some(&longest));
    !both[1].revents().is_empty()
}
