//! The index behind each block of readings: where they are and what the lanes show of them, so that the lanes of a day
//! are drawn without decoding it.

use super::codec::DecodeError;
use super::columnar::put_table;
use super::format::{LONGEST_PAYLOAD, ROW_WORK};
use super::mapping::Columns;
use super::numbers::{In, Out};
use super::packing::{Packer, Unpacker};
use super::past::Past;
use super::payload::Pieces;
use super::pool::Pool;
use super::texts::{Read, Written};
use crate::catalogue::{Kind, Metric, PROCESS_METRICS, Unit};
use crate::known::{Known, Raw};
use crate::lane::{Lane, PerLane, Point, Severity};
use crate::reading::ProcessKey;
use crate::row::Row;
use crate::rows;
use crate::sample::{ProcessView, Sample};
use crate::sorting::ColdSort as _;
use crate::text::Text;
use crate::timeline::Moment;
use crate::wanted::Demand;

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
        /// The highest that a thinned reading stands for.
        cpu_peak: "1/10 %" Level;
        /// What filled it then.
        cpu_peak_full: "1/10 %" Level;
        /// The worst.
        cpu_peak_severity: "" Label;
        /// The highest that a thinned reading stands for.
        memory_peak: "1/10 %" Level;
        /// What filled it then.
        memory_peak_full: "1/10 %" Level;
        /// The worst.
        memory_peak_severity: "" Label;
        /// The highest that a thinned reading stands for.
        disk_peak: "1/10 %" Level;
        /// What filled it then.
        disk_peak_full: "1/10 %" Level;
        /// The worst.
        disk_peak_severity: "" Label;
        /// The highest that a thinned reading stands for.
        network_peak: "1/10 bytes/s" Level;
        /// What filled it then.
        network_peak_full: "1/10 bytes/s" Level;
        /// The worst.
        network_peak_severity: "" Label;
        /// The highest that a thinned reading stands for.
        heat_peak: "1/10 °C" Level;
        /// What filled it then.
        heat_peak_full: "1/10 °C" Level;
        /// The worst.
        heat_peak_severity: "" Label;
    }
}

rows! {
    /// The most that a process had of a metric in the block.
    PeakRow "peak" key Text: |row| row.metric.clone();
    texts {
        /// Alias of the metric.
        metric;
        /// Name of the process.
        name;
    }
    fields {
        /// The value: the bits of an IEEE 754 double.
        bits: "" Label;
        /// Offset of the reading's system frame in the file.
        offset: "bytes" Label;
        /// The process.
        pid: "" Label;
        /// Start time of the process in clock ticks after boot.
        start_ticks: "ticks" Label;
        /// Readings of the block for which some process had a value.
        known: "count" Label;
    }
}

/// The most that a process had of a metric.
#[derive(Clone, Debug, PartialEq)]
pub struct Peak {
    /// Which metric.
    pub metric: &'static Metric,
    /// How much.
    pub value: f64,
    /// Where the reading stands.
    pub offset: u64,
    /// Which process.
    pub key: ProcessKey,
    /// Its name.
    pub name: Text,
    /// Readings for which some process had a value.
    pub known: usize,
}

impl Peak {
    fn row(&self) -> PeakRow {
        PeakRow {
            metric: self.metric.alias.into(),
            name: self.name.clone(),
            bits: Raw::new(self.value.to_bits() as i64),
            offset: Raw::new(self.offset as i64),
            pid: Raw::new(self.key.pid),
            start_ticks: Raw::new(self.key.start),
            known: Raw::new(self.known as i64),
        }
    }

    /// None for a metric that this program does not know, and where something makes no sense.
    fn of(row: &PeakRow) -> Option<Peak> {
        let value = f64::from_bits(row.bits.value()? as u64);
        let key = ProcessKey { pid: row.pid.value()?, start: row.start_ticks.value()? };
        let known = usize::try_from(row.known.value()?).ok()?;
        let offset = u64::try_from(row.offset.value()?).ok()?;
        let metric = PROCESS_METRICS.iter().find(|metric| *metric.alias == *row.metric)?;
        value.is_finite().then_some(Peak { metric, value, offset, key, name: row.name.clone(), known })
    }
}

/// The peaks of a block while it is written.
#[derive(Default)]
pub struct Peaks {
    peaks: Vec<Peak>,
    /// By the place of the metric: a process that had a value when all were asked last.
    witnesses: Vec<Option<ProcessKey>>,
}

/// Whether another process may have most of a metric though none of its own counters changed. All grow older alike.
fn changes_by_itself(metric: &Metric, sample: &Sample) -> bool {
    metric.alias == "core_temp" && !sample.now.sensors.is_empty()
}

