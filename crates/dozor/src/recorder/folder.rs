//! A folder of segments, each a recording of its own: the oldest go when there are too many or they are too old.

use super::error::{RecordError, failed};
use super::sink::Sink;
use crate::look::clock::Zone;
use dozor_core::sample::Gap;
use dozor_core::sorting::ColdSort as _;
use dozor_core::units::NANOS;
use dozor_linux::files;
use dozor_linux::recorders::LOCK;
use rustix::fs::{FlockOperation, flock};
use std::collections::VecDeque;
use std::fs::{File, Permissions};
use std::io::{self, Read as _, Write as _};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The smallest limit: a few segments with their heads must fit.
pub const SMALLEST_LIMIT: u64 = 1 << 20;
const SMALLEST_SEGMENT: u64 = 64 << 10;
const LARGEST_SEGMENT: u64 = 8 << 20;
const LONGEST_SEGMENT: Duration = Duration::from_secs(6 * 3_600);
const SHORTEST_SEGMENT: Duration = Duration::from_secs(600);
/// Readings of a segment at most, where they are thinned out.
const READINGS: u32 = 40_000;
/// Nothing goes for its age so soon after the clock was set, or after the recorder began: a clock that is wrong is set
/// right within minutes, and a year that it was wrong by must not cost a year of recordings.
const CLOCK_SETTLES: Duration = Duration::from_secs(3_600);

/// How much a folder keeps.
#[derive(Clone, Copy, Debug, Default)]
pub struct Bounds {
    /// Readings older than this go.
    pub keep: Option<Duration>,
    /// All segments together have at most so many bytes.
    pub limit: Option<u64>,
    /// A segment has about so many bytes at most; else as many as suit the limit.
    pub segment: Option<u64>,
    /// Seconds between readings, where they are thinned out.
    pub step: Option<u64>,
}

impl Bounds {
    fn segment_bytes(&self) -> u64 {
        let suits = self.limit.map_or(LARGEST_SEGMENT, |limit| limit / 16);
        self.segment.unwrap_or(suits.clamp(SMALLEST_SEGMENT, LARGEST_SEGMENT))
    }

    fn segment_age(&self) -> Duration {
        // A year at a minute is some dozen files.
        let longest = self.step.map_or(LONGEST_SEGMENT, |step| Duration::from_secs(step) * READINGS);
        self.keep.map_or(longest, |keep| keep / 8).clamp(SHORTEST_SEGMENT, longest.max(SHORTEST_SEGMENT))
    }
}

/// A segment that is finished.
struct Finished {
    path: PathBuf,
    bytes: u64,
    /// When it begins, as its name says: sorts as time does.
    begin: String,
}

/// A folder that a recorder writes into.
pub struct Folder {
    path: PathBuf,
    bounds: Bounds,
    host: String,
    /// None where it is another's folder, who has it.
    lock: Option<File>,
    /// Bytes of other segments within the limit.
    others: u64,
    /// Oldest first.
    finished: VecDeque<Finished>,
    /// When the segment that is being written begins, in nanoseconds since 1970.
    began: i64,
    /// Since when the clock has gone on evenly, in nanoseconds since boot.
    even_since: Option<i64>,
    /// Whether that is long enough for the clock to be believed about what is old.
    clock_settled: bool,
}

impl Folder {
    /// Takes the folder for a recorder of a host; makes it where it is not there.
    pub fn open(path: &Path, bounds: Bounds, host: &str) -> Result<Folder, RecordError> {
        let path = &files::own_target(path).map_err(|error| failed(path, error))?;
        files::create_folder(path).map_err(|error| failed(path, error))?;
        let lock = Some(take(path)?);
        Folder::found(path, bounds, host, lock)
    }

    /// Segments of thinned readings in the same folder.
    pub fn beside(&self, bounds: Bounds) -> Result<Folder, RecordError> {
        Folder::found(&self.path, bounds, &self.host, None)
    }

    fn found(path: &Path, bounds: Bounds, host: &str, lock: Option<File>) -> Result<Folder, RecordError> {
        let mut folder = Folder {
            path: path.to_owned(),
            bounds,
            host: in_file_name(host),
            lock,
            others: 0,
            finished: VecDeque::new(),
            began: 0,
            even_since: None,
            clock_settled: false,
        };
        folder.finished = folder.find().map_err(|error| failed(path, error))?;
        Ok(folder)
    }

