//! What stands out: each rule against a made-up machine on which nothing else happens, the simulated night, and the laws of
//! the engine.

use dozor_core::demo::SimulatedMachine;
use dozor_core::demo::incidents::{self, CORES, Incident, Troubled, World, add, ended, incidents};
use dozor_core::findings::{Adjusted, Engine, Finding, History, Line, Verdict, rules};
use dozor_core::lane::{PerLane, Severity};
use dozor_core::reading::{HostFacts, Reading, TransferRow, raw};
use dozor_core::row::Row as _;
use dozor_core::sample::Sample;
use dozor_core::thinning::{Thinner, for_years};
use dozor_core::timeline::{Reach, Timeline};
use dozor_core::wanted::Wanted;
use std::sync::Arc;
use std::time::Duration;

/// Seconds of quiet before something happens, and how long it lasts.
const QUIET: i64 = 12;
const LASTS: i64 = 18;

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
        world.live();
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

/// The table of rules and scenarios: each finds its own incident with its culprit in time, and no other rule takes it for
/// something serious.
#[test]
fn every_rule_finds_its_incident_in_time_and_no_other_one_does() {
    let (mut missed, mut late, mut wrong, mut others) = (vec![], vec![], vec![], vec![]);
    println!("rule\tafter\tseverity\tculprit\tsentence");
    for case in incidents() {
        let (found, begin_ns) = run(&|world| case.set_up(world), &|world, second| case.happen(world, second));
        let Incident { rule, culprit, worst, .. } = case;
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

/// Ordinary life of a small machine: bursts, caches that are dropped, logs that are rotated, a job every ten minutes.
struct Ordinary {
    world: World,
    seed: u64,
    /// Memory of a cache that is dropped when it is large.
    cache: i64,
    /// Bytes of logs since they were rotated.
    logs: i64,
    /// Who is in a burst, and until when.
    burst: (i64, i64),
}

impl Ordinary {
    fn new(seed: u64) -> Ordinary {
        Ordinary { world: World::new(), seed, cache: 0, logs: 0, burst: (210, 0) }
    }

    /// A number below `end`; a linear congruential generator of Knuth's.
    fn below(&mut self, end: i64) -> i64 {
        self.seed = self.seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.seed >> 33) % end as u64) as i64
    }

    fn pass(&mut self) -> Arc<Reading> {
        const MIB: i64 = 1 << 20;
        let second = self.world.second;
        for (pid, core) in [(210, 1), (320, 2), (430, 3), (540, 0)] {
            let ticks = self.below(15);
            self.world.uses(pid, core, ticks);
            let [read, write, waits] = [200_000, 400_000, 300].map(|most| self.below(most));
            let row = self.world.process(pid);
            add(&mut row.read_any_bytes, read);
            add(&mut row.write_any_bytes, write);
            add(&mut row.write_bytes, write);
            add(&mut row.read_calls, read / 4_096 + 1);
            add(&mut row.switches_wait, waits);
        }
        if self.below(40) == 0 {
            self.burst = ([210, 320, 430][self.below(3) as usize], second + 2 + self.below(3));
        }
        let is_job = second % 600 < 30;
        if second < self.burst.1 && !is_job {
            self.world.uses(self.burst.0, self.burst.0 / 100 - 1, 80);
        }
        // The job of the night: half a minute on all cores.
        if is_job {
            (0..CORES).for_each(|core| self.world.uses(540, core, 55));
        }
        self.cache += MIB;
        if self.cache > (40 + self.below(40)) * MIB {
            self.cache = 0;
        }
        let (cache, files) = (self.cache, 20 + self.below(40));
        self.world.process(320).rss_bytes = raw(60 * MIB + cache);
        self.world.process(210).files = raw(files);
        let used = self.below(3) * MIB;
        self.logs += used;
        let rotated = if self.logs > 600 * MIB { std::mem::take(&mut self.logs) } else { 0 };
        // What was written lies in memory until the disk gets it all at once.
        let (flushes, small) = (second % 30 < 2, self.below(40));
        let [net, again, forks, warm, switches] =
            [4_000_000, 3, 6, 6_000, 2_000].map(|most| self.below(most));
        let bulk = if second % 300 < 4 { 40_000_000 } else { 0 };
        let now = &mut self.world.now;
        now.system.mem_available = raw((12 << 30) - cache);
        add(&mut now.filesystems[0].used, used - rotated);
        add(&mut now.filesystems[0].available, rotated - used);
        add(&mut now.disks[0].busy_ms, if flushes { 700 } else { small });
        add(&mut now.disks[0].writes, if flushes { 90 } else { 6 });
        add(&mut now.disks[0].write_ms, if flushes { 900 } else { 2 * small });
        add(&mut now.disks[0].write_bytes, if flushes { 60 * MIB } else { 200_000 });
        add(&mut now.interfaces[0].in_bytes, net);
        add(&mut now.interfaces[0].out_bytes, net / 3 + bulk);
        add(&mut now.system.tcp_segments, 3_000);
        add(&mut now.system.tcp_retransmits, again);
        add(&mut now.system.forks, forks);
        add(&mut now.system.switches, 500 + switches);
        add(&mut now.system.pressure_io_some, if flushes { 120_000 } else { 3_000 });
        add(&mut now.system.pressure_cpu_some, 20_000);
        now.sensors[0].temperature = raw(48_000 + warm);
        for order in 0..forks {
            now.ended.push(ended(order, "sh", 2_000));
        }
        self.world.pass()
    }
}

