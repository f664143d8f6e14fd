//! `/proc/PID/io` and `/proc/PID/task/TID/io`; `proc_pid_io(5)`.

use super::{lines, number, words};

/// What is counted, in the order of [`Io`].
const FIELDS: [&[u8]; 7] =
    [b"read_bytes:", b"write_bytes:", b"cancelled_write_bytes:", b"syscr:", b"syscw:", b"rchar:", b"wchar:"];

/// Input and output since the start of a process or a thread: bytes fetched from storage, bytes of pages made dirty and of
/// those dropped again, read and write calls, bytes returned by read calls and handed to write calls.
pub type Io = [i64; FIELDS.len()];

/// Reads the file's text; nothing where a field is missing, which no kernel does.
pub fn parse(bytes: &[u8]) -> Option<Io> {
    let mut io: [Option<i64>; FIELDS.len()] = [None; FIELDS.len()];
    for line in lines(bytes) {
        let mut words = words(line);
        let name = words.next();
        if let Some(place) = FIELDS.iter().position(|field| name == Some(field)) {
            io[place] = words.next().and_then(number);
        }
    }
    let mut whole = [0; FIELDS.len()];
    for (value, found) in whole.iter_mut().zip(io) {
        *value = found?;
    }
    Some(whole)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read() {
        let io = parse(include_bytes!("../../tests/fixtures/pid_io")).expect("a whole file");
        assert_eq!(io, [4096, 0, 0, 12, 1, 7272, 296]);
        assert_eq!(parse(b"rchar: 5\nwchar: 6\n"), None);
    }
}
