//! `/proc/diskstats`; Documentation/admin-guide/iostats.rst.

use super::names::Names;
use super::{lines, next, scaled, words};
use dozor_core::known::Raw;
use dozor_core::reading::DiskRow;

/// Bytes of a sector, whatever the device's own size of a block is.
const SECTOR: i64 = 512;

/// Reads all devices that have ever done anything, partitions included: empty loop and memory devices have not.
pub fn parse(bytes: &[u8], names: &mut Names, mut disks: Vec<DiskRow>) -> Vec<DiskRow> {
    for line in lines(bytes) {
        let mut words = words(line).skip(2);
        let Some(name) = words.next() else { continue };
        let mut field = || next(&mut words);
        let (reads, _merged, read_sectors, read_ms) = (field(), field(), field(), field());
        let (writes, _merged, write_sectors, write_ms) = (field(), field(), field(), field());
        if (reads, writes) == (Raw::new(0), Raw::new(0)) {
            continue;
        }
        let (in_flight, busy_ms, queue_ms) = (field(), field(), field());
        let (_discards, _merged, discard_sectors, discard_ms) = (field(), field(), field(), field());
        let (flushes, flush_ms) = (field(), field());
        disks.push(DiskRow {
            name: names.at(disks.len(), name),
            reads,
            read_bytes: scaled(read_sectors, SECTOR),
            read_ms,
            writes,
            write_bytes: scaled(write_sectors, SECTOR),
            write_ms,
            in_flight,
            busy_ms,
            queue_ms,
            discard_bytes: scaled(discard_sectors, SECTOR),
            discard_ms,
            flushes,
            flush_ms,
            ..DiskRow::default()
        });
    }
    disks
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn captured_text_is_read_in_bytes() {
        let disks = parse(include_bytes!("../../tests/fixtures/diskstats"), &mut Names::default(), vec![]);
        let [disk] = &disks[..] else { panic!("one of three was used: {disks:?}") };
        assert_eq!((&*disk.name, disk.reads, disk.writes), ("vda", Raw::new(4539), Raw::new(454)));
        assert_eq!((disk.read_bytes, disk.write_bytes), (Raw::new(802_642 * 512), Raw::new(252_504 * 512)));
        assert_eq!((disk.busy_ms, disk.queue_ms), (Raw::new(6364), Raw::new(13_651)));
        assert_eq!((disk.discard_bytes, disk.discard_ms), (Raw::new(37_976 * 512), Raw::new(401)));
        assert_eq!((disk.flushes, disk.flush_ms), (Raw::new(6), Raw::new(15)));
    }
}
