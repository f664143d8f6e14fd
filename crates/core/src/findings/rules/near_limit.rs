//! Something is near a number that it may not pass: open files of a process, tasks of a group.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::limits;

const ABOUT: About = About {
    name: "near-limit",
    lane: Lane::Cpu,
    title: "near a limit of files or tasks",
    least: 2.0,
    calm: 8.0,
    explained_by: &["descriptor-leak", "thread-leak"],
    causes: "a limit that is too small for the work; something that is opened and not closed",
    next: &[Advice(Step::Act("open files"), "raise the limit before the next one fails")],
    limits: &[NEAR],
    is_of_limits: true,
    ..About::PLAIN
};
const NEAR: Limit = Limit {
    name: "used",
    what: "share of a limit in use",
    of: "",
    unit: Unit::Percent,
    values: &[85.0, 97.0, f64::INFINITY],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for group in scene.sample.parts(|reading| &reading.groups[..]) {
        let Some(used) = limits::usage(group.now.tasks, group.now.tasks_limit).value() else { continue };
        let severity = Severity::reached(used, scene.three(&NEAR));
        if severity == Severity::Fine {
            continue;
        }
        let name = limits::short(&group.now.path);
        let [now, most] = [group.now.tasks, group.now.tasks_limit].map(|raw| raw.value().unwrap_or(0));
        let text = format!("{name} has {now} of the {most} tasks that it may have.");
        seen.push(
            Seen::new(severity, format!("tasks {}", group.now.path), text).by([Culprit::thing(name)]).with(
                format!("group.tasks{{{}}}", group.now.path),
                now as f64,
                Unit::Number,
            ),
        );
    }
    for view in scene.doers() {
        let Some(used) = limits::usage(view.now.files, view.now.files_limit).value() else { continue };
        let severity = Severity::reached(used, scene.three(&NEAR));
        if severity == Severity::Fine {
            continue;
        }
        let one = who(view.now);
        let [now, most] = [view.now.files, view.now.files_limit].map(|raw| raw.value().unwrap_or(0));
        let text = format!("{} has {now} of the {most} files open that it may have.", one.name);
        let pid = view.now.pid.value().unwrap_or(0);
        seen.push(Seen::new(severity, format!("files {}", one.name), text).by([one]).with(
            format!("files@{pid}"),
            now as f64,
            Unit::Number,
        ));
    }
}
