//! Where the bytes of a recording are. Files are opened by who uses this crate; nothing here asks the system.

use std::io;

/// Frames by their offset: a file, or the live history in memory.
pub trait Frames: Send + Sync {
    /// Fills `buffer` with the bytes from `offset` on.
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()>;
    /// Fills as much of `buffer` as there is from `offset` on.
    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<usize>;
    /// Where data stands next, from `offset` on: behind a hole, which holds nothing but zeros.
    fn data_from(&self, offset: u64) -> u64 {
        offset
    }
}

/// A recording in memory.
impl Frames for Vec<u8> {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let whole = self.some_at(offset, buffer)? == buffer.len();
        if whole { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
    }

    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
        let rest = self.get(offset as usize..).unwrap_or_default();
        let there = rest.len().min(buffer.len());
        buffer[..there].copy_from_slice(&rest[..there]);
        Ok(there)
    }
}
