//! What somebody wants to see over time: `disk.busy{sda}`, `cpu@stacker`, `rss@4711`, `write`.

use crate::catalogue::{Eval, Metric, named};
use crate::reading::ProcessKey;
use crate::sample::ProcessView;

/// Of what.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Of {
    /// The machine; of a metric with instances each of them; of processes all together, or each program where a chart shows parts.
    All,
    /// One core, device, interface or sensor.
    Instance(String),
    /// All processes of a program or name.
    Program(String),
    /// The process with this PID, whoever has it.
    Pid(i64),
    /// This process.
    Process(ProcessKey),
}

/// A metric, and of what.
#[derive(Clone, Debug, PartialEq)]
pub struct Wish {
    /// The metric.
    pub metric: &'static Metric,
    /// Of what.
    pub of: Of,
}

impl Wish {
    /// Reads `METRIC`, `METRIC{instance}`, `METRIC@program` or `METRIC@PID`; else what is wrong with it.
    pub fn parse(text: &str) -> Result<Wish, String> {
        let text = text.trim();
        if let Some((name, rest)) = text.split_once('{') {
            let metric = named(name.trim())?;
            let instance = rest.strip_suffix('}').ok_or_else(|| format!("'{text}' needs a }} at its end"))?;
            if matches!(metric.eval, Eval::Process(_)) {
                return Err(format!(
                    "{} is a metric of processes and has no instances; {}@PROGRAM is that of a program",
                    metric.alias, metric.alias
                ));
            }
            return Wish { metric, of: Of::Instance(instance.trim_matches('"').to_owned()) }.drawn();
        }
        let Some((name, who)) = text.split_once('@') else {
            return Wish { metric: named(text)?, of: Of::All }.drawn();
        };
        let metric = named(name.trim())?;
        if matches!(metric.eval, Eval::System(_)) {
            return Err(format!("{} is a metric of the machine, so @{who} has none", metric.alias));
        }
        if who.is_empty() {
            return Err(format!("a program or a PID is missing behind '{text}'"));
        }
        let of = who.parse().map_or_else(|_| Of::Program(who.to_owned()), Of::Pid);
        Wish { metric, of }.drawn()
    }

    /// Only numbers can be drawn.
    fn drawn(self) -> Result<Wish, String> {
        if self.metric.unit.is_text() {
            return Err(format!("{} is a text, which no chart can show", self.metric.alias));
        }
        Ok(self)
    }

    /// As it is typed.
    pub fn text(&self) -> String {
        let alias = self.metric.alias;
        match &self.of {
            Of::All => alias.to_owned(),
            Of::Instance(name) => format!("{alias}{{{name}}}"),
            Of::Program(name) => format!("{alias}@{name}"),
            Of::Pid(pid) | Of::Process(ProcessKey { pid, .. }) => format!("{alias}@{pid}"),
        }
    }

    /// Whether a process is meant.
    pub fn means(&self, process: &ProcessView<'_>) -> bool {
        match &self.of {
            Of::All | Of::Instance(_) => true,
            Of::Program(name) => *process.now.program == **name || *process.now.name == **name,
            Of::Pid(pid) => process.now.pid.value() == Some(*pid),
            Of::Process(key) => crate::row::Row::key(process.now) == *key,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_wanted_is_read_as_it_is_written() {
        for text in ["cpu.total", "disk.busy{sda}", "cpu@stacker", "rss@4711", "net.in{eth0.5}"] {
            assert_eq!(Wish::parse(text).expect("a wish").text(), text);
        }
        assert_eq!(Wish::parse("rss@4711").expect("a wish").of, Of::Pid(4711));
        assert_eq!(Wish::parse(" disk.busy{\"sda\"} ").expect("a wish").of, Of::Instance("sda".to_owned()));
    }

    #[test]
    fn what_cannot_be_drawn_says_why() {
        for (text, said) in [
            ("cpu{0}", "metric of processes"),
            ("disk.busy@sda", "metric of the machine"),
            ("command", "is a text"),
            ("disk.busy{sda", "needs a }"),
            ("cpu@", "is missing"),
            ("wirte", "did you mean write"),
        ] {
            let error = Wish::parse(text).expect_err(text);
            assert!(error.contains(said), "{text}: {error}");
        }
    }
}
