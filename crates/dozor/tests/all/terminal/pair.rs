//! A terminal of the kernel's that is nobody's controlling one.

use rustix::fd::OwnedFd;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};
use std::fs::File;

/// Both its sides, with this many columns and rows; the program gets the second. It is gone with the first.
pub fn open((columns, rows): (u16, u16)) -> (OwnedFd, File) {
    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).expect("a terminal");
    grantpt(&master).and_then(|()| unlockpt(&master)).expect("its other side");
    let name = ptsname(&master, Vec::new()).expect("its name");
    let size = Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
    tcsetwinsize(&master, size).expect("its size");
    let slave =
        File::options().read(true).write(true).open(name.to_str().expect("text")).expect("its other side");
    (master, slave)
}
