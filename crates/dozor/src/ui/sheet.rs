//! What can be open over the screen: the sheet of signals, the choice of the order, the help.

use super::line_edit::LineEdit;
use crate::hands::Target;
use dozor_core::catalogue::{Metric, PROCESS_METRICS};
use dozor_core::signals::{self, Signal};
use ratatui::layout::Rect;

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

/// The lines of a list that are seen.
#[derive(Clone, Copy, Debug)]
pub struct List {
    /// Where they stand.
    pub area: Rect,
    /// The first of them.
    pub first: usize,
}

/// So many targets are named.
pub const NAMED: usize = 6;

impl Sheet {
    /// Where its text stands on a screen; the title line is above it.
    pub fn place(&self, screen: Rect) -> Rect {
        let height = match self {
            Sheet::Act(sheet) => sheet.head_lines() + 12,
            Sheet::Order(_) => 18,
            Sheet::Help(_) => screen.height,
        };
        let height = height.min(screen.height.saturating_sub(2)).max(1);
        let y = screen.bottom().saturating_sub(1 + height) + 1;
        Rect { x: screen.x + 2, y, width: screen.width.saturating_sub(4), height: height - 1 }
    }

    /// The part of its list that is seen, scrolled so that the chosen line is among it.
    pub fn list(&self, screen: Rect) -> List {
        let place = self.place(screen);
        let (head, chosen) = match self {
            Sheet::Act(sheet) => (sheet.head_lines(), Some(sheet.at)),
            Sheet::Order(sheet) => (2, Some(sheet.at)),
            Sheet::Help(_) => (0, None),
        };
        let height = place.height.saturating_sub(head);
        let area = Rect { y: place.y + head, height, ..place };
        let first = match (self, chosen) {
            (Sheet::Help(scroll), _) => *scroll,
            (_, chosen) => (chosen.unwrap_or(0) + 1).saturating_sub(usize::from(height)),
        };
        List { area, first }
    }
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
    /// Lines above the list: who is meant, and a blank one.
    pub fn head_lines(&self) -> u16 {
        match &self.targets[..] {
            [one] => 1 + u16::from(one.children > 0),
            many => (many.len().min(NAMED) + usize::from(many.len() > NAMED)) as u16 + 1,
        }
    }

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
