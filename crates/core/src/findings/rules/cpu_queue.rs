//! More threads want to run than there are cores.

use crate::catalogue::{Unit, Value, cpu_busy, listed};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::{does, who};
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::limits;
use crate::reading::ProcessRow;
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
    next: &[
        Advice(Step::Lane(Lane::Cpu), "look at who uses the CPU"),
        Advice(Step::Act("nice"), "give the job less of it"),
        Advice(Step::Act("cores"), "or pin it to some cores"),
    ],
    limits: &[QUEUE, LONG],
    is_of_lane: true,
    ..About::PLAIN
};
/// Threads for each core from which on it is told, from which on others are harmed.
const QUEUE: Limit = Limit {
    name: "queue",
    what: "runnable tasks per core: told, critical",
    of: "",
    unit: Unit::Number,
    values: &[1.75, 4.0],
};
/// Seconds after which harm to others is a warning, and critical.
const LONG: Limit = Limit {
    name: "time",
    what: "for how long there is a queue: warning, critical",
    of: "",
    unit: Unit::Seconds,
    values: &[15.0, 60.0],
};
/// Percent of one core's time from which on it is told who else waits.
const HARM: f64 = 10.0;
/// Share of the CPU time in use from which on one party has it for itself.
const ONE_PARTY: f64 = 0.7;

pub fn rule() -> Box<dyn Rule> {
    Box::new(Queue::default())
}

/// For how long several parties compete.
#[derive(Default)]
struct Queue {
    of_several: f64,
}

/// Runnable threads and the busy share of the CPU, where more want to run than there are cores.
fn queue(scene: &Scene<'_>) -> Option<(f64, f64)> {
    let running = scene.sample.now.system.running.float().value()?;
    let busy = cpu_busy(scene.sample).value().unwrap_or(0.0);
    let is_long = running / scene.cores() >= scene.two(&QUEUE)[0] && running >= scene.cores() + 2.0;
    (is_long && busy >= 90.0).then_some((running, busy))
}

/// Whether one party has nearly all for itself, or most gives way to others.
fn is_alone(scene: &Scene<'_>) -> bool {
    largest_party(scene) >= ONE_PARTY || scene.nice_share() >= 50.0
}

impl Rule for Queue {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let Some(found) = queue(scene) else {
            self.of_several = 0.0;
            return;
        };
        let alone = is_alone(scene);
        self.of_several = if alone { 0.0 } else { self.of_several + scene.seconds };
        seen.push(self.of(scene, found, alone));
    }

    fn tell(&self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        seen.extend(queue(scene).map(|found| self.of(scene, found, is_alone(scene))));
    }
}

impl Queue {
    fn of(&self, scene: &Scene<'_>, (running, busy): (f64, f64), alone: bool) -> Seen {
        let queue = running / scene.cores();
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
        one
    }
}

/// Who waits most for a core beside those who use the CPU, as a sentence's end: a program of somebody else, of ordinary
/// niceness, that has been there for a while and that no limit of its own holds back.
fn harmed(scene: &Scene<'_>, culprits: &[Culprit]) -> Option<String> {
    /// Seconds below which somebody is only just starting.
    const YOUNG: f64 = 10.0;
    let (cpu, wait) = (listed("cpu"), listed("core_wait"));
    let is_named = |row: &ProcessRow| {
        let name = &*row.name;
        culprits
            .iter()
            .any(|one| one.name.strip_prefix(name).is_some_and(|rest| rest.starts_with(['[', ' '])))
    };
    let all = &scene.sample.now.processes;
    let parties: Vec<(Text, Option<i64>)> =
        all.iter().filter(|row| is_named(row)).map(|row| party(row)).collect();
    let waits = scene.doers().filter_map(|view| {
        let row = view.now;
        let waited = wait.of(&view).number().filter(|waited| *waited >= HARM)?;
        let is_ordinary = row.kernel.value() != Some(1) && row.nice.value().unwrap_or(0) <= 0;
        let is_other = !is_named(row) && !parties.contains(&party(row));
        let is_held_back = limits::groups(&view)
            .any(|group| limits::throttled(&group).value().is_some_and(|held| held > 0.0));
        (is_ordinary && is_other && !is_held_back && scene.age(row) >= YOUNG).then_some((waited, view))
    });
    let (waited, view) = waits.max_by(|(a, _), (b, _)| a.total_cmp(b))?;
    let share = waited / (waited + cpu.of(&view).number()?) * 100.0;
    Some(format!(" {} has no core for {share:.0} % of the time that it is ready.", who(view.now).name))
}

/// Whose work somebody's is: within one service there may be several sessions, where the service is that of a user.
fn party(row: &ProcessRow) -> (Text, Option<i64>) {
    (row.service.clone(), row.session.value())
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
        *parties.entry(party(view.now)).or_default() += used;
    }
    parties.into_values().fold(0.0, f64::max) / all.max(scene.cpu_in_use() * 0.8).max(f64::MIN_POSITIVE)
}
