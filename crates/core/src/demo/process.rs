//! One simulated process: what it wants, what it has counted, and the rows that it gives.

use super::chance::share;
use super::hardware::{Classes, STEP, ticks};
use super::programs::{Program, Role};
use super::story::{LEAK, happens};
use super::ways::Ways;
use crate::deed::Resource;
use crate::known::Raw;
use crate::reading::{ConnectionRow, ListenerRow, ProcessRow, ThreadRow, TransferRow, raw};
use crate::text::{Text, no_text};
use crate::wanted::{Demand, Wanted};
use std::sync::Arc;

/// Addresses of the documentation ranges; who listens there is made up.
const PEERS: [&str; 9] = [
    "192.0.2.17:4711",
    "192.0.2.40:443",
    "198.51.100.8:2049",
    "198.51.100.23:5512",
    "203.0.113.5:443",
    "203.0.113.61:993",
    "[2001:db8::21]:4711",
    "[2001:db8:7::9]:443",
    "192.0.2.88:55102",
];
/// The other observatory.
const VAULT: &str = "198.51.100.77:7070";
/// Numbers of protocols; netinet/in.h.
const TCP: i64 = 6;
const UDP: i64 = 17;
/// Numbers of threads begin here, above all PIDs.
const FIRST_THREAD: i64 = 100_000;
/// A process shows so many connections; the others are idle.
const CONNECTIONS: usize = 4;

/// Amounts that only grow, kept finer than the kernel shows them.
#[derive(Clone, Copy, Default)]
pub struct Totals {
    pub user: f64,
    pub system: f64,
    pub children_user: f64,
    pub children_system: f64,
    pub read: f64,
    pub write: f64,
    pub read_calls: f64,
    pub write_calls: f64,
    pub read_any: f64,
    pub write_any: f64,
    pub disk_wait: f64,
    pub core_wait: f64,
    pub net_in: f64,
    pub net_out: f64,
    pub faults: f64,
    pub waits: f64,
    pub forced: f64,
    pub graphics: f64,
    pub dropped: f64,
}

#[derive(Clone)]
pub struct Process {
    pub program: &'static Program,
    pub pid: i64,
    pub start: i64,
    pub parent: i64,
    pub name: Text,
    pub command: Text,
    pub core: usize,
    pub state: u8,
    pub stopped: bool,
    pub ways: Ways,
    pub rss: f64,
    pub totals: Totals,
    /// The row of the reading before, given again when nothing changed.
    pub row: Arc<ProcessRow>,
}

/// What a process wants in a step: shares of a core, bytes and calls per second.
#[derive(Clone, Copy, Default)]
pub struct Wish {
    pub user: f64,
    pub system: f64,
    pub read: f64,
    pub write: f64,
    pub read_calls: f64,
    pub write_calls: f64,
    pub read_any: f64,
    pub net_in: f64,
    pub net_out: f64,
    pub graphics: f64,
}

impl Process {
    /// What it handed to the disk: what it reads, and what it writes where it waits for that.
    pub fn transfers(&self) -> Option<TransferRow> {
        /// The number of the disk, and bytes of a request.
        const DISK: (i64, f64) = (259 << 8, 131_072.0);
        let Totals { read, write, .. } = self.totals;
        let write = if self.program.role == Role::Stacker { write } else { 0.0 };
        (read + write >= 1.0).then(|| TransferRow {
            device: "nvme0n1".into(),
            pid: raw(self.pid),
            start_ticks: raw(self.start),
            number: raw(DISK.0),
            group: no_text(),
            group_number: raw(0),
            read_bytes: raw(read as i64),
            write_bytes: raw(write as i64),
            requests: raw(((read + write) / DISK.1) as i64),
        })
    }
}

