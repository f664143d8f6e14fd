//! The machine and its parts.

use crate::Roots;
use crate::clock::{self, Clocks};
use crate::proc::kept::Kept;
use crate::proc::mountinfo::Mount;
use crate::proc::names::Names;
use crate::proc::{self, diskstats, interrupts, mountinfo, mountstats, pressure, snmp, wireless};
use crate::sys::blocks::Blocks;
use crate::sys::cores::Cores;
use crate::sys::filesystems::Filesystems;
use crate::sys::sensors::Sensors;
use crate::sys::{gpus, links, power, sessions};
use dozor_core::known::Raw;
use dozor_core::reading::{DiskRow, FilesystemRow, InterfaceRow, Reading, RemoteRow, SystemRow};
use dozor_core::text::Text;
use dozor_core::wanted::{Demand, Wanted};
use std::collections::HashMap;

/// What is kept of the machine between readings.
pub struct System {
    page: i64,
    files: Kept,
    sensors: Sensors,
    cores: Cores,
    blocks: Blocks,
    mounts: Vec<Mount>,
    filesystems: Filesystems,
    /// Readings so far, and what is asked for in some of them only.
    turn: u64,
    users: Raw,
    speeds: HashMap<Text, Raw>,
    disk_names: Names,
    interface_names: Names,
    has_batteries: bool,
    has_gpus: bool,
}

/// Who is logged in, how fast links are, and whether there is a battery or a graphics processor by now is asked every so many
/// readings: the second takes a lock in the kernel.
const SLOW_TURN: u64 = 8;
/// The list of mounts is read at the latest after so many readings.
const MOUNTS_TURN: u64 = 32;

impl System {
    pub fn open(roots: &Roots) -> System {
        System {
            page: rustix::param::page_size() as i64,
            files: Kept::new(roots),
            sensors: Sensors::find(&roots.sys),
            cores: Cores::default(),
            blocks: Blocks::default(),
            mounts: vec![],
            filesystems: Filesystems::default(),
            turn: 0,
            users: Raw::ABSENT,
            speeds: HashMap::new(),
            disk_names: Names::default(),
            interface_names: Names::default(),
            has_batteries: false,
            has_gpus: false,
        }
    }

    /// Reads all but processes; the lists of an old reading, which are empty, are filled.
    pub fn read(&mut self, roots: &Roots, wanted: Wanted, old: Reading) -> Reading {
        let slow_turn = self.turn.is_multiple_of(SLOW_TURN);
        if slow_turn {
            self.users = sessions::count(&roots.run);
            self.speeds.clear();
        }
        self.turn += 1;
        let clocks = clock::now();
        let stat = proc::stat::parse(self.files.read("stat"), old.cores);
        let system = self.machine(clocks, &stat);
        let mut cores = stat.cores;
        for core in &mut cores {
            self.cores.complete(&roots.sys, core, |package, core| self.sensors.of_core(package, core));
        }
        let mut reading = Reading {
            system,
            cores,
            disks: self.disks(roots, old.disks),
            interfaces: self.interfaces(roots, old.interfaces),
            sensors: self.sensors.read(old.sensors),
            batteries: if_there(&mut self.has_batteries, slow_turn, || power::batteries(&roots.sys)),
            gpus: if_there(&mut self.has_gpus, slow_turn, || gpus::read(&roots.sys)),
            ..Reading::default()
        };
        if wanted.has(Demand::Interrupts) {
            reading.interrupts = interrupts::parse(self.files.read("interrupts"));
            reading.softirqs = interrupts::parse_softirqs(self.files.read("softirqs"));
        }
        reading
    }

    /// What disks have written and what waits for them, again: whoever was read since may have done more than they had.
    pub fn reread_disks(&mut self, reading: &mut Reading) {
        let disks = diskstats::parse(self.files.read("diskstats"), &mut self.disk_names, vec![]);
        let is_whole =
            |name: &Text| reading.disks.iter().any(|disk| disk.whole.is_empty() && disk.name == *name);
        let whole = disks.iter().filter(|disk| is_whole(&disk.name));
        reading.system.written_after =
            whole.filter_map(|disk| disk.write_bytes.value()).reduce(i64::saturating_add).into();
        let memory = proc::meminfo::parse(self.files.read("meminfo"));
        let waits = memory.dirty.get().zip(memory.writeback.get());
        reading.system.dirty_after = waits.map(|(dirty, writeback)| dirty.saturating_add(writeback)).into();
    }

