//! Processors: cores, classes of time, interrupts by source and core.

use super::groups::of_cpu;
use super::section::{Column, Look, NEVER, PartId, Section, Shape, figures};
use crate::catalogue::{Unit, Value, core_busy, core_share, core_temperature, listed};
use crate::known::Raw;
use crate::lane::Severity;
use crate::sample::Sample;
use crate::sorting::ColdSort as _;
use crate::text::Text;
use std::collections::{BTreeMap, HashMap};

/// Names of the classes in a core's stacked bar, in its order.
pub const STACK: [&str; 5] = ["user", "system", "interrupts", "steal", "waits for disk"];
/// Busy share of a core at which it is worth a notice, a warning, critical.
const HOT: [f64; 3] = [85.0, 95.0, f64::INFINITY];
/// A source is lopsided from this share on one core on.
const LOPSIDED: f64 = 80.0;
/// Interrupts per second at which a lopsided source is worth a notice, a warning, critical.
const BUSY_SOURCE: [f64; 3] = [2_000.0, 20_000.0, f64::INFINITY];

pub fn sections(sample: &Sample) -> Vec<Section> {
    vec![cores(sample), classes(sample), interrupts(sample), softirqs(sample), of_cpu(sample)]
}

/// The process that used most CPU time among those that ran last on each core. Who moved since the reading before may have
/// used the time elsewhere.
fn runs_there(sample: &Sample) -> HashMap<i64, (usize, f64)> {
    let cpu = listed("cpu");
    let mut most: HashMap<i64, (usize, f64)> = HashMap::new();
    // Who did nothing used nothing.
    for at in sample.active().iter().copied() {
        let Some(core) = sample.now.processes[at].core.value() else { continue };
        let used = cpu.of(&sample.process(at)).number().filter(|used| *used >= 0.05);
        let Some(used) = used.filter(|_| sample.stayed(at)) else { continue };
        let entry = most.entry(core).or_insert((at, used));
        if used > entry.1 {
            *entry = (at, used);
        }
    }
    most
}

fn cores(sample: &Sample) -> Section {
    let mut section = Section::new("cores", "core", 5);
    section.shape = Shape::Cores;
    for core in sample.parts(|reading| &reading.cores[..]) {
        let number = core.now.number.value().unwrap_or(-1);
        let busy = core_busy(&core).value();
        let row = section.add(PartId::Core(number), &Text::from(number.to_string()));
        row.severity = busy.map_or(Severity::Fine, |busy| Severity::reached(busy, HOT));
        let share = |classes: &[fn(&crate::reading::CoreRow) -> Raw]| -> f64 {
            classes.iter().filter_map(|class| core_share(&core, class).value()).sum()
        };
        if busy.is_some() {
            row.stack = vec![
                share(&[|c| c.user, |c| c.nice]),
                share(&[|c| c.system]),
                share(&[|c| c.irq, |c| c.softirq]),
                share(&[|c| c.steal]),
                share(&[|c| c.iowait]),
            ];
        }
    }
    section.metric(sample, "core.total", "busy %", Look::Number, 0);
    section.numbers(
        sample,
        &[
            ("core.user", "user", 5),
            ("core.nice", "nice", 7),
            ("core.system", "system", 5),
            ("core.softirq", "softirq", 6),
            ("core.irq", "irq", 8),
            ("core.steal", "steal", 7),
            ("core.iowait", "iowait", 6),
            ("cpu.frequency", "Hz", 4),
            ("cpu.frequency_max", "Hz at most", 7),
            ("cpu.throttled", "throttled/s", 6),
        ],
    );
    let heat = Column { heading: "°C", unit: Unit::Celsius, look: Look::Number, keep: 3 };
    section.column(heat, |row| match row.id {
        PartId::Core(number) => core_temperature(sample, Raw::new(number)).into(),
        _ => Value::Absent,
    });
    let there = runs_there(sample);
    let runs = Column { heading: "runs most there", unit: Unit::Text, look: Look::Rest, keep: 2 };
    section.column(runs, |row| {
        let PartId::Core(number) = row.id else { return Value::Absent };
        there.get(&number).map_or(Value::Absent, |(at, used)| {
            let row = &sample.now.processes[*at];
            let pid = row.pid.value().unwrap_or(0);
            Value::Text(format!("{}[{pid}]  {} %", row.name, crate::units::share(*used)).into())
        })
    });
    // Interrupts are collected only while somebody looks at this lane; a moment before that has none.
    section.note = if sample.now.interrupts.is_empty() && !sample.now.cores.is_empty() {
        Some("interrupts were not collected at this moment".to_owned())
    } else {
        one_sensor_for_many(sample)
    };
    section
}

/// Says so where one sensor stands for several cores.
fn one_sensor_for_many(sample: &Sample) -> Option<String> {
    let mut cores: BTreeMap<&Text, usize> = BTreeMap::new();
    for core in sample.now.cores.iter().filter(|core| !core.sensor.is_empty()) {
        *cores.entry(&core.sensor).or_default() += 1;
    }
    let most = cores.values().max().copied().filter(|most| *most > 1)?;
    let same = if cores.len() == 1 { format!("all {most}") } else { format!("{most}") };
    Some(format!("one sensor stands for {same} cores: they show the same °C"))
}

