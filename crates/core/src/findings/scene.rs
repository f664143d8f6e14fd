//! One sample as the rules look at it: what is dear to find out is found out once, and only of processes that did something.

use super::culprit::Culprit;
use super::limit::{Adjusted, Limit};
use crate::catalogue::{Kind, Metric, Value, cpu_busy, cpu_share, listed};
use crate::exited::{exited, is_gathered};
use crate::known::Raw;
use crate::limits;
use crate::rank::{Population, RowRef};
use crate::reading::{ProcessKey, ProcessRow, with_pid};
use crate::row::Row as _;
use crate::sample::{ProcessView, Sample};
use crate::sorting::ColdSort as _;
use crate::text::Text;
use std::cell::{Cell, OnceCell};
use std::collections::HashMap;

/// Part of the harm from which on somebody is named for it: to be the largest of many is no evidence.
pub const MAIN: f64 = 0.2;

/// One sample, with what several rules need of it.
pub struct Scene<'a> {
    /// The sample.
    pub sample: &'a Sample,
    /// Seconds that it covers.
    pub seconds: f64,
    adjusted: &'a Adjusted,
    /// The rule that looks, whose limits these are.
    rule: Cell<&'static str>,
    /// Places of processes whose row is another one than before: who did nothing has the same.
    pub active: &'a [usize],
    /// Processes that are not there any more.
    pub ended: Vec<ProcessKey>,
    gone: OnceCell<Sample>,
    cpu: OnceCell<Ranking>,
    /// Parents of those who ended, by PID.
    parents: OnceCell<HashMap<i64, i64>>,
}

/// Who has most of a metric.
#[derive(Default)]
pub struct Ranking {
    /// What all have together.
    pub total: f64,
    /// Programs by what they have, the most first.
    programs: Vec<Share>,
}

struct Share {
    name: Text,
    value: f64,
    /// What each of it has.
    values: Vec<f64>,
    most: (RowRef, f64),
}

impl Share {
    /// How many of it have something to speak of.
    fn count(&self) -> usize {
        /// Below this part of the largest one a process does not count.
        const LITTLE: f64 = 0.1;
        self.values.iter().filter(|value| **value >= LITTLE * self.most.1).count()
    }
}

