//! Puts a chart together: which panels, with what in them.

use super::{Chart, Form, Panel};
use dozor_core::catalogue::{Combine, Eval, Unit};
use dozor_core::chart::{
    Gathered, Happenings, Of, Point, Series, Wish, gaps, gather, happenings, lane_series, reach_of,
};
use dozor_core::clock::Zone;
use dozor_core::lane::Lane;
use dozor_core::recording::ReadError;
use dozor_core::sorting::ColdSort as _;
use dozor_core::timeline::Timeline;
use std::ops::Range;

/// What is to be in a chart.
#[derive(Clone, Debug)]
pub struct Composing {
    /// Metrics; of none the lanes are drawn.
    pub wishes: Vec<Wish>,
    /// How they are drawn.
    pub form: Form,
    /// Lanes of the screen, above the metrics.
    pub lanes: Vec<Lane>,
    /// About so many points.
    pub columns: usize,
    /// At most so many lines about what stood out.
    pub happenings: usize,
    /// Without host and time, and with a small title.
    pub brief: bool,
    /// Its title; where there is none it says what is in it.
    pub title: Option<String>,
}

/// Instances from which on a metric of several is drawn as rows of lightness.
const MANY: usize = 8;
/// Lines in a panel at most.
const LINES: usize = 10;
/// Parts of a whole that are told apart.
const PARTS: usize = 8;
/// Of the whole, what a part needs to be told apart.
const LITTLE: f64 = 0.01;
/// Rows of lightness at most.
const ROWS: usize = 256;
/// Programs that have such a row.
const PROGRAMS: usize = 24;

/// Puts a chart of some samples of a timeline together.
pub fn compose(timeline: &mut Timeline, numbers: Range<usize>, what: &Composing) -> Result<Chart, ReadError> {
    let parts = |place: usize| {
        let wish = &what.wishes[place];
        let several = matches!(wish.of, Of::All | Of::Program(_));
        several && matches!(wish.metric.eval, Eval::Process(_)) && form_of(wish, what.form) != Form::Lines
    };
    let gathered = if what.wishes.is_empty() {
        None
    } else {
        Some(gather(timeline, numbers.clone(), &what.wishes, &parts, what.columns)?)
    };
    let happenings = happenings(timeline, numbers.clone(), what.happenings)?;
    Ok(assemble(timeline, numbers, what, gathered, happenings))
}

/// Puts a chart together of what was gathered for its wishes, and what happened.
pub fn assemble(
    timeline: &Timeline,
    numbers: Range<usize>,
    what: &Composing,
    gathered: Option<Gathered>,
    happenings: Happenings,
) -> Chart {
    let (from_ns, until_ns) = reach_of(timeline, &numbers);
    let mut panels: Vec<Panel> = vec![];
    for lane in &what.lanes {
        panels.push(Panel::Lane(*lane, lane_series(timeline, numbers.clone(), *lane, what.columns)));
    }
    let gaps = gaps(timeline, numbers.clone());
    let series = gathered.map(|gathered| gathered.series).unwrap_or_default();
    let mut unknown = vec![];
    for (wish, series) in what.wishes.iter().zip(series) {
        if series.iter().all(|series| series.points.is_empty() && series.denied == 0) {
            unknown.push(wish.text());
        }
        add(&mut panels, wish, series, what.form);
    }
    let thinned = (numbers.len() > what.columns).then(|| (until_ns - from_ns) / what.columns.max(1) as i64);
    let host = timeline.host();
    Chart {
        title: what.title.clone().unwrap_or_else(|| title(what)),
        host: host.name.clone(),
        zone: Zone::named(&host.time_zone),
        from_ns,
        until_ns,
        panels,
        unknown,
        gaps,
        happenings,
        brief: what.brief,
        thinned,
    }
}

