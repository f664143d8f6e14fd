//! `/proc/vmstat`; `proc_vmstat(5)`.

use super::{lines, next, number, scaled, words};
use dozor_core::known::Raw;

/// Paging since boot.
#[derive(Default, Debug, PartialEq, Eq)]
pub struct Vmstat {
    /// Bytes read back from swap.
    pub swap_in: Raw,
    /// Bytes written to swap.
    pub swap_out: Raw,
    /// Page faults that read from a disk.
    pub faults_major: Raw,
    /// Processes killed because memory ran out.
    pub oom_kills: Raw,
    /// Bytes that were taken away from their users because memory was wanted, whoever looked for it.
    pub reclaimed: Raw,
}

/// Reads the file's text; swap traffic is in pages.
pub fn parse(bytes: &[u8], page: i64) -> Vmstat {
    let mut stat = Vmstat::default();
    let mut reclaimed: Option<i64> = None;
    // Of some two hundred lines these few are wanted.
    for line in lines(bytes).filter(|line| matches!(line, [b'p', b's' | b'g', ..] | [b'o', b'o', ..])) {
        let mut words = words(line);
        match words.next() {
            Some(b"pswpin") => stat.swap_in = scaled(next(&mut words), page),
            Some(b"pswpout") => stat.swap_out = scaled(next(&mut words), page),
            Some(b"pgmajfault") => stat.faults_major = next(&mut words),
            Some(b"oom_kill") => stat.oom_kills = next(&mut words),
            // By kind of page these count the same once more.
            Some(b"pgsteal_anon" | b"pgsteal_file") => {}
            Some(name) if name.starts_with(b"pgsteal_") => {
                let pages = words.next().and_then(number).unwrap_or(0);
                reclaimed = Some(reclaimed.unwrap_or(0).saturating_add(pages));
            }
            _ => {}
        }
    }
    stat.reclaimed = scaled(reclaimed.into(), page);
    stat
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read() {
        let stat = parse(include_bytes!("../../tests/fixtures/vmstat"), 4096);
        assert_eq!((stat.swap_in, stat.swap_out), (Raw::new(3 * 4096), Raw::new(5 * 4096)));
        assert_eq!((stat.faults_major, stat.oom_kills), (Raw::new(1914), Raw::new(0)));
        let sums = parse(b"pgsteal_kswapd 5\npgsteal_direct 2\npgsteal_anon 3\npgsteal_file 4\n", 4096);
        assert_eq!(sums.reclaimed, Raw::new(7 * 4096));
        assert_eq!(parse(b"pswpin 5\n", 4096).reclaimed, Raw::ABSENT);
    }
}
