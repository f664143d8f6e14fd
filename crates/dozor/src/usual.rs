//! What is usual on this machine at this hour, out of what a recorder has written.

use crate::recorder::segment_begin;
use crate::recordings::{Recorded, in_folder};
use dozor_core::findings::{Usual, hour_of, same_hours};
use dozor_core::recording::Frames;
use dozor_core::timeline::Timeline;
use dozor_core::units::NANOS;
use dozor_linux::files::open_no_link;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

/// The wall clock, in nanoseconds since 1970 (UTC).
pub fn wall_now() -> i64 {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(now.as_nanos()).unwrap_or(i64::MAX)
}

/// What is usual on a machine at the hour of an instant, by what a recorder of it has written into a folder: only segments that
/// hold this hour of another day are opened. Nothing where that cannot be read.
pub fn usual(folder: &Path, host: &str, wall_ns: i64) -> Usual {
    let Ok(files) = in_folder(folder) else { return Usual::default() };
    let begin = |path: &PathBuf| segment_begin(path.file_name()?.to_str()?, host);
    let named = files.into_iter().filter_map(|path| {
        let (begin, step) = begin(&path)?;
        Some((step, begin.saturating_mul(NANOS), path))
    });
    // What was thinned out tells of the days that are not kept whole.
    let mut named: Vec<(Option<u64>, i64, PathBuf)> = named.collect();
    named.sort();
    // What is usual is asked of whole hours.
    let hour = hour_of(wall_ns) * 3_600 * NANOS;
    let spans: Vec<(i64, i64)> =
        same_hours(hour).map(|(from, until)| (from, until.saturating_add(3_600 * NANOS))).collect();
    let ends = named.iter().zip(named.iter().skip(1).map(Some).chain([None])).map(|((step, ..), next)| {
        next.filter(|(of_next, ..)| of_next == step).map_or(i64::MAX, |(_, begin, _)| *begin)
    });
    let holds = |begin: i64, end: i64| spans.iter().any(|(from, until)| begin < *until && end > *from);
    let chosen: Vec<PathBuf> = named
        .iter()
        .zip(ends)
        .filter(|((_, begin, _), end)| holds(*begin, *end))
        .map(|((.., path), _)| path.clone())
        .collect();
    let opened = chosen.iter().filter_map(|path| open_no_link(path).ok());
    let opened = opened.map(|file| Arc::new(Recorded(file)) as Arc<dyn Frames>);
    let (timeline, _) = Timeline::of_recordings(opened.collect());
    if timeline.is_empty() { Usual::default() } else { Usual::of(&timeline, wall_ns) }
}

/// Finds it out on a thread of its own, once an hour, until nobody listens any more.
pub fn keep_finding_out(folder: PathBuf, host: String, mut tell: impl FnMut(Usual) -> bool + Send + 'static) {
    std::thread::spawn(move || {
        loop {
            let now = wall_now();
            if !tell(usual(&folder, &host, now)) {
                return;
            }
            let next = (hour_of(now) + 1) * 3_600 * NANOS;
            std::thread::sleep(Duration::from_nanos(next.saturating_sub(wall_now()).max(NANOS) as u64));
        }
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::lane::Lane;
    use dozor_core::reading::{HostFacts, Reading, raw};
    use dozor_core::recording::Writer;

    const DAY: i64 = 86_400;
    /// The midnight before 2029-03-01, in seconds since 1970.
    const MIDNIGHT: i64 = 1_866_931_200;

    /// A segment as a recorder names it, of forty minutes from an instant on, with some CPU in use.
    fn segment(folder: &Path, begin: i64, percent: i64) {
        write(folder, begin, percent, "");
    }

    fn write(folder: &Path, begin: i64, percent: i64, step: &str) {
        let host =
            HostFacts { name: "lynx-obs".into(), cores: 1, ticks_per_second: 100, ..HostFacts::default() };
        let mut writer = Writer::new(Arc::new(host), Some(Duration::from_secs(60)));
        if !step.is_empty() {
            writer = writer.of_thinned();
        }
        let mut bytes = vec![];
        writer.begin(&mut bytes);
        for minute in 0..40 {
            let mut reading = Reading::default();
            let (system, ns) = (&mut reading.system, raw((begin + minute * 60) * NANOS));
            (system.wall_ns, system.monotonic_ns, system.boot_ns) = (ns, ns, ns);
            (system.user, system.idle) = (raw(minute * 60 * percent), raw(minute * 60 * (100 - percent)));
            (system.nice, system.system, system.iowait) = (raw(0), raw(0), raw(0));
            (system.irq, system.softirq, system.steal) = (raw(0), raw(0), raw(0));
            writer.put(&Arc::new(reading), &mut bytes).expect("memory");
        }
        writer.finish(&mut bytes);
        let time = jiff::Timestamp::from_second(begin).expect("a time").strftime("%Y%m%d-%H%M%S").to_string();
        std::fs::write(folder.join(format!("lynx-obs-{time}Z{step}.dozor")), bytes).expect("written");
    }

    #[test]
    fn days_that_are_kept_thinned_out_tell_it_as_well() {
        let folder = tempfile::tempdir().expect("a folder");
        // Yesterday is there twice, and the finer one is right.
        segment(folder.path(), MIDNIGHT - DAY + 2 * 3_600, 30);
        for (day, percent) in [(1, 80), (2, 20), (3, 45)] {
            write(folder.path(), MIDNIGHT - day * DAY + 2 * 3_600, percent, "-60s");
        }
        let usual = usual(folder.path(), "lynx-obs", (MIDNIGHT + 2 * 3_600 + 600) * NANOS).lane(Lane::Cpu);
        let usual = usual.expect("three days");
        assert_eq!((usual.low.round(), usual.high.round(), usual.days), (20.0, 45.0, 3));
    }

    #[test]
    fn the_segments_of_this_hour_tell_what_is_usual() {
        let folder = tempfile::tempdir().expect("a folder");
        for (day, percent) in [(1, 30), (2, 20), (3, 45)] {
            segment(folder.path(), MIDNIGHT - day * DAY + 2 * 3_600, percent);
            // Noon is another matter.
            segment(folder.path(), MIDNIGHT - day * DAY + 12 * 3_600, 99);
        }
        std::fs::write(folder.path().join("lynx-obs-20290228-020100Z.dozor"), "no recording")
            .expect("written");
        let at = |hour: i64| {
            usual(folder.path(), "lynx-obs", (MIDNIGHT + hour * 3_600 + 600) * NANOS).lane(Lane::Cpu)
        };
        let two = at(2).expect("three days");
        assert_eq!((two.low.round(), two.high.round(), two.days), (20.0, 45.0, 3));
        assert_eq!(at(12).map(|normal| normal.high.round()), Some(99.0));
        assert_eq!(at(6), None);
        assert_eq!(usual(folder.path(), "another", (MIDNIGHT + 7_800) * NANOS), Usual::default());
        assert_eq!(usual(Path::new("/nowhere"), "lynx-obs", 0), Usual::default());
    }
}
