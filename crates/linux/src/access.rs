//! What this user may read on this machine, and what would allow the rest.
//!
//! Everything is tried, nothing is concluded from the user's number: a capability, a mount option or a setting of the
//! kernel decide as well. Running without root is normal.

use crate::clock;
use crate::kernel::tasks::Missing;
use crate::kernel::{self, Refused};
use crate::netlink;
use crate::proc::{number, read_file};
use crate::{LiveSource, Roots};
use dozor_core::known::Raw;
use dozor_core::reading::ProcessRow;
use dozor_core::source::Source as _;
use dozor_core::text::without_number;
use dozor_core::wanted::Demand;
use std::fs::File;
use std::sync::Arc;

/// How it stands with one kind of information.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// All of it can be read.
    Open,
    /// Some of it, or none, may not be read.
    Denied,
    /// The kernel or the hardware does not have it.
    Missing,
}

/// One kind of information.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// What it is about.
    pub what: &'static str,
    /// How it stands.
    pub standing: Standing,
    /// What was found, in words.
    pub found: String,
    /// What would allow it; empty where nothing is missing.
    pub remedy: &'static str,
}

const CAPABILITY: &str = "run as root, or give the program the capability: setcap cap_sys_ptrace+ep FILE";

const INSIDE: &str = "counting inside the kernel";

const INSIDE_REMEDY: &str = "run as root, or give the program the capabilities: setcap cap_bpf,cap_perfmon+ep FILE; a lockdown or a filter of system calls may forbid it even then";

const EVEN_ROOT: &str = "nothing here: a security module or the limits of a container forbid it even to root";

/// Tries everything.
pub fn report(roots: &Roots) -> Vec<Finding> {
    vec![
        processes(roots),
        input_output(roots),
        delay_accounting(roots),
        pressure(roots),
        idle_times(roots),
        sockets(),
        namespaces(roots),
        inside_kernel(roots),
        process_events(),
        exit_records(roots),
        datagrams(roots),
        temperatures(roots),
        energy(roots),
    ]
}

fn finding(what: &'static str, standing: Standing, found: String, remedy: &'static str) -> Finding {
    Finding { what, standing, found, remedy: if standing == Standing::Open { "" } else { remedy } }
}

fn processes(roots: &Roots) -> Finding {
    let options = read_file(&roots.proc.join("self/mountinfo")).unwrap_or_default();
    let options = String::from_utf8_lossy(&options).into_owned();
    let hidden = options.lines().any(|line| {
        line.contains(" - proc ")
            && line.contains("hidepid=")
            && !line.contains("hidepid=0")
            && !line.contains("hidepid=off")
    });
    let visible = roots.proc.join("1/stat").exists();
    match (hidden, visible) {
        (true, false) => finding(
            "processes of others",
            Standing::Denied,
            "they are hidden (mount option hidepid)".to_owned(),
            "run as root, or join the group that the mount option gid= names",
        ),
        _ => match out_of_sight(roots) {
            Some((seen, all)) => finding(
                "processes of others",
                Standing::Denied,
                format!(
                    "{seen} of the machine's {all} processes and threads are listed: the others are in another PID namespace, or hidden"
                ),
                "run it outside of the container, or with the PID namespace of the host",
            ),
            None => finding("processes of others", Standing::Open, "all are listed".to_owned(), ""),
        },
    }
}

/// How many tasks are listed, and how many the machine has, where many of them are not.
fn out_of_sight(roots: &Roots) -> Option<(i64, i64)> {
    let mut source = LiveSource::open(roots.clone()).ok()?;
    let reading = Arc::new(source.read());
    let sample = dozor_core::sample::Sample::new(Arc::new(source.host()), None, reading);
    dozor_core::exited::out_of_sight(&sample)
}

fn input_output(roots: &Roots) -> Finding {
    let what = "disk input and output of processes";
    let Ok(mut source) = LiveSource::open(roots.clone()) else {
        return finding(what, Standing::Missing, "there are no processes".to_owned(), "");
    };
    let reading = source.read();
    let denied = reading.processes.iter().filter(|row| row.read_bytes == Raw::DENIED).count();
    let missing = reading.processes.iter().filter(|row| row.read_bytes == Raw::ABSENT).count();
    let all = reading.processes.len();
    if all == missing {
        return finding(
            what,
            Standing::Missing,
            "the kernel does not count it (CONFIG_TASK_IO_ACCOUNTING)".to_owned(),
            "",
        );
    }
    let standing = if denied > 0 { Standing::Denied } else { Standing::Open };
    let remedy = if rustix::process::geteuid().is_root() { EVEN_ROOT } else { CAPABILITY };
    finding(what, standing, format!("{} of {all} processes can be read", all - denied), remedy)
}

