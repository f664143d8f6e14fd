//! The tables: which columns each has, and how a sample fills them.

use super::{Batch, Column, Filled, Type};
use dozor_core::catalogue::{Eval, Instances, Metric, PROCESS_METRICS, SYSTEM_METRICS, Value, listed};
use dozor_core::exited::exited;
use dozor_core::findings::{Finding, History};
use dozor_core::known::{Known, Raw};
use dozor_core::rank::{Narrowing, Order, Population, RowRef};
use dozor_core::reading::with_pid;
use dozor_core::recording::Mark;
use dozor_core::sample::Sample;
use dozor_core::text::Text;
use dozor_core::timeline::Reach;
use std::collections::BTreeMap;

/// Which table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which {
    /// A row for each process and sample.
    Processes,
    /// A row for each sample.
    System,
    /// A row for each core, device, interface, … and sample.
    Parts,
    /// A row for each TCP connection and sample.
    Connections,
    /// A row for each action, note and loss.
    Actions,
    /// A row for each finding.
    Findings,
}

impl Which {
    /// All of them.
    pub const ALL: [Which; 6] =
        [Which::Processes, Which::System, Which::Parts, Which::Connections, Which::Actions, Which::Findings];

    /// Its name.
    pub const fn name(self) -> &'static str {
        match self {
            Which::Processes => "processes",
            Which::System => "system",
            Which::Parts => "parts",
            Which::Connections => "connections",
            Which::Actions => "actions",
            Which::Findings => "findings",
        }
    }

    /// What a row is.
    pub const fn help(self) -> &'static str {
        match self {
            Which::Processes => {
                "A row for each process in each sample; those that are just gone, and programs that came and went between two readings, are among them."
            }
            Which::System => "A row for each sample: the metrics of the machine that have no instances.",
            Which::Parts => {
                "A row for each core, device, file system, interface, sensor, … in each sample. A row has values in the columns of its own part only."
            }
            Which::Connections => {
                "A row for each TCP connection in each sample, as far as they were recorded."
            }
            Which::Actions => {
                "A row for each target of an action, and one for each bookmark, note and loss of readings."
            }
            Which::Findings => {
                "A row for each finding: what stood out, from when to when, who did it, with the numbers that spoke for it when it was worst. `time` is its beginning."
            }
        }
    }

    /// What of a recording is decoded for it.
    pub fn reach(self, metrics: &[&'static Metric]) -> Reach {
        match self {
            Which::Processes | Which::Connections | Which::Findings => Reach::All,
            Which::Actions => Reach::Machine,
            Which::System | Which::Parts => {
                metrics.iter().map(|metric| Reach::of(metric)).reduce(Reach::and).unwrap_or(Reach::Machine)
            }
        }
    }
}

/// Metrics of a process that stand in its table where nobody says which.
const USUAL: [&str; 29] = [
    "pid",
    "ppid",
    "name",
    "program",
    "command",
    "user",
    "state",
    "service",
    "container",
    "cpu",
    "cpu_user",
    "cpu_system",
    "cpu_time",
    "threads",
    "core",
    "nice",
    "rss",
    "swap",
    "faults_major",
    "read",
    "write",
    "read_calls",
    "write_calls",
    "disk_wait",
    "net_in",
    "net_out",
    "connections",
    "files",
    "start",
];

const TIME: Column = Column::new("time", Type::Time, "", "The instant of the sample.");
const SECONDS: Column = Column::new(
    "seconds",
    Type::Number,
    "s",
    "The time that the sample covers: rates are means over it. Unknown after a gap.",
);
const PART: Column =
    Column::new("part", Type::Text, "", "What kind of part it is: core, disk, fs, net, sensor, …");
const NAME: Column = Column::new("name", Type::Text, "", "Which of them.");

const CONNECTIONS: [Column; 7] = [
    Column::new("protocol", Type::Text, "", "Always tcp."),
    Column::new("local", Type::Text, "", "Address and port on this side."),
    Column::new("remote", Type::Text, "", "Address and port on the other side."),
    Column::new("pid", Type::Whole, "", "The process that holds it; unknown where none was found."),
    Column::new("name", Type::Text, "", "Its name."),
    Column::new("in", Type::Number, "bytes/s", "Bytes received."),
    Column::new("out", Type::Number, "bytes/s", "Bytes sent."),
];

