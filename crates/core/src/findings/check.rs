//! The elimination as a report, resource by resource in the order in which an experienced person goes.

use super::culprit::{Culprit, Evidence};
use super::engine::{Engine, SURE};
use super::finding::{Finding, Telling};
use super::history::History;
use super::rule::About;
use super::rules;
use super::step::Advice;
use crate::clock::Zone;
use crate::known::Raw;
use crate::lane::{Lane, PerLane, Point, Severity};
use crate::sample::Sample;
use crate::sorting::ColdSort as _;
use crate::units::{NANOS, long_duration};
use serde_json::{Value as Json, json};
use std::sync::Arc;

/// What the report says of a resource, or of the limits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum State {
    /// Something was found.
    Found(Severity),
    /// What could judge says that it is fine, and so do its numbers.
    RuledOut,
    /// It was not watched for long enough, or has only just changed.
    NotYet,
    /// Its numbers are not known here.
    Unknown,
    /// What is wrong with it stands at another part.
    See(&'static str),
}

impl State {
    /// In words.
    pub fn words(&self) -> String {
        match self {
            State::Found(severity) => severity.word().to_owned(),
            State::RuledOut => "ruled out".to_owned(),
            State::NotYet => "not judged yet".to_owned(),
            State::Unknown => "not known".to_owned(),
            State::See(part) => format!("see {part}"),
        }
    }
}

/// The part of what is about limits and processes, not about how full a resource is.
const LIMITS: &str = "limits";

/// The part that a rule's findings stand at.
fn part_of(about: &About) -> &'static str {
    if about.is_of_limits { LIMITS } else { about.lane.name() }
}

/// A part of the elimination.
#[derive(Clone, Debug)]
pub struct Part {
    /// A lane's name, or `limits`.
    pub name: &'static str,
    /// What is said of it.
    pub state: State,
    /// What its numbers say.
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
    /// It was so already when watching began.
    pub is_older: bool,
    /// When it ended; none while it stands.
    pub until_ns: Option<i64>,
    /// How it was told at its worst.
    pub told: Telling,
    /// What it explains, in sentences.
    pub explains: Vec<String>,
    /// What was ruled out when it began.
    pub ruled_out: Vec<String>,
    /// Who joined in while it stood, and when.
    pub joined: Vec<(i64, Culprit)>,
}

/// A line of the report.
#[derive(Clone, Debug)]
pub struct Line {
    /// What stands before it, and what goes on below that where the text is too long.
    pub lead: String,
    /// How bad that is which it tells, where it tells of something; its sign and its word come first.
    pub severity: Option<Severity>,
    /// What it says.
    pub text: String,
}

/// Findings of a part that are told at first.
const BRIEF: usize = 3;
/// Ten seconds of readings are a little less.
const ENOUGH: f64 = SURE - 0.5;

