//! Acting on processes of the live or of the simulated machine, away from the thread that draws.

use dozor_core::demo::{Refusal, SimulatedMachine};
use dozor_core::reading::ProcessKey;
use dozor_core::signals::Signal;
use dozor_core::text::Text;
use dozor_linux::act::{self, Ending, SignalError};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// How long a process is given to end before it counts as still there.
pub const PATIENCE: Duration = Duration::from_secs(5);

/// A process that something shall be done to.
#[derive(Clone, Debug, PartialEq)]
pub struct Target {
    /// Which process.
    pub key: ProcessKey,
    /// Its name.
    pub name: Text,
    /// Its user.
    pub user: Text,
    /// Its command line.
    pub command: Text,
    /// Children that live on when it ends.
    pub children: usize,
    /// It is a thread of the kernel.
    pub kernel: bool,
}

impl Target {
    /// What is special about it, for whoever wants to send it a signal; signal(7), kill(2).
    pub fn special(&self) -> Option<&'static str> {
        if self.key.pid == 1 {
            Some(
                "it is the first process: the kernel drops what it does not handle, KILL too; with its end the machine stops",
            )
        } else if self.kernel {
            Some("it is a thread of the kernel: no signal ends it")
        } else {
            None
        }
    }

    /// Name and PID.
    pub fn label(&self) -> String {
        format!("{}[{}]", self.name, self.key.pid)
    }
}

/// What became of a signal.
#[derive(Clone, Debug, PartialEq)]
pub enum Outcome {
    /// It was sent; it need not end the process.
    Sent,
    /// The process ended.
    GoneAfter(Duration),
    /// The process did not end within [`PATIENCE`].
    StillThere,
    /// The process had ended before.
    AlreadyGone,
    /// It ended, before or by the signal, but its parent with this PID has not collected it: nobody can end it further.
    Zombie(i64),
    /// The process belongs to somebody else.
    NotPermitted,
    /// Anything else.
    Failed(String),
}

/// Waits at most until an instant for the end of a process.
type Wait = Box<dyn Fn(Instant) -> Ending + Send>;

/// Where processes are acted on.
#[derive(Clone)]
pub enum Machine {
    /// This machine.
    Here,
    /// The simulated machine.
    Simulated(Arc<Mutex<SimulatedMachine>>),
    /// Nowhere, for this reason.
    Elsewhere(&'static str),
}

impl Machine {
    fn send(&self, key: ProcessKey, number: i32) -> Result<Wait, Outcome> {
        match self {
            Machine::Here => {
                let sent = act::send(key, number).map_err(|error| match error {
                    SignalError::Gone => Outcome::AlreadyGone,
                    SignalError::Zombie(parent) => Outcome::Zombie(parent),
                    SignalError::NotPermitted => Outcome::NotPermitted,
                    other @ SignalError::Other(_) => Outcome::Failed(other.to_string()),
                })?;
                Ok(Box::new(move |until| sent.wait_gone(until.saturating_duration_since(Instant::now()))))
            }
            Machine::Simulated(machine) => {
                let machine = machine.clone();
                let result = lock(&machine).signal(key, number);
                result.map_err(|refusal| match refusal {
                    Refusal::NotPermitted => Outcome::NotPermitted,
                    Refusal::Gone => Outcome::AlreadyGone,
                    Refusal::Zombie(parent) => Outcome::Zombie(parent),
                })?;
                let begin = Instant::now();
                Ok(Box::new(move |until| {
                    while lock(&machine).is_alive(key) {
                        let left = until.saturating_duration_since(Instant::now());
                        if left.is_zero() {
                            return Ending::StillThere;
                        }
                        std::thread::sleep(left.min(Duration::from_millis(20)));
                    }
                    Ending::Gone(begin.elapsed())
                }))
            }
            Machine::Elsewhere(reason) => Err(Outcome::Failed((*reason).to_owned())),
        }
    }

