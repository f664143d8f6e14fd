//! The report of an incident: whose machine, which time, what stood out with charts of it, who used what, what differed from
//! before, what was done and noted. It is put together once ([`Report::new`]) as headings, texts, lists, tables and charts, and
//! written as a PDF ([`pages`]), as one HTML file ([`html`]) or as Markdown ([`markdown`]).

mod contents;
mod html;
mod markdown;
mod pages;

use crate::chart::Chart;
use crate::pdf::{self, About, PdfError};
use dozor_core::lane::Severity;
use dozor_core::recording::ReadError;
use dozor_core::timeline::Timeline;
use std::ops::Range;

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

impl Report {
    /// A report of a range of samples.
    pub fn new(timeline: &mut Timeline, numbers: Range<usize>, asked: &Asked) -> Result<Report, ReadError> {
        contents::report(timeline, numbers, asked)
    }

    /// As a PDF.
    pub fn pdf(&self) -> Result<Vec<u8>, PdfError> {
        let about = About {
            title: self.title.clone(),
            author: format!("Dozor on {}", self.host),
            subject: self.span.clone(),
            made_ns: None,
        };
        pdf::write(&pages::pages(self), &about)
    }

    /// As a page for a browser, all in one file.
    pub fn html(&self) -> String {
        html::write(self)
    }

    /// As Markdown.
    pub fn markdown(&self) -> String {
        markdown::write(self)
    }
}
