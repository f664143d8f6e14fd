//! A report as a page for a browser: one file that fetches nothing, light and dark.

use super::{Part, Report};
use crate::chart::{Look, draw};
use crate::hues;
use crate::svg::{escaped, inline};
use dozor_core::lane::Severity;
use std::fmt::Write as _;

const WIDTH: f64 = 860.0;

/// The class of a severity.
fn class(severity: Option<Severity>) -> &'static str {
    match severity {
        None => "done",
        Some(Severity::Critical) => "critical",
        Some(Severity::Warning) => "warning",
        Some(Severity::Notice) => "notice",
        Some(Severity::Fine) => "fine",
    }
}

/// Writes it.
pub fn write(report: &Report) -> String {
    let mut out = format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n\
         <meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'\">\n<title>{}</title>\n<style>\n",
        escaped(&report.title)
    );
    out.push_str(&hues::style(0x00ff_ffff));
    out.push_str(include_str!("report.css"));
    let _ = write!(out, "</style>\n</head>\n<body>\n<main>\n<h1>{}</h1>\n", escaped(&report.title));
    let mut sections = 0;
    let headings = report.parts.iter().filter_map(|part| match part {
        Part::Heading(text) => Some(text),
        _ => None,
    });
    let links =
        headings.enumerate().map(|(at, text)| format!("<a href=\"#s{}\">{}</a>", at + 1, escaped(text)));
    let _ = writeln!(out, "<nav aria-label=\"Contents\">{}</nav>", links.collect::<Vec<_>>().join(" "));
    for part in &report.parts {
        match part {
            Part::Heading(text) => {
                sections += 1;
                let _ = writeln!(out, "<h2 id=\"s{sections}\">{}</h2>", escaped(text));
            }
            Part::Text(text) => {
                let _ = writeln!(out, "<p>{}</p>", escaped(text));
            }
            Part::Facts(facts) => {
                out.push_str("<dl>\n");
                for (name, value) in facts {
                    let _ = writeln!(out, "<dt>{}</dt><dd>{}</dd>", escaped(name), escaped(value));
                }
                out.push_str("</dl>\n");
            }
            Part::List(entries) => {
                out.push_str("<ul class=\"told\">\n");
                for entry in entries {
                    let _ = writeln!(
                        out,
                        "<li><span class=\"{}\">{}</span> <time>{}</time> {}</li>",
                        class(entry.severity),
                        entry.sign,
                        escaped(&entry.when),
                        escaped(&entry.text)
                    );
                }
                out.push_str("</ul>\n");
            }
            Part::Table(table) => {
                let _ = write!(
                    out,
                    "<div class=\"wide\"><table>\n<caption>{}</caption>\n<thead><tr>",
                    escaped(&table.title)
                );
                let side = |at: usize| if table.numbers[at] { " class=\"number\"" } else { "" };
                for (at, text) in table.headings.iter().enumerate() {
                    let _ = write!(out, "<th scope=\"col\"{}>{}</th>", side(at), escaped(text));
                }
                out.push_str("</tr></thead>\n<tbody>\n");
                for row in &table.rows {
                    out.push_str("<tr>");
                    for (at, text) in row.iter().enumerate() {
                        let _ = write!(out, "<td{}>{}</td>", side(at), escaped(text));
                    }
                    out.push_str("</tr>\n");
                }
                out.push_str("</tbody></table></div>\n");
            }
            Part::Chart(chart, height) => {
                for (light, name) in [(true, "light"), (false, "dark")] {
                    // A chart that is too small for its signs is not drawn; ours are large enough.
                    if let Ok(scene) = draw(chart, (WIDTH, height * 1.2), Look { light }) {
                        let _ = writeln!(out, "<figure class=\"{name}\">{}</figure>", inline(&scene));
                    }
                }
            }
        }
    }
    let _ = write!(out, "<footer>Dozor, {}</footer>\n</main>\n</body>\n</html>\n", escaped(&report.span));
    out
}
