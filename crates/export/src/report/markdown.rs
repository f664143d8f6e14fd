//! A report as Markdown: tables and lists as text, lanes as strips of blocks.

use super::{Part, Report};
use crate::chart::{Chart, Panel};
use std::fmt::Write as _;

/// What would be read as markup is taken as it is.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for letter in text.chars() {
        match letter {
            '|' | '*' | '_' | '`' | '[' | ']' | '<' | '>' | '#' | '\\' | '~' | '!' => {
                out.push('\\');
                out.push(letter);
            }
            '&' => out.push_str("&amp;"),
            '\n' | '\r' => out.push(' '),
            letter => out.push(letter),
        }
    }
    out
}

/// Writes it.
pub fn write(report: &Report) -> String {
    let mut out = format!("# {}\n", plain(&report.title));
    for part in &report.parts {
        match part {
            Part::Heading(text) => {
                let _ = write!(out, "\n## {}\n", plain(text));
            }
            Part::Text(text) => {
                let _ = write!(out, "\n{}\n", plain(text));
            }
            Part::Facts(facts) => {
                out.push('\n');
                for (name, value) in facts {
                    let _ = writeln!(out, "- **{}**: {}", plain(name), plain(value));
                }
            }
            Part::List(entries) => {
                out.push('\n');
                for entry in entries {
                    let _ = writeln!(out, "- {} {}: {}", entry.sign, plain(&entry.when), plain(&entry.text));
                }
            }
            Part::Table(table) => {
                let _ = write!(out, "\n{}\n\n", plain(&table.title));
                let row = |cells: Vec<String>| format!("| {} |\n", cells.join(" | "));
                out.push_str(&row(table.headings.iter().map(|text| plain(text)).collect()));
                let side = table.numbers.iter().map(|number| if *number { "---:" } else { "---" }.to_owned());
                out.push_str(&row(side.collect()));
                for cells in &table.rows {
                    out.push_str(&row(cells.iter().map(|text| plain(text)).collect()));
                }
            }
            Part::Chart(chart, _) => strips(chart, &mut out),
        }
    }
    out
}

/// Lanes as strips of blocks, as on the screen.
fn strips(chart: &Chart, out: &mut String) {
    const BLOCKS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    const CELLS: usize = 72;
    let lanes: Vec<_> = chart
        .panels
        .iter()
        .filter_map(|panel| match panel {
            Panel::Lane(lane, points) => Some((lane, points)),
            _ => None,
        })
        .collect();
    if lanes.is_empty() {
        return;
    }
    let span = (chart.until_ns - chart.from_ns).max(1);
    out.push_str("\n```text\n");
    for (lane, points) in lanes {
        let mut cells = [f64::NAN; CELLS];
        for point in points {
            let place = |wall: i64| {
                ((i128::from(wall - chart.from_ns) * CELLS as i128 / i128::from(span)) as usize)
                    .min(CELLS - 1)
            };
            for cell in &mut cells[place(point.from_ns.max(chart.from_ns))..=place(point.until_ns - 1)] {
                *cell = cell.max(point.high);
            }
        }
        let most = points.iter().map(|point| point.high).fold(0.0, f64::max);
        // A share is held against all, anything else against its largest.
        let full = if most <= 100.0 { 100.0 } else { most };
        let strip: String = cells
            .iter()
            .map(|value| match value {
                value if value.is_nan() => ' ',
                value => BLOCKS[((value / full * 8.0).ceil() as usize).clamp(1, 8)],
            })
            .collect();
        let _ = writeln!(out, "{:<8} {strip}", lane.name());
    }
    let (from, until) = (chart.zone.time(chart.from_ns), chart.zone.time(chart.until_ns));
    let _ = writeln!(out, "{:<8} {from}{until:>width$}", "", width = CELLS - from.len());
    out.push_str("```\n");
}
