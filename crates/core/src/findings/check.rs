//! The elimination as a report, resource by resource in the order in which an experienced person goes.

use super::culprit::{Culprit, Evidence};
use super::engine::Engine;
use super::finding::{Finding, Telling};
use super::history::History;
use super::rule::About;
use super::rules;
use crate::clock::Zone;
use crate::known::Raw;
use crate::lane::Severity;
use crate::sample::Sample;
use crate::sorting::ColdSort as _;
use crate::units::{NANOS, long_duration};
use serde_json::{Value as Json, json};
use std::sync::Arc;

/// Rules about numbers that may not be passed and about processes, not about one resource.
const LIMITS: [&str; 12] = [
    "group-throttled",
    "group-memory",
    "near-limit",
    "descriptor-leak",
    "thread-leak",
    "zombies",
    "restarts",
    "stopped",
    "filesystem-full",
    "removed-files",
    "time",
    "own-cost",
];

/// Seconds within which nearly every rule has its time.
const SURE: f64 = 10.0;

/// A part of the elimination.
#[derive(Clone, Debug)]
pub struct Part {
    /// A lane's name, or `limits`.
    pub name: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// What the numbers say of it.
    pub why: String,
    /// Places of its findings.
    pub findings: Vec<usize>,
}

/// A finding as it is reported.
#[derive(Clone, Debug)]
pub struct Reported {
    /// What is known about its rule.
    pub about: &'static About,
    /// Which of several: a device, a process, a group; empty where there is only one.
    pub subject: String,
    /// When it began, in nanoseconds since 1970 (UTC).
    pub from_ns: i64,
    /// When it ended; none while it stands.
    pub until_ns: Option<i64>,
    /// How it was told at its worst.
    pub told: Telling,
    /// What it explains, in sentences.
    pub explains: Vec<String>,
    /// What was ruled out when it began.
    pub ruled_out: Vec<String>,
}

/// What became of looking.
#[derive(Clone, Debug)]
pub struct Verdict {
    /// Whose it is.
    pub host: String,
    /// The zone of its times.
    pub zone: Arc<Zone>,
    /// The last instant, in nanoseconds since 1970 (UTC).
    pub wall_ns: i64,
    /// For how long it was looked, in seconds.
    pub seconds: f64,
    /// How many things were looked for.
    pub watched: usize,
    /// What was found, the worst first.
    pub findings: Vec<Reported>,
    /// Every resource, then the limits.
    pub parts: Vec<Part>,
}

impl Verdict {
    /// The verdict over what an engine has looked at; `last` is the last sample.
    pub fn new(engine: &Engine, last: &Sample, seconds: f64) -> Verdict {
        let wall_ns = last.now.wall_ns();
        let from_ns = wall_ns - (seconds * NANOS as f64) as i64;
        let history = engine.history();
        let mut findings: Vec<Reported> =
            history.within(from_ns, wall_ns).into_iter().map(|one| reported(history, one, wall_ns)).collect();
        // Of what is as grave, that which still stands comes first.
        findings.cold_sort_by_key(|one| {
            (std::cmp::Reverse(one.told.severity), one.told.usual, one.until_ns.is_some(), one.from_ns)
        });
        let mut parts: Vec<Part> = rules::resources(last)
            .into_iter()
            .map(|resource| Part {
                name: resource.lane.name(),
                severity: Severity::Fine,
                why: resource.why,
                findings: vec![],
            })
            .collect();
        let limits = limits(last);
        parts.push(Part { name: "limits", severity: Severity::Fine, why: limits, findings: vec![] });
        for (place, one) in findings.iter().enumerate() {
            let name = if LIMITS.contains(&one.about.name) { "limits" } else { one.about.lane.name() };
            if let Some(part) = parts.iter_mut().find(|part| part.name == name) {
                part.severity = part.severity.max(one.told.severity);
                part.findings.push(place);
            }
        }
        Verdict {
            host: last.host.name.clone(),
            zone: Arc::new(Zone::named(&last.host.time_zone)),
            wall_ns,
            seconds,
            watched: engine.standing().watched,
            findings,
            parts,
        }
    }

    /// How bad it is.
    pub fn severity(&self) -> Severity {
        self.findings.first().map_or(Severity::Fine, |one| one.told.severity)
    }

    /// The conclusion in one sentence.
    pub fn sentence(&self) -> String {
        match &self.findings[..] {
            [] if self.seconds < SURE => format!(
                "nothing stands out in {}; most things need {SURE:.0} s to be sure.",
                long_duration(self.seconds.round())
            ),
            [] => format!("nothing stands out; {} things were looked for.", self.watched),
            [only] => only.told.sentence.clone(),
            [first, rest @ ..] => {
                let serious = rest.iter().filter(|one| one.told.severity >= Severity::Warning).count();
                match serious {
                    0 => first.told.sentence.clone(),
                    _ => format!("{} And {serious} more.", first.told.sentence),
                }
            }
        }
    }

