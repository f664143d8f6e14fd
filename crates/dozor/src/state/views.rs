//! Saved views and saved sets of columns.

use super::State;
use super::effect::Effect;
use crate::look::columns::ColumnSet;
use crate::settings::file::Change;
use dozor_core::lane::Severity;

/// Name of how it looked before somebody went through the views.
const BEFORE: &str = "as before";

impl State {
    /// Goes to the next view; behind the last one how it looked before comes back.
    pub fn next_view(&mut self) {
        if self.values.view.is_none() {
            self.values.configured.before_views = Some(self.values.view_called(BEFORE));
        }
        let views = self.values.configured.views.iter().chain(&self.values.configured.before_views);
        let names: Vec<String> = views.map(|view| view.name.clone()).collect();
        let at = self.values.view.as_ref().and_then(|name| names.iter().position(|other| other == name));
        if let Some(name) = names.get(at.map_or(0, |at| (at + 1) % names.len())).cloned() {
            self.show_view(&name);
        }
    }

    /// Shows a view.
    pub fn show_view(&mut self, name: &str) {
        if self.values.view.is_none() && name != BEFORE {
            self.values.configured.before_views = Some(self.values.view_called(BEFORE));
        }
        let found = self
            .values
            .configured
            .views
            .iter()
            .chain(&self.values.configured.before_views)
            .find(|view| view.name == name);
        let Some(view) = found.cloned() else { return };
        // Also the one that is shown already comes back as it was saved.
        self.values.view = None;
        self.change(|values| values.show(&view));
        if name == BEFORE {
            self.values.view = None;
        }
        let text = format!("view {}: {}", view.name, view.describe());
        self.say(Severity::Fine, text);
    }

    /// Keeps what is shown as a view.
    pub fn save_view(&mut self, name: &str) {
        if name == BEFORE {
            self.say(Severity::Notice, format!("'{BEFORE}' has a meaning of its own"));
            return;
        }
        let view = self.values.view_called(name);
        self.values.configured.keep_view(view.clone());
        self.values.view = Some(name.to_owned());
        let key = self.key(crate::look::action::Action::NextView);
        self.say(Severity::Fine, format!("the view '{name}' is kept; {key} goes through the views"));
        self.outbox.push(Effect::Configure(Change::View(Box::new(view))));
    }

    /// Keeps the columns that are shown under a name.
    pub fn save_columns(&mut self, name: &str) {
        let text = self.columns().to_string();
        self.values.configured.column_sets.insert(name.to_owned(), text.clone());
        self.say(Severity::Fine, format!("the columns are kept as '{name}'"));
        self.outbox.push(Effect::Configure(Change::Columns(name.to_owned(), text)));
    }

    /// Keeps charts under a name.
    pub fn save_charts(&mut self, name: &str, text: String) {
        self.values.configured.charts.insert(name.to_owned(), text.clone());
        self.say(Severity::Fine, format!("the charts are kept as '{name}'; o goes through the sets"));
        self.outbox.push(Effect::Configure(Change::Charts(name.to_owned(), text)));
    }

    /// Shows a saved set of columns in this lane.
    pub fn take_columns(&mut self, name: &str) {
        let set = self.values.configured.column_sets.get(name).map(|text| ColumnSet::parse(text));
        if let Some(Ok(set)) = set {
            self.values.column_sets.insert(self.values.lane, set);
            self.say(Severity::Fine, format!("columns '{name}'"));
        }
    }

    /// Changes the columns of the chosen lane.
    pub fn edit_columns(&mut self, change: impl FnOnce(&mut ColumnSet)) {
        let mut set = self.columns().clone();
        change(&mut set);
        if set == *ColumnSet::usual(self.values.lane) {
            self.values.column_sets.remove(&self.values.lane);
        } else {
            self.values.column_sets.insert(self.values.lane, set);
        }
    }

    /// Shows the usual columns of the chosen lane.
    pub fn usual_columns(&mut self) {
        self.values.column_sets.remove(&self.values.lane);
        self.say(Severity::Fine, "the usual columns of this lane".to_owned());
    }
}
