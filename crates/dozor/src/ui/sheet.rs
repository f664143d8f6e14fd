//! What can be open over the screen: the sheet of signals, the choice of the order, the help.

use super::line_edit::LineEdit;
use crate::hands::Target;
use dozor_core::catalogue::{Metric, PROCESS_METRICS};
use dozor_core::signals::{self, Signal};

/// One of them.
#[derive(Clone, Debug)]
pub enum Sheet {
    /// Choose a signal.
    Act(ActSheet),
    /// Choose the ordering column.
    Order(OrderSheet),
    /// All keys; the number of lines scrolled away.
    Help(usize),
}

/// Signals for some targets.
#[derive(Clone, Debug)]
pub struct ActSheet {
    /// Who will get it.
    pub targets: Vec<Target>,
    /// All signals.
    pub signals: Vec<Signal>,
    /// The chosen one.
    pub at: usize,
}

impl ActSheet {
    /// Begins with the polite stop.
    pub fn new(targets: Vec<Target>) -> ActSheet {
        ActSheet { targets, signals: signals::all().collect(), at: 0 }
    }
}

/// Metrics to order by, narrowed by what is typed.
#[derive(Clone, Debug, Default)]
pub struct OrderSheet {
    /// What is typed.
    pub typed: LineEdit,
    /// Place among those that match.
    pub at: usize,
}

impl OrderSheet {
    /// Metrics whose alias, heading or meaning contains what is typed; matches in the alias come first.
    pub fn matching(&self) -> Vec<&'static Metric> {
        let typed = self.typed.text().trim().to_lowercase();
        let in_name = |metric: &&Metric| metric.alias.contains(&typed) || metric.heading.contains(&typed);
        let by_name = PROCESS_METRICS.iter().filter(in_name);
        let by_help = PROCESS_METRICS
            .iter()
            .filter(|metric| !in_name(metric) && metric.help.to_lowercase().contains(&typed));
        by_name.chain(by_help).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn metrics_are_found_by_alias_before_meaning() {
        let sheet = OrderSheet { typed: LineEdit::new("swap"), at: 0 };
        let found: Vec<_> = sheet.matching().iter().map(|metric| metric.alias).collect();
        assert_eq!(found, ["swap"]);
        let sheet = OrderSheet { typed: LineEdit::new("zombie"), at: 0 };
        assert_eq!(sheet.matching()[0].alias, "state");
        assert_eq!(OrderSheet::default().matching().len(), PROCESS_METRICS.len());
    }
}