/// What is said of a resource that has no finding at its own place.
fn state<'a>(last: &Sample, lane: Lane, all: impl Iterator<Item = &'a Finding>, seconds: f64) -> State {
    let mut elsewhere = all.filter(|one| one.about.lane == lane && part_of(one.about) != lane.name());
    match elsewhere.next() {
        Some(one) if !rules::is_fine(last, lane) => State::See(part_of(one.about)),
        _ if lane.point(last).value.value().is_none() => State::Unknown,
        _ if seconds < ENOUGH || !rules::is_fine(last, lane) => State::NotYet,
        _ => State::RuledOut,
    }
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
    /// It is out of a recording: nothing in it is of now.
    pub is_recorded: bool,
    /// What the lanes show at the last instant, for numbers beside the words.
    pub points: PerLane<Point>,
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
                state: state(last, resource.lane, history.within_all(from_ns, wall_ns), seconds),
                why: resource.why,
                findings: vec![],
            })
            .collect();
        let limits_state = if seconds < ENOUGH { State::NotYet } else { State::RuledOut };
        parts.push(Part { name: LIMITS, state: limits_state, why: limits(last), findings: vec![] });
        for (place, one) in findings.iter().enumerate() {
            if let Some(part) = parts.iter_mut().find(|part| part.name == part_of(one.about)) {
                part.state = match part.state {
                    State::Found(worst) => State::Found(worst.max(one.told.severity)),
                    _ => State::Found(one.told.severity),
                };
                part.findings.push(place);
            }
        }
        Verdict {
            host: last.host.name.clone(),
            zone: Arc::new(Zone::named(&last.host.time_zone)),
            wall_ns,
            seconds,
            is_recorded: false,
            points: PerLane::from_fn(|lane| lane.point(last)),
            watched: engine.standing().watched,
            findings,
            parts,
        }
    }

    /// How bad it is.
    pub fn severity(&self) -> Severity {
        self.findings.first().map_or(Severity::Fine, |one| one.told.severity)
    }

    /// How many findings are as bad as this.
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|one| one.told.severity == severity).count()
    }

    /// Whether it was watched for long enough that finding nothing says something.
    pub fn is_sure(&self) -> bool {
        self.seconds >= ENOUGH
    }

    /// The conclusion in one sentence.
    pub fn sentence(&self) -> String {
        let Some((first, rest)) = self.findings.split_first() else {
            return if self.is_sure() {
                format!("nothing stands out; {} things were looked for.", self.watched)
            } else {
                let watched = long_duration(self.seconds.round());
                format!("nothing stands out in {watched}; most things need {SURE:.0} s to be sure.")
            };
        };
        let when = if self.is_recorded {
            format!(" ({})", self.span(first.from_ns, first.is_older, first.until_ns))
        } else {
            String::new()
        };
        let serious = rest.iter().filter(|one| one.told.severity >= Severity::Warning).count();
        let more = if serious > 0 { format!(" And {serious} more.") } else { String::new() };
        format!("{}{when}{more}", first.told.sentence)
    }

    /// The first line: how bad it is, whose it is, and the conclusion.
    pub fn head(&self) -> Line {
        let watched = long_duration(self.seconds.round());
        let until = if self.is_recorded { "recorded until " } else { "" };
        let time = self.zone.time(self.wall_ns);
        let text = format!("{} {until}{time}, watched {watched}: {}", self.host, self.sentence());
        Line { lead: String::new(), severity: Some(self.severity()), text }
    }

    /// As text: the verdict in the first line, then every resource; with all that is known of each finding where `details` are
    /// asked for, else as much as is needed at first.
    pub fn lines(&self, details: bool) -> Vec<Line> {
        let mut lines = vec![self.head()];
        for part in &self.parts {
            let name = format!("  {:<9}", part.name);
            if part.findings.is_empty() {
                let state = match &part.state {
                    State::NotYet if self.seconds < ENOUGH => format!("not judged yet (needs {SURE:.0} s)"),
                    other => other.words(),
                };
                lines.push(Line { lead: name, severity: None, text: format!("{state}: {}", part.why) });
                continue;
            }
            let mut told: Vec<(&str, &str)> = vec![];
            let mut left_out = 0;
            for one in part.findings.iter().map(|place| &self.findings[*place]) {
                // However often it came it stands there once, at its worst.
                let what = (one.about.name, one.subject.as_str());
                if told.contains(&what) {
                    continue;
                }
                if !details && told.len() >= BRIEF {
                    left_out += 1;
                    continue;
                }
                let is_new = told.iter().all(|(rule, _)| *rule != one.about.name);
                let lead = if told.is_empty() { name.clone() } else { " ".repeat(11) };
                told.push(what);
                let text = format!("{} ({})", one.told.sentence, self.times(part, one));
                lines.push(Line { lead, severity: Some(one.told.severity), text });
                // What is only worth knowing is one line.
                if details || one.told.severity >= Severity::Warning {
                    self.below(one, details, is_new, &mut lines);
                }
            }
            if left_out > 0 {
                let text = format!("and {left_out} more: --details");
                lines.push(Line { lead: " ".repeat(11), severity: None, text });
            }
        }
        lines
    }

    /// What stands below a finding.
    fn below(&self, one: &Reported, details: bool, is_new: bool, lines: &mut Vec<Line>) {
        let mut line = |head: &str, text: String| {
            lines.push(Line { lead: format!("{}{head}: ", " ".repeat(13)), severity: None, text });
        };
        for (since, who) in &one.joined {
            line("also", format!("{} since {}", who.name, self.zone.time(*since)));
        }
        let evidence: Vec<String> =
            one.told.evidence.iter().map(|one| format!("{} {}", one.metric, one.text)).collect();
        if !evidence.is_empty() {
            line("evidence", evidence.join(" · "));
        }
        if details {
            for said in &one.explains {
                line("it explains", said.clone());
            }
            if !one.ruled_out.is_empty() {
                line("ruled out", one.ruled_out.join(" · "));
            }
            line("usually", one.about.causes.to_owned());
        }
        // What to do next is the same for all of a rule.
        if is_new || details {
            let steps: Vec<String> = one.about.next.iter().map(|advice| self.advised(one, advice)).collect();
            line("next", steps.join("; "));
        }
    }

    /// A step in words, with the command that does it where that is of now.
    fn advised(&self, one: &Reported, Advice(step, text): &Advice) -> String {
        let command = step.command(&one.subject, one.told.culprits.first());
        match command.filter(|_| !self.is_recorded && one.until_ns.is_none()) {
            Some(command) => format!("{text} ({command})"),
            None => (*text).to_owned(),
        }
    }

    /// From when to when.
    fn span(&self, from_ns: i64, is_older: bool, until_ns: Option<i64>) -> String {
        let since = self.zone.time(from_ns);
        let (before, from) = if is_older { ("before ", "from before ") } else { ("", "") };
        match until_ns {
            None => format!("since {before}{since}"),
            Some(until) => format!("{from}{since} to {}", self.zone.time(until)),
        }
    }

    /// From when to when, and how often it came in that time.
    fn times(&self, part: &Part, one: &Reported) -> String {
        let is_same =
            |other: &&Reported| (other.about.name, &other.subject) == (one.about.name, &one.subject);
        let all: Vec<&Reported> =
            part.findings.iter().map(|place| &self.findings[*place]).filter(is_same).collect();
        let first = all.iter().min_by_key(|other| other.from_ns).map_or(one, |first| first);
        // None while one of them stands.
        let until = all.iter().map(|other| other.until_ns).collect::<Option<Vec<i64>>>();
        let span = self.span(first.from_ns, first.is_older, until.and_then(|all| all.into_iter().max()));
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
                "state": part.state.words(),
            })).collect::<Vec<_>>(),
        })
    }
}

