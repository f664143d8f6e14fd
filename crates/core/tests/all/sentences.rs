//! What stands out, reckoned by hand: from which values on, in which words, and whom it names.

use dozor_core::findings::{Adjusted, at_once};
use dozor_core::known::Raw;
use dozor_core::lane::{
    CHARGE, DISKS, FULL, Lane, NEAR_HEAT, Severity, battery_severity, disk_severity, fan_severity,
    filesystem_severity, interface_severity, temperature_severity,
};
use dozor_core::parts::{PartId, Users, sections, users};
use dozor_core::reading::{
    BatteryRow, CoreRow, DiskRow, EndedRow, FilesystemRow, HostFacts, InterfaceRow, ProcessRow, Reading,
    SensorRow, raw,
};
use dozor_core::sample::{PartView, Sample};
use std::sync::Arc;

/// Two readings two seconds apart on a machine of four cores.
fn sample(before: impl Fn(&mut Reading), now: impl Fn(&mut Reading)) -> Sample {
    let at = |second: i64, change: &dyn Fn(&mut Reading)| {
        let mut reading = Reading::default();
        let ns = raw(second * 1_000_000_000);
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
        change(&mut reading);
        reading.sort();
        Arc::new(reading)
    };
    let host = HostFacts { cores: 4, ticks_per_second: 100, ..HostFacts::default() };
    Sample::new(Arc::new(host), Some(at(10, &before)), at(12, &now))
}

fn said(sample: &Sample) -> Vec<(Severity, String)> {
    let all = at_once(sample, &Adjusted::default());
    all.into_iter().map(|(severity, _, text)| (severity, text)).collect()
}

fn process(pid: i64, change: impl Fn(&mut ProcessRow)) -> Arc<ProcessRow> {
    let mut row =
        ProcessRow { pid: raw(pid), start_ticks: raw(1), name: "p".into(), ..ProcessRow::default() };
    change(&mut row);
    Arc::new(row)
}

/// Four cores of which one is busy for this many ticks of 200, the others for 20.
fn cores(reading: &mut Reading, busy: i64) {
    let core = |number: i64, busy: i64| CoreRow {
        number: raw(number),
        user: raw(busy),
        idle: raw(200 - busy),
        nice: raw(0),
        system: raw(0),
        iowait: raw(0),
        irq: raw(0),
        softirq: raw(0),
        steal: raw(0),
        ..CoreRow::default()
    };
    reading.cores = vec![core(0, 20), core(1, 20), core(2, busy), core(3, 20)];
    let system = &mut reading.system;
    (system.user, system.idle) = (raw(60 + busy), raw(740 - busy));
    (system.nice, system.system, system.iowait) = (raw(0), raw(0), raw(0));
    (system.irq, system.softirq, system.steal) = (raw(0), raw(0), raw(0));
}

fn no_time(reading: &mut Reading) {
    cores(reading, 0);
    for core in &mut reading.cores {
        (core.user, core.idle) = (raw(0), raw(0));
    }
    (reading.system.user, reading.system.idle) = (raw(0), raw(0));
}

#[test]
fn one_full_core_among_idle_ones_is_named_with_who_runs_there() {
    let on_core = |ticks: i64| {
        process(7, move |row| {
            (row.user_ticks, row.system_ticks, row.core) = (raw(ticks), raw(0), raw(2));
        })
    };
    let hot = sample(
        |reading| {
            no_time(reading);
            reading.processes = vec![on_core(0)];
        },
        |reading| {
            cores(reading, 200);
            reading.processes = vec![on_core(194)];
        },
    );
    let expected = "core 2 is 100 % busy while others have room. p[7] uses 97 % of a core there.";
    assert_eq!(said(&hot), [(Severity::Notice, expected.to_owned())]);
    let warm = sample(no_time, |reading| cores(reading, 180));
    assert!(said(&warm).iter().all(|(_, text)| !text.starts_with("core ")), "90 % is not full");
    let all = sample(no_time, |reading| {
        cores(reading, 200);
        for core in &mut reading.cores {
            (core.user, core.idle) = (raw(200), raw(0));
        }
        (reading.system.user, reading.system.idle) = (raw(800), raw(0));
    });
    assert!(
        said(&all).iter().all(|(_, text)| !text.starts_with("core ")),
        "where all are full no core is special"
    );
}