fn classes(sample: &Sample) -> Section {
    figures(
        "classes of CPU time",
        sample,
        &[
            ("cpu.user", "user", NEVER),
            ("cpu.nice", "nice", NEVER),
            ("cpu.system", "system", [30.0, 50.0, f64::INFINITY]),
            ("cpu.softirq", "softirq", [15.0, 30.0, f64::INFINITY]),
            ("cpu.irq", "irq", [10.0, 20.0, f64::INFINITY]),
            ("cpu.iowait", "iowait", [20.0, 40.0, f64::INFINITY]),
            ("cpu.steal", "steal", [5.0, 15.0, 30.0]),
            ("cpu.guest", "guest", NEVER),
            ("cpu.idle", "idle", NEVER),
            ("pressure.cpu.some", "pressure: some wait", [20.0, 50.0, f64::INFINITY]),
            ("unaccounted", "unaccounted", [30.0, 100.0, f64::INFINITY]),
            ("forks", "started", NEVER),
            ("switches", "context switches", NEVER),
        ],
    )
}

/// Rates of one source or kind over all cores.
#[derive(Default)]
struct Spread {
    label: Option<Text>,
    total: f64,
    most: f64,
    core: i64,
    cores: usize,
    known: bool,
}

fn spread_of(section: &mut Section, rows: BTreeMap<Text, Spread>, id: fn(Text) -> PartId, cores: usize) {
    let share = |spread: &Spread| if spread.total > 0.0 { spread.most / spread.total * 100.0 } else { 0.0 };
    let mut rows: Vec<(Text, Spread)> = rows.into_iter().collect();
    // The lopsided ones first, then those with most.
    let weight = |spread: &Spread| {
        let lopsided = cores > 1 && share(spread) >= LOPSIDED && spread.total >= BUSY_SOURCE[0] / 10.0;
        (lopsided, spread.total)
    };
    rows.cold_sort_by(|(_, a), (_, b)| {
        let (a, b) = (weight(a), weight(b));
        b.0.cmp(&a.0).then(b.1.total_cmp(&a.1))
    });
    for (source, spread) in &rows {
        let row = section.add(id(source.clone()), source);
        if cores > 1 && share(spread) >= LOPSIDED {
            row.severity = Severity::reached(spread.total, BUSY_SOURCE);
        }
    }
    let mut column = |heading, unit, look, keep, value: &dyn Fn(&Spread) -> Value| {
        let values = rows.iter().map(|(_, spread)| value(spread));
        section.values(Column { heading, unit, look, keep }, values);
    };
    let known = |spread: &Spread, value: f64| if spread.known { Value::Number(value) } else { Value::Absent };
    let text = |spread: &Spread| spread.label.clone().map_or(Value::Absent, Value::Text);
    if rows.iter().any(|(_, spread)| spread.label.is_some()) {
        column("device", Unit::Text, Look::Text(28), 3, &text);
    }
    column("all cores/s", Unit::PerSecond, Look::Number, 0, &|s| known(s, s.total));
    column("most on core", Unit::Number, Look::Number, 1, &|s| {
        if s.most > 0.0 { Value::Number(s.core as f64) } else { Value::Absent }
    });
    column("its share", Unit::Percent, Look::Bar, 2, &|s| {
        if s.known && s.total > 0.0 { Value::Number(share(s)) } else { Value::Absent }
    });
    column("cores that serve it", Unit::Number, Look::Number, 4, &|s| Value::Number(s.cores as f64));
    column("", Unit::Text, Look::Rest, 5, &|s| {
        if cores > 1 && share(s) >= LOPSIDED && s.total >= BUSY_SOURCE[0] {
            Value::Word("one core serves it alone")
        } else {
            Value::Word("")
        }
    });
}

fn gather<'a>(
    rates: impl Iterator<Item = (&'a Text, Option<&'a Text>, i64, Option<f64>)>,
) -> BTreeMap<Text, Spread> {
    let mut rows: BTreeMap<Text, Spread> = BTreeMap::new();
    for (source, label, core, rate) in rates {
        let spread = rows.entry(source.clone()).or_default();
        spread.label = label.filter(|label| !label.is_empty()).cloned();
        let Some(rate) = rate else { continue };
        spread.known = true;
        spread.total += rate;
        spread.cores += usize::from(rate > 0.0);
        if rate > spread.most {
            (spread.most, spread.core) = (rate, core);
        }
    }
    rows
}

fn by_source(sample: &Sample) -> BTreeMap<Text, Spread> {
    gather(sample.parts(|reading| &reading.interrupts[..]).map(|row| {
        let rate = row.rate(|r| r.count).value();
        (&row.now.source, Some(&row.now.label), row.now.core.value().unwrap_or(-1), rate)
    }))
}

fn by_kind(sample: &Sample) -> BTreeMap<Text, Spread> {
    gather(sample.parts(|reading| &reading.softirqs[..]).map(|row| {
        let rate = row.rate(|r| r.count).value();
        (&row.now.kind, None, row.now.core.value().unwrap_or(-1), rate)
    }))
}

fn interrupts(sample: &Sample) -> Section {
    let mut section = Section::new("interrupts", "source", 8);
    spread_of(&mut section, by_source(sample), PartId::Interrupt, sample.now.cores.len());
    section
}

fn softirqs(sample: &Sample) -> Section {
    let mut section = Section::new("deferred interrupt work", "kind", 10);
    spread_of(&mut section, by_kind(sample), PartId::Softirq, sample.now.cores.len());
    section
}

/// The core that serves most of a source or kind.
pub fn main_core(sample: &Sample, part: &PartId) -> Option<i64> {
    let spread = match part {
        PartId::Interrupt(source) => by_source(sample).remove(source),
        PartId::Softirq(kind) => by_kind(sample).remove(kind),
        _ => None,
    };
    spread.filter(|spread| spread.most > 0.0).map(|spread| spread.core)
}
