//! Time itself: a machine that slept, a clock that was moved, readings that are lost.

use crate::catalogue::Unit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::sample::Gap;
use crate::units::{NANOS, long_duration};

/// The name of this rule, whose cases come where there is no sample.
pub const NAME: &str = "time";

const ABOUT: About = About {
    name: NAME,
    lane: Lane::Cpu,
    title: "time: sleep, a clock that is moved, lost readings",
    least: 0.0,
    calm: 20.0,
    causes: "a suspend; a time service that corrects the clock; a damaged recording",
    next: &[Advice(Step::Yourself, "rates over it are unknown; what came before and after stands")],
    is_of_limits: true,
    ..About::PLAIN
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

/// Notifications of ended processes that were lost.
fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let lost = scene.sample.rate(|reading| reading.system.notifications_lost).value().unwrap_or(0.0);
    if lost > 0.0 {
        let text = format!(
            "the kernel lost word of ended processes {:.0} times: more ended than are counted.",
            lost * scene.seconds
        );
        seen.push(Seen::new(Severity::Notice, "", text).with("notifications.lost", lost, Unit::PerSecond));
    }
}

/// What is said about a gap.
pub fn gap(gap: &Gap) -> Option<Seen> {
    let seconds = |ns: &i64| (*ns as f64 / NANOS as f64).abs();
    let (text, seconds) = match gap {
        Gap::Suspend(ns) => (format!("the machine slept for {}.", long_duration(seconds(ns))), seconds(ns)),
        Gap::ClockChange(ns) => {
            let way = if *ns > 0 { "forward" } else { "back" };
            (format!("somebody set the clock {way} by {}.", long_duration(seconds(ns))), seconds(ns))
        }
        Gap::Lost => ("readings are lost here.".to_owned(), 0.0),
        Gap::Restart => return None,
    };
    Some(Seen::new(Severity::Notice, "", text).with("gap", seconds, Unit::Seconds))
}
