//! The charts themselves: which panes, which time, what was found.

use super::super::After;
use super::super::prompt::{Prompt, Purpose};
use crate::state::State;
use dozor_core::chart::{Of, Point, Series, Wish, charted, gather};
use dozor_core::lane::{Lane, Severity};
use dozor_core::sorting::ColdSort as _;
use dozor_core::units::NANOS;
use dozor_export::chart::{Composing, Form};
use std::ops::Range;

/// Panes below each other at most.
pub const PANES: usize = 4;
/// Lines in a pane at most.
pub const LINES: usize = 6;
/// Points of a line.
const POINTS: usize = 400;
/// Samples up to which every new one is taken in at once.
const FEW: usize = 3_000;
/// The shortest span.
const SHORTEST: i64 = 5 * NANOS;

/// A line of a pane.
pub struct Line {
    /// Its values.
    pub series: Series,
    /// It is of the span before, put over this one.
    pub before: bool,
}

/// Lines over one another.
#[derive(Default)]
pub struct Pane {
    /// What is wanted.
    pub wishes: Vec<Wish>,
    /// What was found.
    pub lines: Vec<Line>,
}

/// What a typed line is to become.
pub enum Typing {
    Add,
    Pane,
    Name,
}

/// Charts.
pub struct ChartSheet {
    pub panes: Vec<Pane>,
    pub chosen: usize,
    /// The last instant; none is the newest.
    end: Option<i64>,
    pub length: i64,
    /// The span before is put over this one.
    pub compared: bool,
    pub typing: Typing,
    /// What was gathered: first and last sample, and whether more than a few.
    gathered: Option<(usize, usize)>,
}

impl ChartSheet {
    /// Charts of what is selected: a part where one is chosen, else the marked processes or the selected one, in the metric that
    /// they are ordered by.
    pub fn open(state: &mut State) -> Option<ChartSheet> {
        let panes = if state.lanes().parts.in_focus {
            ChartSheet::of_part(state)?
        } else {
            Self::of_processes(state)
        };
        let axis = state.lanes().strips.axis;
        let Some(axis) = axis else {
            state.say(Severity::Notice, "nothing was read yet".to_owned());
            return None;
        };
        let length = (axis.end - axis.begin(0)).max(SHORTEST);
        let newest =
            state.time().timeline.moment(state.time().timeline.end() - 1).map_or(0, |moment| moment.wall_ns);
        let end = (axis.end < newest).then_some(axis.end);
        let mut sheet = ChartSheet {
            panes,
            chosen: 0,
            end,
            length,
            compared: false,
            typing: Typing::Add,
            gathered: None,
        };
        sheet.gather(state, true);
        Some(sheet)
    }

    /// Panes of the chosen part: a pane for each unit.
    fn of_part(state: &mut State) -> Option<Vec<Pane>> {
        let part = state.lanes().parts.selected.clone();
        let wishes = match (part, &state.moment().sample) {
            (Some(part), Some(sample)) => charted(&part, sample),
            _ => vec![],
        };
        if wishes.is_empty() {
            state.say(Severity::Notice, "of this part nothing is kept over time".to_owned());
            return None;
        }
        let mut panes: Vec<Pane> = vec![];
        for wish in wishes {
            match panes.iter_mut().find(|pane| pane.wishes[0].metric.unit == wish.metric.unit) {
                Some(pane) => pane.wishes.push(wish),
                None => panes.push(Pane { wishes: vec![wish], lines: vec![] }),
            }
        }
        panes.truncate(PANES);
        Some(panes)
    }

    fn of_processes(state: &State) -> Vec<Pane> {
        let metric = state.values.order.first.metric;
        let metric = if metric.unit.is_text() { dozor_core::catalogue::listed("cpu") } else { metric };
        let targets = state.targets();
        let keys = targets.iter().map(|target| target.key).filter(|key| key.pid > 0);
        let mut wishes: Vec<Wish> =
            keys.take(LINES).map(|key| Wish { metric, of: Of::Process(key) }).collect();
        if wishes.is_empty() {
            wishes.push(Wish { metric, of: Of::All });
        }
        let lane = match state.values.lane.unwrap_or(Lane::Cpu) {
            Lane::Cpu | Lane::Heat => "cpu.total",
            Lane::Memory => "mem.used",
            Lane::Disk => "disk.busy",
            Lane::Network => "net.in",
        };
        let of_lane = Wish { metric: dozor_core::catalogue::listed_system(lane), of: Of::All };
        vec![Pane { wishes, lines: vec![] }, Pane { wishes: vec![of_lane], lines: vec![] }]
    }

    /// The first and the last instant that are shown.
    pub fn span(&self, state: &State) -> (i64, i64) {
        let timeline = &state.time().timeline;
        let wall = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
        let newest = wall(timeline.end().saturating_sub(1));
        let end = self.end.unwrap_or(newest);
        (end - self.length, end)
    }

    fn numbers(state: &State, (from, until): (i64, i64)) -> Range<usize> {
        let timeline = &state.time().timeline;
        let first = timeline.at(from).max(timeline.first());
        let is_before = timeline.moment(first).is_some_and(|moment| moment.wall_ns < from);
        let first = if is_before { first + 1 } else { first };
        let none = timeline.moment(timeline.first()).is_none_or(|moment| moment.wall_ns > until);
        if none { first..first } else { first..(timeline.at(until) + 1).min(timeline.end()) }
    }