/// An hour in which nothing is wrong, of several machines: nothing may be reported but that somebody works.
#[test]
fn nothing_stands_out_in_an_ordinary_hour() {
    for seed in [1, 2_026, 77_777] {
        let (mut ordinary, mut engine, mut before) = (Ordinary::new(seed), Engine::default(), None);
        for _ in 0..3_600 {
            let now = ordinary.pass();
            engine.look(&Sample::new(World::host(), before.replace(now.clone()), now));
        }
        let all = engine.history().all();
        let told: Vec<String> =
            all.iter().map(|one| format!("{:?} {}", one.worst, one.worst_told().sentence)).collect();
        assert!(told.is_empty(), "{told:#?}");
    }
}

/// The demo of incidents: in the turn of each its rule finds it with its culprit, and while it is quiet nothing begins.
#[test]
fn the_incidents_of_the_demo_are_found_one_after_another() {
    let mut troubled = Troubled::new(None).expect("all of them");
    let (host, mut engine, mut before) = (troubled.host(), Engine::default(), None);
    let mut begins = vec![];
    for second in 0..troubled.seconds() {
        let now = troubled.pass();
        if troubled.turn(second).1 == incidents::QUIET {
            begins.push((troubled.turn(second).0.rule, troubled.turn(second).0.culprit, now.wall_ns()));
        }
        engine.look(&Sample::new(host.clone(), before.replace(now.clone()), now));
    }
    assert!(begins.len() >= rules::all().len());
    let (second, mut problems) = (1_000_000_000, vec![]);
    let all = engine.history().all();
    for (rule, culprit, begin) in &begins {
        let until = begin + incidents::LASTS * second;
        let own =
            all.iter().find(|one| one.about.name == *rule && (begin - second..until).contains(&one.from_ns));
        match own {
            Some(own) if own.last().culprits.first().is_some_and(|one| one.name.starts_with(culprit)) => {}
            Some(_) if culprit.is_empty() => {}
            own => problems.push(format!("{rule}: {own:?}")),
        }
    }
    // Between two incidents nothing begins.
    let happens = |wall: i64| {
        begins.iter().any(|(_, _, begin)| (begin - second..begin + incidents::LASTS * second).contains(&wall))
    };
    for one in all.iter().filter(|one| !happens(one.from_ns)) {
        problems.push(format!("while it is quiet: {} {}", one.name(), one.last().sentence));
    }
    assert!(problems.is_empty(), "{}", problems.join("\n"));
    assert!(Troubled::new(Some("nothing")).is_none());
}

