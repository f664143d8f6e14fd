//! From what rules see to findings: how long something must hold, when it is over, and what is a consequence of what.

use super::culprit::Culprit;
use super::finding::{Finding, Telling};
use super::history::History;
use super::kernel_work::kernel_work;
use super::limit::Adjusted;
use super::rule::{Rule, Seen};
use super::rules;
use super::scene::Scene;
use super::usual::{Usual, hour_of};
use crate::lane::{Lane, Severity};
use crate::reading::{EndedRow, Reading};
use crate::row::Row as _;
use crate::sample::{Sample, let_go};
use crate::sorting::ColdSort as _;
use crate::timeline::Timeline;
use crate::units::NANOS;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;

/// A finding is told anew so often while it stands, with the means of this time; its severity rises at once, and falls when it
/// has been lower for as long.
const TOLD_EVERY: i64 = 10 * NANOS;
/// Readings of that time which are kept at most.
const PAST: usize = 12;
/// A sample that is half a second short of a time has had it.
const NEARLY: i64 = NANOS / 2;
/// Seconds after which nearly every rule has had its time.
pub const SURE: f64 = 10.0;
/// Who joins in a finding later is named from this share on, in percent.
const JOINS: f64 = 25.0;
/// Of so many.
const JOINED: usize = 8;
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
    /// How bad it was in the last seconds.
    levels: VecDeque<(i64, Severity)>,
}

