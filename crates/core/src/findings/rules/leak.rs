//! Memory of a process that only grows, and when there will be none left.

use super::grows::Growing;
use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::lane::{Lane, Severity};
use crate::limits;
use crate::units::{long_bytes, long_duration};

const ABOUT: About = About {
    name: "leak",
    lane: Lane::Memory,
    title: "memory that only grows",
    least: 0.0,
    calm: 10.0,
    explained_by: &[],
    causes: "a cache without a limit; a leak; a job whose data do not fit",
    next: "look at its memory by mapping (enter, memory); stop or restart it before memory ends (x)",
    limits: &[GAINED, END],
};
/// Seconds of steady growth.
const STEADY: f64 = 6.0;
/// Bytes gained at least, and by one that is young.
const GAINED: Limit = Limit {
    rule: "leak",
    name: "gained",
    what: "bytes that a process gained: an old one, a young one",
    unit: Unit::Bytes,
    values: &[96e6, 192e6],
};
/// Seconds below which a process is young: programs grow when they start.
const YOUNG: f64 = 60.0;
/// Seconds until the end: worth knowing, a warning, critical.
const END: Limit = Limit {
    rule: "leak",
    name: "end",
    what: "time until memory ends",
    unit: Unit::Seconds,
    values: &[2.0 * 3600.0, 300.0, 30.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Leak(Growing::default()))
}

struct Leak(Growing);

impl Rule for Leak {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let available = scene.sample.now.system.mem_available.float().value();
        self.0.look(
            scene,
            |view| view.now.rss_bytes.float().value(),
            |view, growth| {
                let is_young = scene.age(view.now) < YOUNG;
                if growth.seconds() < STEADY || growth.gained() < scene.two(&GAINED)[usize::from(is_young)] {
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
                let mut severity = match end {
                    end if end <= scene.three(&END)[2] => Severity::Critical,
                    end if end <= scene.three(&END)[1] => Severity::Warning,
                    end if end <= scene.three(&END)[0] => Severity::Notice,
                    _ => return,
                };
                if is_young {
                    // Until it has shown that it does not stop by itself.
                    severity = match end {
                        end if end <= scene.three(&END)[2] / 2.0 => Severity::Critical,
                        end if end <= scene.three(&END)[2] * 2.0 => Severity::Warning,
                        _ => Severity::Notice,
                    };
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
