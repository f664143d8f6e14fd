//! One core full while the others have room: a program with a single busy thread.

use crate::catalogue::{Unit, Value, core_busy, cpu_busy, listed};
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};

const ABOUT: About = About {
    name: "hot-core",
    lane: Lane::Cpu,
    title: "one core is full while others have room",
    least: 8.0,
    calm: 5.0,
    explained_by: &["interrupts-on-one-core", "empty-calls"],
    causes: "a program with one busy thread: more cores do not make it faster",
    next: &[
        Advice(Step::Inspect("threads"), "look at its threads"),
        Advice(Step::Closely, "or closely at what it does"),
    ],
    limits: &[HOT],
    ..About::PLAIN
};
const HOT: Limit =
    Limit { name: "busy", what: "how busy a single core is", of: "", unit: Unit::Percent, values: &[95.0] };
const CALM: f64 = 75.0;
/// More than a single core can give: ticks are whole ones.
const ONE_CORE: f64 = 105.0;

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let sample = scene.sample;
    if sample.now.cores.len() < 2 || cpu_busy(sample).value().is_none_or(|busy| busy >= CALM) {
        return;
    }
    let cores = sample.parts(|reading| &reading.cores[..]);
    let busy = cores.filter_map(|core| Some((core.now.number.value()?, core_busy(&core).value()?)));
    let hottest = busy.max_by(|a, b| a.1.total_cmp(&b.1)).filter(|(_, busy)| *busy >= scene.one(&HOT));
    let cpu = listed("cpu");
    let used = |at: &usize| match cpu.of(&sample.process(*at)) {
        Value::Number(used) => Some((*at, used)),
        _ => None,
    };
    let all = scene.active.iter().filter_map(used);
    let (sentence, culprit, evidence) = if let Some((number, busy)) = hottest {
        let there = all
            .filter(|(at, used)| {
                *used >= 50.0 && sample.now.processes[*at].core.value() == Some(number) && sample.stayed(*at)
            })
            .max_by(|a, b| a.1.total_cmp(&b.1));
        let by = there.map(|(at, used)| (who(&sample.now.processes[at]), used));
        let said = by.as_ref().map_or(String::new(), |(who, used)| match used {
            used if *used <= ONE_CORE => format!(" {} uses {used:.0} % of a core there.", who.name),
            used => format!(" {} ran there last; its threads use {used:.0} % of a core together.", who.name),
        });
        let text = format!("core {number} is {busy:.0} % busy while others have room.{said}");
        (text, by, Some((format!("core.total{{{number}}}"), busy)))
    } else {
        // A single loop that the scheduler moves about fills no core, and is as slow as one that does.
        let moving = all.filter(|(at, used)| {
            (scene.one(&HOT) - 5.0..=ONE_CORE).contains(used)
                && sample.now.processes[*at].threads.value().unwrap_or(1) <= 1
        });
        let Some((at, used)) = moving.max_by(|a, b| a.1.total_cmp(&b.1)) else { return };
        let by = who(&sample.now.processes[at]);
        let text = format!("{} uses one core whole ({used:.0} %) while others have room.", by.name);
        (text, Some((by, used)), None)
    };
    let mut one = Seen::new(Severity::Notice, "", sentence);
    if let Some((metric, busy)) = evidence {
        one = one.with(metric, busy, Unit::Percent);
    }
    if let Some((by, used)) = culprit {
        let metric = by.pid.map_or_else(|| "cpu".to_owned(), |pid| format!("cpu@{pid}"));
        one = one.with(metric, used, Unit::PercentOfCore).by([by]);
    }
    seen.push(one);
}