impl<'a> Scene<'a> {
    /// The scene of a sample that has rates.
    pub fn new(sample: &'a Sample, adjusted: &'a Adjusted) -> Option<Scene<'a>> {
        let (before, seconds) = (sample.before.as_deref()?, sample.seconds()?);
        let active = sample.active();
        Some(Scene {
            sample,
            seconds,
            adjusted,
            rule: Cell::new(""),
            active,
            ended: sample.gone_places().map(|place| before.processes[place].key()).collect(),
            gone: OnceCell::new(),
            cpu: OnceCell::new(),
            parents: OnceCell::new(),
        })
    }

    /// From here on a rule looks.
    pub fn for_rule(&self, rule: &'static str) {
        self.rule.set(rule);
    }

    /// A limit of one value.
    pub fn one(&self, limit: &Limit) -> f64 {
        let [value] = self.adjusted.values(self.rule.get(), limit);
        value
    }

    /// A limit of two values.
    pub fn two(&self, limit: &Limit) -> [f64; 2] {
        self.adjusted.values(self.rule.get(), limit)
    }

    /// A limit of three values, for notice, warning and critical.
    pub fn three(&self, limit: &Limit) -> [f64; 3] {
        self.adjusted.values(self.rule.get(), limit)
    }

    /// Those who are just gone or came and went.
    pub fn gone(&self) -> &Sample {
        self.gone.get_or_init(|| exited(self.sample))
    }

    /// Cores of the machine.
    pub fn cores(&self) -> f64 {
        f64::from(self.sample.host.cores.max(1))
    }

    /// Processes that did something, as the catalogue sees them.
    pub fn doers(&self) -> impl Iterator<Item = ProcessView<'a>> + '_ {
        self.active.iter().map(|at| self.sample.process(*at)).filter(|view| view.now.pid.value().is_some())
    }

    /// Who has most of a metric. Of a rate only who did something can have any.
    pub fn ranking(&self, alias: &'static str) -> Ranking {
        self.rank(listed(alias))
    }

    fn rank(&self, metric: &Metric) -> Ranking {
        let population = Population::new(self.sample, self.gone());
        let is_rate = metric.kind == Kind::Rate;
        let rows: Vec<RowRef> = if is_rate {
            let gone = population.all().filter(|row| !matches!(row, RowRef::Here(_)));
            self.active.iter().map(|at| RowRef::Here(*at)).chain(gone).collect()
        } else {
            population.all().collect()
        };
        let mut programs: HashMap<&Text, Share> = HashMap::new();
        let mut total = 0.0;
        for row in rows {
            let view = population.view(row);
            let Value::Number(value) = metric.of(&view) else { continue };
            if value <= 0.0 {
                continue;
            }
            total += value;
            let share = programs.entry(&view.now.name).or_insert_with(|| Share {
                name: view.now.name.clone(),
                value: 0.0,
                values: vec![],
                most: (row, 0.0),
            });
            share.value += value;
            share.values.push(value);
            if value > share.most.1 {
                share.most = (row, value);
            }
        }
        let mut programs: Vec<Share> = programs.into_values().collect();
        programs.cold_sort_by(|a, b| b.value.total_cmp(&a.value).then_with(|| a.name.cmp(&b.name)));
        programs.truncate(8);
        Ranking { total, programs }
    }

    /// Who still lives of a process and those who started it, the nearest first. Who is left with the first process of all has
    /// lost who started him.
    pub fn living(&self, pid: i64) -> Option<Culprit> {
        const FAR: usize = 16;
        let parents = self.parents.get_or_init(|| {
            let ended = self.sample.now.ended.iter();
            ended.filter_map(|row| Some((row.pid.value()?, row.ppid.value()?))).collect()
        });
        let before = self.sample.before.as_deref();
        let mut at = pid;
        for _ in 0..FAR {
            if let Some(row) = with_pid(&self.sample.now.processes, at) {
                return (at > 1 || at == pid).then(|| who(row));
            }
            let earlier = || with_pid(&before?.processes, at)?.ppid.value();
            at = parents.get(&at).copied().or_else(earlier).filter(|parent| *parent > 0 && *parent != at)?;
        }
        None
    }

    /// Why nobody is named who reads or writes, where that of some processes is hidden from who looks: what would tell.
    pub fn hidden_io(&self) -> &'static str {
        if self.sample.now.processes.iter().any(|row| row.read_bytes == Raw::DENIED) {
            " It may be a process whose I/O only root can see (dozor access)."
        } else {
            ""
        }
    }

    /// How long a process has been there, in seconds.
    pub fn age(&self, row: &ProcessRow) -> f64 {
        let per_second = f64::from(self.sample.host.ticks_per_second.max(1));
        let start = row.start_ticks.float().value().unwrap_or(0.0) / per_second;
        (self.sample.now.boot_ns() as f64 / 1e9 - start).max(0.0)
    }

    /// Who uses the CPU.
    pub fn cpu_users(&self) -> &Ranking {
        self.cpu.get_or_init(|| self.rank(listed("cpu")))
    }

    /// CPU time in use, in percent of one core.
    pub fn cpu_in_use(&self) -> f64 {
        cpu_busy(self.sample).value().unwrap_or(0.0) * self.cores()
    }

    /// Share of all CPU time that nice processes used, in percent.
    pub fn nice_share(&self) -> f64 {
        cpu_share(self.sample, |core| core.nice).value().unwrap_or(0.0)
    }

    /// The main users out of a ranking: those with a tenth of all or more, at most three, with their share of `all` where
    /// that is given, else of what all of them have together. One with most of its program's is named alone.
    pub fn culprits(&self, ranking: &Ranking, all: Option<f64>) -> Vec<Culprit> {
        const ALONE: f64 = 0.6;
        let population = Population::new(self.sample, self.gone());
        let whole = all.unwrap_or(ranking.total).max(ranking.total).max(f64::MIN_POSITIVE);
        if ranking.programs.first().is_none_or(|share| share.value < MAIN * whole) {
            return vec![];
        }
        let worth = ranking.programs.iter().filter(|share| share.value >= 0.1 * whole).take(3);
        let named = worth.map(|share| {
            let (row, most) = share.most;
            let view = population.view(row);
            let count = share.count();
            if most >= ALONE * share.value || count == 1 {
                Culprit { share: Some(most / whole * 100.0), ..who(view.now) }
            } else {
                Culprit {
                    share: Some(share.value / whole * 100.0),
                    ..Culprit::thing(format!("{} ×{count}", share.name))
                }
            }
        });
        named.collect()
    }

    /// Processes of a control group and of those below it.
    pub fn members<'b>(&'b self, path: &'b str) -> impl Iterator<Item = ProcessView<'a>> + 'b {
        let all = 0..self.sample.now.processes.len();
        all.map(|at| self.sample.process(at)).filter(move |view| is_member(view, path))
    }
}

impl Ranking {
    /// The largest share of one program, in percent.
    pub fn largest(&self) -> f64 {
        self.programs.first().map_or(0.0, |share| share.value / self.total.max(f64::MIN_POSITIVE) * 100.0)
    }
}

/// Whether a process is in a control group or in one below it.
pub fn is_member(view: &ProcessView<'_>, path: &str) -> bool {
    limits::groups(view).any(|group| &*group.now.path == path)
}

/// A process as one who does something.
pub fn who(row: &ProcessRow) -> Culprit {
    let key = row.key();
    if is_gathered(key) || row.pid.value().is_none() {
        let name = row.command.split(',').next().unwrap_or("").to_owned();
        return Culprit::thing(if name.is_empty() { row.name.to_string() } else { name });
    }
    Culprit {
        pid: Some(key.pid),
        start: Some(key.start),
        name: format!("{}[{}]", row.name, key.pid),
        share: None,
    }
}

/// A sentence's end that names the main one: ` stacker[3820] writes 82 % of it.`
pub fn does(culprits: &[Culprit], one: &str, many: &str, of_what: &str) -> String {
    let Some(first) = culprits.first() else { return String::new() };
    let verb = if first.name.contains(" ×") { many } else { one };
    let share = first.share.map_or(String::new(), |share| format!(" {share:.0} %"));
    format!(" {} {verb}{share} {of_what}.", first.name)
}
