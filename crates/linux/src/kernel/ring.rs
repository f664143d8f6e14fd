//! A ring that programs in the kernel write to and that is read here; Documentation/bpf/ringbuf.rst.

use super::call;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use std::os::fd::{AsFd as _, AsRawFd as _, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicU32, AtomicUsize, Ordering};

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

/// Pages of a ring, mapped to here.
struct Mapped {
    at: *mut libc::c_void,
    bytes: usize,
}

// SAFETY: the pages stay where they are until this is dropped, and whoever has it has it alone.
unsafe impl Send for Mapped {}

impl Mapped {
    fn of(descriptor: BorrowedFd<'_>, bytes: usize, access: i32, from: usize) -> Result<Mapped, Errno> {
        // SAFETY: a new mapping of a descriptor of ours, at a place that the kernel chooses.
        let at = unsafe {
            let from = from as libc::off_t;
            libc::mmap(std::ptr::null_mut(), bytes, access, libc::MAP_SHARED, descriptor.as_raw_fd(), from)
        };
        if at == libc::MAP_FAILED {
            let error = std::io::Error::last_os_error().raw_os_error().unwrap_or(libc::ENOMEM);
            return Err(Errno::from_raw_os_error(error));
        }
        Ok(Mapped { at, bytes })
    }

    /// A place in the ring, which begins this mapping.
    fn place(&self) -> &AtomicUsize {
        // SAFETY: the mapping begins at a page, is one page or longer, and lives as long as this.
        unsafe { &*self.at.cast::<AtomicUsize>() }
    }
}

impl Drop for Mapped {
    fn drop(&mut self) {
        // SAFETY: mapped above, and nobody has anything of it any more.
        unsafe { libc::munmap(self.at, self.bytes) };
    }
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
        // SAFETY: within the mapping, since places are taken within the ring's size, and aligned, as records are.
        let length = unsafe { &*self.written.at.byte_add(self.page + at % self.size).cast::<AtomicU32>() };
        length.load(Ordering::Acquire)
    }

    /// Copies so many bytes, which may go on at the ring's beginning.
    fn copy(&mut self, at: usize, bytes: usize) {
        let from = at % self.size;
        let first = bytes.min(self.size - from);
        self.record.clear();
        for (from, bytes) in [(from, first), (0, bytes - first)] {
            // SAFETY: within the mapping; the kernel has written these bytes and does not touch them until they are given back.
            let piece = unsafe {
                std::slice::from_raw_parts(self.written.at.cast::<u8>().add(self.page + from), bytes)
            };
            self.record.extend_from_slice(piece);
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
