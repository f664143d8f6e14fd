//! What a process wrote towards storage.

use super::transfers;
use crate::known::{Known, Raw};
use crate::reading::ProcessRow;
use crate::sample::ProcessView;

/// What the bytes that a process wrote are taken from.
pub const WRITTEN_BY: [&str; 3] = ["pages", "calls", "devices"];

/// Counters that this is reckoned from.
pub(super) const READS: &[&str] = &[
    "write_bytes",
    "cancelled_bytes",
    "write_any_bytes",
    "write_calls",
    "net_out_bytes",
    "udp_out_bytes",
    "writes_otherwise",
    "kernel",
];

/// Bytes that one write call makes dirty beside its own: a folio of 2 MiB, and rarely a second one.
const FOLIO_PER_CALL: f64 = 1.25 * (2 << 20) as f64;
/// Most bytes that a file system hands to the device beside those of one write call: the rest of its pages, and metadata.
const METADATA_PER_CALL: f64 = (64 << 10) as f64;
/// By how many bytes the machine's counters may lag: dirty pages that cores have not added yet, requests in flight.
const COUNTER_LAG: f64 = (2 << 20) as f64;

/// Whether so many write calls, to which so many bytes were handed, cannot have made so many dirty: it writes otherwise as well.
pub(crate) fn is_beyond_calls(dirtied: f64, handed: f64, calls: f64) -> bool {
    dirtied > handed + calls * FOLIO_PER_CALL + COUNTER_LAG
}

/// Bytes per second that a process wrote, what they are taken from, and whether it may be less.
pub(super) struct Written {
    pub bytes: f64,
    pub by: &'static str,
    pub at_most: bool,
}

/// The kernel counts pages that became dirty. Since pages are kept in large folios, a small write may make a large one
/// dirty, and again after every time that it was written out: then it counts many times what was written. What a process
/// wrote is at most what it handed to write calls, but for those that write otherwise (shared mappings, asynchronous
/// requests, splice(2)). Calls hand over bytes to sockets, pipes and files in memory too, so it is also at most what the devices
/// took and what newly waits to be written; where requests are counted, without what others surely wrote.
pub(super) fn written(view: &ProcessView<'_>) -> Known<Written> {
    let [pages, calls, devices] = WRITTEN_BY;
    let of = |counter: fn(&ProcessRow) -> Raw| view.io_rate(counter, None).value();
    let exact = |bytes, by| Known::Value(Written { bytes, by, at_most: false });
    let dirtied = match view.io_rate(|row| row.write_bytes, Some(|row| row.write_bytes)) {
        Known::Value(dirtied) => dirtied,
        Known::Absent => return Known::Absent,
        Known::Denied => return Known::Denied,
    };
    if dirtied <= 0.0 {
        return exact(0.0, pages);
    }
    let net = (dirtied - of(|row| row.cancelled_bytes).unwrap_or(0.0)).max(0.0);
    let Some(handed) = of(|row| row.write_any_bytes) else { return exact(net, pages) };
    let over = |counter: fn(&ProcessRow) -> Raw| view.rate(counter).value().unwrap_or(0.0);
    let sent = over(|row| row.net_out_bytes) + over(|row| row.udp_out_bytes);
    let surely = (handed - sent).max(0.0);
    if net <= surely {
        return exact(net, pages);
    }
    let itself = transfers::rate(view, transfers::WRITE).value();
    let seconds = view.sample.seconds().unwrap_or(1.0);
    let lag = COUNTER_LAG / seconds;
    let by_maps = match view.now.writes_otherwise.value() {
        Some(code) => code != 0,
        None => handed <= 0.0,
    };
    let beyond = of(|row| row.write_calls).is_some_and(|calls| {
        is_beyond_calls(net * seconds, handed * seconds, calls * seconds)
            || itself.is_some_and(|itself| itself > handed + calls * METADATA_PER_CALL + lag)
    });
    let took = view.sample.storage_took();
    let otherwise = by_maps || beyond;
    let (most, by) = match took {
        None if otherwise => (net, pages),
        Some(took) if otherwise => (handed.max(took), devices),
        Some(took) if took < handed && sent > 0.0 => (surely.max(took), devices),
        _ => (handed, calls),
    };
    let (mut bytes, mut by) = if net <= most { (net, pages) } else { (most, by) };
    // Disks are read before processes: what they had by then bounds nobody.
    if let Some(took) = took.filter(|_| view.sample.now.system.written_after.value().is_some()) {
        // Without the requests of others only what is far beyond is not believed.
        let (bound, is_beyond) = match itself {
            Some(itself) => {
                let bound = (took - transfers::surely_by_others(view)).max(itself);
                (bound, bytes > bound + lag || by == devices && bytes > bound)
            }
            None => (took, bytes > 2.0 * took + lag),
        };
        if is_beyond {
            (bytes, by) = (bound.min(net), devices);
        }
    }
    // What it handed to the devices itself is surely its own. Where it writes otherwise, of large folios only a part may be new.
    let at_most = (otherwise || by == devices) && itself.is_none_or(|itself| itself < 0.9 * bytes);
    Known::Value(Written { bytes, by, at_most })
}
