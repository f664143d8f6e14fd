//! One core spends its time with interrupts.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::reading::CoreRow;
use crate::sample::PartView;

const ABOUT: About = About {
    name: "interrupts-on-one-core",
    lane: Lane::Cpu,
    title: "interrupts fill one core",
    least: 3.0,
    calm: 6.0,
    causes: "a network card with one queue; interrupts that are bound to one core; a flood of small packets",
    next: &[Advice(Step::Lane(Lane::Cpu), "look at the interrupts among the parts of the CPU")],
    limits: &[SHARE],
    ..About::PLAIN
};
/// Share of a core that its interrupts take: worth knowing, harmful.
const SHARE: Limit = Limit {
    name: "share",
    what: "share of one core that serves interrupts",
    of: "",
    unit: Unit::Percent,
    values: &[40.0, 75.0, f64::INFINITY],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn share(core: &PartView<'_, CoreRow>) -> Option<f64> {
    let of = |class: fn(&CoreRow) -> crate::known::Raw| core.rate(class).value();
    let (irq, softirq) = (of(|c| c.irq)?, of(|c| c.softirq)?);
    let classes: [fn(&CoreRow) -> crate::known::Raw; 8] = [
        |c| c.user,
        |c| c.nice,
        |c| c.system,
        |c| c.idle,
        |c| c.iowait,
        |c| c.irq,
        |c| c.softirq,
        |c| c.steal,
    ];
    let all: f64 = classes.iter().filter_map(|class| of(*class)).sum();
    (all > 0.0).then(|| (irq + softirq) / all * 100.0)
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let sample = scene.sample;
    let cores = sample.parts(|reading| &reading.cores[..]);
    let shares: Vec<(i64, f64)> =
        cores.filter_map(|core| Some((core.now.number.value()?, share(&core)?))).collect();
    if shares.len() < 2 {
        return;
    }
    let Some((number, most)) = shares.iter().copied().max_by(|a, b| a.1.total_cmp(&b.1)) else { return };
    let others = (shares.iter().map(|(_, share)| share).sum::<f64>() - most) / (shares.len() - 1) as f64;
    let severity = Severity::reached(most, scene.three(&SHARE));
    // Where all cores have as many, it is not this one.
    if severity == Severity::Fine || others > most / 2.0 {
        return;
    }
    let here = sample.parts(|reading| &reading.interrupts[..]);
    let source = here
        .filter(|row| row.now.core.value() == Some(number))
        .filter_map(|row| Some((row.now.source.clone(), row.rate(|r| r.count).value()?)))
        .filter(|(_, rate)| *rate >= 100.0)
        .max_by(|a, b| a.1.total_cmp(&b.1));
    let said = source.as_ref().map_or(String::new(), |(source, rate)| {
        format!(", most of them from {source} ({}/s)", crate::units::short_count(*rate))
    });
    let text = format!("core {number} spends {most:.0} % of its time with interrupts{said}.");
    let metric = format!("core.softirq{{{number}}}");
    let mut one = Seen::new(severity, "", text).with(metric, most, Unit::Percent);
    if let Some((source, rate)) = source {
        one = one
            .with(format!("irq.rate{{{source},{number}}}"), rate, Unit::PerSecond)
            .by([Culprit::thing(&*source)]);
    }
    seen.push(one);
}