impl Peaks {
    /// Takes in a reading. Of processes whose row is the one of the reading before nothing can be more than it was: all are
    /// asked at the first reading of a block, then those that changed, and one that tells whether the metric is still known.
    pub fn take(&mut self, offset: u64, sample: &Sample) {
        let views: Vec<_> = (0..sample.now.processes.len()).map(|at| sample.process(at)).collect();
        let first = self.witnesses.is_empty();
        let changed =
            |view: &&ProcessView<'_>| view.before.is_none_or(|before| !std::ptr::eq(before, view.now));
        let some: Vec<&ProcessView<'_>> = views.iter().filter(changed).collect();
        let metrics = PROCESS_METRICS.iter().filter(|metric| has_peaks(metric));
        for (place, metric) in metrics.enumerate() {
            let witness = self.witnesses.get(place).copied().flatten();
            let stands = witness.and_then(|key| sample.find(key)).map(|at| &views[at]);
            let all = first || changes_by_itself(metric, sample) || witness.is_some() && stands.is_none();
            let most = if all {
                most(metric, sample, views.iter())
            } else {
                most(metric, sample, some.iter().copied().chain(stands))
            };
            if all {
                let key = most.map(|(_, view)| view.now.key());
                match self.witnesses.get_mut(place) {
                    Some(witness) => *witness = key,
                    None => self.witnesses.push(key),
                }
            }
            let Some((value, view)) = most.filter(|(value, _)| value.is_finite()) else { continue };
            let peak = |known| {
                let (key, name) = (view.now.key(), view.now.name.clone());
                Peak { metric, value, offset, key, name, known }
            };
            match self.peaks.iter_mut().find(|peak| std::ptr::eq(peak.metric, metric)) {
                Some(before) if value > before.value => *before = peak(before.known + 1),
                Some(before) => before.known += 1,
                None => self.peaks.push(peak(1)),
            }
        }
    }

    /// Begins anew.
    pub fn clear(&mut self) {
        self.peaks.clear();
        self.witnesses.clear();
    }
}

/// The process that has most of a metric, of several equal ones the first.
fn most<'a, 'v: 'a>(
    metric: &Metric,
    sample: &Sample,
    views: impl Iterator<Item = &'a ProcessView<'v>>,
) -> Option<(f64, &'a ProcessView<'v>)> {
    let by_number = metric.by_number.map(|by| (by.number, (by.follows)(sample)));
    let of = |view: &ProcessView<'v>| match &by_number {
        Some((number, follows)) => follows(number(view.now)),
        None => metric.of(view),
    };
    let values = views.filter_map(|view| Some((of(view).number()?, view)));
    values.reduce(|most, other| if other.0 > most.0 { other } else { most })
}

/// Whether peaks of a metric mean something: amounts and rates of processes, no numbers that only identify.
pub fn has_peaks(metric: &Metric) -> bool {
    // What a control group has is no process's own.
    let own = metric.needs != Some(Demand::ControlGroup);
    own && matches!(metric.kind, Kind::Level | Kind::Rate) && !matches!(metric.unit, Unit::Text | Unit::Time)
}

/// What an index says.
#[derive(Clone, Debug, Default)]
pub struct Index {
    /// The offset of each reading, and what the lanes show of it.
    pub moments: Vec<(u64, Moment)>,
    /// The most that a process had of each metric.
    pub peaks: Vec<Peak>,
}

/// The columns of both tables, where a recording has them.
#[derive(Clone, Default)]
pub struct IndexColumns {
    /// Whether symbols take as much as they are unlikely, as since version 5.
    pub coded: bool,
    /// What the lanes show.
    pub moments: Option<Columns<IndexRow>>,
    /// What processes had most.
    pub peaks: Option<Columns<PeakRow>>,
}

