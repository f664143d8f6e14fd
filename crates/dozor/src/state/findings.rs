//! The engine that goes over the timeline: every sample once, in order, whether it comes now or was recorded.

use super::State;
use super::data::Mode;
use super::effect::Effect;
use dozor_core::findings::{Adjusted, Culprit, Finding, History, Standing, Usual, filled};
use dozor_core::lane::{Lane, Severity};
use dozor_core::timeline::Reach;

/// Samples that are looked at between two frames.
const PART: usize = 120;
/// Samples before the newest one where looking begins, of a timeline that goes on.
const BEFORE: usize = 900;
/// Findings that one can be quiet about.
const QUIET_ABOUT: usize = 500;
/// Samples of a recording that are looked at before and behind the shown one.
const AROUND: usize = 50_000;

impl State {
    /// Looks at samples that nobody has looked at yet: a few at a time.
    pub fn look_for_findings(&mut self) {
        self.look_at_most(PART);
    }

    fn look_at_most(&mut self, most: usize) {
        let timeline = &self.time.timeline;
        if timeline.is_empty() {
            return;
        }
        let (first, end) = (timeline.first(), timeline.end());
        let begin = if self.watching.begun {
            self.left_from()
        } else {
            let (shown, back) = match self.time.mode {
                Mode::Live => (end, BEFORE),
                Mode::Replay { .. } => (self.time.cursor.unwrap_or(end), AROUND),
            };
            Some(shown.saturating_sub(back).max(first))
        };
        let Some(begin) = begin else { return };
        if !std::mem::replace(&mut self.watching.begun, true) {
            self.watching.engine = self.values.configured.engine();
            if let Some(usual) = self.watching.usual {
                self.watching.engine.know(usual);
            }
        }
        // The newest one is at hand.
        if begin + 1 == end
            && let Ok(sample) = self.time.timeline.sample(begin)
        {
            self.watching.engine.look(&sample);
            self.watching.newest = Some(sample);
            self.give_alarm();
            return;
        }
        let until = end.min(begin + most);
        let engine = &mut self.watching.engine;
        let timeline = &self.time.timeline;
        let is_replay = matches!(self.time.mode, Mode::Replay { .. });
        let walked = timeline.walk(begin..until, Reach::All, |_, sample| {
            if is_replay {
                engine.learn(timeline, sample.now.wall_ns());
            }
            engine.look(sample);
            Ok::<(), dozor_core::recording::ReadError>(())
        });
        // What cannot be read is gone over.
        if walked.is_err()
            && let Some(moment) = self.time.timeline.moment(until - 1)
        {
            engine.pass(moment.wall_ns);
        }
    }

    /// From here on the rules are as somebody wants them.
    pub fn adjust(&mut self, adjusted: Adjusted) {
        self.watching.engine.adjust(adjusted.clone());
        self.values.configured.adjusted = adjusted;
    }

    /// The sheet of actions that opens next begins with this choice.
    pub fn advise(&mut self, choice: Option<&'static str>) {
        self.watching.advised = choice;
    }

