//! Why there is no reader in the kernel.

use rustix::io::Errno;

/// Why there is no reader in the kernel.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refused {
    /// Capabilities are missing, or a security module or a filter of system calls forbids it.
    #[error("it is not allowed")]
    Denied,
    /// A made-up tree is read, or a container has numbers of its own.
    #[error("here tasks have other numbers than in the kernel")]
    Elsewhere,
    /// The kernel was built without its type information.
    #[error("the kernel does not tell its types (/sys/kernel/btf/vmlinux)")]
    NoTypes,
    /// The kernel is too old or was built without it.
    #[error("the kernel cannot do it")]
    Kernel,
    /// A field that is needed is not where it was in any kernel so far.
    #[error("the kernel has no {0}")]
    Field(String),
    /// The kernel's check did not accept the program.
    #[error("the kernel refused the program: {0}")]
    Program(String),
    /// Anything else.
    #[error("{0}")]
    Other(#[from] Errno),
}

impl Refused {
    /// Of a program, with what the kernel said about it.
    pub(super) fn said((error, said): (Errno, String)) -> Refused {
        match error {
            Errno::PERM => Refused::Denied,
            _ if !said.is_empty() => Refused::Program(said),
            error => Refused::of(error),
        }
    }

    pub(super) fn of(error: Errno) -> Refused {
        match error {
            Errno::PERM | Errno::ACCESS => Refused::Denied,
            Errno::NOSYS | Errno::INVAL | Errno::OPNOTSUPP => Refused::Kernel,
            error => Refused::Other(error),
        }
    }
}
