//! `dozor signal`, `dozor nice`, `dozor pin`: the same deeds, accounts and safety as on the screen.

use super::chosen::{Choice, Chosen};
use super::end::End;
use super::options::{Misuse, duration};
use super::problem;
use crate::machine::Machine;
use crate::recorder::Notes;
use clap::{Args, ValueEnum};
use dozor_core::cores::CoreSet;
use dozor_core::deed::{Account, Deed, Me, Reason, Record, Target, reasons, summary, typed};
use dozor_core::reading::{HostFacts, ProcessKey};
use dozor_core::recording::{Mark, MarkKind};
use dozor_linux::act::foresee;
use dozor_linux::{inside, own, recorders};
use serde_json::json;
use std::io::{self, BufRead as _, IsTerminal as _, Write as _};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

/// Exit status where something was not done.
const SOME_NOT: u8 = 1;
/// Exit status where nobody was meant.
const NOBODY: u8 = 3;
/// So many targets are named in a question.
const NAMED: usize = 12;

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// A line for each process
    Text,
    /// One array
    Json,
}

/// What all of them have.
#[derive(Args)]
pub struct How {
    /// Only say what would be done and to whom, and what would be refused, with the exit status of that
    #[arg(long)]
    dry_run: bool,
    /// How long a process is given to end before it counts as still there
    #[arg(long, value_name = "DURATION", value_parser = duration, default_value = "5s")]
    wait: Duration,
    /// Do it to more than one process without asking
    #[arg(long)]
    all: bool,
    /// Do it also to the first process, to Dozor's own, to your shell and connection, to threads of the kernel and to processes of
    /// others, without asking
    #[arg(long)]
    anyway: bool,
    /// How it is written
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
    #[command(flatten)]
    chosen: Chosen,
}

#[derive(Args)]
pub struct Signal {
    /// The signal, by name or number: TERM, KILL, 9, RTMIN+3
    #[arg(value_name = "SIGNAL", value_parser = signal)]
    signal: i32,
    #[command(flatten)]
    how: How,
}

#[derive(Args)]
pub struct Nice {
    /// Niceness from -20 (most CPU) to 19 (least)
    #[arg(value_name = "N", value_parser = typed::nice, allow_negative_numbers = true)]
    nice: i32,
    #[command(flatten)]
    how: How,
}

#[derive(Args)]
pub struct Pin {
    /// The cores, such as 0-3,8; all takes every core
    #[arg(value_name = "CORES", value_parser = cores)]
    cores: Cores,
    #[command(flatten)]
    how: How,
}

/// The cores that are named, or all of the machine.
#[derive(Clone)]
enum Cores {
    These(CoreSet),
    All,
}

fn signal(text: &str) -> Result<i32, String> {
    typed::signal(text).ok_or_else(|| {
        let names: Vec<String> = dozor_core::signals::all().map(|signal| signal.name.to_string()).collect();
        let upper = text.to_uppercase();
        let near = dozor_core::text::nearest(&upper, names.iter().map(String::as_str));
        near.map_or_else(
            || format!("no signal is called '{text}'"),
            |near| format!("no signal is called '{text}'; did you mean {near}?"),
        )
    })
}

fn cores(text: &str) -> Result<Cores, String> {
    if text == "all" {
        return Ok(Cores::All);
    }
    text.parse().map(Cores::These).map_err(|error: dozor_core::cores::CoreSetError| error.to_string())
}

impl Signal {
    pub fn run(self) -> anyhow::Result<End> {
        self.how.run(&Deed::Signal(self.signal))
    }
}

impl Nice {
    pub fn run(self) -> anyhow::Result<End> {
        self.how.run(&Deed::Nice(self.nice))
    }
}

impl Pin {
    pub fn run(self) -> anyhow::Result<End> {
        let set = match self.cores {
            Cores::These(set) => set,
            Cores::All => inside::online(&self.how.chosen.files.roots()),
        };
        if set.is_empty() {
            return Err(Misuse("the cores of this machine are not known".to_owned()).into());
        }
        self.how.run(&Deed::Cores(set))
    }
}

