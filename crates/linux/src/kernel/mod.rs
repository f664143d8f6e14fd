//! A reader inside the kernel: a small program that the kernel runs for each task and that hands over its counters.
//!
//! It is put together when Dozor starts, with the places of the fields from the kernel's own type information, checked by the
//! kernel before it runs, and gone with the last descriptor. It only reads. Where it is not allowed or not possible,
//! everything comes from `/proc`.

mod btf;
mod call;
mod code;
mod refused;
pub mod tasks;

use crate::Roots;
use crate::proc::{loadavg, read_file};
pub use refused::Refused;
use std::os::unix::fs::MetadataExt as _;
use tasks::Tasks;

/// Inodes of the first namespaces; include/linux/proc_ns.h. In others tasks have other numbers, users and start times than the
/// kernel's own.
const FIRST_NAMESPACES: [(&str, u64); 3] =
    [("pid", 0xefff_fffc), ("user", 0xefff_fffd), ("time", 0xefff_fffa)];

/// Loads the program that walks over all tasks, with room for several times as many as there are.
pub fn tasks(roots: &Roots) -> Result<Tasks, Refused> {
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
    let (_, threads) = loadavg::parse(&read_file(&roots.proc.join("loadavg")).unwrap_or_default());
    let count = threads.value().and_then(|count| usize::try_from(count).ok()).unwrap_or(0);
    let types = std::fs::read(roots.sys.join("kernel/btf/vmlinux")).map_err(|_| Refused::NoTypes)?;
    let cores = std::fs::read_to_string(roots.sys.join("devices/system/cpu/possible")).unwrap_or_default();
    let most = cores.trim().rsplit([',', '-']).next().and_then(|last| last.parse::<usize>().ok());
    Tasks::load(types, count, most.map_or(1, |most| most + 1))
}
