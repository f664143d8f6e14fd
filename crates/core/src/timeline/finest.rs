//! Of recordings that tell of the same time the one with the most readings: what was thinned out for long keeping matters only
//! where nothing finer is there.

use super::moment::Moment;
use super::segment::Segment;
use crate::sorting::ColdSort as _;
use std::ops::Range;

/// Pieces of one recording at most: each is looked through again.
const PIECES: usize = 32;

/// A recording and what the lanes show of it.
pub type Opened = (Segment, Vec<Moment>);

/// Leaves of thinned recordings what no finer one tells; one that others tell of in the middle comes in several pieces. `there`
/// are the times that recordings tell of already which are not thinned.
pub fn finest(opened: Vec<Opened>, there: Vec<(i64, i64)>) -> Vec<Opened> {
    let (mut thinned, mut all): (Vec<Opened>, Vec<Opened>) =
        opened.into_iter().partition(|(segment, _)| segment.step_ms() > 0);
    if thinned.is_empty() {
        return all;
    }
    thinned.cold_sort_by_key(|(segment, _)| segment.step_ms());
    let mut spans = there;
    spans.extend(all.iter().filter_map(|(_, moments)| span(moments)));
    while let Some(step) = thinned.first().map(|(segment, _)| segment.step_ms()) {
        let of_step = thinned.partition_point(|(segment, _)| segment.step_ms() == step);
        let finer = joined(spans.clone());
        for (segment, moments) in thinned.drain(..of_step) {
            spans.extend(span(&moments));
            all.extend(pieces(segment, moments, &finer));
        }
    }
    all
}

fn span(moments: &[Moment]) -> Option<(i64, i64)> {
    Some((moments.first()?.wall_ns, moments.last()?.wall_ns))
}

/// Times in order, those that touch as one.
fn joined(mut spans: Vec<(i64, i64)>) -> Vec<(i64, i64)> {
    spans.sort_unstable();
    let mut all: Vec<(i64, i64)> = vec![];
    for (from, until) in spans {
        match all.last_mut().filter(|last| from <= last.1) {
            Some(last) => last.1 = last.1.max(until),
            None => all.push((from, until)),
        }
    }
    all
}

/// The readings of which no finer ones tell the whole time since the one before.
fn needed(moments: &[Moment], finer: &[(i64, i64)]) -> Vec<Range<usize>> {
    let mut runs: Vec<Range<usize>> = vec![];
    for (at, moment) in moments.iter().enumerate() {
        let until = moment.wall_ns;
        let from = at.checked_sub(1).map_or(until, |before| moments[before].wall_ns.min(until));
        let before = finer.partition_point(|(begin, _)| *begin <= from);
        if before.checked_sub(1).is_some_and(|place| until <= finer[place].1) {
            continue;
        }
        match runs.last_mut().filter(|run| run.end == at) {
            Some(run) => run.end += 1,
            None => runs.push(at..at + 1),
        }
    }
    runs
}

fn pieces(segment: Segment, moments: Vec<Moment>, finer: &[(i64, i64)]) -> Vec<Opened> {
    let mut runs = needed(&moments, finer);
    if let Some(last) = runs.last().map(|last| last.end).filter(|_| runs.len() > PIECES) {
        // The rest as one: what finer ones tell of it is there twice, and the earlier one counts.
        runs.truncate(PIECES);
        runs[PIECES - 1].end = last;
    }
    if matches!(&runs[..], [run] if run.len() == moments.len()) {
        return vec![(segment, moments)];
    }
    let mut pieces = vec![];
    for run in runs.iter().skip(1) {
        // It was read once already; what cannot be read again is not there.
        if let Ok(again) = segment.again()
            && again.1.len() >= run.end
        {
            pieces.push(only(again, run.clone()));
        }
    }
    pieces.extend(runs.first().map(|run| only((segment, moments), run.clone())));
    pieces
}

fn only((mut segment, mut moments): Opened, run: Range<usize>) -> Opened {
    segment.leave(run, &mut moments);
    (segment, moments)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_finer_ones_tell_is_left_out() {
        let moments: Vec<Moment> = (0..10).map(|at| Moment::unreadable(at * 60)).collect();
        let runs = |finer: &[(i64, i64)]| {
            let runs = needed(&moments, &joined(finer.to_vec()));
            runs.into_iter().map(|run| (run.start, run.end)).collect::<Vec<_>>()
        };
        assert_eq!(runs(&[]), [(0, 10)]);
        assert_eq!(runs(&[(0, 540)]), []);
        // Where a finer one begins within a minute that minute is needed, so that nothing is missing between the two.
        assert_eq!(runs(&[(250, 1_000)]), [(0, 6)]);
        assert_eq!(runs(&[(240, 1_000)]), [(0, 5)]);
        assert_eq!(runs(&[(100, 200), (200, 300), (420, 540)]), [(0, 3), (6, 8)]);
        assert_eq!(runs(&[(-5, -1)]), [(0, 10)]);
    }
}
