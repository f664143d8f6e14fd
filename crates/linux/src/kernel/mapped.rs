//! Memory of the kernel's that we have mapped, to share it with programs there.

use rustix::io::Errno;
use std::os::fd::{AsRawFd as _, BorrowedFd};
use std::sync::atomic::{AtomicU32, AtomicU64, AtomicUsize, Ordering};

/// Pages of a map of the kernel's, mapped to here.
pub struct Mapped {
    at: *mut libc::c_void,
    bytes: usize,
}

// SAFETY: the pages stay where they are until this is dropped, and whoever has it has it alone.
unsafe impl Send for Mapped {}

impl Mapped {
    /// So many bytes of it from this one on, whole pages both.
    pub fn of(descriptor: BorrowedFd<'_>, bytes: usize, access: i32, from: usize) -> Result<Mapped, Errno> {
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

    /// Where a value begins.
    fn pointer<T>(&self, at: usize) -> *const T {
        assert!(
            at.is_multiple_of(align_of::<T>()) && at + size_of::<T>() <= self.bytes,
            "within the mapping"
        );
        // SAFETY: within the mapping, as was just asked.
        unsafe { self.at.byte_add(at).cast() }
    }

    /// A place in a ring, which begins this mapping.
    pub fn place(&self) -> &AtomicUsize {
        // SAFETY: within the mapping, aligned, and it lives as long as this.
        unsafe { &*self.pointer(0) }
    }

    /// A number of 32 bits that the kernel may write at any time, and all that it wrote before.
    pub fn half(&self, at: usize) -> u32 {
        // SAFETY: as in `place`.
        unsafe { &*self.pointer::<AtomicU32>(at) }.load(Ordering::Acquire)
    }

    /// A number of 64 bits.
    pub fn word(&self, at: usize) -> u64 {
        // SAFETY: as in `place`.
        unsafe { &*self.pointer::<AtomicU64>(at) }.load(Ordering::Acquire)
    }

    /// Sets a number of 64 bits in a mapping that may be written to.
    pub fn set(&mut self, at: usize, word: u64) {
        // SAFETY: as in `place`.
        unsafe { &*self.pointer::<AtomicU64>(at) }.store(word, Ordering::Release);
    }

    /// So many bytes from this one on.
    ///
    /// # Safety
    /// The kernel does not write there as long as they are borrowed.
    pub unsafe fn bytes(&self, from: usize, bytes: usize) -> &[u8] {
        assert!(from.checked_add(bytes).is_some_and(|end| end <= self.bytes), "within the mapping");
        // SAFETY: within the mapping, and nobody writes there, as the caller promises.
        unsafe { std::slice::from_raw_parts(self.at.cast::<u8>().add(from), bytes) }
    }
}

impl Drop for Mapped {
    fn drop(&mut self) {
        // SAFETY: mapped above, and nobody has anything of it any more.
        unsafe { libc::munmap(self.at, self.bytes) };
    }
}
