//! Tables for people: columns as wide as what stands in them.

use std::io::{self, Write};
use unicode_width::UnicodeWidthStr as _;

/// Writes rows below headings; columns of numbers stand at their right edge, the last one takes what it needs.
pub fn table(
    headings: &[&str],
    numbers: &[usize],
    rows: &[Vec<String>],
    out: &mut impl Write,
) -> io::Result<()> {
    let widths: Vec<usize> = headings
        .iter()
        .enumerate()
        .map(|(at, heading)| rows.iter().map(|row| row[at].width()).max().unwrap_or(0).max(heading.width()))
        .collect();
    let mut line = |cells: &[&str]| {
        let padded = cells.iter().enumerate().map(|(at, cell)| {
            let blanks = " ".repeat(widths[at].saturating_sub(cell.width()));
            if numbers.contains(&at) { format!("{blanks}{cell}") } else { format!("{cell}{blanks}") }
        });
        writeln!(out, "{}", padded.collect::<Vec<_>>().join("  ").trim_end())
    };
    line(headings)?;
    for row in rows {
        line(&row.iter().map(String::as_str).collect::<Vec<_>>())?;
    }
    Ok(())
}
