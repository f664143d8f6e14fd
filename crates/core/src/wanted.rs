//! What a source shall collect beyond the counters that cost next to nothing.

/// A part of a reading that costs enough to be collected only when a column, a recording or a view asks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Demand {
    /// Interrupts and deferred interrupt work by source and core.
    Interrupts,
    /// File systems.
    Filesystems,
    /// Sockets and their bytes, by process.
    Sockets,
    /// Number of open files of each process.
    Files,
    /// Proportional memory of each process.
    Proportional,
    /// Likelihood of being killed when memory runs out.
    OomScore,
    /// Kernel function that each process waits in.
    WaitChannel,
    /// Control group and service of each process, and the groups that limit something.
    ControlGroup,
    /// Work of graphics processors, by process.
    Gpu,
    /// Processes that ended since the last reading.
    Ended,
    /// File systems that each process has files on.
    Mounts,
    /// Threads of processes with several.
    Threads,
    /// Context switches of all threads of each process.
    Switches,
    /// What each process hands to block devices.
    Transfers,
    /// How long each process waited for a core.
    CoreWait,
    /// Bytes over UDP, however few datagrams the machine moves.
    Datagrams,
}

impl Demand {
    /// What it costs to collect, in words.
    pub const fn cost(self) -> &'static str {
        match self {
            Demand::Interrupts => "two files of the machine at each reading",
            Demand::Filesystems => "a question to each file system at each reading",
            Demand::Sockets => "a list of all sockets at each reading, and once who holds them",
            Demand::Files => "a look at the open files of each process that ran",
            Demand::Proportional => "a walk over the memory of each process that ran: expensive",
            Demand::OomScore | Demand::WaitChannel => "one more file for each process that ran",
            Demand::ControlGroup => {
                "one more file for each process, once, and what groups with a limit use at each reading"
            }
            Demand::Gpu => "a look at the open files of each process that ran",
            Demand::Ended => "a notification for each process that ends",
            Demand::Mounts => "a look at every open file of each process that ran: expensive",
            Demand::Switches => "one file for each thread of a process that ran and has several",
            Demand::Transfers => {
                "some hundred nanoseconds for each request to a block device; only with the reader in the kernel"
            }
            Demand::CoreWait => {
                "one file for each thread of a process that ran and has several, up to 512 in a reading; nothing with the reader in the kernel"
            }
            Demand::Datagrams => {
                "some tens of nanoseconds for each call on any socket of the machine; only with programs in the kernel"
            }
            Demand::Threads => "two files for each thread at each reading: expensive",
        }
    }

    /// Whether it stands in the rows of processes; else they are the same without it.
    pub const fn is_in_rows(self) -> bool {
        use Demand::{Ended, Filesystems, Interrupts, Threads, Transfers};
        !matches!(self, Interrupts | Filesystems | Ended | Threads | Transfers)
    }

    /// All parts.
    pub const ALL: [Demand; 16] = [
        Demand::Interrupts,
        Demand::Filesystems,
        Demand::Sockets,
        Demand::Files,
        Demand::Proportional,
        Demand::OomScore,
        Demand::WaitChannel,
        Demand::ControlGroup,
        Demand::Gpu,
        Demand::Ended,
        Demand::Mounts,
        Demand::Threads,
        Demand::Switches,
        Demand::Transfers,
        Demand::CoreWait,
        Demand::Datagrams,
    ];
}

/// A set of parts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Wanted(u32);

impl Wanted {
    /// Only what costs next to nothing.
    pub const NOTHING: Wanted = Wanted(0);

    /// Every part.
    pub fn everything() -> Wanted {
        Demand::ALL.into_iter().collect()
    }

    /// What a recording holds: who owned what, and how full things were; nothing that costs a walk over memory.
    pub fn recorded() -> Wanted {
        const RECORDED: [Demand; 6] = [
            Demand::ControlGroup,
            Demand::Filesystems,
            Demand::Sockets,
            Demand::Files,
            Demand::Ended,
            Demand::Transfers,
        ];
        RECORDED.into_iter().collect()
    }

    /// The set with one more part.
    #[must_use]
    pub fn with(self, part: Demand) -> Wanted {
        Wanted(self.0 | 1 << part as u8)
    }

    /// The parts of both sets.
    #[must_use]
    pub fn union(self, other: Wanted) -> Wanted {
        Wanted(self.0 | other.0)
    }

    /// Whether a part is in the set.
    pub fn has(self, part: Demand) -> bool {
        self.0 >> part as u8 & 1 == 1
    }
}

impl FromIterator<Demand> for Wanted {
    fn from_iter<I: IntoIterator<Item = Demand>>(parts: I) -> Self {
        parts.into_iter().fold(Wanted::NOTHING, Wanted::with)
    }
}
