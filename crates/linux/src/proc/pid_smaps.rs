//! `/proc/PID/smaps_rollup`; `proc_pid_smaps(5)`.

use super::{lines, next, scaled, words};
use dozor_core::known::Raw;

/// Proportional set size in bytes.
pub fn parse(bytes: &[u8]) -> Raw {
    lines(bytes)
        .find_map(|line| {
            let mut words = words(line);
            (words.next()? == b"Pss:").then(|| scaled(next(&mut words), 1024))
        })
        .unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sum_is_read_in_bytes() {
        let text =
            b"55d0-7ffd ---p 00000000 00:00 0 [rollup]\nRss: 1744 kB\nPss: 236 kB\nPss_Dirty: 100 kB\n";
        assert_eq!(parse(text), Raw::new(236 * 1024));
        assert_eq!(parse(b""), Raw::ABSENT);
    }
}
