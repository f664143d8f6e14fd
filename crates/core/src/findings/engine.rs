//! From what rules see to findings: how long something must hold, when it is over, and what is a consequence of what.

use super::culprit::Culprit;
use super::finding::{Finding, Telling};
use super::history::History;
use super::limit::Adjusted;
use super::rule::{About, Rule, Seen};
use super::rules;
use super::scene::Scene;
use super::usual::{Usual, hour_of};
use crate::lane::{Lane, Severity};
use crate::sample::Sample;
use crate::timeline::Timeline;
use crate::units::NANOS;
use std::collections::BTreeMap;

/// A finding is told anew at least so often while it stands, so that the past has its numbers.
const TOLD_EVERY: i64 = 10 * NANOS;
/// Tellings of a finding that are kept; beyond them every other one goes.
const TELLINGS: usize = 64;

/// Something that a rule saw.
struct Open {
    since_ns: i64,
    last_ns: i64,
    /// Seconds for which it held.
    held: f64,
    /// Seconds for which it has been away.
    away: f64,
    /// Its number in the history, once it held long enough.
    finding: Option<usize>,
    latest: Seen,
}

/// Goes through samples in the order of time and keeps what it finds.
pub struct Engine {
    rules: Vec<Box<dyn Rule>>,
    adjusted: Adjusted,
    usual: Usual,
    /// By rule and subject.
    open: BTreeMap<(usize, String), Open>,
    history: History,
    next: usize,
    /// When watching began.
    began_ns: Option<i64>,
    last_ns: i64,
}

/// What stands at the newest sample.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Standing {
    /// How many things are watched.
    pub watched: usize,
    /// For how long, in seconds.
    pub seconds: i64,
}

impl Default for Engine {
    fn default() -> Engine {
        Engine::with(rules::all())
    }
}

impl Engine {
    /// An engine with rules of one's choice.
    pub fn with(rules: Vec<Box<dyn Rule>>) -> Engine {
        Engine {
            rules,
            adjusted: Adjusted::default(),
            usual: Usual::default(),
            open: BTreeMap::new(),
            history: History::default(),
            next: 0,
            began_ns: None,
            last_ns: i64::MIN,
        }
    }

    /// The same, as somebody wants it.
    #[must_use]
    pub fn adjusted(mut self, adjusted: &Adjusted) -> Engine {
        self.rules.retain(|rule| !adjusted.is_off(rule.about().name));
        Engine { adjusted: adjusted.clone(), ..self }
    }

    /// From here on this is what is usual on the machine.
    pub fn know(&mut self, usual: Usual) {
        self.usual = usual;
    }

    /// Learns what is usual on the machine from the days before an instant, where a timeline has them: once an hour of it.
    pub fn learn(&mut self, timeline: &Timeline, wall_ns: i64) {
        if self.usual.hour() != hour_of(wall_ns) {
            self.usual = Usual::of(timeline, wall_ns);
        }
    }

    /// What was found so far.
    pub fn history(&self) -> &History {
        &self.history
    }

    /// What was found, when nothing more is looked at.
    pub fn into_history(self) -> History {
        self.history
    }

    /// When looking began, in nanoseconds since 1970 (UTC).
    pub fn began_ns(&self) -> Option<i64> {
        self.began_ns
    }

    /// Nothing can be said up to an instant: a part that cannot be read.
    pub fn pass(&mut self, wall_ns: i64) {
        self.last_ns = self.last_ns.max(wall_ns);
    }

    /// The instant of the newest sample that was looked at.
    pub fn until_ns(&self) -> i64 {
        self.last_ns
    }

    /// How many things are watched, and for how long.
    pub fn standing(&self) -> Standing {
        let seconds = self.began_ns.map_or(0, |began| (self.last_ns - began).max(0) / NANOS);
        Standing { watched: self.rules.len(), seconds }
    }

    /// Looks at the next sample.
    pub fn look(&mut self, sample: &Sample) {
        let wall_ns = sample.now.wall_ns();
        self.began_ns.get_or_insert(wall_ns);
        self.last_ns = wall_ns;
        let mut all: Vec<(usize, Seen)> = vec![];
        let mut seconds = 0.0;
        if let Some(scene) = Scene::new(sample, &self.adjusted) {
            seconds = scene.seconds;
            let mut seen = vec![];
            for (number, rule) in self.rules.iter_mut().enumerate() {
                rule.look(&scene, &mut seen);
                let most = self.adjusted.most(rule.about().name);
                let told = seen.drain(..).filter(|one| one.severity > Severity::Fine);
                all.extend(told.map(|one| (number, Seen { severity: one.severity.min(most), ..one })));
            }
        } else if let Some(gap) = &sample.gap {
            let number = self.rules.iter().position(|rule| rule.about().name == rules::GAP);
            all.extend(number.zip(rules::gap(gap)));
        }
        self.take_in(all, wall_ns, seconds);
        self.let_go(wall_ns, seconds);
        self.confirm(sample);
        self.tell(sample);
        self.arrange(wall_ns);
    }

