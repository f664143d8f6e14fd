//! Removed files that still take room, since somebody has them open.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::units::long_bytes;

static ABOUT: About = About {
    name: "removed-files",
    lane: Lane::Disk,
    title: "removed files that still take room",
    least: 0.0,
    calm: 0.0,
    causes: "a log that was removed while a program writes it; temporary files",
    next: &[Advice(Step::Yourself, "restart or reload who holds it"), Advice(Step::Removed, "all of them")],
    limits: &[HELD],
    is_of_limits: true,
    ..About::PLAIN
};
/// Bytes from which on they are worth a word, and are a warning.
const HELD: Limit = Limit {
    name: "held",
    what: "room that removed files still take",
    of: "",
    unit: Unit::Bytes,
    values: &[256e6, 10e9],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let all = &scene.sample.now.removed;
    let bytes: f64 = all.iter().filter_map(|row| row.bytes.float().value()).sum();
    let [notice, warning] = scene.two(&HELD);
    let severity = Severity::reached(bytes, [notice, warning, f64::INFINITY]);
    let known = all.iter().filter(|row| row.pid.value().is_some());
    let Some(main) = known.max_by_key(|row| row.bytes.value()).filter(|_| severity > Severity::Fine) else {
        return;
    };
    let size = main.bytes.float().value().unwrap_or(0.0);
    let pid = main.pid.value().unwrap_or(0);
    let who = Culprit {
        pid: Some(pid),
        start: main.start_ticks.value(),
        name: format!("{}[{pid}]", main.name),
        share: Some(size / bytes * 100.0),
    };
    let taken = long_bytes(bytes);
    let text = if all.len() == 1 {
        format!("{} was removed and still takes {taken}: {} has it open.", main.path, who.name)
    } else {
        let size = long_bytes(size);
        format!(
            "removed files that are still open take {taken}; {} holds {size} of it with {}.",
            who.name, main.path
        )
    };
    seen.push(Seen::new(severity, "", text).by([who]).with("removed", bytes, Unit::Bytes));
}
