//! Values over time out of a timeline, in as many points as a drawing has room for. A point keeps the smallest and the
//! largest value that it stands for, so no peak is lost; where nothing was read there is no point.

use super::wish::{Of, Wish};
use crate::catalogue::{Eval, Instances, Kind, Metric, Value};
use crate::exited::{UNNAMED, exited};
use crate::lane::Lane;
use crate::rank::{Total, total};
use crate::reading::ProcessRow;
use crate::recording::ReadError;
use crate::row::Row as _;
use crate::sample::{ProcessView, Sample};
use crate::text::{Text, no_text};
use crate::timeline::{Moment, Reach, Timeline};
use crate::units::NANOS;
use crate::wanted::Demand;
use std::collections::{BTreeMap, HashMap};
use std::ops::Range;

/// Values of one or several samples.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// Where the first sample begins.
    pub from_ns: i64,
    /// The instant of the last.
    pub until_ns: i64,
    /// The smallest value.
    pub low: f64,
    /// The largest.
    pub high: f64,
    /// The mean over time. Of a part of a whole over all the time, so that parts add up.
    pub mean: f64,
}

/// Values over time.
#[derive(Clone, Debug, PartialEq)]
pub struct Series {
    /// The metric.
    pub metric: &'static Metric,
    /// Of what: an instance, a program, a process; empty for the machine.
    pub name: String,
    /// In the order of time; where nothing is known there are none.
    pub points: Vec<Point>,
    /// Samples in which it is not permitted to see it.
    pub denied: usize,
    /// Some values are only the least that they may be.
    pub at_least: bool,
}

impl Series {
    /// Whether the values go on from one point to the next: nothing between them is missing.
    pub fn joined(before: &Point, next: &Point) -> bool {
        next.from_ns - before.until_ns <= NANOS / 4
    }

    /// The parts without a gap within.
    pub fn runs(&self) -> impl Iterator<Item = &[Point]> {
        self.points.chunk_by(Series::joined)
    }

    /// The largest value.
    pub fn most(&self) -> f64 {
        self.points.iter().map(|point| point.high).fold(0.0, f64::max)
    }
}

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

/// Programs and processes of which values are kept while a timeline is gone through; of more the smallest give way, and
/// are part of what is left.
const KEPT: usize = 2_000;
/// What those that are too small to be kept are called.
const OTHERS: &str = "others";

#[derive(Clone, Copy)]
struct Gathering {
    point: Point,
    sum: f64,
    seconds: f64,
    known: usize,
}

impl Gathering {
    fn join(&mut self, later: &Gathering) {
        self.point.from_ns = self.point.from_ns.min(later.point.from_ns);
        self.point.until_ns = self.point.until_ns.max(later.point.until_ns);
        self.point.low = self.point.low.min(later.point.low);
        self.point.high = self.point.high.max(later.point.high);
        self.sum += later.sum;
        self.seconds += later.seconds;
        self.known += later.known;
    }

    /// Another one of the same time, which is added to this one.
    fn add(&mut self, other: &Gathering) {
        self.point.from_ns = self.point.from_ns.min(other.point.from_ns);
        self.point.until_ns = self.point.until_ns.max(other.point.until_ns);
        self.point.high += other.point.high;
        self.point.mean += other.point.mean;
        self.sum += other.sum;
        self.seconds = self.seconds.max(other.seconds);
        self.known = self.known.max(other.known);
    }
}

/// When a sample was, and which of the points it belongs to.
#[derive(Clone, Copy)]
struct Time {
    slot: usize,
    from_ns: i64,
    until_ns: i64,
    seconds: f64,
}

/// Values of one series while it is gathered.
#[derive(Default)]
struct Growing {
    /// By the number of their point, ascending.
    points: Vec<(usize, Gathering)>,
    denied: usize,
    at_least: bool,
}

