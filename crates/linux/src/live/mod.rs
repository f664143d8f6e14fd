//! The live machine as a source of readings.
//!
//! [`system`] reads the machine and its parts, [`processes`] the processes, from files or by a reader in the kernel.

mod ahead;
mod crowd;
mod ended;
mod kernel_log;
mod network;
mod own_io;
mod processes;
mod removed;
pub(crate) mod rotation;
mod system;
mod tallied;
mod threads;
mod transfers;
mod writing;

use crate::kernel::{How, Refused};
use crate::{Roots, host, own};
use crowd::Crowd;
use dozor_core::known::Raw;
use dozor_core::reading::{HostFacts, Reading};
use dozor_core::source::{Progress, Source};
use dozor_core::wanted::{Demand, Wanted};
use ended::Ended;
use kernel_log::KernelLog;
use network::Network;
use processes::Processes;
use removed::Removed;
pub use removed::removed;
use rustix::io::Errno;
use std::sync::Arc;
use system::System;
use transfers::Transfers;

/// Why the machine cannot be watched at all.
#[derive(Debug, thiserror::Error)]
#[error("{path} cannot be read")]
pub struct OpenError {
    path: String,
    source: Errno,
}

/// Reads the machine that the program runs on.
pub struct LiveSource {
    roots: Roots,
    system: System,
    processes: Processes,
    network: Network,
    ended: Ended,
    removed: Removed,
    kernel_log: KernelLog,
    transfers: Transfers,
    wanted: Wanted,
    loads_when_settled: bool,
    /// Bytes that were swapped and reclaimed up to the last reading.
    reclaimed: [i64; 3],
    crowd: Crowd,
    /// Whether the files are those of this machine.
    is_here: bool,
    /// Empty lists of an old reading, for the next.
    spare: Reading,
}

impl LiveSource {
    /// Opens the machine. At first only what costs next to nothing is collected.
    pub fn open(roots: Roots) -> Result<LiveSource, OpenError> {
        let processes = Processes::open(&roots)
            .map_err(|source| OpenError { path: roots.proc.display().to_string(), source })?;
        let (system, network, ended) = (System::open(&roots), Network::default(), Ended::default());
        let is_here = roots.proc == Roots::default().proc;
        Ok(LiveSource {
            system,
            processes,
            network,
            ended,
            removed: Removed::default(),
            kernel_log: KernelLog::open(),
            transfers: Transfers::default(),
            roots,
            wanted: Wanted::NOTHING,
            loads_when_settled: false,
            reclaimed: [0; 3],
            crowd: Crowd::default(),
            is_here,
            spare: Reading::default(),
        })
    }

    /// Reads every process in full at every reading. For comparing: it costs several times as much.
    #[must_use]
    pub fn always_in_full(mut self) -> LiveSource {
        self.processes.always_in_full();
        self
    }

    /// Takes who ran from files alone, as where `/proc` is that of another PID namespace. For comparing: it costs a half more.
    #[must_use]
    pub fn without_clocks(mut self) -> LiveSource {
        self.processes.files.clocks = false;
        self
    }

    /// Counts processes by a reader in the kernel, where this machine allows it. For a single reading it is not worth it.
    #[must_use]
    pub fn from_inside(mut self) -> LiveSource {
        self.processes.look_from_inside();
        self.ask_kernel(How::AtOnce);
        self
    }

    /// The same, without waiting until the kernel has checked it: until then files are read.
    #[must_use]
    pub fn from_inside_later(mut self) -> LiveSource {
        self.load_later();
        self
    }

    /// The same, once the first figures are out: what it costs to load is in none of them.
    #[must_use]
    pub fn from_inside_when_settled(self) -> LiveSource {
        LiveSource { loads_when_settled: true, ..self }
    }

    fn load_later(&mut self) {
        self.processes.look_from_inside_later();
        self.ask_kernel(How::Later);
    }

    /// Programs in the kernel tell of ends, connections and transfers, from the first reading on; processes are counted by
    /// files, as is right for a few readings.
    #[must_use]
    pub fn listening(mut self) -> LiveSource {
        self.ask_kernel(How::AtOnce);
        self
    }

    /// Programs in the kernel tell of ends, connections and transfers.
    fn ask_kernel(&mut self, how: How) {
        self.ended.ask_kernel(how);
        self.network.ask_kernel(how);
        self.transfers.ask_kernel(how);
    }

