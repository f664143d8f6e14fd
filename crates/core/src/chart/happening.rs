//! What happened in a span of time: how bad it was with each resource and since when, what stood out then in words, what
//! was done, what somebody noted.

use crate::findings::{Finding, Telling, found_in};
use crate::lane::{Lane, Severity};
use crate::recording::{MarkKind, ReadError};
use crate::sorting::ColdSort as _;
use crate::timeline::Timeline;
use crate::units::NANOS;
use std::collections::{BTreeMap, HashMap};
use std::ops::Range;

/// A time in which a resource was not fine.
#[derive(Clone, Debug, PartialEq)]
pub struct Band {
    /// The resource.
    pub lane: Lane,
    /// How bad it was at worst.
    pub severity: Severity,
    /// Where the first sample begins.
    pub from_ns: i64,
    /// The instant of the last.
    pub until_ns: i64,
    /// The sample in which it was worst.
    pub worst: usize,
}

/// Something that is worth a sign on the axis and a line of text.
#[derive(Clone, Debug, PartialEq)]
pub struct Happening {
    /// When it began.
    pub from_ns: i64,
    /// When it ended; the same for an instant.
    pub until_ns: i64,
    /// How bad it is; none of an action or a note.
    pub severity: Option<(Severity, Lane)>,
    /// Of an action or a note: which of them.
    pub mark: Option<MarkKind>,
    /// How often it was so.
    pub times: usize,
    /// In words.
    pub text: String,
}

impl Happening {
    /// Its sign, as on the screen.
    pub fn sign(&self) -> char {
        match (self.severity, self.mark) {
            (Some((severity, _)), _) => severity.sign(),
            (None, Some(MarkKind::Action)) => '⚑',
            (None, Some(MarkKind::Lost)) => '≈',
            _ => '✎',
        }
    }
}

/// All that happened.
#[derive(Clone, Debug, Default)]
pub struct Happenings {
    /// Times that were not fine, lane by lane.
    pub bands: Vec<Band>,
    /// What stood out, was done and was noted, in the order of time.
    pub list: Vec<Happening>,
    /// How many more stood out that have no line.
    pub more: usize,
}

/// Samples of which all are gone through for what stood out.
const ALL_OF: usize = 3_600;
/// Two times of trouble with less than this between them are one, or less than a part of the whole span.
const TOGETHER: i64 = 10 * NANOS;
const TOGETHER_PART: i64 = 60;

/// What happened in a range of samples: of what stood out at most so many, the worst and longest of them.
pub fn happenings(
    timeline: &mut Timeline,
    numbers: Range<usize>,
    most: usize,
) -> Result<Happenings, ReadError> {
    let Some(last) = timeline.moment(numbers.end.saturating_sub(1)) else { return Ok(Happenings::default()) };
    let until = last.wall_ns;
    let from = timeline
        .moment(numbers.start)
        .map_or(until, |moment| moment.wall_ns - (moment.seconds.unwrap_or(0.0) * NANOS as f64) as i64);
    let together = TOGETHER.max((until - from) / TOGETHER_PART);
    let mut bands = vec![];
    for lane in Lane::ALL {
        bands.extend(bands_of(timeline, numbers.clone(), lane, together));
    }
    // The worst first, then the longest.
    let mut ranked: Vec<&Band> = bands.iter().filter(|band| band.severity >= Severity::Notice).collect();
    ranked.cold_sort_by_key(|band| std::cmp::Reverse((band.severity, band.until_ns - band.from_ns)));
    let mut list: Vec<Happening> = vec![];
    let mut seen: HashMap<String, usize> = HashMap::new();
    let mut more: usize = 0;
    let mut put = |one: &Finding, at: &Telling, list: &mut Vec<Happening>, more: &mut usize| {
        let (from_ns, until_ns) = (one.from_ns.max(from), one.until_ns.min(until));
        // The same trouble at several times is one line.
        if let Some(place) = seen.get(&one.name()) {
            let before: &mut Happening = &mut list[*place];
            before.times += usize::from(before.from_ns != from_ns);
            before.from_ns = before.from_ns.min(from_ns);
            before.until_ns = before.until_ns.max(until_ns);
            return;
        }
        if list.len() >= most {
            *more += 1;
            return;
        }
        seen.insert(one.name(), list.len());
        let (severity, text) = (Some((at.severity, one.about.lane)), at.sentence.clone());
        list.push(Happening { from_ns, until_ns, severity, mark: None, times: 1, text });
    };
    let found = found_by_the_recorder(timeline, from, until);
    if numbers.len() > ALL_OF && !found.is_empty() {
        // The recorder has gone through all of it.
        let rest = found.iter().filter(|one| !list.iter().any(|other| other.text == one.text)).count();
        more += rest.saturating_sub(most);
        list.extend(found.into_iter().take(most));
    } else if numbers.len() <= ALL_OF {
        let history = found_in(timeline, numbers.clone(), &mut |_| {})?;
        for one in history.within(from, until) {
            put(one, one.worst_told(), &mut list, &mut more);
        }
    } else {
        // Of a long time those are looked at that the lanes show, each around its worst moment.
        for band in ranked {
            if list.len() >= most {
                more += 1;
                continue;
            }
            let history = found_in(timeline, band.worst..band.worst + 1, &mut |_| {})?;
            let at = timeline.moment(band.worst).map_or(0, |moment| moment.wall_ns);
            let found = history.at(at);
            let Some(one) = found.into_iter().find(|one| one.about.lane == band.lane) else { continue };
            let spread = Finding { from_ns: band.from_ns, until_ns: band.until_ns, ..one.clone() };
            put(&spread, one.at(at), &mut list, &mut more);
        }
    }
    let marks = timeline.marks().into_iter().filter(|mark| mark.kind != MarkKind::Finding);
    for mark in marks.filter(|mark| mark.wall_ns >= from && mark.wall_ns <= until) {
        let texts = if mark.deeds.is_empty() {
            vec![mark.text.clone()]
        } else {
            mark.deeds.iter().map(crate::deed::Record::words).collect()
        };
        for text in texts.into_iter().filter(|text| !text.is_empty()) {
            list.push(Happening {
                from_ns: mark.wall_ns,
                until_ns: mark.wall_ns,
                severity: None,
                mark: Some(mark.kind),
                times: 1,
                text,
            });
        }
    }
    list.cold_sort_by_key(|happening| happening.from_ns);
    Ok(Happenings { bands, list, more })
}

