//! `/proc/self/mountstats`: what network file systems did, as the kernel's NFS client writes it (`net/sunrpc/stats.c`,
//! `fs/nfs/super.c`), version 1.0 and 1.1.

use super::{lines, number, words};
use crate::proc::mountinfo::unescape;
use dozor_core::known::Raw;
use dozor_core::reading::RemoteRow;
use dozor_core::text::clean;

/// One row for each mount that counts; times are sums over operations, in milliseconds.
pub fn parse(bytes: &[u8]) -> Vec<RemoteRow> {
    let mut rows: Vec<RemoteRow> = vec![];
    let (mut counts, mut fields) = (false, vec![]);
    for line in lines(bytes) {
        fields.clear();
        fields.extend(words(line));
        match &fields[..] {
            [b"device", device, b"mounted", b"on", mount, b"with", b"fstype", kind, rest @ ..] => {
                counts = rest.iter().any(|word| word.starts_with(b"statvers="));
                if counts {
                    rows.push(RemoteRow {
                        mount: clean(&unescape(mount)).into(),
                        device: clean(&unescape(device)).into(),
                        kind: clean(kind).into(),
                        operations: Raw::new(0),
                        transmissions: Raw::new(0),
                        timeouts: Raw::new(0),
                        queue_ms: Raw::new(0),
                        answer_ms: Raw::new(0),
                        whole_ms: Raw::new(0),
                        ..RemoteRow::default()
                    });
                }
            }
            [b"device", ..] => counts = false,
            [b"bytes:", numbers @ ..] => {
                let value = |at: usize| numbers.get(at).copied().and_then(number).into();
                if let Some(row) = rows.last_mut().filter(|_| counts) {
                    // The fifth and the sixth are what came from the server and went to it.
                    (row.read_bytes, row.write_bytes) = (value(4), value(5));
                }
            }
            [name, numbers @ ..] if is_operation(name) && numbers.len() >= 8 => {
                let value = |at: usize| numbers.get(at).copied().and_then(number).unwrap_or(0);
                let Some(row) = rows.last_mut().filter(|_| counts) else { continue };
                let add = |sum: &mut Raw, at: usize| {
                    *sum = Raw::new(sum.value().unwrap_or(0).saturating_add(value(at)));
                };
                add(&mut row.operations, 0);
                add(&mut row.transmissions, 1);
                add(&mut row.timeouts, 2);
                add(&mut row.queue_ms, 5);
                add(&mut row.answer_ms, 6);
                add(&mut row.whole_ms, 7);
            }
            _ => {}
        }
    }
    rows
}

/// `READ:` and the like; other lines of a mount have names in small letters.
fn is_operation(name: &[u8]) -> bool {
    name.strip_suffix(b":").is_some_and(|name| {
        !name.is_empty()
            && name.iter().all(|byte| byte.is_ascii_uppercase() || matches!(byte, b'_' | b'0'..=b'9'))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &[u8] = b"device /dev/vda mounted on / with fstype ext4\n\
        device vault:/nights mounted on /mnt/my\\040vault with fstype nfs4 statvers=1.1\n\
        \topts:\trw,vers=4.2\n\tage:\t4711\n\tevents:\t1 2 3\n\tbytes:\t10 20 0 0 1000 2000 3 4\n\
        \txprt:\ttcp 0 0 2 0 34 1206 1206 0 1206 0 2 0 0\n\tper-op statistics\n\
        \t        NULL: 1 1 0 44 24 0 0 0 0\n\t        READ: 10 12 1 1760 131072 5 220 240 0\n\
        \t        WRITE: 4 4 0 9 9 1 30 35 0\n\ndevice proc mounted on /proc with fstype proc\n";

    #[test]
    fn what_a_mount_did_is_the_sum_of_its_operations() {
        let rows = parse(TEXT);
        assert_eq!(rows.len(), 1);
        let row = &rows[0];
        assert_eq!((&*row.mount, &*row.device, &*row.kind), ("/mnt/my vault", "vault:/nights", "nfs4"));
        assert_eq!((row.read_bytes, row.write_bytes), (Raw::new(1000), Raw::new(2000)));
        assert_eq!(
            (row.operations, row.transmissions, row.timeouts),
            (Raw::new(15), Raw::new(17), Raw::new(1))
        );
        assert_eq!((row.queue_ms, row.answer_ms, row.whole_ms), (Raw::new(6), Raw::new(250), Raw::new(275)));
    }

    #[test]
    fn a_file_that_is_cut_off_anywhere_does_no_harm() {
        for cut in 0..TEXT.len() {
            assert!(parse(&TEXT[..cut]).len() <= 1);
        }
    }
}