    /// The machine as a whole.
    fn machine(&mut self, clocks: Clocks, stat: &proc::stat::Stat) -> SystemRow {
        let files = &mut self.files;
        let ([load_1, load_5, load_15], threads) = proc::loadavg::parse(files.read("loadavg"));
        let memory = proc::meminfo::parse(files.read("meminfo"));
        let paging = proc::vmstat::parse(files.read("vmstat"), self.page);
        let protocols = snmp::parse(files.read("net/snmp"));
        let (pressure_cpu_some, pressure_cpu_full) = pressure::parse(files.read("pressure/cpu"));
        let (pressure_memory_some, pressure_memory_full) = pressure::parse(files.read("pressure/memory"));
        let (pressure_io_some, pressure_io_full) = pressure::parse(files.read("pressure/io"));
        let total = &stat.total;
        SystemRow {
            wall_ns: Raw::new(clocks.wall),
            monotonic_ns: Raw::new(clocks.monotonic),
            boot_ns: Raw::new(clocks.boot),
            user: total.user,
            nice: total.nice,
            system: total.system,
            idle: total.idle,
            iowait: total.iowait,
            irq: total.irq,
            softirq: total.softirq,
            steal: total.steal,
            guest: total.guest,
            guest_nice: total.guest_nice,
            switches: stat.switches,
            interrupts: stat.interrupts,
            forks: stat.forks,
            running: stat.running,
            blocked: stat.blocked,
            load_1,
            load_5,
            load_15,
            threads,
            mem_total: memory.total,
            mem_free: memory.free,
            mem_available: memory.available,
            mem_buffers: memory.buffers,
            mem_cached: memory.cached,
            mem_shared: memory.shared,
            mem_slab: memory.slab,
            mem_reclaimable: memory.reclaimable,
            mem_dirty: memory.dirty,
            swap_total: memory.swap_total,
            swap_free: memory.swap_free,
            swap_in: paging.swap_in,
            swap_out: paging.swap_out,
            faults_major: paging.faults_major,
            oom_kills: paging.oom_kills,
            reclaimed: paging.reclaimed,
            users: self.users,
            tcp_retransmits: protocols.tcp_retransmits,
            tcp_segments: protocols.tcp_segments,
            udp_in: protocols.udp_in,
            udp_out: protocols.udp_out,
            udp_errors: protocols.udp_errors,
            pressure_cpu_some,
            pressure_cpu_full,
            pressure_memory_some,
            pressure_memory_full,
            pressure_io_some,
            pressure_io_full,
            ..SystemRow::default()
        }
    }

    /// File systems. They come last: a first answer may be waited for, and the rest of a reading must not be older than
    /// its time says.
    pub fn filesystems(&mut self) -> Vec<FilesystemRow> {
        const LIST: &str = "self/mountinfo";
        // Not everything that calls itself this kernel tells of changes.
        let anyway = self.turn.is_multiple_of(MOUNTS_TURN);
        let text = if anyway { Some(self.files.read(LIST)) } else { self.files.read_if_changed(LIST) };
        if let Some(text) = text {
            self.mounts = mountinfo::parse(text);
        }
        self.filesystems.read(&self.mounts)
    }

    /// What file systems of other machines did.
    pub fn remotes(&mut self) -> Vec<RemoteRow> {
        mountstats::parse(self.files.read("self/mountstats"))
    }

    /// Devices that have ever been used, and their partitions.
    fn disks(&mut self, roots: &Roots, old: Vec<DiskRow>) -> Vec<DiskRow> {
        let mut disks = diskstats::parse(self.files.read("diskstats"), &mut self.disk_names, old);
        for disk in &mut disks {
            self.blocks.complete(&roots.sys, disk);
        }
        disks
    }

    fn interfaces(&mut self, roots: &Roots, old: Vec<InterfaceRow>) -> Vec<InterfaceRow> {
        let wireless = wireless::parse(self.files.read("net/wireless"));
        let text = self.files.read("net/dev");
        let mut interfaces = proc::net_dev::parse(text, &mut self.interface_names, old);
        for interface in &mut interfaces {
            interface.speed_bits = if let Some(speed) = self.speeds.get(&interface.name) {
                *speed
            } else {
                let speed = links::speed_bits(&roots.sys, &interface.name);
                self.speeds.insert(interface.name.clone(), speed);
                speed
            };
            if let Some((_, signal, quality)) = wireless.iter().find(|(name, ..)| **name == *interface.name) {
                (interface.wifi_signal, interface.wifi_quality) = (*signal, *quality);
            }
        }
        interfaces
    }
}

/// Devices of a kind; where there were none they are looked for now and then.
fn if_there<R>(there: &mut bool, now: bool, read: impl FnOnce() -> Vec<R>) -> Vec<R> {
    let rows = if *there || now { read() } else { vec![] };
    *there = !rows.is_empty();
    rows
}
