//! What several benchmarks share: a machine with 10,000 processes.

use dozor_core::demo::SimulatedMachine;
use dozor_core::reading::{ProcessRow, Reading, raw};
use std::sync::Arc;
use std::time::Duration;

/// How many processes there are: 10,000, or as many as `DOZOR_CROWD` says.
pub fn processes() -> i64 {
    std::env::var("DOZOR_CROWD").ok().and_then(|count| count.parse().ok()).unwrap_or(10_000)
}

/// One in so many processes does something between two readings.
const ACTIVE: i64 = 33;

/// A reading of the simulated server with many more processes.
pub fn reading(machine: &mut SimulatedMachine, second: u64, last: &mut Vec<Arc<ProcessRow>>) -> Arc<Reading> {
    machine.advance_to(Duration::from_secs(second));
    let mut reading = machine.reading();
    if last.is_empty() {
        *last = (0..processes()).map(|at| Arc::new(process(at))).collect();
    }
    for (at, row) in last.iter_mut().enumerate() {
        if at as i64 % ACTIVE == second as i64 % ACTIVE {
            let row = Arc::make_mut(row);
            let grown = |counter: &mut dozor_core::known::Raw, by: i64| {
                *counter = raw(counter.value().unwrap_or(0) + by);
            };
            grown(&mut row.user_ticks, 1 + at as i64 % 50);
            grown(&mut row.write_bytes, 4096 * (at as i64 % 9));
        }
    }
    reading.processes.clone_from(last);
    Arc::new(reading)
}

fn process(at: i64) -> ProcessRow {
    ProcessRow {
        pid: raw(100 + at),
        start_ticks: raw(1 + at),
        // Families of some depth, as on a server with many workers.
        ppid: raw(if at < 10 { 1 } else { 100 + at / 7 }),
        state: raw(i64::from(b'S')),
        name: format!("worker{at}").as_str().into(),
        command: format!("/opt/lynx/bin/worker --shard {at} --of {}", processes()).as_str().into(),
        user: if at % 3 == 0 { "astro".into() } else { "catalog".into() },
        program: format!("worker{}", at % 40).as_str().into(),
        service: format!("service{}", at % 300).as_str().into(),
        core: raw(at % 128),
        user_ticks: raw(at),
        system_ticks: raw(at),
        read_bytes: raw(0),
        write_bytes: raw(0),
        net_in_bytes: raw(0),
        net_out_bytes: raw(0),
        rss_bytes: raw(at << 14),
        threads: raw(1),
        nice: raw(0),
        ..ProcessRow::default()
    }
}
