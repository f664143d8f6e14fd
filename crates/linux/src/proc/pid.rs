//! Files of one process, opened and read below an open `/proc`.

use rustix::fs::{Mode, OFlags, openat, readlinkat_raw};
use rustix::io::Errno;
use std::ffi::CStr;
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;

/// The path of a file of a process below `/proc`, written into the room.
fn path<'r>(room: &'r mut [u8; 64], pid: i64, name: &str) -> Result<&'r CStr, Errno> {
    use std::io::Write as _;
    let mut rest = &mut room[..];
    write!(rest, "{pid}/{name}\0").map_err(|_| Errno::NAMETOOLONG)?;
    CStr::from_bytes_until_nul(room).map_err(|_| Errno::INVAL)
}

/// Room for a path, with what the kernel puts behind that of a removed file.
pub type LinkRoom = [MaybeUninit<u8>; 4096 + 64];
/// Such room, empty.
pub const LINK: LinkRoom = [MaybeUninit::uninit(); 4096 + 64];

/// What a link of a process points at.
pub fn link_of<'r>(proc: &OwnedFd, pid: i64, name: &str, room: &'r mut LinkRoom) -> Result<&'r [u8], Errno> {
    let (link, _) = readlinkat_raw(proc, path(&mut [0; 64], pid, name)?, &mut room[..])?;
    Ok(link)
}

/// Opens a file of a process.
pub fn open_pid(proc: &OwnedFd, pid: i64, name: &str) -> Result<OwnedFd, Errno> {
    let mut room = [0; 64];
    let path = path(&mut room, pid, name)?;
    let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOCTTY;
    openat(proc, path, flags, Mode::empty())
}

/// Reads a file of a process into the buffer, which grows for a long one (a huge command line).
pub fn read_pid<'a>(
    proc: &OwnedFd,
    pid: i64,
    name: &str,
    buffer: &'a mut Vec<u8>,
) -> Result<&'a [u8], Errno> {
    const LONGEST: usize = 1 << 20;
    let file = open_pid(proc, pid, name)?;
    let mut filled = 0;
    loop {
        if filled == buffer.len() {
            if filled >= LONGEST {
                break;
            }
            buffer.resize(filled * 2, 0);
        }
        match rustix::io::read(&file, &mut buffer[filled..]) {
            Ok(0) => break,
            Ok(got) => {
                filled += got;
                // The kernel gives these small files whole; a short read is their end.
                if name != "cmdline" && filled < buffer.len() {
                    break;
                }
            }
            Err(Errno::INTR) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(&buffer[..filled])
}

/// Whether the link to an executable is that of a program which was started from memory, so that there never was a file to
/// replace; `memfd_create(2)`.
pub fn is_from_memory(link: &[u8]) -> bool {
    link.starts_with(b"/memfd:")
}