impl How {
    fn run(&self, deed: &Deed) -> anyhow::Result<End> {
        let choice = self.chosen.find()?;
        for pid in &choice.missing {
            problem::say(&format!("there is no process {pid}"));
        }
        if choice.targets.is_empty() {
            if choice.missing.is_empty() {
                problem::say("nobody is meant");
            }
            return Ok(End::Status(NOBODY));
        }
        let machine = Machine::Here(self.chosen.files.roots());
        let against = Self::against(&choice);
        let asks = self.needs_word(&choice, &against);
        let can_ask = io::stdin().is_terminal() && io::stderr().is_terminal();
        if self.dry_run {
            let possible = self.would(&machine, deed, &choice, &against)?;
            return match asks {
                Some(why) if !can_ask => Err(Misuse(why).into()),
                Some(_) => {
                    problem::say("it would be asked for first");
                    Ok(End::Done)
                }
                None if possible && choice.missing.is_empty() => Ok(End::Done),
                None => Ok(End::Status(SOME_NOT)),
            };
        }
        match asks {
            Some(why) if !can_ask => return Err(Misuse(why).into()),
            Some(_) => self.confirm(deed, &choice, &against)?,
            None => {}
        }
        let accounts = machine.act(&choice.targets, deed, self.wait);
        keep(&choice.sample.host, deed, &choice.targets, &accounts, self.wait);
        self.tell(deed, &choice.targets, &accounts)?;
        let good = accounts.iter().all(Account::is_good) && choice.missing.is_empty();
        Ok(if good { End::Done } else { End::Status(SOME_NOT) })
    }

    /// What speaks against it, by target.
    fn against(choice: &Choice) -> Vec<(ProcessKey, Reason)> {
        let user = own::user();
        let me = Me { pid: Some(i64::from(std::process::id())), user: &user };
        reasons(&choice.sample, me, &choice.targets)
    }

    /// Why it needs a second word: more than one is meant, or something speaks against it; none where it goes at once.
    fn needs_word(&self, choice: &Choice, against: &[(ProcessKey, Reason)]) -> Option<String> {
        if let Some(first) = against_lines(choice, against).first().filter(|_| !self.anyway) {
            let more =
                if against.len() > 1 { format!(" (and {} more)", against.len() - 1) } else { String::new() };
            return Some(format!("{first}{more}; --anyway does it nevertheless"));
        }
        let several = choice.targets.len() > 1 && !self.all;
        several.then(|| {
            format!(
                "{} processes are meant; --all does it to all, --dry-run names them",
                choice.targets.len()
            )
        })
    }

    /// Asks on the terminal.
    fn confirm(&self, deed: &Deed, choice: &Choice, against: &[(ProcessKey, Reason)]) -> anyhow::Result<()> {
        let special = !against.is_empty() && !self.anyway;
        let against = against_lines(choice, against);
        let mut err = io::stderr();
        writeln!(err, "{} to {}:", deed.name(), count(choice.targets.len()))?;
        for target in choice.targets.iter().take(NAMED) {
            writeln!(err, "  {} of {}  {}", target.label(), target.user, target.command)?;
        }
        if choice.targets.len() > NAMED {
            writeln!(err, "  and {} more", choice.targets.len() - NAMED)?;
        }
        for line in against.iter().take(NAMED) {
            writeln!(err, "▲ {line}")?;
        }
        write!(err, "{} [y/n] ", if special { "Really?" } else { "All of them?" })?;
        err.flush()?;
        let mut answer = String::new();
        io::stdin().lock().read_line(&mut answer)?;
        if matches!(answer.trim(), "y" | "yes") {
            Ok(())
        } else {
            Err(Misuse("nothing was done".to_owned()).into())
        }
    }

