//! The catalogue as a document.

use super::{Metric, PROCESS_METRICS, SYSTEM_METRICS};
use std::fmt::Write as _;

/// The text of `docs/metrics.md`.
pub fn markdown() -> String {
    let mut out = String::from(
        "# Metrics\n\nMade from the catalogue (`crates/core/src/catalogue`); a test keeps it current. Shares are in \
         percent, bytes and seconds are plain numbers in machine output. An unknown value is `null` in JSON, empty in \
         CSV and `–` on the screen; one that may not be read is `null` and named in `denied` in JSON, `denied` in \
         CSV and `×` on the screen. What is only the least that it may be (`≥` on the screen) is a number everywhere, and \
         in JSON its key is in `at_least`. Texts in CSV are the data as it is, and whoever starts a process chooses its name: \
         `--spreadsheet` puts an apostrophe before what a spreadsheet would take for a formula.\n",
    );
    section(&mut out, "A process", PROCESS_METRICS);
    section(&mut out, "The system", SYSTEM_METRICS);
    out
}

fn section(out: &mut String, title: &str, metrics: &[Metric]) {
    let _ = write!(
        out,
        "\n## {title}\n\n| alias | name | unit | kind | meaning | from |\n|---|---|---|---|---|---|\n"
    );
    for m in metrics {
        let (unit, kind) = (m.unit.word(), m.kind.word());
        let _ =
            writeln!(out, "| `{}` | `{}` | {unit} | {kind} | {} | `{}` |", m.alias, m.name, m.help, m.source);
    }
}
