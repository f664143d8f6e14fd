//! Open files of a process that only grow, and when it may open no more.

use super::grows::{Growing, LONG, YOUNG};
use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::units::{long_duration, short_count};

const ABOUT: About = About {
    name: "descriptor-leak",
    lane: Lane::Cpu,
    title: "open files that only grow",
    least: 0.0,
    calm: 5.0,
    causes: "files or connections that are opened and never closed",
    next: &[
        Advice(Step::Inspect("files"), "look at its open files"),
        Advice(Step::Act("open files"), "raise the limit, or restart it"),
    ],
    limits: &[GAINED, SHARE, END],
    is_of_limits: true,
    ..About::PLAIN
};
/// Seconds of growth, of one that is near its limit.
const STEADY: f64 = 5.0;
/// Share of what it may open.
const SHARE: Limit = Limit {
    name: "share",
    what: "share of the files that it may open: of one that grows for half a minute, of any",
    of: "",
    unit: Unit::Percent,
    values: &[10.0, 50.0],
};
const GAINED: Limit = Limit {
    name: "gained",
    what: "descriptors that a process gained",
    of: "files",
    unit: Unit::Number,
    values: &[200.0],
};
const END: Limit = Limit {
    name: "end",
    what: "time until it reaches its limit",
    of: "",
    unit: Unit::Seconds,
    values: &[24.0 * 3600.0, 600.0, 20.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Descriptors(Growing::default()))
}

struct Descriptors(Growing);

impl Rule for Descriptors {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        self.0.look(
            scene,
            |view| view.now.files.float().value(),
            |view, growth| {
                let Some(limit) = view.now.files_limit.float().value() else { return };
                let share = growth.level() / limit.max(1.0) * 100.0;
                if growth.gained() < scene.one(&GAINED) || share < scene.two(&SHARE)[0] {
                    return;
                }
                let end = (limit - growth.level()).max(0.0) / growth.pace();
                // Programs open many files while they start; who has half of all that it may is not waited for.
                let needed = if share >= scene.two(&SHARE)[1] {
                    STEADY
                } else if scene.age(view.now) < YOUNG {
                    return;
                } else {
                    LONG
                };
                if growth.seconds() < needed {
                    return;
                }
                let severity = match end {
                    end if end <= scene.three(&END)[2] => Severity::Critical,
                    end if end <= scene.three(&END)[1] => Severity::Warning,
                    end if end <= scene.three(&END)[0] => Severity::Notice,
                    _ => return,
                };
                let one = who(view.now);
                let text = format!(
                    "{} opens files and does not close them: {:.0} of {}, {} more a second; none are left in {}.",
                    one.name,
                    growth.level(),
                    short_count(limit),
                    short_count(growth.pace()),
                    long_duration(end.round())
                );
                let pid = view.now.pid.value().unwrap_or(0);
                seen.push(
                    Seen::new(severity, one.name.clone(), text)
                        .by([one])
                        .with(format!("files@{pid}"), growth.level(), Unit::Number)
                        .with(format!("files_limit@{pid}"), limit, Unit::Number),
                );
            },
        );
    }
}