/// All four cores busy for two seconds.
fn all_busy(reading: &mut Reading) {
    cores(reading, 200);
    for core in &mut reading.cores {
        (core.user, core.idle) = (raw(200), raw(0));
    }
    (reading.system.user, reading.system.idle) = (raw(800), raw(0));
}

/// Processes of one name with this CPU time each.
fn busy(reading: &mut Reading, pids: std::ops::Range<i64>, ticks: i64) {
    let row = |pid| {
        process(pid, move |row| {
            row.name = "busy".into();
            (row.user_ticks, row.system_ticks) = (raw(ticks), raw(0));
        })
    };
    reading.processes.extend(pids.map(row));
}

#[test]
fn equal_programs_are_one_user_of_what_the_machine_used() {
    let twelve = sample(
        |reading| {
            no_time(reading);
            busy(reading, 10..22, 0);
        },
        |reading| {
            all_busy(reading);
            busy(reading, 10..22, 60);
        },
    );
    let (_, text) = said(&twelve).remove(0);
    assert!(text.ends_with("busy ×12 use 90 % of it."), "{text}");
}

#[test]
fn who_is_merely_visible_is_not_blamed_for_what_nobody_explains() {
    let with = |threads: i64, reaped: i64| {
        sample(
            |reading| {
                no_time(reading);
                busy(reading, 10..11, 0);
            },
            move |reading| {
                all_busy(reading);
                reading.system.threads = raw(threads);
                busy(reading, 10..11, 60);
                let row = Arc::make_mut(&mut reading.processes[0]);
                row.children_user_ticks = raw(reaped);
            },
        )
    };
    let texts = |threads| said(&with(threads, 0)).into_iter().map(|(_, text)| text).collect::<Vec<_>>();
    assert_eq!(texts(1), ["92 % of all CPU time goes to nobody who can be seen."]);
    assert_eq!(texts(412), ["92 % of all CPU time goes to 411 tasks that cannot be seen from here."]);
}

#[test]
fn a_loop_that_moves_between_cores_still_stands_out_and_is_put_on_none() {
    let moving = |core: i64, ticks: i64| {
        process(7, move |row| {
            (row.user_ticks, row.system_ticks, row.core) = (raw(ticks), raw(0), raw(core));
        })
    };
    let loop_that_moves = sample(
        |reading| {
            no_time(reading);
            reading.processes = vec![moving(1, 0)];
        },
        |reading| {
            cores(reading, 120);
            reading.processes = vec![moving(2, 194)];
        },
    );
    let expected = "p[7] uses one core whole (97 %) while others have room.";
    assert_eq!(said(&loop_that_moves), [(Severity::Notice, expected.to_owned())]);
}

#[test]
fn the_facts_of_the_lane_show_the_class_that_is_large() {
    let nice = sample(no_time, |reading| {
        cores(reading, 20);
        let system = &mut reading.system;
        (system.user, system.nice, system.system, system.idle) = (raw(88), raw(544), raw(168), raw(0));
    });
    assert_eq!(Lane::Cpu.facts(&nice)[0], "user 11  system 21  nice 68");
}

fn ended(order: i64, name: &str, micros: i64, written: i64) -> EndedRow {
    EndedRow {
        name: name.into(),
        parent: "queue".into(),
        order: raw(order),
        pid: raw(900 + order),
        ppid: raw(5),
        seen: raw(0),
        user: raw(micros),
        system: raw(0),
        write_bytes: raw(written),
        ..EndedRow::default()
    }
}

