//! What follows from a change of the values that can be set.

use super::State;
use super::parts::Parts;
use crate::settings::configured::Configured;
use crate::settings::values::Values;
use dozor_core::rank::Folds;

impl State {
    /// Changes values; whatever depends on them follows.
    pub fn change<T>(&mut self, change: impl FnOnce(&mut Values) -> T) -> T {
        let (before, explained) = (self.values.clone(), self.seen_explanations());
        let result = change(&mut self.values);
        self.follow(&before, explained);
        result
    }

    /// A new value does not compile until somebody says here what follows from it.
    fn follow(&mut self, before: &Values, explained: Vec<String>) {
        let Values {
            // Drawing, the source and the keys ask for them.
            of_machine: _,
            times_relative: _,
            command_form: _,
            mouse: _,
            every: _,
            patience: _,
            lanes: _,
            column_sets: _,
            keys: _,
            history: _,
            explained: _,
            quiet: _,
            mean,
            steps,
            threads,
            lane,
            view,
            order,
            narrowing,
            arrange,
            configured,
        } = &self.values;
        let closer = (mean, threads) != (&before.mean, &before.threads);
        let (other_lane, other_view) = (*lane != before.lane, *view != before.view);
        let other_rows = (order, narrowing, arrange) != (&before.order, &before.narrowing, &before.arrange);
        let other_arrangement = *arrange != before.arrange;
        let other_steps = *steps != before.steps;
        let look = |configured: &Configured| {
            (configured.theme.clone(), configured.colors, configured.found, configured.themes.len())
        };
        if look(configured) != look(&before.configured) {
            self.theme = self.values.theme().unwrap_or_else(|| self.theme.clone());
        }
        if self.values.configured.symbols != before.configured.symbols {
            self.symbols = self.values.symbols();
        }
        if other_steps {
            self.values.steps.choose();
            self.refresh_texts();
        }
        if closer {
            self.look_closer();
        }
        if other_view {
            self.selection.scroll = 0;
        }
        if other_lane || other_view {
            self.begin_with_parts(if other_view { vec![] } else { explained });
        }
        if other_arrangement {
            // What was open belongs to the old one.
            self.rows.folds = Folds::default();
        }
        if closer || other_lane || other_view || other_rows {
            self.rank_anew();
        }
    }

    /// Titles of tables whose explanations have been seen by now.
    pub(super) fn seen_explanations(&self) -> Vec<String> {
        self.lanes.parts.seen(self.layout().and_then(|layout| layout.parts))
    }

    /// Begins with the parts of the chosen lane.
    pub(super) fn begin_with_parts(&mut self, explained: Vec<String>) {
        self.lanes.parts = Parts { explained, ..Parts::default() };
        self.chosen_lane_first();
        self.look_at_parts();
        if self.selection.selected.is_none() {
            self.selection.scroll = 0;
        }
    }

    /// Takes in what is known of the terminal and of how the screen was left. Called once, before anything is shown.
    pub fn begin(&mut self, prepare: impl FnOnce(&mut Values)) {
        self.change(prepare);
        self.symbols = self.values.symbols();
        self.lanes.parts.explained.clone_from(&self.values.explained);
    }

    /// Keeps in the values what the screen knows of how it is left.
    pub fn leave(&mut self) {
        self.values.explained = self.seen_explanations();
    }
}
