//! A made-up load for benchmarks: the simulated machine with 300 processes, of which 30 do something between two readings, and 20
//! that came and went.

#![allow(dead_code, reason = "each benchmark uses a part of it")]

use dozor_core::demo::SimulatedMachine;
use dozor_core::reading::{EndedRow, ProcessRow, Reading, raw};
use std::sync::Arc;
use std::time::Duration;

pub const PROCESSES: usize = 300;
const ACTIVE: usize = 30;
const SHORT_LIVED: i64 = 20;
pub const EVERY: i64 = 2;

/// Numbers that look random, the same in every run.
pub struct Chance(pub u64);

impl Chance {
    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut x = self.0;
        x = (x ^ x >> 30).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        x = (x ^ x >> 27).wrapping_mul(0x94d0_49bb_1331_11eb);
        x ^ x >> 31
    }

    pub fn below(&mut self, end: i64) -> i64 {
        (self.next() % end.max(1) as u64) as i64
    }

    /// Mostly small, sometimes far larger, as loads are.
    pub fn heavy(&mut self, scale: i64) -> i64 {
        let share = (self.next() >> 11) as f64 / (1u64 << 53) as f64;
        ((-(1.0 - share).ln()) * scale as f64) as i64
    }
}

/// How those who came and went are seen.
#[derive(Clone, Copy, PartialEq)]
pub enum Short {
    /// Between two readings: by the record of their end.
    Ended,
    /// By a reading, once.
    Rows,
}

pub struct Load {
    machine: SimulatedMachine,
    chance: Chance,
    rows: Vec<Arc<ProcessRow>>,
    favourites: Vec<usize>,
    short: Short,
    pid: i64,
    second: i64,
}

impl Load {
    pub fn new(short: Short) -> Load {
        let mut machine = SimulatedMachine::new(3);
        machine.want(dozor_core::wanted::Wanted::recorded());
        let mut rows = machine.reading().processes;
        let mut chance = Chance(7);
        for at in rows.len()..PROCESSES {
            let name = format!("service{}", at % 40);
            rows.push(Arc::new(ProcessRow {
                pid: raw(3_000 + at as i64 * 7),
                start_ticks: raw(4_000 + at as i64 * 113),
                ppid: raw(1),
                state: raw(i64::from(b'S')),
                command: format!("/opt/lynx/bin/{name} --instance {at} --log /var/log/{name}.log").into(),
                program: name.as_str().into(),
                name: name.as_str().into(),
                user: "catalog".into(),
                rss_bytes: raw(chance.heavy(30_000) * 4_096),
                user_ticks: raw(0),
                system_ticks: raw(0),
                ..ProcessRow::default()
            }));
        }
        rows.sort_by_key(|row| dozor_core::row::Row::key(&**row));
        let favourites = (0..PROCESSES).step_by(PROCESSES / 60).collect();
        Load { machine, chance, rows, favourites, short, pid: 40_000, second: 0 }
    }

    pub fn host(&self) -> Arc<dozor_core::reading::HostFacts> {
        Arc::new(self.machine.host())
    }