const ACTIONS: [Column; 12] = [
    Column::new("kind", Type::Text, "", "action, bookmark, note or lost."),
    Column::new("text", Type::Text, "", "In words."),
    Column::new("deed", Type::Text, "", "What was done, of an action."),
    Column::new("by", Type::Text, "", "The user who did it."),
    Column::new("pid", Type::Whole, "", "PID of the target."),
    Column::new("name", Type::Text, "", "Its name."),
    Column::new("user", Type::Text, "", "Its user."),
    Column::new("before", Type::Text, "", "How it was before."),
    Column::new("after", Type::Text, "", "How it was afterwards, as read back."),
    Column::new("outcome", Type::Text, "", "What became of it."),
    Column::new("done", Type::Whole, "", "1 where what was wanted is so, else 0."),
    Column::new("readings", Type::Whole, "", "Readings that were lost, where that is known."),
];

const FINDINGS: [Column; 12] = [
    Column::new("until", Type::Time, "", "When it was last so."),
    Column::new("over", Type::Whole, "", "1 where it was over before the last sample, else 0."),
    Column::new("rule", Type::Text, "", "The rule that found it; docs/findings.md lists them."),
    Column::new("severity", Type::Text, "", "How bad it was at worst: notice, warning or critical."),
    Column::new("lane", Type::Text, "", "The resource that it is about."),
    Column::new("subject", Type::Text, "", "Which device, group or process, where there are several."),
    Column::new("sentence", Type::Text, "", "In one sentence, as it was at worst."),
    Column::new("pid", Type::Whole, "", "The process that did it, where it was one."),
    Column::new("culprit", Type::Text, "", "Who did it."),
    Column::new("share", Type::Number, "%", "Its share of what was measured for the machine."),
    Column::new("evidence", Type::Text, "", "Metrics with their values."),
    Column::new("explained_by", Type::Text, "", "The rule of the finding that it is a consequence of."),
];

/// What is wanted of a table.
#[derive(Clone, Debug, Default)]
pub struct Chosen {
    /// Metrics; none for the usual ones.
    pub metrics: Option<Vec<&'static Metric>>,
    /// Which processes.
    pub narrowing: Narrowing,
    /// Their order within a sample; none for that of their PIDs.
    pub order: Option<Order>,
    /// At most so many of them in a sample.
    pub limit: Option<usize>,
}

/// A table that is filled.
pub struct Table {
    which: Which,
    columns: Vec<Column>,
    metrics: Vec<&'static Metric>,
    chosen: Chosen,
}

/// The kind of part that a metric of the machine is of: the beginning of its alias.
fn part_of(metric: &Metric) -> &'static str {
    match metric.alias.split('.').next().unwrap_or_default() {
        // Frequencies are of cores.
        "cpu" => "core",
        "wifi" => "net",
        first => first,
    }
}

