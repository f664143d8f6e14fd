//! Who must not be named: on a made-up machine something goes wrong, and somebody stands beside it who has the most of something
//! else. A wrong name costs more trust than none.

use dozor_core::demo::incidents::{self, CORES, World, add, ended};
use dozor_core::findings::{Adjusted, Engine, Finding, State, Verdict, at_once};
use dozor_core::lane::{Lane, Severity};
use dozor_core::reading::{
    ConnectionRow, DiskRow, EndedRow, GroupRow, InterfaceRow, ProcessRow, Reading, raw,
};
use dozor_core::sample::Sample;
use std::sync::Arc;

const MIB: i64 = 1 << 20;
const GIB: i64 = 1 << 30;
/// Seconds of quiet before something happens.
const QUIET: i64 = 12;

/// What is otherwise on a machine.
type Change = dyn Fn(&mut World) + Sync;

/// Lets a world run for so many seconds after a quiet beginning; gives the engine and the last sample.
fn watch(
    seconds: i64,
    setup: &dyn Fn(&mut World),
    happens: &dyn Fn(&mut World, i64),
) -> (Engine, Sample, Vec<Sample>) {
    let (mut world, mut engine) = (World::new(), Engine::default());
    setup(&mut world);
    let mut before: Option<Arc<Reading>> = None;
    let mut samples = vec![];
    for second in 0..QUIET + seconds {
        world.live();
        if second >= QUIET {
            happens(&mut world, second - QUIET);
        }
        let now = world.pass();
        let sample = Sample::new(World::host(), before.replace(now.clone()), now);
        engine.look(&sample);
        samples.push(sample);
    }
    let last = samples.last().expect("a sample").clone();
    (engine, last, samples)
}

fn run(seconds: i64, setup: &dyn Fn(&mut World), happens: &dyn Fn(&mut World, i64)) -> Vec<Finding> {
    watch(seconds, setup, happens).0.history().all().to_vec()
}

fn of<'a>(found: &'a [Finding], rule: &str) -> &'a Finding {
    let names = || found.iter().map(Finding::name).collect::<Vec<_>>();
    found.iter().find(|one| one.about.name == rule).unwrap_or_else(|| panic!("no {rule} in {:?}", names()))
}

/// Everybody that a finding ever named, and all that it said.
fn named(one: &Finding) -> (Vec<String>, String) {
    let told = one.tellings.iter();
    let names = told.clone().flat_map(|told| told.culprits.iter().map(|one| one.name.clone())).collect();
    (names, told.map(|told| told.sentence.clone()).collect::<Vec<_>>().join(" "))
}

fn assert_names_nobody(found: &[Finding], rule: &str, innocent: &str) {
    let (names, said) = named(of(found, rule));
    assert!(names.iter().all(|name| !name.starts_with(innocent)), "{rule} names {names:?}: {said}");
    assert!(!said.contains(innocent), "{rule}: {said}");
}

fn victim(pid: i64, name: &str, how: i64, peak: i64) -> EndedRow {
    EndedRow {
        pid: raw(pid),
        ppid: raw(1),
        seen: raw(1),
        status: raw(how),
        peak_bytes: raw(peak),
        ..ended(pid, name, 1_000)
    }
}

