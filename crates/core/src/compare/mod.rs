//! Two moments or spans side by side: what differs, most first, with both values, and what appeared or vanished.

pub mod words;

use crate::catalogue::{Eval, Instances, Metric, SYSTEM_METRICS, Unit, Value, listed};
use crate::rank::{Total, total};
use crate::reading::{HostFacts, Reading};
use crate::recording::ReadError;
use crate::sample::Sample;
use crate::sorting::ColdSort as _;
use crate::text::Text;
use crate::timeline::Timeline;
use crate::units::NANOS;
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::sync::Arc;

/// What of a process is compared.
pub const COMPARED: [&str; 9] =
    ["cpu", "rss", "swap", "read", "write", "net_in", "net_out", "threads", "files"];

/// A moment or a span of one recording.
#[derive(Clone)]
pub struct Side {
    /// From when on; the moment itself where it is one.
    pub from_ns: i64,
    /// Until when.
    pub until_ns: i64,
    /// Whose it is.
    pub host: Arc<HostFacts>,
    /// What was so: rates are means over the span.
    pub sample: Arc<Sample>,
    /// A gap lies within: rates are of the longest stretch without one.
    pub gap: bool,
}

impl Side {
    /// A sample of a timeline, or several of them.
    pub fn of(timeline: &mut Timeline, numbers: RangeInclusive<usize>) -> Result<Side, ReadError> {
        let (first, last) = (*numbers.start(), *numbers.end());
        let sample = timeline.sample(last)?;
        let host = sample.host.clone();
        let covered = |sample: &Sample| (sample.seconds().unwrap_or(0.0) * NANOS as f64) as i64;
        if first >= last {
            let until_ns = sample.now.wall_ns();
            return Ok(Side { from_ns: until_ns, until_ns, host, sample, gap: false });
        }
        let from_ns = {
            let first = timeline.sample(first)?;
            first.now.wall_ns() - covered(&first)
        };
        let until_ns = sample.now.wall_ns();
        // Stretches in which each sample follows on the one before.
        let mut stretches: Vec<RangeInclusive<usize>> = vec![];
        for number in numbers {
            let follows = timeline.moment(number).is_some_and(|moment| moment.seconds.is_some());
            match stretches.last_mut() {
                Some(stretch) if follows => *stretch = *stretch.start()..=number,
                // Its first sample covers time as well where it has a rate.
                _ => stretches.push(number.saturating_sub(usize::from(follows))..=number),
            }
        }
        let gap = stretches.len() > 1;
        let length = |stretch: &RangeInclusive<usize>| stretch.end() - stretch.start();
        let Some(longest) = stretches.into_iter().max_by_key(length) else {
            return Ok(Side { from_ns, until_ns, host, sample, gap });
        };
        let mut ended = vec![];
        let mut ends: [Option<Arc<Reading>>; 2] = [None, None];
        for number in longest.clone() {
            let reading = timeline.sample(number)?.now.clone();
            if number > *longest.start() {
                ended.extend(reading.ended.iter().cloned());
            }
            ends[usize::from(number > *longest.start())] = Some(reading);
        }
        let sample = match ends {
            [Some(begin), Some(end)] => {
                let mut whole = (*end).clone();
                whole.ended = ended;
                Arc::new(Sample::new(host.clone(), Some(begin), Arc::new(whole)))
            }
            _ => sample,
        };
        Ok(Side { from_ns, until_ns, host, sample, gap })
    }

    /// Whether both are of one run of one machine, so that processes can be told apart by their numbers.
    fn same_run(&self, other: &Side) -> bool {
        const APART: i64 = 5 * NANOS;
        let booted = |side: &Side| side.sample.now.wall_ns().saturating_sub(side.sample.now.boot_ns());
        self.host.name == other.host.name && booted(self).abs_diff(booted(other)) < APART as u64
    }
}

/// One value on both sides.
#[derive(Clone, Debug)]
pub struct Pair {
    /// Which metric.
    pub metric: &'static Metric,
    /// Which core, device, interface or sensor.
    pub instance: Option<Text>,
    /// On the first side.
    pub a: Value,
    /// On the second side.
    pub b: Value,
    /// How much it differs, for ordering.
    pub weight: f64,
}

impl Pair {
    fn new(metric: &'static Metric, instance: Option<Text>, a: Value, b: Value) -> Pair {
        let weight = weight(metric.unit, &a, &b);
        Pair { metric, instance, a, b, weight }
    }

    /// The second less the first, where both are known.
    pub fn difference(&self) -> Option<f64> {
        Some(self.b.number()? - self.a.number()?)
    }
}

/// Whether something is on both sides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Presence {
    /// On both.
    Both,
    /// Only on the second.
    Appeared,
    /// Only on the first.
    Vanished,
}

/// A process, or all of one program and user where the two sides are not of one run of one machine.
#[derive(Clone, Debug)]
pub struct Compared {
    /// Its name.
    pub name: Text,
    /// Its user.
    pub user: Text,
    /// Its PID; none where it stands for several.
    pub pid: Option<i64>,
    /// How many it stands for, on both sides.
    pub count: [usize; 2],
    /// On which sides it is.
    pub presence: Presence,
    /// What is compared, in the order of [`COMPARED`].
    pub pairs: Vec<Pair>,
    /// How much it differs in all, for ordering.
    pub weight: f64,
}

