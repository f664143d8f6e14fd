//! What stands out: each rule against a made-up machine on which nothing else happens, the simulated night, and the laws of
//! the engine.

use dozor_core::demo::SimulatedMachine;
use dozor_core::findings::{Adjusted, Engine, Finding, History, Verdict, rules};
use dozor_core::lane::Severity;
use dozor_core::reading::{
    BatteryRow, CoreRow, DiskRow, EndedRow, FilesystemRow, GpuRow, GroupRow, HostFacts, InterfaceRow,
    InterruptRow, ListenerRow, ProcessRow, Reading, RemoteRow, SensorRow, raw,
};
use dozor_core::sample::Sample;
use dozor_core::timeline::{Reach, Timeline};
use dozor_core::wanted::Wanted;
use std::sync::Arc;
use std::time::Duration;

const CORES: i64 = 4;
const GIB: i64 = 1 << 30;
const MIB: i64 = 1 << 20;
/// Seconds of quiet before something happens, and how long it lasts.
const QUIET: i64 = 12;
const LASTS: i64 = 18;

fn add(raw_value: &mut dozor_core::known::Raw, more: i64) {
    *raw_value = raw(raw_value.value().unwrap_or(0) + more);
}

/// A machine whose counters go on second by second.
struct World {
    now: Reading,
    second: i64,
}

fn process(pid: i64, name: &str, parent: i64) -> ProcessRow {
    ProcessRow {
        pid: raw(pid),
        // A quarter of an hour before it is looked at.
        start_ticks: raw(10_000 + pid),
        ppid: raw(parent),
        state: raw(i64::from(b'S')),
        name: name.into(),
        program: name.into(),
        command: format!("{name} --serve").into(),
        user: "astro".into(),
        service: format!("{name}.service").into(),
        cgroup: format!("/system.slice/{name}.service").into(),
        limits: format!("/system.slice/{name}.service").into(),
        session: raw(pid),
        user_ticks: raw(500),
        system_ticks: raw(100),
        run_ns: raw(6_000_000_000),
        rss_bytes: raw(80 * MIB),
        shared_bytes: raw(8 * MIB),
        threads: raw(2),
        nice: raw(0),
        read_bytes: raw(0),
        write_bytes: raw(0),
        cancelled_bytes: raw(0),
        io_unknown: raw(0),
        read_calls: raw(0),
        write_calls: raw(0),
        read_any_bytes: raw(0),
        write_any_bytes: raw(0),
        switches_wait: raw(0),
        switches_forced: raw(0),
        net_in_bytes: raw(0),
        net_out_bytes: raw(0),
        datagram_drops: raw(0),
        datagram_sockets: raw(1),
        files: raw(20),
        files_limit: raw(1_024),
        core: raw(0),
        children_user_ticks: raw(0),
        children_system_ticks: raw(0),
        faults_major: raw(0),
        faults_minor: raw(0),
        ..ProcessRow::default()
    }
}

