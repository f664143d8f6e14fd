//! Which processes use a part, where the kernel tells.

use super::cpu::main_core;
use super::disk::mounts_of;
use super::peers::address;
use super::section::PartId;
use crate::catalogue::{Metric, Value, handing, listed};
use crate::known::Raw;
use crate::reading::{ProcessRow, mount_word};
use crate::sample::Sample;
use crate::text::Text;
use std::collections::HashSet;

/// The users of a part.
pub enum Users {
    /// These, told in words.
    Those(Box<dyn Fn(&ProcessRow) -> bool>, String),
    /// It cannot be known, for this reason.
    Unknown(&'static str),
    /// The part is no narrower than the whole machine.
    All,
}

fn pids(pids: HashSet<i64>, words: String) -> Users {
    Users::Those(Box::new(move |row| row.pid.value().is_some_and(|pid| pids.contains(&pid))), words)
}

/// Those who hold a socket.
fn holders(row: Option<(Raw, &Text, String)>, gone: &'static str) -> Users {
    let Some((pid, others, words)) = row else { return Users::Unknown(gone) };
    let Some(pid) = pid.value() else { return Users::Unknown("no process that may be seen holds it") };
    let others = others.split(' ').filter_map(|other| other.parse().ok());
    pids(others.chain([pid]).collect(), words)
}

fn on_core(core: i64, words: String) -> Users {
    Users::Those(Box::new(move |row| row.core.value() == Some(core)), words)
}

/// Who uses a part at the moment of a sample.
pub fn users(part: &PartId, sample: &Sample) -> Users {
    match part {
        PartId::Core(core) => on_core(*core, format!("last on core {core}")),
        PartId::Interrupt(source) | PartId::Softirq(source) => match main_core(sample, part) {
            Some(core) => on_core(core, format!("on core {core}, which serves most of {source}")),
            None => Users::Unknown("no core serves it now"),
        },
        PartId::Mount(mount) => on_mounts(sample, vec![mount_word(mount)], format!("with files on {mount}")),
        PartId::Device(device) => {
            let mounts: Vec<Text> = mounts_of(sample, device).map(|row| mount_word(&row.mount)).collect();
            if mounts.is_empty() {
                return match handing(sample, device) {
                    Some(users) => {
                        pids(users.into_iter().collect(), format!("handing something to {device}"))
                    }
                    None => Users::Unknown("no file system on it is mounted; the kernel tells no more"),
                };
            }
            on_mounts(sample, mounts, format!("with files on {device}"))
        }
        PartId::Peer(peer) => {
            let of_peer = sample.now.connections.iter().filter(|row| address(&row.remote) == &**peer);
            pids(of_peer.filter_map(|row| row.pid.value()).collect(), format!("talking to {peer}"))
        }
        PartId::Connection(cookie) => {
            let row = sample.now.connections.iter().find(|row| row.cookie.value() == Some(*cookie));
            let row = row.map(|row| (row.pid, &row.others, format!("of the connection to {}", row.remote)));
            holders(row, "the connection is gone")
        }
        PartId::Listener(cookie) => {
            let row = sample.now.listeners.iter().find(|row| row.cookie.value() == Some(*cookie));
            let row = row.map(|row| (row.pid, &row.others, format!("listening on {}", row.local)));
            holders(row, "the socket is gone")
        }
        PartId::Unattributed => {
            Users::Those(Box::new(|row| row.pid.value().is_none()), "of nobody known".to_owned())
        }
        PartId::Sensor(sensor) => {
            let cores: HashSet<i64> = sample
                .now
                .cores
                .iter()
                .filter(|core| core.sensor == *sensor)
                .filter_map(|core| core.number.value())
                .collect();
            let row = sample.now.sensors.iter().find(|row| row.name == *sensor);
            if row.is_some_and(|row| row.temperature.value().is_none()) {
                return Users::All;
            }
            if cores.is_empty() {
                return Users::Unknown("no core stands behind this sensor");
            }
            if cores.len() == sample.now.cores.len() {
                return Users::All;
            }
            Users::Those(
                Box::new(move |row| row.core.value().is_some_and(|core| cores.contains(&core))),
                format!("last on the cores of {sensor}"),
            )
        }
        PartId::Gpu(_) if sample.now.gpus.len() > 1 => {
            Users::Unknown("which card a process uses is not told apart yet")
        }
        PartId::Gpu(gpu) => {
            let used = listed("gpu");
            let busy = (0..sample.now.processes.len())
                .filter(|at| matches!(used.of(&sample.process(*at)), Value::Number(share) if share > 0.0));
            pids(
                busy.filter_map(|at| sample.now.processes[at].pid.value()).collect(),
                format!("computing on {gpu}"),
            )
        }
        PartId::Group(path) => {
            let wanted = path.clone();
            let within = move |row: &ProcessRow| row.limits.split(' ').any(|name| *name == *wanted);
            Users::Those(Box::new(within), format!("limited by {path}"))
        }
        PartId::Interface(_) => Users::Unknown("the kernel does not say which process uses which interface"),
        PartId::Battery(_) => Users::All,
        PartId::Figure(_) => Users::All,
    }
}

fn on_mounts(sample: &Sample, mounts: Vec<Text>, words: String) -> Users {
    if sample.now.processes.iter().all(|row| row.mounts.is_empty()) {
        return Users::Unknown("who has files there is not known at this moment");
    }
    let has = move |row: &ProcessRow| row.mounts.split(' ').any(|word| mounts.iter().any(|m| **m == *word));
    Users::Those(Box::new(has), words)
}

/// What its users are ordered by when this part is chosen; none where the lane's own order fits.
pub fn lens(part: &PartId) -> Option<&'static Metric> {
    let PartId::Figure(figure) = part else {
        return match part {
            PartId::Gpu(_) => Some(listed("gpu")),
            _ => None,
        };
    };
    let alias = match *figure {
        "cpu.user" | "cpu.nice" => "cpu_user",
        "cpu.system" => "cpu_system",
        "cpu.iowait" | "pressure.io.some" | "pressure.io.full" | "tasks.blocked" => "disk_wait",
        "pressure.cpu.some" | "tasks.running" => "core_wait",
        "unaccounted" | "forks" => "cpu_children",
        "switches" => "switches_wait",
        "programs" | "mem.available" | "oom.kills" | "pressure.memory.some" | "pressure.memory.full" => "rss",
        "shared" => "shared",
        "swap.used" | "swap.out" | "swap.in" => "swap",
        "faults.major" => "faults_major",
        "mem.dirty" => "write",
        "tcp.retransmits" => "net_out",
        "udp.errors" => "udp_drops",
        _ => return None,
    };
    Some(listed(alias))
}
