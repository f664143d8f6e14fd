//! Questions to a timeline: values over time, their extremes with the time and the process, the spans in which a
//! condition held. Over a gap nothing is interpolated: what is not known has no value.

use crate::catalogue::{Eval, Instances, Kind, Metric, Unit, Value, all, named};
use crate::exited::{exited, exited_unsaid};
use crate::expr::Expression;
use crate::rank::{Total, total, uses};
use crate::reading::ProcessKey;
use crate::recording::{ReadError, has_peaks};
use crate::row::Cells;
use crate::sample::Sample;
use crate::text::Text;
use crate::timeline::{Reach, Spent, Timeline};
use crate::units::NANOS;
use std::collections::BTreeMap;
use std::ops::Range;

/// A metric that is asked for, of the machine or of one instance: `disk.busy{sda}`.
#[derive(Clone, Debug)]
pub struct Asked {
    /// Which metric.
    pub metric: &'static Metric,
    /// Which core, device, interface or sensor; all of them where none is named.
    pub instance: Option<String>,
}

impl Asked {
    /// Reads a metric, by alias or name, with its instance in braces.
    pub fn parse(text: &str) -> Result<Asked, String> {
        let (name, instance) = match text.split_once('{') {
            Some((name, rest)) => {
                let instance =
                    rest.strip_suffix('}').ok_or_else(|| format!("'{text}' needs a }} at its end"))?;
                (name, Some(instance.trim_matches('"').to_owned()))
            }
            None => (text, None),
        };
        let metric = named(name)?;
        if instance.is_some() && matches!(metric.eval, Eval::Process(_)) {
            return Err(format!("{name} is a metric of processes and has no instances"));
        }
        Ok(Asked { metric, instance })
    }
}

/// What becomes of several samples.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stat {
    /// The smallest, of processes that of a single one.
    Min,
    /// The largest, of processes that of a single one.
    Max,
    /// The mean over time.
    Mean,
    /// Half of the samples are at most this.
    P50,
    /// 95 of 100 samples are at most this.
    P95,
    /// 99 of 100 samples are at most this.
    P99,
    /// Rates added up over time: bytes/s give bytes, shares of a core give CPU time.
    Sum,
    /// The last that is known.
    Last,
}

impl Stat {
    /// All of them.
    pub const ALL: [Stat; 8] =
        [Stat::Min, Stat::Max, Stat::Mean, Stat::P50, Stat::P95, Stat::P99, Stat::Sum, Stat::Last];

    /// Its word.
    pub const fn word(self) -> &'static str {
        match self {
            Stat::Min => "min",
            Stat::Max => "max",
            Stat::Mean => "mean",
            Stat::P50 => "p50",
            Stat::P95 => "p95",
            Stat::P99 => "p99",
            Stat::Sum => "sum",
            Stat::Last => "last",
        }
    }

    /// The unit of what becomes of values of a unit, and the factor; none where it makes no sense.
    pub fn unit(self, metric: &Metric) -> Option<(Unit, f64)> {
        if self != Stat::Sum {
            return Some((metric.unit, 1.0));
        }
        match (metric.kind, metric.unit) {
            (Kind::Rate, Unit::BytesPerSecond) => Some((Unit::Bytes, 1.0)),
            (Kind::Rate, Unit::PerSecond) => Some((Unit::Number, 1.0)),
            (Kind::Rate, Unit::PercentOfCore) => Some((Unit::Seconds, 0.01)),
            _ => None,
        }
    }
}

/// A process that a value belongs to.
#[derive(Clone, Debug, PartialEq)]
pub struct Who {
    /// Its identity.
    pub key: ProcessKey,
    /// Its name.
    pub name: Text,
}

/// The value of a single process that has most or least, and which one it is.
type Extreme = Option<(f64, Who)>;

/// One value at one instant.
#[derive(Clone, Debug)]
struct Point {
    wall_ns: i64,
    seconds: Option<f64>,
    value: Value,
    /// The process that has most, the one that has least, with their values.
    most: Extreme,
    least: Extreme,
}

