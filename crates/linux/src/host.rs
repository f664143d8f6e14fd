//! What does not change while the machine runs.

use crate::proc::{cpuinfo, read_file};
use crate::{Roots, proc};
use dozor_core::reading::HostFacts;
use dozor_core::text::clean;
use jiff::tz::TimeZone;
use std::path::Path;

/// What tells this machine from others, machine-id(5), and this run of the program, a fresh number of random(4); empty where there is
/// none.
pub fn ids() -> (String, String) {
    let read = |path: &str| {
        let text = read_file(Path::new(path)).unwrap_or_default();
        clean(text.trim_ascii())
    };
    let machine = match read("/etc/machine-id") {
        none if none.is_empty() || none == "uninitialized" => read("/var/lib/dbus/machine-id"),
        id => id,
    };
    (machine, read("/proc/sys/kernel/random/uuid"))
}

/// Collects the facts of this host. What cannot be found out stays empty.
pub fn facts(roots: &Roots) -> HostFacts {
    let names = rustix::system::uname();
    let (kernel, release) = (names.sysname().to_bytes(), names.release().to_bytes());
    let cores =
        read_file(&roots.proc.join("stat")).ok().map(|bytes| proc::stat::parse(&bytes, vec![]).cores.len());
    let model = read_file(&roots.proc.join("cpuinfo")).ok().and_then(|bytes| cpuinfo::model(&bytes));
    HostFacts {
        name: clean(names.nodename().to_bytes()),
        kernel: format!("{} {}", clean(kernel), clean(release)),
        cpu_model: model.unwrap_or_else(|| clean(names.machine().to_bytes())),
        cores: cores.unwrap_or(0) as u32,
        ticks_per_second: rustix::param::clock_ticks_per_second() as u32,
        time_zone: time_zone(),
        note: String::new(),
        inside: crate::sys::inside::hints(roots),
    }
}

/// The time zone by its IANA name, else by its rules as the `TZ` variable has them, or as the last line of `/etc/localtime`
/// does; tzset(3), tzfile(5). Empty where there is none of them.
fn time_zone() -> String {
    if let Some(name) = TimeZone::system().iana_name() {
        return name.to_owned();
    }
    let variable = std::env::var("TZ").ok();
    let file = || {
        let bytes = std::fs::read("/etc/localtime").ok()?;
        let line = bytes.strip_suffix(b"\n")?.rsplit(|byte| *byte == b'\n').next()?;
        String::from_utf8(line.to_vec()).ok()
    };
    let rules = variable.filter(|name| !name.is_empty()).or_else(file).unwrap_or_default();
    if TimeZone::posix(&rules).is_ok() { rules } else { String::new() }
}