/// Somebody large leaves by himself in the second in which the kernel ends another one in a group at its limit.
#[test]
fn who_leaves_by_himself_was_not_killed_for_want_of_memory() {
    let group = "/system.slice/guider.service";
    let kills = |how_victim: i64| {
        run(
            6,
            &move |world| {
                world.now.groups = vec![GroupRow {
                    path: group.into(),
                    memory_limit: raw(64 * MIB),
                    memory_bytes: raw(63 * MIB),
                    oom_kills: raw(0),
                    at_limit: raw(0),
                    ..GroupRow::default()
                }];
                world.process(210).rss_bytes = raw(9 * GIB);
            },
            &move |world, second| {
                if second == 2 {
                    add(&mut world.now.groups[0].oom_kills, 1);
                    add(&mut world.now.system.oom_kills, 1);
                    world.now.processes.retain(|row| ![210, 430].contains(&row.pid.value().unwrap_or(0)));
                    world.now.ended.push(victim(210, "catalogd", 0, 9 * GIB));
                    world.now.ended.push(victim(430, "guider", how_victim, 60 * MIB));
                }
            },
        )
    };
    let found = kills(9);
    let (names, said) = named(of(&found, "oom-kill"));
    assert_eq!(names, ["guider[430]"], "{said}");
    assert!(said.contains("in control group guider.service, at its limit of 64.0 MiB of memory"), "{said}");
    // Nobody was ended by KILL: then nobody is named, and it says so.
    let found = kills(15);
    let (names, said) = named(of(&found, "oom-kill"));
    assert!(names.is_empty() && said.contains("Which one is unknown"), "{names:?} {said}");
}

/// A large file is cut short: the disk is busy with forgetting it, and somebody reads a little meanwhile.
#[test]
fn who_reads_a_little_is_not_blamed_for_discards() {
    let busy = |discards: bool| {
        run(8, &|_| {}, &move |world, _| {
            let disk = &mut world.now.disks[0];
            add(&mut disk.busy_ms, 990);
            add(&mut disk.reads, 20);
            add(&mut disk.read_ms, 30);
            add(&mut disk.read_bytes, 100_000);
            if discards {
                add(&mut disk.discard_ms, 60_000);
                add(&mut disk.discard_bytes, 3_000 * MIB);
            }
            add(&mut world.process(320).read_bytes, 94_000);
            add(&mut world.now.system.pressure_io_some, 600_000);
        })
    };
    let found = busy(true);
    assert_names_nobody(&found, "disk-saturated", "skyboard");
    let (_, said) = named(of(&found, "disk-saturated"));
    assert!(said.contains("Discards of freed blocks (2.9 GiB/s) take 100 % of its time"), "{said}");
    // A kernel that does not count them: the time goes to nothing that is known.
    assert_names_nobody(&busy(false), "disk-saturated", "skyboard");
}

/// One disk is saturated, and somebody writes much to another one.
#[test]
fn who_writes_to_another_disk_is_not_blamed() {
    let found = run(
        8,
        &|world| {
            let other = DiskRow { name: "sdb".into(), ..world.now.disks[0].clone() };
            world.now.disks.push(other);
        },
        &|world, _| {
            for (at, busy, written) in [(0, 990, 20 * MIB), (1, 200, 200 * MIB)] {
                let disk = &mut world.now.disks[at];
                add(&mut disk.busy_ms, busy);
                add(&mut disk.writes, 300);
                add(&mut disk.write_ms, busy * 40);
                add(&mut disk.write_bytes, written);
            }
            add(&mut world.process(210).write_bytes, 200 * MIB);
            add(&mut world.now.system.pressure_io_some, 600_000);
        },
    );
    assert_names_nobody(&found, "disk-saturated", "catalogd");
}

/// Somebody writes as much as a file system grows by, and has no file there.
#[test]
fn who_writes_elsewhere_does_not_fill_a_file_system() {
    let fills = |mounts: &'static str| {
        run(12, &move |world| world.process(320).mounts = mounts.into(), &|world, _| {
            add(&mut world.now.filesystems[0].used, GIB);
            add(&mut world.now.filesystems[0].available, -GIB);
            add(&mut world.process(320).write_any_bytes, GIB);
        })
    };
    for elsewhere in ["", "/", "/ /database"] {
        assert_names_nobody(&fills(elsewhere), "filesystem-full", "skyboard");
    }
    let (names, _) = named(of(&fills("/ /data"), "filesystem-full"));
    assert!(names.contains(&"skyboard[320]".to_owned()), "{names:?}");
}

