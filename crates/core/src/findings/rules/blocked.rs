//! Tasks that stay blocked in the kernel.

use super::lasting::{Is, Lasting};
use crate::catalogue::Unit;
use crate::findings::limit::Limit;
use crate::findings::rule::{About, Rule, Seen};
use crate::findings::scene::Scene;
use crate::findings::scene::who;
use crate::findings::step::{Advice, Step};
use crate::lane::{Lane, Severity};
use crate::reading::ProcessKey;
use crate::sample::process_state;
use crate::sorting::ColdSort as _;
use crate::units::long_duration;

const ABOUT: About = About {
    name: "blocked",
    lane: Lane::Disk,
    title: "tasks stay blocked in the kernel",
    least: 0.0,
    calm: 3.0,
    explained_by: &["filesystem-silent", "remote-slow", "disk-saturated"],
    causes: "a server or a device that does not answer; a saturated disk; a fault of a driver",
    next: &[
        Advice(Step::Inspect("threads"), "look at what it waits for"),
        Advice(Step::Act("KILL"), "end it with KILL, if its wait allows that"),
    ],
    limits: &[STAYS],
    ..About::PLAIN
};
/// Seconds in the same state, with no work done: a warning, critical.
const STAYS: Limit = Limit {
    name: "time",
    what: "for how long a task is blocked: warning, critical",
    of: "",
    unit: Unit::Seconds,
    values: &[8.0, 120.0],
};

pub fn rule() -> Box<dyn Rule> {
    Box::new(Blocked::default())
}

#[derive(Default)]
struct Blocked(Lasting);

impl Rule for Blocked {
    fn about(&self) -> &'static About {
        &ABOUT
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        self.0.follow(scene, scene.doers(), |view| {
            // Who ran in between was only caught waiting.
            let ran = view.before.is_none_or(|before| {
                before.run_ns != view.now.run_ns || before.system_ticks != view.now.system_ticks
            });
            match (process_state(view.now), ran) {
                (Some("blocked"), false) => Is::So,
                (Some("blocked"), true) => Is::Anew,
                _ => Is::Not,
            }
        });
        let mut all: Vec<(ProcessKey, f64)> = self.0.for_seconds(scene.two(&STAYS)[0]).collect();
        all.cold_sort_by(|a, b| b.1.total_cmp(&a.1));
        let Some((first, longest)) = all.first().copied() else { return };
        let Some(row) = scene.sample.now.process(first) else { return };
        let severity = if longest >= scene.two(&STAYS)[1] { Severity::Critical } else { Severity::Warning };
        let others = match all.len() {
            1 => String::new(),
            many => format!(" and {} more", many - 1),
        };
        let main = who(row);
        let text = format!(
            "{}{others} blocked in the kernel for {}{}.",
            main.name,
            long_duration(longest.round()),
            end_of_wait(&row.wait_on)
        );
        let named = all.iter().take(3).filter_map(|(key, _)| scene.sample.now.process(*key));
        seen.push(Seen::new(severity, "", text).by(named.map(|row| who(row))).with(
            "tasks.blocked",
            all.len() as f64,
            Unit::Number,
        ));
    }
}

/// What can end a wait in the kernel, by the function that somebody waits in: of those who wait for a server, for a program
/// that serves files, or for a child until it runs, KILL is let through.
fn end_of_wait(function: &str) -> String {
    const KILLABLE: [&str; 10] = [
        "killable",
        // Of vfork(2).
        "kernel_clone",
        "fuse_",
        "request_wait_answer",
        "rpc_",
        "nfs",
        "wait_for_response",
        "p9_",
        "vfork",
        "ceph_",
    ];
    const NOT: [&str; 9] = [
        "io_schedule",
        "jbd2_",
        "xlog_",
        "blk_",
        "wait_on_buffer",
        "rwsem_",
        "submit_bio_wait",
        "md_",
        "scsi_",
    ];
    if function.is_empty() {
        return ": signals wait until that ends; KILL may end it".to_owned();
    }
    let has = |parts: &[&str]| parts.iter().any(|part| function.contains(part));
    if has(&KILLABLE) {
        format!(" ({function}): only KILL ends this wait")
    } else if has(&NOT) {
        format!(" ({function}): no signal is delivered until that ends")
    } else {
        format!(" ({function}): signals wait until that ends; KILL may end it")
    }
}

#[cfg(test)]
mod tests {
    use super::end_of_wait;

    #[test]
    fn a_wait_is_killable_by_the_function_that_it_is_in() {
        for (function, said) in [
            ("request_wait_answer", "only KILL ends this wait"),
            ("rpc_wait_bit_killable", "only KILL ends this wait"),
            ("jbd2_log_wait_commit", "no signal is delivered"),
            ("", "KILL may end it"),
            ("folio_wait_bit_common", "KILL may end it"),
        ] {
            assert!(end_of_wait(function).contains(said), "{function}: {}", end_of_wait(function));
        }
    }
}