/// What differs.
#[derive(Clone, Debug, Default)]
pub struct Comparison {
    /// Metrics of the machine, most first.
    pub machine: Vec<Pair>,
    /// Metrics of cores, devices, interfaces and sensors, most first.
    pub parts: Vec<Pair>,
    /// Parts that only the second has, those that only the first has, by their metric's group and name.
    pub processes: Vec<Compared>,
    /// Processes are joined by program and user.
    pub by_program: bool,
}

/// A difference of this much of a unit matters about as much as one of another unit's.
fn scale(unit: Unit) -> f64 {
    match unit {
        Unit::Percent => 15.0,
        Unit::PercentOfCore => 40.0,
        Unit::Bytes => 512.0 * 1_048_576.0,
        Unit::BytesPerSecond => 4.0 * 1_048_576.0,
        Unit::BitsPerSecond => 32e6,
        Unit::PerSecond => 3_000.0,
        Unit::Seconds => 3_600.0,
        Unit::Delay => 0.03,
        Unit::Celsius => 8.0,
        Unit::Hertz => 1e9,
        Unit::Rpm => 800.0,
        Unit::Watts => 15.0,
        Unit::Volts => 0.3,
        Unit::Dbm => 15.0,
        Unit::Number => 40.0,
        Unit::Text | Unit::Time => f64::INFINITY,
    }
}

/// How much two values differ: by their unit's scale, and by how much of the larger one the difference is.
fn weight(unit: Unit, a: &Value, b: &Value) -> f64 {
    let (Some(a), Some(b)) = (a.number(), b.number()) else { return 0.0 };
    let (difference, larger) = ((b - a).abs(), a.abs().max(b.abs()));
    if larger <= 0.0 { 0.0 } else { difference / scale(unit) * (difference / larger) }
}

/// Compares two sides.
pub fn compare(a: &Side, b: &Side) -> Comparison {
    let mut comparison = Comparison { by_program: !a.same_run(b), ..Comparison::default() };
    for metric in SYSTEM_METRICS {
        let Eval::System(_) = metric.eval else { continue };
        match (metric.of_system(&a.sample), metric.of_system(&b.sample)) {
            (Instances::One(a), Instances::One(b)) => comparison.machine.push(Pair::new(metric, None, a, b)),
            (a, b) => {
                let mut both: BTreeMap<Text, [Value; 2]> = BTreeMap::new();
                for (side, instances) in [a, b].into_iter().enumerate() {
                    let Instances::Many(values) = instances else { continue };
                    for (name, value) in values {
                        both.entry(name).or_insert([Value::Absent, Value::Absent])[side] = value;
                    }
                }
                let pairs = both.into_iter().map(|(name, [a, b])| Pair::new(metric, Some(name), a, b));
                comparison.parts.extend(pairs);
            }
        }
    }
    for pairs in [&mut comparison.machine, &mut comparison.parts] {
        pairs.retain(|pair| pair.a != pair.b);
        pairs.cold_sort_by(|a, b| b.weight.total_cmp(&a.weight));
    }
    comparison.processes = processes(a, b, comparison.by_program);
    comparison
}

/// What tells rows of a comparison apart.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Identity {
    Process(i64, i64),
    Program(Text, Text),
}

fn processes(a: &Side, b: &Side, by_program: bool) -> Vec<Compared> {
    let mut groups: BTreeMap<Identity, [Vec<usize>; 2]> = BTreeMap::new();
    for (side, sample) in [&a.sample, &b.sample].into_iter().enumerate() {
        for (at, row) in sample.now.processes.iter().enumerate() {
            let identity = match (by_program, row.pid.value(), row.start_ticks.value()) {
                (false, Some(pid), Some(start)) => Identity::Process(pid, start),
                _ => Identity::Program(row.name.clone(), row.user.clone()),
            };
            groups.entry(identity).or_default()[side].push(at);
        }
    }
    let metrics = COMPARED.map(listed);
    let mut compared: Vec<Compared> = groups
        .into_iter()
        .filter_map(|(identity, members)| {
            let side = usize::from(!members[1].is_empty());
            let samples = [&a.sample, &b.sample];
            let row = samples[side].now.processes.get(*members[side].first()?)?;
            let presence = match (members[0].is_empty(), members[1].is_empty()) {
                (true, _) => Presence::Appeared,
                (_, true) => Presence::Vanished,
                _ => Presence::Both,
            };
            let pairs: Vec<Pair> = metrics
                .iter()
                .map(|metric| {
                    let [a, b] = [0, 1].map(|side| {
                        let views = members[side].iter().map(|at| samples[side].process(*at));
                        total(views.map(|view| Total::of(metric, &view)), metric).value
                    });
                    Pair::new(metric, None, a, b)
                })
                .collect();
            // Of what is not there nothing is in use.
            let alone = |pair: &Pair| match presence {
                Presence::Both => pair.weight,
                Presence::Appeared => weight(pair.metric.unit, &Value::Number(0.0), &pair.b),
                Presence::Vanished => weight(pair.metric.unit, &pair.a, &Value::Number(0.0)),
            };
            let weight = pairs.iter().map(alone).sum();
            Some(Compared {
                name: row.name.clone(),
                user: row.user.clone(),
                pid: match identity {
                    Identity::Process(pid, _) => Some(pid),
                    Identity::Program(..) => None,
                },
                count: [members[0].len(), members[1].len()],
                presence,
                pairs,
                weight,
            })
        })
        .filter(|compared| compared.presence != Presence::Both || compared.weight > 0.0)
        .collect();
    compared.cold_sort_by(|a, b| b.weight.total_cmp(&a.weight).then_with(|| a.name.cmp(&b.name)));
    compared
}