impl Growing {
    fn put(&mut self, time: Time, value: &Value) {
        match value {
            Value::Number(value) if value.is_finite() => {
                let Time { slot, from_ns, until_ns, seconds } = time;
                let point = Point { from_ns, until_ns, low: *value, high: *value, mean: *value };
                self.push(slot, Gathering { point, sum: value * seconds, seconds, known: 1 });
            }
            Value::Denied => self.denied += 1,
            _ => {}
        }
    }

    fn push(&mut self, slot: usize, one: Gathering) {
        match self.points.last_mut() {
            Some((last, all)) if *last == slot => all.join(&one),
            _ => self.points.push((slot, one)),
        }
    }

    /// What comes after it in time.
    fn append(&mut self, later: Growing) {
        self.denied += later.denied;
        self.at_least |= later.at_least;
        later.points.into_iter().for_each(|(slot, one)| self.push(slot, one));
    }

    /// Another one of the same time, which is added to this one.
    fn add(&mut self, other: Growing) {
        self.denied += other.denied;
        self.at_least |= other.at_least;
        let mut all: BTreeMap<usize, Gathering> = std::mem::take(&mut self.points).into_iter().collect();
        for (slot, one) in other.points {
            all.entry(slot).and_modify(|all| all.add(&one)).or_insert(one);
        }
        self.points = all.into_iter().collect();
    }

    fn weight(&self) -> f64 {
        self.points.iter().map(|(_, point)| point.sum).sum()
    }
}

/// The series of one wish, by name.
#[derive(Default)]
struct OfWish {
    ids: HashMap<Text, usize>,
    names: Vec<Text>,
    series: Vec<Growing>,
    /// Which series each process of the sample before belongs to.
    rows: Vec<usize>,
}

impl OfWish {
    fn id(&mut self, name: &Text) -> usize {
        if let Some(id) = self.ids.get(name) {
            return *id;
        }
        let id = self.names.len();
        self.ids.insert(name.clone(), id);
        self.names.push(name.clone());
        self.series.push(Growing::default());
        id
    }

    fn put(&mut self, name: &Text, time: Time, value: &Value) {
        let id = self.id(name);
        self.series[id].put(time, value);
    }

