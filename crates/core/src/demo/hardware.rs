//! The counters of the simulated hardware, kept finer than a kernel shows them, and the rows that they give.

use super::chance::{liveliness, share};
use super::site::{Hardware, TICKS};
use super::story::{self, happens};
use crate::known::Raw;
use crate::reading::{
    BatteryRow, CoreRow, DiskRow, FilesystemRow, GpuRow, InterfaceRow, InterruptRow, Reading, SensorRow,
    SoftirqRow, raw,
};

/// Length of a step of the simulation in seconds.
pub const STEP: f64 = 0.1;
/// The simulated machine booted so long before the story begins.
pub const UP_SECONDS: f64 = 12.0 * 86_400.0 + 4.0 * 3600.0 + 25.0 * 60.0;
/// What the fast disk of the smallest machine can write, bytes per second.
pub const DISK_RATE: f64 = 228.0 * MIB;
pub const MIB: f64 = 1_048_576.0;

/// CPU time of a core by class, in seconds.
#[derive(Clone, Copy, Default)]
pub struct Classes {
    pub user: f64,
    pub nice: f64,
    pub system: f64,
    pub iowait: f64,
    pub softirq: f64,
}

impl Classes {
    fn all(&self) -> f64 {
        self.user + self.nice + self.system + self.iowait + self.softirq
    }

    fn busy(&self) -> f64 {
        self.all() - self.iowait
    }

    fn idle(&self, seconds: f64) -> f64 {
        (UP_SECONDS + seconds - self.all()).max(0.0)
    }
}

/// Requests, bytes and milliseconds of a device.
#[derive(Clone, Copy, Default)]
struct DiskCounters {
    reads: f64,
    read: f64,
    writes: f64,
    written: f64,
    wait: [f64; 2],
    busy: f64,
}

#[derive(Clone, Copy, Default)]
struct LinkCounters {
    received: f64,
    sent: f64,
    packets: [f64; 2],
    errors: f64,
    drops: f64,
}

/// What a step of the simulation did, for the hardware to count.
#[derive(Clone, Copy, Default)]
pub struct Load {
    /// CPU time wanted against what there is.
    pub crowding: f64,
    /// Writing wanted against what the fast disk can.
    pub full: f64,
    /// How much writers wait, 0 to 1.
    pub waiting: f64,
    /// Bytes that reached the fast disk, and that came from it.
    pub written: f64,
    pub read: f64,
    /// Bytes that the copy to the other place sent.
    pub uploaded: f64,
    /// Tasks that run or want to, and that wait for a disk.
    pub running: i64,
    pub blocked: i64,
    /// Part of the memory that is in use.
    pub memory: f64,
    /// Part of the graphics processor that is busy.
    pub graphics: f64,
}

/// Sources of interrupts: name, meaning.
const SOURCES: [(&str, &str); 8] = [
    ("9", "acpi"),
    ("41", "nvme0q0"),
    ("42", "nvme0q1"),
    ("43", "nvme0q2"),
    ("44", "ahci"),
    ("45", "network link 1"),
    ("LOC", "Local timer interrupts"),
    ("RES", "Rescheduling interrupts"),
];
const SOFTIRQS: [&str; 6] = ["BLOCK", "NET_RX", "NET_TX", "RCU", "SCHED", "TIMER"];

/// Counters of the machine.
#[derive(Clone)]
pub struct Machine {
    pub hardware: Hardware,
    pub classes: Vec<Classes>,
    busy_before: Vec<f64>,
    pub switches: f64,
    pub interrupts: f64,
    pub forks: f64,
    pub load: [f64; 3],
    disks: Vec<DiskCounters>,
    links: Vec<LinkCounters>,
    irqs: Vec<[f64; SOURCES.len()]>,
    softirqs: Vec<[f64; SOFTIRQS.len()]>,
    /// Part of the time that each core was busy in the last step.
    pub busy: Vec<f64>,
    pub temperature: f64,
    throttles: f64,
    energy: f64,
    power: f64,
    pub dirty: f64,
    pub swapped: f64,
    pub swap_in: f64,
    pub swap_out: f64,
    pub faults_major: f64,
    pub oom_kills: i64,
    pub retransmits: f64,
    pub segments: f64,
    pub datagrams: f64,
    /// Microseconds: cpu some, memory some, memory full, io some, io full.
    pub pressure: [f64; 5],
    archived: f64,
    charge: f64,
    graphics: [f64; 2],
    pub running: i64,
    pub blocked: i64,
}