#[test]
fn a_full_file_system_says_what_is_short_of_it() {
    let said = |change: &'static Change| {
        let found = run(4, &|world| change(world), &|_, _| {});
        let one = of(&found, "filesystem-full");
        let evidence: Vec<String> = one.last().evidence.iter().map(|one| one.metric.clone()).collect();
        (one.last().sentence.clone(), evidence)
    };
    let (text, evidence) = said(&|world| {
        world.now.filesystems[0].used = raw(100 * GIB);
        world.now.filesystems[0].available = raw(0);
    });
    assert_eq!(text, "/data is full: all of its 100 GiB are used.");
    assert_eq!(evidence, ["fs.usage{/data}", "fs.available{/data}"]);
    let (text, evidence) = said(&|world| world.now.filesystems[0].inodes_free = raw(0));
    assert!(text.starts_with("/data has no inodes left"), "{text}");
    assert_eq!(evidence, ["fs.inodes_usage{/data}"]);
}

/// Of those who wait for a core only a program of somebody else counts that nothing holds back but the others.
#[test]
fn who_gives_way_or_is_held_back_by_himself_is_not_harmed_by_others() {
    let waits = |change: &'static Change| {
        let found = run(
            20,
            &|world| {
                world.now.processes.push(Arc::new(incidents::process(650, "waiter", 1)));
                change(world);
            },
            &|world, _| {
                for (core, pid) in [210, 320, 430, 540].into_iter().enumerate() {
                    world.uses(pid, core as i64, 93);
                }
                add(&mut world.process(650).core_wait_ns, 700_000_000);
                add(&mut world.process(650).user_ticks, 3);
                add(&mut world.process(650).run_ns, 30_000_000);
                if let Some(group) = world.now.groups.first_mut() {
                    add(&mut group.periods, 10);
                    add(&mut group.throttled_periods, 1);
                }
                world.now.system.running = raw(20);
            },
        );
        named(of(&found, "cpu-queue")).1
    };
    assert!(waits(&|_| {}).contains("waiter[650] has no core"), "somebody else's ordinary program");
    let innocents: [(&str, &Change); 5] = [
        ("a thread of the kernel", &|world| world.process(650).kernel = raw(1)),
        ("a build at nice 19", &|world| world.process(650).nice = raw(19)),
        ("held back by its own limit", &|world| {
            let path = "/system.slice/waiter.service";
            world.now.groups = vec![GroupRow {
                path: path.into(),
                periods: raw(0),
                throttled_periods: raw(0),
                ..GroupRow::default()
            }];
        }),
        // It starts in the last second.
        ("only just there", &|world| world.process(650).start_ticks = raw(103_150)),
        ("a partner of who uses the CPU", &|world| {
            let of = world.process(210).clone();
            let row = world.process(650);
            (row.service, row.session) = (of.service, of.session);
        }),
    ];
    for (who, change) in innocents {
        let said = waits(change);
        assert!(!said.contains("waiter"), "{who}: {said}");
    }
}

/// Segments are sent again that ask for a connection which nobody answers; somebody else sends much, and loses nothing.
#[test]
fn who_sends_most_is_not_blamed_for_what_is_sent_again() {
    let found = run(
        8,
        &|world| {
            world.now.connections = vec![ConnectionRow {
                cookie: raw(7),
                local: "192.0.2.2:8443".into(),
                remote: "198.51.100.7:40112".into(),
                pid: raw(320),
                resent: raw(4),
                in_bytes: raw(0),
                out_bytes: raw(0),
                ..ConnectionRow::default()
            }];
        },
        &|world, _| {
            add(&mut world.now.system.tcp_retransmits, 90);
            add(&mut world.now.system.tcp_segments, 3_000);
            add(&mut world.now.connections[0].out_bytes, 20_000_000);
            add(&mut world.process(320).net_out_bytes, 20_000_000);
        },
    );
    assert_names_nobody(&found, "retransmits", "skyboard");
    let (_, said) = named(of(&found, "retransmits"));
    assert!(said.contains("No open connection accounts for them"), "{said}");
}

