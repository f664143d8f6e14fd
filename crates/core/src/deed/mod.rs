//! What is done to processes: signals, priorities, cores, limits; to whom; what became of it; how it is kept.
//!
//! A target is a process by PID *and* start time, so that a PID that came back is never hit. A change is said as it was read
//! back from the kernel, before and after, not as it was wished.

mod account;
mod journal;
mod reasons;
mod scope;
pub mod typed;

pub use account::{Account, Left, Outcome, Still, summary};
pub use journal::Record;
pub use reasons::{Me, Reason, reasons};
pub use scope::{Scope, descendants, of_scope, target, targets};

use crate::cores::CoreSet;
use crate::inside::words;
use crate::reading::ProcessKey;
use crate::signals;
use crate::text::Text;
use crate::units::long_bytes;

/// A process that something shall be done to.
#[derive(Clone, Debug, PartialEq)]
pub struct Target {
    /// Which process.
    pub key: ProcessKey,
    /// Its name.
    pub name: Text,
    /// Its user.
    pub user: Text,
    /// Its command line.
    pub command: Text,
    /// Service, session or container that it belongs to; empty where there is none.
    pub service: Text,
    /// Children that live on when it ends.
    pub children: usize,
    /// It is a thread of the kernel.
    pub kernel: bool,
}

impl Target {
    /// Name and PID.
    pub fn label(&self) -> String {
        format!("{}[{}]", self.name, self.key.pid)
    }
}

/// A limit that can be changed; getrlimit(2).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Resource {
    /// Open descriptors.
    Files,
    /// Size of a core dump.
    CoreDump,
    /// Size of a file that it writes.
    FileSize,
    /// CPU time in seconds.
    Cpu,
    /// Address space.
    AddressSpace,
    /// Processes of its user.
    Processes,
    /// Size of the stack.
    Stack,
    /// Memory that may be locked.
    Locked,
}

impl Resource {
    /// All of them, those that people change most first.
    pub const ALL: [Resource; 8] = [
        Resource::Files,
        Resource::Processes,
        Resource::CoreDump,
        Resource::FileSize,
        Resource::AddressSpace,
        Resource::Cpu,
        Resource::Stack,
        Resource::Locked,
    ];

    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            Resource::Files => "open files",
            Resource::CoreDump => "core dump",
            Resource::FileSize => "file size",
            Resource::Cpu => "CPU time",
            Resource::AddressSpace => "address space",
            Resource::Processes => "processes",
            Resource::Stack => "stack",
            Resource::Locked => "locked memory",
        }
    }

    /// Its name in the kernel's words; `proc_pid_limits(5)`.
    pub const fn kernel_name(self) -> &'static str {
        match self {
            Resource::Files => "Max open files",
            Resource::CoreDump => "Max core file size",
            Resource::FileSize => "Max file size",
            Resource::Cpu => "Max cpu time",
            Resource::AddressSpace => "Max address space",
            Resource::Processes => "Max processes",
            Resource::Stack => "Max stack size",
            Resource::Locked => "Max locked memory",
        }
    }

    /// A value with its unit.
    pub fn value(self, value: Option<u64>) -> String {
        match (self, value) {
            (_, None) => "unlimited".to_owned(),
            (Resource::Files | Resource::Processes, Some(value)) => value.to_string(),
            (Resource::Cpu, Some(value)) => format!("{value} s"),
            (_, Some(value)) => long_bytes(value as f64),
        }
    }
}

/// Something that is done to a process, or how it is in that respect.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Deed {
    /// A signal by its number.
    Signal(i32),
    /// Niceness.
    Nice(i32),
    /// Scheduling policy by the kernel's number, and the priority of a real-time one, else 0; sched(7).
    Policy(i32, i32),
    /// I/O priority as ioprio_set(2) takes it.
    Io(i32),
    /// The cores that it may use.
    Cores(CoreSet),
    /// It does nothing until it is thawed: through its control group where that is possible, else by signals.
    Freeze,
    /// It goes on.
    Thaw,
    /// What is added to its OOM score, −1000 to 1000; `proc_pid_oom_score_adj(5)`.
    Oom(i32),
    /// A limit: what is enforced and what the process may raise it to; none is unlimited.
    Limit(Resource, Option<u64>, Option<u64>),
}