    /// Looks for the values again, where anything changed.
    pub fn gather(&mut self, state: &State, always: bool) {
        let span = self.span(state);
        let numbers = ChartSheet::numbers(state, span);
        let now = (numbers.start, numbers.end);
        // Of a long time each new sample would cost more than it shows.
        if !always && (self.gathered == Some(now) || numbers.len() > FEW) {
            return;
        }
        self.gathered = Some(now);
        let timeline = &state.time().timeline;
        let before = ChartSheet::numbers(state, (span.0 - self.length, span.0));
        for pane in &mut self.panes {
            let mut lines = vec![];
            let mut take = |numbers: Range<usize>, before: bool| {
                if numbers.is_empty() {
                    return;
                }
                let Ok(found) = gather(timeline, numbers, &pane.wishes, &|_| false, POINTS) else { return };
                for series in found.series.into_iter().flatten() {
                    lines.push(Line { series, before });
                }
            };
            take(numbers.clone(), false);
            if self.compared {
                take(before.clone(), true);
            }
            for line in lines.iter_mut().filter(|line| line.before) {
                let shift = |point: &mut Point| {
                    point.from_ns += self.length;
                    point.until_ns += self.length;
                };
                line.series.points.iter_mut().for_each(shift);
            }
            lines.cold_sort_by(|a, b| {
                a.before.cmp(&b.before).then(b.series.most().total_cmp(&a.series.most()))
            });
            lines.truncate(LINES);
            pane.lines = lines;
        }
    }

    /// The panes as a text: metrics with blanks, panes with strokes between them.
    pub fn text(&self) -> String {
        let pane = |pane: &Pane| pane.wishes.iter().map(Wish::text).collect::<Vec<_>>().join(" ");
        self.panes.iter().map(pane).collect::<Vec<_>>().join(" | ")
    }

    /// Panes out of such a text.
    fn panes_of(text: &str) -> Result<Vec<Pane>, String> {
        let pane = |text: &str| -> Result<Pane, String> {
            let wishes: Vec<Wish> = text.split_whitespace().map(Wish::parse).collect::<Result<_, _>>()?;
            Ok(Pane { wishes, lines: vec![] })
        };
        let panes: Vec<Pane> = text.split('|').map(pane).collect::<Result<_, _>>()?;
        Ok(panes.into_iter().filter(|pane| !pane.wishes.is_empty()).take(PANES).collect())
    }

    /// Takes the next saved set.
    pub fn next_set(&mut self, state: &mut State) {
        let sets: Vec<(String, String)> =
            state.values.configured.charts.iter().map(|(name, text)| (name.clone(), text.clone())).collect();
        if sets.is_empty() {
            state.say(Severity::Notice, "no charts were saved yet; s saves these under a name".to_owned());
            return;
        }
        let now = self.text();
        let at = sets.iter().position(|(_, text)| *text == now).map_or(0, |at| (at + 1) % sets.len());
        match ChartSheet::panes_of(&sets[at].1) {
            Ok(panes) if !panes.is_empty() => {
                self.panes = panes;
                self.chosen = 0;
                self.gather(state, true);
                state.say(Severity::Fine, format!("charts '{}'", sets[at].0));
            }
            Ok(_) => {}
            Err(problem) => state.say(Severity::Warning, format!("charts '{}': {problem}", sets[at].0)),
        }
    }

    pub fn zoom(&mut self, state: &State, in_: bool) {
        let (from, until) = self.span(state);
        let timeline = &state.time().timeline;
        let wall = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
        let all = (wall(timeline.end().saturating_sub(1)) - wall(timeline.first())).max(SHORTEST);
        let length = if in_ { self.length / 2 } else { self.length.saturating_mul(2) }
            .clamp(SHORTEST, all.max(SHORTEST));
        // What is under the cursor stays where it is, as long as it is in sight.
        let shown = state.moment().sample.as_ref().map_or(until, |sample| sample.now.wall_ns());
        let at = if (from..=until).contains(&shown) { shown } else { until };
        let part = (until - at) as f64 / self.length.max(1) as f64;
        let end = at + (part * length as f64) as i64;
        self.length = length;
        self.end = (self.end.is_some() || at < until).then_some(end);
        self.gather(state, true);
    }

    pub fn pan(&mut self, state: &State, back: bool) {
        let (_, until) = self.span(state);
        let timeline = &state.time().timeline;
        let wall = |number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
        let (first, newest) = (wall(timeline.first()), wall(timeline.end().saturating_sub(1)));
        let step = self.length / 4;
        let end = if back { until - step } else { until + step };
        let end = end.max(first + self.length.min(newest - first));
        self.end = (end < newest).then_some(end);
        self.gather(state, true);
    }

    pub fn prompt(&mut self, typing: Typing) -> After {
        let purpose = match typing {
            Typing::Name => Purpose::Charts,
            Typing::Add | Typing::Pane => Purpose::Metric,
        };
        self.typing = typing;
        After::Open(Box::new(Prompt::new(purpose, "")))
    }

    pub fn save(&self, state: &mut State, ending: &str) {
        let span = self.span(state);
        let wishes = self.panes.iter().flat_map(|pane| pane.wishes.iter().cloned()).collect();
        let what = Composing {
            wishes,
            form: Form::Lines,
            lanes: vec![],
            columns: 960,
            happenings: 8,
            brief: false,
            title: None,
        };
        let job = crate::state::job::Job::chart(what, ending, span, state.theme.light);
        state.begin_export(job);
    }
}