#[test]
fn every_limit_of_a_rule_decides_whether_it_speaks() {
    let mut held_against = 0;
    for case in incidents() {
        let about = rules::all().iter().map(|rule| rule.about()).find(|about| about.name == case.rule);
        let about = about.expect("a rule");
        let speaks = |adjusted: &Adjusted| {
            let (found, _) = run_with(
                Engine::default().adjusted(adjusted),
                &|world| case.set_up(world),
                &|world, second| case.happen(world, second),
            );
            found.iter().find(|one| one.about.name == case.rule).map(|one| one.worst)
        };
        // All of its limits out of reach: it has nothing to say.
        let mut adjusted = Adjusted::default();
        for limit in about.limits {
            let never = vec!["never"; limit.values.len()].join(", ");
            adjusted.set(case.rule, limit.name, &never).expect("a value");
        }
        if !about.limits.is_empty() {
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
    assert!(held_against >= 36, "{held_against}");
}

#[test]
fn every_rule_has_a_scenario_and_a_name_of_its_own() {
    let mut named: Vec<&str> = rules::all().iter().map(|rule| rule.about().name).collect();
    let mut told: Vec<&str> = incidents().iter().map(|case| case.rule).collect();
    named.sort_unstable();
    told.sort_unstable();
    // Some have several.
    told.dedup();
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

/// A line of the report, with its sign.
fn line(line: &Line) -> String {
    let sign = line.severity.map_or(String::new(), |severity| format!("{} ", severity.sign()));
    format!("{}{sign}{}", line.lead, line.text)
}

#[test]
fn the_verdict_names_every_resource_and_says_what_was_ruled_out() {
    let (host, readings) = night(30..70);
    let engine = findings_of(&host, &readings);
    let last = Sample::new(host, Some(readings[38].clone()), readings[39].clone());
    let verdict = Verdict::new(&engine, &last, 39.0);
    assert_eq!(verdict.severity(), Severity::Critical);
    let text = verdict.lines(false).iter().map(line).collect::<Vec<_>>().join("\n");
    assert!(text.starts_with("◆ lynx-obs "), "{text}");
    for said in [
        "memory   ruled out:",
        "network  ruled out:",
        "heat     ruled out:",
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

/// What came, went and came again is one line with the times, and tells once what to do next.
#[test]
fn the_verdict_says_once_what_came_several_times() {
    let (mut world, mut engine, mut before) = (World::new(), Engine::default(), None);
    let mut last = None;
    for second in 0..120 {
        world.live();
        if second % 40 >= 20 {
            (0..CORES).for_each(|core| world.uses(540, core, 97));
            add(&mut world.now.system.udp_errors, 300);
        }
        let now = world.pass();
        let sample = Sample::new(World::host(), before.replace(now.clone()), now);
        engine.look(&sample);
        last = Some(sample);
    }
    let verdict = Verdict::new(&engine, &last.expect("a sample"), 119.0);
    let of = |rule: &str| verdict.findings.iter().filter(|one| one.about.name == rule).count();
    assert_eq!((of("cpu-full"), of("udp-lost")), (3, 3), "each of them is in the findings");
    for rule in ["cpu-full", "udp-lost"] {
        let over: Vec<bool> = verdict
            .findings
            .iter()
            .filter(|one| one.about.name == rule)
            .map(|one| one.until_ns.is_some())
            .collect();
        assert_eq!(over, [false, true, true], "what stands comes before what is over");
    }
    let lines: Vec<String> = verdict.lines(false).iter().map(line).collect();
    for said in ["all cores are busy", "UDP datagrams a second"] {
        let told: Vec<&String> = lines.iter().filter(|line| line.contains(said)).collect();
        assert!(told.iter().filter(|line| line.contains("(3 times, ")).count() == 1, "{lines:#?}");
    }
    assert_eq!(lines.iter().filter(|line| line.contains("next: look at the sockets")).count(), 1);
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
fn small_writes_that_are_waited_for_are_worth_knowing_although_the_disk_has_room() {
    let writes = |waited: i64| {
        run(&|_| {}, &move |world, _| {
            let disk = &mut world.now.disks[0];
            add(&mut disk.busy_ms, 550);
            add(&mut disk.writes, 160);
            add(&mut disk.write_ms, 900);
            add(&mut disk.queue_ms, 900);
            add(&mut disk.write_bytes, 160 * 4_096);
            add(&mut world.process(210).write_bytes, 150 * 4_096);
            add(&mut world.now.system.pressure_io_some, waited);
        })
        .0
    };
    let found = writes(420_000);
    let [one] = &found[..] else { panic!("{found:?}") };
    assert_eq!((one.about.name, one.worst), ("disk-saturated", Severity::Notice));
    let sentence = &one.last().sentence;
    assert!(sentence.starts_with("tasks wait 42 % of the time for sda, which is 55 % busy"), "{sentence}");
    assert!(sentence.contains("catalogd[210] writes 94 % of what is written"), "{sentence}");
    assert!(writes(150_000).is_empty(), "a little is nothing");
}

/// What a group left in memory is written by threads of the kernel, long after its processes did anything: they hand it over,
/// and the sentence says for whom.
#[test]
fn what_the_kernel_writes_out_for_a_group_is_told_with_the_group() {
    let written = |share: i64, culprit_group: &'static str| {
        let group = "/system.slice/catalogd.service";
        let sentence = run(
            &move |world| {
                world.now.system.transfers_noted = raw(1);
                world.process(320).kernel = raw(1);
                let rows = [(group, 77, 0), ("", 0, 0)].map(|(of, number, bytes)| TransferRow {
                    device: world.now.disks[0].name.clone(),
                    pid: raw(320),
                    start_ticks: world.process(320).start_ticks,
                    number: raw(1),
                    group: of.into(),
                    group_number: raw(number),
                    read_bytes: raw(0),
                    write_bytes: raw(bytes),
                    requests: raw(0),
                });
                world.now.transfers.extend(rows);
                world.now.transfers.sort_by_key(TransferRow::key);
                world.process(210).cgroup = culprit_group.into();
            },
            &move |world, _| {
                let disk = &mut world.now.disks[0];
                add(&mut disk.busy_ms, 980);
                add(&mut disk.writes, 900);
                add(&mut disk.write_ms, 60_000);
                add(&mut disk.queue_ms, 60_000);
                add(&mut disk.write_bytes, 90_000_000);
                for row in &mut world.now.transfers {
                    let bytes = if row.group.is_empty() { 100 - share } else { share };
                    add(&mut row.write_bytes, bytes * 900_000);
                }
                if !culprit_group.is_empty() {
                    add(&mut world.process(210).write_bytes, 40_000_000);
                }
                add(&mut world.now.system.pressure_io_some, 700_000);
            },
        );
        let one =
            sentence.0.iter().find(|one| one.about.name == "disk-saturated").expect("it is found").clone();
        let culprits = one.last().culprits.iter().map(|one| one.name.clone()).collect::<Vec<_>>();
        (one.last().sentence.clone(), culprits)
    };
    let said = "For catalogd.service threads of the kernel hand over 82 % of what is written.";
    let (sentence, culprits) = written(82, "");
    assert!(sentence.ends_with(said), "{sentence}");
    assert_eq!(culprits, ["catalogd.service"], "nobody else does it now");
    let (sentence, culprits) = written(82, "/system.slice/other.service");
    assert!(sentence.contains("catalogd[210] writes 44 %") && sentence.ends_with(said), "{sentence}");
    assert_eq!(culprits, ["catalogd[210]", "catalogd.service"]);
    let (sentence, _) = written(82, "/system.slice/catalogd.service");
    assert!(!sentence.contains("kernel"), "who is named is in the group: {sentence}");
    let (sentence, _) = written(30, "/system.slice/other.service");
    assert!(!sentence.contains("kernel"), "it is not the most: {sentence}");
}

#[test]
fn a_copy_of_some_seconds_fills_nothing_and_one_that_goes_on_does() {
    let copies = |seconds: i64| {
        run(&|_| {}, &move |world, second| {
            // Half a percent of the disk a second, which is full in two minutes.
            if second < seconds {
                add(&mut world.now.filesystems[0].used, 40 << 20);
                add(&mut world.now.filesystems[0].available, -(40 << 20));
            }
        })
        .0
    };
    let names = |found: &[Finding]| found.iter().map(|one| one.about.name).collect::<Vec<_>>();
    assert_eq!(names(&copies(10)), Vec::<&str>::new(), "25 minutes away, seen for ten seconds");
    assert_eq!(names(&copies(18)), Vec::<&str>::new());
    let (found, _) = run(&|world| world.now.filesystems[0].available = raw(8 << 30), &|world, _| {
        add(&mut world.now.filesystems[0].used, 40 << 20);
        add(&mut world.now.filesystems[0].available, -(40 << 20));
    });
    assert_eq!(names(&found), ["filesystem-full"], "three minutes away");
}

/// Of a job whose tasks grow and end by themselves the first is told; the others only where they grow on.
#[test]
fn a_task_that_grows_like_those_before_it_is_nothing_new() {
    let grows = |world: &mut World, second: i64| {
        let (turn, of_turn) = (second / 48, second % 48);
        let pid = 9_000 + turn;
        if of_turn == 0 {
            let start_ticks = raw(world.now.system.boot_ns.value().unwrap_or(0) / 10_000_000 + 10);
            world.now.processes.retain(|row| row.pid.value() < Some(9_000));
            let mut task = incidents::process(pid, "stack-tile", 540);
            task.start_ticks = start_ticks;
            world.now.processes.push(Arc::new(task));
        } else if of_turn < 36 || turn == 3 {
            add(&mut world.process(pid).rss_bytes, 80 << 20);
        }
    };
    let mut world = World::new();
    let (mut engine, mut before) = (Engine::default(), None);
    for second in 0..QUIET + 192 {
        if second >= QUIET {
            grows(&mut world, second - QUIET);
        }
        let now = world.pass();
        engine.look(&Sample::new(World::host(), before.replace(now.clone()), now));
    }
    let told: Vec<&str> = engine
        .history()
        .all()
        .iter()
        .filter(|one| one.about.name == "leak")
        .map(|one| one.subject.as_str())
        .collect();
    assert_eq!(told, ["stack-tile[9000]", "stack-tile[9003]"]);
}

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
        // One of those who use little gets a core for a fifth of the time that it wants one.
        add(&mut world.process(1).run_ns, 100_000_000);
        add(&mut world.process(1).user_ticks, 10);
        add(&mut world.process(1).core_wait_ns, 400_000_000);
        world.now.system.running = raw(20);
    });
    let queue = found.iter().find(|one| one.about.name == "cpu-queue").expect("it is told");
    assert_eq!(queue.worst, Severity::Warning);
    let sentence = &queue.last().sentence;
    assert!(sentence.ends_with(" init[1] has no core for 80 % of the time that it is ready."), "{sentence}");
}

/// What was kept for years tells less than what was seen at full pace, but nothing that was not so: whatever is found in it was
/// found then too, by the same rule and at that time.
#[test]
fn years_find_nothing_that_was_not_there() {
    const LONG: u64 = 2 * 3_600;
    const FINE: u64 = 2;
    const STEPS: [u64; 3] = [60, 600, 3_600];
    let mut machine = SimulatedMachine::new(1);
    machine.want(Wanted::recorded());
    let host = Arc::new(machine.host());
    let watch = |engine: &mut Engine, before: &mut Option<Arc<Reading>>, now: Arc<Reading>| {
        let sample = Sample::new(host.clone(), before.replace(now.clone()), now);
        engine.look(&sample);
        sample
    };
    let (mut fine, mut before) = (Engine::default(), None);
    let thinner = |step: u64| (Thinner::new(step as i64 * 1_000_000_000), Engine::default(), None);
    let mut tiers = STEPS.map(thinner);
    for second in (0..LONG).step_by(FINE as usize) {
        machine.advance_to(Duration::from_secs(second));
        let now = Arc::new(machine.reading());
        let sample = watch(&mut fine, &mut before, now.clone());
        let points = PerLane::from_fn(|lane| lane.point(&sample));
        for (thinner, engine, before) in &mut tiers {
            if let Some(thinned) = thinner.take(&now, &points) {
                watch(engine, before, Arc::new(for_years(&thinned.reading)));
            }
        }
    }
    let seen = fine.history().all();
    for (step, (_, engine, _)) in STEPS.into_iter().zip(&tiers) {
        let step_ns = step as i64 * 1_000_000_000;
        let found = engine.history().all();
        for one in found {
            let fits = |fine: &&Finding| {
                fine.about.name == one.about.name
                    && fine.from_ns <= one.until_ns + step_ns
                    && fine.until_ns >= one.from_ns - step_ns
            };
            let there = seen.iter().filter(fits).map(|fine| fine.worst).max();
            assert!(
                there >= Some(one.worst),
                "at {step} s: {} {}: {there:?}",
                one.name(),
                one.last().sentence
            );
        }
        let long = |one: &&Finding| one.until_ns - one.from_ns >= step_ns && one.worst >= Severity::Warning;
        let rules = |found: &[Finding]| {
            let rules = found.iter().filter(long).map(|one| one.about.name);
            rules.collect::<std::collections::BTreeSet<_>>()
        };
        let all: std::collections::BTreeSet<_> = found.iter().map(|one| one.about.name).collect();
        // Calls are not kept for years.
        let asked = rules(seen).into_iter().filter(|rule| *rule != "empty-calls");
        let missed: Vec<_> = asked.filter(|rule| !all.contains(rule)).collect();
        assert!(missed.is_empty(), "what lasts longer than {step} s is found as well: {missed:?}");
        println!("{step} s: {} of {} found", found.len(), seen.len());
    }
}
