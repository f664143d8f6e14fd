//! Why a recording cannot be written.

use dozor_core::text::without_number;
use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// What was written is made safe on the disk so often.
pub const SAFE_EVERY: Duration = Duration::from_secs(60);

/// Why a recording cannot be begun or goes no further; the file is named.
#[derive(Debug, thiserror::Error)]
pub enum RecordError {
    /// The file is there and holds something.
    #[error("{} is there already; choose another name, or remove it first", .0.display())]
    Exists(PathBuf),
    /// The path is a folder where a file is meant.
    #[error("{} is a folder, not a file", .0.display())]
    Folder(PathBuf),
    /// Another recorder writes there.
    #[error("{}: another recorder writes here{}", folder.display(), pid.map_or(String::new(), |pid| format!(" (PID {pid})")))]
    Taken {
        /// The folder or file.
        folder: PathBuf,
        /// Who it is, where that is known.
        pid: Option<i64>,
    },
    /// Whoever reads the pipe has gone; no failure.
    #[error("nobody reads the recording any more")]
    PipeClosed,
    /// The end of a recording may not be on the disk.
    #[error("{account}; not all of it may be on the disk: {}", without_number(error))]
    NotSafe {
        /// What was written and what was lost.
        account: String,
        /// What the system said.
        error: io::Error,
    },
    /// Anything else the system says.
    #[error("{}: {}", path.display(), without_number(error))]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system said.
        error: io::Error,
    },
}

/// An error of the system at a path.
pub fn failed(path: &Path, error: io::Error) -> RecordError {
    match error.kind() {
        ErrorKind::BrokenPipe => RecordError::PipeClosed,
        ErrorKind::IsADirectory => RecordError::Folder(path.to_owned()),
        _ => RecordError::Io { path: path.to_owned(), error },
    }
}