    /// What would be done, what it is now, and what would be refused. Gives whether the kernel would take all of it.
    fn would(
        &self,
        machine: &Machine,
        deed: &Deed,
        choice: &Choice,
        against: &[(ProcessKey, Reason)],
    ) -> anyhow::Result<bool> {
        let targets = &choice.targets;
        let mut out = io::stdout().lock();
        let refusals: Vec<Option<String>> =
            targets.iter().map(|target| self.refusal(target, deed, against)).collect();
        let possible = refusals.iter().all(Option::is_none);
        let now = |target: &Target| machine.present(target.key, deed).map(|deed| deed.value());
        if self.format == Format::Json {
            let all: Vec<_> = targets
                .iter()
                .zip(&refusals)
                .map(|(target, refusal)| {
                    json!({
                        "pid": target.key.pid, "start": target.key.start, "name": &*target.name, "user": &*target.user,
                        "deed": deed.name(), "before": now(target), "children": target.children, "refused": refusal,
                    })
                })
                .collect();
            writeln!(out, "{}", serde_json::to_string(&all)?)?;
            return Ok(possible);
        }
        for (target, refusal) in targets.iter().zip(&refusals) {
            if let Some(why) = refusal {
                writeln!(
                    out,
                    "would refuse {} to {} of {}: {why}",
                    deed.name(),
                    target.label(),
                    target.user
                )?;
                continue;
            }
            let change = match now(target) {
                Some(now) => format!("{} {now} → {}", deed.subject(), deed.value()),
                None => deed.name(),
            };
            let children = match target.children {
                0 => String::new(),
                1 if deed.ends() => ", its child lives on".to_owned(),
                many if deed.ends() => format!(", its {many} children live on"),
                _ => String::new(),
            };
            writeln!(out, "would do {change} to {} of {}{children}", target.label(), target.user)?;
        }
        Ok(possible)
    }

    /// Why it would not be done to one of them.
    fn refusal(&self, target: &Target, deed: &Deed, against: &[(ProcessKey, Reason)]) -> Option<String> {
        let reason = against.iter().find(|(key, _)| *key == target.key && !self.anyway);
        let deaf = (target.kernel && deed.ends()).then_some(Reason::Kernel);
        reason
            .map(|(_, reason)| *reason)
            .or(deaf)
            .map(|reason| reason.words().to_owned())
            .or_else(|| foresee(target.key, deed).map(|outcome| Account::from(outcome).words()))
    }

    fn tell(&self, deed: &Deed, targets: &[Target], accounts: &[Account]) -> anyhow::Result<()> {
        let mut out = io::stdout().lock();
        let by = own::user();
        if self.format == Format::Json {
            let object = |(target, account): (&Target, &Account)| {
                let record = Record::new(deed, &by, target, account);
                let left: Vec<_> = account
                    .left
                    .iter()
                    .map(|left| json!({"pid": left.key.pid, "name": &*left.name}))
                    .collect();
                json!({
                    "pid": record.pid, "start": record.start, "name": record.name, "user": record.user,
                    "deed": record.deed, "before": account.before.as_ref().map(Deed::value),
                    "after": account.after.as_ref().map(Deed::value), "outcome": record.outcome, "done": record.done,
                    "left": left,
                })
            };
            let all: Vec<_> = targets.iter().zip(accounts).map(object).collect();
            writeln!(out, "{}", serde_json::to_string(&all)?)?;
            return Ok(());
        }
        for (target, account) in targets.iter().zip(accounts) {
            writeln!(out, "{} of {}: {}", target.label(), target.user, account.words())?;
            for left in &account.left {
                writeln!(
                    out,
                    "  {}[{}] lives on: started while it was told to end",
                    left.name, left.key.pid
                )?;
            }
        }
        Ok(())
    }
}

/// What speaks against it, in lines.
fn against_lines(choice: &Choice, against: &[(ProcessKey, Reason)]) -> Vec<String> {
    let line = |(key, reason): &(ProcessKey, Reason)| {
        let target = choice.targets.iter().find(|target| target.key == *key)?;
        Some(format!("{}: {}", target.label(), reason.words()))
    };
    against.iter().filter_map(line).collect()
}

fn count(targets: usize) -> String {
    if targets == 1 { "1 process".to_owned() } else { format!("{targets} processes") }
}

/// Keeps what was done beside the recording of a recorder that runs here, where this user may write there.
fn keep(host: &Arc<HostFacts>, deed: &Deed, targets: &[Target], accounts: &[Account], patience: Duration) {
    let Ok(Some(folder)) = recorders::running(Path::new("/proc")) else { return };
    let by = own::user();
    let records =
        targets.iter().zip(accounts).map(|(target, account)| Record::new(deed, &by, target, account));
    let wall = dozor_linux::clock::now().wall;
    let text = summary(deed, targets, accounts, "act", patience);
    let mark = Mark { deeds: records.collect(), ..Mark::new(wall, MarkKind::Action, text) };
    if let Err(error) = Notes::Folder(folder, by.to_string()).add(host, &mark) {
        problem::say(&format!("done, but not kept beside the recording: {error}"));
    }
}