impl Totals {
    /// Adds what a process wished for a step and got: all of it, but for what the disk took.
    pub fn add(&mut self, wish: &Wish, disk_granted: f64) {
        self.read += wish.read * STEP;
        self.write += wish.write * disk_granted * STEP;
        self.read_calls += wish.read_calls * STEP;
        self.write_calls += wish.write_calls * STEP;
        self.read_any += wish.read_any * STEP;
        self.write_any += wish.write * disk_granted * STEP * 1.02;
        self.net_in += wish.net_in * STEP;
        self.net_out += wish.net_out * STEP;
        self.waits += (wish.read_calls + wish.write_calls).min(400.0) * STEP;
        self.graphics += wish.graphics * STEP;
    }
}

impl Process {
    /// Its niceness.
    pub fn nice(&self) -> i64 {
        self.ways.nice.unwrap_or(self.program.nice)
    }

    /// Whether it does nothing because somebody wanted so.
    pub fn rests(&self) -> bool {
        self.stopped || self.ways.frozen
    }

    /// A limit: what is enforced and what it may raise it to.
    pub fn limit(&self, resource: Resource) -> (Option<u64>, Option<u64>) {
        self.ways.limits.get(&resource).copied().unwrap_or(match resource {
            Resource::Files => {
                (Some(if self.program.name == "catalogd" { 128 } else { 1_024 }), Some(524_288))
            }
            Resource::Processes => (Some(96_000), Some(96_000)),
            Resource::CoreDump => (Some(0), None),
            Resource::Stack => (Some(8 << 20), None),
            Resource::Locked => (Some(8 << 20), Some(8 << 20)),
            Resource::FileSize | Resource::Cpu | Resource::AddressSpace => (None, None),
        })
    }

    /// Puts its CPU time on cores: its own first, then those with the most room.
    pub fn place(&mut self, user: f64, system: f64, room: &mut [f64], classes: &mut [Classes]) {
        let mut left = user + system;
        let kernel = if left > 0.0 { system / left } else { 0.0 };
        while left > 1e-9 {
            if room[self.core] < left.min(STEP / 2.0) {
                let may = |core: &usize| self.ways.cores.as_ref().is_none_or(|cores| cores.has(*core));
                let most =
                    (0..room.len()).filter(may).max_by(|a, b| room[*a].total_cmp(&room[*b])).unwrap_or(0);
                if room[most] <= 1e-9 {
                    return;
                }
                self.core = most;
            }
            let part = left.min(room[self.core]);
            let core = &mut classes[self.core];
            let class = if self.nice() > 0 { &mut core.nice } else { &mut core.user };
            *class += part * (1.0 - kernel);
            core.system += part * kernel;
            room[self.core] -= part;
            // One thread is on one core at a time: what does not fit there is not done.
            left = if self.program.threads == 1 { 0.0 } else { left - part };
        }
    }

    /// Its TCP connections: each carries a fixed part of its traffic.
    pub fn connections(&self, seed: u64, out: &mut Vec<ConnectionRow>) {
        let shown = (self.program.connections.max(0) as usize).min(CONNECTIONS);
        let weights: Vec<f64> = (0..shown).map(|at| 1.0 / (at + 1) as f64).collect();
        let all: f64 = weights.iter().sum();
        for (at, weight) in weights.into_iter().enumerate() {
            let chance = share(seed, self.pid as u64, 40 + at as u64);
            let remote = match self.program.role {
                Role::Uploader if at == 0 => VAULT,
                _ => PEERS[(chance * PEERS.len() as f64) as usize],
            };
            let part = weight / all;
            out.push(ConnectionRow {
                local: format!("192.0.2.2:{}", 32_768 + (self.pid * 7 + at as i64) % 28_000).into(),
                remote: remote.into(),
                cookie: raw(self.pid * 100 + at as i64 + 1),
                pid: raw(self.pid),
                // Established; net/tcp_states.h.
                state: raw(1),
                in_bytes: raw((self.totals.net_in * part) as i64),
                out_bytes: raw((self.totals.net_out * part) as i64),
                ..ConnectionRow::default()
            });
        }
    }