impl Table {
    /// A table with the columns that are wanted; what is wrong where one of them is not of it.
    pub fn new(which: Which, chosen: Chosen) -> Result<Table, String> {
        let has_instances = |metric: &Metric| metric.instance_attribute().is_some();
        let of_table = |metric: &Metric| match which {
            Which::Processes => matches!(metric.eval, Eval::Process(_)),
            Which::System => matches!(metric.eval, Eval::System(_)) && !has_instances(metric),
            Which::Parts => matches!(metric.eval, Eval::System(_)) && has_instances(metric),
            Which::Connections | Which::Actions | Which::Findings => false,
        };
        let metrics: Vec<&'static Metric> = match &chosen.metrics {
            Some(metrics) => {
                if let Some(wrong) = metrics.iter().find(|metric| !of_table(metric)) {
                    return Err(format!("{} is no column of the table of {}", wrong.alias, which.name()));
                }
                metrics.clone()
            }
            None => match which {
                Which::Processes => USUAL.iter().map(|alias| listed(alias)).collect(),
                _ => SYSTEM_METRICS.iter().filter(|metric| of_table(metric)).collect(),
            },
        };
        let mut columns = vec![TIME];
        match which {
            Which::Processes | Which::System => columns.push(SECONDS),
            Which::Parts => columns.extend([SECONDS, PART, NAME]),
            Which::Connections => {
                columns.push(SECONDS);
                columns.extend(CONNECTIONS);
            }
            Which::Actions => columns.extend(ACTIONS),
            Which::Findings => columns.extend(FINDINGS),
        }
        columns.extend(metrics.iter().map(|metric| Column::of(metric)));
        Ok(Table { which, columns, metrics, chosen })
    }

    /// All columns that a table can have.
    pub fn all_columns(which: Which) -> Vec<Column> {
        let metrics = match which {
            Which::Processes => Some(PROCESS_METRICS.iter().collect()),
            _ => None,
        };
        Table::new(which, Chosen { metrics, ..Chosen::default() })
            .map(|table| table.columns)
            .unwrap_or_default()
    }

    /// Its columns.
    pub fn columns(&self) -> &[Column] {
        &self.columns
    }

    /// Which table it is.
    pub fn which(&self) -> Which {
        self.which
    }

    /// What of a recording is decoded for it.
    pub fn reach(&self) -> Reach {
        self.which.reach(&self.metrics)
    }

    /// Adds the rows of a sample.
    pub fn fill(&mut self, sample: &Sample, batch: &mut Batch) {
        match self.which {
            Which::Processes => self.processes(sample, batch),
            Which::System => {
                Table::begin(sample, batch);
                for (metric, column) in self.metrics.iter().zip(&mut batch.columns[2..]) {
                    match metric.of_system(sample) {
                        Instances::One(value) => column.value(value, Type::Number),
                        Instances::Many(_) => column.absent(),
                    }
                }
                batch.rows += 1;
            }
            Which::Parts => self.parts(sample, batch),
            Which::Connections => Table::connections(sample, batch),
            Which::Actions | Which::Findings => {}
        }
    }

    /// Adds the rows of what happened.
    pub fn fill_marks(marks: &[Mark], batch: &mut Batch) {
        for mark in marks {
            if mark.deeds.is_empty() {
                fill_mark(mark, None, batch);
            }
            for deed in &mark.deeds {
                fill_mark(mark, Some(deed), batch);
            }
        }
    }

    /// Adds the rows of findings that stood in a span, in nanoseconds since 1970 (UTC), or only of those that began in it, so that
    /// spans that follow each other have none twice.
    pub fn fill_findings(history: &History, (from_ns, until_ns): (i64, i64), begun: bool, batch: &mut Batch) {
        let within = |one: &&Finding| {
            one.from_ns <= until_ns && if begun { one.from_ns >= from_ns } else { one.until_ns >= from_ns }
        };
        for one in history.all().iter().filter(within) {
            fill_finding(history, one, batch);
        }
    }

    fn begin(sample: &Sample, batch: &mut Batch) {
        batch.columns[0].whole(sample.now.wall_ns());
        match sample.seconds() {
            Some(seconds) => batch.columns[1].number(seconds),
            None => batch.columns[1].absent(),
        }
    }

    fn processes(&mut self, sample: &Sample, batch: &mut Batch) {
        self.chosen.narrowing.follow(sample);
        let gone = exited(sample);
        let population = Population::new(sample, &gone);
        let rows = if self.chosen.narrowing.is_empty() && self.chosen.order.is_none() {
            population.all().take(self.chosen.limit.unwrap_or(usize::MAX)).collect()
        } else {
            chosen_rows(&population, &self.chosen)
        };
        for row in rows {
            Table::begin(sample, batch);
            let view = population.view(row);
            for (place, metric) in self.metrics.iter().enumerate() {
                let kind = self.columns[place + 2].kind;
                batch.columns[place + 2].bounded(metric.bounded(&view), kind);
            }
            batch.rows += 1;
        }
    }

    fn parts(&self, sample: &Sample, batch: &mut Batch) {
        const BEFORE: usize = 4;
        let mut rows: BTreeMap<(&'static str, Text), Vec<(usize, Value)>> = BTreeMap::new();
        for (place, metric) in self.metrics.iter().enumerate() {
            if let Instances::Many(values) = metric.of_system(sample) {
                for (name, value) in values {
                    rows.entry((part_of(metric), name)).or_default().push((place, value));
                }
            }
        }
        for ((part, name), values) in rows {
            Table::begin(sample, batch);
            batch.columns[2].text(dozor_core::text::word(part));
            batch.columns[3].text(name);
            let mut values = values.into_iter().peekable();
            for (place, column) in batch.columns[BEFORE..].iter_mut().enumerate() {
                match values.next_if(|(at, _)| *at == place) {
                    Some((_, value)) => column.value(value, Type::Number),
                    None => column.absent(),
                }
            }
            batch.rows += 1;
        }
    }

    fn connections(sample: &Sample, batch: &mut Batch) {
        let known = |known: Known<f64>, column: &mut Filled| column.value(Value::from(known), Type::Number);
        for connection in sample.parts(|reading| &reading.connections[..]) {
            Table::begin(sample, batch);
            let pid = connection.now.pid;
            let [_, _, protocol, local, remote, holder, name, received, sent] = &mut batch.columns[..] else {
                return;
            };
            protocol.text(dozor_core::text::word("tcp"));
            local.text(connection.now.local.clone());
            remote.text(connection.now.remote.clone());
            match pid.value() {
                Some(pid) => holder.whole(pid),
                None if pid == Raw::DENIED => holder.denied(),
                None => holder.absent(),
            }
            let process = pid.value().and_then(|pid| with_pid(&sample.now.processes, pid));
            match process {
                Some(row) => name.text(row.name.clone()),
                None => name.absent(),
            }
            known(connection.rate(|c| c.in_bytes), received);
            known(connection.rate(|c| c.out_bytes), sent);
            batch.rows += 1;
        }
    }
}

