//! A control group is held back by its limit of CPU time.

use crate::catalogue::{Unit, listed};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::{Scene, is_member, who};
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::limits;

const ABOUT: About = About {
    name: "group-throttled",
    lane: Lane::Cpu,
    title: "a group is at its CPU limit",
    least: 3.0,
    calm: 8.0,
    causes: "a limit that is too small for bursts; a loop in the group",
    next: &[
        Advice(Step::Inspect(""), "look at its processes"),
        Advice(Step::Yourself, "raise the limit, or give them less to do"),
    ],
    limits: &[HELD],
    is_of_limits: true,
    ..About::PLAIN
};
/// Percent of the periods in which it is held back.
const HELD: Limit = Limit {
    name: "held",
    what: "share of the periods in which a group was held back",
    of: "",
    unit: Unit::Percent,
    values: &[25.0, 75.0, f64::INFINITY],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for group in scene.sample.parts(|reading| &reading.groups[..]) {
        let Some(held) = limits::throttled(&group).value() else { continue };
        let severity = Severity::reached(held, scene.three(&HELD));
        // A hand full of periods says nothing.
        let periods = group.rate(|g| g.periods).value().unwrap_or(0.0) * scene.seconds;
        if severity == Severity::Fine || periods < 4.0 {
            continue;
        }
        let path = group.now.path.to_string();
        let name = limits::short(&group.now.path).to_owned();
        let limit = limits::cpu_limit(group.now).value();
        let used = limits::cpu(&group).value();
        let cpu = listed("cpu");
        let busiest = scene
            .doers()
            .filter(|view| is_member(view, &path))
            .filter_map(|view| Some((who(view.now), cpu.of(&view).number()?)))
            .filter(|(_, used)| *used > 0.0)
            .max_by(|a, b| a.1.total_cmp(&b.1));
        let by = busiest.as_ref().map_or(String::new(), |(one, _)| format!(" {} uses most of it.", one.name));
        let may = limit.map_or(String::new(), |limit| format!("may use {limit:.0} % of a core and "));
        let text = format!("{name} {may}is held back in {held:.0} % of the periods.{by}");
        // Groups of version 1 do not say how much they used.
        let of_group = |own: f64| used.map(|used| own / used.max(own).max(1e-9) * 100.0);
        let main = busiest.map(|(one, own)| Culprit { share: of_group(own), ..one });
        let mut one = Seen::new(severity, path.clone(), text)
            .by(main.into_iter().chain([Culprit::thing(name)]))
            .with(format!("group.throttled{{{path}}}"), held, Unit::Percent);
        if let Some(used) = used {
            one = one.with(format!("group.cpu{{{path}}}"), used, Unit::PercentOfCore);
        }
        if let Some(limit) = limit {
            one = one.with(format!("group.cpu_limit{{{path}}}"), limit, Unit::PercentOfCore);
        }
        seen.push(one);
    }
}