/// A line of an answer.
#[derive(Clone, Debug)]
pub struct Line {
    /// From when on.
    pub from_ns: i64,
    /// Until when.
    pub until_ns: i64,
    /// The metric.
    pub metric: &'static Metric,
    /// The instance.
    pub instance: Option<Text>,
    /// The value.
    pub value: Value,
    /// Its unit.
    pub unit: Unit,
    /// When it was so, for an extreme.
    pub at_ns: Option<i64>,
    /// Whose it is, for an extreme or where a single process has most of it.
    pub who: Option<Who>,
    /// Samples with a value.
    pub known: usize,
    /// Samples without one.
    pub unknown: usize,
}

/// A span in which a condition held.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span {
    /// Where the first sample begins for which it held.
    pub from_ns: i64,
    /// The last instant at which it held.
    pub until_ns: i64,
    /// Samples.
    pub samples: usize,
}

/// A question.
#[derive(Clone, Debug, Default)]
pub struct Query {
    /// What is asked for.
    pub metrics: Vec<Asked>,
    /// Which processes count; all of them where nothing is said.
    pub whom: Option<Expression>,
    /// When samples count.
    pub when: Option<Expression>,
    /// Samples of so many nanoseconds become one line.
    pub step_ns: Option<i64>,
    /// What becomes of them.
    pub stat: Option<Stat>,
    /// The user whose processes are `mine`.
    pub me: String,
}

/// An answer.
#[derive(Clone, Debug, Default)]
pub struct Answer {
    /// Values, metric by metric, each in the order of time.
    pub lines: Vec<Line>,
    /// Where a condition held.
    pub spans: Vec<Span>,
    /// Samples for which it is not known whether it held.
    pub undecided: usize,
}

/// What a thread collects.
#[derive(Default)]
struct Collected {
    /// By the place of the metric and the name of the instance.
    series: BTreeMap<(usize, Option<Text>), Vec<Point>>,
    /// What is known of processes, by the place of the metric.
    known: Vec<KnownOf>,
    held: Vec<(i64, i64, Option<bool>, bool)>,
}

/// What the processes of the newest sample have of a metric, by their places; nothing of those that do not count.
#[derive(Default)]
struct KnownOf {
    values: Vec<Option<Value>>,
    /// Places of those that did something in the newest sample, after which the same may be another value; none where that may be
    /// all of them.
    restless: Option<Vec<usize>>,
}

impl Query {
    /// Answers it for samples of a timeline.
    pub fn answer(&self, timeline: &Timeline, numbers: Range<usize>) -> Result<Answer, ReadError> {
        let peaks_of_all = self.stat == Some(Stat::Max)
            && self.step_ns.is_none()
            && self.whom.is_none()
            && self.when.is_none()
            && self.metrics.iter().all(|asked| is_light(asked.metric) && has_peaks(asked.metric));
        if peaks_of_all {
            let lines = self.metrics.iter().map(|asked| peak(asked.metric, timeline, numbers.clone()));
            let lines: Vec<Line> = lines.collect::<Result<_, _>>()?;
            // Why nobody has a value only the processes tell.
            if lines.iter().all(|line| line.value != Value::Absent) {
                return Ok(Answer { lines, ..Answer::default() });
            }
        }
        let (threads, reach) = (std::thread::available_parallelism().map_or(1, usize::from), self.reach());
        let parts = timeline.fold(numbers, threads, reach, Collected::default, |collected, _, sample| {
            self.collect(collected, sample, reach.has_commands());
        })?;
        let mut whole = Collected::default();
        for part in parts {
            whole.held.extend(part.held);
            for (key, points) in part.series {
                whole.series.entry(key).or_default().extend(points);
            }
        }
        let mut lines = vec![];
        for ((place, instance), points) in &whole.series {
            self.lines(self.metrics[*place].metric, instance.as_ref(), points, &mut lines);
        }
        let undecided = whole.held.iter().filter(|(_, _, held, _)| held.is_none()).count();
        Ok(Answer { lines, spans: spans(&whole.held), undecided })
    }

