//! The newest sample in the forms in which it is served, each made when the first one asks for it.

use dozor_core::catalogue::{Metric, PROCESS_METRICS, Value, listed};
use dozor_core::clock::Zone;
use dozor_core::exited::exited;
use dozor_core::findings::{Finding, History, findings_json};
use dozor_core::lane::{Lane, Severity};
use dozor_core::rank::{Order, Population};
use dozor_core::recording::{Mark, MarkKind};
use dozor_core::sample::Sample;
use dozor_export::open::{Family, ToldProcess, families, openmetrics};
use dozor_export::sample::{json_value, object};
use dozor_export::table::{Chosen, chosen_rows};
use hyper::body::Bytes;
use serde_json::{Value as Json, json};
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use tokio::sync::watch;

/// Columns of processes on the live page.
pub const COLUMNS: [&str; 11] =
    ["pid", "name", "user", "state", "cpu", "rss", "read", "write", "net", "age", "command"];
/// Points of the lanes that are kept for who comes later.
const KEPT: usize = 1_800;

/// A sample as it is served.
pub struct Current {
    /// The sample.
    pub sample: Arc<Sample>,
    /// Processes that collectors are told of, by their places.
    told: Vec<ToldProcess>,
    /// Processes on the page at most.
    most: usize,
    /// What was done and noted lately.
    marks: Json,
    /// What stands out.
    stands_out: Json,
    /// All findings so far.
    findings: Bytes,
    sample_json: OnceLock<Bytes>,
    event: OnceLock<Bytes>,
    open: OnceLock<Bytes>,
    plain: OnceLock<Bytes>,
}

/// What the lanes showed at an instant.
#[derive(Clone)]
pub struct LanePoint {
    wall_ns: i64,
    gap: bool,
    lanes: Vec<(Option<f64>, Option<f64>, Severity)>,
}

/// What all who serve share.
#[derive(Clone)]
pub struct Shared {
    /// The newest sample; none before the first.
    pub newest: watch::Receiver<Option<Arc<Current>>>,
    /// What the lanes showed lately.
    pub lately: Arc<Mutex<VecDeque<LanePoint>>>,
}

/// The number of a severity, as in everything that machines read.
pub fn severity_number(severity: Severity) -> u8 {
    match severity {
        Severity::Fine => 0,
        Severity::Notice => 1,
        Severity::Warning => 2,
        Severity::Critical => 3,
    }
}

impl Current {
    /// A sample with the processes that collectors are told of.
    pub fn new(
        sample: Arc<Sample>,
        told: Vec<ToldProcess>,
        most: usize,
        marks: Json,
        history: &History,
    ) -> Current {
        let wall_ns = sample.now.wall_ns();
        let zone = Zone::named(&sample.host.time_zone);
        let stands_out = standing(history, wall_ns);
        let findings = json!({"findings": findings_json(history, wall_ns, &zone)}).to_string().into();
        let (sample_json, event) = (OnceLock::new(), OnceLock::new());
        Current {
            sample,
            told,
            most,
            marks,
            stands_out,
            findings,
            sample_json,
            event,
            open: OnceLock::new(),
            plain: OnceLock::new(),
        }
    }

    /// All of it as JSON.
    pub fn json(&self) -> Bytes {
        self.sample_json
            .get_or_init(|| {
                let gone = exited(&self.sample);
                let population = Population::new(&self.sample, &gone);
                let all: Vec<&Metric> = PROCESS_METRICS.iter().collect();
                let chosen = Chosen { order: Some(Order::by_cpu()), ..Chosen::default() };
                let rows = chosen_rows(&population, &chosen);
                let zone = Zone::named(&self.sample.host.time_zone);
                Bytes::from(object(&population, &rows, &zone, &all).to_string())
            })
            .clone()
    }

    /// What was found so far, as JSON.
    pub fn findings(&self) -> Bytes {
        self.findings.clone()
    }

    /// What the live page shows, as JSON in one line.
    pub fn event(&self) -> Bytes {
        self.event
            .get_or_init(|| {
                Bytes::from(glance(&self.sample, self.most, &self.marks, &self.stands_out).to_string())
            })
            .clone()
    }

    /// What collectors take.
    pub fn families(&self) -> Vec<Family> {
        families(&self.sample, &self.told)
    }

    /// The same as text.
    pub fn metrics(&self, open: bool) -> Bytes {
        let form = if open { &self.open } else { &self.plain };
        form.get_or_init(|| Bytes::from(openmetrics::write(&self.families(), open))).clone()
    }
}

/// Marks in words, as JSON; losses are gaps, which the lanes show, and findings stand out by themselves.
pub fn told(marks: &[Mark]) -> Json {
    let told = marks.iter().filter(|mark| !matches!(mark.kind, MarkKind::Lost | MarkKind::Finding));
    let told = told.flat_map(|mark| {
        let texts: Vec<String> = match &mark.deeds[..] {
            [] => vec![mark.text.clone()],
            deeds => deeds.iter().map(dozor_core::deed::Record::words).collect(),
        };
        texts
            .into_iter()
            .filter(|text| !text.is_empty())
            .map(|text| json!({"wall": mark.wall_ns / 1_000_000, "kind": mark.kind.word(), "text": text}))
    });
    told.collect()
}

