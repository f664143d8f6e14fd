//! `dozor export --fleet`: recordings of many machines as Parquet, by host and day, for engines that read columns. Run again it
//! writes only what is new.
//!
//! A folder of folders has a folder for each machine; what is written is `TABLE/host=NAME/day=YYYY-MM-DD/part-BEGIN.parquet`,
//! days by UTC, BEGIN the instant of its first sample. How far each machine was written stands in `_dozor/NAME.json`, and is
//! written last: whoever is stopped before writes the same files again, under the same names.

use super::{Export, Format, sink};
use crate::cli::options::Misuse;
use crate::cli::{cells::Cells, problem};
use crate::look::clock::Zone;
use crate::recordings;
use dozor_core::text::without_number;
use dozor_core::timeline::Timeline;
use dozor_core::units::NANOS;
use dozor_export::table::{Chosen, Table, Which, marks_in, stream};
use serde_json::{Value as Json, json};
use std::io::BufWriter;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Tables that are written of each machine.
const TABLES: [Which; 5] = [Which::Processes, Which::System, Which::Parts, Which::Actions, Which::Findings];
/// Its own folder in the lake; engines leave out what begins with an underscore.
const OWN: &str = "_dozor";

/// What became of a machine.
struct Done {
    samples: usize,
    files: usize,
}

impl Export {
    pub(super) fn fleet(&self, folder: &Path) -> anyhow::Result<Option<i32>> {
        let Some(lake) = &self.output else {
            return Err(Misuse(
                "-o FOLDER is missing: where the files by host and day are written".to_owned(),
            )
            .into());
        };
        let told = |path: &Path, error: &std::io::Error| {
            anyhow::anyhow!("{}: {}", path.display(), without_number(error))
        };
        let mut folders: Vec<PathBuf> = vec![];
        for entry in std::fs::read_dir(folder).map_err(|error| told(folder, &error))? {
            let path = entry.map_err(|error| told(folder, &error))?.path();
            if path.is_dir() && !recordings::in_folder(&path).unwrap_or_default().is_empty() {
                folders.push(path);
            }
        }
        if folders.is_empty() {
            return Err(Misuse(format!("{} holds no folder with recordings", folder.display())).into());
        }
        folders.sort();
        std::fs::create_dir_all(lake.join(OWN)).map_err(|error| told(lake, &error))?;
        // One after the other would leave cores idle; each machine is one piece of work.
        let (next, failed) = (AtomicUsize::new(0), AtomicUsize::new(0));
        let all = Mutex::new(Done { samples: 0, files: 0 });
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        std::thread::scope(|scope| {
            for _ in 0..threads {
                scope.spawn(|| {
                    while let Some(folder) = folders.get(next.fetch_add(1, Ordering::Relaxed)) {
                        match machine(folder, lake) {
                            Ok(done) => {
                                let mut all = all.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                                all.samples += done.samples;
                                all.files += done.files;
                            }
                            Err(error) => {
                                failed.fetch_add(1, Ordering::Relaxed);
                                problem::say(&format!("{}: {error:#}", folder.display()));
                            }
                        }
                    }
                });
            }
        });
        let Done { samples, files } = all.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        let failed = failed.into_inner();
        problem::say(&format!(
            "{} machines, {samples} new samples in {files} new files",
            folders.len() - failed
        ));
        anyhow::ensure!(failed == 0, "{failed} of {} machines could not be written", folders.len());
        Ok(None)
    }
}

/// Writes what is new of one machine.
fn machine(folder: &Path, lake: &Path) -> anyhow::Result<Done> {
    let opened = recordings::open(&[folder.to_owned()])?;
    for told in &opened.problems {
        problem::say(told);
    }
    let timeline = opened.timeline;
    let host = crate::recorder::in_file_name(&timeline.host().name);
    let state = lake.join(OWN).join(format!("{host}.json"));
    let until = written_until(&state)?;
    let first = (timeline.first()..timeline.end())
        .find(|number| timeline.moment(*number).is_some_and(|moment| moment.wall_ns > until))
        .unwrap_or(timeline.end());
    let mut done = Done { samples: timeline.end() - first, files: 0 };
    if done.samples == 0 {
        return Ok(done);
    }
    for day in days(&timeline, first..timeline.end()) {
        for which in TABLES {
            if which == Which::Actions && marks_in(&timeline, &day, false).is_empty() {
                continue;
            }
            let wall = timeline.moment(day.start).map_or(0, |moment| moment.wall_ns);
            let name = Zone::named("UTC").day(wall);
            let path = lake
                .join(which.name())
                .join(format!("host={host}"))
                .join(format!("day={name}"))
                .join(format!("part-{wall}.parquet"));
            put(&timeline, day.clone(), which, &path)?;
            done.files += 1;
        }
    }
    let last = timeline.moment(timeline.end() - 1).map_or(until, |moment| moment.wall_ns);
    let text = json!({"host": timeline.host().name, "written_until_ns": last}).to_string();
    dozor_linux::files::replace(&state, text.as_bytes())?;
    Ok(done)
}

/// How far a machine was written; from the beginning where nothing was.
fn written_until(state: &Path) -> anyhow::Result<i64> {
    let text = dozor_linux::files::read_text(state, 4_096)
        .map_err(|why| anyhow::anyhow!("{}: {why}", state.display()))?;
    let Some(text) = text else { return Ok(i64::MIN) };
    let value: Option<Json> = serde_json::from_str(&text).ok();
    let until = value.and_then(|value| value["written_until_ns"].as_i64());
    until.ok_or_else(|| {
        anyhow::anyhow!(
            "{} does not say how far it was written; without it all would be written again beside what is there",
            state.display()
        )
    })
}

/// A range of samples in days by UTC.
fn days(timeline: &Timeline, numbers: Range<usize>) -> Vec<Range<usize>> {
    const DAY: i64 = 86_400 * NANOS;
    let day = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns.div_euclid(DAY));
    let all: Vec<usize> = numbers.collect();
    let of_day = all.chunk_by(|a, b| day(*a) == day(*b));
    of_day.filter_map(|numbers| Some(*numbers.first()?..numbers.last()? + 1)).collect()
}

/// Writes one file, whole or not at all.
fn put(timeline: &Timeline, numbers: Range<usize>, which: Which, path: &Path) -> anyhow::Result<()> {
    let told = |error: &dyn std::fmt::Display| anyhow::anyhow!("{}: {error}", path.display());
    let table = Table::new(which, Chosen::default()).map_err(Misuse)?;
    let beside = dozor_linux::files::Beside::create(path).map_err(|error| told(&without_number(&error)))?;
    let file = beside.file().try_clone().map_err(|error| told(&without_number(&error)))?;
    let out = BufWriter::with_capacity(1 << 20, file);
    let (columns, host) = (table.columns().to_vec(), timeline.host().clone());
    let begin = || sink((Format::Parquet, Cells::PLAIN), out, (which, &columns), &host);
    stream(timeline, numbers, (table, false), begin, &mut |_| {}).map_err(|error| told(&error))?;
    beside.finish().map_err(|error| told(&without_number(&error)))
}
