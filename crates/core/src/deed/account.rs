//! What became of a deed, in words; the worst first.

use super::{Deed, Target};
use crate::cores::CoreSet;
use crate::inside::words::nice as nice_words;
use crate::reading::ProcessKey;
use crate::signals;
use crate::text::Text;
use std::time::Duration;

/// Why a process is still there after a signal that should have ended it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Still {
    /// It has something of its own for the signal.
    Handles,
    /// It throws the signal away.
    Ignores,
    /// It holds the signal back.
    HoldsBack,
    /// It is stopped: it takes the signal when it is continued.
    Stopped,
    /// Its control group is frozen: it takes the signal when that is thawed; cgroups(7).
    Frozen,
    /// It is blocked in the kernel, where it takes no signal; what it waits for, in words.
    Blocked(String),
    /// Nothing that is known stands against it.
    Unknown,
}

/// A process that the ended one left behind: one that it started while it was told to end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Left {
    /// Which.
    pub key: ProcessKey,
    /// Its name.
    pub name: Text,
}

/// What became of a deed.
#[derive(Clone, Debug, PartialEq)]
pub enum Outcome {
    /// The signal was sent; it need not end the process.
    Sent,
    /// It is changed, as the kernel says.
    Changed,
    /// It was so already.
    AsBefore,
    /// The process ended, so long after the signal.
    GoneAfter(Duration),
    /// The process did not end within the time that it was given.
    StillThere(Still),
    /// The process had ended before.
    AlreadyGone,
    /// It ended, before or by the signal, but its parent with this PID and name has not collected it.
    Zombie(i64, Text),
    /// This user may not; what would allow it.
    NotPermitted(String),
    /// Anything else, in words.
    Failed(String),
}

/// What became of a deed at one target.
#[derive(Clone, Debug, PartialEq)]
pub struct Account {
    /// What became of it.
    pub outcome: Outcome,
    /// How it was before, as read from the kernel.
    pub before: Option<Deed>,
    /// How it is now, as read back.
    pub after: Option<Deed>,
    /// Processes that it started while it was told to end, and that live.
    pub left: Vec<Left>,
    /// Cores that its threads were seen on after they were changed; none where it did not run since.
    pub seen_on: Option<CoreSet>,
}

impl From<Outcome> for Account {
    fn from(outcome: Outcome) -> Account {
        Account { outcome, before: None, after: None, left: vec![], seen_on: None }
    }
}

impl Account {
    /// Whether what was wanted is so.
    pub fn is_good(&self) -> bool {
        matches!(self.outcome, Outcome::Sent | Outcome::Changed | Outcome::AsBefore | Outcome::GoneAfter(_))
    }

    /// What would undo it, where something was changed.
    pub fn undo(&self) -> Option<Deed> {
        let before = self.before.clone().filter(|_| self.is_good())?;
        (self.after.as_ref() != Some(&before)).then_some(before)
    }

    /// What was changed, in words: `nice 0 → 5: gives way to others`.
    pub fn change(&self) -> Option<String> {
        let after = self.after.as_ref()?;
        Some(match (&self.before, after) {
            (Some(Deed::Thaw), Deed::Freeze) => "frozen: it does nothing until it is thawed".to_owned(),
            (Some(Deed::Freeze), Deed::Thaw) => "thawed: it goes on".to_owned(),
            (Some(before @ Deed::Nice(_)), Deed::Nice(now)) => {
                format!("nice {} → {now}: {}", before.value(), nice_words(i64::from(*now)))
            }
            (Some(before), Deed::Cores(_)) if before != after => {
                let seen = match &self.seen_on {
                    Some(cores) => format!("; it has run since on {cores} only"),
                    None => "; it has not run since".to_owned(),
                };
                format!("cores {} → {}{seen}", before.value(), after.value())
            }
            (Some(before), after) if before != after => {
                format!("{} {} → {}", after.subject(), before.value(), after.value())
            }
            _ => format!("{} is {}", after.subject(), after.value()),
        })
    }

