//! What lanes, sentences and metrics say of readings whose figures can be reckoned by hand.

use dozor_core::catalogue::{Instances, SYSTEM_METRICS, Value, process_metric};
use dozor_core::demo::SimulatedMachine;
use dozor_core::exited::exited;
use dozor_core::findings::{Adjusted, at_once};
use dozor_core::known::{Known, Raw};
use dozor_core::lane::{Lane, Severity};
use dozor_core::rank::{Order, Population};
use dozor_core::reading::{
    CoreRow, DiskRow, EndedRow, HostFacts, InterfaceRow, ProcessRow, Reading, SensorRow, TransferRow, raw,
};
use dozor_core::recording::Writer;
use dozor_core::sample::Sample;
use dozor_core::text::Text;
use dozor_core::timeline::{THIN, Timeline};
use std::sync::Arc;

const MIB: i64 = 1 << 20;

/// The first sentence on a lane.
fn sentence(lane: Lane, sample: &Sample) -> Option<String> {
    at_once(sample, &Adjusted::default()).into_iter().find(|(_, of, _)| *of == lane).map(|(.., text)| text)
}

/// Two readings two seconds apart; `now` changes the second one.
fn sample(before: impl Fn(&mut Reading), now: impl Fn(&mut Reading)) -> Sample {
    let host = HostFacts { cores: 4, ticks_per_second: 100, ..HostFacts::default() };
    let at = |seconds: i64| {
        let ns = Raw::new(seconds * 1_000_000_000);
        let mut reading = Reading::default();
        (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
        reading
    };
    let (mut first, mut second) = (at(100), at(102));
    before(&mut first);
    now(&mut second);
    first.sort();
    second.sort();
    Sample::new(Arc::new(host), Some(Arc::new(first)), Arc::new(second))
}

fn cpu(reading: &mut Reading, [user, system, idle, iowait, steal]: [i64; 5]) {
    let s = &mut reading.system;
    (s.user, s.system, s.idle, s.iowait, s.steal) =
        (user.into(), system.into(), idle.into(), iowait.into(), steal.into());
    (s.nice, s.irq, s.softirq) = (0.into(), 0.into(), 0.into());
}

fn process(pid: i64, change: impl Fn(&mut ProcessRow)) -> Arc<ProcessRow> {
    let mut row =
        ProcessRow { pid: pid.into(), start_ticks: 1.into(), name: "p".into(), ..ProcessRow::default() };
    change(&mut row);
    Arc::new(row)
}

fn system(sample: &Sample, alias: &str) -> Instances {
    SYSTEM_METRICS.iter().find(|metric| metric.alias == alias).expect("a metric").of_system(sample)
}

fn one(value: f64) -> Instances {
    Instances::One(Value::Number(value))
}

fn many(name: &str, value: f64) -> Instances {
    Instances::Many(vec![(name.into(), Value::Number(value))])
}

#[test]
fn shares_of_the_cpu_add_up_and_waiting_is_not_busy() {
    // 800 ticks passed on 4 cores in 2 s.
    let sample = sample(|r| cpu(r, [0; 5]), |r| cpu(r, [200, 80, 400, 80, 40]));
    for (alias, percent) in [
        ("cpu.user", 25.0),
        ("cpu.system", 10.0),
        ("cpu.idle", 50.0),
        ("cpu.iowait", 10.0),
        ("cpu.steal", 5.0),
    ] {
        assert_eq!(system(&sample, alias), one(percent), "{alias}");
    }
    assert_eq!(system(&sample, "cpu.total"), one(40.0));
    assert_eq!(Lane::Cpu.facts(&sample)[0], "user 25  system 10  iowait 10  steal 5");
}

#[test]
fn a_counter_that_goes_back_is_unknown() {
    let sample = sample(|r| cpu(r, [500, 0, 0, 0, 0]), |r| cpu(r, [400, 0, 200, 0, 0]));
    assert_eq!(system(&sample, "cpu.user"), Instances::One(Value::Absent));
}

#[test]
fn one_core_at_its_limit_is_seen_beside_an_idle_one() {
    let core = |number: i64, user: i64, idle: i64| CoreRow {
        number: number.into(),
        user: user.into(),
        idle: idle.into(),
        iowait: 0.into(),
        ..CoreRow::default()
    };
    let sample = sample(
        |r| r.cores = vec![core(0, 0, 0), core(1, 0, 0)],
        |r| r.cores = vec![core(0, 200, 0), core(1, 10, 190)],
    );
    let Instances::Many(cores) = system(&sample, "core.total") else { panic!("instances") };
    assert_eq!(cores, [("0".into(), Value::Number(100.0)), ("1".into(), Value::Number(5.0))]);
}

#[test]
fn the_busiest_disk_and_its_main_writer_are_named() {
    let disk = |busy: i64, writes: i64, write_ms: i64, bytes: i64| DiskRow {
        name: "sdx".into(),
        reads: 0.into(),
        read_ms: 0.into(),
        read_bytes: 0.into(),
        writes: writes.into(),
        write_ms: write_ms.into(),
        write_bytes: bytes.into(),
        busy_ms: busy.into(),
        queue_ms: write_ms.into(),
        ..DiskRow::default()
    };
    let writer = |pid: i64, bytes: i64| process(pid, |row| row.write_bytes = bytes.into());
    let sample = sample(
        |r| (r.disks, r.processes) = (vec![disk(0, 0, 0, 0)], vec![writer(7, 0), writer(8, 0)]),
        |r| {
            r.disks = vec![disk(1900, 100, 4000, 200 * MIB)];
            r.processes = vec![writer(7, 150 * MIB), writer(8, 50 * MIB)];
        },
    );
    assert_eq!(system(&sample, "disk.busy"), many("sdx", 95.0));
    assert_eq!(system(&sample, "disk.wait"), many("sdx", 0.04));
    assert_eq!(system(&sample, "disk.queue"), many("sdx", 2.0));
    assert_eq!(system(&sample, "disk.write"), many("sdx", (100 * MIB) as f64));
    assert_eq!(Lane::Disk.point(&sample).severity, Severity::Critical);
    assert_eq!(
        sentence(Lane::Disk, &sample).as_deref(),
        Some("sdx is saturated: 95 % busy, requests take 40 ms. p[7] writes 75 % of what is written.")
    );
}

#[test]
fn a_disk_without_requests_has_no_wait_rather_than_none() {
    let idle = DiskRow {
        name: "sdx".into(),
        reads: 5.into(),
        read_ms: 9.into(),
        writes: 5.into(),
        write_ms: 9.into(),
        ..DiskRow::default()
    };
    let sample = sample(|r| r.disks = vec![idle.clone()], |r| r.disks = vec![idle.clone()]);
    assert_eq!(system(&sample, "disk.wait"), Instances::Many(vec![("sdx".into(), Value::Absent)]));
}

#[test]
fn memory_is_what_new_programs_cannot_get() {
    let sample = sample(
        |_| {},
        |r| {
            let s = &mut r.system;
            (s.mem_total, s.mem_available, s.mem_free) =
                ((1000 * MIB).into(), (50 * MIB).into(), (10 * MIB).into());
            (s.swap_total, s.swap_free) = (0.into(), 0.into());
            r.processes = vec![process(3, |row| row.rss_bytes = (600 * MIB).into())];
        },
    );
    assert_eq!(Lane::Memory.point(&sample).value, Known::Value(95.0));
    assert_eq!(Lane::Memory.point(&sample).severity, Severity::Warning);
    assert_eq!(
        Lane::Memory.facts(&sample),
        ["50.0 MiB available of 1.0 GiB".to_owned(), "no swap".to_owned()]
    );
    let mem = process_metric("mem").expect("a metric").of(&sample.process(0));
    assert_eq!(mem, Value::Number(60.0));
}

#[test]
fn the_network_is_read_against_the_link_and_errors_name_their_interface() {
    let link = |name: &str, bytes: i64, errors: i64, speed: Raw| InterfaceRow {
        name: name.into(),
        in_bytes: bytes.into(),
        out_bytes: 0.into(),
        in_errors: errors.into(),
        out_errors: 0.into(),
        speed_bits: speed,
        ..InterfaceRow::default()
    };
    let speed = Raw::new(1_000_000_000);
    let all = |a: i64, b: i64, errors: i64| {
        vec![link("en0", a, 0, speed), link("en1", b, errors, speed), link("lo", 0, 0, Raw::ABSENT)]
    };
    let sample = sample(|r| r.interfaces = all(0, 0, 0), |r| r.interfaces = all(175_000_000, 100, 9));
    let point = Lane::Network.point(&sample);
    assert_eq!(Lane::Network.label(&point), "70 %");
    assert_eq!(point.severity, Severity::Notice);
    assert_eq!(Lane::Network.facts(&sample)[1], "en1 has 4.5 errors/s");
    let full = sentence(Lane::Network, &sample).expect("a sentence");
    assert_eq!(full, "en0 is full: 70 % of its link.");
    let errors_only = self::sample(|r| r.interfaces = all(0, 0, 0), |r| r.interfaces = all(1000, 100, 9));
    assert_eq!(sentence(Lane::Network, &errors_only).as_deref(), Some("en1 has 4.5 errors a second."));
}

#[test]
fn connections_are_gathered_by_peer_and_new_ones_count_from_zero() {
    use dozor_core::parts::peers;
    use dozor_core::reading::ConnectionRow;
    let connection = |cookie: i64, remote: &str, received: i64| ConnectionRow {
        cookie: cookie.into(),
        remote: remote.into(),
        in_bytes: received.into(),
        out_bytes: 0.into(),
        ..ConnectionRow::default()
    };
    let sample = sample(
        |r| r.connections = vec![connection(1, "10.0.0.7:443", 1000), connection(2, "[fd00::9]:22", 50)],
        |r| {
            r.connections = vec![
                connection(1, "10.0.0.7:443", 1400),
                connection(2, "[fd00::9]:22", 50),
                connection(3, "10.0.0.7:8080", 600),
            ];
        },
    );
    let shown: Vec<_> =
        peers(&sample).into_iter().map(|peer| (peer.address, peer.connections, peer.received)).collect();
    assert_eq!(
        shown,
        [("10.0.0.7".into(), 2, Known::Value(500.0)), ("fd00::9".into(), 1, Known::Value(0.0))]
    );
}

#[test]
fn cpu_that_no_process_explains_is_left_over() {
    // 4 cores for 2 s are 800 ticks; 400 were busy. One process used 100, its ended children 60 of which 20 were
    // seen before; so 260 ticks, 130 % of one core, are left.
    let parent = |user: i64, children: i64| {
        process(5, |row| {
            (row.user_ticks, row.system_ticks) = (user.into(), 0.into());
            (row.children_user_ticks, row.children_system_ticks) = (children.into(), 0.into());
        })
    };
    let child = process(6, |row| {
        (row.ppid, row.user_ticks, row.system_ticks) = (5.into(), 20.into(), 0.into());
        (row.children_user_ticks, row.children_system_ticks) = (0.into(), 0.into());
    });
    let sample = sample(
        |r| {
            cpu(r, [0; 5]);
            r.processes = vec![parent(0, 0), child.clone()];
        },
        |r| {
            cpu(r, [400, 0, 400, 0, 0]);
            r.processes = vec![parent(100, 60)];
        },
    );
    assert_eq!(system(&sample, "unaccounted"), one(130.0));
}

#[test]
fn a_crowd_that_uses_less_than_a_tick_each_explains_what_it_used() {
    let crowd = |ns: i64| {
        (1..=500).map(move |pid| {
            process(pid, |row| {
                (row.user_ticks, row.system_ticks, row.run_ns) = (0.into(), 0.into(), ns.into());
            })
        })
    };
    // The nanoseconds of this one are those of its main thread.
    let pool = |ticks: i64| {
        process(600, |row| {
            (row.user_ticks, row.system_ticks, row.run_ns) = (ticks.into(), 0.into(), 1_000_000.into());
        })
    };
    let sample = sample(
        |r| {
            cpu(r, [0; 5]);
            r.processes = crowd(1_000_000).chain([pool(50)]).collect();
        },
        |r| {
            cpu(r, [400, 0, 400, 0, 0]);
            r.processes = crowd(5_000_000).chain([pool(150)]).collect();
        },
    );
    // 200 ticks of the crowd and 100 of the pool; of 400 that were busy 100 are left in two seconds.
    let Instances::One(Value::Number(left)) = system(&sample, "unaccounted") else { panic!("a number") };
    assert!((left - 50.0).abs() < 1e-6, "{left}");
}

#[test]
fn heat_is_the_distance_to_the_sensors_own_limit() {
    let sensor = |name: &str, temperature: i64, limit: Raw| SensorRow {
        name: name.into(),
        temperature: (temperature * 1000).into(),
        limit,
        ..SensorRow::default()
    };
    // The warmer one has more room.
    let sample = sample(
        |_| {},
        |r| {
            r.sensors = vec![
                sensor("package", 70, Raw::new(100_000)),
                sensor("nvme", 64, Raw::new(70_000)),
                sensor("board", 90, Raw::ABSENT),
            ];
        },
    );
    let point = Lane::Heat.point(&sample);
    assert_eq!((point.value, point.full), (Known::Value(64.0), Known::Value(70.0)));
    assert_eq!(point.severity, Severity::Warning);
    assert_eq!(Lane::Heat.facts(&sample), ["nvme".to_owned(), "limit 70 °C, 6 to go".to_owned()]);
}

#[test]
fn a_lane_without_its_resource_says_so() {
    let nothing = sample(|_| {}, |_| {});
    for (lane, fact) in [
        (Lane::Disk, "no disk here"),
        (Lane::Network, "no interface here"),
        (Lane::Heat, "no sensor here"),
        (Lane::Cpu, "user –  system –  iowait –"),
    ] {
        assert_eq!(lane.facts(&nothing)[0], fact);
        assert_eq!(lane.label(&lane.point(&nothing)), "–");
        assert_eq!(sentence(lane, &nothing), None);
    }
}

#[test]
fn processes_are_ranked_with_unknown_values_last_either_way() {
    let with = |pid: i64, read: Raw| process(pid, |row| row.read_bytes = read);
    let all = |scale: i64| {
        vec![
            with(1, Raw::ABSENT),
            with(2, (scale * 10).into()),
            with(3, Raw::DENIED),
            with(4, (scale * 30).into()),
        ]
    };
    let sample = sample(|r| r.processes = all(0), |r| r.processes = all(1));
    let gone = Sample::new(Arc::default(), None, Arc::default());
    let order = Order::by(process_metric("read").expect("a metric"));
    let pids = |order: &Order| -> Vec<i64> {
        let population = Population::new(&sample, &gone);
        population.ordered(order).into_iter().filter_map(|row| population.view(row).now.pid.value()).collect()
    };
    assert_eq!(pids(&order), [4, 2, 3, 1]);
    assert_eq!(pids(&order.reversed()), [2, 4, 3, 1]);
}

/// A long text that has nothing in common with the others.
fn unlike_any(seed: i64) -> String {
    let mut bits = seed as u64;
    (0..2_500)
        .map(|_| {
            bits = bits.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            char::from(b'!' + (bits >> 57) as u8 % 90)
        })
        .collect()
}

/// A reading at a second whose process counts one unit of CPU time a second.
fn second(number: i64) -> Arc<Reading> {
    let mut reading = Reading::default();
    let ns = Raw::new(number * 1_000_000_000);
    (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
    reading.system.switches = Raw::new(number * 100);
    reading.processes =
        (0..8).map(|pid| process(pid, |row| row.command = unlike_any(number * 8 + pid).into())).collect();
    Arc::new(reading)
}

#[test]
fn a_live_timeline_thins_what_is_old_and_stays_within_its_limit() {
    // Texts that change every time make each reading large.
    let mut timeline = Timeline::live(Arc::default());
    let count = 2_000;
    for number in 1..=count {
        timeline.append(second(number));
    }
    assert_eq!(timeline.end(), count as usize, "the newest keep their numbers");
    assert!(timeline.bytes() < 22 << 20, "{} bytes", timeline.bytes());
    let walls: Vec<i64> = (timeline.first()..timeline.end())
        .map(|number| timeline.sample(number).expect("it is kept").now.wall_ns() / 1_000_000_000)
        .collect();
    let steps: Vec<i64> = walls.windows(2).map(|pair| pair[1] - pair[0]).collect();
    assert!(steps.iter().all(|step| [1, THIN as i64].contains(step)), "{steps:?}");
    let (old, new) = (steps[0], steps[steps.len() - 1]);
    assert_eq!((old, new), (THIN as i64, 1), "old samples are coarser");
    assert!(walls[0] < 400, "thinning reaches far back: {}", walls[0]);
    for number in [timeline.first() + 1, timeline.first() + 40, timeline.end() - 1] {
        let sample = timeline.sample(number).expect("it is kept");
        assert_eq!(
            sample.rate(|r| r.system.switches),
            Known::Value(100.0),
            "rates of thinned samples are right"
        );
        let moment = timeline.moment(number).expect("its moment");
        assert_eq!(moment.wall_ns, sample.now.wall_ns());
        assert_eq!(moment.seconds, sample.seconds());
    }
    assert!(timeline.sample(0).is_err(), "what was forgotten is an error, not a wrong sample");
    assert_eq!(timeline.at(0), timeline.first());
    assert_eq!(timeline.at(i64::MAX), timeline.end() - 1);
}

#[test]
fn what_was_recorded_before_stays_in_front_of_a_live_timeline_that_thins() {
    let host = Arc::new(HostFacts { name: "lynx-obs".to_owned(), ..HostFacts::default() });
    let mut writer = Writer::new(host.clone(), None);
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    for number in 1..=30 {
        writer.put(&second(number), &mut bytes).expect("memory");
    }
    let mut timeline = Timeline::live(host);
    assert!(timeline.put_before(vec![Arc::new(bytes)]).is_empty());
    assert_eq!((timeline.end(), timeline.has_past()), (30, true));
    for number in 101..=1_100 {
        timeline.append(second(number));
    }
    assert!(timeline.first() > 0, "old readings were thinned");
    let first = timeline.first();
    let wall = |timeline: &mut Timeline, number: usize| {
        timeline.sample(number).expect("it is kept").now.wall_ns() / 1_000_000_000
    };
    for at in [0, 29, 5, 28] {
        assert_eq!(wall(&mut timeline, first + at), at as i64 + 1);
    }
    let junction = timeline.sample(first + 30).expect("the first of our own");
    assert_eq!(junction.before, None, "what came between is not known");
    assert_eq!(timeline.moment(first + 30).map(|moment| moment.seconds), Some(None));
    let newest = timeline.end() - 1;
    assert_eq!(wall(&mut timeline, newest), 1_100);
    let walls: Vec<i64> = (first + 30..=newest).map(|number| wall(&mut timeline, number)).collect();
    assert!(walls.windows(2).all(|pair| [1, THIN as i64].contains(&(pair[1] - pair[0]))), "{walls:?}");
    assert_eq!(timeline.at(15_500_000_000), first + 14);
}

#[test]
fn half_an_hour_at_a_second_is_kept_as_it_came() {
    let mut machine = SimulatedMachine::new(1);
    let mut timeline = Timeline::live(Arc::new(machine.host()));
    for number in 0..2_000 {
        machine.advance_to(std::time::Duration::from_secs(number));
        timeline.append(Arc::new(machine.reading()));
    }
    let newest = timeline.moment(timeline.end() - 1).expect("a moment").wall_ns;
    let half_hour_ago = timeline.at(newest - 1_800_000_000_000);
    let moment = timeline.moment(half_hour_ago).expect("a moment");
    assert!(moment.seconds.is_some_and(|seconds| seconds < 1.5), "{moment:?}");
    assert!(timeline.bytes() < 16 << 20, "{} bytes", timeline.bytes());
}

#[test]
fn records_of_ended_processes_survive_thinning() {
    let mut timeline = Timeline::live(Arc::default());
    for number in 1..=1_200 {
        let mut reading = (*second(number)).clone();
        let name: Text = format!("e{number}").into();
        reading.ended = vec![EndedRow { name, order: 0.into(), pid: number.into(), ..EndedRow::default() }];
        timeline.append(Arc::new(reading));
    }
    let first = timeline.sample(timeline.first()).expect("it is kept");
    assert_eq!(first.now.ended.len(), THIN);
}

#[test]
fn a_main_thread_that_sleeps_or_has_ended_does_not_speak_for_threads_that_work() {
    let with = |letter: u8, threads: i64, ticks: i64| {
        let row = move |used: i64| {
            vec![process(7, |row| {
                (row.state, row.threads) = (i64::from(letter).into(), threads.into());
                (row.user_ticks, row.system_ticks) = (used.into(), 0.into());
            })]
        };
        let sample = sample(|reading| reading.processes = row(0), |reading| reading.processes = row(ticks));
        (process_metric("state").expect("a metric").of(&sample.process(0)), sample.tasks().zombie)
    };
    assert_eq!(with(b'S', 4, 180), (Value::Word("working"), 0));
    assert_eq!(with(b'S', 4, 20), (Value::Word("sleeping"), 0), "a tenth of a core is mostly sleep");
    assert_eq!(with(b'S', 1, 180), (Value::Word("sleeping"), 0), "it speaks for itself");
    assert_eq!(with(b'Z', 4, 180), (Value::Absent, 0), "others live, and what they do is not known");
    assert_eq!(with(b'Z', 1, 0), (Value::Word("zombie"), 1));
}

#[test]
fn whoever_has_a_udp_socket_has_at_least_what_went_over_tcp() {
    let over_both = |datagrams: Raw, [tcp_before, tcp]: [Raw; 2], [before, now]: [Raw; 2]| {
        let row = move |bytes: Raw, udp: Raw| {
            vec![process(7, |row| {
                (row.net_in_bytes, row.net_out_bytes) = (bytes, bytes.value().map(|_| 0).into());
                (row.udp_in_bytes, row.udp_out_bytes) = (udp, udp);
                row.datagram_sockets = datagrams;
            })]
        };
        let sample = sample(
            |reading| reading.processes = row(tcp_before, before),
            |reading| reading.processes = row(tcp, now),
        );
        ["net", "net_in"].map(|metric| process_metric(metric).expect("a metric").bounded(&sample.process(0)))
    };
    let of = |datagrams: Raw, bytes: i64, udp: [Raw; 2]| over_both(datagrams, [raw(0), raw(bytes)], udp);
    let with = |datagrams: Raw, bytes: i64| of(datagrams, bytes, [Raw::ABSENT; 2])[0].clone();
    assert_eq!(with(Raw::new(0), 0), (Value::Number(0.0), false));
    assert_eq!(with(Raw::new(1), 0), (Value::Absent, false));
    assert_eq!(with(Raw::new(1), 4000), (Value::Number(2000.0), true));
    assert_eq!(with(Raw::ABSENT, 0), (Value::Number(0.0), false), "an older recording does not say");
    // Where bytes over UDP are counted, all is known; they are not in the first sample in which somebody counts.
    let counted = [Raw::new(500), Raw::new(2500)];
    let [both, received] = of(Raw::new(1), 4000, counted);
    assert_eq!((both, received), ((Value::Number(4000.0), false), (Value::Number(3000.0), false)));
    assert_eq!(of(Raw::new(1), 0, [Raw::new(500); 2])[0], (Value::Number(0.0), false), "nothing is nothing");
    assert_eq!(of(Raw::new(0), 0, counted)[0], (Value::Number(2000.0), false), "its socket is closed by now");
    assert_eq!(of(Raw::new(1), 4000, [Raw::ABSENT, Raw::new(9)])[0], (Value::Number(2000.0), true));
    // Who came and went between two readings and is known by its datagrams alone may have used TCP as well.
    let alone = |udp: [Raw; 2]| over_both(Raw::ABSENT, [Raw::ABSENT; 2], udp)[0].clone();
    assert_eq!(alone(counted), (Value::Number(2000.0), true));
    assert_eq!(alone([Raw::new(500); 2]), (Value::Absent, false));
    assert_eq!(over_both(Raw::ABSENT, [Raw::DENIED; 2], counted)[0], (Value::Denied, false));
}

#[test]
fn what_was_written_is_at_most_what_was_handed_over_or_what_the_devices_took() {
    let disk =
        |written: i64| DiskRow { name: "nvme0n1".into(), write_bytes: raw(written), ..DiskRow::default() };
    let of = |dirtied: i64, cancelled: i64, handed: i64, otherwise: Raw, took: i64, sent: i64| {
        let row = |times: i64| {
            process(7, |p| {
                (p.io_unknown, p.writes_otherwise) = (raw(0), otherwise);
                (p.write_bytes, p.cancelled_bytes) = (raw(dirtied * times), raw(cancelled * times));
                (p.write_any_bytes, p.net_out_bytes) = (raw(handed * times), raw(sent * times));
            })
        };
        let sample = sample(
            |r| (r.processes, r.disks) = (vec![row(0)], vec![disk(0)]),
            |r| (r.processes, r.disks) = (vec![row(2)], vec![disk(2 * took)]),
        );
        let at = sample.now.processes.iter().position(|row| row.pid == raw(7)).expect("the process");
        let value = |alias: &str| process_metric(alias).expect("a metric").of(&sample.process(at));
        let Value::Word(by) = value("write_by") else { panic!("a word") };
        (value("write").number().expect("a number"), by)
    };
    let (unasked, no, yes) = (Raw::ABSENT, raw(0), raw(1));
    assert_eq!(of(100, 0, 500, unasked, 0, 0), (100.0, "pages"), "what is dirty reaches the disk later");
    assert_eq!(of(100, 30, 500, unasked, 0, 0), (70.0, "pages"), "what was dropped again never does");
    assert_eq!(of(9_000, 0, 75, unasked, 76, 0), (75.0, "calls"));
    assert_eq!(of(9_000, 0, 75, no, 400, 0), (75.0, "calls"));
    assert_eq!(of(9_000, 0, 75, yes, 400, 0), (400.0, "devices"), "a shared mapping");
    assert_eq!(of(60, 0, 0, unasked, 400, 0), (60.0, "pages"), "no write call, so in another way");
    assert_eq!(of(9_000, 0, 100, no, 30, 80), (30.0, "devices"), "most of the calls were on sockets");
    assert_eq!(of(9_000, 0, 100, no, 10, 60), (40.0, "devices"), "but not all of them");
}

/// Process 7 writes; 8 writes as well. In two seconds: pages made dirty, bytes handed to calls, calls, what the kernel counted of its
/// requests and of those of 8, which made as much dirty; what the disk took.
fn written(mib: [i64; 6], calls: i64) -> (f64, &'static str, bool) {
    let [dirtied, handed, itself, other, took, grown] = mib.map(|mib| mib << 20);
    let reading = |times: i64| {
        move |r: &mut Reading| {
            let one = |pid: i64, dirtied: i64, handed: i64, calls: i64| {
                process(pid, |p| {
                    (p.io_unknown, p.writes_otherwise) = (raw(0), raw(0));
                    (p.write_bytes, p.write_any_bytes) = (raw(dirtied * times), raw(handed * times));
                    (p.cancelled_bytes, p.write_calls) = (raw(0), raw(calls * times));
                })
            };
            r.processes = vec![one(7, dirtied, handed, calls), one(8, other, other, 100)];
            let disk =
                DiskRow { name: "nvme0n1".into(), write_bytes: raw(took * times), ..DiskRow::default() };
            r.disks = vec![disk];
            r.system.mem_dirty = raw(100 << 20);
            if times > 0 {
                (r.system.written_after, r.system.dirty_after) = (raw(took), raw((100 << 20) + grown));
            }
            r.system.transfers_noted = raw(1);
            let transfer = |pid: i64, bytes: i64| TransferRow {
                pid: raw(pid),
                start_ticks: r.processes[0].start_ticks,
                number: raw(1),
                group_number: raw(0),
                write_bytes: raw(bytes * times),
                ..TransferRow::default()
            };
            r.transfers = vec![transfer(7, itself), transfer(8, other)];
        }
    };
    let sample = sample(reading(0), reading(1));
    let at = sample.now.processes.iter().position(|row| row.pid == raw(7)).expect("the process");
    let metric = |alias: &str| process_metric(alias).expect("a metric");
    let view = sample.process(at);
    let Value::Word(by) = metric("write_by").of(&view) else { panic!("a word") };
    let bytes = metric("write").of(&view).number().expect("a number");
    let at_most = metric("write").most.is_some_and(|is_most| is_most(&view));
    (bytes * 2.0 / f64::from(1 << 20), by, at_most)
}

#[test]
fn requests_that_the_kernel_counted_bound_what_was_written() {
    // A log that is brought to the disk: its folios were dirtied again and again.
    assert_eq!(written([2_000, 8, 8, 0, 9, 0], 1_000), (8.0, "calls", false));
    // The same, which hands much more to pipes; another one writes as well.
    assert_eq!(written([2_000, 72, 8, 300, 310, 0], 9_000), (10.0, "devices", true));
    assert_eq!(written([2_000, 72, 8, 300, 308, 0], 9_000), (8.0, "devices", false));
    // Of what waits to be written nobody says whose it is.
    assert_eq!(written([2_000, 72, 8, 300, 310, 30], 9_000), (40.0, "devices", true));
    // Spliced into a file and brought to the disk; and left in memory.
    assert_eq!(written([51, 1, 51, 0, 52, 0], 16), (51.0, "pages", false));
    assert_eq!(written([51, 1, 0, 300, 300, 60], 2), (51.0, "pages", true));
    // Few large calls on files whose folios are larger.
    assert_eq!(written([40, 20, 0, 0, 0, 25], 20), (20.0, "calls", false));
    // What the machine's counters are behind bounds nobody.
    assert_eq!(written([4, 1, 0, 0, 0, 0], 100), (1.0, "calls", false));
}

#[test]
fn who_ran_while_nobodys_connections_were_opened_may_have_had_them() {
    let reading = |untold: i64, times: i64| {
        move |r: &mut Reading| {
            r.system.unseen_traffic = raw(untold);
            let one = |pid: i64, ns: i64, bytes: i64| {
                process(pid, |p| {
                    (p.run_ns, p.net_in_bytes, p.udp_in_bytes) =
                        (raw(ns * times), raw(bytes * times), raw(0));
                    (p.net_out_bytes, p.udp_out_bytes) = (raw(0), raw(0));
                })
            };
            r.processes = vec![one(7, 5_000_000, 0), one(8, 0, 0), one(9, 5_000_000, 4_000)];
        }
    };
    let of = |untold: i64| {
        let sample = sample(reading(0, 0), reading(untold, 1));
        [0, 1, 2].map(|at| process_metric("net_in").expect("a metric").bounded(&sample.process(at)))
    };
    let number = |number: f64| (Value::Number(number), false);
    assert_eq!(of(0), [number(0.0), number(0.0), number(2_000.0)]);
    let least = |number: f64| (Value::Number(number), true);
    assert_eq!(of(700), [least(0.0), number(0.0), least(2_000.0)]);
}

#[test]
fn the_first_traffic_of_nobody_counts() {
    let reading = |known: Raw, bytes: Option<i64>| {
        move |r: &mut Reading| {
            (r.system.unattributed_in, r.system.unattributed_out) = (known, known);
            r.processes = vec![process(7, |_| {})];
            let row = bytes.map(|bytes| ProcessRow::unattributed(raw(bytes), raw(0)));
            r.processes.extend(row.map(Arc::new));
        }
    };
    let of = |known: Raw, before: Option<i64>| {
        let sample = sample(reading(known, before), reading(raw(9), Some(5_000)));
        let at = sample.now.processes.iter().position(|row| row.pid.value().is_none()).expect("a row");
        process_metric("net_in").expect("a metric").of(&sample.process(at))
    };
    assert_eq!(of(raw(0), None), Value::Number(2_500.0), "there was none before");
    assert_eq!(of(raw(3), Some(3_000)), Value::Number(1_000.0));
    assert_eq!(of(Raw::ABSENT, None), Value::Absent, "nobody counted before");
}

#[test]
fn what_the_gone_handed_to_devices_is_unknown() {
    let reading = |pids: &'static [i64]| {
        move |r: &mut Reading| {
            r.processes = pids.iter().map(|pid| process(*pid, |_| {})).collect();
            r.system.transfers_noted = raw(1);
        }
    };
    let gone = exited(&sample(reading(&[7, 8]), reading(&[7])));
    assert_eq!(gone.now.processes.len(), 1);
    let metric = process_metric("device_write").expect("a metric");
    assert_eq!(metric.of(&gone.process(0)), Value::Absent, "and not nothing");
}

#[test]
fn a_device_that_appears_has_done_all_that_it_counted() {
    let disk = |name: &str, written: i64| DiskRow {
        name: name.into(),
        write_bytes: raw(written),
        ..DiskRow::default()
    };
    let appears = sample(
        |r| r.disks = vec![disk("sda", 500)],
        |r| r.disks = vec![disk("sda", 700), disk("sdb", 52_000)],
    );
    let Instances::Many(values) = system(&appears, "disk.write") else { panic!("one for each") };
    assert_eq!(values, [("sda".into(), Value::Number(100.0)), ("sdb".into(), Value::Number(26_000.0))]);
    let not_collected = sample(|r| r.disks = vec![], |r| r.disks = vec![disk("sda", 700)]);
    assert_eq!(system(&not_collected, "disk.write"), Instances::Many(vec![("sda".into(), Value::Absent)]));
}