/// Somebody talks much with himself while a link is full.
#[test]
fn who_talks_with_himself_fills_no_link() {
    let found = run(
        8,
        &|world| {
            let lo = InterfaceRow {
                name: "lo".into(),
                speed_bits: dozor_core::known::Raw::ABSENT,
                ..world.now.interfaces[0].clone()
            };
            world.now.interfaces.push(lo);
            world.now.connections = vec![ConnectionRow {
                cookie: raw(7),
                local: "127.0.0.1:8443".into(),
                remote: "127.0.0.1:40112".into(),
                pid: raw(320),
                in_bytes: raw(0),
                out_bytes: raw(0),
                ..ConnectionRow::default()
            }];
        },
        &|world, _| {
            add(&mut world.now.interfaces[0].out_bytes, 120_000_000);
            add(&mut world.now.interfaces[1].in_bytes, 900_000_000);
            add(&mut world.now.interfaces[1].out_bytes, 900_000_000);
            add(&mut world.now.connections[0].out_bytes, 900_000_000);
            add(&mut world.process(320).net_out_bytes, 900_000_000);
        },
    );
    assert_names_nobody(&found, "link-full", "skyboard");
    assert!(!named(of(&found, "link-full")).1.contains("127.0.0.1"));
}

/// Programs open files, start threads and take memory while they start; that is no leak.
#[test]
fn who_starts_leaks_nothing() {
    let young = |world: &mut World| {
        // It starts a moment before it takes what it needs.
        let row = ProcessRow {
            start_ticks: raw(101_180),
            files_limit: raw(20_000),
            ..incidents::process(900, "board", 1)
        };
        world.now.processes.push(Arc::new(row));
    };
    let found = run(25, &young, &|world, second| {
        if second < 12 {
            let row = world.process(900);
            add(&mut row.files, 60);
            add(&mut row.threads, 20);
            add(&mut row.rss_bytes, 150 * MIB);
            add(&mut row.run_ns, 1_000);
        }
    });
    assert_eq!(found.iter().map(Finding::name).collect::<Vec<_>>(), Vec::<String>::new());
    // An old one that opens a few hundred of many thousand, for some seconds.
    let found = run(25, &|world| world.process(320).files_limit = raw(1 << 20), &|world, second| {
        if second < 12 {
            add(&mut world.process(320).files, 60);
            add(&mut world.process(320).run_ns, 1_000);
        }
    });
    assert_eq!(found.iter().map(Finding::name).collect::<Vec<_>>(), Vec::<String>::new());
}

/// A finding about growth ends soon after the growth.
#[test]
fn growth_that_has_ended_is_over_soon() {
    let (engine, last, _) = watch(40, &|_| {}, &|world, second| {
        if second < 15 {
            add(&mut world.process(320).rss_bytes, 300 * MIB);
            add(&mut world.now.system.mem_available, -300 * MIB);
        }
        add(&mut world.process(320).run_ns, 1_000);
    });
    let leak = of(engine.history().all(), "leak").clone();
    let rested = (last.now.wall_ns() - leak.until_ns) / 1_000_000_000;
    assert!(leak.over && rested >= 40 - 15 - 7, "it was last so {rested} s ago");
}

/// The compiler's driver that started those who came and went is gone himself: who lives and started him is named.
#[test]
fn who_is_gone_himself_started_nobody() {
    let found = run(8, &|_| {}, &|world, second| {
        let driver = 72_000 + second;
        let of = |order: i64, parent: i64, name: &str| EndedRow {
            pid: raw(driver + 100 * order),
            ppid: raw(parent),
            parent: "cc".into(),
            ..ended(second * 100 + order, name, 40_000)
        };
        world.now.ended = (1..=30).map(|order| of(order, driver, "as")).collect();
        world.now.ended.push(of(0, 540, "cc"));
        (0..CORES).for_each(|core| world.core(core, |core| &mut core.user, 30));
        add(&mut world.now.system.forks, 31);
    });
    let (names, said) = named(of(&found, "short-lived"));
    assert!(names.contains(&"nightqueue[540]".to_owned()), "{names:?}");
    assert!(said.contains("started by nightqueue[540]") && !said.contains("started by cc"), "{said}");
}

