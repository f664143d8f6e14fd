//! Somebody writes the same pages again and again, so that the kernel counts many times what reaches the disk.

use crate::catalogue::{Unit, listed};
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::units::long_bytes;

const ABOUT: About = About {
    name: "rewriter",
    lane: Lane::Disk,
    title: "the same pages are written again and again",
    least: 2.0,
    calm: 5.0,
    explained_by: &["disk-saturated"],
    causes: "a file that is changed in place and never left alone; a map of shared memory",
    next: &[Advice(Step::Inspect("files"), "look at its files")],
    limits: &[MUCH],
    ..About::PLAIN
};
/// Bytes per second, and times what is written, from which on it is worth a word.
const MUCH: Limit = Limit {
    name: "dirtied",
    what: "bytes a second that a process writes into memory",
    of: "",
    unit: Unit::BytesPerSecond,
    values: &[64e6],
};
const TIMES: f64 = 8.0;

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    let (dirtied, write) = (listed("dirtied"), listed("write"));
    let found = scene.doers().filter_map(|view| {
        let pages = dirtied.of(&view).number().filter(|pages| *pages >= scene.one(&MUCH))?;
        let bytes = write.of(&view).number()?;
        (pages >= TIMES * bytes).then_some((view, pages, bytes))
    });
    let Some((view, pages, bytes)) = found.max_by(|a, b| a.1.total_cmp(&b.1)) else { return };
    let one = who(view.now);
    let text = format!(
        "{} rewrites the same pages: {}/s dirtied, {}/s written.",
        one.name,
        long_bytes(pages),
        long_bytes(bytes)
    );
    let pid = view.now.pid.value().unwrap_or(0);
    seen.push(
        Seen::new(Severity::Notice, one.name.clone(), text)
            .by([one])
            .with(format!("dirtied@{pid}"), pages, Unit::BytesPerSecond)
            .with(format!("write@{pid}"), bytes, Unit::BytesPerSecond),
    );
}
