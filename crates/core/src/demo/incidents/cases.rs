//! What goes wrong: an incident for every rule.

use super::world::{CORES, GIB, MIB, World, add, process};
use crate::lane::Severity;
use crate::reading::{
    BatteryRow, ConnectionRow, EndedRow, GpuRow, GroupRow, InterruptRow, ListenerRow, ProcessRow, RemoteRow,
    RemovedRow, TransferRow, raw,
};
use std::sync::Arc;

type Happens = Box<dyn Fn(&mut World, i64) + Send>;
type Setup = Box<dyn Fn(&mut World) + Send>;

/// Something that goes wrong.
pub struct Incident {
    /// The rule that finds it.
    pub rule: &'static str,
    /// Who is named first.
    pub culprit: &'static str,
    /// How bad it becomes at least.
    pub worst: Severity,
    setup: Setup,
    happens: Happens,
}

fn case(
    rule: &'static str,
    culprit: &'static str,
    worst: Severity,
    happens: impl Fn(&mut World, i64) + Send + 'static,
) -> Incident {
    Incident { rule, setup: Box::new(|_| {}), happens: Box::new(happens), culprit, worst }
}

impl Incident {
    /// What the machine has before it begins.
    pub fn set_up(&self, world: &mut World) {
        (self.setup)(world);
    }

    /// What happens in a second of it, counted from its beginning.
    pub fn happen(&self, world: &mut World, second: i64) {
        (self.happens)(world, second);
    }

    fn on(mut self, setup: impl Fn(&mut World) + Send + 'static) -> Incident {
        self.setup = Box::new(setup);
        self
    }
}

/// The disk takes no more, and all wait for it.
fn saturate(world: &mut World) {
    let disk = &mut world.now.disks[0];
    add(&mut disk.busy_ms, 990);
    add(&mut disk.writes, 1_000);
    add(&mut disk.write_ms, 60_000);
    add(&mut disk.queue_ms, 60_000);
    add(&mut disk.write_bytes, 180 * MIB);
    add(&mut world.now.system.pressure_io_some, 700_000);
    world.now.system.blocked = raw(3);
}

fn group(path: &str) -> GroupRow {
    GroupRow {
        path: path.into(),
        periods: raw(0),
        throttled_periods: raw(0),
        throttled_us: raw(0),
        cpu_us: raw(0),
        at_limit: raw(0),
        oom_kills: raw(0),
        ..GroupRow::default()
    }
}

/// The record of one that came and went: of so many microseconds.
pub fn ended(order: i64, name: &str, user_us: i64) -> EndedRow {
    EndedRow {
        order: raw(order),
        pid: raw(70_000 + order),
        ppid: raw(540),
        parent: "nightqueue".into(),
        name: name.into(),
        seen: raw(0),
        elapsed: raw(user_us),
        user: raw(user_us),
        system: raw(0),
        peak_bytes: raw(10 * MIB),
        command: format!("{name} --index none").into(),
        status: raw(1 << 8),
        ..EndedRow::default()
    }
}

