//! Marks for recordings that somebody else writes, or that are finished.

use super::error::{RecordError, failed};
use dozor_core::reading::HostFacts;
use dozor_core::recording::{Mark, StreamReader, Writer, mark_frame};
use dozor_linux::files;
use rustix::fs::{FlockOperation, flock};
use std::fs::File;
use std::io::{self, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Where marks are kept.
#[derive(Clone, Debug)]
pub enum Notes {
    /// In a recording that is finished.
    Recording(PathBuf),
    /// In a folder of segments: in a file of this user's own beside them.
    Folder(PathBuf, String),
}

impl Notes {
    /// Keeps a mark.
    pub fn add(&self, host: &Arc<HostFacts>, mark: &Mark) -> Result<(), RecordError> {
        match self {
            Notes::Recording(path) => add(path, mark),
            Notes::Folder(folder, user) => {
                let name: String = [&host.name, user]
                    .map(|text| {
                        text.chars().map(|c| if c.is_alphanumeric() { c } else { '_' }).collect::<String>()
                    })
                    .join("-marks-");
                let path = folder.join(format!("{name}.dozor"));
                let (mode, group) = files::rights_in(folder);
                let opened = files::open_or_create_own(&path, mode);
                let mut file = opened.map_err(|error| failed(&path, error))?;
                files::give_to_group(&file, group);
                let length = locked(&path, &mut file)?;
                let mut bytes = vec![];
                if length == 0 {
                    Writer::new(host.clone(), None).begin(&mut bytes);
                }
                bytes.extend_from_slice(&mark_frame(mark));
                file.write_all(&bytes).map_err(|error| failed(&path, error))
            }
        }
    }
}

/// Adds a mark behind the end of a finished recording; what is there stays as it is.
pub fn add(path: &Path, mark: &Mark) -> Result<(), RecordError> {
    let failed = |error| failed(path, error);
    let mut file = files::open_own(path).map_err(failed)?;
    locked(path, &mut file)?;
    file.rewind().map_err(failed)?;
    StreamReader::open(&file, false)
        .map_err(|error| failed(io::Error::new(io::ErrorKind::InvalidData, error.to_string())))?;
    file.seek(SeekFrom::End(0)).map_err(failed)?;
    file.write_all(&mark_frame(mark)).and_then(|()| file.sync_data()).map_err(failed)
}

/// Takes the lock of a file that nobody writes into and goes to its end; gives its length.
fn locked(path: &Path, file: &mut File) -> Result<u64, RecordError> {
    if flock(&*file, FlockOperation::NonBlockingLockExclusive).is_err() {
        return Err(RecordError::Taken { folder: path.to_owned(), pid: None });
    }
    file.seek(SeekFrom::End(0)).map_err(|error| failed(path, error))
}
