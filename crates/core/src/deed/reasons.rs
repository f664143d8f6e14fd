//! Why something should not be done to a process without a second thought.

use super::Target;
use crate::reading::{ProcessKey, ProcessRow};
use crate::row::Row as _;
use crate::sample::Sample;
use std::collections::HashMap;

/// A reason to think again; kill(2), signal(7).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Reason {
    /// With it the machine stops.
    First,
    /// It is this program.
    Dozor,
    /// This program runs in it: the shell of the terminal.
    Shell,
    /// This program runs below it, and so does the connection or the terminal that one sits at.
    Connection,
    /// It is a thread of the kernel.
    Kernel,
    /// It belongs to somebody else.
    OtherUser,
}

impl Reason {
    /// In words, about one process.
    pub const fn words(self) -> &'static str {
        match self {
            Reason::First => {
                "it is the first process: the kernel drops what it does not handle, KILL too; with its end the machine stops"
            }
            Reason::Dozor => "it is Dozor itself",
            Reason::Shell => "Dozor runs in it: it is the shell that you sit at",
            Reason::Connection => "Dozor runs below it: your terminal or your connection hangs on it",
            Reason::Kernel => "it is a thread of the kernel: no signal ends it",
            Reason::OtherUser => "it belongs to somebody else",
        }
    }
}

/// Who acts.
#[derive(Clone, Copy, Debug, Default)]
pub struct Me<'a> {
    /// PID of this program, where it runs on the machine that is acted on.
    pub pid: Option<i64>,
    /// Its user.
    pub user: &'a str,
}

/// Reasons against each of some targets; none where nothing speaks against it.
pub fn reasons(sample: &Sample, me: Me<'_>, targets: &[Target]) -> Vec<(ProcessKey, Reason)> {
    let rows: HashMap<i64, &ProcessRow> =
        sample.now.processes.iter().filter_map(|row| Some((row.pid.value()?, row.as_ref()))).collect();
    let mine = me.pid.and_then(|pid| rows.get(&pid));
    // Parents of this program up to the first process, each once whatever the table says.
    let mut above: Vec<ProcessKey> = vec![];
    let mut at = mine.and_then(|row| row.ppid.value());
    while let Some(row) = at.and_then(|pid| rows.get(&pid)) {
        if row.pid.value() == Some(1) || above.contains(&row.key()) {
            break;
        }
        above.push(row.key());
        at = row.ppid.value();
    }
    let terminal = mine.map(|row| row.tty.clone()).filter(|tty| !tty.is_empty());
    let of = |target: &Target| {
        let key = target.key;
        let row = rows.get(&key.pid);
        let at_my_terminal = row.is_some_and(|row| Some(&row.tty) == terminal.as_ref());
        let mut found = vec![];
        if key.pid == 1 {
            found.push(Reason::First);
        }
        if Some(key.pid) == me.pid {
            found.push(Reason::Dozor);
        }
        if above.contains(&key) {
            found.push(if at_my_terminal { Reason::Shell } else { Reason::Connection });
        }
        if target.kernel {
            found.push(Reason::Kernel);
        } else if *target.user != *me.user && !me.user.is_empty() {
            found.push(Reason::OtherUser);
        }
        found.into_iter().map(move |reason| (key, reason))
    };
    targets.iter().flat_map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::super::target;
    use super::*;
    use crate::reading::{HostFacts, Reading, raw};
    use std::sync::Arc;

    #[test]
    fn what_one_sits_on_is_not_cut_without_a_second_thought() {
        let process = |pid: i64, ppid: i64, user: &str, tty: &str, kernel: i64| {
            Arc::new(ProcessRow {
                pid: raw(pid),
                ppid: raw(ppid),
                start_ticks: raw(pid),
                name: format!("p{pid}").as_str().into(),
                user: user.into(),
                tty: tty.into(),
                kernel: raw(kernel),
                ..ProcessRow::default()
            })
        };
        let processes = vec![
            process(1, 0, "root", "", 0),
            process(2, 0, "root", "", 1),
            process(10, 1, "root", "", 0),
            process(11, 10, "astro", "pts/3", 0),
            process(12, 11, "astro", "pts/3", 0),
            process(20, 1, "astro", "", 0),
            process(30, 1, "guide", "", 0),
        ];
        let reading = Reading { processes, ..Reading::default() };
        let sample = Sample::new(Arc::new(HostFacts::default()), None, Arc::new(reading));
        let targets: Vec<Target> =
            sample.now.processes.iter().filter_map(|row| target(&sample, row.key())).collect();
        let found = reasons(&sample, Me { pid: Some(12), user: "astro" }, &targets);
        let found: Vec<(i64, Reason)> = found.into_iter().map(|(key, reason)| (key.pid, reason)).collect();
        assert_eq!(
            found,
            [
                (1, Reason::First),
                (1, Reason::OtherUser),
                (2, Reason::Kernel),
                (10, Reason::Connection),
                (10, Reason::OtherUser),
                (11, Reason::Shell),
                (12, Reason::Dozor),
                (30, Reason::OtherUser),
            ]
        );
    }
}
