//! CPU time that no process accounts for.

use crate::catalogue::{Unit, cpu_share, unaccounted};
use crate::exited::{out_of_sight, unseen};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::units::short_count;

const ABOUT: About = About {
    name: "unexplained-cpu",
    lane: Lane::Cpu,
    title: "CPU time that nobody visible explains",
    least: 5.0,
    calm: 10.0,
    explained_by: &["short-lived", "interrupts-on-one-core"],
    causes: "processes that come and go unseen (root sees their ends); tasks of other containers; work of the kernel itself",
    next: &[Advice(Step::Access, "see what is missing; root sees who ends")],
    limits: &[SHARE],
    ..About::PLAIN
};
const SHARE: Limit = Limit {
    name: "share",
    what: "share of all CPU time that nobody visible explains",
    of: "",
    unit: Unit::Percent,
    values: &[20.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let sample = scene.sample;
    let Some(used) = unaccounted(sample).value() else { return };
    let interrupts = [cpu_share(sample, |core| core.irq), cpu_share(sample, |core| core.softirq)];
    let interrupts: f64 = interrupts.iter().filter_map(|share| share.value()).sum::<f64>() * scene.cores();
    let hidden = used - interrupts;
    let share = hidden / scene.cores();
    if share < scene.one(&SHARE) || !unseen(sample).is_empty() {
        return;
    }
    let forks = sample.rate(|reading| reading.system.forks).value().unwrap_or(0.0);
    let (who, started) = if let Some((seen, all)) = out_of_sight(sample) {
        (format!("{} tasks that cannot be seen from here", all - seen), None)
    } else if forks < 20.0 {
        ("nobody who can be seen".to_owned(), None)
    } else {
        let many = format!("{} processes or threads a second that come and go unseen", short_count(forks));
        (many, scene.culprits(&scene.ranking("cpu_children"), None).into_iter().next())
    };
    let by = started.as_ref().map_or(String::new(), |one| format!(", many of them started by {}", one.name));
    let text = format!("{share:.0} % of all CPU time goes to {who}{by}.");
    seen.push(
        Seen::new(Severity::Notice, "", text).by(started.into_iter().chain([Culprit::thing(who)])).with(
            "unaccounted",
            used,
            Unit::PercentOfCore,
        ),
    );
}
