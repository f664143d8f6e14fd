//! What is configured beside the values themselves, and where they come from.

use super::view::{self, View};
use crate::look::columns::ColumnSet;
use crate::look::theme::{Depth, Found, Own};
use dozor_core::findings::{Adjusted, Engine, OwnRule, rules};
use dozor_core::lane::Lane;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

/// Where a value comes from.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Origin {
    /// It is as the program comes.
    #[default]
    Default,
    /// The file of settings, in this line.
    File(usize),
    /// The screen was left so.
    Left,
    /// An option of the command line.
    CommandLine,
    /// It was changed on the screen, and stays for this session.
    Session,
}

impl Origin {
    /// In words.
    pub fn words(&self) -> String {
        match self {
            Origin::Default => "default".to_owned(),
            Origin::File(line) => format!("settings.toml, line {line}"),
            Origin::Left => "as it was left".to_owned(),
            Origin::CommandLine => "command line".to_owned(),
            Origin::Session => "changed on the screen".to_owned(),
        }
    }
}

/// What is configured beside the values themselves, and where they come from.
#[derive(Clone, Debug)]
pub struct Configured {
    /// Where the values come from that are not as the program comes.
    pub origins: BTreeMap<&'static str, Origin>,
    /// What the file says, as texts.
    pub in_file: BTreeMap<&'static str, String>,
    /// What is wrong with the files.
    pub problems: Vec<String>,
    /// The file of settings, where there is a place for one.
    pub path: Option<PathBuf>,
    /// Rules of one's own.
    pub rules: Vec<OwnRule>,
    /// What is wanted otherwise than the rules of Dozor have it.
    pub adjusted: Adjusted,
    /// Own themes.
    pub themes: Vec<Arc<Own>>,
    /// What the environment says of the terminal.
    pub found: Option<Found>,
    /// The chosen theme by name.
    pub theme: String,
    /// The chosen number of colours; what was found where there is none.
    pub colors: Option<Depth>,
    /// The symbols that were asked for; what was found where there are none.
    pub symbols: Option<crate::look::symbols::Symbols>,
    /// The screen begins as it was left.
    pub remember: bool,
    /// Shown instead of the CPU's model, where it is not empty.
    pub cpu_model: String,
    /// The view that the screen begins with.
    pub first_view: String,
    /// Saved views, those that come with the program first.
    pub views: Vec<View>,
    /// How it looked before somebody went through the views.
    pub before_views: Option<View>,
    /// Sets of columns by name.
    pub column_sets: BTreeMap<String, String>,
    /// Sets of charts by name.
    pub charts: BTreeMap<String, String>,
    /// Columns that the command line gave, for one time.
    pub given_columns: Option<(Option<Lane>, ColumnSet)>,
    /// What the file says of the columns of lanes, by their names.
    pub lane_columns: BTreeMap<&'static str, String>,
}

impl Default for Configured {
    fn default() -> Configured {
        Configured {
            origins: BTreeMap::new(),
            in_file: BTreeMap::new(),
            problems: vec![],
            path: None,
            rules: vec![],
            adjusted: Adjusted::default(),
            themes: vec![],
            found: None,
            theme: "auto".to_owned(),
            colors: None,
            symbols: None,
            remember: true,
            cpu_model: String::new(),
            first_view: String::new(),
            views: view::shipped(),
            before_views: None,
            column_sets: BTreeMap::new(),
            charts: BTreeMap::new(),
            given_columns: None,
            lane_columns: BTreeMap::new(),
        }
    }
}

impl Configured {
    /// An engine with all rules, as they are wanted, and those of one's own.
    pub fn engine(&self) -> Engine {
        let own = self.rules.iter().cloned().map(OwnRule::rule);
        Engine::with(rules::all().into_iter().chain(own).collect()).adjusted(&self.adjusted)
    }

    /// What to call the processor.
    pub fn cpu_label<'a>(&'a self, model: &'a str) -> &'a str {
        if self.cpu_model.is_empty() { model } else { &self.cpu_model }
    }

    /// What is wrong with the files, in a line.
    pub fn problem(&self) -> Option<String> {
        let more = match self.problems.len() {
            0 | 1 => String::new(),
            many => format!(" (and {} more: dozor settings)", many - 1),
        };
        self.problems.first().map(|problem| format!("{problem}{more}"))
    }

    /// Where the value of a setting comes from.
    pub fn origin(&self, name: &str) -> Origin {
        self.origins.get(name).cloned().unwrap_or_default()
    }

    /// Adds a view, or puts it in the place of one with the same name.
    pub fn keep_view(&mut self, view: View) {
        match self.views.iter_mut().find(|other| other.name == view.name) {
            Some(other) => *other = view,
            None => self.views.push(view),
        }
    }
}
