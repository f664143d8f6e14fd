//! Trends of the rows that are seen: the lens metric over the last samples, worked out once for each new sample.

use dozor_core::catalogue::Metric;
use dozor_core::rank::RowRef;
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use std::sync::Arc;

/// Samples that the trend of a row covers.
pub const TREND_SAMPLES: usize = 56;

/// Parts of the largest value among the rows, one for each cell; none where nothing is known.
pub type Trend = Vec<Option<f64>>;

/// Trends of some rows.
#[derive(Debug, Default)]
pub struct Trends {
    shown: Option<usize>,
    rows: Vec<Option<RowRef>>,
    metric: Option<&'static Metric>,
    cells: usize,
    /// Values of the metric for each row.
    values: Vec<Trend>,
    /// A trend for each row.
    pub list: Vec<Trend>,
}

impl Trends {
    /// Works them out anew where anything changed; rows that were seen before keep theirs while they are scrolled.
    pub fn follow(
        &mut self,
        shown: Option<usize>,
        window: &[Arc<Sample>],
        rows: &[Option<RowRef>],
        metric: &'static Metric,
        cells: usize,
    ) {
        let same_moment = self.shown == shown && self.metric == Some(metric) && self.cells == cells;
        if same_moment && self.rows == rows {
            return;
        }
        let known = |row: &Option<RowRef>| {
            let at = self.rows.iter().position(|other| other == row).filter(|_| same_moment)?;
            self.values.get(at).cloned()
        };
        self.values = rows
            .iter()
            .map(|row| known(row).unwrap_or_else(|| trend(shown.unwrap_or(0), window, *row, (metric, cells))))
            .collect();
        (self.shown, self.metric, self.cells, self.rows) = (shown, Some(metric), cells, rows.to_vec());
        // Next to nothing fills no trend.
        let largest = self.values.iter().flatten().flatten().copied().fold(metric.least_scale(), f64::max);
        self.list.clone_from(&self.values);
        if largest > 0.0 {
            self.list.iter_mut().flatten().flatten().for_each(|value| *value = (*value / largest).max(0.0));
        }
    }
}

fn trend(
    shown: usize,
    window: &[Arc<Sample>],
    row: Option<RowRef>,
    (metric, cells): (&Metric, usize),
) -> Trend {
    // Samples that one cell stands for.
    let per_cell = (TREND_SAMPLES / cells.max(1)).max(1);
    let mut trend = vec![None; cells];
    let Some(RowRef::Here(mut place)) = row else { return trend };
    let newest = shown / per_cell;
    for (back, sample) in window.iter().rev().enumerate() {
        // Cells begin at whole numbers of samples, so that they move only when one is full.
        let Some(cell) = cells.checked_sub(1 + newest - shown.saturating_sub(back) / per_cell) else {
            break;
        };
        if let Some(value) = metric.of(&sample.process(place)).number() {
            let most = trend[cell].unwrap_or(0.0f64).max(value);
            trend[cell] = Some(most);
        }
        let Some(older) = window.len().checked_sub(back + 2).map(|at| &window[at]) else { break };
        let is_next = sample.before.as_ref().is_some_and(|before| Arc::ptr_eq(before, &older.now));
        // The place in the sample before is known, unless samples are missing between the two.
        let before =
            if is_next { sample.earlier_place(place) } else { older.find(sample.now.processes[place].key()) };
        match before {
            Some(before) => place = before,
            None => break,
        }
    }
    trend
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::catalogue::listed;
    use dozor_core::reading::{HostFacts, ProcessRow, Reading, raw};

    #[test]
    fn next_to_nothing_fills_no_trend() {
        let share = |bytes_a_second: i64| {
            let reading = |second: i64| {
                let row = ProcessRow {
                    pid: raw(7),
                    start_ticks: raw(1),
                    read_bytes: raw(second * bytes_a_second),
                    write_bytes: raw(0),
                    ..ProcessRow::default()
                };
                let mut reading = Reading { processes: vec![Arc::new(row)], ..Reading::default() };
                let ns = raw(second * 1_000_000_000);
                (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
                Arc::new(reading)
            };
            let sample = Sample::new(Arc::new(HostFacts::default()), Some(reading(1)), reading(2));
            let mut trends = Trends::default();
            trends.follow(Some(0), &[Arc::new(sample)], &[Some(RowRef::Here(0))], listed("read"), 14);
            trends.list[0][13]
        };
        let ten_kb = share(10_000).expect("a value");
        assert!(ten_kb < 0.02, "ten kB/s beside nothing else is drawn as the little it is: {ten_kb}");
        assert_eq!(share(50_000_000), Some(1.0), "much is");
    }
}
