//! Acting on processes of the live or of the simulated machine, and looking into them, away from the thread that draws.

use dozor_core::deed::{Account, Deed, Outcome, Target};
use dozor_core::demo::SimulatedMachine;
use dozor_core::inside::close::CloseLook;
use dozor_core::inside::holders::{Holders, Place};
use dozor_core::inside::{Subject, Told};
use dozor_core::reading::ProcessKey;
use dozor_core::signals;
use dozor_linux::Roots;
use dozor_linux::act::{self, Ending, Held};
use dozor_linux::inside::Looker;
use dozor_linux::inside::closely::{look_closely, look_for};
use dozor_linux::inside::holding::{holders, place_of};
use std::path::Path;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// What is looked for among all that is open.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Sought {
    /// Everything with a name.
    All,
    /// Removed files.
    Removed,
    /// What a path means: a file, a folder, a mount point, a device.
    Path(String),
}

/// Where processes are acted on and looked into.
#[derive(Clone)]
pub enum Machine {
    /// This machine, through these files.
    Here(Roots),
    /// The simulated machine.
    Simulated(Arc<Mutex<SimulatedMachine>>),
    /// Nowhere, for this reason.
    Elsewhere(&'static str),
}

impl Machine {
    /// Does something to all targets; waits up to `patience` for those that should end by it. Accounts in their order.
    pub fn act(&self, targets: &[Target], deed: &Deed, patience: Duration) -> Vec<Account> {
        if !matches!(deed, Deed::Signal(number) if signals::PAUSING.contains(number)) {
            return self.act_plainly(targets, deed, patience);
        }
        // A pause by a signal can be taken back like one by other means.
        let present = |target: &Target| self.present(target.key, &Deed::Freeze);
        let before: Vec<Option<Deed>> = targets.iter().map(present).collect();
        let accounts = self.act_plainly(targets, deed, patience);
        let with = |((target, before), account): ((&Target, Option<Deed>), Account)| match account.outcome {
            Outcome::Sent => Account { before, after: present(target), ..account },
            _ => account,
        };
        targets.iter().zip(before).zip(accounts).map(with).collect()
    }

    fn act_plainly(&self, targets: &[Target], deed: &Deed, patience: Duration) -> Vec<Account> {
        match (self, deed) {
            (Machine::Here(_), Deed::Signal(number)) => signal_here(targets, *number, deed.ends(), patience),
            (Machine::Here(_), Deed::Freeze | Deed::Thaw) => {
                let keys: Vec<ProcessKey> = targets.iter().map(|target| target.key).collect();
                act::freeze(&keys, *deed == Deed::Freeze)
            }
            (Machine::Here(_), _) => targets.iter().map(|target| act::change(target.key, deed)).collect(),
            (Machine::Simulated(machine), _) => act_simulated(machine, targets, deed, patience),
            (Machine::Elsewhere(reason), _) => {
                targets.iter().map(|_| Outcome::Failed((*reason).to_owned()).into()).collect()
            }
        }
    }

    /// How a process is in the respect that a deed changes; none where that cannot be known.
    pub fn present(&self, key: ProcessKey, deed: &Deed) -> Option<Deed> {
        match self {
            Machine::Here(_) => act::present(key, deed),
            Machine::Simulated(machine) => lock(machine).present(key, deed),
            Machine::Elsewhere(_) => None,
        }
    }

    /// What looks into processes here.
    pub fn looker(&self) -> Looker {
        match self {
            Machine::Here(roots) => Looker::new(roots.clone()),
            Machine::Simulated(_) | Machine::Elsewhere(_) => Looker::new(Roots::default()),
        }
    }

    /// Looks into a process; none where that is not possible at all.
    pub fn look(&self, looker: &mut Looker, key: ProcessKey, subject: Subject) -> Option<Told> {
        match self {
            Machine::Here(_) => Some(looker.look(key, subject)),
            Machine::Simulated(machine) => Some(lock(machine).look(key, subject)),
            Machine::Elsewhere(_) => None,
        }
    }