impl Deed {
    /// What is changed, in a word.
    pub const fn subject(&self) -> &'static str {
        match self {
            Deed::Signal(_) => "signal",
            Deed::Nice(_) => "nice",
            Deed::Policy(..) => "scheduling",
            Deed::Io(_) => "disk priority",
            Deed::Cores(_) => "cores",
            Deed::Freeze | Deed::Thaw => "frozen",
            Deed::Oom(_) => "OOM preference",
            Deed::Limit(resource, ..) => resource.word(),
        }
    }

    /// The value, in words.
    pub fn value(&self) -> String {
        match self {
            Deed::Signal(number) => signals::by_number(*number)
                .map_or_else(|| number.to_string(), |signal| signal.name.to_string()),
            Deed::Nice(nice) => nice.to_string(),
            Deed::Policy(policy, priority) => words::policy(i64::from(*policy), i64::from(*priority)),
            Deed::Io(value) => words::io_priority(i64::from(*value)),
            Deed::Cores(cores) => cores.to_string(),
            Deed::Freeze => "yes".to_owned(),
            Deed::Thaw => "no".to_owned(),
            Deed::Oom(value) => value.to_string(),
            Deed::Limit(resource, soft, hard) if soft == hard => resource.value(*soft),
            Deed::Limit(resource, soft, hard) => {
                format!("{} (may raise it to {})", resource.value(*soft), resource.value(*hard))
            }
        }
    }

    /// All of it: `signal TERM`, `nice 5`, `freeze`.
    pub fn name(&self) -> String {
        match self {
            Deed::Freeze => "freeze".to_owned(),
            Deed::Thaw => "thaw".to_owned(),
            Deed::Io(_) | Deed::Policy(..) => format!("{}: {}", self.subject(), self.value()),
            other => format!("{} {}", other.subject(), other.value()),
        }
    }

    /// Whether processes end by it unless they say otherwise.
    pub fn ends(&self) -> bool {
        matches!(self, Deed::Signal(number) if signals::by_number(*number).is_some_and(|signal| signal.ends))
    }

    /// Whether it ends or pauses somebody: such a deed needs a second key. A limit of CPU time ends who has used more.
    pub fn ends_or_pauses(&self) -> bool {
        match self {
            Deed::Signal(number) => self.ends() || signals::PAUSING.contains(number),
            Deed::Freeze | Deed::Limit(Resource::Cpu, ..) => true,
            _ => false,
        }
    }

    /// What is asked before it is done, up to the question mark: `Send KILL to stacker[3820] (astro)`.
    pub fn question(&self, whom: &str) -> String {
        match self {
            Deed::Signal(_) => format!("Send {} to {whom}", self.value()),
            Deed::Freeze => format!("Freeze {whom}"),
            Deed::Thaw => format!("Thaw {whom}"),
            _ => format!("Set {} of {whom}", self.name()),
        }
    }

    /// Whether both change the same thing.
    pub fn is_like(&self, other: &Deed) -> bool {
        match (self, other) {
            (Deed::Limit(one, ..), Deed::Limit(two, ..)) => one == two,
            (Deed::Signal(_), Deed::Signal(_)) => true,
            _ => self.subject() == other.subject(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn deeds_are_said_in_words_of_the_trade() {
        let cores: CoreSet = "0-2".parse().expect("a set");
        let said = [
            Deed::Signal(15),
            Deed::Nice(5),
            Deed::Cores(cores),
            Deed::Freeze,
            Deed::Io(3 << 13),
            Deed::Limit(Resource::Files, Some(1024), None),
        ]
        .map(|deed| deed.name());
        assert_eq!(
            said,
            [
                "signal TERM",
                "nice 5",
                "cores 0-2",
                "freeze",
                "disk priority: only when no other wants the disk",
                "open files 1024 (may raise it to unlimited)"
            ]
        );
        assert!(Deed::Signal(9).ends() && !Deed::Signal(19).ends() && !Deed::Nice(3).ends());
        assert!(Deed::Freeze.is_like(&Deed::Thaw) && !Deed::Nice(0).is_like(&Deed::Oom(0)));
    }
}