/// One process that came and went is no rate.
#[test]
fn one_in_a_sample_is_no_rate() {
    let found = run(8, &|_| {}, &|world, second| {
        world.now.ended = vec![ended(second, "solve", 900_000)];
        world.core(0, |core| &mut core.user, 90);
    });
    let (_, first) = (0, &of(&found, "short-lived").tellings[0].sentence);
    assert!(!first.contains(" a minute"), "{first}");
}

/// A supervisor starts a program that crashes, outside of any service; a script's tests say no.
#[test]
fn what_crashes_again_and_again_is_told_and_what_says_no_is_not() {
    let ends = |how: i64, lived: i64, every: i64| {
        run(40, &|_| {}, &move |world, second| {
            if second % every == 0 {
                let row =
                    EndedRow { status: raw(how), elapsed: raw(lived), ..ended(second, "worker", 2_000) };
                world.now.ended = vec![row];
            }
        })
    };
    let crash = ends(11, 400_000, 3);
    let one = of(&crash, "restarts");
    assert_eq!(one.worst, Severity::Warning);
    let (names, said) = named(one);
    assert!(names.contains(&"nightqueue[540]".to_owned()), "{names:?}");
    assert!(said.contains("worker ended with SEGV"), "{said}");
    assert_eq!(of(&ends(3 << 8, 400_000, 3), "restarts").worst, Severity::Notice);
    for (what, found) in [
        ("a tool that says no", ends(1 << 8, 2_000, 1)),
        ("ended by somebody", ends(15, 400_000, 3)),
        ("all is well", ends(0, 400_000, 3)),
    ] {
        assert!(found.iter().all(|one| one.about.name != "restarts"), "{what}: {found:?}");
    }
}

/// A lane without a finding of its own is ruled out only where its numbers say so.
#[test]
fn nothing_is_ruled_out_that_does_not_look_well() {
    let state = |verdict: &Verdict, name: &str| {
        let part = verdict.parts.iter().find(|part| part.name == name).expect("a part");
        part.state.clone()
    };
    let (engine, last, _) = watch(3, &|_| {}, &|world, _| {
        (0..CORES).for_each(|core| world.uses(540, core, 99));
        world.now.system.running = raw(57);
    });
    let verdict = Verdict::new(&engine, &last, 14.0);
    assert_eq!(state(&verdict, "cpu"), State::NotYet, "it has only just begun");
    assert_eq!(state(&verdict, "memory"), State::RuledOut);
    let (engine, last, _) = watch(0, &|_| {}, &|_, _| {});
    assert_eq!(state(&Verdict::new(&engine, &last, 2.0), "memory"), State::NotYet, "two seconds are too few");
    let blind = |world: &mut World| world.now.sensors.clear();
    let (engine, last, _) = watch(0, &blind, &|_, _| {});
    assert_eq!(state(&Verdict::new(&engine, &last, 11.0), "heat"), State::Unknown);
    // What is wrong stands at the limits.
    let (engine, last, _) = watch(
        20,
        &|world| {
            world.now.groups = vec![GroupRow {
                path: "/system.slice/guider.service".into(),
                cpu_limit: raw(400_000),
                periods: raw(0),
                throttled_periods: raw(0),
                ..GroupRow::default()
            }];
        },
        &|world, _| {
            add(&mut world.now.groups[0].periods, 10);
            add(&mut world.now.groups[0].throttled_periods, 9);
            for (core, pid) in [210, 320, 430, 540].into_iter().enumerate() {
                world.uses(pid, core as i64, 90);
            }
        },
    );
    let mut off = Adjusted::default();
    off.set("cpu-full", "off", "true").expect("a rule");
    assert!(engine.history().all().iter().any(|one| one.about.name == "group-throttled"));
    let verdict = Verdict::new(&engine, &last, 31.0);
    assert!(
        matches!(state(&verdict, "cpu"), State::Found(_) | State::See("limits")),
        "{:?}",
        state(&verdict, "cpu")
    );
}

