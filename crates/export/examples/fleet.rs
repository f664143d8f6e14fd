//! A made-up fleet: folders of recordings of many hosts over one day, for showing what engines make of them. Each host lives through one of
//! a few simulated nights, six times over, begun at another place; one in forty has a program that leaks all day.
//! `cargo run --release -p dozor-export --example fleet -- FOLDER HOSTS`

use dozor_core::demo::SimulatedMachine;
use dozor_core::reading::{HostFacts, Reading, raw};
use dozor_core::recording::{Mark, MarkKind, Writer};
use dozor_core::units::NANOS;
use dozor_core::wanted::Wanted;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

const EVERY: i64 = 60;
const NIGHT: i64 = 4 * 3_600;
const NIGHTS: u64 = 4;
const DAY: i64 = 86_400;
/// 2031-02-14 00:00 UTC.
const BEGIN: i64 = 1_928_793_600 * NANOS;

fn night(seed: u64) -> (HostFacts, Vec<Arc<Reading>>) {
    let mut machine = SimulatedMachine::new(seed);
    machine.want(Wanted::recorded());
    let readings = (0..NIGHT / EVERY).map(|step| {
        machine.advance_to(Duration::from_secs((step * EVERY) as u64));
        Arc::new(machine.reading())
    });
    let readings = readings.collect();
    (machine.host(), readings)
}

/// What a host records in a day.
fn day(number: usize, (host, readings): &(HostFacts, Vec<Arc<Reading>>)) -> Vec<u8> {
    let name = format!("obs-{number:03}");
    let host = HostFacts { name: name.clone(), ..host.clone() };
    let mut writer = Writer::new(Arc::new(host), Some(Duration::from_secs(EVERY as u64)));
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    let leaks = number % 40 == 7;
    for step in 0..DAY / EVERY {
        let at = (step as usize + number * 37) % readings.len();
        let mut reading = (*readings[at]).clone();
        let ns = step * EVERY * NANOS;
        let system = &mut reading.system;
        (system.wall_ns, system.monotonic_ns, system.boot_ns) =
            (raw(BEGIN + ns), raw(ns + DAY * NANOS), raw(ns + DAY * NANOS));
        if leaks && let Some(row) = reading.processes.iter_mut().find(|row| &*row.name == "catalogd") {
            let grown = step * 6 * (1 << 20);
            let row = Arc::make_mut(row);
            row.rss_bytes = raw(row.rss_bytes.value().unwrap_or(0) + grown);
        }
        writer.put(&Arc::new(reading), &mut bytes).expect("memory");
        if step == 200 {
            writer.mark(&Mark::new(BEGIN + ns, MarkKind::Bookmark, "the dome opens"), &mut bytes);
        }
    }
    writer.finish(&mut bytes);
    bytes
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [folder, hosts] = &arguments[..] else { panic!("expected FOLDER HOSTS") };
    let hosts: usize = hosts.parse().expect("a number of hosts");
    let nights: Vec<_> = std::thread::scope(|scope| {
        let all: Vec<_> =
            (1..=NIGHTS.min(hosts as u64)).map(|seed| scope.spawn(move || night(seed))).collect();
        all.into_iter().map(|one| one.join().expect("a night")).collect()
    });
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(1, usize::from) {
            scope.spawn(|| {
                while let Some(number) =
                    Some(next.fetch_add(1, Ordering::Relaxed)).filter(|number| *number < hosts)
                {
                    let place = Path::new(folder).join(format!("obs-{number:03}"));
                    std::fs::create_dir_all(&place).expect("a folder");
                    std::fs::write(place.join("day.dozor"), day(number, &nights[number % nights.len()]))
                        .expect("room");
                }
            });
        }
    });
}