#[test]
fn processes_too_short_to_be_seen_are_counted_and_their_parent_named() {
    let short = sample(no_time, |reading| {
        cores(reading, 20);
        // 0.4 s + 0.4 s + 0.1 s of 8 s that four cores had in two seconds.
        reading.ended =
            vec![ended(0, "solve", 400_000, 0), ended(1, "solve", 400_000, 0), ended(2, "other", 100_000, 0)];
    });
    // Two in a sample are no rate, and the parent is not there.
    let expected = "11 % of all CPU time goes to processes gone within a sample: solve.";
    assert_eq!(said(&short), [(Severity::Notice, expected.to_owned())]);
    let little = sample(no_time, |reading| {
        cores(reading, 20);
        reading.ended = vec![ended(0, "solve", 20_000, 0)];
    });
    assert_eq!(said(&little), []);
}

#[test]
fn the_disk_is_blamed_on_programs_that_are_gone_rather_than_on_their_parent() {
    let disk = |written: i64, busy: i64| DiskRow {
        name: "sda".into(),
        whole: "".into(),
        rotational: raw(1),
        reads: raw(0),
        read_bytes: raw(0),
        read_ms: raw(0),
        writes: raw(written / 4096),
        write_bytes: raw(written),
        write_ms: raw(busy),
        busy_ms: raw(busy),
        queue_ms: raw(busy),
        ..DiskRow::default()
    };
    // The shell waited for two programs that wrote 90 MB each; the kernel added that to it.
    let shell =
        |written: i64| process(5, move |row| (row.write_bytes, row.read_bytes) = (raw(written), raw(0)));
    let blamed = sample(
        |reading| {
            reading.disks = vec![disk(0, 0)];
            reading.processes = vec![shell(1_000)];
        },
        |reading| {
            reading.disks = vec![disk(180_000_000, 1_900)];
            reading.processes = vec![shell(1_000 + 180_000_000 + 2_000)];
            reading.ended = vec![ended(0, "copy", 10, 90_000_000), ended(1, "copy", 10, 90_000_000)];
        },
    );
    let (severity, text) = said(&blamed).remove(0);
    assert_eq!(severity, Severity::Critical);
    assert!(text.ends_with("copy ×2 write 100 % of what is written."), "{text}");
}

#[test]
fn a_kill_for_want_of_memory_is_said_with_who_is_gone() {
    let killed = sample(
        |reading| reading.system.oom_kills = raw(3),
        |reading| {
            reading.system.oom_kills = raw(4);
            reading.ended = vec![EndedRow {
                seen: raw(1),
                status: raw(9),
                peak_bytes: raw(1 << 34),
                ..ended(0, "hog", 5, 0)
            }];
        },
    );
    let expected = "the kernel ended a process because memory ran out. It was hog[900], which had 16.0 GiB.";
    assert_eq!(said(&killed), [(Severity::Critical, expected.to_owned())]);
}

#[test]
fn lane_part_and_sentence_have_one_severity() {
    // Four hundred thousand datagrams in two seconds that nobody got.
    let lossy = sample(
        |reading| {
            reading.interfaces = vec![InterfaceRow {
                name: "eth0".into(),
                in_errors: raw(0),
                out_errors: raw(0),
                ..InterfaceRow::default()
            }];
            reading.system.udp_errors = raw(0);
        },
        |reading| {
            reading.interfaces = vec![InterfaceRow {
                name: "eth0".into(),
                in_errors: raw(0),
                out_errors: raw(0),
                ..InterfaceRow::default()
            }];
            reading.system.udp_errors = raw(400_000);
        },
    );
    let parts = sections(Lane::Network, &lossy);
    let worst = parts.iter().flat_map(|section| &section.rows).map(|row| row.severity).max();
    assert_eq!(worst, Some(Severity::Critical));
    assert_eq!(Lane::Network.point(&lossy).severity, Severity::Critical);
    assert_eq!(
        said(&lossy),
        [(Severity::Critical, "200 k UDP datagrams a second arrive and are not delivered.".to_owned())]
    );
    let hung = sample(
        |_| {},
        |reading| reading.filesystems = vec![FilesystemRow { answers: raw(0), ..filesystem(0, 0, 900) }],
    );
    assert_eq!(Lane::Disk.point(&hung).severity, Severity::Critical);
    assert_eq!(Lane::Disk.facts(&hung)[1], "/archive does not answer");
    assert_eq!(said(&hung).len(), 1, "it is said once: {:?}", said(&hung));
}

