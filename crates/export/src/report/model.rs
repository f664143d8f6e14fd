//! A report without its form.

use crate::chart::Chart;
use dozor_core::lane::Severity;

/// What is asked of a report.
#[derive(Clone, Debug)]
pub struct Asked {
    /// Its title; none for the host and the time.
    pub title: Option<String>,
    /// Programs of each table at most.
    pub users: usize,
}

impl Default for Asked {
    fn default() -> Asked {
        Asked { title: None, users: 6 }
    }
}

/// A line about something that happened.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// Its sign.
    pub sign: char,
    /// How bad it is; none of an action or a note.
    pub severity: Option<Severity>,
    /// When.
    pub when: String,
    /// What.
    pub text: String,
}

/// A table.
#[derive(Clone, Debug, PartialEq)]
pub struct Table {
    /// What it is.
    pub title: String,
    /// Headings.
    pub headings: Vec<String>,
    /// Which columns are numbers.
    pub numbers: Vec<bool>,
    /// Rows.
    pub rows: Vec<Vec<String>>,
}

/// A part of a report.
#[derive(Clone, Debug)]
pub enum Part {
    /// Begins a section.
    Heading(String),
    /// A paragraph.
    Text(String),
    /// Names and what they are.
    Facts(Vec<(String, String)>),
    /// What happened.
    List(Vec<Entry>),
    /// A table.
    Table(Table),
    /// A chart of such a height.
    Chart(Box<Chart>, f64),
}

/// A report.
#[derive(Clone, Debug)]
pub struct Report {
    /// Its title.
    pub title: String,
    /// The host.
    pub host: String,
    /// The time that it is about.
    pub span: String,
    /// Its parts.
    pub parts: Vec<Part>,
}
