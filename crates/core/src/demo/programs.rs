//! Who runs on the simulated machines, and what each program usually does; the story adds to it.

use super::site::Site;

/// One kind of program. Rates are per process, shares in parts of one core, bytes per second.
#[derive(Clone, Copy)]
pub struct Program {
    pub name: &'static str,
    pub user: &'static str,
    pub arguments: &'static str,
    pub parent: &'static str,
    pub count: u32,
    pub nice: i64,
    pub threads: i64,
    pub rss: f64,
    pub user_share: f64,
    pub system_share: f64,
    pub read: f64,
    pub write: f64,
    pub calls: f64,
    pub net_in: f64,
    pub net_out: f64,
    pub connections: i64,
    /// It started so many seconds before the story begins.
    pub age: f64,
    pub role: Role,
    /// The only machine that it runs on; all of them where there is none.
    pub only: Option<Site>,
}

/// What is special about a program.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Nothing.
    Plain,
    /// Saturates the disk while it writes a stack.
    Stacker,
    /// Starts plate solvers that end at once.
    Queue,
    /// Reads zero bytes in a loop for a while.
    ZeroReader,
    /// Its memory only grows.
    Leaker,
    /// Ended, and its parent does not care.
    Zombie,
    /// Takes no notice of a polite stop.
    Stubborn,
    /// Runs in the kernel: no command line, no memory.
    Kernel,
    /// Copies to another place and fills the link for a while.
    Uploader,
    /// Computes on the graphics processor.
    Graphics,
}

const MIB: f64 = 1_048_576.0;
const KIB: f64 = 1024.0;
const DAYS_12: f64 = 12.0 * 86_400.0 + 4.0 * 3600.0 + 24.0 * 60.0;
const EVENING: f64 = 2.0 * 3600.0 + 31.0 * 60.0;

const PLAIN: Program = Program {
    name: "",
    user: "root",
    arguments: "",
    parent: "init",
    count: 1,
    nice: 0,
    threads: 1,
    rss: 8.0 * MIB,
    user_share: 0.0004,
    system_share: 0.0003,
    read: 0.0,
    write: 0.0,
    calls: 1.0,
    net_in: 0.0,
    net_out: 0.0,
    connections: 0,
    age: DAYS_12,
    role: Role::Plain,
    only: None,
};