impl Machine {
    pub fn new(hardware: Hardware) -> Machine {
        let cores = hardware.cores;
        // The counters do not begin at zero: the machine has been up for days.
        let past = Classes {
            user: 0.21 * UP_SECONDS,
            nice: 0.02 * UP_SECONDS,
            system: 0.05 * UP_SECONDS,
            iowait: 0.01 * UP_SECONDS,
            softirq: 0.01 * UP_SECONDS,
        };
        let disks = vec![DiskCounters::default(); hardware.disks.len()];
        let links = vec![LinkCounters::default(); hardware.interfaces.len()];
        Machine {
            classes: vec![past; cores],
            busy_before: vec![past.busy(); cores],
            switches: 0.0,
            interrupts: 0.0,
            forks: 910_000.0,
            load: [2.9, 2.7, 2.6].map(|load| load * cores as f64 / 8.0),
            disks,
            links,
            irqs: vec![[0.0; SOURCES.len()]; cores],
            softirqs: vec![[0.0; SOFTIRQS.len()]; cores],
            busy: vec![0.0; cores],
            temperature: 58.0,
            throttles: 0.0,
            energy: 0.0,
            power: 0.0,
            dirty: 0.0,
            swapped: 0.4 * 1024.0 * MIB,
            swap_in: 0.0,
            swap_out: 0.0,
            faults_major: 81_000.0,
            oom_kills: 0,
            retransmits: 0.0,
            segments: 0.0,
            datagrams: 0.0,
            pressure: [0.0; 5],
            archived: 0.0,
            charge: 0.71,
            graphics: [0.0; 2],
            running: 0,
            blocked: 0,
            hardware,
        }
    }

    /// Counts what a step did.
    pub fn account(&mut self, seed: u64, step: u64, seconds: f64, load: &Load) {
        self.count_cores(seed, step, load);
        self.count_disks(seed, step, seconds, load);
        self.count_links(seed, seconds, load);
        self.count_memory(load);
        self.count_heat(seconds, load);
        (self.running, self.blocked) = (load.running, load.blocked);
        let wants = (load.running + load.blocked) as f64;
        for (load, minutes) in self.load.iter_mut().zip([1.0, 5.0, 15.0]) {
            *load += (wants - *load) * (1.0 - (-STEP / (minutes * 60.0)).exp());
        }
        let micros = STEP * 1e6;
        let crowded = (load.crowding - 0.75).clamp(0.0, 0.6);
        let squeezed = ((load.memory - 0.9) * 6.0).clamp(0.0, 0.5);
        for (pressure, part) in self.pressure.iter_mut().zip([
            crowded,
            squeezed,
            squeezed * 0.4,
            (load.waiting * 0.8 + squeezed * 0.5).min(1.0),
            load.waiting * 0.35,
        ]) {
            *pressure += part * micros;
        }
        self.graphics = [load.graphics, self.graphics[1] + (load.graphics - self.graphics[1]) * STEP / 20.0];
    }

    fn count_cores(&mut self, seed: u64, step: u64, load: &Load) {
        let cores = self.classes.len();
        self.switches += STEP * (9_000.0 + 14_000.0 * load.crowding) * cores as f64 / 8.0;
        for at in 0..cores {
            let core = &mut self.classes[at];
            core.softirq += STEP * softirq_part(at);
            self.busy[at] = ((core.busy() - self.busy_before[at]) / STEP).clamp(0.0, 1.0);
            self.busy_before[at] = core.busy();
            let busy = self.busy[at];
            let noise = 0.8 + 0.4 * share(seed, 500 + at as u64, step);
            let requests = (load.written + load.read) / STEP / 100_000.0;
            let packets = if at == 0 { 19_000.0 * noise } else { 0.0 };
            let rates = [
                if at == 0 { 0.3 } else { 0.0 },
                if at == 0 { 2.0 } else { 0.0 },
                if at % 2 == 0 { requests / cores as f64 * noise } else { 0.0 },
                if at % 2 == 1 { requests / cores as f64 * noise } else { 0.0 },
                if at == cores - 1 { 38.0 * noise } else { 0.0 },
                packets * 0.6,
                60.0 + 190.0 * busy,
                (20.0 + 240.0 * busy) * noise,
            ];
            for (count, rate) in self.irqs[at].iter_mut().zip(rates) {
                *count += rate * STEP;
                self.interrupts += rate * STEP;
            }
            let rates = [
                requests / cores as f64,
                packets,
                packets * 0.08,
                30.0 + 80.0 * busy,
                20.0 + 130.0 * busy,
                50.0 + 170.0 * busy,
            ];
            for (count, rate) in self.softirqs[at].iter_mut().zip(rates) {
                *count += rate * STEP;
            }
        }
    }

