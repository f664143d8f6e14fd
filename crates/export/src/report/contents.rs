//! What is in a report.

use super::{Asked, Entry, Part, Report, Table};
use crate::chart::{Composing, Form, assemble};
use dozor_core::catalogue::listed;
use dozor_core::chart::{Gathered, Happening, Happenings, Of, Series, Wish, gather, happenings};
use dozor_core::clock::Zone;
use dozor_core::compare::words::{cells, changes, label, presence_words, who};
use dozor_core::compare::{Presence, Side, compare};
use dozor_core::lane::{Lane, Severity};
use dozor_core::reading::HostFacts;
use dozor_core::recording::ReadError;
use dozor_core::sorting::ColdSort as _;
use dozor_core::timeline::Timeline;
use dozor_core::units::{NANOS, long_bytes, long_duration};
use std::ops::Range;

/// Of what the users are told, with the lane that it is of.
const USED: [(&str, Lane, &str); 5] = [
    ("cpu", Lane::Cpu, "CPU"),
    ("rss", Lane::Memory, "Memory, RSS: shared pages count in each process"),
    ("read", Lane::Disk, "Disk, read"),
    ("write", Lane::Disk, "Disk, written"),
    ("net", Lane::Network, "Network"),
];
/// Points of a chart.
const COLUMNS: usize = 360;
/// Charts beside that of the lanes.
const CHARTS: usize = 2;
/// Lines about what stood out.
const TOLD: usize = 10;
/// Lines of each kind about what differed.
const DIFFERENT: usize = 8;
/// How far back it is compared.
const HOUR: i64 = 3_600 * NANOS;

pub(super) fn report(
    timeline: &mut Timeline,
    numbers: Range<usize>,
    asked: &Asked,
) -> Result<Report, ReadError> {
    let host = timeline.host().clone();
    let zone = Zone::named(&host.time_zone);
    let wall =
        |timeline: &Timeline, number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
    let (first, last) = (wall(timeline, numbers.start), wall(timeline, numbers.end.saturating_sub(1)));
    let span = span_words(&zone, first, last);
    let wishes: Vec<Wish> =
        USED.iter().map(|(alias, ..)| Wish { metric: listed(alias), of: Of::All }).collect();
    let gathered = gather(timeline, numbers.clone(), &wishes, &|_| true, COLUMNS)?;
    let happened = happenings(timeline, numbers.clone(), TOLD)?;
    let mut parts = vec![Part::Facts(facts(timeline, &numbers, &host, &gathered))];
    parts.push(Part::Heading("What stood out".to_owned()));
    let stood_out: Vec<&Happening> = happened.list.iter().filter(|one| one.severity.is_some()).collect();
    if stood_out.is_empty() {
        parts.push(Part::Text("Nothing: all resources were fine in all of this time.".to_owned()));
    } else {
        let mut entries: Vec<&Happening> = stood_out.clone();
        entries.cold_sort_by_key(|one| std::cmp::Reverse(one.severity.map(|(severity, _)| severity)));
        parts.push(Part::List(entries.into_iter().map(|one| entry(one, &zone)).collect()));
        if happened.more > 0 {
            parts.push(Part::Text(format!("{} more stood out, shorter or less.", happened.more)));
        }
    }
    let composing = |lanes: Vec<Lane>, wishes: Vec<Wish>, title: &str| Composing {
        wishes,
        form: Form::Stacked,
        lanes,
        columns: COLUMNS,
        happenings: 0,
        brief: true,
        title: Some(title.to_owned()),
    };
    let bands = Happenings { list: vec![], more: 0, ..happened.clone() };
    let lanes = assemble(
        timeline,
        numbers.clone(),
        &composing(Lane::ALL.to_vec(), vec![], "All resources"),
        None,
        // What stood out stands above it, in words.
        bands.clone(),
    );
    parts.push(Part::Chart(Box::new(lanes), 400.0));
    for (place, title) in charts(&happened, &gathered) {
        let what = composing(vec![], vec![wishes[place].clone()], &title);
        let one = Gathered { series: vec![gathered.series[place].clone()], ..gathered.clone() };
        let chart = assemble(timeline, numbers.clone(), &what, Some(one), bands.clone());
        parts.push(Part::Chart(Box::new(chart), 190.0));
    }
    parts.push(Part::Heading("Who used what".to_owned()));
    for (place, (alias, _, title)) in USED.iter().enumerate() {
        parts.push(users(alias, title, &gathered.series[place], &gathered, &zone, asked.users));
    }
    parts.push(Part::Heading("What differed from the hour before".to_owned()));
    different(timeline, &numbers, &zone, &mut parts)?;
    parts.push(Part::Heading("What was done and noted".to_owned()));
    let done: Vec<Entry> =
        happened.list.iter().filter(|one| one.severity.is_none()).map(|one| entry(one, &zone)).collect();
    if done.is_empty() {
        parts.push(Part::Text("Nothing was done to processes, and nobody noted anything.".to_owned()));
    } else {
        parts.push(Part::List(done));
    }
    let title = asked.title.clone().unwrap_or_else(|| format!("{}, {span}", host.name));
    Ok(Report { title, host: host.name.clone(), span, parts })
}

