//! The calls by which a program of our own gets into the kernel and out again; `bpf(2)`.
//!
//! Everything hangs on descriptors: when the last is closed, or the process dies, the kernel frees what was loaded.

use rustix::io::Errno;
use std::os::fd::{AsRawFd as _, BorrowedFd, FromRawFd as _, OwnedFd};

/// Commands, kinds of maps and programs; include/uapi/linux/bpf.h.
const MAP_CREATE: i32 = 0;
const MAP_UPDATE: i32 = 2;
const PROGRAM_LOAD: i32 = 5;
const LINK_CREATE: i32 = 28;
const ITERATOR_CREATE: i32 = 33;
const ARRAY: u32 = 2;
const ARRAY_OF_CORES: u32 = 6;
const TRACING: u32 = 26;
const TRACE_ITERATOR: u32 = 28;

/// Under which licence the program in the kernel stands, which uses functions that only such ones may call.
const LICENCE: &std::ffi::CStr = c"Dual MIT/GPL";

/// What a command is told, as the kernel lays it out.
struct Attributes([u64; 19]);

impl Attributes {
    fn new() -> Attributes {
        Attributes([0; 19])
    }

    /// A number of 32 bits at this byte.
    fn half(mut self, at: usize, value: u32) -> Attributes {
        let word = &mut self.0[at / 8];
        let mut bytes = word.to_ne_bytes();
        bytes[at % 8..at % 8 + 4].copy_from_slice(&value.to_ne_bytes());
        *word = u64::from_ne_bytes(bytes);
        self
    }

    fn descriptor(self, at: usize, descriptor: BorrowedFd<'_>) -> Attributes {
        self.half(at, descriptor.as_raw_fd() as u32)
    }

    fn pointer<T>(mut self, at: usize, value: *const T) -> Attributes {
        self.0[at / 8] = value as u64;
        self
    }

    fn call(&self, command: i32) -> Result<i32, Errno> {
        // SAFETY: the attributes are as long as said; what they point at was borrowed by whoever filled them in and lives
        // until this returns.
        let result = unsafe { libc::syscall(libc::SYS_bpf, command, self.0.as_ptr(), size_of_val(&self.0)) };
        if result < 0 {
            let error = std::io::Error::last_os_error().raw_os_error().unwrap_or(libc::EIO);
            return Err(Errno::from_raw_os_error(error));
        }
        Ok(result as i32)
    }

    /// A command that gives a descriptor. The kernel opens all of these so that programs started by us do not get them.
    fn open(&self, command: i32) -> Result<OwnedFd, Errno> {
        let descriptor = self.call(command)?;
        // SAFETY: the kernel just opened it for us.
        Ok(unsafe { OwnedFd::from_raw_fd(descriptor) })
    }
}

/// An array in the kernel: so many values of that size, all zero.
pub fn array(values: u32, size: u32) -> Result<OwnedFd, Errno> {
    Attributes::new().half(0, ARRAY).half(4, 4).half(8, size).half(12, values).open(MAP_CREATE)
}

/// A value of that size for each core.
pub fn of_cores(size: u32) -> Result<OwnedFd, Errno> {
    Attributes::new().half(0, ARRAY_OF_CORES).half(4, 4).half(8, size).half(12, 1).open(MAP_CREATE)
}

/// Sets one value of an array.
pub fn set<T: Copy>(array: BorrowedFd<'_>, index: u32, value: &[T]) -> Result<(), Errno> {
    let attributes =
        Attributes::new().descriptor(0, array).pointer(8, &raw const index).pointer(16, value.as_ptr());
    attributes.call(MAP_UPDATE).map(drop)
}

/// Loads a program that is run for each thing that the kernel walks over. `function` is the number of that walk's
/// function. A program that the kernel does not accept is refused with what it said last, if it said anything.
pub fn load_iterator(instructions: &[u64], function: u32) -> Result<OwnedFd, (Errno, String)> {
    let attributes = || {
        Attributes::new()
            .half(0, TRACING)
            .half(4, instructions.len() as u32)
            .pointer(8, instructions.as_ptr())
            .pointer(16, LICENCE.as_ptr())
            .half(68, TRACE_ITERATOR)
            .half(108, function)
    };
    attributes().open(PROGRAM_LOAD).map_err(|error| {
        // It explains itself only where it is asked to, which takes longer.
        let mut log = vec![0u8; 1 << 20];
        let asked = attributes().half(24, 1).half(28, log.len() as u32).pointer(32, log.as_mut_ptr());
        let _ = asked.call(PROGRAM_LOAD);
        (error, last_words(&log))
    })
}

/// The last line of the kernel's explanation that says something about the program.
fn last_words(log: &[u8]) -> String {
    let text = String::from_utf8_lossy(log.split(|byte| *byte == 0).next().unwrap_or_default()).into_owned();
    let last = text.lines().rev().find(|line| !line.is_empty() && !line.starts_with("processed "));
    last.unwrap_or_default().to_owned()
}

/// Ties a program to the walk; it can be walked as long as this is open.
pub fn link_iterator(program: BorrowedFd<'_>) -> Result<OwnedFd, Errno> {
    Attributes::new().descriptor(0, program).half(8, TRACE_ITERATOR).open(LINK_CREATE)
}

/// A walk: what the program writes is read from it, once.
pub fn walk(link: BorrowedFd<'_>) -> Result<OwnedFd, Errno> {
    Attributes::new().descriptor(0, link).open(ITERATOR_CREATE)
}