fn filesystem(used: i64, available: i64, inodes_free: i64) -> FilesystemRow {
    FilesystemRow {
        mount: "/archive".into(),
        answers: raw(1),
        used: raw(used),
        available: raw(available),
        inodes: raw(1_000),
        inodes_free: raw(inodes_free),
        ..FilesystemRow::default()
    }
}

#[test]
fn file_systems_are_judged_by_bytes_inodes_and_whether_they_answer() {
    for (row, severity) in [
        (filesystem(80, 20, 900), Severity::Fine),
        (filesystem(86, 14, 900), Severity::Notice),
        (filesystem(93, 7, 900), Severity::Warning),
        (filesystem(98, 2, 900), Severity::Critical),
        (filesystem(10, 90, 20), Severity::Critical),
        (FilesystemRow { answers: raw(0), ..filesystem(10, 90, 900) }, Severity::Critical),
        (filesystem(0, 0, 0), Severity::Critical),
        (FilesystemRow { used: Raw::DENIED, inodes: Raw::ABSENT, ..filesystem(0, 0, 0) }, Severity::Fine),
    ] {
        assert_eq!(filesystem_severity(&row, FULL), severity, "{row:?}");
    }
    let full = sample(|_| {}, |reading| reading.filesystems = vec![filesystem(93 << 30, 7 << 30, 900)]);
    assert_eq!(said(&full), [(Severity::Warning, "/archive is 93 % full, 7.0 GiB left.".to_owned())]);
    let hung = FilesystemRow { answers: raw(0), ..filesystem(0, 0, 900) };
    let hung = sample(|_| {}, |reading| reading.filesystems = vec![hung.clone()]);
    assert!(said(&hung)[0].1.starts_with("/archive does not answer"));
}

#[test]
fn sensors_fans_and_batteries_are_judged_against_their_own_limits() {
    let sensor = |temperature: i64, limit: Raw| SensorRow {
        temperature: raw(temperature * 1_000),
        limit,
        ..SensorRow::default()
    };
    for (temperature, severity) in
        [(60, Severity::Fine), (76, Severity::Notice), (84, Severity::Warning), (91, Severity::Critical)]
    {
        assert_eq!(
            temperature_severity(&sensor(temperature, raw(95_000)), NEAR_HEAT),
            severity,
            "{temperature}"
        );
    }
    assert_eq!(
        temperature_severity(&sensor(120, Raw::ABSENT), NEAR_HEAT),
        Severity::Fine,
        "without a limit nothing is known"
    );
    let fan =
        |speed: i64, least: i64| SensorRow { fan: raw(speed), fan_min: raw(least), ..SensorRow::default() };
    assert_eq!(fan_severity(&fan(0, 400)), Severity::Warning);
    assert_eq!(fan_severity(&fan(300, 400)), Severity::Notice);
    assert_eq!(fan_severity(&fan(0, 0)), Severity::Fine, "some fans stand on purpose");
    let battery = |status: &str, charge: i64| BatteryRow {
        status: status.into(),
        charge: raw(charge * 100),
        ..BatteryRow::default()
    };
    for (charge, severity) in
        [(60, Severity::Fine), (20, Severity::Notice), (12, Severity::Warning), (4, Severity::Critical)]
    {
        assert_eq!(battery_severity(&battery("Discharging", charge), CHARGE), severity, "{charge}");
        assert_eq!(battery_severity(&battery("Charging", charge), CHARGE), Severity::Fine);
    }
}