/// `2031-02-14 02:04 to 02:14`.
fn span_words(zone: &Zone, first: i64, last: i64) -> String {
    let (day, end) = (zone.day(first), zone.day(last));
    if day == end {
        format!("{day} {} to {}", zone.time(first), zone.time(last))
    } else {
        format!("{day} {} to {end} {}", zone.time(first), zone.time(last))
    }
}

fn facts(
    timeline: &mut Timeline,
    numbers: &Range<usize>,
    host: &HostFacts,
    gathered: &Gathered,
) -> Vec<(String, String)> {
    let memory = timeline
        .sample(numbers.end.saturating_sub(1))
        .ok()
        .and_then(|sample| sample.now.system.mem_total.value());
    let memory = memory.map_or(String::new(), |bytes| format!(", {} of memory", long_bytes(bytes as f64)));
    let zone = Zone::named(&host.time_zone);
    let every =
        timeline.every().map_or(String::new(), |every| format!(", one every {}", long_duration(every)));
    let gaps: i64 = gathered.gaps.iter().map(|(from, until)| until - from).sum();
    let gaps = match gathered.gaps.len() {
        0 => "no gaps".to_owned(),
        1 => format!("one gap of {}", long_duration(gaps as f64 / NANOS as f64)),
        many => format!("{many} gaps, {} in all", long_duration(gaps as f64 / NANOS as f64)),
    };
    let length = long_duration((gathered.until_ns - gathered.from_ns) as f64 / NANOS as f64);
    let mut facts = vec![
        ("Host".to_owned(), format!("{}, {}", host.name, host.kernel)),
        ("Machine".to_owned(), format!("{}, {} cores{memory}", host.cpu_model, host.cores)),
        (
            "Time".to_owned(),
            format!(
                "{} to {}, {length}, zone {}",
                zone.date_time(gathered.from_ns),
                zone.date_time(gathered.until_ns),
                zone.name()
            ),
        ),
        ("Readings".to_owned(), format!("{}{every}, {gaps}", numbers.len())),
    ];
    if !host.inside.is_empty() {
        facts.push(("Seen from".to_owned(), format!("inside a {}", host.inside)));
    }
    facts
}

fn entry(one: &Happening, zone: &Zone) -> Entry {
    let length = (one.until_ns - one.from_ns) as f64 / NANOS as f64;
    let when = match one.times {
        _ if length < 1.0 => zone.time(one.from_ns),
        1 => format!("{}, {}", zone.time(one.from_ns), long_duration(length)),
        many => format!("{} to {}, {many} times", zone.time(one.from_ns), zone.time(one.until_ns)),
    };
    Entry {
        sign: one.sign(),
        severity: one.severity.map(|(severity, _)| severity),
        when,
        text: one.text.clone(),
    }
}

/// Which of what is used has a chart: of the lanes that were worst, at most two.
fn charts(happened: &Happenings, gathered: &Gathered) -> Vec<(usize, String)> {
    let mut lanes: Vec<(Severity, i64, Lane)> = vec![];
    for band in &happened.bands {
        let length = band.until_ns - band.from_ns;
        match lanes.iter_mut().find(|(.., lane)| *lane == band.lane) {
            Some((severity, all, _)) => {
                *severity = (*severity).max(band.severity);
                *all += length;
            }
            None => lanes.push((band.severity, length, band.lane)),
        }
    }
    lanes.cold_sort_by_key(|(severity, length, _)| std::cmp::Reverse((*severity, *length)));
    let most = |place: &usize| gathered.series[*place].iter().map(Series::most).fold(0.0, f64::max);
    let mut charts = vec![];
    // Heat comes from work.
    let wanted = lanes.into_iter().map(|(.., lane)| if lane == Lane::Heat { Lane::Cpu } else { lane });
    for lane in wanted {
        let places = (0..USED.len()).filter(|place| USED[*place].1 == lane);
        if let Some(place) = places.max_by(|a, b| most(a).total_cmp(&most(b)))
            && most(&place) > 0.0
            && !charts.iter().any(|(other, _)| *other == place)
            && charts.len() < CHARTS
        {
            charts.push((place, format!("{} by program", USED[place].2)));
        }
    }
    charts
}

