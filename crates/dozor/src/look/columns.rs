//! Which columns the table shows, and how wide they are: sets of columns as people write them, and how a set fits a
//! screen.

use crate::look::layout::BROAD;
use dozor_core::catalogue::{
    Metric, NoSuchMetric, PROCESS_METRICS, Unit, core_temperature, listed, process_metric,
};
use dozor_core::known::Raw;
use dozor_core::lane::Lane;
use dozor_core::reading::ProcessRow;
use dozor_core::sample::Sample;
use dozor_core::sorting::ColdSort as _;
use dozor_core::text::nearest;
use dozor_core::wanted::Demand;
use std::collections::HashMap;
use std::fmt::{self, Display, Formatter};
use std::sync::LazyLock;
use unicode_width::UnicodeWidthStr;

/// Columns of the overview: a cell for each resource, so that one look tells who uses what.
const OVERVIEW: &str = "pid,user,state,cpu,rss,disk,net,trend,near_top,core_temp,threads,nice,age,command";
/// Columns of the overview that have bars.
pub const BARRED: &[&str] = &["cpu", "rss", "disk", "net"];
/// Least room for the command.
const COMMAND: u16 = 18;
/// Least room for the command where rows stand below others.
const ROOMY_COMMAND: u16 = 40;
/// The same in the overview of a narrow screen, where a cell for each resource matters more.
const SHORT_COMMAND: u16 = 11;
/// Widths of the trend: on most screens, and on a broad one.
const TREND: [u16; 2] = [14, 28];
/// Width of the time near the top.
pub const ON_TOP: u16 = 8;
/// From this width on there are trends, and bars in the overview are wide.
const WIDE: u16 = 130;
/// Narrowest and widest column.
const WIDTHS: std::ops::RangeInclusive<u16> = 3..=80;

/// What a column shows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum What {
    /// A metric.
    Metric(&'static Metric),
    /// The course of the ordering metric.
    Trend,
    /// How long the process has been near the top.
    NearTop,
}

/// Columns that are no metrics, with what they show.
pub const OWN: [(What, &str, &str); 2] = [
    (
        What::Trend,
        "trend",
        "Course of the ordering metric over the last samples, against the largest of the rows.",
    ),
    (
        What::NearTop,
        "near_top",
        "How long the process has been near the top of the order: who stays there is the culprit.",
    ),
];

impl What {
    /// Its name in a set of columns.
    pub fn alias(self) -> &'static str {
        match self {
            What::Metric(metric) => metric.alias,
            What::Trend => OWN[0].1,
            What::NearTop => OWN[1].1,
        }
    }

    /// What it means.
    pub fn help(self) -> &'static str {
        match self {
            What::Metric(metric) => metric.help,
            What::Trend => OWN[0].2,
            What::NearTop => OWN[1].2,
        }
    }

    /// What must be collected for it beyond the usual.
    pub fn needs(self) -> Option<Demand> {
        match self {
            What::Metric(metric) => metric.needs,
            What::Trend | What::NearTop => None,
        }
    }

    fn of(alias: &str) -> Result<What, NoSuchMetric> {
        if let Some((what, ..)) = OWN.iter().find(|(_, own, _)| *own == alias) {
            return Ok(*what);
        }
        process_metric(alias).map(What::Metric)
    }
}

/// A unit that a column may be shown in instead of the one that fits each value.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Scale {
    /// Its name.
    pub name: &'static str,
    /// So much of the metric's own unit.
    pub size: f64,
}

/// Units that columns of a metric may be shown in.
pub fn scales(unit: Unit) -> &'static [Scale] {
    const fn scale(name: &'static str, size: f64) -> Scale {
        Scale { name, size }
    }
    static BYTES: [Scale; 7] = [
        scale("B", 1.0),
        scale("KiB", 1024.0),
        scale("MiB", 1_048_576.0),
        scale("GiB", 1_073_741_824.0),
        scale("kB", 1e3),
        scale("MB", 1e6),
        scale("GB", 1e9),
    ];
    static CORES: [Scale; 1] = [scale("cores", 100.0)];
    static SECONDS: [Scale; 3] = [scale("s", 1.0), scale("min", 60.0), scale("h", 3600.0)];
    match unit {
        Unit::Bytes | Unit::BytesPerSecond => &BYTES,
        Unit::PercentOfCore => &CORES,
        Unit::Seconds => &SECONDS,
        _ => &[],
    }
}

