//! What was done and noted lately, out of the recordings of the folder that is served: a recorder, the screen and the commands
//! that act on processes keep their marks there.

use super::current::told;
use super::past::Past;
use dozor_core::recording::Mark;
use dozor_core::sorting::ColdSort as _;
use serde_json::Value as Json;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

/// How often it is looked whether there is something new.
const EVERY: Duration = Duration::from_secs(2);
/// A recording that grows is read again no more often than this: all of its lanes are read with it.
const AGAIN: Duration = Duration::from_secs(20);
/// Marks that are told are no older than this, in nanoseconds; no more than so many.
const LATELY: i64 = 30 * 60 * 1_000_000_000;
const MOST: usize = 64;

/// Marks of lately, in the order of time.
#[derive(Clone, Default)]
pub struct Noted(Arc<Mutex<Vec<Mark>>>);

impl Noted {
    /// Looks into a folder now and then, on a thread of its own.
    pub fn watch(past: Arc<Past>) -> Noted {
        let noted = Noted::default();
        let kept = noted.clone();
        std::thread::spawn(move || {
            let mut looked: HashMap<String, (u64, Instant, Vec<Mark>)> = HashMap::new();
            loop {
                let there = past.recently_written(Duration::from_nanos(LATELY.unsigned_abs()));
                looked.retain(|name, _| there.iter().any(|(other, _)| other == name));
                for (name, length) in there {
                    let due = looked.get(&name).is_none_or(|(before, when, _)| {
                        *before != length && (is_small(length) || when.elapsed() >= AGAIN)
                    });
                    if due {
                        let marks = past.marks(&name);
                        looked.insert(name, (length, Instant::now(), marks));
                    }
                }
                let mut all: Vec<Mark> = looked
                    .values()
                    .flat_map(|(.., marks)| marks.iter().filter(|m| is_late(m)).cloned())
                    .collect();
                all.cold_sort_by_key(|mark| mark.wall_ns);
                all.drain(..all.len().saturating_sub(MOST));
                *kept.0.lock().unwrap_or_else(PoisonError::into_inner) = all;
                std::thread::sleep(EVERY);
            }
        });
        noted
    }

    /// Those behind a time, in nanoseconds since 1970.
    pub fn since(&self, wall_ns: i64) -> Vec<Mark> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().filter(|mark| mark.wall_ns > wall_ns).cloned().collect()
    }

    /// As they are served.
    pub fn json(&self) -> Json {
        told(&self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// Files of marks alone have a few KiB.
fn is_small(bytes: u64) -> bool {
    bytes < 1 << 20
}

fn is_late(mark: &Mark) -> bool {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |now| now.as_nanos() as i64);
    now.saturating_sub(mark.wall_ns) <= LATELY
}