    fn take_in(&mut self, all: Vec<(usize, Seen)>, wall_ns: i64, seconds: f64) {
        for (rule, seen) in all {
            let begin = wall_ns - (seconds * NANOS as f64) as i64;
            let open = self.open.entry((rule, seen.subject.clone())).or_insert_with(|| Open {
                since_ns: begin,
                last_ns: begin,
                held: 0.0,
                away: 0.0,
                finding: None,
                latest: seen.clone(),
            });
            if open.last_ns < wall_ns {
                open.held += seconds;
            }
            (open.last_ns, open.away, open.latest) = (wall_ns, 0.0, seen);
        }
    }

    /// What has not been seen this time: over where it has been away for long enough.
    fn let_go(&mut self, wall_ns: i64, seconds: f64) {
        let Engine { rules, open, history, adjusted, .. } = self;
        open.retain(|(rule, _), one| {
            if one.last_ns == wall_ns {
                return true;
            }
            one.away += seconds;
            let about = rules[*rule].about();
            // After a gap nobody knows whether it went on.
            let is_over = seconds == 0.0 || one.away >= adjusted.calm(about.name, about.calm);
            match one.finding {
                None => !is_over && one.away <= adjusted.least(about.name, about.least) / 2.0,
                Some(number) => {
                    if is_over && let Some(finding) = history.find_mut(number) {
                        finding.over = true;
                    }
                    !is_over
                }
            }
        });
    }

    fn confirm(&mut self, sample: &Sample) {
        for ((rule, subject), one) in &mut self.open {
            let about = self.rules[*rule].about();
            // A sample that is half a second short of it has had its time.
            if one.finding.is_some() || one.held + 0.05 < self.adjusted.least(about.name, about.least) {
                continue;
            }
            one.finding = Some(self.next);
            self.history.push(Finding {
                number: self.next,
                about,
                subject: subject.clone(),
                from_ns: one.since_ns,
                until_ns: one.last_ns,
                over: false,
                worst: one.latest.severity,
                tellings: vec![],
                under: None,
                ruled_out: rules::ruled_out(sample, about.lane),
            });
            self.next += 1;
        }
    }

    fn tell(&mut self, sample: &Sample) {
        let wall_ns = sample.now.wall_ns();
        for ((rule, _), one) in &self.open {
            let Some(finding) = one.finding.and_then(|number| self.history.find_mut(number)) else {
                continue;
            };
            if one.last_ns != wall_ns {
                continue;
            }
            finding.until_ns = wall_ns;
            finding.worst = finding.worst.max(one.latest.severity);
            let Seen { severity, mut sentence, culprits, evidence, .. } = one.latest.clone();
            let About { name, lane, .. } = self.rules[*rule].about();
            let mut usual = false;
            if self.usual.lane(*lane).is_some()
                && let Some((says, is_usual)) = self.usual.says(name, *lane, &lane.point(sample))
            {
                sentence += &says;
                usual = is_usual;
            }
            let telling = Telling { wall_ns, severity, sentence, culprits, evidence, usual };
            let main = |culprits: &[Culprit]| culprits.first().map(|one| one.name.clone());
            let repeats = |last: &Telling| {
                last.severity == telling.severity && main(&last.culprits) == main(&telling.culprits)
            };
            let before = finding.tellings.len().checked_sub(2).map(|at| finding.tellings[at].wall_ns);
            match finding.tellings.last_mut() {
                // The newest one is always as it is now.
                Some(last)
                    if repeats(last) && before.is_some_and(|before| last.wall_ns - before < TOLD_EVERY) =>
                {
                    *last = telling;
                }
                _ => finding.tellings.push(telling),
            }
            if finding.tellings.len() > TELLINGS {
                let mut at = 0;
                let last = finding.tellings.len() - 1;
                finding.tellings.retain(|_| {
                    at += 1;
                    at == 1 || at > last - 1 || at % 2 == 0
                });
            }
        }
    }

    /// Puts consequences under their cause.
    fn arrange(&mut self, wall_ns: i64) {
        let standing: Vec<(usize, usize, Lane)> = self
            .open
            .iter()
            .filter_map(|((rule, _), one)| Some((*rule, one.finding?, self.rules[*rule].about().lane)))
            .collect();
        for (rule, number, _) in &standing {
            let about = self.rules[*rule].about();
            // A cause stands at the same time; of several the one that is named first.
            let cause = about.explained_by.iter().find_map(|name| {
                standing
                    .iter()
                    .find(|(other, found, _)| self.rules[*other].about().name == *name && found != number)
                    .map(|(_, found, _)| *found)
            });
            if let Some(finding) = self.history.find_mut(*number) {
                match (cause, finding.under) {
                    (Some(cause), None) => finding.under = Some((cause, wall_ns)),
                    (None, Some(_)) if !finding.over => finding.under = None,
                    _ => {}
                }
            }
        }
    }
}