    /// What it is about.
    fn reach(&self) -> Reach {
        let expressions = || [&self.whom, &self.when].into_iter().flatten();
        let of_active = expressions().filter(|expression| expression.asks_for_active()).flat_map(|_| uses());
        let metrics = self.metrics.iter().map(|asked| asked.metric);
        let metrics = metrics.chain(expressions().flat_map(Expression::metrics)).chain(of_active.copied());
        let cells = expressions().map(Expression::cells).filter(|cells| *cells != Cells::NONE);
        // A condition is decided for processes.
        let names = self.when.is_some().then(Reach::names);
        metrics
            .map(Reach::of)
            .chain(cells.map(Reach::cells))
            .reduce(Reach::and)
            .map_or(Reach::All, |reach| names.map_or(reach, |names| reach.and(names)))
    }

    /// Takes in a sample; command lines of those who are gone are made where they are asked for.
    fn collect(&self, collected: &mut Collected, sample: &Sample, commands: bool) {
        let wall_ns = sample.now.wall_ns();
        if let Some(when) = &self.when {
            let bound = when.bind(sample, &self.me);
            // It holds where it does for any process. What of the machine is not known is not known with any of them; a
            // single process that is not known does not matter.
            let mut held = None;
            for at in 0..sample.now.processes.len() {
                match bound.holds(&sample.process(at)) {
                    Some(true) => {
                        held = Some(true);
                        break;
                    }
                    Some(false) => held = Some(false),
                    None => {}
                }
            }
            let covered = (sample.seconds().unwrap_or(0.0) * NANOS as f64) as i64;
            collected.held.push((wall_ns - covered, wall_ns, held, sample.before.is_some()));
            if held != Some(true) {
                return;
            }
        }
        let counts_gone =
            |asked: &Asked| matches!(asked.metric.eval, Eval::Process(_)) && asked.metric.kind == Kind::Rate;
        let gone = || if commands { exited(sample) } else { exited_unsaid(sample) };
        let gone = self.metrics.iter().any(counts_gone).then(gone);
        for (place, asked) in self.metrics.iter().enumerate() {
            let mut put = |instance: Option<Text>, value, most, least| {
                let point = Point { wall_ns, seconds: sample.seconds(), value, most, least };
                collected.series.entry((place, instance)).or_default().push(point);
            };
            match asked.metric.eval {
                Eval::System(_) => match asked.metric.of_system(sample) {
                    Instances::One(value) => put(None, value, None, None),
                    Instances::Many(values) => {
                        let meant =
                            |name: &Text| asked.instance.as_ref().is_none_or(|asked| **asked == **name);
                        for (name, value) in values.into_iter().filter(|(name, _)| meant(name)) {
                            put(Some(name), value, None, None);
                        }
                    }
                },
                Eval::Process(_) => {
                    let gone = gone.as_ref().filter(|_| counts_gone(asked));
                    if collected.known.len() <= place {
                        collected.known.resize_with(place + 1, KnownOf::default);
                    }
                    let known = &mut collected.known[place];
                    let (value, most, least) = self.of_processes(asked.metric, known, sample, gone);
                    let point = Point { wall_ns, seconds: sample.seconds(), value, most, least };
                    collected.series.entry((place, None)).or_default().push(point);
                }
            }
        }
    }