/// A column as somebody wants it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Spec {
    /// What it shows.
    pub what: What,
    /// Its width in cells; what it needs where none is given.
    pub width: Option<u16>,
    /// Its unit; what fits each value where none is given.
    pub scale: Option<Scale>,
}

/// Columns from left to right. The command, where it is among them, stands last and takes what is left.
#[derive(Clone, Debug, PartialEq)]
pub struct ColumnSet(pub Vec<Spec>);

/// A set of columns that is not understood.
#[derive(Debug, thiserror::Error, PartialEq)]
pub enum ColumnsError {
    /// A column that does not exist.
    #[error("{0}; dozor metrics lists them")]
    Metric(#[from] NoSuchMetric),
    /// A width that is none.
    #[error("the width of {0} is a number of cells from 3 to 80, not '{1}'")]
    Width(&'static str, String),
    /// A unit that does not fit.
    #[error("{0} cannot be shown in '{1}'{2}")]
    Scale(&'static str, String, String),
    /// A column stands twice.
    #[error("{0} stands twice")]
    Twice(&'static str),
    /// No column at all.
    #[error("a set of columns needs at least one")]
    Empty,
}

impl Display for Spec {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(self.what.alias())?;
        match (self.width, self.scale) {
            (Some(width), Some(scale)) => write!(f, ":{width}:{}", scale.name),
            (Some(width), None) => write!(f, ":{width}"),
            (None, Some(scale)) => write!(f, ":{}", scale.name),
            (None, None) => Ok(()),
        }
    }
}

impl Display for ColumnSet {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let specs: Vec<String> = self.0.iter().map(ToString::to_string).collect();
        f.write_str(&specs.join(","))
    }
}

impl ColumnSet {
    /// Reads a set: aliases with commas between them, a width and a unit behind colons, as in `pid,rss:10:MiB,command`.
    pub fn parse(text: &str) -> Result<ColumnSet, ColumnsError> {
        let mut specs: Vec<Spec> = vec![];
        for word in text.split(',').map(str::trim).filter(|word| !word.is_empty()) {
            let mut parts = word.split(':').map(str::trim);
            let what = What::of(parts.next().unwrap_or_default())?;
            let mut spec = Spec { what, width: None, scale: None };
            for part in parts {
                if part.starts_with(|letter: char| letter.is_ascii_digit()) {
                    let width = part.parse().ok().filter(|width| WIDTHS.contains(width));
                    spec.width =
                        Some(width.ok_or_else(|| ColumnsError::Width(what.alias(), part.to_owned()))?);
                } else {
                    spec.scale = Some(scale_of(what, part)?);
                }
            }
            if specs.iter().any(|other| other.what == what) {
                return Err(ColumnsError::Twice(what.alias()));
            }
            specs.push(spec);
        }
        if specs.is_empty() { Err(ColumnsError::Empty) } else { Ok(ColumnSet(specs).settled()) }
    }

    /// The command stands last.
    fn settled(mut self) -> ColumnSet {
        self.0.cold_sort_by_key(|spec| spec.what.alias() == "command");
        self
    }

    /// The set that a lane, or the overview, has without anybody's doing.
    pub fn usual(lane: Option<Lane>) -> &'static ColumnSet {
        static SETS: LazyLock<HashMap<Option<Lane>, ColumnSet>> = LazyLock::new(|| {
            let places = Lane::ALL.map(Some).into_iter().chain([None]);
            places.map(|lane| (lane, ColumnSet::made_for(lane))).collect()
        });
        &SETS[&lane]
    }

    fn made_for(lane: Option<Lane>) -> ColumnSet {
        let text = lane.map_or_else(
            || OVERVIEW.to_owned(),
            |lane| {
                let (first, rest) = lane.columns().split_at(3);
                format!("pid,user,state,{},trend,near_top,{},command", first.join(","), rest.join(","))
            },
        );
        ColumnSet::parse(&text).unwrap_or_else(|error| unreachable!("{error}"))
    }

    /// The place of a column.
    pub fn find(&self, what: What) -> Option<usize> {
        self.0.iter().position(|spec| spec.what == what)
    }

    /// Shows a column behind the others, or takes it out; the last one stays.
    pub fn toggle(&mut self, what: What) {
        match self.find(what) {
            Some(at) if self.0.len() > 1 => drop(self.0.remove(at)),
            Some(_) => {}
            None => self.0.push(Spec { what, width: None, scale: None }),
        }
        *self = ColumnSet(std::mem::take(&mut self.0)).settled();
    }

    /// Moves a column to the left or to the right.
    pub fn shift(&mut self, what: What, right: bool) {
        let Some(at) = self.find(what) else { return };
        let other = if right { at + 1 } else { at.wrapping_sub(1) };
        if other < self.0.len() {
            self.0.swap(at, other);
        }
        *self = ColumnSet(std::mem::take(&mut self.0)).settled();
    }

    /// Makes a column wider or narrower.
    pub fn widen(&mut self, what: What, wider: bool) {
        let Some(at) = self.find(what) else { return };
        let now = self.0[at].width.unwrap_or_else(|| width(&self.0[at], false, 0));
        let then = if wider { now + 1 } else { now.saturating_sub(1) };
        self.0[at].width = Some(then.clamp(*WIDTHS.start(), *WIDTHS.end()));
    }

    /// Shows a column in its next unit.
    pub fn next_scale(&mut self, what: What) {
        let Some(at) = self.find(what) else { return };
        let What::Metric(metric) = what else { return };
        let scales = scales(metric.unit);
        let now = self.0[at].scale.and_then(|scale| scales.iter().position(|other| *other == scale));
        self.0[at].scale = scales.get(now.map_or(0, |now| now + 1)).copied();
    }
}

fn scale_of(what: What, name: &str) -> Result<Scale, ColumnsError> {
    let scales = match what {
        What::Metric(metric) => scales(metric.unit),
        _ => &[],
    };
    scales.iter().find(|scale| scale.name == name).copied().ok_or_else(|| {
        let hint = match nearest(name, scales.iter().map(|scale| scale.name)) {
            Some(near) => format!("; did you mean {near}?"),
            None if scales.is_empty() => "; it has one unit only".to_owned(),
            None => format!("; {}", scales.iter().map(|scale| scale.name).collect::<Vec<_>>().join(", ")),
        };
        ColumnsError::Scale(what.alias(), name.to_owned(), hint)
    })
}

/// One column at its place; columns are separated by two blanks.
#[derive(Clone, Copy, Debug)]
pub struct Column {
    /// What it shows.
    pub metric: &'static Metric,
    /// First cell, counted from the left edge of the table.
    pub x: u16,
    /// Cells.
    pub width: u16,
    /// Cells at its left that show the value against the largest of all rows; 0 for none.
    pub bar: u16,
    /// The resource whose hue the bar has.
    pub lane: Option<Lane>,
    /// The unit that it is shown in.
    pub scale: Option<Scale>,
}

impl Column {
    /// The heading, with its unit where it has one of its own.
    pub fn heading(&self) -> String {
        self.scale.map_or_else(|| self.metric.heading.to_owned(), |scale| heading_in(self.metric, scale))
    }
}

fn heading_in(metric: &Metric, scale: Scale) -> String {
    let bare = metric.heading.trim_end_matches("/s").trim_end_matches(" %");
    let per_second = if metric.unit == Unit::BytesPerSecond { "/s" } else { "" };
    format!("{bare} {}{per_second}", scale.name)
}

/// The heading of a metric, with what its shares are of.
pub fn heading(metric: &Metric, of_machine: bool) -> String {
    if metric.unit == Unit::PercentOfCore && of_machine {
        metric.heading.replace('%', "all%")
    } else {
        metric.heading.to_owned()
    }
}

/// A column that can have no value on a machine, and why: its room goes to others until it has one.
pub type Away = (&'static str, &'static str);

/// The columns that can have no value at the moment of a sample. `earlier`: those at the sample before it, where that is known.
pub fn away(sample: &Sample, earlier: Option<&[Away]>) -> Vec<Away> {
    let mut away = vec![];
    let processes = &sample.now.processes;
    // Where it was so of all, only those who did something since can be otherwise.
    let all = |alias: &str, is_so: fn(&ProcessRow) -> bool| {
        if earlier.is_some_and(|earlier| earlier.iter().any(|(known, _)| *known == alias)) {
            sample.active().iter().all(|at| is_so(&processes[*at]))
        } else {
            processes.iter().all(|row| is_so(row))
        }
    };
    let cores = &sample.now.cores;
    let sensor = cores.first().map(|core| core.sensor.clone());
    let one_for_all = cores.len() > 1 && cores.iter().all(|core| Some(&core.sensor) == sensor.as_ref());
    let none_tells = cores.iter().all(|core| core_temperature(sample, core.number).value().is_none());
    if !cores.is_empty() && (none_tells || one_for_all) {
        away.push(("core_temp", "no sensor tells the temperature of a core here"));
    }
    if processes.is_empty() {
        return away;
    }
    if all("disk_wait", |row| row.disk_wait_ticks == Raw::ABSENT) {
        away.push(("disk_wait", "the kernel does not count it (delay accounting is off)"));
    }
    // What is merely not collected at the moment is absent, not denied.
    if all("connections", |row| row.connections == Raw::DENIED) {
        away.push(("connections", "it may not be seen here; dozor access says what would allow it"));
    }
    away
}

/// What columns are fitted for.
#[derive(Clone, Copy, Debug, Default)]
pub struct Form {
    /// More room for the command, for trees.
    pub roomy: bool,
    /// Shares of CPU time are of the machine, which headings say.
    pub of_machine: bool,
}

/// Columns of the table, the trend and the command.
#[derive(Clone, Debug)]
pub struct Columns {
    /// Metrics from left to right; the command is the last of them and takes what is left.
    pub list: Vec<Column>,
    /// First cell and width of the trend, where there is room for it.
    pub trend: Option<(u16, u16)>,
    /// First cell of the time near the top.
    pub on_top: Option<u16>,
    /// So many columns of the set found no room.
    pub left_out: usize,
}

/// Cells that a column needs on a screen so wide.
fn width(spec: &Spec, of_machine: bool, screen: u16) -> u16 {
    let metric = match spec.what {
        What::Trend => return TREND[usize::from(screen >= BROAD)],
        What::NearTop => return ON_TOP,
        What::Metric(metric) => metric,
    };
    let least = match metric.alias {
        "pid" | "ppid" => 7,
        "state" | "user" => 8,
        "program" | "name" | "service" | "container" => 14,
        "nice" | "core" => 3,
        _ => metric.unit.width(),
    };
    let heading =
        spec.scale.map_or_else(|| heading(metric, of_machine), |scale| heading_in(metric, scale)).width();
    // One more cell than the heading, for the arrow of the order.
    let fits = least.max(heading + 1) as u16;
    spec.width.unwrap_or(fits)
}

/// The resource that a column of the overview stands for.
fn resource(metric: &Metric) -> Option<Lane> {
    Some(match metric.alias {
        "cpu" => Lane::Cpu,
        "rss" => Lane::Memory,
        "disk" => Lane::Disk,
        "net" => Lane::Network,
        _ => return None,
    })
}

/// What the trend shows: the ordering metric, or the lane's own where that one has no course.
pub fn trend_metric(lane: Option<Lane>, order: &'static Metric) -> &'static Metric {
    if order.unit.is_text() || order.unit == Unit::Time || matches!(order.alias, "pid" | "ppid") {
        lane.unwrap_or(Lane::Cpu).lens()
    } else {
        order
    }
}

/// Fits the columns of a set into a width, as far as there is room; the ordering column always.
///
pub fn fit(
    set: &ColumnSet,
    lane: Option<Lane>,
    order: &'static Metric,
    available: u16,
    form: Form,
    away: &[Away],
) -> Columns {
    let wanted = with_order(set, order);
    // The order has a column whatever is known of it.
    let is_away = |what: What| away.iter().any(|(alias, _)| what.alias() == *alias && *alias != order.alias);
    let screen = available;
    // The scroll bar stands at the right edge.
    let available = available.saturating_sub(1);
    let wide = available >= WIDE;
    let has_command = wanted.iter().any(|spec| spec.what.alias() == "command");
    let command = match has_command {
        false => 0,
        true if form.roomy => ROOMY_COMMAND.min(available / 4),
        true if lane.is_none() && available < 100 => SHORT_COMMAND,
        true => COMMAND,
    };
    let usual = set == ColumnSet::usual(lane);
    let mut columns = Columns { list: vec![], trend: None, on_top: None, left_out: 0 };
    let mut x = 2;
    // Room of columns that have no value here.
    let mut given = 0;
    for (at, spec) in wanted.iter().enumerate() {
        let metric = match spec.what {
            What::Metric(metric) => metric,
            // On a narrow screen numbers matter more, unless somebody asked for the trend.
            _ if usual && !wide => continue,
            own => {
                let width = width(spec, form.of_machine, screen);
                if x + given + width + 2 + command > available {
                    columns.left_out += 1;
                    continue;
                }
                if own == What::Trend {
                    columns.trend = Some((x, width));
                } else {
                    columns.on_top = Some(x);
                }
                x += width + 2;
                continue;
            }
        };
        if metric.alias == "command" {
            continue;
        }
        let gives_room = is_away(spec.what);
        let hue = if lane.is_none() { resource(metric) } else { None };
        let bar = match hue {
            Some(_) if wide => 5,
            Some(_) => 1,
            None => 0,
        };
        let width = width(spec, form.of_machine, screen) + if spec.width.is_some() { 0 } else { bar };
        let needed = x + given + width + 2 + command;
        // The first ones say who it is.
        if needed > available && at >= 3 && metric != order {
            columns.left_out += 1;
            continue;
        }
        // The room goes to the command, not to a column that had found none.
        if gives_room {
            given += width + 2;
            continue;
        }
        let bar = bar.min(width.saturating_sub(6));
        columns.list.push(Column { metric, x, width, bar, lane: hue, scale: spec.scale });
        x += width + 2;
    }
    if has_command {
        columns.list.push(Column {
            metric: listed("command"),
            x,
            width: available.saturating_sub(x),
            bar: 0,
            lane: None,
            scale: None,
        });
    }
    columns
}

/// The columns of a set, with one for the order: behind the names at the left.
fn with_order(set: &ColumnSet, order: &'static Metric) -> Vec<Spec> {
    let mut wanted = set.0.clone();
    if set.find(What::Metric(order)).is_none() {
        let numbers = |spec: &Spec| match spec.what {
            What::Metric(metric) => !metric.unit.is_text() && !matches!(metric.alias, "pid" | "ppid"),
            What::Trend | What::NearTop => true,
        };
        let at = wanted.iter().position(numbers).unwrap_or(wanted.len());
        let at = at.min(wanted.iter().position(|spec| spec.what.alias() == "command").unwrap_or(at));
        wanted.insert(at, Spec { what: What::Metric(order), width: None, scale: None });
    }
    wanted
}

/// Metrics whose alias, heading or meaning contains what is typed; matches in the alias come first.
pub fn metrics(typed: &str) -> Vec<&'static Metric> {
    let typed = typed.to_lowercase();
    let in_name = |metric: &&Metric| metric.alias.contains(&typed) || metric.heading.contains(&typed);
    let by_name = PROCESS_METRICS.iter().filter(in_name);
    let by_help = PROCESS_METRICS
        .iter()
        .filter(|metric| !in_name(metric) && metric.help.to_lowercase().contains(&typed));
    by_name.chain(by_help).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn columns_never_overlap_and_the_ordering_one_is_always_there() {
        let own = ColumnSet::parse("command,trend,pid,rss:10:MiB,state,cpu:cores,near_top").expect("a set");
        for lane in [None, Some(Lane::Disk), Some(Lane::Cpu), Some(Lane::Network)] {
            for set in [ColumnSet::usual(lane), &own] {
                for order in ["cpu", "priority", "write", "command", "switches_forced"] {
                    for available in 72..250 {
                        let order = listed(order);
                        let columns = fit(set, lane, order, available, Form::default(), &[]);
                        assert!(columns.list.iter().any(|column| column.metric == order));
                        for pair in columns.list.windows(2) {
                            assert!(pair[0].x + pair[0].width < pair[1].x);
                        }
                        let fits = |last: &Column| last.x + last.width <= available.max(last.x);
                        assert!(columns.list.last().is_some_and(fits));
                    }
                }
            }
        }
    }

    #[test]
    fn the_overview_has_a_cell_for_each_resource_even_on_a_narrow_screen() {
        let columns = fit(ColumnSet::usual(None), None, listed("cpu"), 80, Form::default(), &[]);
        let aliases: Vec<_> = columns.list.iter().map(|column| column.metric.alias).collect();
        assert_eq!(aliases, ["pid", "user", "state", "cpu", "rss", "disk", "net", "command"]);
    }

    #[test]
    fn a_set_is_read_as_it_is_written_and_mistakes_are_named() {
        let set = ColumnSet::parse(" command, pid, rss:10:MiB ,cpu:cores,trend ").expect("a set");
        assert_eq!(set.to_string(), "pid,rss:10:MiB,cpu:cores,trend,command");
        assert_eq!(
            fit(&set, None, listed("rss"), 120, Form { roomy: true, of_machine: false }, &[]).list[1]
                .heading(),
            "rss MiB"
        );
        let wrong = |text: &str| ColumnSet::parse(text).expect_err(text).to_string();
        assert_eq!(
            wrong("pid,rsss"),
            "no process metric is called 'rsss'; did you mean 'rss'?; dozor metrics lists them"
        );
        assert_eq!(wrong("rss:2"), "the width of rss is a number of cells from 3 to 80, not '2'");
        assert_eq!(wrong("rss:Mib"), "rss cannot be shown in 'Mib'; did you mean MiB?");
        assert_eq!(wrong("pid:MiB"), "pid cannot be shown in 'MiB'; it has one unit only");
        assert_eq!(wrong("pid,cpu,pid"), "pid stands twice");
        assert_eq!(wrong(" , "), "a set of columns needs at least one");
    }

    #[test]
    fn a_column_without_a_value_gives_its_room_away_until_it_has_one() {
        use dozor_core::reading::{CoreRow, HostFacts, Reading, raw};
        use std::sync::Arc;
        let sample = |ticks: Raw, connections: Raw| {
            let row =
                ProcessRow { pid: raw(7), disk_wait_ticks: ticks, connections, ..ProcessRow::default() };
            let cores = vec![CoreRow { number: raw(0), ..CoreRow::default() }];
            let reading = Reading { processes: vec![Arc::new(row)], cores, ..Reading::default() };
            Sample::new(Arc::new(HostFacts::default()), None, Arc::new(reading))
        };
        let names =
            |sample: &Sample| away(sample, None).into_iter().map(|(alias, _)| alias).collect::<Vec<_>>();
        assert_eq!(names(&sample(Raw::ABSENT, Raw::DENIED)), ["core_temp", "disk_wait", "connections"]);
        let known = sample(raw(0), Raw::ABSENT);
        // Of one that follows only those who did something are looked at.
        let next = |ticks: Raw| {
            let before = sample(Raw::ABSENT, Raw::DENIED).now.clone();
            Sample::new(Arc::default(), Some(before), sample(ticks, Raw::DENIED).now.clone())
        };
        let earlier = away(&sample(Raw::ABSENT, Raw::DENIED), None);
        let after = |ticks: Raw| away(&next(ticks), Some(&earlier)).len();
        assert_eq!((after(Raw::ABSENT), after(raw(4))), (3, 2));
        assert_eq!(names(&known), ["core_temp"], "what was not collected yet is not away");
        let set = ColumnSet::parse("pid,core_temp,cpu,command").expect("a set");
        let shown = |order: &'static Metric| {
            let columns = fit(&set, None, order, 100, Form::default(), &away(&known, None));
            columns.list.iter().map(|column| column.metric.alias).collect::<Vec<_>>()
        };
        assert_eq!(shown(listed("cpu")), ["pid", "cpu", "command"]);
        assert_eq!(shown(listed("core_temp")), ["pid", "core_temp", "cpu", "command"], "the order is shown");
    }

    proptest! {
        #[test]
        fn whatever_is_done_to_a_set_it_is_read_back_equal(steps in proptest::collection::vec((0u8..5, 0usize..40, any::<bool>()), 0..40)) {
            let mut set = ColumnSet::usual(None).clone();
            for (step, at, way) in steps {
                let metrics = PROCESS_METRICS;
                let what = if at == 0 { What::Trend } else { What::Metric(&metrics[at % metrics.len()]) };
                match step {
                    0 | 1 => set.toggle(what),
                    2 => set.shift(what, way),
                    3 => set.widen(what, way),
                    _ => set.next_scale(what),
                }
                prop_assert!(!set.0.is_empty());
                prop_assert_eq!(ColumnSet::parse(&set.to_string()), Ok(set.clone()));
            }
        }
    }

    #[test]
    fn metrics_are_found_by_alias_before_meaning() {
        let found = |typed: &str| metrics(typed).iter().map(|metric| metric.alias).collect::<Vec<_>>();
        assert_eq!(found("swap"), ["swap"]);
        assert_eq!(found("zombie")[0], "state");
        assert_eq!(found("").len(), PROCESS_METRICS.len());
    }
}