#[test]
fn disks_are_judged_by_what_they_are_and_by_waiting() {
    let judged = |spins: i64, busy: i64, requests: i64, ms: i64| {
        let zero = DiskRow {
            reads: raw(0),
            read_ms: raw(0),
            writes: raw(0),
            write_ms: raw(0),
            busy_ms: raw(0),
            rotational: raw(spins),
            ..DiskRow::default()
        };
        let now = DiskRow {
            writes: raw(requests),
            write_ms: raw(requests * ms),
            busy_ms: raw(busy * 10),
            ..zero.clone()
        };
        disk_severity(&PartView { now: &now, before: Some(&zero), seconds: Some(1.0), born: false }, &DISKS)
    };
    assert_eq!(judged(1, 65, 100, 5), Severity::Notice, "a spinning disk hurts from 60 % on");
    assert_eq!(judged(0, 65, 100, 1), Severity::Fine, "a solid one does not yet");
    assert_eq!(judged(2, 65, 100, 1), Severity::Fine, "nor does a virtual one, whatever it claims");
    assert_eq!(judged(0, 95, 100, 1), Severity::Warning);
    assert_eq!(judged(0, 95, 100, 40), Severity::Critical, "busy and slow at once");
    assert_eq!(judged(1, 5, 2, 400), Severity::Fine, "two slow requests on an idle disk hurt nobody");
    assert_eq!(judged(1, 50, 100, 400), Severity::Warning, "long waits hurt before the disk is full");
}

#[test]
fn interfaces_are_judged_by_their_link_and_their_errors() {
    let judged = |bytes: i64, errors: i64, speed: Raw| {
        let zero = InterfaceRow {
            in_bytes: raw(0),
            out_bytes: raw(0),
            in_errors: raw(0),
            out_errors: raw(0),
            speed_bits: speed,
            ..InterfaceRow::default()
        };
        let now = InterfaceRow { in_bytes: raw(bytes), in_errors: raw(errors), ..zero.clone() };
        interface_severity(&PartView { now: &now, before: Some(&zero), seconds: Some(1.0), born: false })
    };
    let gigabit = raw(1_000_000_000);
    assert_eq!(judged(50_000_000, 0, gigabit), Severity::Fine);
    assert_eq!(judged(110_000_000, 0, gigabit), Severity::Notice);
    assert_eq!(judged(118_000_000, 0, gigabit), Severity::Warning, "full, and nothing is lost by that alone");
    assert_eq!(judged(1_000, 1, gigabit), Severity::Notice);
    assert_eq!(judged(1_000, 50, gigabit), Severity::Warning);
    assert_eq!(judged(110_000_000, 0, Raw::ABSENT), Severity::Fine, "without a speed no link is full");
}

#[test]
fn a_machine_without_anything_has_no_parts_and_claims_nothing() {
    let nothing = sample(|_| {}, |_| {});
    for lane in Lane::ALL {
        for section in sections(lane, &nothing) {
            for row in &section.rows {
                let claims = row.cells.iter().any(|cell| cell.number().is_some());
                assert!(!claims, "{lane:?} {}: {row:?} must not claim a number", section.title);
                assert_eq!(row.severity, Severity::Fine);
            }
        }
    }
    assert_eq!(said(&nothing), []);
    for part in [
        PartId::Device("sda".into()),
        PartId::Mount("/".into()),
        PartId::Connection(7),
        PartId::Interrupt("45".into()),
        PartId::Sensor("core 0".into()),
    ] {
        assert!(matches!(users(&part, &nothing), Users::Unknown(_)), "{part:?}");
    }
}

