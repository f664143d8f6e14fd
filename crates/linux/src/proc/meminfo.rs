//! `/proc/meminfo`; `proc_meminfo(5)`.

use super::{lines, next, scaled, words};
use dozor_core::known::Raw;

/// Memory in bytes. Fields as in the reading's system row.
#[derive(Default, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "each field is named after its line")]
pub struct Meminfo {
    pub total: Raw,
    pub free: Raw,
    pub available: Raw,
    pub buffers: Raw,
    pub cached: Raw,
    pub shared: Raw,
    pub slab: Raw,
    pub reclaimable: Raw,
    pub dirty: Raw,
    pub writeback: Raw,
    pub swap_total: Raw,
    pub swap_free: Raw,
}

/// Reads the file's text; it is in KiB.
pub fn parse(bytes: &[u8]) -> Meminfo {
    let mut info = Meminfo::default();
    for line in lines(bytes) {
        let mut words = words(line);
        let field = match words.next() {
            Some(b"MemTotal:") => &mut info.total,
            Some(b"MemFree:") => &mut info.free,
            Some(b"MemAvailable:") => &mut info.available,
            Some(b"Buffers:") => &mut info.buffers,
            Some(b"Cached:") => &mut info.cached,
            Some(b"Shmem:") => &mut info.shared,
            Some(b"Slab:") => &mut info.slab,
            Some(b"SReclaimable:") => &mut info.reclaimable,
            Some(b"Dirty:") => &mut info.dirty,
            Some(b"Writeback:") => &mut info.writeback,
            Some(b"SwapTotal:") => &mut info.swap_total,
            Some(b"SwapFree:") => &mut info.swap_free,
            _ => continue,
        };
        *field = scaled(next(&mut words), 1024);
    }
    info
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read_in_bytes() {
        let info = parse(include_bytes!("../../tests/fixtures/meminfo"));
        assert_eq!(info.total, Raw::new(24_684_096 * 1024));
        assert_eq!(info.available, Raw::new(24_330_672 * 1024));
        assert_eq!(info.swap_total, Raw::new(0), "no swap is zero, not absent");
    }
}
