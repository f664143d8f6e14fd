//! What is usual on a machine at an hour is known from the days before, and said of what stands out.

use dozor_core::expr::Expression;
use dozor_core::findings::{Adjusted, Engine, Finding, OwnRule, Usual, found_in, rules};
use dozor_core::lane::{Lane, Severity};
use dozor_core::reading::{HostFacts, ProcessRow, Reading, raw};
use dozor_core::recording::Writer;
use dozor_core::timeline::Timeline;
use std::sync::Arc;

const DAY: i64 = 86_400;
/// Midnight of the day on which it is looked, in seconds since 1970.
const TODAY: i64 = 20_000 * DAY;
const NS: i64 = 1_000_000_000;

/// Counts what two cores do.
struct Machine {
    busy: i64,
    idle: i64,
    at: i64,
}

impl Machine {
    /// The reading `seconds` after the last, in which the cores were busy so much.
    fn pass(&mut self, seconds: i64, percent: i64) -> Reading {
        self.at += seconds;
        self.busy += 2 * seconds * percent;
        self.idle += 2 * seconds * (100 - percent);
        let mut reading = Reading::default();
        let (system, ns) = (&mut reading.system, raw(self.at * NS));
        (system.wall_ns, system.monotonic_ns, system.boot_ns) = (ns, ns, ns);
        (system.user, system.idle) = (raw(self.busy), raw(self.idle));
        for other in [
            &mut system.nice,
            &mut system.system,
            &mut system.iowait,
            &mut system.irq,
            &mut system.softirq,
            &mut system.steal,
        ] {
            *other = raw(0);
        }
        reading
    }

    fn begin(at: i64) -> Machine {
        Machine { busy: 0, idle: 0, at }
    }
}

fn host() -> Arc<HostFacts> {
    Arc::new(HostFacts { name: "lynx-obs".into(), cores: 2, ticks_per_second: 100, ..HostFacts::default() })
}

/// A recording of some days: at 02:00 to 03:00 the cores are busy as `nights` says, the oldest first, and today at 02:20 nearly
/// all of the time.
fn recorded(nights: &[i64]) -> Timeline {
    let mut writer = Writer::new(host(), None);
    let mut bytes = vec![];
    writer.begin(&mut bytes);
    let mut put = |reading: Reading| writer.put(&Arc::new(reading), &mut bytes).expect("memory");
    let first = TODAY - nights.len() as i64 * DAY;
    let mut machine = Machine::begin(first);
    put(machine.pass(1, 1));
    for night in nights {
        // The afternoon before is another matter.
        let to_two = (machine.at / DAY * DAY + 2 * 3_600) - machine.at;
        put(machine.pass(if to_two > 0 { to_two } else { to_two + DAY }, 1));
        for minute in 0..60 {
            put(machine.pass(60, if minute % 20 == 19 { 2 } else { *night }));
        }
        for _ in 0..30 {
            put(machine.pass(600, 99));
        }
    }
    put(machine.pass(TODAY + 2 * 3_600 + 1_200 - machine.at, 1));
    for second in 0..30 {
        let mut reading = machine.pass(1, 97);
        if second >= 10 {
            let (pid, start_ticks) = (raw(77), raw(1));
            reading.processes.push(Arc::new(ProcessRow { pid, start_ticks, ..ProcessRow::default() }));
        }
        put(reading);
    }
    writer.finish(&mut bytes);
    Timeline::open(bytes).expect("our own")
}

fn today(nights: &[i64]) -> Finding {
    let timeline = recorded(nights);
    let end = timeline.end();
    let history = found_in(&timeline, end - 30..end, &mut |_| {}).expect("readable");
    let found = history.all().iter().rfind(|one| one.about.name == "cpu-full" && !one.over);
    found.expect("all cores are busy").clone()
}

#[test]
fn what_is_so_every_night_is_said_to_be_usual() {
    let found = today(&[92, 95, 96, 94]);
    let told = found.last();
    assert!(told.usual, "{told:?}");
    assert!(
        told.sentence.ends_with(" Usual at this hour: 92 to 96 % on the last 4 days."),
        "{}",
        told.sentence
    );
}

#[test]
fn what_never_was_so_at_this_hour_is_held_against_the_nights_before() {
    let found = today(&[8, 12, 20, 15, 9]);
    let told = found.last();
    assert!(!told.usual, "{told:?}");
    assert!(told.sentence.ends_with(" On the last 5 days at this hour: 8 to 20 %."), "{}", told.sentence);
}

#[test]
fn without_enough_days_nothing_is_said_of_them() {
    let found = today(&[8, 12]);
    assert!(!found.last().usual && !found.last().sentence.contains("days"), "{}", found.last().sentence);
    let timeline = recorded(&[8, 12]);
    assert_eq!(Usual::of(&timeline, (TODAY + 8_000) * NS).lane(Lane::Cpu), None);
    assert_eq!(Usual::of(&recorded(&[8, 12, 9]), (TODAY + 8_000) * NS).lane(Lane::Heat), None, "no sensor");
}

#[test]
fn a_clock_that_shows_anything_at_all_has_no_usual_hour() {
    let timeline = recorded(&[8, 12, 20]);
    for wall in [i64::MIN, i64::MIN + 1, -1, 0, i64::MAX] {
        assert_eq!(Usual::of(&timeline, wall).lane(Lane::Cpu), None, "{wall}");
    }
}

#[test]
fn of_the_same_hour_only() {
    let usual = |hour: i64| Usual::of(&recorded(&[8, 12, 20]), (TODAY + hour * 3_600) * NS).lane(Lane::Cpu);
    let two = usual(2).expect("known");
    assert_eq!((two.low.round(), two.high.round(), two.days), (8.0, 20.0, 3));
    // Every ten minutes are too few to say something about an hour.
    assert_eq!(usual(5), None);
}

#[test]
fn what_is_usual_stands_behind_what_is_not() {
    let timeline = recorded(&[92, 95, 96]);
    let own = OwnRule {
        name: "later".to_owned(),
        when: Expression::parse("pid = 77").expect("an expression"),
        seconds: 2.0,
        severity: Severity::Notice,
        say: "it is there".to_owned(),
        bell: false,
        run: vec![],
    };
    let mut adjusted = Adjusted::default();
    adjusted.set("unexplained-cpu", "off", "true").expect("a rule");
    let mut engine = Engine::with(rules::all().into_iter().chain([own.rule()]).collect()).adjusted(&adjusted);
    let end = timeline.end();
    engine.learn(&timeline, timeline.moment(end - 1).expect("the newest").wall_ns);
    timeline
        .walk(end - 30..end, dozor_core::timeline::Reach::All, |_, sample| {
            engine.look(sample);
            Ok::<(), dozor_core::recording::ReadError>(())
        })
        .expect("readable");
    // What is not usual began later, is no worse, and comes first.
    let wall = engine.until_ns();
    let standing = engine.history().at(wall);
    let names: Vec<(&str, bool)> = standing.iter().map(|one| (one.about.name, one.at(wall).usual)).collect();
    assert_eq!(names, [("later", false), ("cpu-full", true)]);
    assert_eq!(standing[0].at(wall).severity, standing[1].at(wall).severity);
}
