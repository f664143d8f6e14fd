//! A control group is at its limit of memory.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::limits;
use crate::units::{long_bytes, short_count};

const ABOUT: About = About {
    name: "group-memory",
    lane: Lane::Memory,
    title: "a group is at its memory limit",
    least: 2.0,
    calm: 8.0,
    explained_by: &["oom-kill"],
    causes: "a limit that is too small; a leak in the group. Caches of files fill a group too, and give way",
    next: &[
        Advice(Step::Inspect("memory"), "look at what its processes hold"),
        Advice(Step::Yourself, "raise the limit before one is ended"),
    ],
    is_of_limits: true,
    ..About::PLAIN
};
/// Part of the limit that is near it.
const NEAR: f64 = 0.95;
/// Part of the limit that its processes hold themselves, from which on it is not the cache of files.
const OWN: f64 = 0.75;
/// How often a second something had to be taken away so that it is trouble.
const OFTEN: f64 = 20.0;

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for group in scene.sample.parts(|reading| &reading.groups[..]) {
        let (Some(limit), Some(used)) =
            (group.now.memory_limit.float().value(), group.now.memory_bytes.float().value())
        else {
            continue;
        };
        let failures = group.rate(|g| g.at_limit).value().unwrap_or(0.0);
        if failures <= 0.0 || used < NEAR * limit {
            continue;
        }
        let path = group.now.path.to_string();
        let name = limits::short(&group.now.path).to_owned();
        let held: Vec<(Culprit, f64)> = scene
            .members(&path)
            .filter_map(|view| {
                let rss = view.now.rss_bytes.float().value()?
                    - view.now.shared_bytes.float().value().unwrap_or(0.0);
                Some((who(view.now), rss))
            })
            .collect();
        let own: f64 = held.iter().map(|(_, rss)| rss).sum();
        let swaps = group.now.swap_bytes.value().unwrap_or(0) > 0;
        let severity = if own >= OWN * limit || swaps && failures >= OFTEN {
            Severity::Warning
        } else {
            Severity::Notice
        };
        let main = held.into_iter().max_by(|a, b| a.1.total_cmp(&b.1));
        let by = main
            .as_ref()
            .map_or(String::new(), |(one, rss)| format!(" {} holds {}.", one.name, long_bytes(*rss)));
        let text = format!(
            "{name} is at its limit of {} of memory; {} times a second pages are taken away for more.{by}",
            long_bytes(limit),
            short_count(failures)
        );
        let main = main.map(|(one, rss)| Culprit { share: Some(rss / limit * 100.0), ..one });
        seen.push(
            Seen::new(severity, path.clone(), text)
                .by(main.into_iter().chain([Culprit::thing(name)]))
                .with(format!("group.memory{{{path}}}"), used, Unit::Bytes)
                .with(format!("group.memory_limit{{{path}}}"), limit, Unit::Bytes)
                .with(format!("group.at_limit{{{path}}}"), failures, Unit::PerSecond),
        );
    }
}