    /// The outcome in a few words, for a table or a file.
    pub fn words(&self) -> String {
        match &self.outcome {
            Outcome::Sent => "sent".to_owned(),
            Outcome::Changed => self.change().unwrap_or_else(|| "changed".to_owned()),
            Outcome::AsBefore => "was so already".to_owned(),
            Outcome::GoneAfter(time) => format!("gone after {:.1} s", time.as_secs_f64()),
            Outcome::StillThere(still) => format!("still there: {}", still_words(still)),
            Outcome::AlreadyGone => "was gone already, nothing was done".to_owned(),
            Outcome::Zombie(parent, name) => format!("zombie: {name}[{parent}] must collect it"),
            Outcome::NotPermitted(needs) => format!("not permitted; {needs}"),
            Outcome::Failed(reason) => reason.clone(),
        }
    }
}

fn still_words(still: &Still) -> String {
    match still {
        Still::Handles => "it handles the signal itself and may take its time".to_owned(),
        Still::Ignores => "it ignores the signal".to_owned(),
        Still::HoldsBack => "it holds the signal back".to_owned(),
        Still::Stopped => "it is stopped and takes the signal when it is continued".to_owned(),
        Still::Frozen => "its control group is frozen, it takes the signal when that is thawed".to_owned(),
        Still::Blocked(what) => format!("{what}; no signal is taken until that ends"),
        Still::Unknown => "why is not known".to_owned(),
    }
}

fn names(targets: &[&Target]) -> String {
    match targets {
        [one] => one.label(),
        [one, two] => format!("{} and {}", one.label(), two.label()),
        [one, rest @ ..] => format!("{} and {} others", one.label(), rest.len()),
        [] => String::new(),
    }
}

/// Targets whose outcome is said in the same words, in the order of the first of each.
fn grouped<'a>(
    targets: &'a [Target],
    accounts: &'a [Account],
    words: impl Fn(&Account) -> Option<String>,
) -> Vec<(String, Vec<&'a Target>, &'a Account)> {
    let mut groups: Vec<(String, Vec<&Target>, &Account)> = vec![];
    for (target, account) in targets.iter().zip(accounts) {
        let Some(words) = words(account) else { continue };
        match groups.iter_mut().find(|(other, ..)| *other == words) {
            Some((_, targets, _)) => targets.push(target),
            None => groups.push((words, vec![target], account)),
        }
    }
    groups
}

