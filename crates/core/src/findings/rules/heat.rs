//! A part is near the temperature that its sensor states as the limit, or gets there.

use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::does;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, NEAR_HEAT, Severity, temperature_severity};
use crate::sorting::ColdSort as _;
use crate::units::{NANOS, long_duration};
use std::collections::BTreeMap;

const ABOUT: About = About {
    name: "heat",
    lane: Lane::Heat,
    title: "a part gets too hot",
    least: 3.0,
    calm: 10.0,
    explained_by: &["fan"],
    causes: "a fan that stands or is full of dust; more work than the cooling was made for; a warm room",
    next: &[
        Advice(Step::Lane(Lane::Heat), "look at the sensors"),
        Advice(Step::Act("nice"), "give less work to the hot part"),
    ],
    limits: &[LEFT],
    is_of_lane: true,
    ..About::PLAIN
};
/// Seconds over which it is seen where the temperature goes.
const TREND: f64 = 20.0;

/// Degrees that are left, as the lane has it.
const LEFT: Limit = Limit {
    name: "left",
    what: "degrees below the limit that a sensor states",
    of: "",
    unit: Unit::Celsius,
    values: &NEAR_HEAT,
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Heat::default())
}

#[derive(Default)]
struct Heat {
    since: BTreeMap<String, (f64, i64)>,
}

impl Rule for Heat {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let now = scene.sample.now.monotonic_ns();
        let mut near = vec![];
        for sensor in &scene.sample.now.sensors {
            let (Some(here), Some(limit)) =
                (sensor.temperature.float().value(), sensor.limit.float().value())
            else {
                continue;
            };
            let (here, limit) = (here / 1000.0, limit / 1000.0);
            let (from, since) = *self.since.entry(sensor.name.to_string()).or_insert((here, now));
            let seconds = (now - since) as f64 / NANOS as f64;
            let climb = (here - from) / seconds.max(f64::MIN_POSITIVE);
            if seconds >= TREND || here < from {
                self.since.insert(sensor.name.to_string(), (here, now));
            }
            let severity = temperature_severity(sensor, scene.three(&LEFT));
            if severity > Severity::Fine {
                near.push((severity, limit - here, &sensor.name, here, climb, seconds));
            }
        }
        near.cold_sort_by(|a, b| a.1.total_cmp(&b.1));
        let Some((severity, left, name, here, climb, seconds)) = near.first().copied() else { return };
        let end = left.max(0.0) / climb.max(f64::MIN_POSITIVE);
        let soon = if climb > 0.02 && seconds >= 5.0 && end < 600.0 {
            format!("; at this pace it is there in {}", long_duration(end.round()))
        } else {
            String::new()
        };
        let others = match near.len() {
            1 => String::new(),
            many => format!(", {} more are near theirs", many - 1),
        };
        // Who computes warms the processor, where it has much to do, and no other part.
        let works = is_of_cpu(name) && scene.cpu_in_use() >= WORKS;
        let culprits =
            if works { scene.culprits(scene.cpu_users(), Some(scene.cpu_in_use())) } else { vec![] };
        let mut text =
            format!("{name} is at {here:.0} °C, {:.0} below its limit{soon}{others}.", left.max(0.0));
        text += &does(&culprits, "uses", "use", "of the CPU time in use");
        seen.push(
            Seen::new(severity, "", text)
                .by(culprits)
                .with(format!("sensor.temperature{{{name}}}"), here, Unit::Celsius)
                .with(format!("sensor.limit{{{name}}}"), here + left, Unit::Celsius),
        );
    }
}

/// CPU time in use, in percent of one core, from which on it is what makes heat.
const WORKS: f64 = 50.0;

/// Whether a sensor is one of the processor.
fn is_of_cpu(name: &str) -> bool {
    let name = name.to_lowercase();
    ["package", "core", "cpu", "tctl", "tdie", "soc"].iter().any(|part| name.contains(part))
}
