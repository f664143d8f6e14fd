//! A small machine on which nothing happens by itself.

use crate::known::Raw;
use crate::reading::{
    CoreRow, DiskRow, FilesystemRow, HostFacts, InterfaceRow, ProcessRow, Reading, SensorRow, raw,
};
use std::sync::Arc;

/// Its cores.
pub const CORES: i64 = 4;
pub(super) const GIB: i64 = 1 << 30;
pub(super) const MIB: i64 = 1 << 20;

/// Adds to a counter, or to a level.
pub fn add(raw_value: &mut Raw, more: i64) {
    *raw_value = raw(raw_value.value().unwrap_or(0) + more);
}

/// A machine whose counters go on second by second.
pub struct World {
    /// What its counters show.
    pub now: Reading,
    /// Seconds that it has lived.
    pub second: i64,
}

/// A process as they all are.
pub fn process(pid: i64, name: &str, parent: i64) -> ProcessRow {
    ProcessRow {
        pid: raw(pid),
        // A quarter of an hour before it is looked at.
        start_ticks: raw(10_000 + pid),
        ppid: raw(parent),
        state: raw(i64::from(b'S')),
        name: name.into(),
        program: name.into(),
        command: format!("{name} --serve").into(),
        user: "astro".into(),
        service: format!("{name}.service").into(),
        cgroup: format!("/system.slice/{name}.service").into(),
        limits: format!("/system.slice/{name}.service").into(),
        session: raw(pid),
        user_ticks: raw(500),
        system_ticks: raw(100),
        run_ns: raw(6_000_000_000),
        rss_bytes: raw((20 + pid % 97) * MIB),
        shared_bytes: raw(8 * MIB),
        threads: raw(2),
        nice: raw(0),
        read_bytes: raw(0),
        write_bytes: raw(0),
        cancelled_bytes: raw(0),
        io_unknown: raw(0),
        read_calls: raw(0),
        write_calls: raw(0),
        read_any_bytes: raw(0),
        write_any_bytes: raw(0),
        switches_wait: raw(0),
        switches_forced: raw(0),
        core_wait_ns: raw(0),
        net_in_bytes: raw(0),
        net_out_bytes: raw(0),
        datagram_drops: raw(0),
        datagram_sockets: raw(1),
        files: raw(20),
        files_limit: raw(1_024),
        core: raw(0),
        children_user_ticks: raw(0),
        children_system_ticks: raw(0),
        faults_major: raw(0),
        faults_minor: raw(0),
        ..ProcessRow::default()
    }
}

impl Default for World {
    fn default() -> World {
        World::new()
    }
}

impl World {
    #[allow(clippy::too_many_lines, reason = "a list of everything that a machine has")]
    /// The machine, a quarter of an hour after its start.
    pub fn new() -> World {
        let mut now = Reading::default();
        let core = |number: i64| CoreRow {
            number: raw(number),
            user: raw(0),
            nice: raw(0),
            system: raw(0),
            idle: raw(0),
            iowait: raw(0),
            irq: raw(0),
            softirq: raw(0),
            steal: raw(0),
            throttles: raw(0),
            ..CoreRow::default()
        };
        now.cores = (0..CORES).map(core).collect();
        let zero = raw(0);
        let system = &mut now.system;
        (system.transfers_noted, system.transfers_missed) = (raw(1), zero);
        // Its CPU time is the sum of its cores', second by second.
        for counter in [
            &mut system.switches,
            &mut system.interrupts,
            &mut system.forks,
            &mut system.swap_in,
            &mut system.swap_out,
            &mut system.oom_kills,
            &mut system.tcp_retransmits,
            &mut system.tcp_segments,
            &mut system.udp_in,
            &mut system.udp_out,
            &mut system.udp_errors,
            &mut system.pressure_cpu_some,
            &mut system.pressure_memory_some,
            &mut system.pressure_memory_full,
            &mut system.pressure_io_some,
            &mut system.pressure_io_full,
            &mut system.notifications_lost,
            &mut system.blocked,
        ] {
            *counter = zero;
        }
        (system.load_1, system.load_5, system.load_15) = (raw(14), raw(11), raw(9));
        (system.running, system.mem_total, system.mem_available) = (raw(1), raw(16 * GIB), raw(12 * GIB));
        (system.mem_free, system.swap_total, system.swap_free) = (raw(4 * GIB), raw(4 * GIB), raw(4 * GIB));
        now.processes = [
            process(1, "init", 0),
            process(210, "catalogd", 1),
            process(320, "skyboard", 1),
            process(430, "guider", 1),
            process(540, "nightqueue", 1),
        ]
        .into_iter()
        .map(Arc::new)
        .collect();
        now.disks = vec![DiskRow {
            name: "sda".into(),
            rotational: raw(0),
            reads: zero,
            read_bytes: zero,
            read_ms: zero,
            writes: zero,
            write_bytes: zero,
            write_ms: zero,
            in_flight: zero,
            busy_ms: zero,
            queue_ms: zero,
            discard_bytes: zero,
            discard_ms: zero,
            flushes: zero,
            flush_ms: zero,
            ..DiskRow::default()
        }];
        now.interfaces = vec![InterfaceRow {
            name: "eth0".into(),
            in_bytes: zero,
            in_packets: zero,
            in_errors: zero,
            in_drops: zero,
            out_bytes: zero,
            out_packets: zero,
            out_errors: zero,
            out_drops: zero,
            speed_bits: raw(1_000_000_000),
            ..InterfaceRow::default()
        }];
        now.filesystems = vec![FilesystemRow {
            mount: "/data".into(),
            device: "/dev/sda1".into(),
            answers: raw(1),
            size: raw(100 * GIB),
            used: raw(40 * GIB),
            available: raw(60 * GIB),
            inodes: raw(1_000_000),
            inodes_free: raw(900_000),
            ..FilesystemRow::default()
        }];
        now.sensors = vec![
            SensorRow {
                name: "package".into(),
                temperature: raw(50_000),
                limit: raw(95_000),
                ..SensorRow::default()
            },
            SensorRow { name: "fan 1".into(), fan: raw(1_200), fan_min: raw(400), ..SensorRow::default() },
        ];
        World { now, second: 0 }
    }

