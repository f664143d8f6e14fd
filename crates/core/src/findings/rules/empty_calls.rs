//! Calls that transfer nothing: a loop that reads and reads at an end.

use crate::catalogue::{Unit, Value, listed};
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::units::short_count;

const ABOUT: About = About {
    name: "empty-calls",
    lane: Lane::Cpu,
    title: "calls that move nothing",
    least: 3.0,
    calm: 5.0,
    causes: "a loop that does not notice the end of a file or a pipe; a poll without a wait",
    next: &[
        Advice(Step::Closely, "look closely at what it reads"),
        Advice(Step::Act("TERM"), "then stop or restart it"),
    ],
    limits: &[CALLS],
    ..About::PLAIN
};
/// Calls a second from which on it is a loop, and from which on it takes a core.
const CALLS: Limit = Limit {
    name: "calls",
    what: "calls a second that transfer nothing",
    of: "",
    unit: Unit::PerSecond,
    values: &[10_000.0, 100_000.0, f64::INFINITY],
};
/// Bytes of a call below which it transfers nothing.
const NOTHING: f64 = 0.5;

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for (calls, bytes, verb) in [("read_calls", "read_any", "reads"), ("write_calls", "write_any", "writes")]
    {
        let (calls_metric, bytes_metric) = (listed(calls), listed(bytes));
        for view in scene.doers() {
            let Value::Number(rate) = calls_metric.of(&view) else { continue };
            let severity = Severity::reached(rate, scene.three(&CALLS));
            if severity == Severity::Fine {
                continue;
            }
            let Value::Number(moved) = bytes_metric.of(&view) else { continue };
            if moved / rate >= NOTHING {
                continue;
            }
            let one = who(view.now);
            let used = listed("cpu").of(&view).number().unwrap_or(0.0);
            let text = format!(
                "{} {verb} nothing, {} times a second, and uses {used:.0} % of a core for it.",
                one.name,
                short_count(rate)
            );
            let pid = view.now.pid.value().unwrap_or(0);
            seen.push(
                Seen::new(severity, one.name.clone(), text)
                    .by([one])
                    .with(format!("{calls}@{pid}"), rate, Unit::PerSecond)
                    .with(format!("{bytes}@{pid}"), moved, Unit::BytesPerSecond)
                    .with(format!("cpu@{pid}"), used, Unit::PercentOfCore),
            );
        }
    }
}
