//! The report of an incident: whose machine, which time, what stood out with charts of it, who used what, what differed from
//! before, what was done and noted. It is put together once ([`Report::new`]) as headings, texts, lists, tables and charts, and
//! written as a PDF ([`pages`]), as one HTML file ([`html`]) or as Markdown ([`markdown`]).

mod contents;
mod html;
mod markdown;
mod model;
mod pages;

pub use model::{Asked, Entry, Part, Report, Table};

use crate::pdf::{self, About};
use dozor_core::recording::ReadError;
use dozor_core::timeline::Timeline;
use std::ops::Range;

impl Report {
    /// A report of a range of samples.
    pub fn new(timeline: &mut Timeline, numbers: Range<usize>, asked: &Asked) -> Result<Report, ReadError> {
        contents::report(timeline, numbers, asked)
    }

    /// As a PDF.
    pub fn pdf(&self) -> Vec<u8> {
        let about = About {
            title: self.title.clone(),
            author: format!("Dozor on {}", self.host),
            subject: self.span.clone(),
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