    /// Who has open what is looked for.
    ///
    /// # Errors
    /// Why that cannot be known, in words.
    pub fn holders(&self, sought: &Sought) -> Result<Holders, String> {
        match self {
            Machine::Here(roots) => {
                let place = match sought {
                    Sought::All => Place::All,
                    Sought::Removed => Place::Removed,
                    Sought::Path(path) => place_of(Path::new(path))?,
                };
                Ok(holders(roots, &place))
            }
            Machine::Simulated(machine) => {
                let place = match sought {
                    Sought::All => Place::All,
                    Sought::Removed => Place::Removed,
                    Sought::Path(path) => Place::Below(path.clone()),
                };
                Ok(lock(machine).holders(&place))
            }
            Machine::Elsewhere(reason) => Err((*reason).to_owned()),
        }
    }

    /// Looks closely for some time, or until `stop` says so; what was seen so far is given now and then.
    pub fn look_closely(
        &self,
        key: ProcessKey,
        time: Duration,
        stop: &AtomicBool,
        news: impl FnMut(&CloseLook),
    ) -> CloseLook {
        match self {
            Machine::Here(roots) => look_closely(roots, key, time, stop, news),
            Machine::Simulated(machine) => {
                let mut round = 0;
                let sightings = || {
                    round += 1;
                    lock(machine).sightings(key, round).map(|sightings| (sightings, false))
                };
                look_for(time, stop, sightings, |seconds| lock(machine).calls(key, seconds), news)
            }
            Machine::Elsewhere(_) => CloseLook::default(),
        }
    }
}

/// Sends a signal to all, then waits for those that should end.
fn signal_here(targets: &[Target], number: i32, ends: bool, patience: Duration) -> Vec<Account> {
    let keys: Vec<ProcessKey> = targets.iter().map(|target| target.key).collect();
    let sent: Vec<Result<Held, Outcome>> = if signals::PAUSING.contains(&number) {
        act::stop(&keys, number)
    } else {
        keys.iter().map(|key| act::send(*key, number)).collect()
    };
    let account = |target: &Target, held: &Held| -> Account {
        match held.wait_gone(patience) {
            Ending::Gone(time) => Account { left: held.left_behind(), ..Outcome::GoneAfter(time).into() },
            Ending::Zombie(parent) => Outcome::Zombie(parent, act::name_of(parent).into()).into(),
            Ending::StillThere => Outcome::StillThere(act::why_still(target.key, number)).into(),
        }
    };
    targets
        .iter()
        .zip(sent)
        .map(|(target, sent)| match sent {
            Err(outcome) => outcome.into(),
            Ok(_) if !ends => Outcome::Sent.into(),
            Ok(held) => account(target, &held),
        })
        .collect()
}

fn act_simulated(
    machine: &Mutex<SimulatedMachine>,
    targets: &[Target],
    deed: &Deed,
    patience: Duration,
) -> Vec<Account> {
    let begin = Instant::now();
    let done: Vec<Account> = targets.iter().map(|target| lock(machine).act(target.key, deed)).collect();
    let ends = deed.ends();
    let follow = |(target, account): (&Target, Account)| -> Account {
        if !ends || account.outcome != Outcome::Sent {
            return account;
        }
        while lock(machine).is_alive(target.key) {
            let left = patience.saturating_sub(begin.elapsed());
            if left.is_zero() {
                return Outcome::StillThere(lock(machine).why_still(target.key)).into();
            }
            std::thread::sleep(left.min(Duration::from_millis(20)));
        }
        Outcome::GoneAfter(begin.elapsed()).into()
    };
    targets.iter().zip(done).map(follow).collect()
}

/// The simulated machine for this thread alone.
pub fn lock<T>(machine: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    // The simulation holds no promise that a panic in another thread could have broken halfway.
    machine.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_recording_cannot_be_acted_on() {
        let target = Target {
            key: ProcessKey { pid: 1, start: 1 },
            name: "a".into(),
            user: "guide".into(),
            command: "a".into(),
            service: "".into(),
            children: 0,
            kernel: false,
        };
        let elsewhere = Machine::Elsewhere("this is a recording");
        let accounts = elsewhere.act(&[target], &Deed::Signal(15), Duration::ZERO);
        assert_eq!(accounts, [Outcome::Failed("this is a recording".to_owned()).into()]);
    }
}