impl World {
    #[allow(clippy::too_many_lines, reason = "a list of everything that a machine has")]
    fn new() -> World {
        let mut now = Reading::default();
        let core = |number: i64| CoreRow {
            number: raw(number),
            user: raw(0),
            nice: raw(0),
            system: raw(0),
            idle: raw(0),
            iowait: raw(0),
            irq: raw(0),
            softirq: raw(0),
            steal: raw(0),
            throttles: raw(0),
            ..CoreRow::default()
        };
        now.cores = (0..CORES).map(core).collect();
        let zero = raw(0);
        let system = &mut now.system;
        for counter in [
            &mut system.user,
            &mut system.nice,
            &mut system.system,
            &mut system.idle,
            &mut system.iowait,
            &mut system.irq,
            &mut system.softirq,
            &mut system.steal,
            &mut system.switches,
            &mut system.interrupts,
            &mut system.forks,
            &mut system.swap_in,
            &mut system.swap_out,
            &mut system.oom_kills,
            &mut system.tcp_retransmits,
            &mut system.tcp_segments,
            &mut system.udp_in,
            &mut system.udp_out,
            &mut system.udp_errors,
            &mut system.pressure_cpu_some,
            &mut system.pressure_memory_some,
            &mut system.pressure_memory_full,
            &mut system.pressure_io_some,
            &mut system.pressure_io_full,
            &mut system.notifications_lost,
            &mut system.blocked,
        ] {
            *counter = zero;
        }
        (system.running, system.mem_total, system.mem_available) = (raw(1), raw(16 * GIB), raw(12 * GIB));
        (system.mem_free, system.swap_total, system.swap_free) = (raw(4 * GIB), raw(4 * GIB), raw(4 * GIB));
        now.processes = [
            process(1, "init", 0),
            process(210, "catalogd", 1),
            process(320, "skyboard", 1),
            process(430, "guider", 1),
            process(540, "nightqueue", 1),
        ]
        .into_iter()
        .map(Arc::new)
        .collect();
        now.disks = vec![DiskRow {
            name: "sda".into(),
            rotational: raw(0),
            reads: zero,
            read_bytes: zero,
            read_ms: zero,
            writes: zero,
            write_bytes: zero,
            write_ms: zero,
            in_flight: zero,
            busy_ms: zero,
            queue_ms: zero,
            ..DiskRow::default()
        }];
        now.interfaces = vec![InterfaceRow {
            name: "eth0".into(),
            in_bytes: zero,
            in_packets: zero,
            in_errors: zero,
            in_drops: zero,
            out_bytes: zero,
            out_packets: zero,
            out_errors: zero,
            out_drops: zero,
            speed_bits: raw(1_000_000_000),
            ..InterfaceRow::default()
        }];
        now.filesystems = vec![FilesystemRow {
            mount: "/data".into(),
            device: "/dev/sda1".into(),
            answers: raw(1),
            size: raw(100 * GIB),
            used: raw(40 * GIB),
            available: raw(60 * GIB),
            inodes: raw(1_000_000),
            inodes_free: raw(900_000),
            ..FilesystemRow::default()
        }];
        now.sensors = vec![
            SensorRow {
                name: "package".into(),
                temperature: raw(50_000),
                limit: raw(95_000),
                ..SensorRow::default()
            },
            SensorRow { name: "fan 1".into(), fan: raw(1_200), fan_min: raw(400), ..SensorRow::default() },
        ];
        World { now, second: 0 }
    }

    /// A process, to be changed.
    fn process(&mut self, pid: i64) -> &mut ProcessRow {
        let row = self.now.processes.iter_mut().find(|row| row.pid.value() == Some(pid));
        Arc::make_mut(row.expect("it is there"))
    }

    /// A process uses so many ticks of a second on a core.
    fn uses(&mut self, pid: i64, core: i64, ticks: i64) {
        let row = self.process(pid);
        add(&mut row.user_ticks, ticks);
        add(&mut row.run_ns, ticks * 10_000_000);
        row.core = raw(core);
        self.core(core, |core| &mut core.user, ticks);
    }

    /// A class of a core's time.
    fn core(&mut self, number: i64, class: fn(&mut CoreRow) -> &mut dozor_core::known::Raw, ticks: i64) {
        add(class(&mut self.now.cores[number as usize]), ticks);
    }

    /// A second goes by: what was not used was idle.
    fn pass(&mut self) -> Arc<Reading> {
        self.second += 1;
        let sum = |core: &CoreRow| {
            [core.user, core.nice, core.system, core.iowait, core.irq, core.softirq, core.steal]
                .iter()
                .filter_map(|raw| raw.value())
                .sum::<i64>()
        };
        let second = self.second;
        for core in &mut self.now.cores {
            let used = sum(core);
            // The idle time is what is left of all the seconds so far.
            core.idle = raw((second * 100 - used).max(core.idle.value().unwrap_or(0)));
        }
        let all = |class: fn(&CoreRow) -> dozor_core::known::Raw| -> i64 {
            self.now.cores.iter().filter_map(|core| class(core).value()).sum()
        };
        let sums = [
            all(|c| c.user),
            all(|c| c.nice),
            all(|c| c.system),
            all(|c| c.idle),
            all(|c| c.iowait),
            all(|c| c.irq),
            all(|c| c.softirq),
            all(|c| c.steal),
        ];
        let system = &mut self.now.system;
        for (counter, sum) in [
            &mut system.user,
            &mut system.nice,
            &mut system.system,
            &mut system.idle,
            &mut system.iowait,
            &mut system.irq,
            &mut system.softirq,
            &mut system.steal,
        ]
        .into_iter()
        .zip(sums)
        {
            *counter = raw(sum);
        }
        let ns = (1_000 + self.second) * 1_000_000_000;
        (system.wall_ns, system.monotonic_ns, system.boot_ns) =
            (raw(1_900_000_000_000_000_000 + ns), raw(ns), raw(ns));
        let mut reading = self.now.clone();
        reading.sort();
        self.now.ended.clear();
        Arc::new(reading)
    }

