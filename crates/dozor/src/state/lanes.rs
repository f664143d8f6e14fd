//! Choosing lanes and parts, and how lanes stand.

use super::State;
use crate::look::action::Move;
use crate::settings::values::usual_order;
use dozor_core::lane::{Lane, Severity};
use dozor_core::parts::{PartId, lens};
use dozor_core::rank::Order;

impl State {
    /// Looks at a lane, or at the overview.
    pub fn choose_lane(&mut self, lane: Option<Lane>) {
        let explained = self.seen_explanations();
        self.values.look_at(lane);
        self.begin_with_parts(explained);
        self.rank_anew();
    }

    /// Goes through the shown lanes and the overview.
    pub fn step_lane(&mut self, steps: isize) {
        let lanes = self.values.lanes.shown(self.values.lane);
        let present = self.values.lane.and_then(|lane| lanes.iter().position(|other| *other == lane));
        let present = present.map_or(0, |at| at + 1);
        let next = (present as isize + steps).rem_euclid(lanes.len() as isize + 1) as usize;
        self.choose_lane(next.checked_sub(1).map(|at| lanes[at]));
    }

    /// Hides the chosen lane.
    pub fn hide_lane(&mut self) {
        let Some(lane) = self.values.lane else {
            self.say(Severity::Notice, "choose the lane to hide first".to_owned());
            return;
        };
        if self.values.lanes.hide(lane) {
            self.choose_lane(None);
            let text = format!("{} is hidden; H shows all lanes again", lane.name());
            self.say(Severity::Fine, text);
        }
    }

    /// Moves the chosen lane among the others.
    pub fn shift_lane(&mut self, down: bool) {
        match self.values.lane {
            Some(lane) => self.values.lanes.shift(lane, down),
            None => self.say(Severity::Notice, "choose the lane to move first".to_owned()),
        }
    }

    /// Arrow keys go to the parts; where they are there already, to the next kind of part.
    pub fn next_parts(&mut self, on: bool) {
        if self.values.lane.is_none() {
            // The worst resource is what somebody looks for.
            let worst = self.moment.standing_out.first().map_or(Lane::Cpu, |(_, lane, _)| *lane);
            self.choose_lane(Some(worst));
        }
        let count = self.lanes.parts.sections.len();
        if count == 0 {
            let name = self.values.lane.map_or("this", Lane::name);
            self.say(Severity::Notice, format!("{name} has no parts here"));
            return;
        }
        if self.lanes.parts.in_focus || !on {
            let steps = if on { 1 } else { count - 1 };
            self.show_section((self.lanes.parts.current + steps) % count);
        }
        self.lanes.parts.in_focus = true;
        self.keep_part_visible();
        self.keep_selection_visible();
    }

    /// Puts a table first. A part that was chosen in another one is given up.
    pub fn show_section(&mut self, section: usize) {
        if section != self.lanes.parts.current {
            self.lanes.parts.current = section;
            self.lanes.parts.scroll = 0;
            if self.lanes.parts.selected_row().is_none() {
                self.select_part(None);
            }
        }
    }

    /// Shows the users of a part, or of all of them.
    pub fn select_part(&mut self, part: Option<PartId>) {
        if self.lanes.parts.selected == part {
            return;
        }
        let usual = usual_order(self.values.lane);
        let before = self.lanes.parts.selected.as_ref().and_then(lens).map_or(usual, Order::by);
        let after = part.as_ref().and_then(lens).map_or(usual, Order::by);
        // An order that somebody chose stays.
        if self.values.order == before {
            self.values.order = after;
        }
        self.lanes.parts.selected = part;
        self.selection.scroll = 0;
        self.rank_anew();
        self.keep_part_visible();
    }

    /// Scrolls the table of parts so far that the chosen part is seen.
    pub fn keep_part_visible(&mut self) {
        if let Some(area) = self.layout().and_then(|layout| layout.parts) {
            self.lanes.parts.keep_selected_visible(area);
        }
    }

    /// Moves among the parts.
    pub(super) fn move_in_parts(&mut self, to: Move) {
        let Some(area) = self.layout().and_then(|layout| layout.parts) else { return };
        let line = self.lanes.parts.line(area);
        let page =
            self.lanes.parts.placed(area).first().map_or(1, |placed| usize::from(placed.rows.height)) * line;
        let steps = match to {
            Move::Down => line as isize,
            Move::Up => -(line as isize),
            Move::PageDown => page as isize,
            Move::PageUp => -(page as isize),
            Move::First => isize::MIN,
            Move::Last => isize::MAX,
        };
        self.move_part(steps);
    }

    /// Chooses the part so many rows on; the first one where none is chosen.
    pub fn move_part(&mut self, steps: isize) {
        let Some(section) = self.lanes.parts.sections.get(self.lanes.parts.current) else { return };
        let last = section.rows.len().saturating_sub(1);
        let row = match self.lanes.parts.selected_row() {
            Some(row) => row.saturating_add_signed(steps).min(last),
            None if steps == isize::MAX => last,
            None => 0,
        };
        let part = section.rows.get(row).map(|row| row.id.clone());
        self.select_part(part);
    }

    /// The arrow keys go back to the processes; the part stays chosen.
    pub fn leave_parts(&mut self) {
        self.lanes.parts.in_focus = false;
    }

    /// Scrolls the table of parts that stands first.
    pub fn scroll_parts(&mut self, rows: isize) {
        let parts = &mut self.lanes.parts;
        let most = parts.sections.get(parts.current).map_or(0, |section| section.rows.len());
        parts.scroll = parts.scroll.saturating_add_signed(rows).min(most.saturating_sub(1));
    }

    /// A column of the strips stands for more time, or for less.
    pub fn zoom(&mut self, wider: bool) {
        self.lanes.zoom = self.lanes.zoom.step(wider, self.values.every);
    }

    /// The strips show means instead of peaks, or back.
    pub fn turn_means(&mut self) {
        self.lanes.zoom.mean = !self.lanes.zoom.mean;
    }
}
