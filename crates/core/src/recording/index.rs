//! The index behind each block of readings: where they are and what the lanes show of them, so that the lanes of a day
//! are drawn without decoding it.

use super::codec::{DecodeError, Read, Written};
use super::columnar::put_table;
use super::format::MOST_ROWS;
use super::mapping::Columns;
use super::numbers::{In, Out};
use super::packing::{Packer, Unpacker};
use super::reader::apart;
use super::writer::together;
use crate::known::{Known, Raw};
use crate::lane::{Lane, Point, Severity};
use crate::row::Row;
use crate::rows;
use crate::sample::Sample;
use crate::timeline::Moment;

rows! {
    /// One reading on the lanes.
    IndexRow "index" key i64: |row| row.offset.value().unwrap_or(-1);
    texts {}
    fields {
        /// Offset of the frame of its system part in the file.
        offset: "bytes" Label;
        /// Wall clock, microseconds since 1970 (UTC).
        wall_us: "us" Level;
        /// Time since the reading before, which its rates cover; absent where they are not known.
        covered_ms: "ms" Level;
        /// 1 where readings just before it are lost.
        lost: "" Label;
        /// Share of CPU time in use.
        cpu: "1/10 %" Level;
        /// What fills the lane.
        cpu_full: "1/10 %" Level;
        /// 0 fine, 1 notice, 2 warning, 3 critical.
        cpu_severity: "" Label;
        /// Memory in use.
        memory: "1/10 %" Level;
        /// What fills the lane.
        memory_full: "1/10 %" Level;
        /// As for cpu.
        memory_severity: "" Label;
        /// Busy share of the busiest disk.
        disk: "1/10 %" Level;
        /// What fills the lane.
        disk_full: "1/10 %" Level;
        /// As for cpu.
        disk_severity: "" Label;
        /// Traffic of all interfaces.
        network: "1/10 bytes/s" Level;
        /// What fills the lane.
        network_full: "1/10 bytes/s" Level;
        /// As for cpu.
        network_severity: "" Label;
        /// Highest temperature.
        heat: "1/10 °C" Level;
        /// What fills the lane.
        heat_full: "1/10 °C" Level;
        /// As for cpu.
        heat_severity: "" Label;
    }
}

/// Steps of a unit in which the lanes' values are kept.
const STEPS: f64 = 10.0;
const SEVERITIES: [Severity; 4] = [Severity::Fine, Severity::Notice, Severity::Warning, Severity::Critical];
/// The columns of the first lane; three for each.
const FIRST_LANE: usize = 4;

fn kept(value: Known<f64>) -> Raw {
    Raw::from(value.map(|value| (value * STEPS).round() as i64))
}

impl IndexRow {
    /// The row of the reading at `offset`.
    pub fn new(offset: u64, sample: &Sample, lost: bool) -> IndexRow {
        let mut row = IndexRow {
            offset: Raw::new(offset as i64),
            wall_us: Raw::new(sample.now.wall_ns().div_euclid(1_000)),
            covered_ms: sample.seconds().map(|seconds| (seconds * 1e3).round().max(1.0) as i64).into(),
            lost: i64::from(lost).into(),
            ..IndexRow::default()
        };
        for (at, lane) in Lane::ALL.into_iter().enumerate() {
            let point = lane.point(sample);
            let severity = point.severity as i64;
            let values = [kept(point.value), kept(point.full), Raw::new(severity)];
            for (field, value) in IndexRow::FIELDS[FIRST_LANE + 3 * at..].iter().zip(values) {
                (field.set)(&mut row, value);
            }
        }
        row
    }

    /// What the lanes show of it.
    pub fn moment(&self) -> Moment {
        let points = std::array::from_fn(|at| {
            let get = |column: usize| (IndexRow::FIELDS[FIRST_LANE + 3 * at + column].get)(self);
            let shown = |raw: Raw| raw.float().map(|value| value / STEPS);
            let severity = get(2).value().and_then(|number| usize::try_from(number).ok());
            let severity = severity.and_then(|number| SEVERITIES.get(number)).copied().unwrap_or_default();
            Point { value: shown(get(0)), full: shown(get(1)), severity }
        });
        let seconds = self.covered_ms.value().filter(|ms| *ms > 0).map(|ms| ms as f64 / 1e3);
        let wall_ns = self.wall_us.value().unwrap_or(0).saturating_mul(1_000);
        Moment::new(wall_ns, seconds, self.lost.value() == Some(1), points)
    }
}

/// The payload of an index.
pub fn payload(rows: &[IndexRow]) -> Vec<u8> {
    let mut table = Out::default();
    put_table(rows, &[], &mut IndexRow::default(), &mut Written::default(), &mut table);
    table.finish();
    let (mut packed, mut out) = (vec![], vec![]);
    let done = Packer::new().and_then(|mut packer| packer.pack(&table.bytes, &mut packed));
    // Without memory for it there is no index, which is only slower.
    if done.is_ok() {
        together(&packed, &table.bits, &mut out);
    }
    out
}

/// The rows of an index, in the columns that the head names.
pub fn rows(columns: &Columns<IndexRow>, payload: &[u8]) -> Result<Vec<IndexRow>, DecodeError> {
    let mut table = vec![];
    let (packed, bits) = apart(payload)?;
    let unpacked = Unpacker::new().and_then(|mut unpacker| unpacker.unpack(packed, &mut table));
    unpacked.map_err(|_| DecodeError::Packing)?;
    let mut rows = vec![];
    let (mut last, mut room) = (IndexRow::default(), MOST_ROWS);
    let mut input = In::new(&table, bits);
    columns.change(&mut rows, &mut last, &mut Read::default(), &mut room, &mut input)?;
    if input.is_done() { Ok(rows) } else { Err(DecodeError::Trailing) }
}
