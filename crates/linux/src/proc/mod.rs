//! The files of `/proc`, one module each: a pure `parse` over bytes that never panics and skips what it does
//! not understand. What a file does not say is absent.

pub mod cpuinfo;
pub mod diskstats;
pub mod interrupts;
pub mod kept;
pub mod loadavg;
pub mod meminfo;
pub mod mountinfo;
pub mod mountstats;
pub mod names;
pub mod net_dev;
pub mod pid;
pub mod pid_cgroup;
pub mod pid_cmdline;
pub mod pid_fdinfo;
pub mod pid_io;
pub mod pid_limits;
pub mod pid_smaps;
pub mod pid_stat;
pub mod pid_status;
pub mod pid_task;
pub mod pressure;
pub mod snmp;
pub mod stat;
pub mod vmstat;
pub mod wireless;

use dozor_core::known::Raw;
use rustix::fs::OFlags;
use std::io::Read as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

/// Reads a whole file of the kernel's; of a made-up tree's, which may have a pipe or a device in its place, 16 MiB at most
/// and without waiting.
pub fn read_file(path: &Path) -> std::io::Result<Vec<u8>> {
    const LONGEST: u64 = 16 << 20;
    let mut bytes = Vec::with_capacity(4096);
    let flags = OFlags::NONBLOCK | OFlags::NOCTTY;
    let file = std::fs::File::options().read(true).custom_flags(flags.bits() as i32).open(path)?;
    file.take(LONGEST).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Lines without their ends.
pub fn lines(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty())
}

/// Words between blanks and tabs.
pub fn words(line: &[u8]) -> impl Iterator<Item = &[u8]> {
    line.split(|byte| matches!(byte, b' ' | b'\t')).filter(|word| !word.is_empty())
}

/// A whole decimal number. A number beyond 63 bits is absent: no counter that Dozor reads gets there.
pub fn number(word: &[u8]) -> Option<i64> {
    let (negative, digits) = match word.split_first()? {
        (b'-', rest) => (true, rest),
        _ => (false, word),
    };
    if digits.is_empty() {
        return None;
    }
    let mut value = 0i64;
    for digit in digits {
        let digit = digit.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        value = value.checked_mul(10)?.checked_add(i64::from(digit))?;
    }
    Some(if negative { -value } else { value })
}

/// The next word as a raw number; absent where there is none.
pub fn next<'a>(words: &mut impl Iterator<Item = &'a [u8]>) -> Raw {
    words.next().and_then(number).into()
}

/// A raw number in another unit; absent where it does not fit.
pub fn scaled(value: Raw, factor: i64) -> Raw {
    value.value().and_then(|value| value.checked_mul(factor)).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_whole_or_not_at_all() {
        let cases = [("0", Some(0)), ("-17", Some(-17)), ("", None), ("-", None), ("12x", None)];
        for (text, expected) in cases {
            assert_eq!(number(text.as_bytes()), expected, "{text:?}");
        }
        assert_eq!(number(b"18446744073709551615"), None, "an unsigned maximum is no counter");
    }

    /// Every parser takes captured text cut off anywhere and with any byte changed.
    #[test]
    fn no_parser_panics_on_broken_text() {
        type Captured = (&'static [u8], fn(&[u8]));
        let captured: [Captured; 12] = [
            (include_bytes!("../../tests/fixtures/interrupts"), |b| drop(interrupts::parse(b))),
            (include_bytes!("../../tests/fixtures/stat"), |b| {
                let _ = stat::parse(b, vec![]);
            }),
            (include_bytes!("../../tests/fixtures/meminfo"), |b| {
                let _ = meminfo::parse(b);
            }),
            (include_bytes!("../../tests/fixtures/vmstat"), |b| {
                let _ = vmstat::parse(b, 4096);
            }),
            (include_bytes!("../../tests/fixtures/loadavg"), |b| {
                let _ = loadavg::parse(b);
            }),
            (include_bytes!("../../tests/fixtures/diskstats"), |b| {
                let _ = diskstats::parse(b, &mut names::Names::default(), vec![]);
            }),
            (include_bytes!("../../tests/fixtures/net_dev"), |b| {
                let _ = net_dev::parse(b, &mut names::Names::default(), vec![]);
            }),
            (include_bytes!("../../tests/fixtures/pid_stat"), |b| {
                let _ = pid_stat::parse(b, 4096);
            }),
            (include_bytes!("../../tests/fixtures/pid_io"), |b| {
                let _ = pid_io::parse(b);
            }),
            (b"device v:/n mounted on /m with fstype nfs4 statvers=1.1\n bytes: 1 2 3 4 5 6\n READ: 1 1 0 4 5 6 7 8\n", |b| {
                let _ = mountstats::parse(b);
            }),
            (b"Max open files 1024 4096 files\n", |b| {
                let _ = pid_limits::files(b);
            }),
            (include_bytes!("../../tests/fixtures/pid_status"), |b| {
                let _ = pid_status::parse(b);
            }),
        ];
        for (whole, parse) in captured {
            for cut in 0..=whole.len() {
                parse(&whole[..cut]);
                let mut changed = whole.to_vec();
                for byte in [0, b' ', b'\n', b'9', b')', 0xff] {
                    if let Some(place) = changed.get_mut(cut) {
                        *place = byte;
                        parse(&changed);
                    }
                }
            }
        }
    }
}
