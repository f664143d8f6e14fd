//! Which lanes are shown, in which order, and which of them are folded to one line.

use dozor_core::lane::Lane;

/// The stack of lanes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LaneStack {
    order: Vec<Lane>,
    folded: Vec<Lane>,
    hidden: Vec<Lane>,
}

impl Default for LaneStack {
    fn default() -> LaneStack {
        LaneStack { order: Lane::ALL.to_vec(), folded: vec![], hidden: vec![] }
    }
}

impl LaneStack {
    /// These lanes from top to bottom, the others hidden, some folded. Without any all are shown.
    pub fn of(shown: &[Lane], folded: &[Lane]) -> LaneStack {
        if shown.is_empty() {
            return LaneStack { folded: folded.to_vec(), ..LaneStack::default() };
        }
        let mut order: Vec<Lane> = vec![];
        for lane in shown.iter().copied().chain(Lane::ALL) {
            if !order.contains(&lane) {
                order.push(lane);
            }
        }
        let hidden = Lane::ALL.into_iter().filter(|lane| !shown.contains(lane)).collect();
        LaneStack { order, folded: folded.to_vec(), hidden }
    }

    /// Lanes from top to bottom. The chosen one is there even if it is hidden otherwise.
    pub fn shown(&self, chosen: Option<Lane>) -> Vec<Lane> {
        let is_shown = |lane: &Lane| !self.hidden.contains(lane) || chosen == Some(*lane);
        self.order.iter().copied().filter(is_shown).collect()
    }

    /// Whether a lane is folded.
    pub fn is_folded(&self, lane: Lane) -> bool {
        self.folded.contains(&lane)
    }

    /// How many lanes are hidden.
    pub fn hidden(&self) -> usize {
        self.hidden.len()
    }

    /// Folds a lane, or unfolds it; without one all of them.
    pub fn fold(&mut self, lane: Option<Lane>) {
        match lane {
            Some(lane) if self.is_folded(lane) => self.folded.retain(|folded| *folded != lane),
            Some(lane) => self.folded.push(lane),
            None if self.folded.len() == self.order.len() => self.folded.clear(),
            None => self.folded.clone_from(&self.order),
        }
    }

    /// Hides a lane. The last one stays: without any there would be no time to point at.
    pub fn hide(&mut self, lane: Lane) -> bool {
        let others =
            self.order.iter().filter(|other| **other != lane && !self.hidden.contains(other)).count();
        if others == 0 || self.hidden.contains(&lane) {
            return false;
        }
        self.hidden.push(lane);
        true
    }

    /// Shows all lanes in their first order, none folded.
    pub fn restore(&mut self) {
        *self = LaneStack::default();
    }

    /// Moves a lane one place up or down among the shown ones.
    pub fn shift(&mut self, lane: Lane, down: bool) {
        let shown = self.shown(Some(lane));
        let Some(at) = shown.iter().position(|other| *other == lane) else { return };
        let other = if down { shown.get(at + 1) } else { at.checked_sub(1).and_then(|at| shown.get(at)) };
        if let Some(other) = other {
            self.put_beside(lane, *other, down);
        }
    }

    /// Puts a lane before or behind another.
    pub fn put_beside(&mut self, lane: Lane, other: Lane, behind: bool) {
        if lane == other {
            return;
        }
        self.order.retain(|kept| *kept != lane);
        let at = self.order.iter().position(|kept| *kept == other).unwrap_or(0);
        self.order.insert(at + usize::from(behind), lane);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lanes_fold_hide_and_move_and_come_back() {
        let mut lanes = LaneStack::default();
        lanes.shift(Lane::Disk, false);
        lanes.shift(Lane::Cpu, false);
        assert_eq!(lanes.shown(None), [Lane::Cpu, Lane::Disk, Lane::Memory, Lane::Network, Lane::Heat]);
        assert!(lanes.hide(Lane::Memory) && !lanes.hide(Lane::Memory));
        lanes.shift(Lane::Disk, true);
        assert_eq!(lanes.shown(None), [Lane::Cpu, Lane::Network, Lane::Disk, Lane::Heat]);
        assert_eq!(lanes.shown(Some(Lane::Memory)).len(), 5, "the chosen lane is seen");
        lanes.fold(Some(Lane::Cpu));
        assert!(lanes.is_folded(Lane::Cpu) && !lanes.is_folded(Lane::Disk));
        lanes.fold(None);
        assert!(lanes.is_folded(Lane::Disk));
        lanes.fold(None);
        assert!(!lanes.is_folded(Lane::Cpu));
        for lane in [Lane::Cpu, Lane::Network, Lane::Disk] {
            assert!(lanes.hide(lane));
        }
        assert!(!lanes.hide(Lane::Heat), "the last one stays");
        lanes.restore();
        assert_eq!(lanes, LaneStack::default());
    }
}
