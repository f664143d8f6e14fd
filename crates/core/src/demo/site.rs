//! The machines that the simulation can be: what they are made of.

use crate::reading::HostFacts;

const MIB: f64 = 1_048_576.0;
const GIB: f64 = 1024.0 * MIB;

/// Clock ticks per second.
pub const TICKS: f64 = 100.0;

/// One of the simulated machines.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Site {
    /// `lynx-obs`: eight cores on a mountain, where the story is told.
    #[default]
    Observatory,
    /// `lynx-array`: 128 cores in two packages.
    Server,
    /// `lynx-field`: on a battery and a wireless link.
    Laptop,
    /// `lynx-lab`: with a graphics processor.
    Workstation,
}

/// What a machine is made of. The first disk is the fast one, the second the archive.
#[derive(Clone)]
pub struct Hardware {
    pub host: &'static str,
    pub model: &'static str,
    pub cores: usize,
    /// Sensors that stand for cores: one for each, one for each package, or one for all.
    pub core_sensors: usize,
    /// Frequency at rest and at most, in Hz.
    pub frequency: [f64; 2],
    pub memory: f64,
    pub swap: f64,
    pub disks: &'static [Disk],
    pub filesystems: &'static [Filesystem],
    /// The first carries the cameras, the last the link to the second dome.
    pub interfaces: &'static [Interface],
    pub fans: &'static [Fan],
    pub battery: bool,
    pub graphics: bool,
    /// So many times as many processes of each program that has several.
    pub copies: u32,
}

pub struct Disk {
    pub name: &'static str,
    pub model: &'static str,
    pub spins: bool,
    /// Name and share of the traffic.
    pub partitions: &'static [(&'static str, f64)],
}

pub struct Filesystem {
    pub mount: &'static str,
    pub device: &'static str,
    pub kind: &'static str,
    pub remote: bool,
    pub size: f64,
    /// Part that is used at the beginning.
    pub used: f64,
    pub inodes: f64,
    pub inodes_used: f64,
}

pub struct Interface {
    pub name: &'static str,
    pub megabits: i64,
    pub wireless: bool,
}

pub struct Fan {
    pub name: &'static str,
    /// Speed at rest.
    pub speed: f64,
    pub least: i64,
}

const fn filesystem(mount: &'static str, device: &'static str, size: f64, used: f64) -> Filesystem {
    Filesystem {
        mount,
        device,
        kind: "ext4",
        remote: false,
        size,
        used,
        inodes: size / 16_384.0,
        inodes_used: used * 0.08,
    }
}

const VAULT: Filesystem = Filesystem {
    kind: "nfs4",
    remote: true,
    inodes: 0.0,
    ..filesystem("/mnt/vault", "vault.lynx.example:/nights", 60_000.0 * GIB, 0.44)
};

const FAST: Disk = Disk {
    name: "nvme0n1",
    model: "Frame store 2 TB",
    spins: false,
    partitions: &[("nvme0n1p1", 0.98), ("nvme0n1p2", 0.02)],
};
const ARCHIVE: Disk = Disk { name: "sda", model: "Archive 8 TB", spins: true, partitions: &[("sda1", 1.0)] };
const SYSTEM: Disk =
    Disk { name: "sdb", model: "System 240 GB", spins: false, partitions: &[("sdb1", 0.1), ("sdb2", 0.9)] };
const FANS: &[Fan] =
    &[Fan { name: "fan 1", speed: 980.0, least: 400 }, Fan { name: "fan 2", speed: 1_240.0, least: 400 }];
const TWO_LINKS: &[Interface] = &[
    Interface { name: "enp3s0", megabits: 1_000, wireless: false },
    Interface { name: "enp4s0", megabits: 1_000, wireless: false },
];
const THREE_DISKS: &[Filesystem] = &[
    filesystem("/", "/dev/sdb2", 220.0 * GIB, 0.34),
    filesystem("/boot", "/dev/sdb1", 1.0 * GIB, 0.27),
    filesystem("/data", "/dev/nvme0n1p1", 1_800.0 * GIB, 0.81),
    filesystem("/scratch", "/dev/nvme0n1p2", 60.0 * GIB, 0.12),
    filesystem("/archive", "/dev/sda1", 7_200.0 * GIB, 0.962),
    VAULT,
];
const ONE_DISK: &[Filesystem] = &[
    filesystem("/", "/dev/nvme0n1p2", 110.0 * GIB, 0.58),
    filesystem("/data", "/dev/nvme0n1p1", 840.0 * GIB, 0.72),
];

const OBSERVATORY: Hardware = Hardware {
    host: "lynx-obs",
    model: "Simulated 8-core processor",
    cores: 8,
    core_sensors: 8,
    frequency: [2.1e9, 4.2e9],
    memory: 32.0 * GIB,
    swap: 8.0 * GIB,
    disks: &[FAST, ARCHIVE, SYSTEM],
    filesystems: THREE_DISKS,
    interfaces: TWO_LINKS,
    fans: FANS,
    battery: false,
    graphics: false,
    copies: 1,
};

impl Site {
    /// What it is made of.
    pub fn hardware(self) -> Hardware {
        match self {
            Site::Observatory => OBSERVATORY,
            Site::Server => Hardware {
                host: "lynx-array",
                model: "Simulated 64-core processor, two of them",
                cores: 128,
                core_sensors: 2,
                frequency: [1.8e9, 3.4e9],
                memory: 512.0 * GIB,
                swap: 16.0 * GIB,
                interfaces: &[
                    Interface { name: "enp65s0", megabits: 10_000, wireless: false },
                    Interface { name: "enp66s0", megabits: 10_000, wireless: false },
                ],
                copies: 10,
                ..OBSERVATORY
            },
            Site::Laptop => Hardware {
                host: "lynx-field",
                model: "Simulated 8-core mobile processor",
                core_sensors: 1,
                frequency: [0.8e9, 4.6e9],
                memory: 16.0 * GIB,
                swap: 4.0 * GIB,
                disks: &[FAST],
                filesystems: ONE_DISK,
                interfaces: &[Interface { name: "wlp2s0", megabits: 866, wireless: true }],
                fans: &[Fan { name: "fan 1", speed: 2_100.0, least: 0 }],
                battery: true,
                ..OBSERVATORY
            },
            Site::Workstation => Hardware {
                host: "lynx-lab",
                model: "Simulated 16-core processor",
                cores: 16,
                core_sensors: 16,
                frequency: [2.2e9, 4.9e9],
                memory: 64.0 * GIB,
                graphics: true,
                ..OBSERVATORY
            },
        }
    }
}

impl Hardware {
    /// What does not change.
    pub fn host_facts(&self) -> HostFacts {
        HostFacts {
            name: self.host.to_owned(),
            kernel: "Linux 6.12".to_owned(),
            cpu_model: self.model.to_owned(),
            cores: self.cores as u32,
            ticks_per_second: TICKS as u32,
            time_zone: "UTC".to_owned(),
            note: "simulated".to_owned(),
            inside: String::new(),
        }
    }

    /// Name of the sensor that stands for a core.
    pub fn sensor_of(&self, core: usize) -> String {
        match self.core_sensors {
            1 => "cpu package".to_owned(),
            packages if packages < self.cores => {
                format!("cpu package {}", core * packages / self.cores + 1)
            }
            _ => format!("core {core}"),
        }
    }
}