    fn count_disks(&mut self, seed: u64, step: u64, seconds: f64, load: &Load) {
        let busy = (load.full * 0.96).min(0.93 + 0.06 * share(seed, 3, step));
        let wait = 0.6 + load.waiting * load.waiting * 40.0;
        let archive = 9.4 * MIB * liveliness(seed, 12, seconds) * STEP;
        self.archived += archive;
        self.dirty = 40.0 * MIB + load.waiting * 900.0 * MIB;
        let mut count =
            |at: usize, read: f64, written: f64, [read_size, size]: [f64; 2], wait: f64, busy: f64| {
                let Some(disk) = self.disks.get_mut(at) else { return };
                let requests = [read / read_size, written / size];
                disk.reads += requests[0];
                disk.read += read;
                disk.writes += requests[1];
                disk.written += written;
                disk.wait[0] += requests[0] * wait;
                disk.wait[1] += requests[1] * wait;
                disk.busy += busy * STEP * 1000.0;
            };
        count(0, load.read, load.written, [64_000.0, 122_000.0], wait, busy);
        count(1, 0.0, archive, [64_000.0, 300_000.0], 3.9, 0.12);
        let logs = 88.0 * 1024.0 * liveliness(seed, 13, seconds) * STEP;
        count(2, logs / 7.0, logs, [8_000.0, 14_000.0], 0.4, 0.004);
    }

    fn count_links(&mut self, seed: u64, seconds: f64, load: &Load) {
        let lossy = happens(&story::LOSSY_LINK, seconds);
        let copies = f64::from(self.hardware.copies);
        let last = self.links.len() - 1;
        let rates = [22.0 * MIB * copies, 0.3 * MIB];
        for (at, link) in self.links.iter_mut().enumerate() {
            let received = rates[at.min(1)] * liveliness(seed, 20 + at as u64, seconds) * STEP;
            let mut sent = received * 0.085;
            if at == 0 {
                sent += load.uploaded;
            }
            link.received += received;
            link.sent += sent;
            link.packets[0] += received / 1_200.0;
            link.packets[1] += sent / 900.0;
            if lossy && at == last {
                link.errors += 14.0 * STEP;
                link.drops += 5.0 * STEP;
            }
            self.segments += sent / 1_400.0;
        }
        self.retransmits += STEP * if lossy { 31.0 } else { 0.1 };
        self.datagrams += STEP * 12.0;
    }

    fn count_memory(&mut self, load: &Load) {
        let short = ((load.memory - 0.88) / 0.08).clamp(0.0, 1.0);
        let most = self.hardware.swap * 0.86;
        let out = (short * 46.0 * MIB * STEP).min((most - self.swapped).max(0.0));
        // Once there is room again, what is needed comes back little by little.
        let back = if short == 0.0 && self.swapped > 0.42 * 1024.0 * MIB { 3.5 * MIB * STEP } else { 0.0 };
        self.swapped += out - back;
        self.swap_out += out;
        self.swap_in += back + short * 9.0 * MIB * STEP;
        self.faults_major += STEP * (1.0 + short * 900.0 + back / STEP / 8_192.0);
    }

    fn count_heat(&mut self, seconds: f64, load: &Load) {
        let stopped = happens(&story::FAN_STOPS, seconds);
        let target =
            46.0 + 42.0 * load.crowding.min(1.0) + 5.0 * load.waiting + if stopped { 22.0 } else { 0.0 };
        self.temperature += (target.min(97.0) - self.temperature) * (1.0 - (-STEP / 25.0).exp());
        if self.temperature > 90.0 {
            self.throttles += 1.4 * STEP;
        }
        let cores = self.hardware.cores as f64;
        self.power = cores * (1.2 + 6.5 * load.crowding.min(1.0));
        self.energy += self.power * STEP;
        self.charge = (self.charge - STEP * self.power / 52.0 / 3_600.0 / 3.0).max(0.03);
    }