#[test]
fn a_mapped_device_is_found_by_its_name() {
    let disk = |name: &str, model: &str| DiskRow {
        name: name.into(),
        model: model.into(),
        whole: "".into(),
        ..DiskRow::default()
    };
    let mapped = sample(
        |_| {},
        |reading| {
            reading.disks = vec![disk("dm-0", "night-frames"), disk("sda", "")];
            reading.filesystems = vec![FilesystemRow {
                mount: "/my frames".into(),
                device: "/dev/mapper/night-frames".into(),
                ..FilesystemRow::default()
            }];
            reading.processes = vec![
                process(1, |row| row.mounts = "/ /my\\040frames".into()),
                process(2, |row| row.mounts = "/".into()),
            ];
        },
    );
    let Users::Those(matches, words) = users(&PartId::Device("dm-0".into()), &mapped) else {
        panic!("it has users")
    };
    let kept: Vec<_> = mapped.now.processes.iter().filter(|row| matches(row)).map(|row| row.pid).collect();
    assert_eq!((kept, &*words), (vec![raw(1)], "with files on dm-0"));
    assert!(matches!(users(&PartId::Device("sda".into()), &mapped), Users::Unknown(_)));
}

#[test]
fn a_server_that_is_slow_is_told_with_whose_time_it_is() {
    use dozor_core::reading::RemoteRow;
    let vault = |operations: i64, answer: i64, whole: i64, again: i64| RemoteRow {
        mount: "/mnt/vault".into(),
        device: "vault:/nights".into(),
        operations: raw(operations),
        transmissions: raw(operations + again),
        timeouts: raw(0),
        answer_ms: raw(answer),
        whole_ms: raw(whole),
        ..RemoteRow::default()
    };
    let after = |answer: i64, whole: i64, again: i64| {
        sample(|r| r.remotes = vec![vault(0, 0, 0, 0)], |r| r.remotes = vec![vault(20, answer, whole, again)])
    };
    let told = |sample: &Sample| said(sample).into_iter().map(|(_, text)| text).collect::<Vec<_>>();
    assert!(told(&after(100, 110, 0)).is_empty(), "five milliseconds each");
    let slow = after(24_000, 26_000, 6);
    assert_eq!(
        told(&slow),
        ["/mnt/vault is slow: vault:/nights takes 1.2 s to answer, 3 sent again a second."]
    );
    assert_eq!(Lane::Disk.point(&slow).severity, Severity::Warning);
    let here = told(&after(200, 26_000, 0));
    assert_eq!(here, ["/mnt/vault is slow: an operation takes 1.3 s, mostly on this machine."]);
}

#[test]
fn a_control_group_at_its_limit_is_told() {
    use dozor_core::reading::GroupRow;
    let group = |periods: i64, held: i64, killed: i64, tasks: i64| GroupRow {
        path: "/system.slice/board.service".into(),
        cpu_limit: raw(5_000),
        periods: raw(periods),
        throttled_periods: raw(held),
        memory_limit: raw(1 << 30),
        oom_kills: raw(killed),
        tasks: raw(tasks),
        tasks_limit: raw(64),
        ..GroupRow::default()
    };
    let after = |held: i64, killed: i64, tasks: i64| {
        let now = group(20, held, killed, tasks);
        let sample = sample(|r| r.groups = vec![group(0, 0, 0, 1)], |r| r.groups = vec![now.clone()]);
        said(&sample).into_iter().map(|(_, text)| text).collect::<Vec<_>>()
    };
    assert!(after(2, 0, 30).is_empty());
    assert_eq!(
        after(16, 0, 30),
        ["board.service may use 50 % of a core and is held back in 80 % of the periods."]
    );
    assert_eq!(after(0, 0, 60), ["board.service has 60 of the 64 tasks that it may have."]);
    let killed = after(0, 1, 30);
    assert_eq!(
        killed,
        [
            "the kernel ended a process in control group board.service, at its limit of 1.0 GiB of memory. Only \
             root can see which one (dozor access)."
        ]
    );
}
