//! Looking for plain text in names and command lines.

use crate::reading::ProcessRow;

/// Plain text that processes must contain in their name, program or command; digits also name a PID.
/// Letter case counts only when the text holds a capital letter.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Contains {
    text: String,
    exact_case: bool,
    pid: Option<i64>,
}

impl Contains {
    /// Looks for this text; an empty one is everywhere.
    pub fn new(text: &str) -> Contains {
        let text = text.trim();
        Contains { text: text.to_owned(), exact_case: exact_case(text), pid: text.parse().ok() }
    }

    /// Whether a process has it.
    pub fn holds(&self, row: &ProcessRow) -> bool {
        self.text.is_empty()
            || [&row.name, &row.program, &row.command].into_iter().any(|text| self.is_in(text))
            || self.pid.is_some() && row.pid.value() == self.pid
    }

    fn is_in(&self, text: &str) -> bool {
        if self.exact_case {
            return text.contains(&self.text);
        }
        if text.is_ascii() && self.text.is_ascii() {
            let (text, wanted) = (text.as_bytes(), self.text.as_bytes());
            return text.windows(wanted.len()).any(|window| window.eq_ignore_ascii_case(wanted));
        }
        text.to_lowercase().contains(&self.text.to_lowercase())
    }
}

/// Whether letter case counts in a text that somebody typed.
pub fn exact_case(text: &str) -> bool {
    text.chars().any(char::is_uppercase)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::known::Raw;

    fn row(name: &str, command: &str) -> ProcessRow {
        ProcessRow { pid: Raw::new(42), name: name.into(), command: command.into(), ..ProcessRow::default() }
    }

    #[test]
    fn text_is_looked_for_in_name_command_or_pid() {
        let stacker = row("stacker", "/opt/Night/stacker --night 7");
        for kept in ["", "stack", "STACKER ", "--night 7", "Night", "42"] {
            assert_eq!(Contains::new(kept).holds(&stacker), !kept.starts_with("STACKER"), "{kept}");
        }
        assert!(!Contains::new("4").holds(&stacker), "part of a PID is not a PID");
        assert!(Contains::new("ážď").holds(&row("ŽÁŽĎ", "")), "letters beyond ASCII fold too");
    }
}
