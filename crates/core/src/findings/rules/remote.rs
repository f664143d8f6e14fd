//! A network file system whose server is slow.

use crate::catalogue::{Unit, remote_time, sent_again};
use crate::findings::culprit::Culprit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen, Simple};
use crate::findings::scene::Scene;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, SLOW_SERVER, Severity, remote_severity};
use crate::units::{short_count, short_wait};

const ABOUT: About = About {
    name: "remote-slow",
    lane: Lane::Disk,
    title: "a file server is slow",
    least: 3.0,
    calm: 10.0,
    explained_by: &["filesystem-silent", "link-full", "retransmits"],
    causes: "a busy server; a lossy or full link to it",
    next: &[
        Advice(Step::Lane(Lane::Disk), "look at the file systems among the parts of the disk"),
        Advice(Step::Lane(Lane::Network), "and at the link"),
    ],
    limits: &[WAIT],
    ..About::PLAIN
};

/// Seconds that an operation takes, as the lane has it.
const WAIT: Limit = Limit {
    name: "wait",
    what: "time that an operation of a network file system takes",
    of: "",
    unit: Unit::Delay,
    values: &SLOW_SERVER,
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Simple(&ABOUT, look))
}

fn look(scene: &Scene<'_>, seen: &mut Vec<Seen>) {
    for remote in scene.sample.parts(|reading| &reading.remotes[..]) {
        let severity = remote_severity(&remote, scene.three(&WAIT));
        if severity == Severity::Fine {
            continue;
        }
        let (mount, device) = (&remote.now.mount, &remote.now.device);
        let whole = remote_time(&remote, |r| r.whole_ms).value();
        let answer = remote_time(&remote, |r| r.answer_ms).value();
        let again = sent_again(&remote).value().filter(|again| *again >= 0.1);
        let said =
            again.map_or(String::new(), |again| format!(", {} sent again a second", short_count(again)));
        let text = match (whole, answer) {
            (Some(whole), Some(answer)) if answer >= 0.5 * whole => {
                format!("{mount} is slow: {device} takes {} to answer{said}.", short_wait(answer))
            }
            (Some(whole), _) => {
                format!(
                    "{mount} is slow: an operation takes {}, mostly on this machine{said}.",
                    short_wait(whole)
                )
            }
            _ => format!("{mount}: {device} does not answer in time{said}."),
        };
        let mut one = Seen::new(severity, &**mount, text).by([Culprit::thing(&**device)]);
        if let Some(whole) = whole {
            one = one.with(format!("nfs.wait{{{mount}}}"), whole, Unit::Delay);
        }
        if let Some(answer) = answer {
            one = one.with(format!("nfs.answer{{{mount}}}"), answer, Unit::Delay);
        }
        seen.push(one);
    }
}