    /// Where it waits for others: protocol, address, and how many may wait.
    fn listens(&self) -> Option<(i64, &'static str, Option<i64>)> {
        Some(match self.program.name {
            "sshd" => (TCP, "0.0.0.0:22", Some(128)),
            "catalogd" => (TCP, "192.0.2.2:7440", Some(64)),
            "skyboard" => (TCP, "0.0.0.0:8443", Some(511)),
            "skyboard-cache" => (TCP, "127.0.0.1:11800", Some(32)),
            "timeward" => (UDP, "0.0.0.0:123", None),
            "logkeeper" => (UDP, "0.0.0.0:514", None),
            _ => return None,
        })
    }

    /// Its sockets that wait for others.
    pub fn listeners(&self, seconds: f64, out: &mut Vec<ListenerRow>) {
        let Some((protocol, local, most)) = self.listens() else { return };
        // Several of one program share a socket; the youngest stands for them.
        if let Some(row) = out.iter_mut().find(|row| *row.local == *local) {
            let before = row.pid.value().map_or(String::new(), |pid| pid.to_string());
            row.others = format!("{} {before}", row.others).trim().into();
            row.pid = raw(self.pid);
            return;
        }
        let floods = self.program.name == "logkeeper" && happens(&LEAK, seconds);
        out.push(ListenerRow {
            local: local.into(),
            cookie: raw(self.pid * 100),
            protocol: raw(protocol),
            port: local.rsplit(':').next().and_then(|port| port.parse().ok()).map_or(Raw::ABSENT, raw),
            pid: raw(self.pid),
            queue: raw(if floods { 212_992 } else { 0 }),
            queue_most: most.into(),
            drops: raw(self.totals.dropped as i64),
            ..ListenerRow::default()
        });
    }

