//! A link has errors, or drops what comes.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::units::short_count;

const ABOUT: About = About {
    name: "link-errors",
    lane: Lane::Network,
    title: "a link has errors",
    least: 3.0,
    calm: 15.0,
    explained_by: &["link-full"],
    causes: "a bad cable or plug; a card or a queue that is too slow for what comes",
    next: &[
        Advice(Step::Lane(Lane::Network), "look at the interfaces"),
        Advice(Step::Yourself, "try another cable or port"),
    ],
    limits: &[ERRORS, DROPS],
    ..About::PLAIN
};
/// Errors, and drops, a second.
const ERRORS: Limit = Limit {
    name: "errors",
    what: "errors a second of a link",
    of: "",
    unit: Unit::PerSecond,
    values: &[0.1, 10.0, 1_000.0],
};
const DROPS: Limit = Limit {
    name: "drops",
    what: "packets a second that a link drops",
    of: "",
    unit: Unit::PerSecond,
    values: &[10.0, 500.0, f64::INFINITY],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for link in scene.sample.parts(|reading| &reading.interfaces[..]) {
        let both = |a: crate::known::Known<f64>, b: crate::known::Known<f64>| {
            a.value().unwrap_or(0.0) + b.value().unwrap_or(0.0)
        };
        let errors = both(link.rate(|i| i.in_errors), link.rate(|i| i.out_errors));
        let drops = both(link.rate(|i| i.in_drops), link.rate(|i| i.out_drops));
        let severity = Severity::reached(errors, scene.three(&ERRORS))
            .max(Severity::reached(drops, scene.three(&DROPS)));
        if severity == Severity::Fine {
            continue;
        }
        let name = &link.now.name;
        let words = [(errors, "errors"), (drops, "packets dropped")];
        let words: Vec<String> = words
            .iter()
            .filter(|(rate, _)| *rate > 0.0)
            .map(|(rate, what)| format!("{} {what}", short_count(*rate)))
            .collect();
        let text = format!("{name} has {} a second.", words.join(" and "));
        seen.push(
            Seen::new(severity, &**name, text)
                .by([Culprit::thing(&**name)])
                .with(format!("net.errors{{{name}}}"), errors, Unit::PerSecond)
                .with(format!("net.drops{{{name}}}"), drops, Unit::PerSecond),
        );
    }
}
