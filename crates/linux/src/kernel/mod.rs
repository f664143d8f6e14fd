//! A reader inside the kernel: a small program that the kernel runs for each task and that hands over its counters.
//!
//! It is put together when Dozor starts, with the places of the fields from the kernel's own type information, checked by the
//! kernel before it runs, and gone with the last descriptor. It only reads. Where it is not allowed or not possible,
//! everything comes from `/proc`.

mod btf;
mod call;
mod code;
pub mod tasks;

use crate::Roots;
use rustix::io::Errno;
use tasks::Tasks;

/// Inode of the first PID namespace; include/linux/proc_ns.h. In others tasks have other numbers than the kernel's own.
const FIRST_NAMESPACE: u64 = 0xefff_fffc;

/// Why there is no reader in the kernel.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refused {
    /// Capabilities are missing, or a security module forbids it.
    #[error("not allowed")]
    Denied,
    /// A filter of system calls, or a container, does not let it through.
    #[error("this machine has other processes than those that are looked at")]
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
    fn of(error: Errno) -> Refused {
        match error {
            Errno::PERM | Errno::ACCESS => Refused::Denied,
            Errno::NOSYS | Errno::INVAL | Errno::OPNOTSUPP => Refused::Kernel,
            error => Refused::Other(error),
        }
    }
}

/// Loads the program that walks over all tasks, with room for at least so many.
pub fn tasks(roots: &Roots, count: usize) -> Result<Tasks, Refused> {
    let namespace = rustix::fs::stat(roots.proc.join("self/ns/pid")).map(|stat| stat.st_ino);
    if roots.proc != Roots::default().proc || namespace != Ok(FIRST_NAMESPACE) {
        return Err(Refused::Elsewhere);
    }
    let types = std::fs::read(roots.sys.join("kernel/btf/vmlinux")).map_err(|_| Refused::NoTypes)?;
    let cores = std::fs::read_to_string(roots.sys.join("devices/system/cpu/possible")).unwrap_or_default();
    let most = cores.trim().rsplit([',', '-']).next().and_then(|last| last.parse::<usize>().ok());
    Tasks::load(types, count, most.map_or(1, |most| most + 1))
}

#[cfg(test)]
mod tests {
    use super::*;
    use tasks::{Seen, Turn};

    #[test]
    fn try_it() {
        let begin = std::time::Instant::now();
        let mut tasks = tasks(&Roots::default(), 1000).expect("loaded");
        println!("loaded in {:?} {:?}", begin.elapsed(), tasks.missing());
        for everybody in [true, false, false] {
            let (mut all, mut changed) = (0, 0);
            let begin = std::time::Instant::now();
            tasks
                .walk(Turn { everybody, hand: 0, swept: u32::MAX }, |seen| {
                    all += 1;
                    match *seen {
                        Seen::Same { .. } => {}
                        Seen::Thread(_) => changed += 1,
                        Seen::Main(task, whole) => {
                            changed += 1;
                            if task.pid == std::process::id() {
                                println!("{task:?} {whole:?}");
                            }
                        }
                    }
                })
                .expect("walked");
            println!("{all} {changed} in {:?}", begin.elapsed());
        }
    }
}
