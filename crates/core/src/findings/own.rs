//! Rules of one's own: an expression that processes hold for, for so long, and what is said then.

use super::rule::{About, Rule, Seen};
use super::scene::{Scene, who};
use super::step::{Advice, Step};
use crate::catalogue::{Unit, Value, process_metric};
use crate::expr::Expression;
use crate::lane::{Lane, Severity};
use crate::rank::Narrowing;
use crate::sample::ProcessView;
use crate::wanted::Wanted;

/// A rule as somebody writes it.
#[derive(Clone, Debug, PartialEq)]
pub struct OwnRule {
    /// Its name.
    pub name: String,
    /// What must hold for a process.
    pub when: Expression,
    /// For how long, in seconds.
    pub seconds: f64,
    /// How bad it is.
    pub severity: Severity,
    /// What is said, with placeholders such as `{name}`, `{pid}` and `{cpu}`.
    pub say: String,
    /// The terminal's bell is rung when it begins.
    pub bell: bool,
    /// A command that is started when it begins, with the same placeholders and `{say}`; none where it is empty.
    pub run: Vec<String>,
}

/// Processes that a rule names in one sample at most.
const MOST: usize = 20;

impl OwnRule {
    /// What a source must collect for it.
    pub fn wanted(&self) -> Wanted {
        self.when.wanted()
    }

    /// What is wrong with its texts: the first placeholder that nothing stands for.
    pub fn unknown_placeholder(&self) -> Option<String> {
        let texts = std::iter::once(&self.say).chain(&self.run);
        texts
            .flat_map(|text| placeholders(text))
            .find(|name| {
                let is_known = *name == "say" || *name == "process" || process_metric(name).is_ok();
                !is_known
            })
            .map(str::to_owned)
    }

    /// The rule at work.
    pub fn rule(self) -> Box<dyn Rule> {
        let leak = |text: String| -> &'static str { Box::leak(text.into_boxed_str()) };
        let lane = self.when.metrics().first().map_or(Lane::Cpu, |metric| lane_of(metric.alias));
        // What is configured lives as long as the program.
        let about = Box::leak(Box::new(About {
            name: leak(self.name.clone()),
            lane,
            title: leak(self.name.clone()),
            least: self.seconds,
            calm: self.seconds.clamp(2.0, 10.0),
            causes: leak(format!("a rule of your own: {}", self.when.text())),
            next: &[Advice(Step::Inspect(""), "look at it")],
            ..About::PLAIN
        }));
        let mut narrowing = Narrowing::default();
        narrowing.expression = Some(self.when.clone());
        Box::new(Own { about, rule: self, narrowing })
    }
}

struct Own {
    about: &'static About,
    rule: OwnRule,
    narrowing: Narrowing,
}

impl Rule for Own {
    fn about(&self) -> &'static About {
        self.about
    }

    fn look(&mut self, scene: &Scene<'_>, seen: &mut Vec<Seen>) {
        let filter = self.narrowing.at(scene.sample);
        let all = (0..scene.sample.now.processes.len()).map(|at| scene.sample.process(at));
        let meant = all.filter(|view| view.now.pid.value().is_some() && filter.matches(view) == Some(true));
        for view in meant.take(MOST) {
            let one = who(view.now);
            let mut found =
                Seen::new(self.rule.severity, one.name.clone(), filled(&self.rule.say, &view, "")).by([one]);
            for metric in self.rule.when.metrics() {
                if let Value::Number(value) = metric.of(&view) {
                    let pid = view.now.pid.value().unwrap_or(0);
                    found = found.with(format!("{}@{pid}", metric.alias), value, metric.unit);
                }
            }
            seen.push(found);
        }
    }
}

/// The resource that a metric of processes is about.
fn lane_of(alias: &str) -> Lane {
    match alias {
        "rss" | "swap" | "pss" | "mem" | "growth" | "virtual" | "shared" | "memory_used" => Lane::Memory,
        "read" | "write" | "disk" | "dirtied" | "disk_wait" | "write_any" | "read_any" => Lane::Disk,
        "net" | "net_in" | "net_out" | "connections" | "port" | "udp_drops" => Lane::Network,
        _ => Lane::Cpu,
    }
}

/// Names within braces.
fn placeholders(text: &str) -> impl Iterator<Item = &str> {
    text.split('{').skip(1).filter_map(|rest| rest.split_once('}').map(|(name, _)| name))
}

/// A text with its placeholders filled for a process; what is not known is a dash.
pub fn filled(text: &str, view: &ProcessView<'_>, say: &str) -> String {
    let mut parts = text.split('{');
    let mut whole = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        let Some((name, rest)) = part.split_once('}') else {
            whole.push('{');
            whole.push_str(part);
            continue;
        };
        match (name, process_metric(name).ok()) {
            ("say", _) => whole.push_str(say),
            ("process", _) => whole.push_str(&who(view.now).name),
            (_, Some(metric)) => whole.push_str(&match metric.of(view) {
                // A place that says % itself wants the number alone.
                Value::Number(value) if rest.trim_start().starts_with('%') => metric.unit.short(value),
                Value::Number(value) if metric.unit == Unit::Number => metric.unit.short(value),
                Value::Number(value) => metric.unit.long(value),
                Value::Text(text) => text.to_string(),
                Value::Word(word) => word.to_owned(),
                Value::Absent => "–".to_owned(),
                Value::Denied => "×".to_owned(),
            }),
            _ => {}
        }
        whole.push_str(rest);
    }
    whole
}