    /// What the processes that count have together, those who are gone among them, and those that have most and least of it:
    /// of processes that are there, since who is gone may be several.
    fn of_processes(
        &self,
        metric: &'static Metric,
        known: &mut KnownOf,
        sample: &Sample,
        gone: Option<&Sample>,
    ) -> (Value, Extreme, Extreme) {
        self.look_at_restless(metric, known, sample);
        let mut extremes: [Option<(f64, usize)>; 2] = [None, None];
        for (at, value) in known.values.iter().enumerate() {
            let Some(number) = value.as_ref().and_then(Value::number) else { continue };
            let [most, least] = &mut extremes;
            if most.is_none_or(|(before, _)| number > before) {
                *most = Some((number, at));
            }
            if least.is_none_or(|(before, _)| number < before) {
                *least = Some((number, at));
            }
        }
        let mut of_gone = vec![];
        if let Some(gone) = gone {
            let bound = self.whom.as_ref().map(|whom| whom.bind(gone, &self.me));
            let views = (0..gone.now.processes.len()).map(|at| gone.process(at));
            let counted =
                views.filter(|view| bound.as_ref().is_none_or(|bound| bound.holds(view) == Some(true)));
            // What of them is not known makes the sum of the others no less known than it is on the screen.
            of_gone.extend(counted.map(|view| metric.of(&view)).filter(is_known));
        }
        let who = |found: Option<(f64, usize)>| {
            let (value, at) = found?;
            let row = &sample.now.processes[at];
            Some((value, Who { key: crate::row::Row::key(&**row), name: row.name.clone() }))
        };
        let [most, least] = extremes.map(who);
        let values = known.values.iter().flatten().cloned().chain(of_gone);
        (total(values.map(|value| Total { value, partial: false }), metric).value, most, least)
    }

    /// What the processes that count have. Who did nothing in this sample and in the one before has what it had, where neither the
    /// metric nor the condition comes from elsewhere.
    fn look_at_restless(&self, metric: &Metric, known: &mut KnownOf, sample: &Sample) {
        let bound = self.whom.as_ref().map(|whom| whom.bind(sample, &self.me));
        let value = |at: usize| {
            let view = sample.process(at);
            // Traffic of nobody known is no process, but belongs to the sum.
            let counts = bound.as_ref().is_none_or(|bound| bound.holds(&view) == Some(true));
            counts.then(|| metric.of(&view))
        };
        let can_rest = metric.rests() && self.whom.as_ref().is_none_or(Expression::rests);
        let count = sample.now.processes.len();
        let changed = sample.changed().filter(|_| can_rest);
        match (changed, known.restless.take().filter(|_| known.values.len() == count)) {
            (Some(changed), Some(restless)) => {
                for at in changed.iter().copied().chain(restless) {
                    known.values[at] = value(at);
                }
            }
            _ => known.values = (0..count).map(value).collect(),
        }
        known.restless = changed.map(<[usize]>::to_vec);
    }

    /// The lines of one series.
    fn lines(&self, metric: &'static Metric, instance: Option<&Text>, points: &[Point], out: &mut Vec<Line>) {
        let begin = |point: &Point| point.wall_ns - (point.seconds.unwrap_or(0.0) * NANOS as f64) as i64;
        let stat = match (self.stat, self.step_ns) {
            (None, None) => {
                out.extend(points.iter().map(|point| Line {
                    from_ns: begin(point),
                    until_ns: point.wall_ns,
                    metric,
                    instance: instance.cloned(),
                    value: point.value.clone(),
                    unit: metric.unit,
                    at_ns: None,
                    who: point.most.as_ref().map(|(_, who)| who.clone()),
                    known: usize::from(is_known(&point.value)),
                    unknown: usize::from(!is_known(&point.value)),
                }));
                return;
            }
            // Of names that happen to be numbers there is no mean.
            (stat, _) if metric.kind == Kind::Label && stat.is_none_or(|stat| stat == Stat::Mean) => {
                Stat::Last
            }
            (stat, _) => stat.unwrap_or(Stat::Mean),
        };
        let bucket = |point: &Point| self.step_ns.map_or(0, |step| point.wall_ns.div_euclid(step.max(1)));
        for points in points.chunk_by(|a, b| bucket(a) == bucket(b)) {
            let (Some(first), Some(last)) = (points.first(), points.last()) else { continue };
            let (value, at_ns, who) = reduced(stat, metric, points);
            let known = points.iter().filter(|point| is_known(&point.value)).count();
            let (from_ns, until_ns) = match self.step_ns {
                Some(step) => (bucket(first) * step, (bucket(first) + 1) * step),
                None => (begin(first), last.wall_ns),
            };
            out.push(Line {
                from_ns,
                until_ns,
                metric,
                instance: instance.cloned(),
                value,
                unit: stat.unit(metric).map_or(metric.unit, |(unit, _)| unit),
                at_ns,
                who,
                known,
                unknown: points.len() - known,
            });
        }
    }
}

