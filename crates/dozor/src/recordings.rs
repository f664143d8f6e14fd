//! Recordings by the paths that people give: a file, several, or a folder of segments as one timeline.

use dozor_core::recording::Frames;
use dozor_core::text::without_number;
use dozor_core::timeline::Timeline;
use dozor_core::units::short_bytes;
use dozor_linux::files::open as open_file;
use std::fs::File;
use std::io::ErrorKind;
use std::io::{self, IsTerminal as _};
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Instant;

/// Recordings that were opened together.
pub struct Opened {
    /// Their samples.
    pub timeline: Timeline,
    /// The files, oldest name first.
    pub files: Vec<PathBuf>,
    /// Folders among what was given.
    pub folders: Vec<PathBuf>,
    /// What could not be read, file by file.
    pub problems: Vec<String>,
}

/// The name that stands for standard input.
pub const STANDARD_INPUT: &str = "-";

/// All that arrives on standard input, in a file that is gone when it is closed.
fn arrived() -> io::Result<File> {
    let mut file = tempfile::tempfile()?;
    io::copy(&mut io::stdin().lock(), &mut file)?;
    Ok(file)
}

/// The recordings in a folder, by name.
pub fn in_folder(folder: &Path) -> io::Result<Vec<PathBuf>> {
    let mut files: Vec<PathBuf> = vec![];
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.extension().is_some_and(|extension| extension == "dozor") {
            files.push(path);
        }
    }
    files.sort();
    Ok(files)
}

/// Opens files and folders as one timeline.
pub fn open(paths: &[PathBuf]) -> anyhow::Result<Opened> {
    let (mut files, mut folders) = (vec![], vec![]);
    for path in paths {
        // What arrives on standard input is kept in a file without a name while it is looked at.
        if path == Path::new(STANDARD_INPUT) {
            files.push(path.clone());
            continue;
        }
        let data = std::fs::metadata(path)
            .map_err(|error| anyhow::anyhow!("{}: {}", path.display(), without_number(&error)))?;
        if data.is_dir() {
            let found = in_folder(path)
                .map_err(|error| anyhow::anyhow!("{}: {}", path.display(), without_number(&error)))?;
            if found.is_empty() {
                anyhow::bail!("{} holds no recording", path.display());
            }
            files.extend(found);
            folders.push(path.clone());
        } else {
            files.push(path.clone());
        }
    }
    let mut problems = vec![];
    let opening = Opening::begin();
    let (timeline, failed) = Timeline::of_recordings(frames(&files, open_file, &opening, &mut problems));
    drop(opening);
    for (place, error) in failed {
        problems.push(format!("{}: {error}", files[place].display()));
    }
    let damages = timeline.damages();
    if timeline.is_empty() {
        let reason = match (problems.first(), damages.first()) {
            (Some(problem), _) => problem.clone(),
            (None, Some(damage)) => format!("{}: {damage}", files[0].display()),
            (None, None) => format!("{}: it holds no reading", files[0].display()),
        };
        anyhow::bail!("{reason}");
    }
    let what = if let ([file], []) = (&files[..], &folders[..]) {
        file.display().to_string()
    } else {
        "the recording".to_owned()
    };
    if let Some(first) = damages.first() {
        problems.push(match damages.len() {
            1 => format!("{what} is {first}"),
            many => format!("{what} is {first}; {} more places are damaged", many - 1),
        });
    }
    Ok(Opened { timeline, files, folders, problems })
}

/// What stands on the screen of all that was left out: the first, and how many more there are.
pub fn told(problems: &[String]) -> Option<String> {
    let first = problems.first()?;
    Some(match problems.len() - 1 {
        0 => first.clone(),
        more => format!("{first} (and {more} more; dozor query --list tells all)"),
    })
}