    /// Sends a signal to all targets, then waits for those that should end. Takes up to [`PATIENCE`].
    pub fn signal(&self, targets: &[Target], signal: &Signal) -> Vec<Outcome> {
        let sent: Vec<_> = targets.iter().map(|target| self.send(target.key, signal.number)).collect();
        let until = Instant::now() + PATIENCE;
        sent.into_iter()
            .map(|sent| match sent {
                Err(outcome) => outcome,
                Ok(_) if !signal.ends => Outcome::Sent,
                Ok(wait) => match wait(until) {
                    Ending::Gone(time) => Outcome::GoneAfter(time),
                    Ending::Zombie(parent) => Outcome::Zombie(parent),
                    Ending::StillThere => Outcome::StillThere,
                },
            })
            .collect()
    }
}

/// The simulated machine for this thread alone.
pub fn lock(machine: &Mutex<SimulatedMachine>) -> std::sync::MutexGuard<'_, SimulatedMachine> {
    // The simulation holds no promise that a panic in another thread could have broken halfway.
    machine.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// What became of an action, in one line; the worst first. `act` is the key that acts.
pub fn summary(signal: &Signal, targets: &[Target], outcomes: &[Outcome], act: &str) -> String {
    let name = &signal.name;
    let of = |wanted: fn(&Outcome) -> bool| -> Vec<&Target> {
        targets
            .iter()
            .zip(outcomes)
            .filter(|(_, outcome)| wanted(outcome))
            .map(|(target, _)| target)
            .collect()
    };
    let names = |targets: &[&Target]| match targets {
        [one] => one.label(),
        [one, two] => format!("{} and {}", one.label(), two.label()),
        [one, rest @ ..] => format!("{} and {} others", one.label(), rest.len()),
        [] => String::new(),
    };
    let mut parts = vec![];
    let denied = of(|outcome| *outcome == Outcome::NotPermitted);
    if let Some(first) = denied.first() {
        let user = &first.user;
        let who = if **user == *"root" { "root".to_owned() } else { format!("{user} or root") };
        parts.push(format!("{}: not permitted; run dozor as {who}", names(&denied)));
    }
    let still = of(|outcome| *outcome == Outcome::StillThere);
    if !still.is_empty() {
        let advice = if signal.number == dozor_core::signals::KILL {
            "it waits in the kernel, until what it waits for comes".to_owned()
        } else {
            format!("{act}, then Force to stop, if it must go")
        };
        parts.push(format!("{}: still there {} s after {name}; {advice}", names(&still), PATIENCE.as_secs()));
    }
    let gone = of(|outcome| matches!(outcome, Outcome::GoneAfter(_)));
    let longest = outcomes.iter().filter_map(|outcome| match outcome {
        Outcome::GoneAfter(time) => Some(*time),
        _ => None,
    });
    if let Some(longest) = longest.max() {
        parts.push(format!("{}: gone {:.1} s after {name}", names(&gone), longest.as_secs_f64()));
    }
    let zombies = of(|outcome| matches!(outcome, Outcome::Zombie(_)));
    let parents = outcomes.iter().filter_map(|outcome| match outcome {
        Outcome::Zombie(parent) => Some(*parent),
        _ => None,
    });
    if let Some(parent) = parents.min() {
        let (has, it) = if zombies.len() == 1 { ("has", "it") } else { ("have", "them") };
        parts.push(format!(
            "{} {has} ended but {has} not been collected: nobody can end a zombie; its parent, PID {parent}, must collect {it}, \
             or end itself",
            names(&zombies)
        ));
    }
    let before = of(|outcome| *outcome == Outcome::AlreadyGone);
    if !before.is_empty() {
        parts.push(format!("{}: was gone already, nothing was sent", names(&before)));
    }
    let sent = of(|outcome| *outcome == Outcome::Sent);
    if !sent.is_empty() {
        parts.push(format!("{name} sent to {}", names(&sent)));
    }
    for (target, outcome) in targets.iter().zip(outcomes) {
        if let Outcome::Failed(reason) = outcome {
            parts.push(format!("{}: {reason}", target.label()));
        }
    }
    parts.join(" · ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::signals;

    fn target(pid: i64, name: &str) -> Target {
        Target {
            key: ProcessKey { pid, start: 1 },
            name: name.into(),
            user: "guide".into(),
            command: name.into(),
            children: 0,
            kernel: false,
        }
    }

    #[test]
    fn the_outcome_names_targets_and_what_would_help() {
        let term = signals::by_number(signals::TERM).expect("a signal");
        let targets = [target(1, "a"), target(2, "b"), target(3, "c"), target(4, "d")];
        let outcomes = [
            Outcome::GoneAfter(Duration::from_millis(320)),
            Outcome::NotPermitted,
            Outcome::StillThere,
            Outcome::AlreadyGone,
        ];
        assert_eq!(
            summary(&term, &targets, &outcomes, "x"),
            "b[2]: not permitted; run dozor as guide or root · c[3]: still there 5 s after TERM; x, then Force to \
             stop, if it must go · a[1]: gone 0.3 s after TERM · d[4]: was gone already, nothing was sent"
        );
    }

    #[test]
    fn a_zombie_is_not_gone_and_root_is_named_once() {
        let term = signals::by_number(signals::TERM).expect("a signal");
        let said = summary(&term, &[target(7, "helper")], &[Outcome::Zombie(5)], "x");
        assert_eq!(
            said,
            "helper[7] has ended but has not been collected: nobody can end a zombie; its parent, PID 5, must collect it, \
             or end itself"
        );
        let of_root = Target { user: "root".into(), ..target(8, "b") };
        let said = summary(&term, &[of_root], &[Outcome::NotPermitted], "x");
        assert_eq!(said, "b[8]: not permitted; run dozor as root");
    }

    #[test]
    fn the_first_process_and_threads_of_the_kernel_are_told() {
        let said = |target: &Target| target.special().unwrap_or_default();
        assert!(said(&target(1, "init")).contains("the first process"));
        assert!(said(&Target { kernel: true, ..target(9, "kworker") }).contains("no signal ends it"));
        assert_eq!(target(9, "a").special(), None);
    }

    #[test]
    fn a_recording_cannot_be_acted_on() {
        let term = signals::by_number(signals::TERM).expect("a signal");
        let outcomes = Machine::Elsewhere("this is a recording").signal(&[target(1, "a")], &term);
        assert_eq!(outcomes, [Outcome::Failed("this is a recording".to_owned())]);
    }
}
