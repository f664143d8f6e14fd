//! `/proc/diskstats`; Documentation/admin-guide/iostats.rst.

use super::{lines, next, scaled, words};
use dozor_core::known::Raw;
use dozor_core::reading::DiskRow;
use dozor_core::text::clean;

/// Bytes of a sector, whatever the device's own size of a block is.
const SECTOR: i64 = 512;

/// Reads all devices, partitions included.
pub fn parse(bytes: &[u8]) -> Vec<DiskRow> {
    lines(bytes)
        .filter_map(|line| {
            let mut words = words(line).skip(2);
            let name = clean(words.next()?);
            let mut field = || next(&mut words);
            let (reads, _merged, read_sectors, read_ms) = (field(), field(), field(), field());
            let (writes, _merged, write_sectors, write_ms) = (field(), field(), field(), field());
            let (in_flight, busy_ms, queue_ms) = (field(), field(), field());
            Some(DiskRow {
                name: name.into(),
                reads,
                read_bytes: scaled(read_sectors, SECTOR),
                read_ms,
                writes,
                write_bytes: scaled(write_sectors, SECTOR),
                write_ms,
                in_flight,
                busy_ms,
                queue_ms,
                ..DiskRow::default()
            })
        })
        .collect()
}

/// Whether a device has ever done anything; empty loop and memory devices have not.
pub fn was_used(disk: &DiskRow) -> bool {
    disk.reads != Raw::new(0) || disk.writes != Raw::new(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read_in_bytes() {
        let disks = parse(include_bytes!("../../tests/fixtures/diskstats"));
        assert_eq!(disks.len(), 3);
        let disk = &disks[1];
        assert_eq!((&*disk.name, disk.reads, disk.writes), ("vda", Raw::new(4539), Raw::new(454)));
        assert_eq!((disk.read_bytes, disk.write_bytes), (Raw::new(802_642 * 512), Raw::new(252_504 * 512)));
        assert_eq!((disk.busy_ms, disk.queue_ms), (Raw::new(6364), Raw::new(13_651)));
        assert_eq!(disks.iter().filter(|disk| was_used(disk)).count(), 1);
    }
}