/// Steps of a unit in which the lanes' values are kept.
const STEPS: f64 = 10.0;
const SEVERITIES: [Severity; 4] = [Severity::Fine, Severity::Notice, Severity::Warning, Severity::Critical];
/// The columns of the first lane; three for each.
const FIRST_LANE: usize = 4;
/// The columns of its peak, in the same way.
const FIRST_PEAK: usize = FIRST_LANE + 3 * Lane::ALL.len();

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
        for lane in Lane::ALL {
            row.put(FIRST_LANE, lane, &lane.point(sample));
        }
        row
    }

    fn put(&mut self, first: usize, lane: Lane, point: &Point) {
        let values = [kept(point.value), kept(point.full), Raw::new(point.severity as i64)];
        for (field, value) in IndexRow::FIELDS[first + 3 * lane as usize..].iter().zip(values) {
            field.set(self, value);
        }
    }

    fn point(&self, first: usize, lane: Lane) -> Point {
        let get = |column: usize| (IndexRow::FIELDS[first + 3 * lane as usize + column].get)(self);
        let shown = |raw: Raw| raw.float().map(|value| value / STEPS);
        let severity = get(2).value().and_then(|number| usize::try_from(number).ok());
        let severity = severity.and_then(|number| SEVERITIES.get(number)).copied().unwrap_or_default();
        Point { value: shown(get(0)), full: shown(get(1)), severity }
    }

    /// With the highest points of those that the reading stands for.
    #[must_use]
    pub fn with_peaks(mut self, peaks: Option<&PerLane<Point>>) -> IndexRow {
        for (lane, peak) in peaks.into_iter().flat_map(PerLane::iter) {
            self.put(FIRST_PEAK, lane, peak);
        }
        self
    }

    /// What the lanes show of it.
    pub fn moment(&self) -> Moment {
        let points = PerLane::from_fn(|lane| self.point(FIRST_LANE, lane));
        let peaks = PerLane::from_fn(|lane| self.point(FIRST_PEAK, lane));
        let seconds = self.covered_ms.value().filter(|ms| *ms > 0).map(|ms| ms as f64 / 1e3);
        let wall_ns = self.wall_us.value().unwrap_or(0).saturating_mul(1_000);
        Moment::new(wall_ns, seconds, self.lost.value() == Some(1), &points).with_peaks(&peaks)
    }
}

/// The payload of an index, made with a packer that is not in the middle of a stream.
pub fn payload(rows: &[IndexRow], peaks: &Peaks, packer: &mut Packer) -> std::io::Result<Vec<u8>> {
    let mut peaks: Vec<PeakRow> = peaks.peaks.iter().map(Peak::row).collect();
    peaks.cold_sort_by_key(Row::key);
    let (mut tables, mut texts) = (Out::default(), Written::default());
    put_table(rows, &[], &mut Past::default(), &mut texts, &mut tables);
    put_table(&peaks, &[], &mut Past::default(), &mut texts, &mut tables);
    tables.finish();
    let (mut packed, mut out) = (vec![], vec![]);
    packer.restart()?;
    packer.pack(&tables.texts, &mut packed)?;
    Pieces { coded: Some(tables.coder.bytes()), packed: Some(&packed), bits: &tables.bits }.put(&mut out);
    Ok(out)
}

impl IndexColumns {
    /// What an index says, in the columns that the head names.
    /// It tells of at most so many readings. Gives as well what reading it took.
    pub fn read(&self, payload: &[u8], readings: usize) -> Result<(Index, u64), DecodeError> {
        /// More than a row of either table can have in the file.
        const ROW: usize = 512;
        let most_peaks = PROCESS_METRICS.len() + 1;
        let most = (readings + most_peaks).saturating_mul(ROW).min(LONGEST_PAYLOAD as usize);
        let mut unpacked = vec![];
        let pieces = Pieces::of(payload, self.coded)?;
        if let Some(packed) = pieces.packed {
            let done = Unpacker::new().and_then(|mut unpacker| unpacker.unpack(packed, most, &mut unpacked));
            done.map_err(|_| DecodeError::Packing)?;
        }
        let mut input = In::new(pieces.coded, &unpacked, pieces.bits, most as u64);
        let mut texts = Read::default();
        let mut room = readings.saturating_mul(size_of::<IndexRow>());
        let (mut rows, mut peaks): (Vec<IndexRow>, Vec<PeakRow>) = (vec![], vec![]);
        let columns = self.moments.as_ref().ok_or(DecodeError::NoSuch)?;
        columns.change(
            &mut rows,
            &mut Pool::default(),
            &mut Past::default(),
            &mut texts,
            &mut room,
            &mut input,
        )?;
        if let Some(columns) = &self.peaks {
            // Of metrics that a later program knows as well.
            let mut room = 4 * most_peaks * size_of::<PeakRow>();
            columns.change(
                &mut peaks,
                &mut Pool::default(),
                &mut Past::default(),
                &mut texts,
                &mut room,
                &mut input,
            )?;
        }
        let place = |row: &IndexRow| row.offset.value().unwrap_or(-1) as u64;
        let work = input.spent() + (rows.len() + peaks.len()) as u64 * ROW_WORK;
        let index = Index {
            moments: rows.iter().map(|row| (place(row), row.moment())).collect(),
            peaks: peaks.iter().filter_map(Peak::of).collect(),
        };
        Ok((index, work))
    }
}
