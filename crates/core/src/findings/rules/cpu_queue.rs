//! More threads want to run than there are cores.

use crate::catalogue::{Unit, Value, cpu_busy, listed};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::{does, who};
use crate::lane::{Lane, Severity};
use crate::text::Text;
use std::collections::HashMap;

const ABOUT: About = About {
    name: "cpu-queue",
    lane: Lane::Cpu,
    title: "threads wait for a core",
    least: 5.0,
    calm: 8.0,
    explained_by: &["forks", "short-lived"],
    causes: "more work at once than there are cores; a job that starts too many workers",
    next: "look at who uses the CPU; give the job less of it (x), or pin it to some cores",
    limits: &[QUEUE, LONG],
};
/// Threads for each core from which on it is told, from which on others are harmed.
const QUEUE: Limit = Limit {
    rule: "cpu-queue",
    name: "queue",
    what: "runnable tasks per core: told, critical",
    unit: Unit::Number,
    values: &[1.75, 4.0],
};
/// Seconds after which harm to others is a warning, and critical.
const LONG: Limit = Limit {
    rule: "cpu-queue",
    name: "time",
    what: "for how long there is a queue: warning, critical",
    unit: Unit::Seconds,
    values: &[15.0, 60.0],
};
/// Percent of one core's time from which on it is told who else waits.
const HARM: f64 = 10.0;
/// Share of the CPU time in use from which on one party has it for itself.
const ONE_PARTY: f64 = 0.7;

pub fn rule() -> Box<dyn Rule> {
    Box::new(Queue { lasts: 0.0, of_several: 0.0 })
}

/// For how long it lasts, and for how long several parties compete.
struct Queue {
    lasts: f64,
    of_several: f64,
}

impl Rule for Queue {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let system = &scene.sample.now.system;
        let Some(running) = system.running.float().value() else { return };
        let busy = cpu_busy(scene.sample).value().unwrap_or(0.0);
        let queue = running / scene.cores();
        if queue < scene.two(&QUEUE)[0] || busy < 90.0 || running < scene.cores() + 2.0 {
            (self.lasts, self.of_several) = (0.0, 0.0);
            return;
        }
        self.lasts += scene.seconds;
        let alone = largest_party(scene) >= ONE_PARTY || scene.nice_share() >= 50.0;
        self.of_several = if alone { 0.0 } else { self.of_several + scene.seconds };
        // Who waits for nobody but himself is harmed by nobody.
        let severity = match self.of_several {
            seconds if seconds >= scene.two(&LONG)[1] && queue >= scene.two(&QUEUE)[1] => Severity::Critical,
            seconds if seconds >= scene.two(&LONG)[0] => Severity::Warning,
            _ => Severity::Notice,
        };
        let culprits = scene.culprits(scene.cpu_users(), Some(scene.cpu_in_use()));
        let own = if alone { ", nearly all of one job: it waits for itself" } else { "" };
        let mut sentence = format!("{running:.0} threads want {:.0} cores{own}.", scene.cores());
        sentence += &does(&culprits, "uses", "use", "of the CPU time in use");
        if !alone && let Some(harmed) = harmed(scene, &culprits) {
            sentence += &harmed;
        }
        let mut one = Seen::new(severity, "", sentence).by(culprits);
        one = one.with("tasks.running", running, Unit::Number).with("cpu.total", busy, Unit::Percent);
        if let Some(stalled) = scene.sample.rate(|r| r.system.pressure_cpu_some).value() {
            one = one.with("pressure.cpu.some", stalled / 1e4, Unit::Percent);
        }
        seen.push(one);
    }
}

/// Who waits most for a core beside those who use the CPU, as a sentence's end.
fn harmed(scene: &Scene<'_>, culprits: &[Culprit]) -> Option<String> {
    let (cpu, wait) = (listed("cpu"), listed("core_wait"));
    let others = scene.doers().filter(|view| {
        let name = &*view.now.name;
        !culprits
            .iter()
            .any(|culprit| culprit.name.strip_prefix(name).is_some_and(|rest| rest.starts_with(['[', ' '])))
    });
    let waits = others.filter_map(|view| Some((wait.of(&view).number()?, view)));
    let (waited, view) =
        waits.max_by(|(a, _), (b, _)| a.total_cmp(b)).filter(|(waited, _)| *waited >= HARM)?;
    let share = waited / (waited + cpu.of(&view).number()?) * 100.0;
    Some(format!(" {} has no core for {share:.0} % of the time that it is ready.", who(view.now).name))
}

/// The largest share of the CPU time in use that one service, or one session of somebody, has.
fn largest_party(scene: &Scene<'_>) -> f64 {
    let cpu = listed("cpu");
    let mut parties: HashMap<(Text, Option<i64>), f64> = HashMap::new();
    let mut all = 0.0;
    let gone = scene.gone();
    let gone = (0..gone.now.processes.len()).map(|at| gone.process(at));
    for view in scene.doers().chain(gone) {
        let Value::Number(used) = cpu.of(&view) else { continue };
        all += used;
        // Within one service there may be several sessions, where the service is that of a user.
        *parties.entry((view.now.service.clone(), view.now.session.value())).or_default() += used;
    }
    parties.into_values().fold(0.0, f64::max) / all.max(scene.cpu_in_use() * 0.8).max(f64::MIN_POSITIVE)
}
