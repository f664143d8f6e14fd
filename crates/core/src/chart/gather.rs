//! Values over time out of a timeline, in as many points as a drawing has room for. A point keeps the smallest and the
//! largest value that it stands for, so no peak is lost; where nothing was read there is no point.

use super::growing::{Growing, OTHERS, OfWish, Time, point};
use super::processes::{of_processes, parts_of_processes};
use super::series::{Point, Series};
use super::wish::{Of, Wish};
use crate::catalogue::{Eval, Instances, Kind, Metric};
use crate::exited::{UNNAMED, exited_unsaid};
use crate::lane::Lane;
use crate::reading::ProcessRow;
use crate::recording::ReadError;
use crate::row::Row as _;
use crate::sample::Sample;
use crate::text::{Text, no_text};
use crate::timeline::{Moment, Reach, Timeline};
use crate::units::NANOS;
use std::collections::HashMap;
use std::ops::Range;

/// What was gathered for each wish.
#[derive(Clone, Debug, Default)]
pub struct Gathered {
    /// The first instant.
    pub from_ns: i64,
    /// The last.
    pub until_ns: i64,
    /// One or several series for each wish, in their order.
    pub series: Vec<Vec<Series>>,
    /// Times within, without readings.
    pub gaps: Vec<(i64, i64)>,
}

/// What one thread gathers.
struct Collected {
    wishes: Vec<OfWish>,
    /// All samples of a point: where they begin and end, how long they are, how many.
    slots: Vec<(usize, (i64, i64, f64, usize))>,
}

/// Values of what is wished for over a range of samples, in at most about `columns` points each. `parts` says of which
/// wishes each program (or, of one program, each process) has a series of its own.
pub fn gather(
    timeline: &Timeline,
    numbers: Range<usize>,
    wishes: &[Wish],
    parts: &dyn Fn(usize) -> bool,
    columns: usize,
) -> Result<Gathered, ReadError> {
    let split: Vec<bool> = (0..wishes.len()).map(parts).collect();
    let slots = Slots::new(timeline, numbers.clone(), columns);
    let reach = wishes.iter().map(|wish| Reach::of(wish.metric)).reduce(Reach::and).unwrap_or(Reach::Machine);
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let start = || Collected::new(wishes.len());
    let found = timeline.fold(numbers.clone(), threads, reach, start, |collected, number, sample| {
        let wall = sample.now.wall_ns();
        let time = slots.time(number, wall, sample.seconds());
        let is_first = collected.slots.is_empty();
        collected.pass(time);
        let gone = wishes.iter().any(|wish| may_mean_gone(wish, sample)).then(|| exited_unsaid(sample));
        for ((wish, split), into) in wishes.iter().zip(&split).zip(&mut collected.wishes) {
            let gone = gone.as_ref().filter(|_| counts_gone(wish.metric));
            match wish.metric.eval {
                Eval::System(_) => of_system(into, wish, sample, time),
                Eval::Process(_) if *split => parts_of_processes(into, wish, (sample, gone, is_first), time),
                Eval::Process(_) => of_processes(into, wish, (sample, gone), time),
            }
            into.keep_few();
        }
    })?;
    let whole = found.into_iter().reduce(Collected::after).unwrap_or_else(start);
    let series = whole.finished(wishes, &split);
    let (from_ns, until_ns) = reach_of(timeline, &numbers);
    Ok(Gathered { from_ns, until_ns, series, gaps: gaps(timeline, numbers) })
}

/// Where a sample begins and ends.
fn span(moment: &Moment) -> (i64, i64) {
    (moment.wall_ns - (moment.seconds.unwrap_or(0.0) * NANOS as f64) as i64, moment.wall_ns)
}

/// The first instant of a range of samples and the last.
pub fn reach_of(timeline: &Timeline, numbers: &Range<usize>) -> (i64, i64) {
    let first = timeline.moment(numbers.start).map_or(0, |moment| span(moment).0);
    (first, timeline.moment(numbers.end.saturating_sub(1)).map_or(first, |moment| moment.wall_ns))
}

/// Times within a range of samples without readings.
pub fn gaps(timeline: &Timeline, numbers: Range<usize>) -> Vec<(i64, i64)> {
    let mut gaps = vec![];
    let mut before: Option<i64> = None;
    for moment in numbers.filter_map(|number| timeline.moment(number)) {
        let (begin, end) = span(moment);
        gaps.extend(before.filter(|before| begin - before > NANOS / 4).map(|before| (before, begin)));
        before = Some(end);
    }
    gaps
}

/// Which point a sample belongs to.
struct Slots {
    numbers: Range<usize>,
    first: i64,
    span: i64,
    columns: usize,
}

impl Slots {
    fn new(timeline: &Timeline, numbers: Range<usize>, columns: usize) -> Slots {
        let wall = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
        let (first, last) = (wall(numbers.start), wall(numbers.end.saturating_sub(1)));
        Slots { numbers, first, span: (last - first).max(1), columns: columns.max(1) }
    }

    fn time(&self, number: usize, wall: i64, seconds: Option<f64>) -> Time {
        let slot = if self.numbers.len() <= self.columns {
            number - self.numbers.start
        } else {
            (i128::from((wall - self.first).max(0)) * self.columns as i128 / i128::from(self.span)) as usize
        };
        let seconds = seconds.unwrap_or(0.0);
        Time { slot, from_ns: wall - (seconds * NANOS as f64) as i64, until_ns: wall, seconds }
    }
}

