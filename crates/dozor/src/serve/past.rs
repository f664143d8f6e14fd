//! Recordings of a folder for those who ask: which there are, their bytes, what their lanes show, and what was at a time.

use super::current::{LanePoint, glance, lanes_json, standing, told};
use crate::recordings::{Recorded, in_folder};
use dozor_core::findings::found_in;
use dozor_core::recording::Mark;
use dozor_core::timeline::Timeline;
use dozor_linux::files::open_no_link;
use serde_json::{Value as Json, json};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// Recordings of a folder.
pub struct Past {
    folder: PathBuf,
    /// Processes at a glance at most.
    most: usize,
    /// The one that was asked for last, opened, and how long it was then.
    opened: Mutex<Option<(String, u64, Timeline)>>,
}

/// Columns of lanes at most.
const COLUMNS: usize = 2_000;

impl Past {
    /// Those of a folder.
    pub fn new(folder: PathBuf, most: usize) -> Past {
        Past { folder, most, opened: Mutex::new(None) }
    }

    /// Which there are.
    pub fn list(&self) -> Json {
        let files = in_folder(&self.folder).unwrap_or_default();
        let all: Vec<Json> = files
            .iter()
            .filter_map(|path| {
                let name = path.file_name()?.to_str().filter(|name| is_served(name))?;
                let data = std::fs::symlink_metadata(path).ok().filter(std::fs::Metadata::is_file)?;
                Some(json!({"name": name, "bytes": data.len()}))
            })
            .collect();
        json!({"recordings": all})
    }

    /// Names and lengths of those that were written to within so much time.
    pub fn recently_written(&self, within: Duration) -> Vec<(String, u64)> {
        let files = in_folder(&self.folder).unwrap_or_default();
        let recent = files.iter().filter_map(|path| {
            let data = std::fs::symlink_metadata(path).ok().filter(std::fs::Metadata::is_file)?;
            let is_recent = data.modified().ok()?.elapsed().is_ok_and(|since| since <= within);
            let name = path.file_name()?.to_str().filter(|name| is_served(name))?;
            is_recent.then_some((name.to_owned(), data.len()))
        });
        recent.collect()
    }

    /// What was done and noted in a recording; nothing of one that cannot be read, nor of what was thinned out, since that is beside what
    /// tells the same.
    pub fn marks(&self, name: &str) -> Vec<Mark> {
        let timeline = self.file(name).and_then(|file| Timeline::open(Recorded(file)).ok());
        timeline
            .filter(|timeline| !timeline.is_thinned())
            .map(|timeline| timeline.marks())
            .unwrap_or_default()
    }

    /// The file of this name; none where a name is none of the folder's.
    pub fn file(&self, name: &str) -> Option<File> {
        if !is_served(name) {
            return None;
        }
        let file = open_no_link(&self.folder.join(name)).ok()?;
        file.metadata().ok().filter(std::fs::Metadata::is_file)?;
        Some(file)
    }

    fn with<T>(&self, name: &str, what: impl FnOnce(&mut Timeline) -> T) -> Option<T> {
        let file = self.file(name)?;
        let length = file.metadata().ok()?.len();
        let mut opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        let is_same = opened.as_ref().is_some_and(|(other, before, _)| other == name && *before == length);
        if !is_same {
            *opened = Some((name.to_owned(), length, Timeline::open(Recorded(file)).ok()?));
        }
        let (.., timeline) = opened.as_mut()?;
        (!timeline.is_empty()).then(|| what(timeline))
    }

    /// What its lanes show, in so many columns, with what was done and noted.
    pub fn lanes(&self, name: &str, columns: usize) -> Option<Json> {
        self.with(name, |timeline| {
            let all: Vec<LanePoint> = thinned(timeline, columns.clamp(10, COLUMNS));
            let mut object = lanes_json(&all);
            object["marks"] = told(&timeline.marks());
            object["host"] = json!(timeline.host().name);
            object["zone"] = json!(timeline.host().time_zone);
            object
        })
    }

    /// What was at a time, in milliseconds since 1970.
    pub fn at(&self, name: &str, wall_ms: i64) -> Option<Json> {
        self.with(name, |timeline| {
            let number = timeline.at(wall_ms.saturating_mul(1_000_000).saturating_add(999_999));
            let sample = timeline.sample(number).ok()?;
            let history = found_in(timeline, number..number + 1, &mut |_| {}).ok()?;
            let stands_out = standing(&history, sample.now.wall_ns());
            Some(glance(&sample, self.most, &told(&timeline.marks()), &stands_out))
        })?
    }
}

/// Whether a file of this name is a recording of the folder; hidden ones are nobody's.
fn is_served(name: &str) -> bool {
    !name.contains(['/', '\0'])
        && !name.starts_with('.')
        && Path::new(name).extension().is_some_and(|end| end == "dozor")
}

/// Moments of a timeline: of several that share a column the last, with the highest points of all.
fn thinned(timeline: &Timeline, columns: usize) -> Vec<LanePoint> {
    let (first, end) = (timeline.first(), timeline.end());
    let each = (end - first).div_ceil(columns).max(1);
    (first..end)
        .step_by(each)
        .filter_map(|begin| {
            let moments: Vec<_> =
                (begin..(begin + each).min(end)).filter_map(|number| timeline.moment(number)).collect();
            let last = moments.last()?;
            let others: Vec<_> = moments.iter().map(|moment| (*moment).clone()).collect();
            let mut whole = (*last).clone().standing_for(&others);
            if moments.iter().any(|moment| moment.seconds.is_none()) {
                whole.seconds = None;
            }
            Some(LanePoint::of_moment(&whole))
        })
        .collect()
}
