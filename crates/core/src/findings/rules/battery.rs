//! A battery is nearly empty.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{CHARGE, Lane, Severity, battery_severity};
use crate::units::long_duration;

const ABOUT: About = About {
    name: "battery",
    lane: Lane::Heat,
    title: "a battery is nearly empty",
    least: 0.0,
    calm: 5.0,
    causes: "mains that are away",
    next: &[Advice(Step::Yourself, "save what must not be lost, or find mains")],
    limits: &[LEFT],
    ..About::PLAIN
};

/// Percent of the charge, as the parts have it.
const LEFT: Limit = Limit {
    name: "left",
    what: "charge that is left while it discharges",
    of: "",
    unit: Unit::Percent,
    values: &CHARGE,
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for battery in &scene.sample.now.batteries {
        let severity = battery_severity(battery, scene.three(&LEFT));
        let (Some(charge), true) = (battery.charge.float().value(), severity > Severity::Fine) else {
            continue;
        };
        let left = battery.seconds_left.float().value();
        let left = left.map_or(String::new(), |left| format!(", for {} at this pace", long_duration(left)));
        let name = &battery.name;
        let text = format!("{name} has {:.0} % left{left}.", charge / 100.0);
        seen.push(Seen::new(severity, &**name, text).by([Culprit::thing(&**name)]).with(
            format!("battery.charge{{{name}}}"),
            charge / 100.0,
            Unit::Percent,
        ));
    }
}
