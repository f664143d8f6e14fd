//! What does not change while the machine runs.

use crate::proc::{cpuinfo, read_file};
use crate::{Roots, proc};
use dozor_core::reading::HostFacts;
use dozor_core::text::clean;

/// Collects the facts of this host. What cannot be found out stays empty.
pub fn facts(roots: &Roots) -> HostFacts {
    let names = rustix::system::uname();
    let (kernel, release) = (names.sysname().to_bytes(), names.release().to_bytes());
    let cores = read_file(&roots.proc.join("stat")).ok().map(|bytes| proc::stat::parse(&bytes).cores.len());
    let model = read_file(&roots.proc.join("cpuinfo")).ok().and_then(|bytes| cpuinfo::model(&bytes));
    HostFacts {
        name: clean(names.nodename().to_bytes()),
        kernel: format!("{} {}", clean(kernel), clean(release)),
        cpu_model: model.unwrap_or_else(|| clean(names.machine().to_bytes())),
        cores: cores.unwrap_or(0) as u32,
        ticks_per_second: rustix::param::clock_ticks_per_second() as u32,
        time_zone: jiff::tz::TimeZone::system().iana_name().unwrap_or_default().to_owned(),
        note: String::new(),
        inside: crate::sys::inside::hints(roots),
    }
}
