//! The calls by which a program of our own gets into the kernel and out again; `bpf(2)`.
//!
//! Everything hangs on descriptors: when the last is closed, or the process dies, the kernel frees what was loaded.

use rustix::io::Errno;
use std::os::fd::{AsRawFd as _, BorrowedFd, FromRawFd as _, OwnedFd};

/// Commands, kinds of maps and programs; include/uapi/linux/bpf.h.
const MAP_CREATE: i32 = 0;
const MAP_LOOKUP: i32 = 1;
const MAP_UPDATE: i32 = 2;
const PROGRAM_LOAD: i32 = 5;
const PROGRAM_RUN: i32 = 10;
const OBJECT_INFO: i32 = 15;
const RAW_TRACEPOINT_OPEN: i32 = 17;
const MAP_LOOKUP_BATCH: i32 = 24;
const LINK_CREATE: i32 = 28;
const ITERATOR_CREATE: i32 = 33;
const ARRAY: u32 = 2;
const ARRAY_OF_CORES: u32 = 6;
const RECENT: u32 = 9;
const RING: u32 = 27;
const TRACING: u32 = 26;
const CALLED: u32 = 31;
const TRACE_POINT: u32 = 23;
const TRACE_ITERATOR: u32 = 28;
/// That a program may sleep, as those that are called by us have to say; that a map can be mapped.
const MAY_SLEEP: u32 = 1 << 4;
const MAPPABLE: u32 = 1 << 10;

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
            return Err(last_error());
        }
        Ok(result as i32)
    }

    /// A command that answers in the attributes themselves.
    fn call_back(&mut self, command: i32) -> Result<(), Errno> {
        // SAFETY: as in `call`; the attributes are ours alone, and as long as said.
        let result =
            unsafe { libc::syscall(libc::SYS_bpf, command, self.0.as_mut_ptr(), size_of_val(&self.0)) };
        if result < 0 { Err(last_error()) } else { Ok(()) }
    }

    /// A command that gives a descriptor. The kernel opens all of these so that programs started by us do not get them.
    fn open(&self, command: i32) -> Result<OwnedFd, Errno> {
        let descriptor = self.call(command)?;
        // SAFETY: the kernel just opened it for us.
        Ok(unsafe { OwnedFd::from_raw_fd(descriptor) })
    }
}

fn last_error() -> Errno {
    Errno::from_raw_os_error(std::io::Error::last_os_error().raw_os_error().unwrap_or(libc::EIO))
}

/// An array in the kernel: so many values of that size, all zero.
pub fn array(values: u32, size: u32) -> Result<OwnedFd, Errno> {
    Attributes::new().half(0, ARRAY).half(4, 4).half(8, size).half(12, values).open(MAP_CREATE)
}

