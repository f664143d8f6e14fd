//! Narrowing by plain text.

use crate::reading::ProcessRow;

/// Plain text that processes must contain in their name, program or command; digits also name a PID.
/// Letter case counts only when the text holds a capital letter.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Narrow {
    text: String,
    exact_case: bool,
    pid: Option<i64>,
}

impl Narrow {
    /// Narrows by this text; an empty one keeps everything.
    pub fn by_text(text: &str) -> Narrow {
        let text = text.trim();
        let exact_case = text.chars().any(char::is_uppercase);
        Narrow { text: text.to_owned(), exact_case, pid: text.parse().ok() }
    }

    /// The text, empty where nothing is narrowed.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether everything is kept.
    pub fn is_empty(&self) -> bool {
        self.text.is_empty()
    }

    /// Whether a process matches.
    pub fn keeps(&self, row: &ProcessRow) -> bool {
        self.is_empty()
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::known::Raw;

    fn row(name: &str, command: &str) -> ProcessRow {
        ProcessRow { pid: Raw::new(42), name: name.into(), command: command.into(), ..ProcessRow::default() }
    }

    #[test]
    fn text_narrows_by_name_command_or_pid() {
        let stacker = row("stacker", "/opt/Night/stacker --night 7");
        for kept in ["", "stack", "STACKER ", "--night 7", "Night", "42"] {
            assert_eq!(Narrow::by_text(kept).keeps(&stacker), !kept.starts_with("STACKER"), "{kept}");
        }
        assert!(!Narrow::by_text("4").keeps(&stacker), "part of a PID is not a PID");
        assert!(Narrow::by_text("ážď").keeps(&row("ŽÁŽĎ", "")), "letters beyond ASCII fold too");
    }
}