fn title(what: &Composing) -> String {
    let lanes = match what.lanes.len() {
        0 => None,
        len if len == Lane::ALL.len() => Some("all resources".to_owned()),
        _ => Some(what.lanes.iter().map(|lane| lane.name()).collect::<Vec<_>>().join(", ")),
    };
    let mut all: Vec<String> = lanes.into_iter().chain(what.wishes.iter().map(Wish::text)).collect();
    if all.len() > 5 {
        all.truncate(4);
        all.push(format!("{} more", what.wishes.len() + usize::from(!what.lanes.is_empty()) - 4));
    }
    all.join(", ")
}

/// What suits a wish.
fn form_of(wish: &Wish, form: Form) -> Form {
    if form != Form::Auto {
        return form;
    }
    let of_several = matches!(wish.of, Of::All) && matches!(wish.metric.eval, Eval::Process(_));
    if of_several && wish.metric.combine == Combine::Sum { Form::Stacked } else { Form::Lines }
}

fn add(panels: &mut Vec<Panel>, wish: &Wish, mut series: Vec<Series>, form: Form) {
    let is_many = matches!(wish.metric.eval, Eval::System(_)) && series.len() > MANY && form == Form::Auto;
    match if is_many { Form::Heat } else { form_of(wish, form) } {
        Form::Heat => {
            let of_processes = matches!(wish.metric.eval, Eval::Process(_));
            let most = if of_processes { PROGRAMS } else { ROWS };
            if of_processes {
                series.cold_sort_by(|a, b| weight(b).total_cmp(&weight(a)));
            }
            let more = series.len().saturating_sub(most);
            series.truncate(most);
            panels.push(Panel::Heat { metric: wish.metric, rows: series, more });
        }
        Form::Stacked if matches!(wish.metric.eval, Eval::Process(_)) || series.len() > 1 => {
            series.cold_sort_by(|a, b| weight(b).total_cmp(&weight(a)));
            let whole = sum(&series, wish, "all");
            // Parts that one would not see are told together.
            let little = weight(&whole) * LITTLE;
            let told = series.iter().take(PARTS).take_while(|part| weight(part) >= little).count().max(1);
            if series.len() > told + 1 {
                let rest = series.split_off(told);
                series.push(sum(&rest, wish, &format!("{} others", rest.len())));
            }
            panels.push(Panel::Stacked { metric: wish.metric, parts: series, whole });
        }
        _ => {
            series.cold_sort_by(|a, b| weight(b).total_cmp(&weight(a)));
            series.truncate(LINES);
            // A third unit, or too many lines, needs a panel of its own.
            if let Some(Panel::Lines(all)) = panels.last_mut() {
                let mut units: Vec<Unit> =
                    all.iter().chain(&series).map(|one| axis_unit(one.metric.unit)).collect();
                units.dedup();
                units.cold_sort_by_key(|unit| *unit as u8);
                units.dedup();
                if units.len() <= 2 && all.len() + series.len() <= LINES {
                    all.extend(series);
                    return;
                }
            }
            panels.push(Panel::Lines(series));
        }
    }
}

/// Units that share an axis are one.
pub(super) fn axis_unit(unit: Unit) -> Unit {
    match unit {
        Unit::PercentOfCore => Unit::Percent,
        Unit::Delay => Unit::Seconds,
        other => other,
    }
}

fn weight(series: &Series) -> f64 {
    series.points.iter().map(|point| point.mean * (point.until_ns - point.from_ns).max(1) as f64).sum()
}

/// Several series added up, point by point.
fn sum(all: &[Series], wish: &Wish, name: &str) -> Series {
    let mut points: std::collections::BTreeMap<i64, Point> = std::collections::BTreeMap::new();
    for point in all.iter().flat_map(|series| &series.points) {
        let add = |sum: &mut Point| {
            sum.low += point.low;
            sum.high += point.high;
            sum.mean += point.mean;
        };
        points.entry(point.until_ns).and_modify(add).or_insert(*point);
    }
    Series {
        metric: wish.metric,
        name: name.to_owned(),
        points: points.into_values().collect(),
        denied: all.iter().map(|series| series.denied).max().unwrap_or(0),
        at_least: all.iter().any(|series| series.at_least),
    }
}
