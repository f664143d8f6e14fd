//! Bad arguments and closed pipes: one clear line with the nearest right word.

use crate::recorder::RecordError;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use dozor_core::expr::ExpressionError;
use dozor_core::text::{clean, nearest, without_number};
use std::io::{self, Write as _};
use std::process::ExitCode;

/// Prints help and version where they were asked for, else one line on what is wrong, and ends with this status.
pub fn report(error: &clap::Error, commands: &[String], status: u8) -> ExitCode {
    if matches!(error.kind(), ErrorKind::DisplayHelp | ErrorKind::DisplayVersion) {
        let _ = error.print();
        return ExitCode::SUCCESS;
    }
    say(&sentence(error, commands));
    // The place in a wrong expression is shown below it.
    let source = std::error::Error::source(error).and_then(|source| source.downcast_ref::<ExpressionError>());
    if let Some(wrong) = source.filter(|wrong| !wrong.text.trim().is_empty()) {
        let (before, covered) = wrong.caret();
        // A sign that cannot stand on a screen takes one place, so that the caret stays below what it means.
        let shown =
            |c: char| if clean(c.encode_utf8(&mut [0; 4]).as_bytes()).starts_with(c) { c } else { ' ' };
        let text: String = wrong.text.chars().map(shown).collect();
        let _ = writeln!(io::stderr(), "  {text}\n  {}{}", " ".repeat(before), "^".repeat(covered));
    }
    ExitCode::from(status)
}

fn context(error: &clap::Error, kind: ContextKind) -> Option<String> {
    match error.get(kind)? {
        ContextValue::String(text) => Some(text.clone()),
        ContextValue::Strings(texts) => (!texts.is_empty()).then(|| texts.join(", ")),
        ContextValue::StyledStr(text) => Some(text.to_string()),
        ContextValue::StyledStrs(texts) => texts.first().map(ToString::to_string),
        _ => None,
    }
}

fn first_suggestion(error: &clap::Error, kind: ContextKind) -> Option<String> {
    match error.get(kind)? {
        ContextValue::String(text) => Some(text.clone()),
        ContextValue::Strings(texts) => texts.first().cloned(),
        _ => None,
    }
}

fn sentence(error: &clap::Error, commands: &[String]) -> String {
    let argument =
        context(error, ContextKind::InvalidArg).map(|text| clean(text.as_bytes())).unwrap_or_default();
    let value =
        context(error, ContextKind::InvalidValue).map(|text| clean(text.as_bytes())).unwrap_or_default();
    let did_you_mean = |kinds: &[ContextKind]| {
        let near = kinds.iter().find_map(|kind| first_suggestion(error, *kind));
        near.map_or_else(|| "; see dozor --help".to_owned(), |near| format!("; did you mean {near}?"))
    };
    match error.kind() {
        ErrorKind::UnknownArgument => {
            let near = did_you_mean(&[ContextKind::SuggestedArg, ContextKind::SuggestedSubcommand]);
            let what = if argument.starts_with('-') { "option" } else { "command" };
            format!("unknown {what} {argument}{near}")
        }
        ErrorKind::InvalidSubcommand => {
            let word = context(error, ContextKind::InvalidSubcommand).unwrap_or_default();
            let near = did_you_mean(&[ContextKind::SuggestedSubcommand]);
            format!("unknown command {}{near}", clean(word.as_bytes()))
        }
        ErrorKind::InvalidValue if value.is_empty() => format!("{argument} needs a value"),
        ErrorKind::InvalidValue => {
            let valid = context(error, ContextKind::ValidValue).unwrap_or_default();
            let near = first_suggestion(error, ContextKind::SuggestedValue);
            let near = near.map(|near| format!("; did you mean {near}?")).unwrap_or_default();
            let option = argument.split(' ').next().unwrap_or_default();
            format!("{option} cannot be '{value}'{near} (one of: {valid})")
        }
        // A first word that is no PID was meant as a command.
        ErrorKind::ValueValidation if argument.starts_with("[PID") => {
            let first = std::env::args().nth(1).is_some_and(|first| first == value);
            if first && value.starts_with(char::is_alphabetic) {
                let near = nearest(&value, commands.iter().map(String::as_str));
                let near =
                    near.map_or("; see dozor --help".to_owned(), |near| format!("; did you mean {near}?"));
                format!("unknown command {value}{near}")
            } else if value.starts_with("https://") {
                format!("{value}: TLS is left to a proxy; the address of its other side begins with http://")
            } else {
                format!("'{value}' is not a PID")
            }
        }
        ErrorKind::ValueValidation => {
            let reason = std::error::Error::source(error).map(ToString::to_string).unwrap_or_default();
            let (option, reason) = (argument.split(' ').next().unwrap_or_default(), clean(reason.as_bytes()));
            if reason.contains(&value) {
                format!("{option}: {reason}")
            } else {
                format!("{option} cannot be '{value}': {reason}")
            }
        }
        ErrorKind::MissingRequiredArgument => format!("{argument} is missing"),
        ErrorKind::ArgumentConflict => {
            let other = context(error, ContextKind::PriorArg).unwrap_or_default();
            format!("{argument} does not go together with {other}")
        }
        _ => {
            let text = error.to_string();
            let line = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
            clean(line.as_bytes())
        }
    }
}

/// Says something on standard error, in one line that is harmless whatever paths and names are in it. Where that is a terminal which is gone there is nobody to tell, and no reason to panic.
pub fn say(message: &str) {
    let _ = writeln!(io::stderr(), "dozor: {}", clean(message.as_bytes()));
}

/// An error and its causes in one line, each said once.
pub fn chain(error: &anyhow::Error) -> String {
    let causes = error.chain().map(|cause| match cause.downcast_ref::<io::Error>() {
        Some(error) => without_number(error),
        None => cause.to_string(),
    });
    let mut said: Vec<String> = vec![];
    for cause in causes {
        if !said.iter().any(|before| before.contains(&cause)) {
            said.push(cause);
        }
    }
    clean(said.join(": ").as_bytes())
}

/// What helps where the kernel refuses to show something: root already has all that a user can get.
pub fn who_may() -> &'static str {
    if rustix::process::geteuid().is_root() {
        "a security module or a container forbids it even to root"
    } else {
        "run as root to see all"
    }
}

/// What the operating system said, where it did; those who write CSV and JSON keep it to themselves.
fn kind_of(cause: &(dyn std::error::Error + 'static)) -> Option<io::ErrorKind> {
    let of_csv = |error: &csv::Error| match error.kind() {
        csv::ErrorKind::Io(error) => Some(error.kind()),
        _ => None,
    };
    let of_json = |error: &serde_json::Error| error.io_error_kind();
    cause
        .downcast_ref::<io::Error>()
        .map(io::Error::kind)
        .or_else(|| cause.downcast_ref().and_then(of_csv))
        .or_else(|| cause.downcast_ref().and_then(of_json))
}

/// Whether somebody merely closed the other end of a pipe.
pub fn is_closed_pipe(error: &anyhow::Error) -> bool {
    error.chain().any(|cause| {
        matches!(cause.downcast_ref(), Some(RecordError::PipeClosed))
            || kind_of(cause) == Some(io::ErrorKind::BrokenPipe)
    })
}
