//! `/proc/PID/io`; `proc_pid_io(5)`.

use super::{lines, next, words};
use dozor_core::known::Raw;

/// Input and output of a process since it started. All fields are denied where the file may not be read.
#[derive(Clone, Copy, Default, Debug, PartialEq, Eq)]
pub struct Io {
    /// Bytes fetched from storage.
    pub read_bytes: Raw,
    /// Bytes sent to storage.
    pub write_bytes: Raw,
    /// Read calls.
    pub read_calls: Raw,
    /// Write calls.
    pub write_calls: Raw,
    /// Bytes returned by read calls.
    pub read_any: Raw,
    /// Bytes handed to write calls.
    pub write_any: Raw,
}

impl Io {
    /// For a process whose file may not be read.
    pub const DENIED: Io = Io {
        read_bytes: Raw::DENIED,
        write_bytes: Raw::DENIED,
        read_calls: Raw::DENIED,
        write_calls: Raw::DENIED,
        read_any: Raw::DENIED,
        write_any: Raw::DENIED,
    };
}

/// Reads the file's text.
pub fn parse(bytes: &[u8]) -> Io {
    let mut io = Io::default();
    for line in lines(bytes) {
        let mut words = words(line);
        let field = match words.next() {
            Some(b"rchar:") => &mut io.read_any,
            Some(b"wchar:") => &mut io.write_any,
            Some(b"syscr:") => &mut io.read_calls,
            Some(b"syscw:") => &mut io.write_calls,
            Some(b"read_bytes:") => &mut io.read_bytes,
            Some(b"write_bytes:") => &mut io.write_bytes,
            _ => continue,
        };
        *field = next(&mut words);
    }
    io
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read() {
        let io = parse(include_bytes!("../../tests/fixtures/pid_io"));
        assert_eq!((io.read_any, io.write_any), (Raw::new(7272), Raw::new(296)));
        assert_eq!((io.read_calls, io.write_calls), (Raw::new(12), Raw::new(1)));
        assert_eq!((io.read_bytes, io.write_bytes), (Raw::new(4096), Raw::new(0)));
    }
}