    /// Whether processes are counted by the reader in the kernel, or why not; nothing where nobody asked for it.
    #[must_use]
    pub fn inside(&self) -> Option<Result<(), &Refused>> {
        self.processes.inside()
    }
}

impl Source for LiveSource {
    fn host(&self) -> HostFacts {
        host::facts(&self.roots)
    }

    fn read(&mut self) -> Reading {
        let mut old = std::mem::take(&mut self.spare);
        let rows = std::mem::take(&mut old.processes);
        let mut reading = self.system.read(&self.roots, self.wanted, old);
        let reclaimed = [&reading.system.swap_in, &reading.system.swap_out, &reading.system.reclaimed]
            .map(|raw| raw.value().unwrap_or(0));
        let reclaims = std::mem::replace(&mut self.reclaimed, reclaimed) != reclaimed;
        let processes = self.processes.read(self.wanted, reclaims, rows);
        if self.processes.beyond_calls > 0 {
            self.system.reread_disks(&mut reading);
        }
        if self.wanted.has(Demand::Filesystems) {
            reading.filesystems = self.system.filesystems();
            reading.remotes = self.system.remotes();
        }
        reading.threads = self.processes.threads(self.wanted, &processes);
        reading.groups = self.processes.groups(self.wanted);
        reading.sort();
        // Processes come in order; sorting them would touch every one of thousands for nothing.
        reading.processes = processes;
        // Notifications and sockets are this machine's, whatever tree of files is read.
        let is_here = self.is_here;
        if is_here && self.wanted.has(Demand::Filesystems) {
            reading.removed = self.removed.read(&self.roots, &reading.filesystems, &reading.processes);
        }
        if is_here && self.wanted.has(Demand::Transfers) {
            self.transfers.complete(&self.roots, &mut reading);
        }
        if is_here && self.wanted.has(Demand::Sockets) {
            self.network.complete(&self.roots, self.wanted, &mut reading);
            self.processes.take_back(&reading.processes);
        }
        if is_here && self.wanted.has(Demand::Ended) {
            reading.ended = self.ended.take(&self.roots, &reading.processes);
            self.kernel_log.mark(reading.system.oom_kills, &mut reading.ended);
            for row in &mut reading.ended {
                let Some(pid) = row.pid.value() else { continue };
                if let Some((received, sent)) = self.network.of_gone(pid, row.seen.value() != Some(0)) {
                    (row.net_in_bytes, row.net_out_bytes) = (Raw::new(received), Raw::new(sent));
                }
                if let Some(datagrams) = self.network.datagrams_of_gone(pid) {
                    [row.udp_in_bytes, row.udp_out_bytes] = datagrams.map(Raw::new);
                }
            }
            if let Some(lost) = self.ended.lost() {
                reading.system.notifications_lost = Raw::new((lost + self.network.lost()) as i64);
            }
        }
        let Reading { processes, threads, connections, ended, .. } = &reading;
        if self.crowd.is_gone(processes.len() + threads.len() + connections.len() + ended.len()) {
            own::give_free_memory_back();
        }
        reading
    }

    fn progress(&self) -> Option<Arc<Progress>> {
        Some(self.processes.progress.clone())
    }

    fn reuse(&mut self, old: Reading) {
        self.spare = Reading {
            cores: emptied(old.cores),
            disks: emptied(old.disks),
            interfaces: emptied(old.interfaces),
            sensors: emptied(old.sensors),
            processes: emptied(old.processes),
            ..Reading::default()
        };
    }

    fn settle(&mut self) {
        if std::mem::take(&mut self.loads_when_settled) {
            self.load_later();
        }
    }

    fn want(&mut self, wanted: Wanted) {
        if wanted != self.wanted {
            let before = std::mem::replace(&mut self.wanted, wanted);
            // Nobody reads the notifications any more; without a socket none pile up.
            if !wanted.has(Demand::Sockets) {
                self.network.silence();
            }
            if !wanted.has(Demand::Transfers) {
                self.transfers.silence();
            }
            if !wanted.has(Demand::Ended) {
                self.ended.silence();
            }
            let differs = |part: &Demand| wanted.has(*part) != before.has(*part);
            if Demand::ALL.iter().any(|part| part.is_in_rows() && differs(part)) {
                self.processes.forget_idleness();
            }
        }
    }
}

/// The list without what was in it, with its memory.
fn emptied<R>(mut list: Vec<R>) -> Vec<R> {
    list.clear();
    list
}