/// Whether those who are gone have a part in it.
fn counts_gone(metric: &Metric) -> bool {
    matches!(metric.eval, Eval::Process(_)) && metric.kind == Kind::Rate
}

/// Whether somebody who is gone may have a part in a wish: most often nobody has, and need not be looked for.
fn may_mean_gone(wish: &Wish, sample: &Sample) -> bool {
    counts_gone(wish.metric)
        && match &wish.of {
            Of::All | Of::Instance(_) => true,
            Of::Program(name) if **name == *OTHERS || **name == *UNNAMED => true,
            Of::Program(name) => {
                sample.now.ended.iter().any(|row| *row.name == **name)
                    || rows_gone(sample).any(|row| *row.name == **name || *row.program == **name)
            }
            Of::Pid(pid) => rows_gone(sample).any(|row| row.pid.value() == Some(*pid)),
            Of::Process(key) => rows_gone(sample).any(|row| row.key() == *key),
        }
}

/// Processes of the reading before that are gone.
fn rows_gone(sample: &Sample) -> impl Iterator<Item = &ProcessRow> {
    let before = sample.before.as_deref().map_or(&[][..], |before| &before.processes);
    sample.gone_places().map(|place| &*before[place])
}

fn of_system(into: &mut OfWish, wish: &Wish, sample: &Sample, time: Time) {
    match wish.metric.of_system(sample) {
        Instances::One(value) => {
            if matches!(wish.of, Of::All) {
                into.put(&no_text(), time, &value);
            }
        }
        Instances::Many(values) => {
            for (name, value) in values {
                if !matches!(&wish.of, Of::Instance(wanted) if **wanted != *name) {
                    into.put(&name, time, &value);
                }
            }
        }
    }
}

impl Collected {
    fn new(wishes: usize) -> Collected {
        let wishes = std::iter::repeat_with(OfWish::default).take(wishes).collect();
        Collected { wishes, slots: vec![] }
    }

    fn slot(&mut self, slot: usize, (from, until, seconds, samples): (i64, i64, f64, usize)) {
        match self.slots.last_mut() {
            Some((last, all)) if *last == slot => {
                *all = (all.0.min(from), all.1.max(until), all.2 + seconds, all.3 + samples);
            }
            _ => self.slots.push((slot, (from, until, seconds, samples))),
        }
    }

    fn pass(&mut self, time: Time) {
        self.slot(time.slot, (time.from_ns, time.until_ns, time.seconds, 1));
    }

    /// What another thread gathered of the time behind it.
    fn after(mut self, later: Collected) -> Collected {
        for (slot, one) in later.slots {
            self.slot(slot, one);
        }
        for (all, later) in self.wishes.iter_mut().zip(later.wishes) {
            for (name, series) in later.names.iter().zip(later.series) {
                let id = all.id(name);
                all.series[id].append(series);
            }
        }
        self
    }

    fn finished(self, wishes: &[Wish], split: &[bool]) -> Vec<Vec<Series>> {
        let slots: HashMap<usize, (i64, i64, f64, usize)> = self.slots.into_iter().collect();
        let mut series: Vec<Vec<Series>> = vec![];
        for ((all, wish), part_of_whole) in self.wishes.into_iter().zip(wishes).zip(split) {
            let one = |(name, growing): (Text, Growing)| Series {
                metric: wish.metric,
                name: name.to_string(),
                points: growing
                    .points
                    .iter()
                    .map(|(slot, gathering)| point(gathering, slots.get(slot).filter(|_| *part_of_whole)))
                    .collect(),
                denied: growing.denied,
                at_least: growing.at_least,
            };
            let mut found: Vec<Series> = all.names.into_iter().zip(all.series).map(one).collect();
            found.retain(|one| !one.points.is_empty() || one.denied > 0 || !part_of_whole);
            found.sort_by_cached_key(|one| natural(&one.name));
            series.push(found);
        }
        series
    }
}

/// An order in which `core 10` follows `core 9`.
fn natural(name: &str) -> (String, u64, String) {
    let begin = name.find(|letter: char| letter.is_ascii_digit()).unwrap_or(name.len());
    let end =
        name[begin..].find(|letter: char| !letter.is_ascii_digit()).map_or(name.len(), |end| begin + end);
    (name[..begin].to_owned(), name[begin..end].parse().unwrap_or(0), name[end..].to_owned())
}

/// What the lanes show over a range of samples, which needs no decoding: in at most about `columns` points each.
pub fn lane_series(timeline: &Timeline, numbers: Range<usize>, lane: Lane, columns: usize) -> Vec<Point> {
    let slots = Slots::new(timeline, numbers.clone(), columns);
    let mut growing = Growing::default();
    for number in numbers {
        let Some(moment) = timeline.moment(number) else { break };
        let time = slots.time(number, moment.wall_ns, moment.seconds);
        growing.put(time, &moment.point(lane).value.into());
        // Where readings were thinned the peak is higher, and counts for no time.
        growing.put(Time { seconds: 0.0, ..time }, &moment.peak(lane).value.into());
    }
    growing.points.iter().map(|(_, gathering)| point(gathering, None)).collect()
}
