//! A fan stands still, or is slower than its board allows.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity, fan_severity};

const ABOUT: About = About {
    name: "fan",
    lane: Lane::Heat,
    title: "a fan stands still",
    least: 2.0,
    calm: 5.0,
    causes: "dust, a cable, a worn bearing",
    next: &[Advice(Step::Lane(Lane::Heat), "look at the sensors; it will get hot")],
    ..About::PLAIN
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for sensor in &scene.sample.now.sensors {
        let severity = fan_severity(sensor);
        let (Some(speed), true) = (sensor.fan.float().value(), severity > Severity::Fine) else { continue };
        let name = &sensor.name;
        let least = sensor.fan_min.float().value().unwrap_or(0.0);
        let text = if speed == 0.0 {
            format!("{name} stands still; the least is {least:.0} rpm.")
        } else {
            format!("{name} turns at {speed:.0} rpm only; the least is {least:.0}.")
        };
        seen.push(Seen::new(severity, &**name, text).by([Culprit::thing(&**name)]).with(
            format!("sensor.fan{{{name}}}"),
            speed,
            Unit::Rpm,
        ));
    }
}
