//! What can be done to simulated processes: signals, priorities, cores, limits. The simulated kernel refuses what a real one
//! would refuse the user `astro`.

use super::machine::SimulatedMachine;
use super::process::Process;
use super::programs::Role;
use crate::cores::CoreSet;
use crate::deed::{Account, Deed, Outcome, Still};
use crate::reading::ProcessKey;
use crate::signals;

/// Who sits at the simulated machine.
pub const USER: &str = "astro";

impl Process {
    /// How it is in the respect that a deed changes.
    fn present(&self, deed: &Deed, cores: usize) -> Option<Deed> {
        Some(match deed {
            Deed::Signal(_) => return None,
            Deed::Nice(_) => Deed::Nice(self.nice() as i32),
            Deed::Policy(..) => Deed::Policy(self.ways.policy.0, self.ways.policy.1),
            Deed::Io(_) => Deed::Io(self.ways.io),
            Deed::Cores(_) => Deed::Cores(self.ways.cores.clone().unwrap_or_else(|| CoreSet::first(cores))),
            Deed::Freeze | Deed::Thaw if self.rests() => Deed::Freeze,
            Deed::Freeze | Deed::Thaw => Deed::Thaw,
            Deed::Oom(_) => Deed::Oom(self.ways.oom),
            Deed::Limit(resource, ..) => {
                let (soft, hard) = self.limit(*resource);
                Deed::Limit(*resource, soft, hard)
            }
        })
    }

    /// What a real kernel would refuse whoever owns the process.
    fn refuses(&self, deed: &Deed, cores: usize) -> Option<Outcome> {
        let needs = |what: &str| Some(Outcome::NotPermitted(format!("{what} needs root")));
        match deed {
            Deed::Nice(nice) if i64::from(*nice) < self.program.nice => needs("giving it more CPU"),
            Deed::Policy(1 | 2 | 6, _) => needs("real-time scheduling"),
            Deed::Io(value) if value >> 13 == 1 => needs("that disk priority"),
            Deed::Oom(value) if *value < 0 => needs("a lower value than it was given"),
            Deed::Limit(resource, soft, hard) => {
                let most = self.limit(*resource).1;
                let above = |value: Option<u64>| match (value, most) {
                    (_, None) => false,
                    (None, Some(_)) => true,
                    (Some(value), Some(most)) => value > most,
                };
                if above(*soft) || above(*hard) { needs("raising the upper limit") } else { None }
            }
            Deed::Cores(set) if !set.iter().any(|core| core < cores) => {
                Some(Outcome::Failed("none of these cores is there for it".to_owned()))
            }
            _ => None,
        }
    }

    fn take_on(&mut self, deed: &Deed, cores: usize) {
        match deed {
            Deed::Signal(_) => {}
            Deed::Nice(nice) => self.ways.nice = Some(i64::from(*nice).clamp(-20, 19)),
            Deed::Policy(policy, priority) => self.ways.policy = (*policy, *priority),
            Deed::Io(value) => self.ways.io = *value,
            Deed::Cores(set) => {
                let there: CoreSet = set.iter().filter(|core| *core < cores).collect();
                if let Some(first) = there.iter().next().filter(|_| !there.has(self.core)) {
                    self.core = first;
                }
                self.ways.cores = Some(there);
            }
            Deed::Freeze => self.ways.frozen = true,
            Deed::Thaw => (self.ways.frozen, self.stopped) = (false, false),
            Deed::Oom(value) => self.ways.oom = *value,
            Deed::Limit(resource, soft, hard) => drop(self.ways.limits.insert(*resource, (*soft, *hard))),
        }
    }
}