/// What became of a deed, in one line; the worst first. `act` is the key that acts, `patience` what a process was given to
/// end.
pub fn summary(
    deed: &Deed,
    targets: &[Target],
    accounts: &[Account],
    act: &str,
    patience: Duration,
) -> String {
    let name = deed.value();
    let each = |words: &dyn Fn(&Account) -> Option<String>| grouped(targets, accounts, words);
    let mut parts = vec![];
    for (needs, who, _) in each(&|account| match &account.outcome {
        Outcome::NotPermitted(needs) => Some(needs.clone()),
        _ => None,
    }) {
        parts.push(format!("{}: not permitted; {needs}", names(&who)));
    }
    for (why, who, _) in each(&|account| match &account.outcome {
        Outcome::StillThere(still) => Some(still_words(still)),
        _ => None,
    }) {
        let forced = *deed == Deed::Signal(signals::KILL);
        let advice =
            if forced { String::new() } else { format!("; {act} offers to force it, if it must go") };
        let seconds = patience.as_secs_f64();
        parts.push(format!("{}: still there {seconds} s after {name}: {why}{advice}", names(&who)));
    }
    for (reason, who, _) in each(&|account| match &account.outcome {
        Outcome::Failed(reason) => Some(reason.clone()),
        _ => None,
    }) {
        parts.push(format!("{}: {reason}", names(&who)));
    }
    for (parent, who, _) in each(&|account| match &account.outcome {
        Outcome::Zombie(parent, name) => Some(format!("{name}[{parent}]")),
        _ => None,
    }) {
        let (has, it) =
            if who.len() == 1 { ("is a zombie: it has", "it") } else { ("are zombies: they have", "them") };
        parts.push(format!("{} {has} ended already; {parent} must collect {it}, or end itself", names(&who)));
    }
    let gone = |account: &Account| match account.outcome {
        Outcome::GoneAfter(time) => Some(time),
        _ => None,
    };
    for (_, who, _) in each(&|account| gone(account).map(|_| String::new())) {
        let longest = accounts.iter().filter_map(gone).max().unwrap_or_default();
        parts.push(format!("{}: gone {:.1} s after {name}", names(&who), longest.as_secs_f64()));
    }
    let left: Vec<String> = accounts
        .iter()
        .flat_map(|account| &account.left)
        .map(|left| format!("{}[{}]", left.name, left.key.pid))
        .collect();
    if !left.is_empty() {
        let (lives, them) = if left.len() == 1 { ("lives", "it") } else { ("live", "them") };
        parts.push(format!(
            "{} {lives} on: started while it was told to end; {act} acts on {them}",
            left.join(", ")
        ));
    }
    for (change, who, _) in each(&|account| match account.outcome {
        Outcome::Changed => account.change(),
        _ => None,
    }) {
        parts.push(format!("{}: {change}", names(&who)));
    }
    for (value, who, _) in each(&|account| match account.outcome {
        Outcome::AsBefore => Some(account.after.as_ref().map_or_else(String::new, Deed::value)),
        _ => None,
    }) {
        parts.push(format!("{}: {} was {value} already", names(&who), deed.subject()));
    }
    for (_, who, _) in each(&|account| (account.outcome == Outcome::AlreadyGone).then(String::new)) {
        let was = if who.len() == 1 { "was" } else { "were" };
        parts.push(format!("{}: {was} gone already, nothing was done", names(&who)));
    }
    for (_, who, _) in each(&|account| (account.outcome == Outcome::Sent).then(String::new)) {
        parts.push(format!("{name} sent to {}", names(&who)));
    }
    parts.join(" · ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn target(pid: i64, name: &str) -> Target {
        Target {
            key: ProcessKey { pid, start: 1 },
            name: name.into(),
            user: "guide".into(),
            command: name.into(),
            service: "".into(),
            children: 0,
            kernel: false,
        }
    }

    fn said(deed: &Deed, targets: &[Target], accounts: &[Account]) -> String {
        summary(deed, targets, accounts, "x", Duration::from_secs(5))
    }

    #[test]
    fn the_outcome_names_targets_and_what_would_help() {
        let targets = [target(1, "a"), target(2, "b"), target(3, "c"), target(4, "d")];
        let accounts = [
            Outcome::GoneAfter(Duration::from_millis(320)),
            Outcome::NotPermitted("run dozor as guide or root".to_owned()),
            Outcome::StillThere(Still::Ignores),
            Outcome::AlreadyGone,
        ]
        .map(Account::from);
        assert_eq!(
            said(&Deed::Signal(15), &targets, &accounts),
            "b[2]: not permitted; run dozor as guide or root · c[3]: still there 5 s after TERM: it ignores the signal; \
             x offers to force it, if it must go · a[1]: gone 0.3 s after TERM · d[4]: was gone already, nothing was done"
        );
    }

    #[test]
    fn who_was_started_meanwhile_is_named_and_a_zombie_is_not_gone() {
        let key = ProcessKey { pid: 9, start: 4 };
        let gone = Account {
            left: vec![Left { key, name: "heir".into() }],
            ..Outcome::GoneAfter(Duration::from_millis(100)).into()
        };
        assert_eq!(
            said(&Deed::Signal(15), &[target(1, "a")], &[gone]),
            "a[1]: gone 0.1 s after TERM · heir[9] lives on: started while it was told to end; x acts on it"
        );
        assert_eq!(
            said(&Deed::Signal(15), &[target(7, "helper")], &[Outcome::Zombie(5, "queue".into()).into()]),
            "helper[7] is a zombie: it has ended already; queue[5] must collect it, or end itself"
        );
    }

    #[test]
    fn a_change_is_said_as_it_was_read_back_and_can_be_undone() {
        let changed =
            |before, after| Account { before: Some(before), after: Some(after), ..Outcome::Changed.into() };
        let account = changed(Deed::Nice(0), Deed::Nice(5));
        assert_eq!(
            said(&Deed::Nice(5), &[target(1, "a")], std::slice::from_ref(&account)),
            "a[1]: nice 0 → 5: gives way to others"
        );
        assert_eq!(account.undo(), Some(Deed::Nice(0)));
        let same = Account { outcome: Outcome::AsBefore, ..changed(Deed::Nice(5), Deed::Nice(5)) };
        assert_eq!(
            said(&Deed::Nice(5), &[target(1, "a")], std::slice::from_ref(&same)),
            "a[1]: nice was 5 already"
        );
        assert_eq!(same.undo(), None);
        assert_eq!(changed(Deed::Thaw, Deed::Freeze).undo(), Some(Deed::Thaw));
    }
}
