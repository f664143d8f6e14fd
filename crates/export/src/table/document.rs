//! The schema of all tables as a document.

use super::{Table, VERSION, Which};
use std::fmt::Write as _;

/// The text of `docs/output.md`.
pub fn markdown() -> String {
    let mut out = format!(
        "# Tables\n\nMade from the tables' own columns; a test keeps it current. This is version **{VERSION}** of the schema; it stands in \
         Parquet files as `dozor.schema.version`. The version grows when a column changes its meaning, type or unit, or goes; new columns may \
         come at any time, so read columns by their keys.\n\n\
         `dozor export --table NAME` and `dozor snapshot --table NAME` write them as text, CSV (RFC 4180), JSON, JSON Lines and Parquet. \
         `--columns` chooses metrics, in that order; without it a table has the columns that are marked with a dot.\n\n\
         | | CSV | JSON | Parquet | text |\n|---|---|---|---|---|\n\
         | not known, not there | empty | `null` | null | `–` |\n\
         | not permitted | `denied` | `null`, key in `denied` | null, key in the column `denied` | `×` |\n\
         | at least so much (≥) | the number | the number, key in `at_least` | the number, key in the column `at_least` | `≥` before it |\n\
         | `time` | RFC 3339 in the host's zone | the same | INT64, nanoseconds since 1970 (UTC) | in the host's zone |\n\
         | other times | seconds since 1970 | the same | INT64, nanoseconds since 1970 (UTC) | in the host's zone |\n\
         | whole number | digits | number | INT64 | short |\n\
         | number | as few digits as say it exactly | the same | DOUBLE | short |\n\
         | text | UTF-8 | the same | UTF-8 | UTF-8 |\n\n\
         Row groups of Parquet are by time, compression is zstd; the metadata has `dozor.table`, `host.name`, `time_zone`, and of each column \
         `column.KEY.unit`, `.meaning`, `.kind` and `.name` (that of the OpenTelemetry semantic conventions, where those have one).\n"
    );
    for which in Which::ALL {
        let usual = Table::new(which, super::Chosen::default())
            .map(|table| table.columns().to_vec())
            .unwrap_or_default();
        let _ = write!(
            out,
            "\n## {}\n\n{}\n\n|  | key | type | unit | meaning |\n|---|---|---|---|---|\n",
            which.name(),
            which.help()
        );
        for column in Table::all_columns(which) {
            let dot = if usual.contains(&column) { "·" } else { "" };
            let _ = writeln!(
                out,
                "| {dot} | `{}` | {} | {} | {} |",
                column.key,
                column.kind.word(),
                column.unit,
                column.help
            );
        }
    }
    out
}