fn delay_accounting(roots: &Roots) -> Finding {
    let value = read_file(&roots.proc.join("sys/kernel/task_delayacct")).ok();
    let (standing, found) = match value.as_deref().map(<[u8]>::trim_ascii) {
        Some(b"0") => (Standing::Missing, "the kernel does not count it now".to_owned()),
        Some(_) => (Standing::Open, "the kernel counts it".to_owned()),
        None => (Standing::Missing, "the kernel does not say whether it counts it".to_owned()),
    };
    finding(
        "time that processes wait for disks",
        standing,
        found,
        "sysctl -w kernel.task_delayacct=1 (as root)",
    )
}

fn pressure(roots: &Roots) -> Finding {
    let there = read_file(&roots.proc.join("pressure/cpu")).is_ok();
    let (standing, found) = if there {
        (Standing::Open, "the kernel measures it")
    } else {
        (Standing::Missing, "the kernel does not measure it")
    };
    finding("stall pressure", standing, found.to_owned(), "start the kernel with psi=1 (CONFIG_PSI)")
}

fn inside_kernel(roots: &Roots) -> Finding {
    let refused = match kernel::tasks(roots) {
        Ok(tasks) => {
            let rest = match tasks.missing() {
                missing if missing == Missing::default() => "all counters",
                _ => "most counters, the others by files",
            };
            let found = format!(
                "allowed: {rest}, for a third of what files cost, context switches of whole programs"
            );
            return finding(INSIDE, Standing::Open, found, "");
        }
        Err(refused) => refused,
    };
    let found = format!("{refused}; files are read instead");
    match refused {
        Refused::Denied => finding(INSIDE, Standing::Denied, found, INSIDE_REMEDY),
        Refused::NoTypes => {
            finding(INSIDE, Standing::Missing, found, "a kernel that was built with CONFIG_DEBUG_INFO_BTF")
        }
        Refused::Elsewhere => finding(INSIDE, Standing::Missing, found, "run it outside of the container"),
        _ => {
            finding(INSIDE, Standing::Missing, found, "a kernel from 5.15 on, built with CONFIG_BPF_SYSCALL")
        }
    }
}

fn idle_times(roots: &Roots) -> Finding {
    let clocks = File::open(&roots.proc).is_ok_and(clock::are_of);
    let there = clocks || read_file(&roots.proc.join("self/schedstat")).is_ok();
    let (standing, found) = if there {
        (Standing::Open, "CPU times are exact to the nanosecond, idle processes cost nearly nothing")
    } else {
        (Standing::Missing, "CPU times are exact to a clock tick, every process is read in full")
    };
    finding("exact CPU times", standing, found.to_owned(), "a kernel with CONFIG_SCHED_INFO")
}

fn sockets() -> Finding {
    let what = "network traffic of processes";
    if let Err(error) = netlink::sockets::Diagnostics::open() {
        return finding(
            what,
            Standing::Missing,
            format!("socket diagnostics do not answer: {}", without_number(&error)),
            "a kernel with CONFIG_INET_DIAG",
        );
    }
    let own_only = read_file(std::path::Path::new("/proc/self/status"))
        .ok()
        .and_then(|text| capabilities(&text))
        .is_some_and(|set| set >> CAP_SYS_PTRACE & 1 == 0);
    let (standing, found) = if own_only {
        (Standing::Denied, "bytes of TCP sockets are known; whose they are only for your own processes")
    } else {
        (Standing::Open, "bytes of all TCP sockets are known, and whose they are")
    };
    finding(what, standing, found.to_owned(), CAPABILITY)
}

fn datagrams(roots: &Roots) -> Finding {
    let what = "bytes over UDP by process";
    let Err(refused) = kernel::datagrams(roots) else {
        return finding(
            what,
            Standing::Open,
            "counted while the machine moves many datagrams, or a column asks".to_owned(),
            "",
        );
    };
    let found = format!("{refused}; who holds a UDP socket has at least what goes over TCP (≥)");
    match refused {
        Refused::Denied => finding(what, Standing::Denied, found, INSIDE_REMEDY),
        Refused::Elsewhere => finding(what, Standing::Missing, found, "run it outside of the container"),
        _ => finding(
            what,
            Standing::Missing,
            found,
            "a kernel from 6.3 on that allows the reader in the kernel",
        ),
    }
}