/// So many bytes that can be mapped, all zero.
pub fn shared(bytes: u32) -> Result<OwnedFd, Errno> {
    let attributes = Attributes::new().half(0, ARRAY).half(4, 4).half(8, bytes).half(12, 1);
    attributes.half(16, MAPPABLE).open(MAP_CREATE)
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

/// A table of so many values by keys, of these sizes: those that were not used for longest make room.
pub fn recent(values: u32, key: u32, size: u32) -> Result<OwnedFd, Errno> {
    Attributes::new().half(0, RECENT).half(4, key).half(8, size).half(12, values).open(MAP_CREATE)
}

/// A ring of so many bytes, a power of two of pages: [`super::ring::Ring`] reads it.
pub fn ring(bytes: u32) -> Result<OwnedFd, Errno> {
    Attributes::new().half(0, RING).half(12, bytes).open(MAP_CREATE)
}

/// One value of a table, which is so many words; the key is as long as the table's are.
pub fn get<K, const WORDS: usize>(table: BorrowedFd<'_>, key: &K) -> Result<[u64; WORDS], Errno> {
    let mut value = [0u64; WORDS];
    let key = std::ptr::from_ref(key);
    let attributes = Attributes::new().descriptor(0, table).pointer(8, key).pointer(16, value.as_mut_ptr());
    attributes.call(MAP_LOOKUP).map(|_| value)
}

/// All that stands in a table of at most so many values, each of so many words.
pub fn entries<K: Copy + Default, const WORDS: usize>(
    table: BorrowedFd<'_>,
    most: u32,
) -> Result<Vec<(K, [u64; WORDS])>, Errno> {
    /// At once. A chain of the table's has to fit in.
    const PIECE: usize = 1 << 10;
    let (mut keys, mut values) = (vec![K::default(); PIECE], vec![[0u64; WORDS]; PIECE]);
    let (mut all, mut place, mut is_first) = (vec![], 0u32, true);
    // Whoever adds to it meanwhile must not keep us here.
    while all.len() <= 2 * most as usize {
        let from = if is_first { std::ptr::null() } else { &raw const place };
        let mut next = 0u32;
        let mut attributes = Attributes::new()
            .pointer(0, from)
            .pointer(8, &raw mut next)
            .pointer(16, keys.as_mut_ptr())
            .pointer(24, values.as_mut_ptr())
            .half(32, PIECE as u32)
            .descriptor(36, table);
        let ended = match attributes.call_back(MAP_LOOKUP_BATCH) {
            Ok(()) => false,
            // That was the last piece.
            Err(Errno::NOENT) => true,
            Err(error) => return Err(error),
        };
        let count = (attributes.0[4] as u32 as usize).min(PIECE);
        all.extend(keys.iter().copied().zip(values.iter().copied()).take(count));
        if ended {
            break;
        }
        (place, is_first) = (next, false);
    }
    Ok(all)
}

/// Loads a program that is run for each thing that the kernel walks over. `function` is the number of that walk's
/// function. A program that the kernel does not accept is refused with what it said last, if it said anything.
pub fn load_iterator(instructions: &[u64], function: u32) -> Result<OwnedFd, (Errno, String)> {
    load(instructions, |attributes| attributes.half(0, TRACING).half(68, TRACE_ITERATOR).half(108, function))
}

/// Loads a program that is run where the kernel says that something happens. `name` is the number of that place's type.
pub fn load_tracepoint(instructions: &[u64], name: u32) -> Result<OwnedFd, (Errno, String)> {
    load(instructions, |attributes| attributes.half(0, TRACING).half(68, TRACE_POINT).half(108, name))
}

/// Loads a program that is run by [`run`].
pub fn load_runnable(instructions: &[u64]) -> Result<OwnedFd, (Errno, String)> {
    load(instructions, |attributes| attributes.half(0, CALLED).half(44, MAY_SLEEP))
}

/// Runs a program once, and waits for it.
pub fn run(program: BorrowedFd<'_>) -> Result<(), Errno> {
    Attributes::new().descriptor(0, program).call(PROGRAM_RUN).map(drop)
}

/// From now on the program is run, until this is closed.
pub fn attach(program: BorrowedFd<'_>) -> Result<OwnedFd, Errno> {
    Attributes::new().descriptor(8, program).open(RAW_TRACEPOINT_OPEN)
}

/// How often a program was not run although its place was reached, since it was running on that core already:
/// `recursion_misses` in include/uapi/linux/bpf.h.
pub fn missed(program: BorrowedFd<'_>) -> u64 {
    const WORD: usize = 208 / 8;
    let mut info = [0u64; WORD + 1];
    let length = size_of_val(&info) as u32;
    let asked = Attributes::new().descriptor(0, program).half(4, length).pointer(8, info.as_mut_ptr());
    asked.call(OBJECT_INFO).map_or(0, |_| info[WORD])
}

/// `kind` says what kind of program it is, and where it belongs.
fn load(instructions: &[u64], kind: impl Fn(Attributes) -> Attributes) -> Result<OwnedFd, (Errno, String)> {
    let attributes = || {
        let attributes = Attributes::new().half(4, instructions.len() as u32);
        kind(attributes.pointer(8, instructions.as_ptr()).pointer(16, LICENCE.as_ptr()))
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
