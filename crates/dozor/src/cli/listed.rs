//! How whatever is listed is asked for and written: open files, and who listens.

use super::cells::Cells;
use super::options::{Kept, KernelFiles, Misuse};
use clap::{Args, ValueEnum};

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people
    Table,
    /// One object
    Json,
    /// One row for each
    Csv,
}

#[derive(Args)]
pub struct Listed {
    /// How it is written
    #[arg(long, value_enum, default_value = "table")]
    pub format: Format,
    #[command(flatten)]
    pub cells: Cells,
    #[command(flatten)]
    pub kept: Kept,
    #[command(flatten)]
    pub kernel: KernelFiles,
}

impl Listed {
    /// Refuses what does not go together.
    pub fn check(&self) -> Result<(), Misuse> {
        self.cells.check(self.format == Format::Csv)?;
        self.kept.check_users()
    }
}
