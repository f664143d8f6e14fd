//! Writing a recording to a file, a device or a pipe.

use dozor_core::reading::{HostFacts, Reading};
use dozor_core::recording::Encoder;
use dozor_core::text::without_number;
use dozor_core::units::long_bytes;
use std::fs::{File, OpenOptions};
use std::io::{self, ErrorKind, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// Why a recording cannot be written; the file is named.
#[derive(Debug, thiserror::Error)]
pub enum RecordError {
    /// The file is there and holds something.
    #[error("{} is there already; choose another name, or remove it first", .0.display())]
    Exists(PathBuf),
    /// The path is a folder.
    #[error("{} is a folder, not a file", .0.display())]
    Folder(PathBuf),
    /// Whoever reads the pipe has gone; no failure.
    #[error("nobody reads the recording any more")]
    PipeClosed,
    /// Anything else the system says.
    #[error("{}: {}", path.display(), without_number(error))]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system said.
        error: io::Error,
    },
}

/// A recording that is being written. Each reading is handed to the system at once, so that a crash of Dozor
/// loses at most the last one; a crash of the machine loses what the system had not yet written.
pub struct Recorder {
    path: PathBuf,
    out: Box<dyn Write + Send>,
    file: Option<File>,
    encoder: Encoder,
    buffer: Vec<u8>,
    readings: u64,
    bytes: u64,
}

impl Recorder {
    /// Begins a recording in a new file; `-` is standard output. An existing file with content stays as it is.
    pub fn create(path: &Path, host: &HostFacts, every: Duration) -> Result<Recorder, RecordError> {
        let (out, file): (Box<dyn Write + Send>, _) = if path == Path::new("-") {
            (Box::new(io::stdout()), None)
        } else {
            let file = open_new(path)?;
            let copy = file.try_clone().map_err(|error| RecordError::Io { path: path.to_owned(), error })?;
            (Box::new(file), Some(copy))
        };
        let (encoder, buffer) = (Encoder::default(), Encoder::head(host, Some(every)));
        let path = path.to_owned();
        let mut recorder = Recorder { path, out, file, encoder, buffer, readings: 0, bytes: 0 };
        recorder.hand_over()?;
        Ok(recorder)
    }

    /// Where it is written.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Writes a reading.
    pub fn write(&mut self, reading: &Arc<Reading>) -> Result<(), RecordError> {
        self.buffer.clear();
        self.encoder.put(reading, &mut self.buffer);
        self.hand_over()?;
        self.readings += 1;
        Ok(())
    }

    fn hand_over(&mut self) -> Result<(), RecordError> {
        let written = self.out.write_all(&self.buffer).and_then(|()| self.out.flush());
        written.map_err(|error| self.failed(error))?;
        self.bytes += self.buffer.len() as u64;
        Ok(())
    }

    fn failed(&self, error: io::Error) -> RecordError {
        if error.kind() == ErrorKind::BrokenPipe {
            return RecordError::PipeClosed;
        }
        let path =
            if self.path == Path::new("-") { PathBuf::from("standard output") } else { self.path.clone() };
        RecordError::Io { path, error }
    }

    /// Makes sure that everything is on the disk and gives an account.
    pub fn finish(self) -> Result<String, RecordError> {
        if let Some(file) = &self.file
            && file.metadata().is_ok_and(|data| data.is_file())
        {
            file.sync_all().map_err(|error| self.failed(error))?;
        }
        let readings =
            if self.readings == 1 { "1 reading".to_owned() } else { format!("{} readings", self.readings) };
        Ok(format!("{readings}, {} in {}", long_bytes(self.bytes as f64), self.path.display()))
    }
}

/// Opens a file that is new or empty; a device may be written as it is.
fn open_new(path: &Path) -> Result<File, RecordError> {
    let failed = |error: io::Error| match error.kind() {
        ErrorKind::IsADirectory => RecordError::Folder(path.to_owned()),
        _ => RecordError::Io { path: path.to_owned(), error },
    };
    let file = OpenOptions::new().write(true).create(true).truncate(false).open(path).map_err(failed)?;
    let data = file.metadata().map_err(failed)?;
    if data.is_file() && data.len() > 0 { Err(RecordError::Exists(path.to_owned())) } else { Ok(file) }
}