    /// What a finding advises, once.
    pub fn take_advice(&mut self) -> Option<&'static str> {
        self.watching.advised.take()
    }

    /// This program is a load itself, on purpose.
    pub fn load_on_purpose(&mut self) {
        self.session.loads = true;
    }

    /// From here on this is what is usual on the machine.
    pub fn know(&mut self, usual: Usual) {
        self.watching.usual = Some(usual);
        self.watching.engine.know(usual);
    }

    /// What a rule of one's own wants when it begins, as long as this is the present.
    fn give_alarm(&mut self) {
        let told =
            std::mem::replace(&mut self.watching.alarmed, self.watching.engine.history().next_number());
        if self.time.mode != Mode::Live {
            return;
        }
        let begun = self.watching.engine.history().all().iter().filter(|one| one.number >= told);
        let mut alarms = vec![];
        for one in begun {
            let Some(rule) = self.values.configured.rules.iter().find(|rule| rule.name == one.about.name)
            else {
                continue;
            };
            let say = &one.last().sentence;
            let who = one.last().culprits.first().and_then(Culprit::key);
            let sample = self.watching.newest.clone();
            let view =
                who.zip(sample.as_ref()).and_then(|(key, sample)| Some(sample.process(sample.find(key)?)));
            let command = match (&rule.run[..], view) {
                (words @ [_, ..], Some(view)) => words.iter().map(|word| filled(word, &view, say)).collect(),
                _ => vec![],
            };
            if rule.bell || !command.is_empty() {
                alarms.push(Effect::Alarm(rule.bell, command));
            }
        }
        self.outbox.extend(alarms);
    }

    /// The first sample that was not looked at; none where all were.
    fn left_from(&self) -> Option<usize> {
        let timeline = &self.time.timeline;
        let until = self.watching.engine.until_ns();
        let newest = timeline.moment(timeline.end().checked_sub(1)?)?;
        if newest.wall_ns <= until {
            return None;
        }
        let at = timeline.at(until);
        let is_looked_at = timeline.moment(at).is_some_and(|moment| moment.wall_ns <= until);
        Some(if is_looked_at { at + 1 } else { at })
    }

    /// Whether there are samples that nobody has looked at.
    pub fn has_more_to_find(&self) -> bool {
        !self.time.timeline.is_empty() && (!self.watching.begun || self.left_from().is_some())
    }

    /// What was found so far.
    pub fn history(&self) -> &History {
        self.watching.engine.history()
    }

    /// How many things are watched, and for how long.
    pub fn standing(&self) -> Standing {
        self.watching.engine.standing()
    }

    /// The instant up to which was looked.
    pub fn looked_until(&self) -> i64 {
        self.watching.engine.until_ns()
    }

    /// What stands out at a time, the worst first; nothing where it was not looked at.
    pub fn findings_at(&self, wall_ns: i64) -> Option<Vec<&Finding>> {
        let began = self.watching.engine.began_ns()?;
        if !(began..=self.watching.engine.until_ns()).contains(&wall_ns) {
            return None;
        }
        let mut all = self.history().at(wall_ns);
        all.retain(|one| !self.is_quiet(one, wall_ns));
        Some(all)
    }

    /// The same as lines.
    pub fn lines_at(&self, wall_ns: i64) -> Option<Vec<(Severity, Lane, String)>> {
        let found = self.findings_at(wall_ns)?;
        let line = |one: &Finding| {
            let told = one.at(wall_ns);
            (told.severity, one.about.lane, told.sentence.clone())
        };
        Some(found.into_iter().map(line).collect())
    }

    /// Whether somebody does not want to see a finding at a time.
    pub fn is_quiet(&self, finding: &Finding, wall_ns: i64) -> bool {
        self.quiet_until(finding, wall_ns).is_some()
    }

    /// Until when somebody does not want to see a finding, at a time.
    pub fn quiet_until(&self, finding: &Finding, wall_ns: i64) -> Option<i64> {
        let (since, until) = self.values.quiet.get(&finding.name())?;
        (*since..*until).contains(&wall_ns).then_some(*until)
    }

    /// How many stand at the shown moment that somebody does not want to see.
    pub fn quiet_now(&self) -> usize {
        let Some(wall) = self.shown_wall() else { return 0 };
        self.history().at(wall).into_iter().filter(|one| self.is_quiet(one, wall)).count()
    }

    /// Says nothing of a finding from an instant on, until another; none shows it again.
    pub fn be_quiet_about(&mut self, name: String, since_ns: i64, until_ns: Option<i64>) {
        let quiet = &mut self.values.quiet;
        match until_ns {
            Some(until) => {
                // What is over by then is of no importance any more.
                quiet.retain(|_, (_, until)| *until > since_ns);
                if quiet.len() < QUIET_ABOUT {
                    quiet.insert(name, (since_ns, until));
                }
            }
            None => drop(quiet.remove(&name)),
        }
        self.show_findings();
    }

    /// Somebody has looked through what was found.
    pub fn have_seen_findings(&mut self) {
        self.watching.seen = self.history().all().last().map_or(0, |last| last.number + 1);
    }

    /// Whether somebody has looked through the findings since this one began.
    pub fn is_new(&self, finding: &Finding) -> bool {
        finding.number >= self.watching.seen
    }
}

impl State {
    /// Puts what was found into what stands out at the shown moment.
    pub fn show_findings(&mut self) {
        let Some(wall) = self.shown_wall() else { return };
        if let Some(lines) = self.lines_at(wall) {
            self.moment.standing_out = lines;
            self.warn_of_own_cost();
            self.chosen_lane_first();
        }
    }

    /// Goes to where the next finding begins, or the one before; says whether there is one.
    pub fn go_to_finding(&mut self, on: bool) -> bool {
        let Some(wall) = self.shown_wall() else { return false };
        let serious = |one: &&Finding| {
            one.worst >= Severity::Warning && one.under.is_none() && !self.is_quiet(one, one.from_ns)
        };
        // A finding begins within the sample before the instant at which it is first seen.
        let begins = |one: &Finding| one.tellings[0].wall_ns;
        let all = self.history().all().iter().filter(serious);
        let found = if on {
            all.filter(|one| begins(one) > wall).min_by_key(|one| begins(one))
        } else {
            all.filter(|one| begins(one) < wall).max_by_key(|one| begins(one))
        };
        let Some(one) = found else { return false };
        let (at, severity, text) = (begins(one), one.tellings[0].severity, one.tellings[0].sentence.clone());
        self.go_to_sample(self.time.timeline.at(at));
        self.say(severity, text);
        true
    }
}