/// The programs that used most of something.
fn users(
    alias: &'static str,
    title: &str,
    series: &[Series],
    gathered: &Gathered,
    zone: &Zone,
    most: usize,
) -> Part {
    let metric = listed(alias);
    let all_time =
        (gathered.until_ns - gathered.from_ns - gathered.gaps.iter().map(|gap| gap.1 - gap.0).sum::<i64>())
            .max(1);
    let mean = |one: &Series| {
        let sum: f64 =
            one.points.iter().map(|point| point.mean * (point.until_ns - point.from_ns).max(0) as f64).sum();
        sum / all_time as f64
    };
    let mut ranked: Vec<(f64, &Series)> = series.iter().map(|one| (mean(one), one)).collect();
    ranked.cold_sort_by(|a, b| b.0.total_cmp(&a.0));
    let whole: f64 = ranked.iter().map(|(mean, _)| mean).sum();
    let denied = series.iter().map(|one| one.denied).max().unwrap_or(0);
    if whole <= 0.0 {
        let why = if denied > 0 { "not permitted to see it" } else { "nothing that is known" };
        return Part::Text(format!("{title}: {why}."));
    }
    let rows = ranked.iter().take(most).filter(|(mean, _)| *mean > 0.0).map(|(mean, one)| {
        let peak = one.points.iter().max_by(|a, b| a.high.total_cmp(&b.high));
        let (high, when) = peak.map_or((0.0, String::new()), |point| (point.high, zone.time(point.until_ns)));
        let least = if one.at_least { "≥ " } else { "" };
        vec![
            one.name.clone(),
            format!("{least}{}", metric.unit.long(*mean)),
            format!("{} %", dozor_core::units::share(mean / whole * 100.0)),
            format!("{least}{}", metric.unit.long(high)),
            when,
        ]
    });
    let rows: Vec<Vec<String>> = rows.collect();
    let rest = ranked.len().saturating_sub(rows.len());
    let more = if rest > 0 { format!(", and {rest} more programs") } else { String::new() };
    let headings = ["program", "mean", "of all", "most", "at"].map(str::to_owned).to_vec();
    let title = format!("{title}: {} in all on the mean{more}", metric.unit.long(whole));
    Part::Table(Table { title, headings, numbers: vec![false, true, true, true, true], rows })
}

fn different(
    timeline: &mut Timeline,
    numbers: &Range<usize>,
    zone: &Zone,
    parts: &mut Vec<Part>,
) -> Result<(), ReadError> {
    let wall =
        |timeline: &Timeline, number: usize| timeline.moment(number).map_or(0, |moment| moment.wall_ns);
    let first = wall(timeline, numbers.start);
    let begin = timeline.at(first - HOUR).max(timeline.first());
    let enough = numbers.start.saturating_sub(begin) >= 2;
    if !enough || numbers.len() < 2 {
        parts.push(Part::Text("Nothing was recorded before it that it could be compared with.".to_owned()));
        return Ok(());
    }
    let before = Side::of(timeline, begin + 1..=numbers.start - 1)?;
    let now = Side::of(timeline, (numbers.start + 1).min(numbers.end - 1)..=numbers.end - 1)?;
    let comparison = compare(&before, &now);
    let length = long_duration((before.until_ns - before.from_ns) as f64 / NANOS as f64);
    parts.push(Part::Text(format!(
        "Before: {} to {} ({length}). Rates are means over each time.",
        zone.date_time(before.from_ns),
        zone.time(before.until_ns)
    )));
    let pairs = comparison.machine.iter().chain(&comparison.parts);
    let rows: Vec<Vec<String>> = pairs
        .take(DIFFERENT)
        .map(|pair| {
            let [a, b, difference] = cells(pair);
            vec![label(pair), a, b, difference]
        })
        .collect();
    let headings = ["metric", "before", "then", "difference"].map(str::to_owned).to_vec();
    let numbers = vec![false, true, true, true];
    parts.push(Part::Table(Table { title: "The machine".to_owned(), headings, numbers, rows }));
    let rows: Vec<Vec<String>> = comparison
        .processes
        .iter()
        .filter(|process| process.presence != Presence::Both || !changes(process).is_empty())
        .take(DIFFERENT)
        .map(|process| {
            let presence = match presence_words(process) {
                "only in A" => "only before",
                "only in B" => "only then",
                other => other,
            };
            vec![who(process), process.user.to_string(), presence.to_owned(), changes(process).join(", ")]
        })
        .collect();
    let headings = ["process", "user", "", "what differs"].map(str::to_owned).to_vec();
    parts.push(Part::Table(Table { title: "Processes".to_owned(), headings, numbers: vec![false; 4], rows }));
    Ok(())
}
