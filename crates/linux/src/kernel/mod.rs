//! A reader inside the kernel: a small program that the kernel runs for each task and that hands over its counters, and
//! others that it runs where a process ends.
//!
//! They are put together when Dozor starts, with the places of the fields from the kernel's own type information, checked by the
//! kernel before they run, and gone with the last descriptor. They only read. Where it is not allowed or not possible,
//! everything comes from `/proc`.

mod attached;
pub(crate) mod btf;
mod call;
pub mod calls;
mod code;
pub mod datagrams;
mod later;
mod layout;
pub mod lives;
mod mapped;
pub mod owners;
mod refused;
pub mod requests;
mod ring;
mod tally;
pub mod tasks;

use crate::Roots;
use crate::proc::{loadavg, read_file};
use btf::Btf;
use calls::Calls;
use datagrams::Datagrams;
pub use later::{How, Later};
use lives::Lives;
use owners::Owners;
pub use refused::Refused;
use requests::Requests;
use std::os::unix::fs::MetadataExt as _;
use std::sync::{Arc, Mutex, PoisonError, Weak};
pub use tally::Counted;
use tasks::Tasks;

/// Inodes of the first namespaces; include/linux/proc_ns.h. In others tasks have other numbers, users and start times than the
/// kernel's own.
const FIRST_NAMESPACES: [(&str, u64); 3] =
    [("pid", 0xefff_fffc), ("user", 0xefff_fffd), ("time", 0xefff_fffa)];

/// Loads the program that walks over all tasks, with room for several times as many as there are.
pub fn tasks(roots: &Roots) -> Result<Tasks, Refused> {
    let types = types(roots)?;
    let (_, threads) = loadavg::parse(&read_file(&roots.proc.join("loadavg")).unwrap_or_default());
    let count = threads.value().and_then(|count| usize::try_from(count).ok()).unwrap_or(0);
    Tasks::load(&types, count, possible_cores(roots))
}

/// Cores that there may be, also later; Documentation/admin-guide/cputopology.rst.
fn possible_cores(roots: &Roots) -> usize {
    let cores = std::fs::read_to_string(roots.sys.join("devices/system/cpu/possible")).unwrap_or_default();
    let most = cores.trim().rsplit([',', '-']).next().and_then(|last| last.parse::<usize>().ok());
    most.map_or(1, |most| most + 1)
}

/// Loads the programs that tell of processes that end.
pub fn lives(roots: &Roots) -> Result<Lives, Refused> {
    Lives::load(&*types(roots)?, possible_cores(roots))
}

/// Notes whose TCP connections are, from now on.
pub fn owners(roots: &Roots) -> Result<Owners, Refused> {
    Owners::load(&*types(roots)?)
}

/// Counts what processes hand to block devices, from now on.
pub fn requests(roots: &Roots) -> Result<Requests, Refused> {
    Requests::load(&*types(roots)?)
}

/// Counts what processes receive and send over UDP, from now on.
pub fn datagrams(roots: &Roots) -> Result<Datagrams, Refused> {
    Datagrams::load(&*types(roots)?)
}

/// Counts the system calls of a process, from now on.
pub fn calls(roots: &Roots, pid: i64) -> Result<Calls, Refused> {
    Calls::load(&*types(roots)?, i32::try_from(pid).map_err(|_| Refused::Elsewhere)?)
}

/// The type information as long as somebody needs it: programs that are loaded at the same time share it.
static TYPES: Mutex<Weak<Btf>> = Mutex::new(Weak::new());

/// The kernel's type information, where what it tells is of this machine and in our own numbers.
pub(crate) fn types(roots: &Roots) -> Result<Arc<Btf>, Refused> {
    if roots.proc != Roots::default().proc {
        return Err(Refused::Elsewhere);
    }
    for (name, first) in FIRST_NAMESPACES {
        let here = std::fs::metadata(roots.proc.join("self/ns").join(name)).map(|file| file.ino());
        // A kernel that does not have this kind has no others of it.
        if here.is_ok_and(|here| here != first) {
            return Err(Refused::Elsewhere);
        }
    }
    let mut shared = TYPES.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(types) = shared.upgrade().filter(|_| roots.sys == Roots::default().sys) {
        return Ok(types);
    }
    let others = [&lives::NAMES[..], &owners::NAMES, &requests::NAMES, &datagrams::NAMES, &calls::NAMES];
    let names = [&tasks::NAMES[..], &others.concat()].concat();
    let bytes = std::fs::read(roots.sys.join("kernel/btf/vmlinux")).map_err(|_| Refused::NoTypes)?;
    let types = Arc::new(Btf::parse(bytes, &names).ok_or(Refused::NoTypes)?);
    // Older kernels have none of this name, and refuse maps before they would say so of the program.
    types.field("task_struct", "__state").ok_or(Refused::Kernel)?;
    if roots.sys == Roots::default().sys {
        *shared = Arc::downgrade(&types);
    }
    Ok(types)
}