    fn host() -> Arc<HostFacts> {
        Arc::new(HostFacts {
            name: "lynx-obs".into(),
            cores: CORES as u32,
            ticks_per_second: 100,
            ..HostFacts::default()
        })
    }
}

/// Lets a world run, quiet at first, and gives what was found; `incident` is told the second since it began.
fn run(setup: &dyn Fn(&mut World), incident: &dyn Fn(&mut World, i64)) -> (Vec<Finding>, i64) {
    run_with(Engine::default(), setup, incident)
}

fn run_with(
    mut engine: Engine,
    setup: &dyn Fn(&mut World),
    incident: &dyn Fn(&mut World, i64),
) -> (Vec<Finding>, i64) {
    let mut world = World::new();
    setup(&mut world);
    let host = World::host();
    let mut before: Option<Arc<Reading>> = None;
    let mut begin_ns = 0;
    for second in 0..QUIET + LASTS {
        // A little always happens.
        for (pid, core, ticks) in [(210, 1, 3), (320, 2, 2)] {
            if world.now.processes.iter().any(|row| row.pid.value() == Some(pid)) {
                world.uses(pid, core, ticks);
            }
        }
        if second >= QUIET {
            incident(&mut world, second - QUIET);
        }
        let now = world.pass();
        if second == QUIET - 1 {
            begin_ns = now.wall_ns();
        }
        engine.look(&Sample::new(host.clone(), before.replace(now.clone()), now));
    }
    (engine.history().all().to_vec(), begin_ns)
}

type Incident = Box<dyn Fn(&mut World, i64)>;
type Setup = Box<dyn Fn(&mut World)>;

/// A rule, what happens, who is named first, and how bad it becomes at least.
struct Case {
    rule: &'static str,
    setup: Setup,
    incident: Incident,
    culprit: &'static str,
    worst: Severity,
}

fn case(
    rule: &'static str,
    culprit: &'static str,
    worst: Severity,
    incident: impl Fn(&mut World, i64) + 'static,
) -> Case {
    Case { rule, setup: Box::new(|_| {}), incident: Box::new(incident), culprit, worst }
}

impl Case {
    fn on(mut self, setup: impl Fn(&mut World) + 'static) -> Case {
        self.setup = Box::new(setup);
        self
    }
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

fn ended(order: i64, name: &str, user_us: i64) -> EndedRow {
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
        ..EndedRow::default()
    }
}