/// The processes that are meant, in order; those who are just gone, or came and went between two readings, among them.
pub fn chosen_rows(population: &Population<'_>, chosen: &Chosen) -> Vec<RowRef> {
    let narrowing = &chosen.narrowing;
    let (here, gone) = (narrowing.at(population.here), narrowing.at(population.gone));
    let kept = |row: RowRef| {
        let filter = if matches!(row, RowRef::Gone(_)) { &gone } else { &here };
        filter.matches(&population.view(row)) == Some(true)
    };
    let mut rows = match &chosen.order {
        Some(order) => population.ordered_of(&kept, order),
        None => population.all().filter(|row| kept(*row)).collect(),
    };
    rows.truncate(chosen.limit.unwrap_or(usize::MAX));
    rows
}

fn fill_mark(mark: &Mark, deed: Option<&dozor_core::deed::Record>, batch: &mut Batch) {
    let [time, kind, text, what, by, pid, name, user, before, after, outcome, done, readings] =
        &mut batch.columns[..]
    else {
        return;
    };
    let put = |column: &mut Filled, text: Option<&str>| match text.filter(|text| !text.is_empty()) {
        Some(text) => column.text(Text::from(text)),
        None => column.absent(),
    };
    time.whole(mark.wall_ns);
    kind.text(dozor_core::text::word(mark.kind.word()));
    put(text, Some(&mark.text));
    put(what, deed.map(|deed| deed.deed.as_str()));
    put(by, deed.map(|deed| deed.by.as_str()));
    match deed {
        Some(deed) => pid.whole(deed.pid),
        None => pid.absent(),
    }
    put(name, deed.map(|deed| deed.name.as_str()));
    put(user, deed.map(|deed| deed.user.as_str()));
    put(before, deed.map(|deed| deed.before.as_str()));
    put(after, deed.map(|deed| deed.after.as_str()));
    put(outcome, deed.map(|deed| deed.outcome.as_str()));
    match deed {
        Some(deed) => done.whole(i64::from(deed.done)),
        None => done.absent(),
    }
    match mark.readings {
        Some(count) => readings.whole(i64::try_from(count).unwrap_or(i64::MAX)),
        None => readings.absent(),
    }
    batch.rows += 1;
}

fn fill_finding(history: &History, one: &Finding, batch: &mut Batch) {
    let [time, until, over, rule, severity, lane, subject, sentence, pid, culprit, share, evidence, under] =
        &mut batch.columns[..]
    else {
        return;
    };
    let put = |column: &mut Filled, text: &str| match text {
        "" => column.absent(),
        text => column.text(Text::from(text)),
    };
    let told = one.worst_told();
    let main = told.culprits.first();
    time.whole(one.from_ns);
    until.whole(one.until_ns);
    over.whole(i64::from(one.over));
    put(rule, one.about.name);
    put(severity, one.worst.word());
    put(lane, one.about.lane.name());
    put(subject, &one.subject);
    put(sentence, &told.sentence);
    match main.and_then(|main| main.pid) {
        Some(number) => pid.whole(number),
        None => pid.absent(),
    }
    put(culprit, main.map_or("", |main| &main.name));
    match main.and_then(|main| main.share) {
        Some(part) => share.number(part),
        None => share.absent(),
    }
    let numbers: Vec<String> =
        told.evidence.iter().map(|one| format!("{} {}", one.metric, one.text)).collect();
    put(evidence, &numbers.join("; "));
    let cause = one.under.and_then(|(number, _)| history.find(number));
    put(under, cause.map_or("", |cause| cause.about.name));
    batch.rows += 1;
}