    /// As text: the verdict in the first line, then every resource. Each line is what stands before it, and what goes on
    /// below that where it is too long.
    pub fn lines(&self) -> Vec<(String, String)> {
        let time = self.zone.time(self.wall_ns);
        let watched = long_duration(self.seconds.round());
        let verdict = format!("{} {time}, watched {watched}: {}", self.host, self.sentence());
        let mut lines = vec![(format!("{} ", self.severity().sign()), verdict)];
        for part in &self.parts {
            let name = format!("  {:<9}", part.name);
            if part.findings.is_empty() {
                let out = if part.name == "limits" { "" } else { "ruled out  " };
                lines.push((name + out, part.why.clone()));
                continue;
            }
            let mut told: Vec<(&str, &str)> = vec![];
            for one in part.findings.iter().map(|place| &self.findings[*place]) {
                // However often it came it stands there once, at its worst.
                let what = (one.about.name, one.subject.as_str());
                if told.contains(&what) {
                    continue;
                }
                let is_new = told.iter().all(|(rule, _)| *rule != one.about.name);
                let lead = if told.is_empty() { name.clone() } else { " ".repeat(11) };
                told.push(what);
                lines.push((
                    format!("{lead}{} ", one.told.severity.sign()),
                    format!("{} ({})", one.told.sentence, self.times(part, one)),
                ));
                // What is only worth knowing is one line.
                if one.told.severity < Severity::Warning {
                    continue;
                }
                let indent = " ".repeat(13);
                let evidence: Vec<String> =
                    one.told.evidence.iter().map(|one| format!("{} {}", one.metric, one.text)).collect();
                if !evidence.is_empty() {
                    lines.push((format!("{indent}evidence: "), evidence.join(" · ")));
                }
                for said in &one.explains {
                    lines.push((format!("{indent}it explains: "), said.clone()));
                }
                // What to do next is the same for all of a rule.
                if is_new {
                    lines.push((format!("{indent}next: "), one.about.next.to_owned()));
                }
            }
        }
        lines
    }

    /// From when to when.
    fn span(&self, from_ns: i64, until_ns: Option<i64>) -> String {
        let since = self.zone.time(from_ns);
        match until_ns {
            None => format!("since {since}"),
            Some(until) => format!("{since} to {}", self.zone.time(until)),
        }
    }

    /// From when to when, and how often it came in that time.
    fn times(&self, part: &Part, one: &Reported) -> String {
        let is_same =
            |other: &&Reported| (other.about.name, &other.subject) == (one.about.name, &one.subject);
        let all: Vec<&Reported> =
            part.findings.iter().map(|place| &self.findings[*place]).filter(is_same).collect();
        let from = all.iter().map(|other| other.from_ns).min().unwrap_or(one.from_ns);
        // None while one of them stands.
        let until = all.iter().map(|other| other.until_ns).collect::<Option<Vec<i64>>>();
        let span = self.span(from, until.and_then(|all| all.into_iter().max()));
        if all.len() > 1 { format!("{} times, {span}", all.len()) } else { span }
    }

    /// As JSON; docs/findings.md says what is in it.
    pub fn json(&self) -> Json {
        json!({
            "host": self.host, "time": self.zone.date_time(self.wall_ns), "wall_ns": self.wall_ns, "seconds": self.seconds,
            "severity": self.severity().word(), "verdict": self.sentence(),
            "findings": self.findings.iter().map(|one| one.json(&self.zone)).collect::<Vec<_>>(),
            "resources": self.parts.iter().map(|part| json!({
                "lane": part.name, "why": part.why,
                "state": if part.findings.is_empty() { "ruled out" } else { part.severity.word() },
            })).collect::<Vec<_>>(),
        })
    }
}

impl Reported {
    fn json(&self, zone: &Zone) -> Json {
        json!({
            "rule": self.about.name, "severity": self.told.severity.word(), "lane": self.about.lane.name(),
            "sentence": self.told.sentence, "usual": self.told.usual, "since": zone.date_time(self.from_ns),
            "until": self.until_ns.map(|until| zone.date_time(until)),
            "culprits": self.told.culprits.iter().map(culprit_json).collect::<Vec<_>>(),
            "evidence": self.told.evidence.iter().map(evidence_json).collect::<Vec<_>>(),
            "explains": self.explains, "ruled_out": self.ruled_out, "usually": self.about.causes, "next": self.about.next,
        })
    }
}

fn culprit_json(one: &Culprit) -> Json {
    json!({"pid": one.pid, "name": one.name, "share": one.share})
}

fn evidence_json(one: &Evidence) -> Json {
    json!({"metric": one.metric, "value": one.value, "unit": one.unit})
}

/// What is said of limits of which none is near, as far as they could be seen.
fn limits(sample: &Sample) -> String {
    let processes = || sample.now.processes.iter().filter(|row| row.kernel.value() != Some(1));
    let hidden = processes().filter(|row| row.files == Raw::DENIED).count();
    let known = processes().any(|row| row.files.value().is_some());
    let files = match (hidden, known) {
        (0, true) => "open files".to_owned(),
        (_, false) => "open files not known".to_owned(),
        (hidden, true) => format!("open files (of {hidden} processes not permitted)"),
    };
    format!("{files}; tasks, groups, file systems: none that is known is near its limit")
}

/// All of a history as JSON, the newest last; see docs/findings.md.
pub fn findings_json(history: &History, wall_ns: i64, zone: &Zone) -> Json {
    history.all().iter().map(|one| reported(history, one, wall_ns).json(zone)).collect()
}

fn reported(history: &History, one: &Finding, wall_ns: i64) -> Reported {
    let explained =
        history.all().iter().filter(|other| other.under.is_some_and(|(cause, _)| cause == one.number));
    Reported {
        about: one.about,
        subject: one.subject.clone(),
        from_ns: one.from_ns,
        until_ns: (one.over || one.until_ns < wall_ns).then_some(one.until_ns),
        told: one.worst_told().clone(),
        explains: explained.map(|other| other.last().sentence.clone()).collect(),
        ruled_out: one.ruled_out.clone(),
    }
}