/// An incident for every rule, in the order of the rules.
#[allow(clippy::too_many_lines, reason = "a table")]
pub fn incidents() -> Vec<Incident> {
    use Severity::{Critical, Notice, Warning};
    let busy_all = |world: &mut World, pids: [i64; 2]| {
        world.uses(pids[0], 0, 97);
        world.uses(pids[0], 1, 92);
        world.uses(pids[1], 2, 92);
        world.uses(pids[1], 3, 97);
    };
    vec![
        case("cpu-full", "nightqueue[540]", Notice, move |world, _| busy_all(world, [540, 540])),
        case("cpu-queue", "nightqueue[540]", Notice, move |world, _| {
            busy_all(world, [540, 540]);
            world.now.system.running = raw(12);
        }),
        case("hot-core", "guider[430]", Notice, |world, _| world.uses(430, 3, 100)),
        case("interrupts-on-one-core", "eth0-rx", Warning, |world, _| {
            world.core(3, |core| &mut core.softirq, 85);
            add(&mut world.now.interrupts[0].count, 40_000);
        })
        .on(|world| {
            let row = InterruptRow {
                source: "eth0-rx".into(),
                core: raw(3),
                count: raw(0),
                ..InterruptRow::default()
            };
            world.now.interrupts = vec![row];
        }),
        case("steal", "the host", Critical, |world, _| {
            (0..CORES).for_each(|core| world.core(core, |core| &mut core.steal, 40));
        }),
        case("short-lived", "platesolve", Warning, |world, second| {
            world.now.ended = (0..40).map(|at| ended(second * 100 + at, "platesolve", 30_000)).collect();
            (0..CORES).for_each(|core| world.core(core, |core| &mut core.user, 30));
            add(&mut world.now.system.forks, 40);
        }),
        case("unexplained-cpu", "nobody who can be seen", Notice, |world, _| {
            (0..CORES).for_each(|core| world.core(core, |core| &mut core.system, 40));
        }),
        case("forks", "nightqueue[540]", Warning, |world, _| {
            add(&mut world.now.system.forks, 3_000);
            add(&mut world.process(540).children_user_ticks, 20);
            (0..CORES).for_each(|core| world.core(core, |core| &mut core.user, 5));
        })
        .on(|world| world.now.system.notifications_lost = crate::known::Raw::ABSENT),
        case("switches", "catalogd[210]", Notice, |world, _| {
            add(&mut world.now.system.switches, 400_000);
            add(&mut world.process(210).switches_wait, 390_000);
        }),
        case("empty-calls", "guider[430]", Warning, |world, _| {
            world.uses(430, 3, 60);
            add(&mut world.process(430).read_calls, 648_000);
        }),
        case("memory-short", "catalogd[210]", Warning, |world, _| {
            world.process(210).rss_bytes = raw(12 * GIB);
            world.now.system.mem_available = raw(600 * MIB);
        }),
        case("swapping", "skyboard[320]", Warning, |world, _| {
            add(&mut world.now.system.swap_in, 20 * MIB);
            add(&mut world.now.system.swap_out, 20 * MIB);
            world.process(320).swap_bytes = raw(900 * MIB);
            // Each brings a page back.
            add(&mut world.process(320).faults_major, 5_000);
        }),
        case("memory-pressure", "skyboard[320]", Warning, |world, _| {
            add(&mut world.now.system.pressure_memory_some, 400_000);
            add(&mut world.process(320).faults_major, 500);
        }),
        case("leak", "skyboard[320]", Warning, |world, _| {
            add(&mut world.process(320).rss_bytes, 200 * MIB);
            add(&mut world.now.system.mem_available, -200 * MIB);
        }),
        case("oom-kill", "skyboard[320]", Critical, |world, second| {
            if second == 1 {
                world.now.processes.retain(|row| row.pid.value() != Some(320));
                add(&mut world.now.system.oom_kills, 1);
                // By KILL, as the kernel does it.
                world.now.ended.push(EndedRow {
                    pid: raw(320),
                    ppid: raw(1),
                    seen: raw(1),
                    status: raw(9),
                    peak_bytes: raw(2 * GIB),
                    ..ended(0, "skyboard", 1_000_000)
                });
            } else if second == 0 {
                world.process(320).rss_bytes = raw(2 * GIB);
            } else {
                world.now.processes.push(Arc::new(process(900 + second, "other", 1)));
                world
                    .now
                    .processes
                    .retain(|row| row.pid.value().is_some_and(|pid| pid < 900 || pid == 900 + second));
            }
        }),
        case("disk-saturated", "catalogd[210]", Critical, |world, _| {
            saturate(world);
            add(&mut world.process(210).write_bytes, 170 * MIB);
        }),
        // A job that has ended left in memory what a worker of the kernel writes out.
        case("disk-saturated", "tilecopy.service", Critical, |world, _| {
            saturate(world);
            let written = &mut world.now.transfers[0];
            add(&mut written.write_bytes, 176 * MIB);
            add(&mut written.requests, 352);
        })
        .on(|world| {
            let worker = ProcessRow { kernel: raw(1), ..process(77, "kworker/u8:3-flush-8:0", 2) };
            let worker = ProcessRow { command: "".into(), user: "root".into(), service: "".into(), ..worker };
            world.now.transfers = vec![TransferRow {
                device: "sda".into(),
                group: "/system.slice/tilecopy.service".into(),
                pid: worker.pid,
                start_ticks: worker.start_ticks,
                number: raw(8 << 20),
                group_number: raw(4_711),
                read_bytes: raw(0),
                write_bytes: raw(0),
                requests: raw(0),
            }];
            let of_kernel = ProcessRow { cgroup: "/".into(), limits: "".into(), rss_bytes: raw(0), ..worker };
            world.now.processes.push(Arc::new(of_kernel));
        }),
        case("blocked", "guider[430]", Warning, |world, _| world.process(430).state = raw(i64::from(b'D')))
            .on(|world| world.now.disks.clear()),
        case("remote-slow", "vault:/nights", Warning, |world, _| {
            let remote = &mut world.now.remotes[0];
            add(&mut remote.operations, 10);
            add(&mut remote.transmissions, 10);
            add(&mut remote.whole_ms, 15_000);
            add(&mut remote.answer_ms, 14_000);
        })
        .on(|world| {
            world.now.remotes = vec![RemoteRow {
                mount: "/mnt/vault".into(),
                device: "vault:/nights".into(),
                operations: raw(0),
                transmissions: raw(0),
                timeouts: raw(0),
                whole_ms: raw(0),
                answer_ms: raw(0),
                ..RemoteRow::default()
            }];
        }),
        case("filesystem-silent", "/dev/sda1", Critical, |world, _| {
            world.now.filesystems[0].answers = raw(0);
        }),
        case("filesystem-full", "catalogd[210]", Critical, |world, _| {
            add(&mut world.now.filesystems[0].used, GIB);
            add(&mut world.now.filesystems[0].available, -GIB);
            add(&mut world.process(210).write_any_bytes, GIB);
        })
        .on(|world| world.process(210).mounts = "/ /data".into()),
        case("removed-files", "catalogd[210]", Notice, |world, second| {
            let held = (second + 1) * 400 * MIB;
            world.now.removed = vec![RemovedRow {
                path: "/data/2031/plates.tmp".into(),
                name: "catalogd".into(),
                pid: raw(210),
                descriptor: raw(9),
                bytes: raw(held),
                ..RemovedRow::default()
            }];
        }),
        case("rewriter", "catalogd[210]", Notice, |world, _| {
            add(&mut world.process(210).write_bytes, 200 * MIB);
            add(&mut world.process(210).cancelled_bytes, 0);
            world.process(210).writes_otherwise = raw(1);
            add(&mut world.process(210).write_any_bytes, MIB);
        }),
        case("link-full", "skyboard[320]", Warning, |world, _| {
            add(&mut world.now.interfaces[0].out_bytes, 120_000_000);
            add(&mut world.process(320).net_out_bytes, 118_000_000);
        }),
        case("link-errors", "eth0", Warning, |world, _| add(&mut world.now.interfaces[0].in_errors, 30)),
        case("retransmits", "skyboard[320]", Warning, |world, _| {
            add(&mut world.now.system.tcp_retransmits, 60);
            add(&mut world.now.system.tcp_segments, 3_000);
            add(&mut world.now.connections[0].resent, 58);
            add(&mut world.process(320).net_out_bytes, 2_000_000);
        })
        .on(|world| {
            world.now.connections = vec![ConnectionRow {
                cookie: raw(7),
                local: "192.0.2.2:8443".into(),
                remote: "198.51.100.7:40112".into(),
                pid: raw(320),
                resent: raw(0),
                ..ConnectionRow::default()
            }];
        }),
        case("udp-lost", "catalogd[210]", Warning, |world, _| {
            add(&mut world.process(210).datagram_drops, 400);
            add(&mut world.now.system.udp_errors, 400);
        }),
        case("backlog", "skyboard[320]", Warning, |world, _| world.now.listeners[0].queue = raw(128)).on(
            |world| {
                world.now.listeners = vec![ListenerRow {
                    cookie: raw(9),
                    local: "0.0.0.0:443".into(),
                    pid: raw(320),
                    protocol: raw(6),
                    queue: raw(0),
                    queue_most: raw(128),
                    ..ListenerRow::default()
                }];
            },
        ),
        case("wireless-fades", "eth0", Warning, |world, _| world.now.interfaces[0].wifi_signal = raw(-84)),
        case("heat", "nightqueue[540]", Critical, |world, _| {
            world.now.sensors[0].temperature = raw(92_000);
            world.uses(540, 3, 50);
        }),
        case("throttled-by-heat", "heat", Warning, |world, _| add(&mut world.now.cores[2].throttles, 5)),
        case("fan", "fan 1", Warning, |world, _| world.now.sensors[1].fan = raw(0)),
        case("battery", "BAT0", Warning, |world, _| world.now.batteries[0].charge = raw(1_200)).on(|world| {
            world.now.batteries = vec![BatteryRow {
                name: "BAT0".into(),
                status: "Discharging".into(),
                charge: raw(9_000),
                seconds_left: raw(900),
                ..BatteryRow::default()
            }];
        }),
        case("gpu-memory", "guider[430]", Warning, |world, _| {
            world.now.gpus[0].memory_used = raw(8 * GIB - MIB);
            world.process(430).gpu_memory_bytes = raw(7 * GIB);
        })
        .on(|world| {
            world.now.gpus = vec![GpuRow {
                name: "gpu 0".into(),
                memory_used: raw(GIB),
                memory_total: raw(8 * GIB),
                ..GpuRow::default()
            }];
        }),
        case("group-throttled", "guider[430]", Warning, |world, _| {
            add(&mut world.now.groups[0].periods, 10);
            add(&mut world.now.groups[0].throttled_periods, 9);
            add(&mut world.now.groups[0].cpu_us, 200_000);
            world.uses(430, 3, 20);
        })
        .on(|world| {
            world.now.groups =
                vec![GroupRow { cpu_limit: raw(2_000), ..group("/system.slice/guider.service") }];
        }),
        case("group-memory", "guider[430]", Warning, |world, _| {
            add(&mut world.now.groups[0].at_limit, 6_291);
            world.now.groups[0].memory_bytes = raw(256 * MIB - 4_096);
            world.process(430).rss_bytes = raw(250 * MIB);
        })
        .on(|world| {
            let limit = GroupRow {
                memory_limit: raw(256 * MIB),
                memory_bytes: raw(90 * MIB),
                ..group("/system.slice/guider.service")
            };
            world.now.groups = vec![limit];
        }),
        case("near-limit", "guider.service", Warning, |world, _| world.now.groups[0].tasks = raw(99)).on(
            |world| {
                world.now.groups = vec![GroupRow {
                    tasks: raw(5),
                    tasks_limit: raw(100),
                    ..group("/system.slice/guider.service")
                }];
            },
        ),
        case("descriptor-leak", "skyboard[320]", Critical, |world, _| {
            add(&mut world.process(320).files, 130);
            add(&mut world.process(320).run_ns, 1_000);
        })
        .on(|world| world.process(320).files_limit = raw(1_600)),
        case("thread-leak", "skyboard[320]", Warning, |world, _| add(&mut world.process(320).threads, 500)),
        case("zombies", "nightqueue[540]", Notice, |world, second| {
            if second == 0 {
                for at in 0..40 {
                    let row = ProcessRow {
                        state: raw(i64::from(b'Z')),
                        threads: raw(1),
                        start_ticks: raw(101_200),
                        ..process(2_000 + at, "mosaic", 540)
                    };
                    world.now.processes.push(Arc::new(row));
                }
            }
        }),
        case("restarts", "flaky", Notice, |world, second| {
            world.now.processes.retain(|row| &*row.name != "flaky");
            if second % 3 != 2 {
                let row = ProcessRow {
                    start_ticks: raw((1_000 + world.second - second % 3) * 100 + 50),
                    ..process(3_000 + second / 3, "flaky", 1)
                };
                world.now.processes.push(Arc::new(row));
            }
        }),
        case("stopped", "guider[430]", Notice, |world, _| world.process(430).state = raw(i64::from(b'T'))),
        case("time", "", Notice, |world, _| add(&mut world.now.system.notifications_lost, 3)),
        case("own-cost", "dozor[4]", Notice, |world, _| world.uses(4, 3, 45))
            .on(|world| world.now.processes.push(Arc::new(process(4, "dozor", 1)))),
    ]
}