#[allow(clippy::too_many_lines, reason = "a table")]
fn cases() -> Vec<Case> {
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
        .on(|world| world.now.system.notifications_lost = dozor_core::known::Raw::ABSENT),
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
        }),
        case("memory-pressure", "skyboard[320]", Warning, |world, _| {
            add(&mut world.now.system.pressure_memory_some, 400_000);
            add(&mut world.process(320).faults_major, 500);
        }),
        case("leak", "skyboard[320]", Warning, |world, _| {
            add(&mut world.process(320).rss_bytes, 50 * MIB);
            add(&mut world.now.system.mem_available, -50 * MIB);
        }),
        case("oom-kill", "skyboard[320]", Critical, |world, second| {
            if second == 1 {
                world.now.processes.retain(|row| row.pid.value() != Some(320));
                add(&mut world.now.system.oom_kills, 1);
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
            let disk = &mut world.now.disks[0];
            add(&mut disk.busy_ms, 990);
            add(&mut disk.writes, 1_000);
            add(&mut disk.write_ms, 60_000);
            add(&mut disk.queue_ms, 60_000);
            add(&mut disk.write_bytes, 180 * MIB);
            add(&mut world.process(210).write_bytes, 170 * MIB);
            add(&mut world.now.system.pressure_io_some, 700_000);
            world.now.system.blocked = raw(3);
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
            add(&mut world.process(320).net_out_bytes, 2_000_000);
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
            add(&mut world.process(320).files, 50);
            add(&mut world.process(320).run_ns, 1_000);
        })
        .on(|world| world.process(320).files_limit = raw(1_000)),
        case("thread-leak", "skyboard[320]", Notice, |world, _| add(&mut world.process(320).threads, 25)),
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

/// The table of rules and scenarios: each finds its own incident with its culprit in time, and no other rule takes it for
/// something serious.
#[test]
fn every_rule_finds_its_incident_in_time_and_no_other_one_does() {
    let (mut missed, mut late, mut wrong, mut others) = (vec![], vec![], vec![], vec![]);
    println!("rule\tafter\tseverity\tculprit\tsentence");
    for Case { rule, setup, incident, culprit, worst } in cases() {
        let (found, begin_ns) = run(&*setup, &*incident);
        let Some(own) =
            found.iter().find(|one| one.about.name == rule && one.from_ns >= begin_ns - 1_000_000_000)
        else {
            missed.push(format!("{rule}: {:?}", found.iter().map(Finding::name).collect::<Vec<_>>()));
            continue;
        };
        let after = (own.tellings[0].wall_ns - begin_ns) as f64 / 1e9;
        let last = own.last();
        let who = last.culprits.first().map_or("", |one| one.name.as_str());
        println!("{rule}\t{after:.0} s\t{:?}\t{who}\t{}", own.worst, last.sentence);
        // Zombies, what is stopped and a program that does not stay must first stay, or come again.
        if after > 10.0 {
            late.push(format!("{rule} after {after} s"));
        }
        if !who.starts_with(culprit) || own.worst < worst {
            wrong.push(format!("{rule}: {who} at {:?}: {}", own.worst, last.sentence));
        }
        let serious =
            |one: &&Finding| one.about.name != rule && one.under.is_none() && one.worst >= Severity::Warning;
        others.extend(
            found.iter().filter(serious).map(|one| format!("{rule}: {} {}", one.name(), one.last().sentence)),
        );
    }
    assert_eq!(
        (missed.len(), late.len(), wrong.len(), others.len()),
        (0, 0, 0, 0),
        "\n{missed:#?}\n{late:#?}\n{wrong:#?}\n{others:#?}"
    );
}

#[test]
fn every_limit_of_a_rule_decides_whether_it_speaks() {
    let mut held_against = 0;
    for case in cases() {
        let about = rules::all().iter().map(|rule| rule.about()).find(|about| about.name == case.rule);
        let about = about.expect("a rule");
        let speaks = |adjusted: &Adjusted| {
            let (found, _) = run_with(Engine::default().adjusted(adjusted), &case.setup, &case.incident);
            found.iter().find(|one| one.about.name == case.rule).map(|one| one.worst)
        };
        // All of its limits out of reach: it has nothing to say; unless it speaks by what the lanes say.
        let mut adjusted = Adjusted::default();
        for limit in about.limits {
            let never = vec!["never"; limit.values.len()].join(", ");
            adjusted.set(case.rule, limit.name, &never).expect("a value");
        }
        if !about.limits.is_empty() && case.rule != "disk-saturated" {
            assert_eq!(speaks(&adjusted), None, "{} with nothing to reach", case.rule);
            held_against += 1;
        }
        let mut mild = Adjusted::default();
        mild.set(case.rule, "severity", "notice").expect("a level");
        assert!(speaks(&mild) <= Some(Severity::Notice), "{}", case.rule);
        let mut off = Adjusted::default();
        off.set(case.rule, "off", "true").expect("a word");
        assert_eq!(speaks(&off), None, "{} is off", case.rule);
    }
    assert!(held_against >= 20, "{held_against}");
}

#[test]
fn every_rule_has_a_scenario_and_a_name_of_its_own() {
    let mut named: Vec<&str> = rules::all().iter().map(|rule| rule.about().name).collect();
    let mut told: Vec<&str> = cases().iter().map(|case| case.rule).collect();
    named.sort_unstable();
    told.sort_unstable();
    assert_eq!(named, told);
    for rule in rules::all() {
        for other in rule.about().explained_by {
            assert!(named.contains(other), "{} names {other}", rule.about().name);
        }
        assert!(!rule.about().next.is_empty() && !rule.about().causes.is_empty());
    }
}

#[test]
fn a_quiet_machine_has_nothing_that_stands_out() {
    let (found, _) = run(&|_| {}, &|_, _| {});
    assert_eq!(found.iter().map(Finding::name).collect::<Vec<_>>(), Vec::<String>::new());
}

/// Seconds after which the story of the simulated night begins.
const STORY: u64 = 180;

/// The simulated night, second by second.
fn night(seconds: std::ops::Range<u64>) -> (Arc<HostFacts>, Vec<Arc<Reading>>) {
    let mut machine = SimulatedMachine::new(7);
    machine.want(Wanted::recorded());
    let host = Arc::new(machine.host());
    let readings = seconds
        .map(|second| {
            machine.advance_to(Duration::from_secs(STORY + second));
            Arc::new(machine.reading())
        })
        .collect();
    (host, readings)
}

fn findings_of(host: &Arc<HostFacts>, readings: &[Arc<Reading>]) -> Engine {
    let mut engine = Engine::default();
    let mut before: Option<Arc<Reading>> = None;
    for now in readings {
        engine.look(&Sample::new(host.clone(), before.replace(now.clone()), now.clone()));
    }
    engine
}

#[test]
fn live_and_replayed_findings_are_the_same() {
    let (host, readings) = night(10..280);
    let live = findings_of(&host, &readings);
    let mut bytes = vec![];
    let mut writer = dozor_core::recording::Writer::new(host.clone(), Some(Duration::from_secs(1)));
    writer.begin(&mut bytes);
    for reading in &readings {
        writer.put(reading, &mut bytes).expect("memory");
    }
    writer.finish(&mut bytes);
    let timeline = Timeline::open(bytes).expect("our own recording");
    let mut replayed = Engine::default();
    timeline
        .walk(timeline.first()..timeline.end(), Reach::All, |_, sample| {
            replayed.look(sample);
            Ok::<(), dozor_core::recording::ReadError>(())
        })
        .expect("readable");
    assert!(live.history().all().len() >= 10);
    assert_eq!(live.history(), replayed.history());
}

#[test]
fn the_night_has_its_incidents_with_their_culprits_and_their_consequences() {
    let (host, readings) = night(0..400);
    let engine = findings_of(&host, &readings);
    let history = engine.history();
    let find = |name: &str| {
        let found = history.all().iter().find(|one| one.name().starts_with(name));
        found.unwrap_or_else(|| {
            panic!("{name} in {:?}", history.all().iter().map(Finding::name).collect::<Vec<_>>())
        })
    };
    let begin = readings[0].wall_ns();
    for (name, culprit, from, worst) in [
        ("disk-saturated nvme0n1", "stacker[3820]", 25, Severity::Critical),
        ("empty-calls guidelog", "guidelog[4340]", 75, Severity::Warning),
        ("link-errors enp4s0", "enp4s0", 100, Severity::Warning),
        ("fan fan 2", "fan 2", 130, Severity::Warning),
        ("leak skyboard-cache", "skyboard-cache[1620]", 190, Severity::Critical),
        ("oom-kill", "skyboard-cache[1620]", 253, Severity::Critical),
        ("link-full enp3s0", "vaultsync[5510]", 275, Severity::Warning),
        ("zombies", "nightqueue[3690]", 0, Severity::Notice),
        ("filesystem-full /archive", "", 0, Severity::Warning),
    ] {
        let one = find(name);
        let after = (one.from_ns - begin) / 1_000_000_000 - from;
        assert!((-2..=10).contains(&after), "{name} begins {after} s after its incident");
        let main = one.last().culprits.first().map_or("", |one| one.name.as_str());
        assert!(main.starts_with(culprit), "{name}: {main}");
        assert!(one.worst >= worst, "{name}: {:?}", one.worst);
    }
    // A loop of reads makes a core hot, a fan that stands makes the cores slow, errors make segments go again.
    for (name, cause) in
        [("hot-core", "empty-calls"), ("throttled-by-heat", "heat"), ("retransmits", "link-errors")]
    {
        let (under, _) = find(name).under.unwrap_or_else(|| panic!("{name} stands alone"));
        let above = history.find(under).expect("its cause").about.name;
        assert!(above == cause || name == "throttled-by-heat" && above == "fan", "{name} under {above}");
    }
}

#[test]
fn what_stood_at_a_time_is_told_with_the_numbers_of_that_time() {
    let (host, readings) = night(0..140);
    let engine = findings_of(&host, &readings);
    let history: &History = engine.history();
    let at = |second: usize| readings[second].wall_ns();
    let said = |second: usize| -> Vec<String> {
        history.at(at(second)).iter().map(|one| one.at(at(second)).sentence.clone()).collect()
    };
    assert!(!said(20).iter().any(|text| text.contains("is saturated")), "{:?}", said(20));
    assert!(said(60)[0].contains("nvme0n1 is saturated"), "{:?}", said(60));
    assert!(!said(136).iter().any(|text| text.contains("is saturated")), "{:?}", said(136));
    assert_eq!(history.worst(at(60)), Severity::Critical);
}

#[test]
fn the_verdict_names_every_resource_and_says_what_was_ruled_out() {
    let (host, readings) = night(30..70);
    let engine = findings_of(&host, &readings);
    let last = Sample::new(host, Some(readings[38].clone()), readings[39].clone());
    let verdict = Verdict::new(&engine, &last, 39.0, None);
    assert_eq!(verdict.severity(), Severity::Critical);
    let text = verdict.text();
    assert!(text.starts_with("◆ lynx-obs "), "{text}");
    for said in [
        "memory   ruled out",
        "network  ruled out",
        "heat     ruled out",
        "disk     ◆ nvme0n1 is saturated",
        "limits   ▲ /archive",
    ] {
        assert!(text.contains(said), "{said}:\n{text}");
    }
    let json = verdict.json();
    assert_eq!(json["severity"], "critical");
    assert_eq!(json["findings"][0]["rule"], "disk-saturated");
    assert_eq!(json["findings"][0]["culprits"][0]["name"], "stacker[3820]");
    assert!(json["findings"][0]["evidence"].as_array().is_some_and(|all| all.len() >= 4));
    assert_eq!(json["resources"].as_array().map(Vec::len), Some(6));
}

/// A build starts much and each of its processes works: that is no alarm. Many that do next to nothing are.
#[test]
fn short_processes_that_work_are_worth_knowing_and_no_more() {
    for (a_second, micros, worst) in [(18, 80_000, Severity::Notice), (100, 10_000, Severity::Warning)] {
        let (found, _) = run(&|_| {}, &|world, second| {
            world.now.ended = (0..a_second).map(|at| ended(second * 200 + at, "rustfmt", micros)).collect();
            let ticks = a_second * micros / 10_000 / CORES;
            (0..CORES).for_each(|core| world.core(core, |core| &mut core.user, ticks));
            add(&mut world.now.system.forks, a_second);
        });
        let one = found.iter().find(|one| one.about.name == "short-lived").expect("it is found");
        assert_eq!(one.worst, worst, "{}", one.last().sentence);
    }
}

/// A compile that takes all there is, and a loop that gives way, are worth knowing and no more.
#[test]
fn use_alone_harms_nobody() {
    let compile = |world: &mut World, _: i64| {
        (0..CORES).for_each(|core| world.uses(540, core, 94));
        world.now.system.running = raw(9);
        add(&mut world.now.system.pressure_cpu_some, 700_000);
    };
    let nice = |world: &mut World, _: i64| {
        (0..CORES).for_each(|core| world.core(core, |core| &mut core.nice, 95));
        world.now.system.running = raw(5);
        add(&mut world.process(540).user_ticks, 380);
    };
    for incident in [&compile as &dyn Fn(&mut World, i64), &nice] {
        let (found, _) = run(&|_| {}, incident);
        assert!(!found.is_empty());
        for one in found {
            assert!(one.worst <= Severity::Notice, "{}: {}", one.name(), one.last().sentence);
        }
    }
    // Several parties of which none has most of it: then somebody waits who should not.
    let (found, _) = run(&|_| {}, &|world, _| {
        for (core, pid) in [210, 320, 430, 540].into_iter().enumerate() {
            world.uses(pid, core as i64, 93);
        }
        world.now.system.running = raw(20);
    });
    assert!(
        found.iter().any(|one| one.about.name == "cpu-queue" && one.worst == Severity::Warning),
        "{found:#?}"
    );
}
