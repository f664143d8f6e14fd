//! What processes have over time: all that are meant together, or each program or process alone. Of two samples with the
//! same processes only those are looked at that did something.

use super::growing::{OfWish, Resting, Time};
use super::wish::{Of, Wish};
use crate::catalogue::{Kind, Metric, Value};
use crate::rank::{Total, total};
use crate::row::Row as _;
use crate::sample::{ProcessView, Sample};
use crate::sorting::ColdSort as _;
use crate::text::{Text, no_text};
use std::sync::Arc;

/// Those who are gone.
fn views_of(gone: Option<&Sample>) -> impl Iterator<Item = ProcessView<'_>> {
    let all = gone.into_iter();
    all.flat_map(|sample| (0..sample.now.processes.len()).map(move |at| sample.process(at)))
}

/// What became of a process since the sample before.
struct Step {
    /// Its place there.
    place: Option<usize>,
    /// It did nothing.
    is_same: bool,
    is_called_the_same: bool,
}

impl Step {
    fn of(sample: &Sample, at: usize) -> Step {
        let place = sample.earlier_place(at);
        let none = Step { place, is_same: false, is_called_the_same: false };
        let Some((place, earlier)) = place.zip(sample.before.as_deref()) else { return none };
        let (was, is) = (&earlier.processes[place], &sample.now.processes[at]);
        if Arc::ptr_eq(was, is) {
            return Step { is_same: true, is_called_the_same: true, ..none };
        }
        let is_called_the_same = Arc::ptr_eq(&was.name, &is.name) && Arc::ptr_eq(&was.program, &is.program);
        Step { is_called_the_same, ..none }
    }
}

/// Whether a process whose counters stand still has the same as before.
fn can_rest(metric: &Metric) -> bool {
    metric.kind == Kind::Rate && metric.rests()
}

/// What the processes that are meant have together.
pub(super) fn of_processes(
    into: &mut OfWish,
    wish: &Wish,
    (sample, gone): (&Sample, Option<&Sample>),
    time: Time,
) {
    let metric = wish.metric;
    let mut looked = Looked { wish, sample, one: None, totals: vec![] };
    let count = sample.now.processes.len();
    if let Some(changed) = sample.changed().filter(|_| can_rest(metric) && into.meant.len() == count) {
        let restless = std::mem::take(&mut into.restless);
        let mut places: Vec<usize> = changed.iter().copied().chain(restless).collect();
        places.sort_unstable();
        places.dedup();
        for at in places {
            let before = into.meant[at];
            if let Resting::Known(how) = before {
                into.resting[how].1 -= 1;
            }
            let known = Some(before).filter(|_| Step::of(sample, at).is_called_the_same);
            into.meant[at] = looked.at(at, known, into);
        }
    } else {
        let before = std::mem::take(&mut into.meant);
        into.restless.clear();
        into.resting.iter_mut().for_each(|(_, count)| *count = 0);
        for at in 0..count {
            let step = Step::of(sample, at);
            let known = step.place.and_then(|place| before.get(place)).copied();
            let next = match known.filter(|_| step.is_called_the_same) {
                Some(Resting::Known(how)) if step.is_same => {
                    into.resting[how].1 += 1;
                    Resting::Known(how)
                }
                known => looked.at(at, known, into),
            };
            into.meant.push(next);
        }
    }
    let Looked { mut one, mut totals, .. } = looked;
    // A hundred that have nothing have as much as one.
    let resting = into.resting.iter().filter(|(_, count)| *count > 0);
    totals.extend(resting.map(|(total, _)| total.clone()));
    for view in views_of(gone).filter(|view| wish.means(view)) {
        one.get_or_insert_with(|| label(&view));
        totals.push(Total::of(metric, &view));
    }
    let sum = total(totals.into_iter(), metric);
    let name = match (&wish.of, into.names.first()) {
        (Of::Program(name), _) => Text::from(name.as_str()),
        (Of::Pid(_) | Of::Process(_), Some(name)) => name.clone(),
        (Of::Pid(_) | Of::Process(_), None) => match one {
            Some(name) => Text::from(name.as_str()),
            None => return,
        },
        _ => no_text(),
    };
    let id = into.id(&name);
    into.series[id].at_least |= sum.partial;
    into.series[id].put(time, &sum.value);
}

