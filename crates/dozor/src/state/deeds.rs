//! What is done to processes from the screen: sent off, followed, kept on the time axis, undone.

use super::State;
use super::data::{Deeds, Stay, Undo};
use super::effect::Effect;
use crate::look::action::Action;
use dozor_core::deed::{
    Account, Deed, Me, Outcome, Reason, Record, Scope, Target, descendants, of_scope, reasons, summary,
    targets as as_targets,
};
use dozor_core::lane::Severity;
use dozor_core::reading::ProcessKey;
use dozor_core::recording::{Mark, MarkKind};
use dozor_core::text::Text;
use std::collections::HashSet;

/// So many deeds can be undone.
const UNDONE: usize = 32;
/// So many deeds are offered again.
const RECENT: usize = 4;

impl State {
    /// Who acts here, and what can be taken back.
    pub fn deeds(&self) -> &Deeds {
        &self.deeds
    }

    /// Somebody acts here: a user, and where this program runs on the machine that is acted on its PID.
    pub fn act_as(&mut self, user: &Text, pid: Option<i64>) {
        self.deeds.user = user.to_string();
        self.deeds.pid = pid;
    }

    /// Reasons to think again before something is done to these.
    pub fn reasons(&self, targets: &[Target]) -> Vec<(ProcessKey, Reason)> {
        let me = Me { pid: self.deeds.pid, user: &self.deeds.user };
        self.moment.sample.as_ref().map_or(vec![], |sample| reasons(sample, me, targets))
    }

    /// To whom something can be done, beginning with some targets: those with more or others than that.
    pub fn scopes(&self, targets: Vec<Target>) -> Vec<(Scope, Vec<Target>)> {
        let Some(sample) = self.moment.sample.clone() else { return vec![(Scope::This, targets)] };
        let keys: Vec<ProcessKey> = targets.iter().map(|target| target.key).collect();
        let marked: Vec<ProcessKey> = self.selection.marked.iter().copied().collect();
        let mut scopes: Vec<(Scope, Vec<Target>)> = vec![];
        let mut seen: Vec<HashSet<ProcessKey>> = vec![];
        for scope in Scope::ALL {
            let found = match (scope, &keys[..]) {
                (Scope::This, _) if keys == marked && keys.len() > 1 => continue,
                (Scope::This, _) => targets.clone(),
                (Scope::Descendants, _) => as_targets(&sample, &descendants(&sample, &keys)),
                (Scope::Named, [one]) => of_scope(&sample, scope, *one, &[], &[]),
                (Scope::Named, _) => continue,
                (Scope::Marked, _) => as_targets(&sample, &marked),
                (Scope::Shown, _) => {
                    let shown: Vec<ProcessKey> = self.shown_processes().into_iter().collect();
                    as_targets(&sample, &shown)
                }
            };
            let these: HashSet<ProcessKey> = found.iter().map(|target| target.key).collect();
            if !these.is_empty() && !seen.contains(&these) {
                seen.push(these);
                scopes.push((scope, found));
            }
        }
        scopes
    }

    /// Does something to processes; what becomes of it comes later.
    pub fn do_to(&mut self, deed: Deed, targets: Vec<Target>) {
        self.hold_order();
        self.deeds.recent.retain(|other| *other != deed);
        self.deeds.recent.insert(0, deed.clone());
        self.deeds.recent.truncate(RECENT);
        let who = match &targets[..] {
            [one] => one.label(),
            many => format!("{} processes", many.len()),
        };
        let waiting = if deed.ends() { "; waiting for the end …" } else { " …" };
        self.say_for(Severity::Fine, format!("{} to {who}{waiting}", deed.name()), Stay::UntilKey);
        let wall = self.newest_wall();
        self.outbox.push(Effect::Act(deed, targets, wall));
    }

    /// Says what became of a deed, keeps it, and remembers how to take it back.
    pub fn done(&mut self, deed: &Deed, targets: &[Target], accounts: &[Account], wall_ns: Option<i64>) {
        let is_still = |account: &Account| matches!(account.outcome, Outcome::StillThere(_));
        let still = targets.iter().zip(accounts).filter(|(_, account)| is_still(account));
        self.deeds.still = still.map(|(target, _)| target.key).collect();
        let good = accounts.iter().all(Account::is_good);
        let left = accounts.iter().any(|account| !account.left.is_empty());
        let severity = if good && !left { Severity::Fine } else { Severity::Warning };
        let patience = self.values.patience;
        let mut text = summary(deed, targets, accounts, &self.key(Action::Act), patience);
        if accounts.iter().any(|account| matches!(account.outcome, Outcome::Zombie(..))) {
            text.push_str(&format!(" ({} goes to the parent)", self.key(Action::Parent)));
        }
        let back: Vec<(Target, Deed)> = targets
            .iter()
            .zip(accounts)
            .filter_map(|(target, account)| Some((target.clone(), account.undo()?)))
            .collect();
        let first = targets.first().map(|target| target.key);
        let undoing = &mut self.deeds.undoing;
        let pending = undoing.iter().position(|(other, key)| other == deed && Some(*key) == first);
        // What takes something back is not taken back itself.
        let is_undo = pending.map(|at| undoing.remove(at)).is_some();
        if !back.is_empty() && !is_undo {
            text.push_str(&format!(" · {} undoes it", self.key(Action::Undo)));
            self.deeds.undo.push(Undo { name: deed.name(), back });
            let too_many = self.deeds.undo.len().saturating_sub(UNDONE);
            self.deeds.undo.drain(..too_many);
        }
        self.say_for(severity, text, Stay::Long);
        self.keep_deed(deed, targets, accounts, wall_ns);
    }

    /// Puts what was done on the time axis, and into what keeps it.
    fn keep_deed(&mut self, deed: &Deed, targets: &[Target], accounts: &[Account], wall_ns: Option<i64>) {
        let Some(wall) = wall_ns.or_else(|| self.newest_wall()) else { return };
        let by = self.deeds.user.as_str();
        let records: Vec<Record> = targets
            .iter()
            .zip(accounts)
            .map(|(target, account)| Record::new(deed, by, target, account))
            .collect();
        let text = summary(deed, targets, accounts, "act", self.values.patience);
        let mark = Mark { deeds: records, ..Mark::new(wall, MarkKind::Action, text) };
        self.outbox.push(Effect::Keep(mark.clone()));
        self.show_sign(mark);
    }

    /// Takes back what was done last.
    pub fn undo(&mut self) {
        if let Some(reason) = self.session.actions_refused {
            return self.say(Severity::Notice, reason.to_owned());
        }
        let Some(undo) = self.deeds.undo.pop() else {
            return self.say(Severity::Notice, "there is nothing to undo".to_owned());
        };
        // Targets that go back to the same are taken together.
        let mut groups: Vec<(Deed, Vec<Target>)> = vec![];
        for (target, deed) in undo.back {
            match groups.iter_mut().find(|(other, _)| *other == deed) {
                Some((_, targets)) => targets.push(target),
                None => groups.push((deed, vec![target])),
            }
        }
        let wall = self.newest_wall();
        let begun = groups.iter().filter_map(|(deed, targets)| Some((deed.clone(), targets.first()?.key)));
        self.deeds.undoing.extend(begun);
        self.say_for(Severity::Fine, format!("undoing {} …", undo.name), Stay::UntilKey);
        for (deed, targets) in groups {
            self.outbox.push(Effect::Act(deed, targets, wall));
        }
    }
}
