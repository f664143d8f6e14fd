//! What looking back costs: memory of a live screen's history after hours at 1 s with 300 processes, of which 30 or all
//! are active, and after half an hour with 10,000 of which 3 % are. Run with `cargo bench --bench history`; takes some seconds for hours of made-up readings.

use dozor_core::reading::{HostFacts, ProcessRow, Reading, raw};
use dozor_core::timeline::Timeline;
use std::sync::Arc;

/// Processes, those of them that are active, seconds, the budget in MiB.
const CASES: [(usize, usize, i64, u32); 3] =
    [(10_000, 300, 1_800, 80), (300, 30, 14_400, 60), (300, 300, 14_400, 60)];

fn resident() -> u64 {
    let text = std::fs::read_to_string("/proc/self/statm").expect("our own memory");
    let pages: u64 = text.split(' ').nth(1).and_then(|word| word.parse().ok()).expect("pages");
    pages * rustix::param::page_size() as u64
}

fn mib(bytes: u64) -> f64 {
    bytes as f64 / f64::from(1 << 20)
}

fn main() {
    for (processes, active, seconds, budget) in CASES {
        let before = resident();
        let host = HostFacts { cores: 8, ticks_per_second: 100, ..HostFacts::default() };
        let mut timeline = Timeline::live(Arc::new(host));
        let mut rows: Vec<Arc<ProcessRow>> = (0..processes as i64)
            .map(|at| {
                let command = format!("/opt/lynx/bin/program{at} --number {at}");
                let pid = raw(100 + at);
                Arc::new(ProcessRow {
                    pid,
                    start_ticks: raw(1),
                    command: command.into(),
                    ..ProcessRow::default()
                })
            })
            .collect();
        for second in 1..=seconds {
            let mut reading = Reading::default();
            let ns = raw(second * 1_000_000_000);
            (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
            for (at, row) in rows.iter_mut().enumerate().take(active) {
                let grown = second * (1 + at as i64 % 7);
                let row = Arc::make_mut(row);
                (row.user_ticks, row.system_ticks, row.run_ns) =
                    (raw(grown), raw(second), raw(grown * 9_731_113));
                (row.read_bytes, row.write_bytes) = (raw(grown * 4_096), raw(grown * 8_192));
                (row.read_calls, row.write_calls) = (raw(grown * 3), raw(grown * 2));
                (row.read_any_bytes, row.write_any_bytes) = (raw(grown * 5_003), raw(grown * 9_001));
                (row.switches_wait, row.faults_minor) = (raw(grown * 2), raw(grown));
                row.rss_bytes = raw((50 << 20) + (grown % 97) * 4_096);
            }
            reading.processes.clone_from(&rows);
            timeline.append(Arc::new(reading));
        }
        let newest = timeline.end() - 1;
        let wall = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
        let fine = (timeline.first()..=newest)
            .rev()
            .take_while(|number| {
                timeline
                    .moment(*number)
                    .and_then(|moment| moment.seconds)
                    .is_some_and(|seconds| seconds < 1.5)
            })
            .count();
        println!(
            "{processes} processes, {active} active, {:.1} h at 1 s: {:.1} MiB of history (budget {budget} MiB), \
             {:.0} min as they came, {:.1} h in all; the timeline accounts for {:.1} MiB",
            seconds as f64 / 3_600.0,
            mib(resident().saturating_sub(before)),
            fine as f64 / 60.0,
            (wall(newest) - wall(timeline.first())) as f64 / 3.6e12,
            mib(timeline.bytes()),
        );
    }
}
