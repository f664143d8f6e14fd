//! What to do next: an action by its name, so that the screen can say it with its key of now and the command line with a
//! command.

use super::culprit::Culprit;
use crate::lane::Lane;

/// An action to take next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// Look into the process that is named, at a page of it; the first one where it is empty.
    Inspect(&'static str),
    /// See what it calls, and where its time goes.
    Closely,
    /// Do something to it: the choice with this name.
    Act(&'static str),
    /// Go to a resource and its parts.
    Lane(Lane),
    /// See who has the subject open.
    Holders,
    /// See removed files that still take room.
    Removed,
    /// See who listens on which port.
    Ports,
    /// Put this moment beside another one.
    Difference,
    /// Read less often.
    LongerInterval,
    /// See what may not be read here.
    Access,
    /// Something outside of Dozor.
    Yourself,
}

/// A step, and what it is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Advice(pub Step, pub &'static str);

impl Step {
    /// Its name in outputs for programs.
    pub const fn name(self) -> &'static str {
        match self {
            Step::Inspect(_) => "inspect",
            Step::Closely => "look-closely",
            Step::Act(_) => "act",
            Step::Lane(_) => "lane",
            Step::Holders => "who-has-it-open",
            Step::Removed => "removed-files",
            Step::Ports => "who-listens",
            Step::Difference => "difference",
            Step::LongerInterval => "longer-interval",
            Step::Access => "access",
            Step::Yourself => "none",
        }
    }

    /// What it is done with: a page, a choice, a resource; empty where there is nothing to say.
    pub const fn with(self) -> &'static str {
        match self {
            Step::Inspect(with) | Step::Act(with) => with,
            Step::Lane(lane) => lane.name(),
            _ => "",
        }
    }

    /// The command that does it on this machine, for a finding with this subject and main culprit; none where there is none.
    /// What ends somebody only says what would happen.
    pub fn command(self, subject: &str, culprit: Option<&Culprit>) -> Option<String> {
        let pid = culprit.and_then(|one| one.pid).filter(|pid| *pid > 0);
        Some(match self {
            Step::Inspect(_) | Step::Closely => format!("dozor {}", pid?),
            Step::Act("nice") => format!("dozor nice 10 {}", pid?),
            Step::Act(signal @ ("TERM" | "KILL" | "CONT")) => {
                format!("dozor signal --dry-run {signal} {}", pid?)
            }
            Step::Holders if subject.starts_with('/') => format!("dozor files {}", quoted(subject)),
            Step::Removed => "dozor files --removed".to_owned(),
            Step::Ports => "dozor ports".to_owned(),
            Step::Access => "dozor access".to_owned(),
            _ => return None,
        })
    }
}

/// A word as a shell takes it.
fn quoted(word: &str) -> String {
    let plain = |letter: char| letter.is_alphanumeric() || "/._-+:@%,".contains(letter);
    if word.chars().all(plain) { word.to_owned() } else { format!("'{}'", word.replace('\'', r"'\''")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_name_who_is_there_and_quote_what_a_shell_would_take_apart() {
        let process = Culprit { pid: Some(3820), ..Culprit::thing("stacker[3820]") };
        let said = |step: Step, subject: &str| step.command(subject, Some(&process));
        assert_eq!(said(Step::Inspect("files"), "").as_deref(), Some("dozor 3820"));
        assert_eq!(said(Step::Act("TERM"), "").as_deref(), Some("dozor signal --dry-run TERM 3820"));
        assert_eq!(said(Step::Holders, "/archive").as_deref(), Some("dozor files /archive"));
        assert_eq!(said(Step::Holders, "/a b; rm 'x'").as_deref(), Some(r"dozor files '/a b; rm '\''x'\'''"));
        assert_eq!(said(Step::Holders, "sda"), None);
        assert_eq!(Step::Inspect("").command("", Some(&Culprit::thing("cc1 ×4"))), None);
        assert_eq!(Step::Lane(Lane::Cpu).command("", Some(&process)), None);
    }
}