/// A standing finding is told every ten seconds with the means of that time; it gets worse at once, and better after ten seconds.
#[test]
fn a_standing_finding_is_calm() {
    let (engine, _, samples) = watch(50, &|_| {}, &|world, second| {
        // It goes up and down every second.
        let lost = if second % 2 == 0 { 30 } else { 80 };
        add(&mut world.now.interfaces[0].in_errors, if second < 40 { lost } else { 2 });
    });
    let one = of(engine.history().all(), "link-errors");
    let begin = samples[QUIET as usize - 1].now.wall_ns();
    let told: Vec<(i64, Severity, &str)> = one
        .tellings
        .iter()
        .map(|told| ((told.wall_ns - begin) / 1_000_000_000, told.severity, told.sentence.as_str()))
        .collect();
    assert!(told.windows(2).all(|pair| pair[1].0 - pair[0].0 >= 9 || pair[1].1 != pair[0].1), "{told:?}");
    let means = told.iter().filter(|(at, ..)| (20..40).contains(at));
    for (_, _, said) in means {
        assert!(said.contains(" 55 errors a second"), "the mean of ten seconds: {said}");
    }
    let worst = told.iter().find(|(_, severity, _)| *severity == Severity::Warning).expect("it gets worse");
    assert!(worst.0 <= 4, "at once: {told:?}");
    let better = told.iter().find(|(at, severity, _)| *at > 40 && *severity < Severity::Warning);
    assert!(better.is_some_and(|(at, ..)| *at >= 49), "after ten seconds: {told:?}");
}

/// Who joins in later is told with the time since when.
#[test]
fn who_joins_in_later_is_told_with_his_time() {
    let (engine, last, samples) = watch(40, &|_| {}, &|world, second| {
        for core in 0..CORES {
            let pid = if second >= 20 && core >= 2 { 320 } else { 540 };
            world.uses(pid, core, 97);
        }
    });
    let one = of(engine.history().all(), "cpu-full");
    let joined: Vec<(i64, &str)> =
        one.joined_at(last.now.wall_ns()).map(|(since, who)| (*since, who.name.as_str())).collect();
    let [(since, "skyboard[320]")] = joined[..] else { panic!("{joined:?} {:?}", one.tellings) };
    let after = (since - samples[QUIET as usize].now.wall_ns()) / 1_000_000_000;
    assert!((20..=32).contains(&after), "since {after} s");
}

/// What was so when watching began is said to be older.
#[test]
fn what_was_so_before_watching_began_is_said_to_be_older() {
    let full = |world: &mut World| {
        world.now.filesystems[0].used = raw(96 * GIB);
        world.now.filesystems[0].available = raw(4 * GIB);
    };
    let (engine, last, _) = watch(4, &full, &|_, _| {});
    let one = of(engine.history().all(), "filesystem-full");
    assert!(one.is_older);
    let verdict = Verdict::new(&engine, &last, 15.0);
    let lines: Vec<String> = verdict.lines(false).into_iter().map(|line| line.text).collect();
    assert!(lines.iter().any(|line| line.contains("(since before ")), "{lines:?}");
    let found = run(8, &|_| {}, &|world, _| add(&mut world.now.interfaces[0].in_errors, 30));
    assert!(!of(&found, "link-errors").is_older);
}

/// What stands out at once is what the rules say: their limits and `off` count.
#[test]
fn what_stands_out_at_once_follows_the_settings() {
    let (_, last, _) = watch(3, &|_| {}, &|world, _| add(&mut world.now.interfaces[0].in_errors, 30));
    let said = |adjusted: &Adjusted| at_once(&last, adjusted);
    let lines = said(&Adjusted::default());
    assert_eq!(lines, [(Severity::Warning, Lane::Network, "eth0 has 30 errors a second.".to_owned())]);
    let mut adjusted = Adjusted::default();
    adjusted.set("link-errors", "severity", "notice").expect("a level");
    assert_eq!(said(&adjusted)[0].0, Severity::Notice);
    adjusted.set("link-errors", "off", "true").expect("a word");
    assert!(said(&adjusted).is_empty());
}