/// The most that a single process had of a metric: of whole blocks the index tells it.
fn peak(metric: &'static Metric, timeline: &Timeline, numbers: Range<usize>) -> Result<Line, ReadError> {
    let alone =
        Query { metrics: vec![Asked { metric, instance: None }], stat: Some(Stat::Last), ..Query::default() };
    let wall = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
    let first = timeline.moment(numbers.start);
    let covered =
        first.and_then(|moment| moment.seconds).map_or(0, |seconds| (seconds * NANOS as f64) as i64);
    let (mut best, mut known, count): (Option<(f64, i64, Who)>, _, _) = (None, 0, numbers.len());
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let spent = Spent::default();
    for block in timeline.blocks(numbers.clone(), metric) {
        let found: Vec<(f64, i64, Who)> = match block.peak {
            Some(None) => vec![],
            Some(Some((peak, number))) => {
                known += peak.known;
                vec![(peak.value, wall(number), Who { key: peak.key, name: peak.name })]
            }
            None => {
                let start = || (0, None);
                let parts = timeline.fold_on(
                    &spent,
                    block.numbers,
                    threads,
                    Reach::of(metric),
                    start,
                    |(known, best), number, sample| {
                        let (_, most, _) = alone.of_processes(metric, &mut KnownOf::default(), sample, None);
                        let Some((value, who)) = most else { return };
                        *known += 1;
                        if best.as_ref().is_none_or(|(before, ..): &(f64, i64, Who)| value > *before) {
                            *best = Some((value, wall(number), who));
                        }
                    },
                )?;
                known += parts.iter().map(|(known, _)| known).sum::<usize>();
                parts.into_iter().filter_map(|(_, best)| best).collect()
            }
        };
        for candidate in found {
            if best.as_ref().is_none_or(|(before, ..)| candidate.0 > *before) {
                best = Some(candidate);
            }
        }
    }
    let (value, at_ns, who) = match best {
        Some((value, at, who)) => (Value::Number(value), Some(at), Some(who)),
        None => (Value::Absent, None, None),
    };
    Ok(Line {
        from_ns: wall(numbers.start) - covered,
        until_ns: wall(numbers.end.saturating_sub(1)),
        metric,
        instance: None,
        value,
        unit: metric.unit,
        at_ns,
        who,
        known,
        unknown: count.saturating_sub(known),
    })
}

fn is_light(metric: &Metric) -> bool {
    matches!(Reach::of(metric), Reach::Processes { .. })
}

fn is_known(value: &Value) -> bool {
    !matches!(value, Value::Absent | Value::Denied)
}