    /// How much it keeps.
    pub fn bounds(&self) -> Bounds {
        self.bounds
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Bytes of its segments with the one that is being written.
    pub fn bytes(&self, sink: Option<&Sink>) -> u64 {
        let finished: u64 = self.finished.iter().map(|segment| segment.bytes).sum();
        finished + sink.map_or(0, Sink::bytes)
    }

    /// So many bytes of others are within the limit.
    pub fn leave_room_for(&mut self, others: u64) {
        self.others = others;
    }

    /// The segments of this host that are there, oldest first.
    fn find(&self) -> io::Result<VecDeque<Finished>> {
        let mut found = vec![];
        for entry in std::fs::read_dir(&self.path)? {
            let entry = entry?;
            let name = entry.file_name();
            let begin = name.to_str().and_then(|name| self.begin_of(name));
            if let (Some(begin), Ok(data)) = (begin, entry.metadata())
                && data.is_file()
            {
                found.push(Finished { path: entry.path(), bytes: data.len(), begin });
            }
        }
        found.cold_sort_by(|a, b| (&a.begin, &a.path).cmp(&(&b.begin, &b.path)));
        Ok(found.into())
    }

    fn begin_of(&self, name: &str) -> Option<String> {
        begin_of(name, &self.host).filter(|(_, step)| *step == self.bounds.step).map(|(begin, _)| begin)
    }

    /// Takes note of a reading's clocks, and of what the wall clock did since the one before.
    pub fn look_at_clock(&mut self, boot_ns: i64, gap: Option<Gap>) {
        if self.even_since.is_none() || matches!(gap, Some(Gap::ClockChange(_) | Gap::Restart)) {
            self.even_since = Some(boot_ns);
        }
        if let (Some(keep), Some(since)) = (self.bounds.keep, self.even_since) {
            let even = Duration::from_nanos(boot_ns.saturating_sub(since).max(0) as u64);
            self.clock_settled = even >= CLOCK_SETTLES.min(keep);
        }
    }

    /// Begins a segment with a reading of this time.
    pub fn begin_segment(&mut self, wall_ns: i64) -> Result<Sink, RecordError> {
        // Whoever removed the folder removed the lock with it.
        if self.lock.as_ref().is_some_and(|lock| lock.metadata().is_ok_and(|data| data.nlink() == 0)) {
            files::create_folder(&self.path).map_err(|error| failed(&self.path, error))?;
            self.lock = Some(take(&self.path)?);
            self.finished.clear();
        }
        self.began = wall_ns;
        self.forget_old(wall_ns);
        let begin = Zone::named("UTC").for_file_name(wall_ns);
        let step = self.bounds.step.map_or(String::new(), |step| format!("-{step}s"));
        for number in 1..1_000 {
            let number = if number > 1 { format!("-{number}") } else { String::new() };
            let path = self.path.join(format!("{}-{begin}Z{step}{number}.dozor", self.host));
            match Sink::create(&path, files::rights_in(&self.path)) {
                Err(RecordError::Exists(_)) => {}
                other => return other,
            }
        }
        Err(RecordError::Exists(self.path.join(format!("{}-{begin}Z{step}.dozor", self.host))))
    }

    /// Whether it is time for another segment.
    pub fn is_segment_over(&self, sink: &Sink, wall_ns: i64) -> bool {
        // Both ways: one that began while the clock was ahead would never be old.
        let age = Duration::from_nanos(wall_ns.abs_diff(self.began));
        sink.bytes() >= self.bounds.segment_bytes() || age >= self.bounds.segment_age()
    }

    /// Takes away old segments until so many bytes more are within the limit.
    pub fn make_room(&mut self, sink: &Sink, more: u64) -> Result<(), RecordError> {
        let Some(limit) = self.bounds.limit else { return Ok(()) };
        let mut all = self.bytes(Some(sink)) + more + self.others;
        while all > limit {
            let Some(oldest) = self.finished.pop_front() else {
                let error =
                    io::Error::other(format!("one segment is larger than the limit of {limit} bytes"));
                return Err(failed(&self.path, error));
            };
            all -= oldest.bytes;
            remove(&oldest.path)?;
        }
        Ok(())
    }

    /// The segment is finished.
    pub fn end_segment(&mut self, sink: &Sink) {
        let name = sink.path().file_name().and_then(|name| name.to_str());
        if let Some(begin) = name.and_then(|name| self.begin_of(name)) {
            // The last one, unless the clock was set back.
            let place = self.finished.partition_point(|segment| segment.begin <= begin);
            let segment = Finished { path: sink.path().to_owned(), bytes: sink.bytes(), begin };
            self.finished.insert(place, segment);
        }
    }

    /// Takes away the segments that end before what is kept begins: those whose next one begins before it as well.
    fn forget_old(&mut self, wall_ns: i64) {
        let Some(keep) = self.bounds.keep.filter(|_| self.clock_settled) else { return };
        let since = wall_ns.saturating_sub((keep.as_secs() as i64).saturating_mul(NANOS));
        let since = Zone::named("UTC").for_file_name(since);
        // The one that is begun now is the last one's next.
        while self.finished.get(1).is_some_and(|next| next.begin < since) {
            let Some(oldest) = self.finished.pop_front() else { return };
            if remove(&oldest.path).is_err() {
                self.finished.push_front(oldest);
                return;
            }
        }
    }
}

/// A host's name as part of the name of a file.
pub fn in_file_name(host: &str) -> String {
    host.chars().map(|c| if c.is_alphanumeric() || c == '-' { c } else { '_' }).collect()
}

/// When a segment of a host begins, by its name, as text that sorts as time does, and how many seconds its readings stand for where
/// they were thinned out; none where it is no such name.
fn begin_of(name: &str, host: &str) -> Option<(String, Option<u64>)> {
    let rest = name.strip_prefix(host)?.strip_prefix('-')?.strip_suffix(".dozor")?;
    let (begin, number) = rest.split_once('Z')?;
    let digits = |text: &str| text.chars().all(|c| c.is_ascii_digit());
    let (day, time) = begin.split_once('-')?;
    let whole = day.len() == 8 && time.len() == 6 && digits(day) && digits(time);
    let (step, number) = match number.strip_prefix('-').and_then(|rest| rest.split_once('s')) {
        Some((step, number)) if digits(step) => (Some(step.parse().ok()?), number),
        _ => (None, number),
    };
    let numbered = number.is_empty() || number.strip_prefix('-').is_some_and(digits);
    (whole && numbered).then(|| (begin.to_owned(), step))
}

/// When a segment of a host begins, by its name, in seconds since 1970, and how many seconds its readings stand for where they were
/// thinned out; none where it is no such name.
pub fn segment_begin(name: &str, host: &str) -> Option<(i64, Option<u64>)> {
    let (begin, step) = begin_of(name, &in_file_name(host))?;
    let time = jiff::civil::DateTime::strptime("%Y%m%d-%H%M%S", begin).ok()?;
    Some((time.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_second(), step))
}

/// Removes a segment; one that is not there any more is as good as removed.
fn remove(path: &Path) -> Result<(), RecordError> {
    match std::fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(failed(path, error)),
        _ => Ok(()),
    }
}

/// Takes the folder's lock, which lasts as long as the file is open.
fn take(folder: &Path) -> Result<File, RecordError> {
    let path = folder.join(LOCK);
    // Private whatever the folder's rights: whoever may open it could take it.
    let mut lock = files::open_or_create_own(&path, files::PRIVATE)
        .and_then(|lock| lock.set_permissions(Permissions::from_mode(files::PRIVATE)).map(|()| lock))
        .map_err(|error| failed(&path, error))?;
    if flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
        let mut text = String::new();
        let _ = lock.read_to_string(&mut text);
        return Err(RecordError::Taken { folder: folder.to_owned(), pid: text.trim().parse().ok() });
    }
    // Who it is, for those who come later; that it is taken the lock itself says.
    let _ = lock.set_len(0).and_then(|()| writeln!(lock, "{}", std::process::id()));
    Ok(lock)
}