    /// Where there are too many, the smallest become one.
    fn keep_few(&mut self) {
        if self.names.len() <= 2 * KEPT {
            return;
        }
        let weights: Vec<f64> = self.series.iter().map(Growing::weight).collect();
        let mut sorted = weights.clone();
        let at = sorted.len() - KEPT;
        sorted.select_nth_unstable_by(at, f64::total_cmp);
        let least = sorted[at];
        let before = std::mem::take(self);
        let others = Text::from(OTHERS);
        for ((name, series), weight) in before.names.iter().zip(before.series).zip(weights) {
            if weight >= least {
                let id = self.id(name);
                self.series[id].append(series);
            } else {
                let id = self.id(&others);
                self.series[id].add(series);
            }
        }
    }
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
        let gone = wishes.iter().any(|wish| may_mean_gone(wish, sample)).then(|| exited(sample));
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

/// All processes of a sample, those who are gone among them.
fn views<'a>(sample: &'a Sample, gone: Option<&'a Sample>) -> impl Iterator<Item = ProcessView<'a>> {
    let all = [Some(sample), gone].into_iter().flatten();
    all.flat_map(|sample| (0..sample.now.processes.len()).map(move |at| sample.process(at)))
}

/// What the processes that are meant have together.
fn of_processes(into: &mut OfWish, wish: &Wish, (sample, gone): (&Sample, Option<&Sample>), time: Time) {
    let metric = wish.metric;
    let mut one = None;
    let meant = views(sample, gone).filter(|view| wish.means(view));
    let values = meant.map(|view| {
        one.get_or_insert_with(|| label(&view));
        Total::of(metric, &view)
    });
    let sum = total(values, metric);
    let name = match (&wish.of, into.names.first()) {
        (Of::Program(name), _) => Text::from(name.as_str()),
        (Of::Pid(_) | Of::Process(_), Some(name)) => name.clone(),
        (Of::Pid(_) | Of::Process(_), None) => match one {
            Some(name) => Text::from(name.as_str()),
            None => return,
        },
        _ => no_text(),
    };
    let id = into.id(&name);
    into.series[id].at_least |= sum.partial;
    into.series[id].put(time, &sum.value);
}

/// What each program has, or each process of a program.
fn parts_of_processes(
    into: &mut OfWish,
    wish: &Wish,
    (sample, gone, is_first): (&Sample, Option<&Sample>, bool),
    time: Time,
) {
    const NOBODY: usize = usize::MAX;
    let metric = wish.metric;
    let by_program = matches!(wish.of, Of::All);
    // A process whose counters stand still has done nothing; what it may not show it did not show before.
    let rests = metric.kind == Kind::Rate && metric.needs != Some(Demand::ControlGroup) && !is_first;
    let before = std::mem::take(&mut into.rows);
    let count = sample.now.processes.len();
    let mut rows = Vec::with_capacity(count);
    let mut sums: Vec<(usize, Total)> = Vec::with_capacity(if rests { count / 4 } else { count });
    let earlier = sample.before.as_deref();
    let name = |into: &mut OfWish, view: &ProcessView<'_>| match wish.means(view) {
        false => NOBODY,
        true if by_program => into.id(program(view)),
        true => into.id(&Text::from(label(view).as_str())),
    };
    for at in 0..count {
        let place = sample.earlier_place(at);
        let (same, is_called_the_same) = place.zip(earlier).map_or((false, false), |(place, earlier)| {
            let (was, is) = (&earlier.processes[place], &sample.now.processes[at]);
            let text = |was: &Text, is: &Text| std::sync::Arc::ptr_eq(was, is);
            (std::sync::Arc::ptr_eq(was, is), text(&was.name, &is.name) && text(&was.program, &is.program))
        });
        let known = place.and_then(|place| before.get(place)).filter(|_| is_called_the_same).copied();
        let view = sample.process(at);
        let id = known.unwrap_or_else(|| name(into, &view));
        rows.push(id);
        if id != NOBODY && !(same && rests) {
            sums.push((id, Total::of(metric, &view)));
        }
    }
    for view in
        gone.into_iter().flat_map(|gone| (0..gone.now.processes.len()).map(move |at| gone.process(at)))
    {
        let id = name(into, &view);
        if id != NOBODY {
            sums.push((id, Total::of(metric, &view)));
        }
    }
    into.rows = rows;
    // Who uses nothing is no part of what is drawn; who may not be seen is.
    let counts =
        |total: &Total| total.value == Value::Denied || total.value.number().is_some_and(|value| value > 0.0);
    sums.retain(|(_, total)| counts(total));
    sums.sort_by_key(|(id, _)| *id);
    for of_one in sums.chunk_by(|a, b| a.0 == b.0) {
        let sum = total(of_one.iter().map(|(_, total)| total.clone()), metric);
        let series = &mut into.series[of_one[0].0];
        series.at_least |= sum.partial;
        series.put(time, &sum.value);
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

/// A point of what was gathered. A part of a whole that is not there in some samples of the slot has nothing in them.
fn point(gathering: &Gathering, slot: Option<&(i64, i64, f64, usize)>) -> Point {
    let Gathering { point, sum, seconds, known } = *gathering;
    let Some((from_ns, until_ns, whole, samples)) = slot.copied() else {
        return Point { mean: if seconds > 0.0 { sum / seconds } else { point.mean }, ..point };
    };
    let share = known.min(samples) as f64 / samples.max(1) as f64;
    let mean = if whole > 0.0 { sum / whole } else { point.mean * share };
    let low = if known < samples { 0.0 } else { point.low };
    Point { from_ns, until_ns, low, high: point.high, mean }
}

/// `stacker[3820]`; of several that are one row their name.
fn label(view: &ProcessView<'_>) -> String {
    let key = view.now.key();
    if crate::exited::is_gathered(key) {
        view.now.name.to_string()
    } else {
        format!("{}[{}]", view.now.name, key.pid)
    }
}

fn program<'a>(view: &ProcessView<'a>) -> &'a Text {
    if view.now.program.is_empty() { &view.now.name } else { &view.now.program }
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