/// Interfaces and counters are always those of our own network namespace; sockets of others are asked for from within.
fn namespaces(roots: &Roots) -> Finding {
    let what = "other network namespaces";
    let Ok(mut source) = LiveSource::open(roots.clone()) else {
        return finding(what, Standing::Missing, "there are no processes".to_owned(), "");
    };
    source.want([Demand::Sockets].into_iter().collect());
    let reading = source.read();
    let apart = |row: &&Arc<ProcessRow>| row.net_namespace.value() > Some(0);
    let others = reading.processes.iter().filter(apart).count();
    let unknown = reading
        .processes
        .iter()
        .filter(|row| row.net_namespace == Raw::DENIED || apart(row) && row.net_in_bytes == Raw::ABSENT);
    match (unknown.count(), others) {
        (0, 0) => finding(what, Standing::Open, "all processes are in Dozor's own".to_owned(), ""),
        (0, others) => {
            let found = format!(
                "{others} processes are in others; their sockets are known, their interfaces are not shown"
            );
            finding(what, Standing::Open, found, "")
        }
        (unknown, _) => finding(
            what,
            Standing::Denied,
            format!("of {unknown} processes it is not known what they send and receive there"),
            if rustix::process::geteuid().is_root() {
                "nothing here: a container forbids it, or there are more namespaces than Dozor asks (32)"
            } else {
                "run as root (cap_sys_admin and cap_sys_ptrace)"
            },
        ),
    }
}

/// Bits of capabilities; capabilities(7).
const CAP_SYS_PTRACE: u32 = 19;

/// The effective capabilities in a status file.
pub(crate) fn capabilities(status: &[u8]) -> Option<u64> {
    let text = std::str::from_utf8(status).ok()?;
    let line = text.lines().find_map(|line| line.strip_prefix("CapEff:"))?;
    u64::from_str_radix(line.trim(), 16).ok()
}

fn process_events() -> Finding {
    let what = "starts and ends of processes";
    match netlink::events::Events::open() {
        Ok(_) => finding(what, Standing::Open, "every process is seen, however short".to_owned(), ""),
        Err(error) => finding(
            what,
            Standing::Denied,
            format!(
                "process events are refused ({}); short-lived processes show at their parent only",
                without_number(&error)
            ),
            "run as root, or setcap cap_net_admin+ep FILE",
        ),
    }
}

fn exit_records(roots: &Roots) -> Finding {
    let what = "accounts of processes that ended";
    if kernel::lives(roots).is_ok() {
        let found = "CPU, memory, input and output, command line and exit code of every process that ends, however short";
        return finding(what, Standing::Open, found.to_owned(), "");
    }
    match netlink::exits::Exits::open() {
        Ok(_) => finding(
            what,
            Standing::Open,
            "CPU, memory and input and output of every process that ends".to_owned(),
            "",
        ),
        Err(error) => finding(
            what,
            Standing::Denied,
            format!("exit statistics are refused ({})", without_number(&error)),
            "run as root, or setcap cap_net_admin+ep FILE",
        ),
    }
}

fn temperatures(roots: &Roots) -> Finding {
    let sensors = crate::sys::sensors::Sensors::find(&roots.sys).read(vec![]);
    let count = sensors.iter().filter(|sensor| sensor.temperature.value().is_some()).count();
    let (standing, found) = match count {
        0 => (Standing::Missing, "no sensor is there".to_owned()),
        count => (Standing::Open, format!("{count} sensors answer")),
    };
    finding("temperatures", standing, found, "load the sensor's driver; virtual machines have none")
}

fn energy(roots: &Roots) -> Finding {
    let path = roots.sys.join("class/powercap/intel-rapl:0/energy_uj");
    let (standing, found, remedy) = match read_file(&path) {
        Ok(text) if number(text.trim_ascii()).is_some() => (Standing::Open, "the energy counter answers", ""),
        Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => {
            (Standing::Denied, "the energy counter may be read by root only", "run as root")
        }
        _ => (
            Standing::Missing,
            "no energy counter is there",
            "load the driver of the processor's energy counter; virtual machines and many processors have none",
        ),
    };
    finding("power of the processor", standing, found.to_owned(), remedy)
}
