//! `dozor files`: who has what open.

use super::chosen::{kept, sample};
use super::end::End;
use super::listed::{Format, Listed};
use super::problem;
use super::table::table;
use clap::{Args, ValueEnum};
use dozor_core::inside::FileKind;
use dozor_core::inside::holders::{Hold, Place, Way};
use dozor_core::units::{long_bytes, short_bytes};
use dozor_linux::inside::holding::{holders, place_of};
use serde_json::json;
use std::collections::HashSet;
use std::io::{self, Write as _};
use std::path::PathBuf;

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Kind {
    /// Files with a name
    File,
    /// Folders, and who works in them
    Folder,
    /// Devices
    Device,
    /// FIFOs
    Pipe,
    /// Shared memory
    Memory,
}

#[derive(Args)]
pub struct Files {
    /// A file, a folder with all below it, a mount point with all that is on it, or a device [default: everything with a name]
    #[arg(value_name = "PATH")]
    path: Option<PathBuf>,
    /// Only removed files that still take room because they are open
    #[arg(long, conflicts_with = "path")]
    removed: bool,
    /// Only this kind
    #[arg(long, value_enum)]
    kind: Option<Kind>,
    #[command(flatten)]
    listed: Listed,
}

impl Files {
    /// Status 1 where nobody was found.
    pub fn run(self) -> anyhow::Result<End> {
        self.listed.check()?;
        let place = match &self.path {
            Some(path) => place_of(path).map_err(anyhow::Error::msg)?,
            None if self.removed => Place::Removed,
            None => Place::All,
        };
        let mut found = holders(&self.listed.kernel.roots(), &place);
        if self.listed.kept.says() {
            let mut narrowing = self.listed.kept.narrowing()?;
            let sample = sample(&self.listed.kernel, narrowing.wanted(), true)?;
            let meant: HashSet<_> = kept(&mut narrowing, &sample).into_iter().collect();
            found.list.retain(|hold| meant.contains(&hold.key));
        }
        if let Some(kind) = self.kind {
            found.list.retain(|hold| is_kind(hold, kind));
        }
        match self.listed.format {
            Format::Table => {
                let rows: Vec<Vec<String>> = found.list.iter().map(row).collect();
                let headings = ["pid", "process", "user", "how", "kind", "size", "path"];
                table(&headings, &[0, 5], &rows, &mut io::stdout().lock())?;
                let removed = found.removed_bytes();
                if removed > 0 {
                    problem::say(&format!(
                        "removed files that are still open take {}",
                        long_bytes(removed as f64)
                    ));
                }
            }
            Format::Json => {
                let files: Vec<_> = found.list.iter().map(object).collect();
                let whole = json!({
                    "files": files, "processes_not_permitted": found.denied, "removed_bytes": found.removed_bytes(),
                });
                writeln!(io::stdout().lock(), "{whole}")?;
            }
            Format::Csv => {
                let mut writer = csv::Writer::from_writer(io::stdout().lock());
                writer.write_record([
                    "pid",
                    "process",
                    "user",
                    "how",
                    "descriptor",
                    "mode",
                    "kind",
                    "size",
                    "holds",
                    "offset",
                    "removed",
                    "path",
                ])?;
                for hold in &found.list {
                    let number = |raw: dozor_core::known::Raw| {
                        raw.value().map_or_else(String::new, |value| value.to_string())
                    };
                    let file = &hold.file;
                    writer.write_record([
                        hold.key.pid.to_string(),
                        self.listed.cells.text(&hold.name),
                        self.listed.cells.text(&hold.user),
                        hold.way.word().to_owned(),
                        if file.descriptor < 0 { String::new() } else { file.descriptor.to_string() },
                        file.mode().to_owned(),
                        file.kind.word().to_owned(),
                        number(file.size),
                        number(file.holds),
                        number(file.offset),
                        file.removed.to_string(),
                        self.listed.cells.text(&file.target),
                    ])?;
                }
                writer.flush()?;
            }
        }
        if found.denied > 0 {
            problem::say(&format!(
                "{} of {} processes may not be looked into; {}",
                found.denied,
                found.denied + found.looked,
                problem::who_may()
            ));
        }
        if found.cut {
            problem::say("there is more than is kept; name a path");
        }
        Ok(if found.list.is_empty() { End::Status(1) } else { End::Done })
    }
}

fn is_kind(hold: &Hold, kind: Kind) -> bool {
    match kind {
        Kind::File => hold.file.kind == FileKind::File,
        Kind::Folder => hold.file.kind == FileKind::Folder,
        Kind::Device => hold.file.kind == FileKind::Device,
        Kind::Pipe => hold.file.kind == FileKind::Pipe,
        Kind::Memory => hold.file.kind == FileKind::Memory,
    }
}

fn row(hold: &Hold) -> Vec<String> {
    let file = &hold.file;
    let how = if hold.way == Way::Open { file.mode() } else { hold.way.word() };
    let removed = if file.removed { "   removed" } else { "" };
    vec![
        hold.key.pid.to_string(),
        hold.name.to_string(),
        hold.user.to_string(),
        how.to_owned(),
        file.kind.word().to_owned(),
        file.size.value().map_or_else(|| "–".to_owned(), |size| short_bytes(size as f64)),
        format!("{}{removed}", file.target),
    ]
}

fn object(hold: &Hold) -> serde_json::Value {
    let file = &hold.file;
    json!({
        "pid": hold.key.pid, "process": &*hold.name, "user": &*hold.user, "how": hold.way.word(),
        "descriptor": (file.descriptor >= 0).then_some(file.descriptor), "mode": file.mode(), "kind": file.kind.word(),
        "path": file.target, "size": file.size.value(), "holds": file.holds.value(), "offset": file.offset.value(),
        "removed": file.removed,
    })
}
