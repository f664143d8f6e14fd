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

    /// A text as the kernel writes it, and what reads it.
    type Captured = (&'static str, &'static [u8], fn(&[u8]));

    /// One for each module here that parses a file; the test below says which are missing.
    const CAPTURED: &[Captured] = &[
        ("interrupts", include_bytes!("../../tests/fixtures/interrupts"), |b| {
            drop(interrupts::parse(b));
            drop(interrupts::parse_softirqs(b));
        }),
        ("stat", include_bytes!("../../tests/fixtures/stat"), |b| drop(stat::parse(b, vec![]))),
        ("meminfo", include_bytes!("../../tests/fixtures/meminfo"), |b| _ = meminfo::parse(b)),
        ("vmstat", include_bytes!("../../tests/fixtures/vmstat"), |b| _ = vmstat::parse(b, 4096)),
        ("loadavg", include_bytes!("../../tests/fixtures/loadavg"), |b| _ = loadavg::parse(b)),
        ("diskstats", include_bytes!("../../tests/fixtures/diskstats"), |b| {
            drop(diskstats::parse(b, &mut names::Names::default(), vec![]));
        }),
        ("net_dev", include_bytes!("../../tests/fixtures/net_dev"), |b| {
            drop(net_dev::parse(b, &mut names::Names::default(), vec![]));
        }),
        ("pid_stat", include_bytes!("../../tests/fixtures/pid_stat"), |b| _ = pid_stat::parse(b, 4096)),
        ("pid_io", include_bytes!("../../tests/fixtures/pid_io"), |b| _ = pid_io::parse(b)),
        ("pid_status", include_bytes!("../../tests/fixtures/pid_status"), |b| _ = pid_status::parse(b)),
        ("pid_limits", b"Max open files 1024 4096 files\n", |b| _ = pid_limits::files(b)),
        ("mountstats", b"device v:/n mounted on /m with fstype nfs4 statvers=1.1\n bytes: 1 2 3 4 5 6\n READ: 1 1 0 4 5 6 7 8\n", |b| {
            drop(mountstats::parse(b));
        }),
        ("mountinfo", b"36 35 98:0 /mnt1 /mnt\\0402 rw,noatime master:1 - ext3 /dev/root rw,errors=continue\n", |b| {
            drop(mountinfo::parse(b));
            let places = mountinfo::Places::new(b);
            let _ = places.of(b);
        }),
        ("pid_task", b"77 (a b) S 1 77 77 0 -1 4194560 1 0 0 0 5 6 0 0 20 0 3 0 99 0 0\n123 456 7\n", |b| {
            let at = b.iter().position(|byte| *byte == b'\n').unwrap_or(b.len());
            let (stat, schedstat) = b.split_at(at);
            drop((pid_task::parse(77, stat, Some(schedstat)), pid_task::parse(77, b, None)));
        }),
        ("wireless", b"Inter-| sta-|\n face | tus |\n wlan0: 0000   54.  -56.  -256        0\n", |b| {
            drop(wireless::parse(b));
        }),
        ("pid_cmdline", b"/usr/bin/solve\0--fast\0\xff\0", |b| {
            drop(pid_cmdline::parse(b));
            let _ = (pid_cmdline::is(b, "/usr/bin/solve --fast"), pid_cmdline::program(b));
        }),
        ("pid_fdinfo", b"pos:\t0\ndrm-driver:\ti915\ndrm-client-id:\t7\ndrm-engine-render:\t9288864723 ns\ndrm-memory-vram:\t4 MiB\n", |b| {
            let _ = pid_fdinfo::parse(b).map(|client| pid_fdinfo::sum(&[client]));
        }),
        ("pid_smaps", b"5581-7ffd ---p 00000000 00:00 0 [rollup]\nRss: 884 kB\nPss: 385 kB\n", |b| {
            let _ = pid_smaps::parse(b);
        }),
        ("pid_cgroup", b"4:memory:/a\n0::/system.slice/board.service\n", |b| {
            drop(pid_cgroup::parse(b).map(|path| pid_cgroup::service(&path)));
        }),
        ("pressure", b"some avg10=0.00 avg60=0.10 avg300=1.00 total=77\nfull avg10=0.00 avg60=0.00 avg300=0.00 total=5\n", |b| {
            let _ = pressure::parse(b);
        }),
        ("snmp", b"Tcp: RtoAlgorithm RetransSegs\nTcp: 1 33\nUdp: InDatagrams NoPorts InErrors OutDatagrams\nUdp: 1 2 3 4\n", |b| {
            let _ = snmp::parse(b);
        }),
        ("cpuinfo", b"processor\t: 0\nmodel name\t: A Processor @ 2 GHz\n", |b| drop(cpuinfo::model(b))),
    ];

    /// Modules here that only hold what others need.
    const NO_PARSERS: [&str; 3] = ["kept", "names", "pid"];

    /// The list is complete: each module of this folder is in it.
    #[test]
    fn each_module_that_parses_is_tried_with_broken_text() {
        let source = include_str!("mod.rs");
        let modules =
            source.lines().filter_map(|line| line.strip_prefix("pub mod ").or(line.strip_prefix("mod ")));
        let modules = modules.filter_map(|rest| rest.strip_suffix(';'));
        let mut count = 0;
        for module in modules.filter(|module| !NO_PARSERS.contains(module)) {
            assert!(CAPTURED.iter().any(|(name, ..)| *name == module), "{module} is not tried");
            count += 1;
        }
        assert_eq!(count, CAPTURED.len());
    }

    /// Every parser takes captured text cut off anywhere and with any byte changed.
    #[test]
    fn no_parser_panics_on_broken_text() {
        for (_, whole, parse) in CAPTURED {
            for cut in 0..=whole.len() {
                parse(&whole[..cut]);
                let mut changed = whole.to_vec();
                for byte in [0, b' ', b'\n', b'9', b')', b'-', b':', 0xff] {
                    if let Some(place) = changed.get_mut(cut) {
                        *place = byte;
                        parse(&changed);
                    }
                }
            }
        }
    }
}