/// Processes that are looked at one by one.
struct Looked<'a> {
    wish: &'a Wish,
    sample: &'a Sample,
    /// The name of the first that is meant.
    one: Option<String>,
    /// What those have who do not rest.
    totals: Vec<Total>,
}

impl Looked<'_> {
    /// Looks at the process in a place, of which something may be known from before.
    fn at(&mut self, at: usize, known: Option<Resting>, into: &mut OfWish) -> Resting {
        let Looked { wish, sample, one, totals } = self;
        if matches!(known, Some(Resting::NotMeant)) {
            return Resting::NotMeant;
        }
        let view = sample.process(at);
        if known.is_none() && !wish.means(&view) {
            return Resting::NotMeant;
        }
        one.get_or_insert_with(|| label(&view));
        let total = Total::of(wish.metric, &view);
        let has_something = total.value.number().is_some_and(|value| value != 0.0);
        if can_rest(wish.metric) && !has_something && Step::of(sample, at).is_same {
            return into.rests(&total);
        }
        totals.push(total);
        into.restless.push(at);
        Resting::Unknown
    }
}

/// What each program has, or each process of a program.
pub(super) fn parts_of_processes(
    into: &mut OfWish,
    wish: &Wish,
    (sample, gone, is_first): (&Sample, Option<&Sample>, bool),
    time: Time,
) {
    const NOBODY: usize = usize::MAX;
    let metric = wish.metric;
    let by_program = matches!(wish.of, Of::All);
    // A process whose counters stand still has done nothing; what it may not show it did not show before.
    let rests = can_rest(metric) && !is_first;
    let count = sample.now.processes.len();
    let mut sums: Vec<(usize, Total)> = vec![];
    let name = |into: &mut OfWish, view: &ProcessView<'_>| match wish.means(view) {
        false => NOBODY,
        true if by_program => into.id(program(view)),
        true => into.id(&Text::from(label(view).as_str())),
    };
    if let Some(changed) = sample.changed().filter(|_| rests && into.rows.len() == count) {
        for at in changed.iter().copied() {
            let view = sample.process(at);
            if !Step::of(sample, at).is_called_the_same {
                into.rows[at] = name(into, &view);
            }
            if into.rows[at] != NOBODY {
                sums.push((into.rows[at], Total::of(metric, &view)));
            }
        }
    } else {
        let before = std::mem::take(&mut into.rows);
        for at in 0..count {
            let Step { place, is_same, is_called_the_same } = Step::of(sample, at);
            let known = place.and_then(|place| before.get(place)).filter(|_| is_called_the_same).copied();
            let view = sample.process(at);
            let id = known.unwrap_or_else(|| name(into, &view));
            into.rows.push(id);
            if id != NOBODY && !(is_same && rests) {
                sums.push((id, Total::of(metric, &view)));
            }
        }
    }
    for view in views_of(gone) {
        let id = name(into, &view);
        if id != NOBODY {
            sums.push((id, Total::of(metric, &view)));
        }
    }
    // Who uses nothing is no part of what is drawn; who may not be seen is.
    let counts =
        |total: &Total| total.value == Value::Denied || total.value.number().is_some_and(|value| value > 0.0);
    sums.retain(|(_, total)| counts(total));
    sums.cold_sort_by_key(|(id, _)| *id);
    for of_one in sums.chunk_by(|a, b| a.0 == b.0) {
        let sum = total(of_one.iter().map(|(_, total)| total.clone()), metric);
        let series = &mut into.series[of_one[0].0];
        series.at_least |= sum.partial;
        series.put(time, &sum.value);
    }
}

/// `stacker[3820]`; of several that are one row their name.
fn label(view: &ProcessView<'_>) -> String {
    let key = view.now.key();
    if crate::exited::is_gathered(key) {
        view.now.name.to_string()
    } else {
        format!("{}[{}]", view.now.name, key.pid)
    }
}

fn program<'a>(view: &ProcessView<'a>) -> &'a Text {
    if view.now.program.is_empty() { &view.now.name } else { &view.now.program }
}
