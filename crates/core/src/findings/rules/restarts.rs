//! A program that ends and is started again and again.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::lane::{Lane, Severity};
use crate::row::Row as _;
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
    causes: "a service that fails and is started again at once",
    next: "look at its log; stop the service until the cause is found",
    limits: &[WITHIN, STARTS],
};
/// Seconds within which starts count.
const WITHIN: Limit = Limit {
    rule: "restarts",
    name: "within",
    what: "the time in which a program starts again and again",
    unit: Unit::Seconds,
    values: &[120.0],
};
/// Starts: worth knowing, a warning.
const STARTS: Limit = Limit {
    rule: "restarts",
    name: "starts",
    what: "its starts in that time: notice, warning",
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
                let key = view.now.key();
                debug_assert!(key.pid > 0);
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
    }
}