impl SimulatedMachine {
    /// Does something to a process. What should end it has mostly ended it when this comes back.
    pub fn act(&mut self, key: ProcessKey, deed: &Deed) -> Account {
        let cores = self.cores();
        let Some(process) = self.find_mut(key) else { return Outcome::AlreadyGone.into() };
        let user = process.program.user;
        if user != USER {
            let who = if user == "root" { "root".to_owned() } else { format!("{user} or root") };
            return Outcome::NotPermitted(format!("run dozor as {who}")).into();
        }
        if process.program.role == Role::Zombie {
            let parent = process.parent;
            let name = self.name_of(parent);
            return Outcome::Zombie(parent, name).into();
        }
        if let Deed::Signal(number) = deed {
            return self.signal(key, *number).into();
        }
        let before = process.present(deed, cores);
        if let Some(refusal) = process.refuses(deed, cores) {
            return Account { after: before.clone(), before, ..refusal.into() };
        }
        process.take_on(deed, cores);
        let after = process.present(deed, cores);
        let outcome = if before == after { Outcome::AsBefore } else { Outcome::Changed };
        Account { before, after, ..outcome.into() }
    }

    /// How a process is in the respect that a deed changes; none where it is not there.
    pub fn present(&self, key: ProcessKey, deed: &Deed) -> Option<Deed> {
        self.find_process(key)?.present(deed, self.cores())
    }

    fn signal(&mut self, key: ProcessKey, number: i32) -> Outcome {
        let Some(process) = self.find_mut(key) else { return Outcome::AlreadyGone };
        match number {
            signals::STOP | 20 => process.stopped = true,
            signals::CONT => process.stopped = false,
            signals::KILL => self.end_process(key, number),
            _ if process.program.role == Role::Stubborn || process.rests() => {}
            _ if signals::by_number(number).is_some_and(|signal| signal.ends) => {
                self.end_process(key, number);
            }
            _ => {}
        }
        Outcome::Sent
    }

    /// Why a process is still there after a signal.
    pub fn why_still(&self, key: ProcessKey) -> Still {
        match self.find_process(key) {
            Some(process) if process.ways.frozen => Still::Frozen,
            Some(process) if process.stopped => Still::Stopped,
            Some(process) if process.program.role == Role::Stubborn => Still::Handles,
            _ => Still::Unknown,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::row::Row as _;

    fn key_of(machine: &mut SimulatedMachine, name: &str) -> ProcessKey {
        let reading = machine.reading();
        reading.processes.iter().find(|row| &*row.name == name).expect("the process").key()
    }

    #[test]
    fn what_is_changed_is_read_back_and_a_real_kernels_refusals_are_its_own() {
        let mut machine = SimulatedMachine::new(1);
        let key = key_of(&mut machine, "archived");
        let account = machine.act(key, &Deed::Nice(12));
        assert_eq!(account.outcome, Outcome::Changed);
        let row = machine.reading().processes.iter().find(|row| row.key() == key).cloned().expect("it");
        assert_eq!(row.nice.value(), Some(12));
        let undo = account.undo().expect("something to undo");
        assert_eq!(machine.act(key, &undo).outcome, Outcome::Changed);
        assert!(matches!(machine.act(key, &Deed::Nice(-7)).outcome, Outcome::NotPermitted(_)));
        let foreign = key_of(&mut machine, "init");
        assert!(matches!(machine.act(foreign, &Deed::Nice(7)).outcome, Outcome::NotPermitted(_)));
        let gone = ProcessKey { pid: key.pid, start: key.start + 1 };
        assert_eq!(machine.act(gone, &Deed::Signal(9)).outcome, Outcome::AlreadyGone);
        let cores: CoreSet = "2,3".parse().expect("a set");
        machine.act(key, &Deed::Cores(cores.clone()));
        machine.advance_to(std::time::Duration::from_secs(5));
        let row = machine.reading().processes.iter().find(|row| row.key() == key).cloned().expect("it");
        assert!(cores.has(row.core.value().expect("a core") as usize), "it runs only there");
        assert_eq!(
            machine.act(key, &Deed::Freeze).change().as_deref(),
            Some("frozen: it does nothing until it is thawed")
        );
        assert_eq!(machine.act(key, &Deed::Signal(15)).outcome, Outcome::Sent);
        assert_eq!(machine.why_still(key), Still::Frozen);
    }
}