/// What the recorder found as it wrote, by the marks that it left: the worst first, then the longest. Nothing of what began
/// before its marks do.
fn found_by_the_recorder(timeline: &Timeline, from: i64, until: i64) -> Vec<Happening> {
    let mut by_name: BTreeMap<(String, String), Happening> = BTreeMap::new();
    for mark in timeline.marks() {
        let Some(found) = mark.found else { continue };
        let name = (found.rule, found.subject);
        // What has no end yet goes on.
        let end = found.until_ns.unwrap_or(until);
        if found.from_ns > until || end < from {
            continue;
        }
        let (from_ns, until_ns) = (found.from_ns.max(from), end.min(until));
        let severity = Some((found.severity, found.lane));
        let one = Happening { from_ns, until_ns, severity, mark: None, times: 1, text: mark.text };
        match by_name.get_mut(&name) {
            None => drop(by_name.insert(name, one)),
            Some(all) => {
                // The mark of its end is of the same one.
                let is_end = found.until_ns.is_some();
                all.times += usize::from(!is_end);
                all.from_ns = all.from_ns.min(from_ns);
                all.until_ns = if is_end && all.times == 1 { until_ns } else { all.until_ns.max(until_ns) };
                if Some(found.severity) > all.severity.map(|(severity, _)| severity) {
                    (all.severity, all.text) = (severity, one.text);
                }
            }
        }
    }
    let mut all: Vec<Happening> = by_name.into_values().collect();
    let weight = |one: &Happening| (one.severity.map(|(severity, _)| severity), one.until_ns - one.from_ns);
    all.cold_sort_by_key(|one| std::cmp::Reverse(weight(one)));
    all
}

/// Times in which a lane was not fine; short times between them are part of them.
fn bands_of(timeline: &Timeline, numbers: Range<usize>, lane: Lane, together: i64) -> Vec<Band> {
    let mut bands: Vec<Band> = vec![];
    let mut worst_value = 0.0;
    for number in numbers {
        let Some(moment) = timeline.moment(number) else { break };
        let point = moment.peak(lane);
        if point.severity == Severity::Fine {
            continue;
        }
        let from_ns = moment.wall_ns - (moment.seconds.unwrap_or(0.0) * NANOS as f64) as i64;
        let value = point.value.value().unwrap_or(0.0);
        match bands.last_mut() {
            Some(band) if from_ns - band.until_ns <= together => {
                band.until_ns = moment.wall_ns;
                if (point.severity, value) > (band.severity, worst_value) {
                    (band.severity, band.worst, worst_value) = (point.severity, number, value);
                }
            }
            _ => {
                worst_value = value;
                let (severity, until_ns) = (point.severity, moment.wall_ns);
                bands.push(Band { lane, severity, from_ns, until_ns, worst: number });
            }
        }
    }
    bands
}