/// What stands out at a time, as JSON.
pub fn standing(history: &History, wall_ns: i64) -> Json {
    let line = |one: &Finding| {
        let told = one.at(wall_ns);
        json!({"severity": severity_number(told.severity), "lane": one.about.lane.name(), "text": told.sentence})
    };
    history.at(wall_ns).into_iter().map(line).collect()
}

/// What a screen shows of a sample at a glance, with what was done and noted.
pub fn glance(sample: &Sample, most: usize, marks: &Json, stands_out: &Json) -> Json {
    let gone = exited(sample);
    let population = Population::new(sample, &gone);
    let lanes: Vec<Json> = Lane::ALL
        .into_iter()
        .map(|lane| {
            let point = lane.point(sample);
            json!({
                "name": lane.name(), "label": lane.label(&point), "value": point.value.value(),
                "full": point.full.value(), "severity": severity_number(point.severity), "facts": lane.facts(sample),
            })
        })
        .collect();
    let metrics: Vec<&Metric> = COLUMNS.iter().map(|alias| listed(alias)).collect();
    let chosen = Chosen { order: Some(Order::by_cpu()), limit: Some(most), ..Chosen::default() };
    let rows = chosen_rows(&population, &chosen);
    let all = population.all().count();
    let processes: Vec<Json> = rows
        .iter()
        .map(|row| {
            let view = population.view(*row);
            let cell = |metric: &&Metric| match metric.bounded(&view) {
                (Value::Denied, _) => json!({"denied": true}),
                (value, true) => json!({"at_least": json_value(&value)}),
                (value, false) => json_value(&value),
            };
            metrics.iter().map(cell).collect()
        })
        .collect();
    let zone = Zone::named(&sample.host.time_zone);
    let tasks = sample.tasks();
    let system = &sample.now.system;
    let load = [system.load_1, system.load_5, system.load_15]
        .map(|load| load.float().value().map(|load| load / 100.0));
    json!({
        "wall": sample.now.wall_ns() / 1_000_000, "time": zone.time(sample.now.wall_ns()), "date": zone.date_time(sample.now.wall_ns()),
        "gap": sample.before.is_none(), "host": sample.host.name, "kernel": sample.host.kernel, "cores": sample.host.cores,
        "load": load,
        "tasks": {"total": tasks.total, "running": tasks.running, "blocked": tasks.blocked, "zombie": tasks.zombie},
        "lanes": lanes, "stands_out": stands_out, "columns": COLUMNS, "processes": processes, "of": all,
        "marks": marks,
    })
}

impl LanePoint {
    /// What a sample shows on the lanes.
    pub fn of(sample: &Sample) -> LanePoint {
        let lanes = Lane::ALL.map(|lane| {
            let point = lane.point(sample);
            (point.value.value(), point.full.value(), point.severity)
        });
        LanePoint { wall_ns: sample.now.wall_ns(), gap: sample.before.is_none(), lanes: lanes.to_vec() }
    }

    /// Of a moment of a timeline.
    pub fn of_moment(moment: &dozor_core::timeline::Moment) -> LanePoint {
        let lanes = Lane::ALL.map(|lane| {
            let point = moment.peak(lane);
            (point.value.value(), point.full.value(), point.severity)
        });
        LanePoint { wall_ns: moment.wall_ns, gap: moment.seconds.is_none(), lanes: lanes.to_vec() }
    }
}

/// Points of the lanes as JSON: times in milliseconds since 1970, then values, what fills a lane, and severities.
pub fn lanes_json(points: &[LanePoint]) -> Json {
    let of = |at: usize| {
        json!({
            "name": Lane::ALL[at].name(),
            "values": points.iter().map(|point| point.lanes[at].0).collect::<Vec<_>>(),
            "full": points.iter().rev().find_map(|point| point.lanes[at].1),
            "severities": points.iter().map(|point| severity_number(point.lanes[at].2)).collect::<Vec<_>>(),
        })
    };
    json!({
        "times": points.iter().map(|point| point.wall_ns / 1_000_000).collect::<Vec<_>>(),
        "gaps": points.iter().map(|point| point.gap).collect::<Vec<_>>(),
        "lanes": (0..Lane::ALL.len()).map(of).collect::<Vec<_>>(),
    })
}

impl Shared {
    /// Keeps what the lanes show of a sample.
    pub fn remember(&self, sample: &Sample) {
        let mut lately = self.lately.lock().unwrap_or_else(PoisonError::into_inner);
        lately.push_back(LanePoint::of(sample));
        while lately.len() > KEPT {
            lately.pop_front();
        }
    }

    /// What the lanes showed lately, as JSON.
    pub fn lanes(&self) -> Json {
        let lately = self.lately.lock().unwrap_or_else(PoisonError::into_inner);
        lanes_json(&lately.iter().cloned().collect::<Vec<_>>())
    }
}
