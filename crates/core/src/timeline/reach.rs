//! What of the readings is decoded when a timeline is gone through.

use crate::catalogue::{Eval, Kind, Metric};
use crate::reading::{EndedRow, ProcessRow, SystemRow};
use crate::row::{Cells, Row as _};
use crate::wanted::Demand;

/// Which part of the readings is decoded when a timeline is gone through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// All of it.
    All,
    /// These of the processes and the machine's own counters: no cores, sensors, interrupts and connections.
    Processes {
        /// What of the processes.
        cells: Cells,
        /// What disks and servers of files did, and what was handed to disks, as well.
        disks: bool,
    },
    /// The machine with its cores, devices and sensors, without processes.
    Machine,
}

/// Metrics of the machine that are counted from its processes.
const COUNTED: [&str; 5] = ["tasks.total", "tasks.blocked", "unaccounted", "ended", "ended.unseen"];

/// Who a process is: without it nothing of it can be told.
fn always() -> Cells {
    Cells::named::<ProcessRow>(&["pid", "start_ticks", "ppid", "name", "program"])
}

/// What tells of those who ended between two readings.
const OF_GONE: [&str; 2] = ["state", "io_unknown"];

/// What tells how much of the CPU nobody visible used between two readings, so that there must have been somebody whom
/// nobody saw. Of those nothing else is known: who does not ask for CPU time needs none of it.
fn of_unseen() -> Cells {
    Cells::named::<ProcessRow>(&[
        "threads",
        "run_ns",
        "user_ticks",
        "system_ticks",
        "children_user_ticks",
        "children_system_ticks",
    ])
}

/// What the machine's own row needs to tell where somebody looks at these of the processes: when it was, what newly waited to
/// be written, and what the CPU did, where it can be told what of that no visible process did.
pub(super) fn of_machine(processes: Cells) -> Cells {
    let always = Cells::named::<SystemRow>(&[
        "wall_ns",
        "monotonic_ns",
        "boot_ns",
        "mem_total",
        "mem_dirty",
        "written_after",
        "dirty_after",
        "transfers_noted",
        "notifications_lost",
        "datagrams_missed",
        "unattributed_in",
        "unattributed_out",
        "unseen_traffic",
    ]);
    if !processes.cover(of_unseen()) {
        return always;
    }
    always.and(Cells::named::<SystemRow>(&[
        "user",
        "nice",
        "system",
        "idle",
        "iowait",
        "irq",
        "softirq",
        "steal",
        "guest",
        "guest_nice",
        "forks",
        "threads",
    ]))
}

/// What of those that ended stands for what is read of processes: who they were, the CPU time that nobody else can have used,
/// and what has the same name.
pub(super) fn of_ended(processes: Cells) -> Cells {
    const OTHERWISE: [(&str, &str); 4] =
        [("rss_bytes", "peak_bytes"), ("command", "parent"), ("command", "command"), ("command", "status")];
    let mut cells =
        Cells::named::<EndedRow>(&["order", "name", "pid", "ppid", "seen", "user", "system", "alike"]);
    let same = EndedRow::FIELDS.iter().map(|field| (field.name, field.name));
    for (of_process, of_ended) in same.chain(OTHERWISE) {
        if processes.meet(Cells::named::<ProcessRow>(&[of_process])) {
            cells = cells.and(Cells::named::<EndedRow>(&[of_ended]));
        }
    }
    cells
}

impl Reach {
    /// Who the processes are, and nothing else of them.
    pub fn names() -> Reach {
        Reach::cells(Cells::NONE)
    }

    /// Who the processes are, and these of them.
    pub fn cells(cells: Cells) -> Reach {
        Reach::Processes { cells: always().and(cells), disks: false }
    }

    /// Whether command lines are read.
    pub fn has_commands(self) -> bool {
        match self {
            Reach::All => true,
            Reach::Processes { cells, .. } => cells.meet(Cells::named::<ProcessRow>(&["command"])),
            Reach::Machine => false,
        }
    }

    /// What a metric needs.
    pub fn of(metric: &Metric) -> Reach {
        // Ports are those of sockets.
        const HEAVY: [&str; 2] = ["core_temp", "port"];
        // What was written is held against what the devices took.
        const OF_DISKS: [&str; 3] = ["write", "write_by", "disk"];
        let of_transfers = metric.needs == Some(Demand::Transfers);
        let of_group = metric.needs == Some(Demand::ControlGroup) && metric.kind != Kind::Label;
        match metric.eval {
            Eval::System(_) if COUNTED.contains(&metric.alias) => Reach::All,
            Eval::System(_) => Reach::Machine,
            Eval::Process(_) if of_group || of_transfers || HEAVY.contains(&metric.alias) => Reach::All,
            Eval::Process(_) => {
                let disks = OF_DISKS.contains(&metric.alias);
                let mut cells = always().and(Cells::named::<ProcessRow>(metric.reads));
                if disks || metric.kind == Kind::Rate {
                    cells = cells.and(Cells::named::<ProcessRow>(&OF_GONE));
                }
                if metric.kind == Kind::Rate && cells.meet(of_unseen()) {
                    cells = cells.and(of_unseen());
                }
                Reach::Processes { cells, disks }
            }
        }
    }

    /// What two of them need together.
    #[must_use]
    pub fn and(self, other: Reach) -> Reach {
        match (self, other) {
            (Reach::Processes { cells: a, disks }, Reach::Processes { cells: b, disks: others }) => {
                Reach::Processes { cells: a.and(b), disks: disks || others }
            }
            (Reach::Machine, Reach::Machine) => Reach::Machine,
            _ => Reach::All,
        }
    }
}
