//! Memory of a process that only grows, and when there will be none left.

use super::grows::{Growing, LONG, YOUNG};
use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::limits;
use crate::text::Text;
use crate::units::{long_bytes, long_duration};
use std::collections::HashMap;

const ABOUT: About = About {
    name: "leak",
    lane: Lane::Memory,
    title: "memory that only grows",
    least: 0.0,
    calm: 5.0,
    causes: "a cache without a limit; a leak; a job whose data do not fit",
    next: &[
        Advice(Step::Inspect("memory"), "look at its memory by mapping"),
        Advice(Step::Act("TERM"), "stop or restart it before memory ends"),
    ],
    limits: &[GAINED, END],
    ..About::PLAIN
};
/// Seconds of steady growth at least; the farther the end is, the more.
const STEADY: f64 = 6.0;
/// Bytes gained at least, and by one that is young.
const GAINED: Limit = Limit {
    name: "gained",
    what: "bytes that a process gained: an old one, a young one",
    of: "",
    unit: Unit::Bytes,
    values: &[96e6, 192e6],
};
/// Seconds until the end: worth knowing, a warning, critical.
const END: Limit = Limit {
    name: "end",
    what: "time until memory ends",
    of: "",
    unit: Unit::Seconds,
    values: &[2.0 * 3600.0, 300.0, 30.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Leak::default())
}

/// Programs of which it is kept what they had when they ended.
const PROGRAMS: usize = 1_000;
/// A young process of a program that ended by itself may grow to so many times what that had.
const LIKE: f64 = 1.25;

#[derive(Default)]
struct Leak {
    growing: Growing,
    /// The most that a process of a program had when it ended by itself.
    ended: HashMap<Text, f64>,
}

impl Leak {
    /// Those that end while memory is there have shown how far they grow.
    fn learn(&mut self, scene: &Scene<'_>) {
        let kills = scene.sample.rate(|reading| reading.system.oom_kills).value().unwrap_or(0.0);
        let Some(before) = scene.sample.before.as_deref().filter(|_| kills <= 0.0) else { return };
        for row in scene.ended.iter().filter_map(|key| before.process(*key)) {
            let Some(rss) = row.rss_bytes.float().value() else { continue };
            if self.ended.len() < PROGRAMS || self.ended.contains_key(&row.program) {
                let most = self.ended.entry(row.program.clone()).or_default();
                *most = most.max(rss);
            }
        }
    }
}

impl Rule for Leak {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        self.learn(scene);
        let available = scene.sample.now.system.mem_available.float().value();
        let ended = &self.ended;
        self.growing.look(
            scene,
            |view| view.now.rss_bytes.float().value(),
            |view, growth| {
                let is_young = scene.age(view.now) < YOUNG;
                if growth.gained() < scene.two(&GAINED)[usize::from(is_young)] {
                    return;
                }
                let group = limits::groups(&view)
                    .filter_map(|group| {
                        let (limit, used) =
                            (group.now.memory_limit.value()?, group.now.memory_bytes.value()?);
                        Some(((limit - used).max(0) as f64, limits::short(&group.now.path).to_owned()))
                    })
                    .min_by(|a, b| a.0.total_cmp(&b.0));
                let (room, where_) = match (available, group) {
                    (Some(available), Some((left, group))) if left < available => {
                        (left, format!("its group {group}"))
                    }
                    (Some(available), _) => (available, "the machine".to_owned()),
                    (None, Some((left, group))) => (left, format!("its group {group}")),
                    (None, None) => return,
                };
                let end = room / growth.pace();
                if !growth.tells(end, STEADY) {
                    return;
                }
                let mut severity = match end {
                    end if end <= scene.three(&END)[2] => Severity::Critical,
                    end if end <= scene.three(&END)[1] => Severity::Warning,
                    end if end <= scene.three(&END)[0] => Severity::Notice,
                    _ => return,
                };
                if is_young {
                    // Programs grow while they start: until one has shown that it does not stop by itself only what is used up
                    // in seconds is trouble.
                    severity = match end {
                        end if end <= scene.three(&END)[2] / 2.0 => Severity::Critical,
                        end if end <= scene.three(&END)[2] * 2.0 => Severity::Warning,
                        _ if growth.seconds() >= LONG => Severity::Notice,
                        _ => return,
                    };
                    // Compilers grow like those before them, and end.
                    let like = ended.get(&view.now.program).is_some_and(|most| growth.level() <= LIKE * most);
                    if like && severity == Severity::Notice {
                        return;
                    }
                }
                let one = who(view.now);
                let text = format!(
                    "{} only grows: {} more in {}; at this pace the memory of {where_} is used up in {}.",
                    one.name,
                    long_bytes(growth.gained()),
                    long_duration(growth.seconds().round()),
                    long_duration(end.round())
                );
                let pid = view.now.pid.value().unwrap_or(0);
                seen.push(
                    Seen::new(severity, one.name.clone(), text)
                        .by([one])
                        .with(format!("rss@{pid}"), growth.level(), Unit::Bytes)
                        .with(format!("growth@{pid}"), growth.pace(), Unit::BytesPerSecond)
                        .with("mem.available", available.unwrap_or(room), Unit::Bytes),
                );
            },
        );
    }
}