/// The files as frames, each opened as `open` says, `-` from standard input; one that cannot be opened is told and counts as empty.
pub fn frames(
    files: &[PathBuf],
    open: fn(&Path) -> io::Result<File>,
    opening: &Opening,
    problems: &mut Vec<String>,
) -> Vec<Arc<dyn Frames>> {
    let mut all: Vec<Arc<dyn Frames>> = vec![];
    for path in files {
        let opened = if path == Path::new(STANDARD_INPUT) { arrived() } else { open(path) };
        match opened {
            Ok(file) => all.push(Arc::new(Watched { file: Recorded(file), progress: opening.0.clone() })),
            Err(error) => {
                // A segment that was taken away since the folder was listed is no problem.
                if error.kind() != ErrorKind::NotFound {
                    problems.push(format!("{}: {}", path.display(), without_number(&error)));
                }
                all.push(Arc::new(Nothing));
            }
        }
    }
    all
}

/// A recording in a file, whose holes are skipped.
pub struct Recorded(pub File);

impl Frames for Recorded {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.0.read_exact_at(buffer, offset)
    }

    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
        let mut there = 0;
        while there < buffer.len() {
            match self.0.read_at(&mut buffer[there..], offset + there as u64) {
                Ok(0) => break,
                Ok(more) => there += more,
                Err(error) if error.kind() == ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(there)
    }

    fn data_from(&self, offset: u64) -> u64 {
        // The place in the file is nobody's: everything is read by its offset. lseek(2), SEEK_DATA.
        match rustix::fs::seek(&self.0, rustix::fs::SeekFrom::Data(offset)) {
            Ok(data) => data,
            // Nothing but a hole up to the end.
            Err(rustix::io::Errno::NXIO) => self.0.metadata().map_or(offset, |data| data.len().max(offset)),
            Err(_) => offset,
        }
    }
}

/// The time while recordings are opened. Files whose bytes are no readings take long; then it is told how far it is, on a terminal.
pub struct Opening(Arc<Progress>);

struct Progress {
    begun: Instant,
    /// Milliseconds until it is told next; never after the end, when the line belongs to others.
    next: AtomicU64,
    told: AtomicBool,
}

impl Opening {
    /// Begins now.
    pub fn begin() -> Opening {
        const PATIENCE: u64 = 500;
        let next = if io::stderr().is_terminal() { PATIENCE } else { u64::MAX };
        Opening(Arc::new(Progress { begun: Instant::now(), next: next.into(), told: false.into() }))
    }
}

impl Drop for Opening {
    fn drop(&mut self) {
        self.0.next.store(u64::MAX, Ordering::Relaxed);
        if self.0.told.load(Ordering::Relaxed) {
            eprint!("\r{:LINE$}\r", "");
        }
    }
}

/// Cells of the line that tells how far it is.
const LINE: usize = 70;

impl Progress {
    fn tell(&self, offset: u64, file: &File) {
        const EVERY: u64 = 250;
        let next = self.next.load(Ordering::Relaxed);
        // Once it is open, reading costs nothing more.
        if next == u64::MAX {
            return;
        }
        let now = self.begun.elapsed().as_millis() as u64;
        if now < next {
            return;
        }
        self.next.store(now + EVERY, Ordering::Relaxed);
        self.told.store(true, Ordering::Relaxed);
        let of = file.metadata().map_or(0, |data| data.len());
        let [at, of] = [offset, of].map(|bytes| short_bytes(bytes as f64));
        let text = format!("dozor: looking through the recording: {at} of {of}");
        eprint!("\r{text:LINE$.LINE$}");
    }
}

/// A recording while it is opened, and from then on.
struct Watched {
    file: Recorded,
    progress: Arc<Progress>,
}

impl Frames for Watched {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.progress.tell(offset, &self.file.0);
        self.file.bytes_at(offset, buffer)
    }

    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
        self.progress.tell(offset, &self.file.0);
        self.file.some_at(offset, buffer)
    }

    fn data_from(&self, offset: u64) -> u64 {
        self.file.data_from(offset)
    }
}

/// A file that is not there.
struct Nothing;

impl Frames for Nothing {
    fn bytes_at(&self, _offset: u64, _buffer: &mut [u8]) -> io::Result<()> {
        Err(ErrorKind::UnexpectedEof.into())
    }

    fn some_at(&self, _offset: u64, _buffer: &mut [u8]) -> io::Result<usize> {
        Ok(0)
    }
}
