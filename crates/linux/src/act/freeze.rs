//! Freezing and thawing: through the control group where all that is in it shall be frozen, else by STOP and CONT.

use super::present::present;
use super::refusal::refused;
use super::signal::{Held, send};
use super::undoing::Undoing;
use crate::proc::read_file;
use crate::sys::freezer::{self, Group};
use dozor_core::deed::{Account, Deed, Outcome};
use dozor_core::reading::ProcessKey;
use dozor_core::signals;
use rustix::io::Errno;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// The kernel freezes a group task by task; that takes so long at most.
const PATIENCE: Duration = Duration::from_secs(2);

fn groups_of(key: ProcessKey) -> Vec<Group> {
    let cgroup = read_file(Path::new(&format!("/proc/{}/cgroup", key.pid))).unwrap_or_default();
    freezer::groups(Path::new("/sys"), &cgroup)
}

/// The group through which a process is frozen or thawed: one of which all members are targets and which has none below it;
/// for thawing the one that is frozen.
fn group_for(key: ProcessKey, targets: &HashSet<i64>, frozen: bool) -> Option<Group> {
    let own = i64::from(std::process::id());
    groups_of(key).into_iter().find(|group| {
        if !frozen {
            return group.is_frozen();
        }
        let members = group.members();
        let all = !members.is_empty() && members.iter().all(|member| targets.contains(member));
        all && !members.contains(&own) && !group.has_below()
    })
}

/// Waits until a process is as was wanted.
fn wait_for(key: ProcessKey, deed: &Deed) -> Option<Deed> {
    let begin = Instant::now();
    loop {
        let now = present(key, deed);
        if now.as_ref() == Some(deed) || now.is_none() || begin.elapsed() > PATIENCE {
            return now;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// Sends a signal that pauses to all of them: to all or, where this program is killed in between, to none. Results in their order.
pub fn stop(keys: &[ProcessKey], number: i32) -> Vec<Result<Held, Outcome>> {
    let undoing = Undoing::stand_by(&that_go_on(keys), &[]);
    let sent = keys.iter().map(|key| send(*key, number)).collect();
    undoing.keep();
    sent
}

/// Those that are not paused already.
fn that_go_on(keys: &[ProcessKey]) -> Vec<ProcessKey> {
    let goes_on = |key: &&ProcessKey| present(**key, &Deed::Freeze) != Some(Deed::Freeze);
    keys.iter().filter(goes_on).copied().collect()
}

/// Freezes or thaws all of them; accounts in their order.
pub fn freeze(keys: &[ProcessKey], frozen: bool) -> Vec<Account> {
    if !frozen {
        return freeze_each(keys, false);
    }
    let targets: HashSet<i64> = keys.iter().map(|key| key.pid).collect();
    let moving = that_go_on(keys);
    let groups: Vec<Group> = moving.iter().filter_map(|key| group_for(*key, &targets, true)).collect();
    let undoing = Undoing::stand_by(&moving, &groups);
    let accounts = freeze_each(keys, true);
    undoing.keep();
    accounts
}

fn freeze_each(keys: &[ProcessKey], frozen: bool) -> Vec<Account> {
    let deed = if frozen { Deed::Freeze } else { Deed::Thaw };
    let targets: HashSet<i64> = keys.iter().map(|key| key.pid).collect();
    let mut results: HashMap<PathBuf, Result<(), Errno>> = HashMap::new();
    // Before anything is done: a group takes all of its members at once.
    let before: Vec<Option<Deed>> = keys.iter().map(|key| present(*key, &deed)).collect();
    keys.iter()
        .zip(before)
        .map(|(key, before)| {
            let mut held = match Held::open(*key) {
                Ok(held) => held,
                Err(outcome) => return outcome.into(),
            };
            if before.as_ref() == Some(&deed) {
                return Account { after: before.clone(), before, ..Outcome::AsBefore.into() };
            }
            let group = group_for(*key, &targets, frozen);
            let by_group = group.as_ref().map(|group| {
                *results.entry(group.folder.clone()).or_insert_with(|| {
                    group.set(frozen).map_err(|error| Errno::from_io_error(&error).unwrap_or(Errno::IO))
                })
            });
            // Where its group may not be written, a signal does nearly the same; a group that is frozen only thaws itself.
            let outcome = match by_group {
                Some(Ok(())) => None,
                Some(Err(error)) if !frozen => Some(refused(*key, &deed, error)),
                Some(Err(_)) | None => held.signal(if frozen { signals::STOP } else { signals::CONT }).err(),
            };
            // One that was stopped as well goes on only when it is continued.
            if !frozen && outcome.is_none() && by_group.is_some() {
                let _ = held.signal(signals::CONT);
            }
            let after = wait_for(*key, &deed);
            let outcome = outcome.unwrap_or_else(|| match &after {
                Some(now) if *now == deed => Outcome::Changed,
                Some(_) if frozen => {
                    Outcome::Failed("it is not frozen yet: it is blocked in the kernel".to_owned())
                }
                Some(_) => Outcome::Failed("it is still frozen, by a group above its own".to_owned()),
                None => Outcome::AlreadyGone,
            });
            Account { before, after, ..outcome.into() }
        })
        .collect()
}
