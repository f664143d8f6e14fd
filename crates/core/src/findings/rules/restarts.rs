//! A program that ends and is started again and again.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::reading::with_pid;
use crate::signals::by_number;
use crate::text::Text;
use crate::units::{NANOS, long_duration};
use std::collections::{BTreeMap, VecDeque};

const ABOUT: About = About {
    name: "restarts",
    lane: Lane::Cpu,
    title: "a program is started again and again",
    least: 0.0,
    calm: 45.0,
    explained_by: &["short-lived", "oom-kill"],
    causes: "a service, or a program that a supervisor watches, that fails and is started again at once",
    next: &[Advice(Step::Yourself, "look at its log; stop the service until the cause is found")],
    limits: &[WITHIN, STARTS],
    is_of_limits: true,
    ..About::PLAIN
};
/// Seconds within which starts count.
const WITHIN: Limit = Limit {
    name: "within",
    what: "the time in which a program starts again and again",
    of: "",
    unit: Unit::Seconds,
    values: &[120.0],
};
/// Starts: worth knowing, a warning.
const STARTS: Limit = Limit {
    name: "starts",
    what: "its starts in that time: notice, warning",
    of: "",
    unit: Unit::Number,
    values: &[3.0, 6.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Restarts::default())
}

/// When a program of a service was started anew after it had ended.
#[derive(Default)]
struct Restarts {
    starts: BTreeMap<(Text, Text), VecDeque<i64>>,
    /// Programs of services that ended lately.
    ended: BTreeMap<(Text, Text), i64>,
    /// When programs ended badly, by the parent that started them and how they ended.
    failed: BTreeMap<(i64, Text, i64), VecDeque<i64>>,
}

/// Microseconds that somebody lives at least who has failed: tools of scripts say no by their exit status, and at once.
const LIVED: i64 = 50_000;
/// Ends a second beyond which it is a loop of a script, not somebody who is started again.
const LOOP: f64 = 2.0;
/// Parents and programs that are followed.
const FOLLOWED: usize = 1_000;
/// The first process of all starts services, which are told by their names.
const INIT: i64 = 1;

/// A signal's number in how somebody ended; wait(2).
fn signal(how: i64) -> Option<i64> {
    Some(how & 0x7f).filter(|signal| *signal != 0)
}

impl Restarts {
    /// Follows what one parent starts again and again, of the same name and with the same end.
    fn crashes(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let now = scene.sample.now.monotonic_ns();
        let ago = |when: i64| (now - when) as f64 / NANOS as f64;
        for row in &scene.sample.now.ended {
            let (Some(parent), Some(how)) = (row.ppid.value(), row.status.value()) else { continue };
            if how == 0 {
                // What also ends well does not fail.
                self.failed.retain(|(of, name, _), _| (*of, name) != (parent, &row.name));
            } else if parent > INIT
                && (signal(how).is_some() || row.elapsed.value() >= Some(LIVED))
                && self.failed.len() < FOLLOWED
            {
                self.failed.entry((parent, row.name.clone(), how)).or_default().push_back(now);
            }
        }
        let within = scene.one(&WITHIN);
        for ends in self.failed.values_mut() {
            while ends.front().is_some_and(|when| ago(*when) > within) {
                ends.pop_front();
            }
        }
        // Who is gone starts nobody any more.
        self.failed.retain(|(parent, ..), ends| {
            !ends.is_empty() && with_pid(&scene.sample.now.processes, *parent).is_some()
        });
        for ((parent, name, how), ends) in &self.failed {
            let over = ends.front().map_or(0.0, |first| ago(*first));
            let [some, many] = scene.two(&STARTS);
            let count = ends.len() as f64;
            let severity = match signal(*how) {
                // Somebody else ends them: that is no fault of theirs.
                Some(signal) if [1, 2, 3, 9, 13, 14, 15].contains(&signal) => continue,
                Some(_) if count >= many => Severity::Warning,
                Some(_) if count >= some => Severity::Notice,
                None if count >= many => Severity::Notice,
                _ => continue,
            };
            let is_over = ends.back().is_none_or(|last| ago(*last) > 30.0);
            if is_over || count > LOOP * over.max(1.0) {
                continue;
            }
            let Some(row) = with_pid(&scene.sample.now.processes, *parent) else { continue };
            let starter = who(row);
            let end = match signal(*how) {
                Some(signal) => by_number(signal as i32).map_or_else(
                    || format!("with signal {signal}"),
                    |signal| format!("with {}", signal.name),
                ),
                None => format!("with status {}", how >> 8 & 0xff),
            };
            let text = format!(
                "{name} ended {end} {} times in {}; {} keeps restarting it.",
                ends.len(),
                long_duration(over.max(1.0).round()),
                starter.name
            );
            seen.push(
                Seen::new(severity, format!("{name} of {}", starter.name), text)
                    .by([Culprit::thing(&**name), starter])
                    .with("starts", count, Unit::Number),
            );
        }
    }
}

impl Rule for Restarts {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let now = scene.sample.now.monotonic_ns();
        let ago = |when: i64| (now - when) as f64 / NANOS as f64;
        let before = scene.sample.before.as_deref();
        for place in scene.sample.gone_places() {
            let Some(row) = before.map(|before| &before.processes[place]) else { continue };
            if !row.service.is_empty() {
                self.ended.insert((row.service.clone(), row.name.clone()), now);
            }
        }
        self.ended.retain(|_, when| ago(*when) < 30.0);
        for view in scene.doers().filter(|view| view.born) {
            let name = (view.now.service.clone(), view.now.name.clone());
            if !self.ended.contains_key(&name) {
                continue;
            }
            // Of a program that there are several of others come and go all the time.
            let all = scene.sample.now.processes.iter();
            let same = all.filter(|row| row.service == name.0 && row.name == name.1).count();
            if same == 1 {
                let starts = self.starts.entry(name).or_default();
                starts.push_back(now);
            }
        }
        for starts in self.starts.values_mut() {
            while starts.front().is_some_and(|when| ago(*when) > scene.one(&WITHIN)) {
                starts.pop_front();
            }
        }
        self.starts.retain(|_, starts| !starts.is_empty());
        for ((service, name), starts) in &self.starts {
            let severity = match starts.len() {
                many if many as f64 >= scene.two(&STARTS)[1] => Severity::Warning,
                many if many as f64 >= scene.two(&STARTS)[0] => Severity::Notice,
                _ => continue,
            };
            // It is over when it stays.
            if starts.back().is_none_or(|last| ago(*last) > 30.0) {
                continue;
            }
            let over = starts.front().map_or(0.0, |first| ago(*first));
            let there =
                scene.sample.now.processes.iter().find(|row| row.service == *service && row.name == *name);
            let text = format!(
                "{name} of {service} was started {} times in {}: it does not stay.",
                starts.len(),
                long_duration(over.max(1.0).round())
            );
            seen.push(
                Seen::new(severity, format!("{service} {name}"), text)
                    .by([there.map_or_else(|| Culprit::thing(&**name), |row| who(row))])
                    .with("starts", starts.len() as f64, Unit::Number),
            );
        }
        self.crashes(scene, seen);
    }
}