    pub fn next(&mut self) -> Arc<Reading> {
        self.second += EVERY;
        self.machine.advance_to(Duration::from_secs(self.second as u64 % 900));
        let mut reading = self.machine.reading();
        let chance = &mut self.chance;
        let jitter = chance.below(400_000);
        let ns = self.second * 1_000_000_000 + jitter;
        let system = &mut reading.system;
        let wall = 1_928_801_040_000_000_000 + ns + chance.below(300);
        (system.wall_ns, system.monotonic_ns, system.boot_ns) =
            (raw(wall), raw(ns + 86_400_000_000_000), raw(ns + 86_400_000_000_000 + chance.below(200)));
        // Who is active changes slowly: of the sixty that ever are, half do something between two readings.
        if chance.below(10) == 0 {
            let (at, who) = (chance.below(60) as usize, chance.below(PROCESSES as i64) as usize);
            self.favourites[at] = who;
        }
        let mut active: Vec<usize> = self.favourites[..20].to_vec();
        while active.len() < ACTIVE {
            let other = self.favourites[20 + chance.below(40) as usize];
            if !active.contains(&other) {
                active.push(other);
            }
        }
        for (rank, at) in active.into_iter().enumerate() {
            let row = Arc::make_mut(&mut self.rows[at]);
            let ran = chance.heavy(2_000_000_000 / (2 + rank as i64 * 4));
            let grown = |counter: &mut dozor_core::known::Raw, by: i64| {
                *counter = raw(counter.value().unwrap_or(0) + by);
            };
            grown(&mut row.run_ns, ran);
            // The kernel's ticks of 10 ms follow what it measures in nanoseconds.
            let ticks = row.run_ns.value().unwrap_or(0) / 10_000_000
                - row.user_ticks.value().unwrap_or(0)
                - row.system_ticks.value().unwrap_or(0);
            let system = chance.below(ticks.max(0) / 3 + 1);
            grown(&mut row.user_ticks, ticks.max(0) - system);
            grown(&mut row.system_ticks, system);
            grown(&mut row.switches_wait, 1 + chance.heavy(12));
            if rank < 6 {
                grown(&mut row.switches_forced, chance.heavy(9));
                grown(&mut row.faults_minor, chance.heavy(40));
                row.core = raw(chance.below(8));
            }
            if rank % 3 == 0 {
                grown(&mut row.read_any_bytes, chance.heavy(9_000));
                grown(&mut row.read_calls, chance.heavy(30));
                grown(&mut row.write_any_bytes, chance.heavy(6_000));
                grown(&mut row.write_calls, chance.heavy(20));
            }
            if rank % 5 == 0 {
                grown(&mut row.write_bytes, 4_096 * chance.heavy(30));
                row.rss_bytes = raw(row.rss_bytes.value().unwrap_or(0) + 4_096 * (chance.below(40) - 19));
                grown(&mut row.net_in_bytes, chance.heavy(4_000));
                grown(&mut row.net_out_bytes, chance.heavy(4_000));
            }
        }
        reading.processes.clone_from(&self.rows);
        self.short_lived(&mut reading);
        reading.sort();
        Arc::new(reading)
    }

    /// Those who came and went since the reading before.
    fn short_lived(&mut self, reading: &mut Reading) {
        let chance = &mut self.chance;
        reading.ended.clear();
        for order in 0..SHORT_LIVED {
            self.pid += 1 + chance.below(3);
            let cpu = 2_000 + chance.heavy(9_000);
            if self.short == Short::Ended {
                reading.ended.push(EndedRow {
                    name: "solve".into(),
                    parent: "solver".into(),
                    order: raw(order),
                    pid: raw(self.pid),
                    ppid: raw(1_200),
                    seen: raw(0),
                    elapsed: raw(cpu + chance.heavy(20_000)),
                    user: raw(cpu / 10 * 8),
                    system: raw(cpu / 10 * 2),
                    peak_bytes: raw(4_096 * (900 + chance.below(30))),
                    read_bytes: raw(0),
                    write_bytes: raw(0),
                    ..EndedRow::default()
                });
            } else {
                reading.processes.push(Arc::new(ProcessRow {
                    pid: raw(self.pid),
                    start_ticks: raw((self.second + 86_400) * 100 - 20 + order),
                    ppid: raw(1_200),
                    state: raw(i64::from(b'R')),
                    name: "solve".into(),
                    program: "solve".into(),
                    command: "/opt/lynx/bin/solve --field 12 --depth 3".into(),
                    user: "astro".into(),
                    cgroup: "/system.slice/solver.service".into(),
                    service: "solver.service".into(),
                    user_ticks: raw(chance.below(3)),
                    system_ticks: raw(chance.below(2)),
                    run_ns: raw(cpu * 1_000),
                    threads: raw(1),
                    rss_bytes: raw(4_096 * (900 + chance.below(30))),
                    virtual_bytes: raw(90 << 20),
                    faults_minor: raw(200 + chance.below(30)),
                    core: raw(chance.below(8)),
                    nice: raw(0),
                    priority: raw(20),
                    switches_wait: raw(chance.below(5)),
                    files: raw(4),
                    ..ProcessRow::default()
                }));
            }
        }
    }
}