/// All kinds of program; a parent stands before its children.
pub const PROGRAMS: &[Program] = &[
    Program { name: "init", parent: "", rss: 11.0 * MIB, ..PLAIN },
    Program { name: "kthreadd", parent: "", rss: 0.0, role: Role::Kernel, ..PLAIN },
    Program { name: "kworker", parent: "kthreadd", count: 40, rss: 0.0, role: Role::Kernel, ..PLAIN },
    Program { name: "ksoftirqd", parent: "kthreadd", count: 8, rss: 0.0, role: Role::Kernel, ..PLAIN },
    Program { name: "migration", parent: "kthreadd", count: 8, rss: 0.0, role: Role::Kernel, ..PLAIN },
    Program {
        name: "jbd2/nvme0n1p1",
        parent: "kthreadd",
        rss: 0.0,
        system_share: 0.004,
        write: 60.0 * KIB,
        role: Role::Kernel,
        ..PLAIN
    },
    Program {
        name: "domectl",
        arguments: "--serial /dev/ttyS2",
        nice: -5,
        rss: 18.0 * MIB,
        user_share: 0.006,
        system_share: 0.002,
        calls: 60.0,
        ..PLAIN
    },
    Program {
        name: "weatherd",
        arguments: "--mast 2 --every 5s",
        rss: 14.0 * MIB,
        user_share: 0.003,
        ..PLAIN
    },
    Program { name: "timeward", arguments: "--receiver gnss", rss: 6.0 * MIB, nice: -10, ..PLAIN },
    Program {
        name: "logkeeper",
        arguments: "--spool /data/log",
        rss: 24.0 * MIB,
        write: 22.0 * KIB,
        calls: 40.0,
        ..PLAIN
    },
    Program {
        name: "sshd",
        arguments: "astro@pts/1",
        count: 2,
        rss: 9.8 * MIB,
        calls: 6.0,
        net_in: 1.5 * KIB,
        net_out: 4.0 * KIB,
        connections: 1,
        ..PLAIN
    },
    Program {
        name: "catalogd",
        user: "catalog",
        arguments: "writer frames",
        threads: 12,
        rss: 388.0 * MIB,
        user_share: 0.05,
        system_share: 0.02,
        read: 640.0 * KIB,
        write: 2.2 * MIB,
        calls: 210.0,
        net_in: 60.0 * KIB,
        net_out: 30.0 * KIB,
        connections: 25,
        ..PLAIN
    },
    Program {
        name: "catalog-worker",
        user: "catalog",
        arguments: "--pool 24",
        parent: "catalogd",
        count: 24,
        rss: 42.0 * MIB,
        user_share: 0.004,
        system_share: 0.001,
        read: 4.0 * KIB,
        calls: 12.0,
        ..PLAIN
    },
    Program {
        name: "nightqueue",
        user: "astro",
        arguments: "--workers 6",
        nice: 5,
        threads: 8,
        rss: 61.0 * MIB,
        user_share: 0.02,
        system_share: 0.01,
        write: 14.0 * KIB,
        calls: 90.0,
        age: 3.0 * 3600.0,
        role: Role::Queue,
        ..PLAIN
    },
    Program {
        name: "stacker",
        user: "astro",
        arguments: "--night 2031-02-14 --stack 240",
        threads: 6,
        rss: 2.1 * 1024.0 * MIB,
        user_share: 0.18,
        system_share: 0.04,
        read: 1.2 * MIB,
        write: 0.3 * MIB,
        calls: 70.0,
        age: EVENING,
        role: Role::Stacker,
        ..PLAIN
    },
    Program {
        name: "skycam-ingest",
        user: "astro",
        arguments: "--camera",
        threads: 4,
        count: 4,
        rss: 800.0 * MIB,
        user_share: 0.52,
        system_share: 0.11,
        write: 9.0 * MIB,
        calls: 420.0,
        age: EVENING,
        net_in: 5.5 * MIB,
        net_out: 20.0 * KIB,
        connections: 2,
        ..PLAIN
    },
    Program {
        name: "focusd",
        user: "astro",
        arguments: "--camera all",
        count: 4,
        rss: 38.0 * MIB,
        user_share: 0.02,
        calls: 25.0,
        age: EVENING,
        ..PLAIN
    },
    Program {
        name: "guider",
        user: "guide",
        arguments: "--axis both --rate 4",
        nice: -10,
        threads: 3,
        rss: 140.0 * MIB,
        user_share: 0.2,
        system_share: 0.03,
        calls: 260.0,
        age: 3.0 * 3600.0,
        ..PLAIN
    },
    Program {
        name: "guidelog",
        user: "guide",
        arguments: "--follow /run/guider.pipe",
        parent: "guider",
        rss: 12.0 * MIB,
        calls: 4.0,
        age: 3.0 * 3600.0,
        role: Role::ZeroReader,
        ..PLAIN
    },
    Program {
        name: "skyboard",
        user: "www",
        arguments: "worker",
        count: 12,
        threads: 2,
        rss: 44.0 * MIB,
        user_share: 0.006,
        system_share: 0.002,
        read: 10.0 * KIB,
        calls: 55.0,
        net_in: 8.0 * KIB,
        net_out: 140.0 * KIB,
        connections: 9,
        ..PLAIN
    },
    Program {
        name: "skyboard-cache",
        user: "www",
        arguments: "--keep 24h",
        threads: 2,
        rss: 310.0 * MIB,
        user_share: 0.01,
        calls: 30.0,
        role: Role::Leaker,
        ..PLAIN
    },
    Program {
        name: "mosaic",
        user: "astro",
        arguments: "--tiles 6",
        parent: "nightqueue",
        count: 6,
        rss: 0.0,
        user_share: 0.0,
        system_share: 0.0,
        calls: 0.0,
        age: 1800.0,
        role: Role::Zombie,
        ..PLAIN
    },
    Program {
        name: "archived",
        user: "astro",
        arguments: "--to /archive",
        nice: 10,
        rss: 30.0 * MIB,
        user_share: 0.03,
        system_share: 0.03,
        read: 6.0 * MIB,
        calls: 100.0,
        age: 7200.0,
        role: Role::Stubborn,
        ..PLAIN
    },
    Program {
        name: "shell",
        user: "astro",
        arguments: "-l",
        parent: "sshd",
        count: 6,
        rss: 5.0 * MIB,
        user_share: 0.0,
        system_share: 0.0,
        calls: 0.0,
        age: 5400.0,
        ..PLAIN
    },
    Program {
        name: "sensor-poll",
        user: "guide",
        arguments: "--bus",
        count: 20,
        rss: 4.0 * MIB,
        calls: 8.0,
        ..PLAIN
    },
    Program {
        name: "dome-cam",
        user: "astro",
        arguments: "--still",
        count: 16,
        rss: 26.0 * MIB,
        user_share: 0.004,
        write: 12.0 * KIB,
        calls: 10.0,
        ..PLAIN
    },
    Program {
        name: "mount-link",
        user: "guide",
        arguments: "--axis",
        count: 38,
        rss: 3.5 * MIB,
        calls: 12.0,
        ..PLAIN
    },
    Program {
        name: "vaultsync",
        user: "astro",
        arguments: "--to vault.lynx.example",
        nice: 5,
        threads: 2,
        rss: 54.0 * MIB,
        user_share: 0.01,
        system_share: 0.01,
        read: 0.2 * MIB,
        net_out: 90.0 * KIB,
        net_in: 3.0 * KIB,
        connections: 2,
        calls: 30.0,
        age: EVENING,
        role: Role::Uploader,
        ..PLAIN
    },
    Program {
        name: "starfit",
        user: "astro",
        arguments: "--device 0 --field m51",
        threads: 3,
        rss: 1.4 * 1024.0 * MIB,
        user_share: 0.31,
        system_share: 0.06,
        calls: 140.0,
        age: EVENING,
        role: Role::Graphics,
        only: Some(Site::Workstation),
        ..PLAIN
    },
];