/// What becomes of several values; of extremes also when it was and whose it is.
fn reduced(stat: Stat, metric: &Metric, points: &[Point]) -> (Value, Option<i64>, Option<Who>) {
    let unknown = || {
        let denied = points.iter().any(|point| point.value == Value::Denied);
        (if denied { Value::Denied } else { Value::Absent }, None, None)
    };
    if stat == Stat::Last {
        let last = points.iter().rev().find(|point| is_known(&point.value));
        return last.map_or_else(unknown, |point| {
            let who = point.most.as_ref().map(|(_, who)| who.clone());
            (point.value.clone(), Some(point.wall_ns), who)
        });
    }
    if let Stat::Max | Stat::Min = stat {
        // Of processes a single one, of the machine the value itself.
        let candidates = points.iter().filter_map(|point| {
            let single = if stat == Stat::Max { &point.most } else { &point.least };
            match single {
                Some((value, who)) => Some((*value, point.wall_ns, Some(who.clone()))),
                None => Some((point.value.number()?, point.wall_ns, None)),
            }
        });
        // Of several equal ones the first.
        let best = candidates.reduce(|best, other| {
            let better = if stat == Stat::Max { other.0 > best.0 } else { other.0 < best.0 };
            if better { other } else { best }
        });
        return best.map_or_else(unknown, |(value, at, who)| (Value::Number(value), Some(at), who));
    }
    let numbers: Vec<(f64, f64)> = points
        .iter()
        .filter_map(|point| Some((point.value.number()?, point.seconds.unwrap_or(0.0))))
        .collect();
    if numbers.is_empty() {
        return unknown();
    }
    let value = match stat {
        Stat::Sum => {
            let factor = stat.unit(metric).map_or(1.0, |(_, factor)| factor);
            numbers.iter().map(|(value, seconds)| value * seconds * factor).sum()
        }
        Stat::P50 => percentile(&numbers, 0.50),
        Stat::P95 => percentile(&numbers, 0.95),
        Stat::P99 => percentile(&numbers, 0.99),
        // A level has no time that it covers where no rate is known.
        _ if numbers.iter().all(|(_, seconds)| *seconds <= 0.0) => {
            numbers.iter().map(|(value, _)| value).sum::<f64>() / numbers.len() as f64
        }
        _ => {
            let all: f64 = numbers.iter().map(|(_, seconds)| seconds).sum();
            numbers.iter().map(|(value, seconds)| value * seconds).sum::<f64>() / all
        }
    };
    (Value::Number(value), None, None)
}

/// The smallest value that at least such a share of the samples does not exceed.
fn percentile(numbers: &[(f64, f64)], share: f64) -> f64 {
    let mut values: Vec<f64> = numbers.iter().map(|(value, _)| *value).collect();
    values.sort_by(f64::total_cmp);
    let rank = (share * values.len() as f64).ceil() as usize;
    values[rank.clamp(1, values.len()) - 1]
}

/// Consecutive samples for which a condition held. A gap between two ends a span.
fn spans(held: &[(i64, i64, Option<bool>, bool)]) -> Vec<Span> {
    let mut spans: Vec<Span> = vec![];
    let mut open = false;
    for (from, until, held, follows) in held {
        if *held != Some(true) {
            open = false;
            continue;
        }
        match spans.last_mut() {
            Some(span) if open && *follows => {
                span.until_ns = *until;
                span.samples += 1;
            }
            _ => spans.push(Span { from_ns: *from, until_ns: *until, samples: 1 }),
        }
        open = true;
    }
    spans
}

/// Metrics that have a value somewhere in a timeline, with their instances; looks at some of its samples.
pub fn present(timeline: &mut Timeline) -> Result<Vec<(&'static Metric, Vec<Text>)>, ReadError> {
    const LOOKED_AT: usize = 12;
    let (first, end) = (timeline.first(), timeline.end());
    let step = ((end - first) / LOOKED_AT).max(1);
    let mut found: Vec<_> = all().map(|metric| (metric, false, std::collections::BTreeSet::new())).collect();
    // One after another: of a large machine a dozen at a time would take much memory.
    for number in (first..end).rev().step_by(step) {
        let sample = timeline.sample(number)?;
        for (metric, there, instances) in &mut found {
            match metric.eval {
                Eval::System(_) => match metric.of_system(&sample) {
                    Instances::One(value) => *there |= is_known(&value),
                    Instances::Many(values) => {
                        let known = values.into_iter().filter(|(_, value)| is_known(value));
                        instances.extend(known.map(|(name, _)| name));
                    }
                },
                Eval::Process(_) => {
                    *there = *there
                        || (0..sample.now.processes.len())
                            .any(|at| is_known(&metric.of(&sample.process(at))));
                }
            }
        }
    }
    let there = found.into_iter().filter(|(_, there, instances)| *there || !instances.is_empty());
    Ok(there.map(|(metric, _, instances)| (metric, instances.into_iter().collect())).collect())
}
