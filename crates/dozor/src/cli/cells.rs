//! Cells of CSV (RFC 4180).

use super::options::Misuse;
use clap::Args;
use dozor_core::catalogue::Value;

/// How texts stand in CSV.
#[derive(Args, Clone, Copy)]
pub struct Cells {
    /// CSV that a spreadsheet will open: texts that it would take for a formula (they begin with = + - @, a tab or a line end) get an
    /// apostrophe in front. Without it cells are the data as it is, and whoever may start a process chooses its name
    #[arg(long)]
    spreadsheet: bool,
}

impl Cells {
    /// For a spreadsheet.
    pub const PROTECTED: Cells = Cells { spreadsheet: true };

    /// The data as it is.
    pub const PLAIN: Cells = Cells { spreadsheet: false };

    /// Whether a spreadsheet will open it.
    pub fn spreadsheet(self) -> bool {
        self.spreadsheet
    }

    /// Refuses to protect what is no CSV.
    pub fn check(self, is_csv: bool) -> Result<(), Misuse> {
        if self.spreadsheet && !is_csv {
            return Err(Misuse("--spreadsheet is for --format csv".to_owned()));
        }
        Ok(())
    }

    /// A text as a cell.
    pub fn text(self, text: &str) -> String {
        let is_formula = text.starts_with(['=', '+', '-', '@', '\t', '\r', '\n']);
        if self.spreadsheet && is_formula { format!("'{text}") } else { text.to_owned() }
    }

    /// A value as a cell. What is not there is empty; what is not permitted says so.
    pub fn value(self, value: &Value, number: impl Fn(f64) -> String) -> String {
        match value {
            Value::Number(value) => number(*value),
            Value::Text(text) => self.text(text),
            Value::Word(word) => (*word).to_owned(),
            Value::Absent => String::new(),
            Value::Denied => "denied".to_owned(),
        }
    }
}