impl Reported {
    fn json(&self, zone: &Zone) -> Json {
        json!({
            "rule": self.about.name, "subject": self.subject, "severity": self.told.severity.word(), "lane": self.about.lane.name(),
            "sentence": self.told.sentence, "usual": self.told.usual, "since": zone.date_time(self.from_ns),
            "began_before": self.is_older,
            "until": self.until_ns.map(|until| zone.date_time(until)),
            "culprits": self.told.culprits.iter().map(culprit_json).collect::<Vec<_>>(),
            "evidence": self.told.evidence.iter().map(evidence_json).collect::<Vec<_>>(),
            "explains": self.explains, "ruled_out": self.ruled_out, "usually": self.about.causes,
            "joined": self.joined.iter().map(|(since, who)| json!({"since": zone.date_time(*since), "name": who.name, "pid": who.pid}))
                .collect::<Vec<_>>(),
            "next": self.about.next.iter().map(|Advice(step, text)| json!({"action": step.name(), "with": step.with(), "text": text}))
                .collect::<Vec<_>>(),
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
        is_older: one.is_older,
        until_ns: (one.over || one.until_ns < wall_ns).then_some(one.until_ns),
        told: one.worst_told().clone(),
        explains: explained.map(|other| other.last().sentence.clone()).collect(),
        ruled_out: one.ruled_out.clone(),
        joined: one.joined.clone(),
    }
}