    /// Adds the rows of all parts to a reading.
    pub fn rows(&self, seed: u64, seconds: f64, reading: &mut Reading) {
        let hardware = &self.hardware;
        reading.cores = (0..self.classes.len()).map(|at| self.core_row(at, seconds)).collect();
        for (disk, counters) in hardware.disks.iter().zip(&self.disks) {
            let spins = raw(i64::from(disk.spins));
            reading.disks.push(disk_row(disk.name, "", disk.model, spins, counters, 1.0));
            for (name, part) in disk.partitions {
                reading.disks.push(disk_row(name, disk.name, "", spins, counters, *part));
            }
        }
        reading.filesystems = self.filesystem_rows();
        reading.interfaces = self.interface_rows(seed, seconds);
        reading.sensors = self.sensor_rows(seed, seconds);
        for (at, counts) in self.irqs.iter().enumerate() {
            let core = raw(at as i64);
            let rows = SOURCES.iter().zip(counts).filter(|(_, count)| **count >= 1.0);
            reading.interrupts.extend(rows.map(|((source, label), count)| InterruptRow {
                source: (*source).into(),
                label: (*label).into(),
                core,
                count: raw(*count as i64),
            }));
        }
        for (at, counts) in self.softirqs.iter().enumerate() {
            let core = raw(at as i64);
            let rows = SOFTIRQS.iter().zip(counts).filter(|(_, count)| **count >= 1.0);
            reading.softirqs.extend(rows.map(|(kind, count)| SoftirqRow {
                kind: (*kind).into(),
                core,
                count: raw(*count as i64),
            }));
        }
        if hardware.battery {
            reading.batteries.push(BatteryRow {
                name: "battery 0".into(),
                status: "discharging".into(),
                charge: raw((self.charge * 10_000.0) as i64),
                seconds_left: raw((self.charge * 52.0 * 3_600.0 * 3.0 / self.power.max(1.0)) as i64),
                power: raw((self.power / 3.0 * 1e6) as i64),
            });
        }
        if hardware.graphics {
            let [busy, warm] = self.graphics;
            reading.gpus.push(GpuRow {
                name: "card0 simulated".into(),
                busy: raw((busy * 100.0) as i64),
                memory_used: raw((3.1 * 1024.0 * MIB) as i64),
                memory_total: raw((12.0 * 1024.0 * MIB) as i64),
                temperature: raw(((41.0 + 38.0 * warm) * 1000.0) as i64),
                power: raw(((22.0 + 140.0 * busy) * 1e6) as i64),
                fan: raw((600.0 + 1_500.0 * warm) as i64),
            });
        }
    }

    fn core_row(&self, at: usize, seconds: f64) -> CoreRow {
        let core = &self.classes[at];
        let [rest, most] = self.hardware.frequency;
        let slowed = if self.temperature > 90.0 { 0.7 } else { 1.0 };
        CoreRow {
            sensor: self.hardware.sensor_of(at).into(),
            number: raw(at as i64),
            user: ticks(core.user),
            nice: ticks(core.nice),
            system: ticks(core.system),
            idle: ticks(core.idle(seconds)),
            iowait: ticks(core.iowait),
            irq: raw(0),
            softirq: ticks(core.softirq),
            steal: raw(0),
            guest: raw(0),
            guest_nice: raw(0),
            frequency: raw((rest + (most * slowed - rest) * self.busy[at].powf(0.4)) as i64),
            frequency_max: raw(most as i64),
            throttles: raw(self.throttles as i64),
        }
    }

    fn filesystem_rows(&self) -> Vec<FilesystemRow> {
        let row = |filesystem: &super::site::Filesystem| {
            let mut used = filesystem.size * filesystem.used;
            if filesystem.mount == "/archive" {
                used = (used + self.archived).min(filesystem.size);
            }
            let inodes = filesystem.inodes;
            FilesystemRow {
                mount: filesystem.mount.into(),
                device: filesystem.device.into(),
                kind: filesystem.kind.into(),
                remote: raw(i64::from(filesystem.remote)),
                answers: raw(1),
                read_only: raw(0),
                size: raw(filesystem.size as i64),
                used: raw(used as i64),
                available: raw((filesystem.size - used) as i64),
                inodes: raw(inodes as i64),
                inodes_free: raw((inodes * (1.0 - filesystem.inodes_used)) as i64),
            }
        };
        self.hardware.filesystems.iter().map(row).collect()
    }

    fn interface_rows(&self, seed: u64, seconds: f64) -> Vec<InterfaceRow> {
        let row = |(link, counters): (&super::site::Interface, &LinkCounters)| {
            let fading = liveliness(seed, 77, seconds / 4.0);
            let wireless = |value: f64| if link.wireless { raw(value as i64) } else { Raw::ABSENT };
            InterfaceRow {
                name: link.name.into(),
                in_bytes: raw(counters.received as i64),
                in_packets: raw(counters.packets[0] as i64),
                in_errors: raw(counters.errors as i64),
                in_drops: raw(counters.drops as i64),
                out_bytes: raw(counters.sent as i64),
                out_packets: raw(counters.packets[1] as i64),
                out_errors: raw(0),
                out_drops: raw(0),
                speed_bits: raw(link.megabits * 1_000_000),
                wifi_signal: wireless(-58.0 - 9.0 * fading),
                wifi_quality: wireless(52.0 / fading.max(0.7)),
            }
        };
        self.hardware.interfaces.iter().zip(&self.links).map(row).collect()
    }