impl Open {
    /// How bad it is: the worst of the last seconds.
    fn severity(&self) -> Severity {
        self.levels.iter().map(|(_, severity)| *severity).max().unwrap_or(self.latest.severity)
    }
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
    /// Readings of the last seconds, the oldest first.
    past: VecDeque<Arc<Reading>>,
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
            past: VecDeque::new(),
            began_ns: None,
            last_ns: i64::MIN,
        }
    }

    /// The same, as somebody wants it.
    #[must_use]
    pub fn adjusted(self, adjusted: &Adjusted) -> Engine {
        Engine { adjusted: adjusted.clone(), ..self }
    }

    /// From here on the rules are as somebody wants them.
    pub fn adjust(&mut self, adjusted: Adjusted) {
        self.adjusted = adjusted;
    }

    /// What the settings make of the rules.
    pub fn adjustments(&self) -> &Adjusted {
        &self.adjusted
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
        let heard = self.rules.iter().filter(|rule| !self.adjusted.is_off(rule.about().name));
        Standing { watched: heard.count(), seconds }
    }

    /// Looks at the next sample.
    pub fn look(&mut self, sample: &Sample) {
        let wall_ns = sample.now.wall_ns();
        self.began_ns.get_or_insert(wall_ns);
        self.last_ns = wall_ns;
        let mut all: Vec<(usize, Seen)> = vec![];
        let mut seconds = 0.0;
        match &sample.before {
            // Of the first one the reading before it was not looked at.
            Some(before) if self.past.is_empty() => self.past.push_back(before.clone()),
            Some(_) => {}
            None => self.past.clear(),
        }
        if let Some(scene) = Scene::new(sample, &self.adjusted) {
            seconds = scene.seconds;
            let mut seen = vec![];
            for (number, rule) in self.rules.iter_mut().enumerate() {
                if self.adjusted.is_off(rule.about().name) {
                    continue;
                }
                scene.for_rule(rule.about().name);
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
        self.confirm();
        self.tell(sample);
        self.arrange(wall_ns);
        self.keep(&sample.now);
    }

    /// Keeps a reading for what is told of the last seconds.
    fn keep(&mut self, now: &Arc<Reading>) {
        let from = now.monotonic_ns() - TOLD_EVERY - NEARLY;
        // Nobody asks for the time before something was first seen.
        let nobody_asks = self.open.is_empty();
        let is_old = |past: &VecDeque<Arc<Reading>>| {
            past.len() >= PAST || past.front().is_some_and(|old| nobody_asks || old.monotonic_ns() < from)
        };
        while is_old(&self.past) {
            self.past.pop_front().iter_mut().for_each(let_go);
        }
        self.past.push_back(now.clone());
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
                levels: VecDeque::new(),
            });
            if open.last_ns < wall_ns {
                open.held += seconds;
            }
            // What is seen twice in a sample counts at its worst.
            open.levels.push_back((wall_ns, seen.severity));
            (open.last_ns, open.away, open.latest) = (wall_ns, 0.0, seen);
            while open.levels.front().is_some_and(|(when, _)| *when + TOLD_EVERY <= wall_ns) {
                open.levels.pop_front();
            }
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

    fn confirm(&mut self) {
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
                is_older: self.began_ns.is_some_and(|began| one.since_ns <= began),
                until_ns: one.last_ns,
                over: false,
                worst: one.latest.severity,
                tellings: vec![],
                under: None,
                ruled_out: vec![],
                joined: vec![],
            });
            self.next += 1;
        }
    }

    fn tell(&mut self, sample: &Sample) {
        let wall_ns = sample.now.wall_ns();
        let is_sure = self.began_ns.is_some_and(|began| (wall_ns - began) as f64 >= SURE * NANOS as f64);
        let mut lanes = vec![];
        let mut due: Vec<Due> = vec![];
        for ((rule, subject), one) in self.open.iter().filter(|(_, one)| one.last_ns == wall_ns) {
            lanes.push(self.rules[*rule].about().lane);
            let Some(number) = one.finding else { continue };
            let Some(finding) = self.history.find_mut(number) else { continue };
            finding.until_ns = wall_ns;
            finding.worst = finding.worst.max(one.latest.severity);
            let severity = one.severity();
            let stands = finding.tellings.last().is_some_and(|last| {
                last.severity == severity && wall_ns - last.wall_ns < TOLD_EVERY - NEARLY
            });
            if !stands {
                let begin = self.begin_of(one, wall_ns);
                due.push(Due { rule: *rule, subject: subject.clone(), number, severity, begin, seen: None });
            }
        }
        self.ask_again(sample, &mut due);
        for one in due {
            let Due { rule, subject, number, severity, seen, .. } = one;
            let Some(open) = self.open.get(&(rule, subject)) else { continue };
            let Some(finding) = self.history.find_mut(number) else { continue };
            let Seen { mut sentence, culprits, evidence, .. } = seen.unwrap_or_else(|| open.latest.clone());
            if finding.ruled_out.is_empty() && is_sure {
                finding.ruled_out = rules::ruled_out(sample, finding.about.lane, &lanes);
            }
            if let Some(one) = culprits.first()
                && let Some(row) = one.key().and_then(|key| sample.now.process(key))
                && row.kernel.value() == Some(1)
                && let Some(does) = kernel_work(&row.name, sample)
            {
                sentence += &format!(" {} {does}.", one.name);
            }
            let mut usual = false;
            if let Some((says, is_usual)) = self.usual.says(finding.about, &finding.about.lane.point(sample))
            {
                sentence += &says;
                usual = is_usual;
            }
            if !finding.tellings.is_empty() {
                join(finding, &culprits, wall_ns);
            }
            finding.tellings.push(Telling { wall_ns, severity, sentence, culprits, evidence, usual });
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

    /// The place among the readings of the last seconds where what is told of a finding begins: with it, or ten seconds ago. None
    /// where that is only the newest sample, of which it has just been told.
    fn begin_of(&self, one: &Open, wall_ns: i64) -> Option<usize> {
        let since = one.since_ns.max(wall_ns - TOLD_EVERY) - NEARLY;
        let place = self.past.partition_point(|reading| reading.wall_ns() < since);
        (place + 1 < self.past.len()).then_some(place)
    }

    /// Asks rules once more, about one sample that covers the last seconds: what they say of that is told.
    fn ask_again(&self, sample: &Sample, due: &mut [Due]) {
        let places: BTreeSet<usize> = due.iter().filter_map(|one| one.begin).collect();
        for place in places {
            let longer = longer(sample, &self.past, place);
            let Some(scene) = Scene::new(&longer, &self.adjusted) else { continue };
            let of_place = |one: &Due| one.begin == Some(place);
            let rules: BTreeSet<usize> = due.iter().filter(|one| of_place(one)).map(|one| one.rule).collect();
            for rule in rules {
                let mut seen = vec![];
                scene.for_rule(self.rules[rule].about().name);
                self.rules[rule].tell(&scene, &mut seen);
                seen.retain(|seen| seen.severity > Severity::Fine);
                for one in due.iter_mut().filter(|one| of_place(one) && one.rule == rule) {
                    one.seen = seen.iter().find(|seen| seen.subject == one.subject).cloned();
                }
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

/// Notes who is in a finding now and was not before.
fn join(finding: &mut Finding, culprits: &[Culprit], wall_ns: i64) {
    let new = |one: &&Culprit| {
        one.pid.is_some()
            && one.share.is_none_or(|share| share >= JOINS)
            && finding.tellings.iter().all(|told| told.culprits.iter().all(|other| other.name != one.name))
    };
    let new: Vec<Culprit> = culprits.iter().filter(new).cloned().collect();
    let room = JOINED.saturating_sub(finding.joined.len());
    finding.joined.extend(new.into_iter().take(room).map(|one| (wall_ns, one)));
}

/// A finding that is to be told anew.
struct Due {
    rule: usize,
    subject: String,
    /// Its number in the history.
    number: usize,
    severity: Severity,
    /// Where the time begins that it is told of.
    begin: Option<usize>,
    /// What its rule says of that time.
    seen: Option<Seen>,
}

/// The sample from an earlier reading to the newest one. Records of those that ended belong to every reading of that time.
fn longer(sample: &Sample, past: &VecDeque<Arc<Reading>>, place: usize) -> Sample {
    let ended = || past.iter().skip(place + 1).flat_map(|reading| &reading.ended);
    let now = if ended().next().is_some() {
        let mut all = Reading::clone(&sample.now);
        all.ended = ended().chain(&sample.now.ended).cloned().collect();
        all.ended.cold_sort_by_key(EndedRow::key);
        Arc::new(all)
    } else {
        sample.now.clone()
    };
    Sample::new(sample.host.clone(), Some(past[place].clone()), now)
}
