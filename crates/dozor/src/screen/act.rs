//! What each action does: one arm for each.

use super::Screen;
use crate::look::action::{Action, entry_of};
use crate::panes::hints::now_word;
use crate::settings::configured::Origin;
use crate::settings::table::{setting, theme_names};
use crate::sheets::act::ActSheet;
use crate::sheets::charts::ChartSheet;
use crate::sheets::columns::ColumnsSheet;
use crate::sheets::compare::CompareSheet;
use crate::sheets::export::ExportSheet;
use crate::sheets::findings::FindingsSheet;
use crate::sheets::holders::HoldersSheet;
use crate::sheets::inspect::Inspector;
use crate::sheets::journal::JournalSheet;
use crate::sheets::pick;
use crate::sheets::ports::PortsSheet;
use crate::sheets::prompt::Prompt;
use crate::sheets::settings::SettingsSheet;
use crate::state::State;
use crate::state::data::{Mode, Stay};
use crate::state::effect::Effect;
use crate::state::selection::Way;
use dozor_core::lane::Severity;

impl Screen {
    /// Does what an action says.
    #[allow(clippy::too_many_lines, reason = "a table: an arm for each action, none may be forgotten")]
    pub fn act(&mut self, action: Action) {
        let state = &mut self.state;
        match action {
            // What opens over the screen.
            Action::Act => {
                let sheet = ActSheet::open(state);
                self.open(sheet);
            }
            Action::Inspect => {
                let sheet = Inspector::open(state);
                self.open(sheet);
            }
            Action::Holders => {
                let sheet = HoldersSheet::open(state);
                self.open(sheet);
            }
            Action::Ports => {
                let sheet = PortsSheet::open(state);
                self.open(Some(sheet));
            }
            Action::Undo => state.undo(),
            Action::Journal => {
                let sheet = JournalSheet::open(state);
                self.open(sheet);
            }
            Action::Findings => {
                let sheet = FindingsSheet::open(state);
                self.open(Some(sheet));
            }
            Action::Charts => {
                let sheet = ChartSheet::open(state);
                self.open(sheet);
            }
            Action::Export => self.open(Some(ExportSheet::default())),
            Action::SaveScreen => state.outbox.push(Effect::SaveScreen("svg")),
            Action::SaveScreenPdf => state.outbox.push(Effect::SaveScreen("pdf")),
            Action::Difference => {
                let sheet = CompareSheet::open(state);
                self.open(sheet);
            }
            Action::Narrow => self.open(Some(Prompt::narrowing(&self.state))),
            Action::GoTo => self.open(Some(Prompt::going(&self.state))),
            Action::GoToTime => self.open(Prompt::time(&self.state)),
            Action::Bookmark => self.open(Prompt::note(&self.state)),
            Action::SaveView => self.open(Some(Prompt::view(&self.state))),
            Action::Order => self.open(Some(pick::order::sheet(&self.state))),
            Action::Arrange => self.open(Some(pick::arrange::sheet(&self.state))),
            Action::Commands => self.open(Some(pick::commands::sheet())),
            Action::Help => self.open(Some(pick::help::sheet())),
            Action::Columns => self.open(Some(ColumnsSheet::default())),
            Action::Settings => self.open(Some(SettingsSheet::default())),
            // Lanes and parts.
            Action::Lane(lane) => state.choose_lane(Some(lane)),
            Action::Overview => state.choose_lane(None),
            Action::NextLane => state.step_lane(1),
            Action::PreviousLane => state.step_lane(-1),
            Action::Parts => state.next_parts(true),
            Action::PreviousParts => state.next_parts(false),
            Action::Fold => state.values.lanes.fold(state.values.lane),
            Action::Hide => state.hide_lane(),
            Action::AllLanes => state.values.lanes.restore(),
            Action::LaneUp | Action::LaneDown => state.shift_lane(action == Action::LaneDown),
            // Rows.
            Action::Go(to) => state.go(to),
            Action::NextMatch => state.go_to_match(Way::On),
            Action::PreviousMatch => state.go_to_match(Way::Back),
            Action::Parent => state.go_to_parent(),
            Action::OtherWay => state.order_by(state.values.order.reversed()),
            Action::ArrangeBy(arrange) => state.arrange_by(arrange),
            Action::Open => state.open_row(),
            Action::Close => state.close_row(),
            Action::FoldRows => state.fold_all_rows(),
            Action::PanRight => state.pan(true),
            Action::PanLeft => state.pan(false),
            Action::NextView => state.next_view(),
            Action::Mark => state.mark_selected(),
            Action::MarkAll => state.mark_all(),
            Action::InvertMarks => state.invert_marks(),
            Action::ClearMarks => state.clear_marks(),
            Action::CopyPid => state.copy(|target| target.key.pid.to_string()),
            Action::CopyCommand => state.copy(|target| target.command.to_string()),
            // Time.
            Action::Freeze => state.freeze(),
            Action::StepBack => state.step_time(-1),
            Action::StepOn => state.step_time(1),
            Action::TenBack => state.step_time(-10),
            Action::TenOn => state.step_time(10),
            Action::Begin => state.go_to_sample(state.time().timeline.first()),
            Action::End => state.go_to_sample(state.time().timeline.end().saturating_sub(1)),
            Action::Live => state.go_live(),
            Action::Peak => state.go_to_peak(),
            Action::NextTrouble => state.go_to_trouble(true),
            Action::PreviousTrouble => state.go_to_trouble(false),
            Action::NextSign => state.go_to_sign(true),
            Action::PreviousSign => state.go_to_sign(false),
            Action::Zone => state.change_zone(),
            Action::Wider => state.zoom(true),
            Action::Narrower => state.zoom(false),
            Action::Means => state.turn_means(),
            // Readings. The key that makes the interval longer plays faster: `+` is more of both.
            Action::Plus | Action::Minus if state.time().mode == Mode::Live => {
                state.change_interval(action == Action::Plus);
            }
            Action::Plus | Action::Minus => state.change_speed(action == Action::Plus),
            Action::Record => state.turn_recording(),
            Action::ByHand => state.turn_by_hand(),
            Action::ReadNow => state.read_now(),
            // The program.
            Action::Threads => switch(state, action, "threads"),
            Action::KernelThreads => switch(state, action, "kernel_threads"),
            Action::ActiveOnly => switch(state, action, "active"),
            Action::Whose => switch(state, action, "whose"),
            Action::CommandForm => switch(state, action, "command"),
            Action::Percent => switch(state, action, "percent"),
            Action::Mean => switch(state, action, "mean"),
            Action::Units => switch(state, action, "units"),
            Action::Times => switch(state, action, "times"),
            Action::Theme => switch(state, action, "theme"),
            Action::Mouse => state.turn_mouse(),
            Action::Back => state.back(),
            Action::Suspend => state.outbox.push(Effect::Suspend),
            Action::Redraw => state.outbox.push(Effect::Redraw),
            Action::Quit => state.outbox.push(Effect::Quit),
        }
    }
}

/// Goes to the next value of a setting, and says what it is now.
fn switch(state: &mut State, action: Action, name: &str) {
    let Some(setting) = setting(name) else { return };
    let (choices, present) = if action == Action::Theme {
        // What the terminal says is one of the others; it is not worth a step of its own.
        (theme_names(&state.values).into_iter().skip(1).collect(), state.theme_name())
    } else {
        (setting.choices(&state.values), setting.get(&state.values))
    };
    let next = choices.iter().position(|choice| *choice == present).map_or(0, |at| (at + 1) % choices.len());
    let value = choices[next].clone();
    match state.change(|values| setting.set(values, &value)) {
        Ok(()) => {
            state.values.configured.origins.insert(setting.name, Origin::Session);
            let word = now_word(state, action);
            let word = if word.is_empty() { value } else { word };
            let name = entry_of(action).map_or(setting.name, |entry| entry.name);
            state.say_for(Severity::Fine, format!("{name}: {word}"), Stay::Brief);
        }
        Err(problem) => state.say(Severity::Notice, problem),
    }
}
