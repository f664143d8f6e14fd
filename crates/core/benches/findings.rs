//! What the engine of findings takes for a sample: 1,000 and 10,000 processes of which 3 % did something, on a machine on which
//! nothing is wrong and on one where a disk is saturated. Beside it the bare loop over as many files of the kernel. Run with
//! `cargo bench --bench findings`.

use dozor_core::findings::Engine;
use dozor_core::reading::{CoreRow, DiskRow, HostFacts, ProcessRow, Reading, raw};
use dozor_core::sample::Sample;
use std::hint::black_box;
use std::sync::Arc;
use std::time::{Duration, Instant};

const SAMPLES: usize = 60;

fn rows(count: usize) -> Vec<Arc<ProcessRow>> {
    let row = |at: usize| {
        let name = format!("service{}", at % 40);
        Arc::new(ProcessRow {
            pid: raw(1_000 + at as i64),
            start_ticks: raw(4_000 + at as i64),
            ppid: raw(1),
            state: raw(i64::from(b'S')),
            name: name.as_str().into(),
            program: name.as_str().into(),
            user_ticks: raw(100),
            system_ticks: raw(10),
            rss_bytes: raw(30 << 20),
            threads: raw(2),
            files: raw(20),
            files_limit: raw(1_024),
            read_bytes: raw(0),
            write_bytes: raw(0),
            cancelled_bytes: raw(0),
            io_unknown: raw(0),
            read_calls: raw(0),
            write_calls: raw(0),
            read_any_bytes: raw(0),
            write_any_bytes: raw(0),
            ..ProcessRow::default()
        })
    };
    (0..count).map(row).collect()
}

fn add(value: &mut dozor_core::known::Raw, more: i64) {
    *value = raw(value.value().unwrap_or(0) + more);
}

/// Opens, reads and closes `stat` and `io` of this process as often as there are processes.
fn bare_loop(count: usize) -> Duration {
    let begin = Instant::now();
    for _ in 0..count {
        black_box(std::fs::read("/proc/self/stat").ok());
        black_box(std::fs::read("/proc/self/io").ok());
    }
    begin.elapsed()
}

fn main() {
    for count in [1_000, 10_000] {
        let bare = bare_loop(count);
        for saturated in [false, true] {
            let host = Arc::new(HostFacts { cores: 8, ticks_per_second: 100, ..HostFacts::default() });
            let mut now = Reading { processes: rows(count), ..Reading::default() };
            let core = |number| CoreRow {
                number: raw(number),
                user: raw(0),
                system: raw(0),
                idle: raw(0),
                ..CoreRow::default()
            };
            now.cores = (0..8).map(core).collect();
            now.disks = vec![DiskRow { name: "sda".into(), ..DiskRow::default() }];
            let mut engine = Engine::default();
            let (mut before, mut spent, mut worst) = (None, Duration::ZERO, Duration::ZERO);
            for second in 1..=SAMPLES as i64 {
                let active = count * 3 / 100;
                for at in 0..active {
                    let place = (at * 33 + second as usize) % count;
                    let row = Arc::make_mut(&mut now.processes[place]);
                    add(&mut row.user_ticks, 1);
                    add(&mut row.write_bytes, 4_096);
                }
                for core in &mut now.cores {
                    add(&mut core.user, 20);
                    add(&mut core.idle, 80);
                }
                let disk = &mut now.disks[0];
                let busy = if saturated { 990 } else { 30 };
                add(&mut disk.busy_ms, busy);
                add(&mut disk.writes, 1_000);
                add(&mut disk.write_ms, busy * 60);
                add(&mut disk.write_bytes, busy << 18);
                let ns = raw(second * 1_000_000_000);
                (now.system.wall_ns, now.system.monotonic_ns, now.system.boot_ns) = (ns, ns, ns);
                let reading = Arc::new(now.clone());
                let sample = Sample::new(host.clone(), before.replace(reading.clone()), reading);
                let begin = Instant::now();
                engine.look(&sample);
                let took = begin.elapsed();
                spent += took;
                worst = worst.max(took);
            }
            let mean = spent / SAMPLES as u32;
            println!(
                "{count} processes, {}: {:.0} µs a sample, at most {:.0} µs ({:.4} of the bare loop, which takes {:.1} ms; budget {} ms); {} found",
                if saturated { "a saturated disk" } else { "nothing wrong" },
                mean.as_secs_f64() * 1e6,
                worst.as_secs_f64() * 1e6,
                mean.as_secs_f64() / bare.as_secs_f64(),
                bare.as_secs_f64() * 1e3,
                if count == 1_000 { 1 } else { 4 },
                engine.history().all().len()
            );
        }
    }
}
