//! The shown moment: its sample, what stands out, what is computed from the samples before it.

use super::State;
use super::data::{Mode, Stay};
use super::trend::TREND_SAMPLES;
use crate::look::action::Action;
use crate::look::columns;
use dozor_core::exited::exited;
use dozor_core::findings::at_once;
use dozor_core::lane::{Lane, Severity};
use dozor_core::parts;
use dozor_core::rank::{Line, Population, threads};
use dozor_core::sample::Sample;
use dozor_core::sorting::ColdSort as _;
use std::sync::Arc;

/// CPU time in percent of a core from which on Dozor warns of itself.
pub const COSTLY: f64 = 5.0;

impl State {
    /// Those that are there and those who are gone.
    pub fn population(&self) -> Option<Population<'_>> {
        Some(Population {
            here: self.moment.sample.as_ref()?,
            gone: self.moment.gone.as_ref()?,
            threads: self.moment.thread_sample.as_deref(),
            averaged: self.moment.averaged.as_deref(),
        })
    }

    /// Goes to the sample of the cursor and works out all that depends on it.
    pub fn refresh(&mut self) {
        let Some(shown) = self.shown() else { return };
        let selection_was_visible = self.row_of_selected().is_some_and(|row| self.is_visible(row));
        let held = self.is_held(self.now).then(|| self.places());
        let sample = match self.time.timeline.sample(shown) {
            Ok(sample) => sample,
            Err(error) => {
                self.say_for(
                    Severity::Warning,
                    format!("this moment cannot be read: {error}"),
                    Stay::UntilKey,
                );
                return;
            }
        };
        let gone = Arc::new(exited(&sample));
        let found = self.lines_at(sample.now.wall_ns());
        self.moment.standing_out =
            found.unwrap_or_else(|| at_once(&sample, &self.values.configured.adjusted));
        self.moment.gone = Some(gone);
        self.warn_of_own_cost();
        self.chosen_lane_first();
        if self.time.cursor.is_none() {
            self.selection.marked.retain(|key| sample.find(*key).is_some());
        }
        self.values.narrowing.follow(&sample);
        let shown_before = self.moment.sample.replace(sample.clone());
        self.look_at_parts();
        let follows = shown_before.zip(sample.before.as_ref());
        let follows = follows.is_some_and(|(shown, before)| Arc::ptr_eq(&shown.now, before));
        let away = std::mem::take(&mut self.moment.away);
        self.moment.away = columns::away(&sample, follows.then_some(&away[..]));
        self.fill_window(shown);
        self.look_closer();
        self.rank(follows, held.as_ref());
        // Rows above that are gone must not pull the others away from under the hand.
        if let Some(held) = held
            && let Some(population) = self.population()
        {
            let was_above = |line: &&Line| {
                held.get(&self.rows.table.id(&population, line))
                    .is_some_and(|place| *place < self.selection.scroll)
            };
            self.selection.scroll = self.rows.table.lines.iter().take_while(was_above).count();
        }
        self.follow_persistence();
        // Whoever turned the wheel away from the selection is not pulled back to it.
        if selection_was_visible {
            self.keep_selection_visible();
        }
        self.stay_within_rows();
    }

    pub(super) fn warn_of_own_cost(&mut self) {
        if let Some(cost) =
            self.session.own_cost.filter(|cost| *cost >= COSTLY && self.time.mode == Mode::Live)
        {
            let text = format!(
                "Dozor itself uses {cost:.0} % of a core at this interval; {} reads less often.",
                self.key(Action::Plus)
            );
            self.moment.standing_out.push((Severity::Notice, Lane::Cpu, text));
        }
    }

    /// What stands out of the chosen lane comes first, else the worst.
    pub fn chosen_lane_first(&mut self) {
        let lane = self.values.lane;
        self.moment
            .standing_out
            .cold_sort_by_key(|(severity, of, _)| std::cmp::Reverse((lane == Some(*of), *severity)));
    }

    /// Works out the parts of the chosen lane at the shown moment.
    pub fn look_at_parts(&mut self) {
        self.lanes.parts.sections = match (self.values.lane, &self.moment.sample) {
            (Some(lane), Some(sample)) => parts::sections(lane, sample),
            _ => vec![],
        };
        self.lanes.parts.current =
            self.lanes.parts.current.min(self.lanes.parts.sections.len().saturating_sub(1));
        if self.lanes.parts.sections.is_empty() {
            self.lanes.parts.in_focus = false;
        }
    }

    /// Works out the sample over a longer time, and the threads.
    pub fn look_closer(&mut self) {
        self.moment.averaged = self.averaged_sample().map(Arc::new);
        let sample = self.moment.averaged.as_ref().or(self.moment.sample.as_ref());
        self.moment.thread_sample =
            sample.filter(|_| self.values.threads).and_then(|sample| threads(sample)).map(Arc::new);
    }

    /// The shown sample over the chosen time, as far as nothing interrupts it.
    fn averaged_sample(&self) -> Option<Sample> {
        let shown = self.moment.sample.as_ref().filter(|_| !self.values.mean.is_zero())?;
        let span = self.values.mean.as_nanos() as i64;
        let mut readings = vec![shown.now.clone()];
        for sample in self.moment.window.iter().rev() {
            let Some(before) = &sample.before else { break };
            readings.push(before.clone());
            if shown.now.monotonic_ns() - before.monotonic_ns() >= span {
                break;
            }
        }
        readings.reverse();
        (readings.len() > 2).then(|| Sample::over(shown.host.clone(), &readings)).flatten()
    }

    fn fill_window(&mut self, shown: usize) {
        let from = (shown + 1).saturating_sub(TREND_SAMPLES).max(self.time.timeline.first());
        // Where thousands of processes change at each reading fewer samples than that are kept.
        let from = self.time.timeline.decoded_from(shown).map_or(from, |kept| from.max(kept));
        // Backwards in time would decode each key frame's readings again for every sample.
        self.moment.window =
            (from..=shown).filter_map(|number| self.time.timeline.sample(number).ok()).collect();
    }
}