    /// A process, to be changed.
    ///
    /// # Panics
    /// Where there is none.
    pub fn process(&mut self, pid: i64) -> &mut ProcessRow {
        let row = self.now.processes.iter_mut().find(|row| row.pid.value() == Some(pid));
        Arc::make_mut(row.expect("it is there"))
    }

    /// A process uses so many ticks of a second on a core.
    pub fn uses(&mut self, pid: i64, core: i64, ticks: i64) {
        let row = self.process(pid);
        add(&mut row.user_ticks, ticks);
        add(&mut row.run_ns, ticks * 10_000_000);
        row.core = raw(core);
        self.core(core, |core| &mut core.user, ticks);
    }

    /// A class of a core's time.
    pub fn core(&mut self, number: i64, class: fn(&mut CoreRow) -> &mut Raw, ticks: i64) {
        add(class(&mut self.now.cores[number as usize]), ticks);
    }

    /// The same at another second of its life.
    #[must_use]
    pub fn at(self, second: i64) -> World {
        World { second, ..self }
    }

    /// A little always happens.
    pub fn live(&mut self) {
        for (pid, core, ticks) in [(210, 1, 3), (320, 2, 2)] {
            if self.now.processes.iter().any(|row| row.pid.value() == Some(pid)) {
                self.uses(pid, core, ticks);
            }
        }
    }

    /// A second goes by: what was not used was idle.
    pub fn pass(&mut self) -> Arc<Reading> {
        self.second += 1;
        let sum = |core: &CoreRow| {
            [core.user, core.nice, core.system, core.iowait, core.irq, core.softirq, core.steal]
                .iter()
                .filter_map(|raw| raw.value())
                .sum::<i64>()
        };
        let second = self.second;
        for core in &mut self.now.cores {
            let used = sum(core);
            // The idle time is what is left of all the seconds so far.
            core.idle = raw((second * 100 - used).max(core.idle.value().unwrap_or(0)));
        }
        let all = |class: fn(&CoreRow) -> Raw| -> i64 {
            self.now.cores.iter().filter_map(|core| class(core).value()).sum()
        };
        let sums = [
            all(|c| c.user),
            all(|c| c.nice),
            all(|c| c.system),
            all(|c| c.idle),
            all(|c| c.iowait),
            all(|c| c.irq),
            all(|c| c.softirq),
            all(|c| c.steal),
        ];
        let system = &mut self.now.system;
        for (counter, sum) in [
            &mut system.user,
            &mut system.nice,
            &mut system.system,
            &mut system.idle,
            &mut system.iowait,
            &mut system.irq,
            &mut system.softirq,
            &mut system.steal,
        ]
        .into_iter()
        .zip(sums)
        {
            *counter = raw(sum);
        }
        let ns = (1_000 + self.second) * 1_000_000_000;
        (system.wall_ns, system.monotonic_ns, system.boot_ns) =
            (raw(1_900_000_000_000_000_000 + ns), raw(ns), raw(ns));
        let mut reading = self.now.clone();
        reading.sort();
        self.now.ended.clear();
        Arc::new(reading)
    }

    /// Whose it is.
    pub fn host() -> Arc<HostFacts> {
        Arc::new(HostFacts {
            name: "lynx-obs".into(),
            kernel: "Linux 6.12.9-obs".into(),
            cores: CORES as u32,
            ticks_per_second: 100,
            ..HostFacts::default()
        })
    }
}
