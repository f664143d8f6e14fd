//! A file system that does not answer.

use crate::catalogue::Unit;
use crate::findings::culprit::Culprit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{FULL, Lane, filesystem_severity};

const ABOUT: About = About {
    name: "filesystem-silent",
    lane: Lane::Disk,
    title: "a file system does not answer",
    least: 0.0,
    calm: 2.0,
    causes: "a file server that is down or cannot be reached; a device that hangs",
    next: &[Advice(Step::Holders, "whoever touches its files waits; look who has it open")],
    ..About::PLAIN
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for row in scene.sample.now.filesystems.iter().filter(|row| row.answers.value() == Some(0)) {
        let text = format!("{} does not answer; whoever touches its files waits.", row.mount);
        let severity = filesystem_severity(row, FULL);
        seen.push(Seen::new(severity, &*row.mount, text).by([Culprit::thing(&*row.device)]).with(
            format!("fs.answers{{{}}}", row.mount),
            0.0,
            Unit::Number,
        ));
    }
}