    /// File systems that it has files on, as the live source writes them.
    fn places(&self) -> &'static str {
        match (self.program.name, self.program.role) {
            (_, Role::Kernel | Role::Zombie) => "",
            ("stacker" | "skycam-ingest" | "dome-cam" | "mosaic", _) => "/ /data",
            ("archived", _) => "/ /archive /data",
            ("vaultsync", _) => "/ /archive /mnt/vault",
            ("catalogd" | "catalog-worker" | "logkeeper" | "starfit", _) => "/ /data",
            ("nightqueue", _) => "/ /data /scratch",
            _ => "/",
        }
    }

    /// Service or session that it belongs to.
    fn service(&self) -> &'static str {
        match (self.program.name, self.program.role) {
            ("init", _) | (_, Role::Kernel) => "",
            ("catalogd" | "catalog-worker", _) => "catalogd",
            ("skyboard" | "skyboard-cache", _) => "skyboard",
            ("nightqueue" | "stacker", _) | (_, Role::Queue) => "nightqueue",
            ("shell" | "starfit" | "sensor-poll", _) => "session-3",
            (name, _) => name,
        }
    }

    /// Control group that limits it.
    pub fn limits(&self) -> &'static str {
        match self.service() {
            "skycam-ingest" => "/system.slice/skycam-ingest.service",
            "skyboard" => "/system.slice/skyboard.service",
            "catalogd" => "/system.slice/catalogd.service",
            _ => "",
        }
    }

    /// Container that it runs in.
    fn container(&self) -> &'static str {
        match self.program.name {
            "skyboard" | "skyboard-cache" => "night-board",
            "mosaic" => "mosaic-lab",
            _ => "",
        }
    }

    /// Its threads, where it has several: the first does most.
    pub fn threads(&self, out: &mut Vec<ThreadRow>) {
        let count = self.program.threads.max(1);
        if count == 1 {
            return;
        }
        let all: f64 = (1..=count).map(|at| 1.0 / at as f64).sum();
        for at in 0..count {
            let part = 1.0 / (at + 1) as f64 / all;
            let name = if at == 0 { self.name.clone() } else { format!("{}-{at}", self.name).into() };
            let first = at == 0;
            out.push(ThreadRow {
                name,
                tid: raw(self.pid + if first { 0 } else { FIRST_THREAD + self.pid * 64 + at }),
                pid: raw(self.pid),
                start_ticks: raw(self.start + at),
                state: raw(i64::from(if first { self.state } else { b'S' })),
                user_ticks: ticks(self.totals.user * part),
                system_ticks: ticks(self.totals.system * part),
                priority: raw(20 + self.nice()),
                nice: raw(self.nice()),
                policy: raw(i64::from(self.ways.policy.0)),
                core: raw((self.core as i64 + at) % 8),
                disk_wait_ticks: ticks(self.totals.disk_wait * part),
                core_wait_ns: raw((self.totals.core_wait * part * 1e9) as i64),
                ..ThreadRow::default()
            });
        }
    }

    /// Its counters at this instant; so much of what its program holds was moved out to swap.
    pub fn row(&mut self, swapped: f64, wanted: Wanted) -> Arc<ProcessRow> {
        let program = self.program;
        let totals = &self.totals;
        let whole = |value: f64| raw(value as i64);
        // The texts of the row before are shared, so that a reading makes no new ones.
        let kept = |before: &Text, text: &str| if **before == *text { before.clone() } else { text.into() };
        let user = kept(&self.row.user, program.user);
        let mounts = kept(&self.row.mounts, self.places());
        let row = ProcessRow {
            name: self.name.clone(),
            program: self.name.clone(),
            command: self.command.clone(),
            real_user: user.clone(),
            user,
            mounts,
            service: kept(&self.row.service, self.service()),
            container: kept(&self.row.container, self.container()),
            limits: kept(&self.row.limits, self.limits()),
            files: raw(12 + program.threads * 3 + program.connections),
            files_limit: self.limit(Resource::Files).0.map(|most| most as i64).into(),
            kernel: raw(i64::from(program.role == Role::Kernel)),
            replaced: raw(i64::from(program.name == "focusd")),
            pid: raw(self.pid),
            start_ticks: raw(self.start),
            ppid: raw(self.parent),
            state: raw(i64::from(self.state)),
            faults_minor: whole(totals.faults),
            faults_major: raw(12),
            user_ticks: ticks(totals.user),
            system_ticks: ticks(totals.system),
            children_user_ticks: ticks(totals.children_user),
            children_system_ticks: ticks(totals.children_system),
            priority: raw(20 + self.nice()),
            nice: raw(self.nice()),
            policy: raw(i64::from(self.ways.policy.0)),
            threads: raw(program.threads),
            virtual_bytes: whole(self.rss * 2.6),
            rss_bytes: whole((self.rss / 4096.0).floor() * 4096.0),
            shared_bytes: whole((self.rss / 4096.0 * 0.1).floor() * 4096.0),
            swap_bytes: whole((program.rss * swapped / 4096.0).floor() * 4096.0),
            core: raw(self.core as i64),
            disk_wait_ticks: ticks(totals.disk_wait),
            read_bytes: whole(totals.read),
            write_bytes: whole(totals.write),
            cancelled_bytes: raw(0),
            io_unknown: raw(0),
            children_faults: whole(totals.children_user * 4000.0),
            read_calls: whole(totals.read_calls),
            write_calls: whole(totals.write_calls),
            read_any_bytes: whole(totals.read_any),
            write_any_bytes: whole(totals.write_any),
            switches_wait: whole(totals.waits),
            switches_forced: whole(totals.forced),
            core_wait_ns: if wanted.has(Demand::CoreWait) {
                whole(totals.core_wait * 1e9)
            } else {
                Raw::ABSENT
            },
            net_in_bytes: whole(totals.net_in),
            net_out_bytes: whole(totals.net_out),
            connections: raw(program.connections),
            datagram_sockets: raw(i64::from(self.listens().is_some_and(|(protocol, ..)| protocol == UDP))),
            datagram_drops: whole(self.totals.dropped),
            shared_sockets: raw(0),
            net_namespace: raw(0),
            gpu_ns: if program.role == Role::Graphics { whole(totals.graphics * 1e9) } else { raw(0) },
            ..ProcessRow::default()
        };
        if row != *self.row {
            self.row = Arc::new(row);
        }
        self.row.clone()
    }
}