    fn sensor_rows(&self, seed: u64, seconds: f64) -> Vec<SensorRow> {
        let hardware = &self.hardware;
        let mut rows = vec![];
        if hardware.core_sensors == 1 || hardware.core_sensors == hardware.cores {
            rows.push(temperature("cpu package", self.temperature, 95.0));
        }
        if hardware.core_sensors > 1 {
            let each = hardware.cores / hardware.core_sensors;
            for sensor in 0..hardware.core_sensors {
                let first = sensor * each;
                let busy = self.busy[first..first + each].iter().sum::<f64>() / each as f64;
                let warm = self.temperature - 6.0 + 7.0 * busy;
                rows.push(temperature(&hardware.sensor_of(first), warm, 95.0));
            }
        }
        rows.push(temperature("nvme0n1", 38.0 + self.temperature / 8.0, 84.0));
        rows.push(temperature("board", 34.0 + self.temperature / 14.0, 80.0));
        for (at, fan) in hardware.fans.iter().enumerate() {
            let stopped = at + 1 == hardware.fans.len() && happens(&story::FAN_STOPS, seconds);
            let wobble = 0.985 + 0.03 * share(seed, 900 + at as u64, (seconds * 2.0) as i64 as u64);
            let speed = fan.speed * (1.0 + (self.temperature - 50.0).max(0.0) / 60.0) * wobble;
            rows.push(SensorRow {
                name: fan.name.into(),
                fan: raw(if stopped { 0 } else { speed as i64 }),
                fan_min: raw(fan.least),
                ..SensorRow::default()
            });
        }
        rows.push(SensorRow {
            name: "package power".into(),
            energy: raw((self.energy * 1e6) as i64),
            ..SensorRow::default()
        });
        let volts = |name: &str, millivolts: f64| SensorRow {
            name: name.into(),
            voltage: raw(millivolts as i64),
            ..SensorRow::default()
        };
        rows.push(volts("core voltage", 1_180.0 - 60.0 * self.power / 80.0));
        rows.push(volts("12 V rail", 12_060.0));
        rows
    }

    /// Counters of all cores together.
    pub fn total(&self, class: fn(&Classes) -> f64) -> Raw {
        ticks(self.classes.iter().map(class).sum())
    }

    /// Idle time of all cores together.
    pub fn idle(&self, seconds: f64) -> Raw {
        ticks(self.classes.iter().map(|core| core.idle(seconds)).sum())
    }
}

/// Part of a core that deferred interrupt work takes: the first alone serves the packets of all cameras.
pub fn softirq_part(core: usize) -> f64 {
    if core == 0 { 0.09 } else { 0.004 }
}

/// Seconds of CPU time in the kernel's clock ticks.
pub fn ticks(seconds: f64) -> Raw {
    raw((seconds * TICKS) as i64)
}

fn disk_row(name: &str, whole: &str, model: &str, spins: Raw, counters: &DiskCounters, part: f64) -> DiskRow {
    let whole_number = |value: f64| raw((value * part) as i64);
    DiskRow {
        name: name.into(),
        whole: whole.into(),
        model: model.into(),
        rotational: if whole.is_empty() { spins } else { Raw::ABSENT },
        reads: whole_number(counters.reads),
        read_bytes: whole_number(counters.read),
        read_ms: whole_number(counters.wait[0]),
        writes: whole_number(counters.writes),
        write_bytes: whole_number(counters.written),
        write_ms: whole_number(counters.wait[1]),
        in_flight: raw(0),
        busy_ms: whole_number(counters.busy),
        queue_ms: whole_number(counters.wait[0] + counters.wait[1]),
        discard_bytes: raw(0),
        discard_ms: raw(0),
        flushes: raw(0),
        flush_ms: raw(0),
    }
}

fn temperature(name: &str, celsius: f64, limit: f64) -> SensorRow {
    SensorRow {
        name: name.into(),
        temperature: raw((celsius * 1000.0) as i64),
        limit: raw((limit * 1000.0) as i64),
        ..SensorRow::default()
    }
}
