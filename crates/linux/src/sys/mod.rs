//! The files of `/sys` and of `/run`, one module each.

pub mod links;
pub mod sensors;
pub mod sessions;

use crate::proc::{number, read_file};
use std::path::Path;

/// A file that holds one number.
fn number_in(path: &Path) -> Option<i64> {
    number(read_file(path).ok()?.trim_ascii())
}

/// A file that holds one line of text, cleaned.
fn text_in(path: &Path) -> Option<String> {
    let text = dozor_core::text::clean(read_file(path).ok()?.trim_ascii());
    (!text.is_empty()).then_some(text)
}
