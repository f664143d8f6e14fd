//! The file of settings: `dozor/settings.toml` in the folder for settings (XDG Base Directory Specification). A change from
//! the screen leaves everything else in it as it is, comments too.

use super::configured::{Configured, Origin};
use super::rules;
use super::table::{SETTINGS, setting};
use super::themes;
use super::values::Values;
use super::view::{FIELDS, View};
use super::words::{lane_by_name, lane_name, toml_line, unknown};
use crate::look::columns::ColumnSet;
use crate::look::keymap::KeyMap;
use dozor_core::text::{clean, without_number};
use dozor_linux::files;
use dozor_linux::trusted::{self, Untrusted};
use etcetera::{BaseStrategy as _, base_strategy::Xdg};
use std::path::{Path, PathBuf};
use toml_edit::{Document, DocumentMut, Item, Table, TableLike, Value};

/// A path as people write it: from their home on.
pub fn from_home(path: &Path) -> String {
    let home = etcetera::home_dir().ok();
    let inside = home.as_ref().and_then(|home| path.strip_prefix(home).ok());
    inside.map_or_else(|| path.display().to_string(), |rest| format!("~/{}", rest.display()))
}

/// Tables of the file.
const TABLES: [&str; 6] = ["columns", "charts", "views", "keys", "rule", "findings"];

/// Where files are.
#[derive(Clone, Debug, Default)]
pub struct Places {
    /// The folder for settings; none where there is no home.
    pub settings: Option<PathBuf>,
    /// The folder for state.
    pub state: Option<PathBuf>,
}

impl Places {
    /// The places that the environment says.
    pub fn find() -> Places {
        let xdg = Xdg::new().ok();
        let own = |folder: PathBuf| folder.join("dozor");
        Places {
            settings: xdg.as_ref().map(|xdg| own(xdg.config_dir())),
            state: xdg.as_ref().and_then(etcetera::BaseStrategy::state_dir).map(own),
        }
    }

    /// The file of settings.
    pub fn file(&self) -> Option<PathBuf> {
        self.settings.as_ref().map(|folder| folder.join("settings.toml"))
    }

    /// The file of how the screen was left.
    pub fn state_file(&self) -> Option<PathBuf> {
        self.state.as_ref().map(|folder| folder.join("state.toml"))
    }

    /// Why nothing is read from the folder for settings, nor kept there: somebody else could have written it, as after a
    /// change of user that kept the environment. Rules in it start commands.
    pub fn settings_refused(&self) -> Option<String> {
        self.file().and_then(|path| refused(&path))
    }

    /// The same of the folder for state.
    pub fn state_refused(&self) -> Option<String> {
        self.state_file().and_then(|path| refused(&path))
    }
}

fn refused(path: &Path) -> Option<String> {
    match trusted::open(path) {
        Err(why @ (Untrusted::Foreign(..) | Untrusted::Writable(_) | Untrusted::Shared(_))) => {
            Some(why.to_string())
        }
        // What else is wrong with the file alone is told when it is read.
        Ok(_) | Err(Untrusted::Missing | Untrusted::Kind(_) | Untrusted::Failed(_)) => None,
    }
}

/// Reads a small file that nobody else could have written; nothing where it is not there.
pub(super) fn read(path: &Path) -> Result<Option<String>, String> {
    trusted::read_text(path, super::LARGEST)
}

/// Writes a file as a whole: a crash leaves the old one or the new one.
pub(super) fn write(path: &Path, text: &str) -> std::io::Result<()> {
    files::replace(path, text.as_bytes())
}

/// Reads the file and the themes, and sets everything that can be set. What is wrong is kept for saying.
pub fn load(values: &mut Values, places: &Places) {
    values.configured.path = places.file();
    let Some(folder) = &places.settings else { return };
    let problem = match (places.settings_refused(), places.state_refused()) {
        (Some(why), Some(other)) if why == other => {
            Some(format!("{why}: neither settings nor how the screen was left are read or kept there"))
        }
        (Some(why), _) => Some(format!("{why}: settings are neither read nor kept there")),
        (None, Some(why)) => Some(format!("{why}: how the screen was left is neither read nor kept there")),
        (None, None) => None,
    };
    values.configured.problems.extend(problem);
    if places.settings_refused().is_some() {
        return;
    }
    // Themes first: a setting may name one of them.
    let (found, problems) = themes::read(&folder.join("themes"));
    values.configured.themes = found;
    match places.file().map(|path| read(&path)) {
        None | Some(Ok(None)) => {}
        Some(Ok(Some(text))) => apply(values, &text),
        Some(Err(problem)) => values.configured.problems.push(format!("settings.toml: {problem}")),
    }
    values.configured.problems.extend(problems);
}

/// Sets what a text of settings says.
pub fn apply(values: &mut Values, text: &str) {
    let document = match Document::parse(text) {
        Ok(document) => document,
        Err(error) => {
            let line = error.span().map_or(1, |span| toml_line(text, span.start));
            let message = clean(error.message().lines().next().unwrap_or_default().as_bytes());
            values
                .configured
                .problems
                .push(format!("settings.toml, line {line}: {message}; nothing of it is used"));
            return;
        }
    };
    let mut problems: Vec<(usize, String)> = vec![];
    let line_of = |item: &Item| item.span().map_or(1, |span| toml_line(text, span.start));
    // Views and sets first: a setting may name one of them.
    if let Some(views) = document.get("views") {
        read_views(values, views, text, &mut problems);
    }
    if let Some(sets) = document.get("columns") {
        read_columns(values, sets, text, &mut problems);
    }
    for (name, item) in
        document.get("charts").and_then(Item::as_table_like).map(TableLike::iter).into_iter().flatten()
    {
        // What is wrong in a set is said when it is opened: it may name what another machine has.
        match plain(item) {
            Some(text) => drop(values.configured.charts.insert(name.to_owned(), text)),
            None => problems.push((line_of(item), format!("charts {name}: it is a text"))),
        }
    }
    if let Some(keys) = document.get("keys") {
        read_keys(values, keys, text, &mut problems);
    }
    if let Some(rules) = document.get("rule") {
        values.configured.rules = rules::read(rules, text, &mut problems);
    }
    if let Some(findings) = document.get("findings") {
        values.configured.adjusted = rules::adjusted(findings, text, &mut problems);
    }
    for (name, item) in document.iter() {
        if TABLES.contains(&name) {
            continue;
        }
        let line = line_of(item);
        let Some(setting) = setting(name) else {
            let names = SETTINGS.iter().map(|setting| setting.name).chain(TABLES);
            problems.push((line, unknown("no setting is called", name, names)));
            continue;
        };
        match plain(item).map(|value| (setting.set(values, &value), value)) {
            Some((Ok(()), value)) => {
                values.configured.origins.insert(setting.name, Origin::File(line));
                values.configured.in_file.insert(setting.name, value);
            }
            Some((Err(problem), _)) => problems.push((line, format!("{name}: {problem}"))),
            None => problems.push((line, format!("{name} is a text, a number, true or false"))),
        }
    }
    problems.sort();
    let said = problems.into_iter().map(|(line, problem)| format!("settings.toml, line {line}: {problem}"));
    values.configured.problems.extend(said);
}

/// A value as a text.
fn plain(item: &Item) -> Option<String> {
    Some(match item.as_value()? {
        Value::String(text) => text.value().clone(),
        Value::Boolean(on) => on.value().to_string(),
        Value::Integer(number) => number.value().to_string(),
        _ => return None,
    })
}

fn read_views(values: &mut Values, views: &Item, text: &str, problems: &mut Vec<(usize, String)>) {
    let line_of = |item: &Item| item.span().map_or(1, |span| toml_line(text, span.start));
    for (name, item) in views.as_table_like().map(TableLike::iter).into_iter().flatten() {
        let Some(fields) = item.as_table_like() else {
            problems.push((line_of(item), format!("the view {name} is a table, such as [views.{name}]")));
            continue;
        };
        let mut view = View { name: name.to_owned(), ..View::default() };
        for (field, item) in fields.iter() {
            let value = plain(item).ok_or_else(|| "it is a text, true or false".to_owned());
            if let Err(problem) = value.and_then(|value| view.set(field, &value)) {
                let of = if FIELDS.contains(&field) { format!("{field}: ") } else { String::new() };
                problems.push((line_of(item), format!("view {name}: {of}{problem}")));
            }
        }
        values.configured.keep_view(view);
    }
}

fn read_columns(values: &mut Values, sets: &Item, text: &str, problems: &mut Vec<(usize, String)>) {
    for (name, item) in sets.as_table_like().map(TableLike::iter).into_iter().flatten() {
        let line = item.span().map_or(1, |span| toml_line(text, span.start));
        let parsed = plain(item).ok_or_else(|| "it is a text".to_owned());
        match parsed.and_then(|value| ColumnSet::parse(&value).map_err(|error| error.to_string())) {
            // A set with the name of a lane is that lane's own.
            Ok(set) => match lane_by_name(name) {
                Ok(lane) => {
                    values.configured.lane_columns.insert(lane_name(lane), set.to_string());
                    values.column_sets.insert(lane, set);
                }
                Err(_) => drop(values.configured.column_sets.insert(name.to_owned(), set.to_string())),
            },
            Err(problem) => problems.push((line, format!("columns {name}: {problem}"))),
        }
    }
}

fn read_keys(values: &mut Values, keys: &Item, text: &str, problems: &mut Vec<(usize, String)>) {
    let mut changed = vec![];
    let mut lines = vec![];
    for (name, item) in keys.as_table_like().map(TableLike::iter).into_iter().flatten() {
        let line = item.span().map_or(1, |span| toml_line(text, span.start));
        lines.push((name.to_owned(), line));
        let list = match item.as_value() {
            Some(Value::String(key)) => Some(vec![key.value().clone()]),
            Some(Value::Array(list)) => list.iter().map(|key| key.as_str().map(str::to_owned)).collect(),
            _ => None,
        };
        match list {
            Some(list) => changed.push((name.to_owned(), list)),
            None => problems.push((line, format!("keys of '{name}' are a text or a list of texts"))),
        }
    }
    let (map, found) = KeyMap::new(&changed);
    values.keys = map;
    problems.extend(found.into_iter().map(|(name, problem)| {
        let line = lines.iter().find(|(other, _)| *other == name).map_or(1, |(_, line)| *line);
        (line, problem)
    }));
}

/// A change of the file.
#[derive(Clone, Debug, PartialEq)]
pub enum Change {
    /// A setting has this value; none: it is not set.
    Setting(&'static str, Option<String>),
    /// What is said of a rule: its name, a field, and the value; none: as the program comes.
    Rule(&'static str, &'static str, Option<String>),
    /// A view.
    View(Box<View>),
    /// A set of columns under a name.
    Columns(String, String),
    /// A set of charts under a name.
    Charts(String, String),
}

/// Makes a change in a text of settings and leaves everything else as it is.
pub fn changed(text: &str, change: &Change) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
        let line = error.span().map_or(1, |span| toml_line(text, span.start));
        format!("settings.toml is broken in line {line} and stays as it is; mend it first")
    })?;
    let table = |document: &mut DocumentMut, name: &str| -> Result<(), String> {
        let item = document.entry(name).or_insert_with(|| {
            let mut table = Table::new();
            table.set_implicit(name == "views");
            Item::Table(table)
        });
        if item.is_table_like() {
            Ok(())
        } else {
            Err(format!("'{name}' in settings.toml is no table; mend it first"))
        }
    };
    match change {
        Change::Setting(name, None) => drop(document.remove(name)),
        Change::Setting(name, Some(value)) => put(document.as_table_mut(), name, value),
        Change::Columns(name, text) | Change::Charts(name, text) => {
            let of = if matches!(change, Change::Columns(..)) { "columns" } else { "charts" };
            table(&mut document, of)?;
            if let Some(table) = document[of].as_table_like_mut() {
                put(table, name, text);
            }
        }
        Change::Rule(rule, field, value) => {
            table(&mut document, "findings")?;
            if let Some(findings) = document["findings"].as_table_mut() {
                findings.set_implicit(true);
            }
            let Some(findings) = document["findings"].as_table_like_mut() else { return Ok(text.to_owned()) };
            if findings.get(rule).is_none() {
                findings.insert(rule, Item::Table(Table::new()));
            }
            let of_rule = findings.get_mut(rule).and_then(Item::as_table_like_mut);
            let of_rule = of_rule
                .ok_or_else(|| format!("'findings.{rule}' in settings.toml is no table; mend it first"))?;
            match value {
                Some(value) => put(of_rule, field, value),
                None => drop(of_rule.remove(field)),
            }
        }
        Change::View(view) => {
            table(&mut document, "views")?;
            let mut fields = Table::new();
            for (name, value) in view.fields() {
                put(&mut fields, name, &value);
            }
            if let Some(views) = document["views"].as_table_like_mut() {
                views.insert(&view.name, Item::Table(fields));
            }
        }
    }
    Ok(document.to_string())
}

/// Puts a value in the place of the old one, with the comment behind it.
fn put(table: &mut dyn TableLike, name: &str, value: &str) {
    let mut new = match value {
        "true" => Value::from(true),
        "false" => Value::from(false),
        text => Value::from(text),
    };
    match table.get_mut(name).and_then(Item::as_value_mut) {
        Some(old) => {
            *new.decor_mut() = old.decor().clone();
            *old = new;
        }
        None => drop(table.insert(name, Item::Value(new))),
    }
}

/// Makes a change in the file itself.
pub fn change(configured: &Configured, change: &Change) -> Result<(), String> {
    let Some(path) = &configured.path else {
        return Err("there is no home folder to keep settings in; the change is for this session".to_owned());
    };
    let said = |problem: String| format!("not kept: {}: {problem}", path.display());
    let text = read(path).map_err(said)?.unwrap_or_default();
    let new = changed(&text, change)?;
    write(path, &new).map_err(|error| said(without_number(&error)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::settings::tests::values;
    use dozor_core::rank::Arrange;

    const FILE: &str = "# My machine room\npercent = \"machine\"  # as I am used to\n\n[columns]\ndisk = \"pid,write\"\nmine = \"pid,cpu\"\n\n\
        [views.night]\nlane = \"disk\"\narrange = \"family\"\n[keys]\nact = [\"ctrl-x\"]\n";

    #[test]
    fn what_the_file_says_is_set() {
        let mut values = values();
        apply(&mut values, FILE);
        assert_eq!(values.configured.problems, [] as [&str; 0]);
        assert!(values.of_machine);
        assert_eq!(values.configured.origin("percent"), Origin::File(2));
        assert_eq!(values.configured.origin("units"), Origin::Default);
        assert_eq!(values.configured.column_sets["mine"], "pid,cpu");
        let view = values.configured.views.iter().find(|view| view.name == "night").expect("the view");
        assert_eq!(view.arrange, Arrange::Family);
        assert_eq!(values.keys.key(crate::look::action::Action::Act), "ctrl-x");
    }

    #[test]
    fn mistakes_are_reported_with_line_and_nearest_name_and_the_rest_is_used() {
        let mut wrong = values();
        let text = "thme = \"dark\"\npercent = \"cpu\"\nunits = \"decimal\"\nmouse = [1]\norder = \"cpuu\"\n[views.a]\nlnes = \"cpu\"\n\
            [columns]\nx = \"pid,rrss\"\n[keys]\nacct = \"x\"\n[color]\nnarrow = 1\n";
        apply(&mut wrong, text);
        let problems: Vec<&str> =
            wrong.configured.problems.iter().map(|it| it.trim_start_matches("settings.toml, ")).collect();
        assert_eq!(
            problems,
            [
                "line 1: no setting is called 'thme'; did you mean 'theme'?",
                "line 2: percent: it cannot be 'cpu'; there are core, machine",
                "line 4: mouse is a text, a number, true or false",
                "line 5: order: no process metric is called 'cpuu'; did you mean 'cpu'?",
                "line 7: view a: a view has no 'lnes'; did you mean 'lanes'?",
                "line 9: columns x: no process metric is called 'rrss'; did you mean 'rss'?; dozor metrics lists them",
                "line 11: nothing that can be done is called 'acct'; did you mean 'act'?",
                "line 12: no setting is called 'color'; did you mean 'colors'?",
            ]
        );
        assert_eq!(wrong.steps, dozor_core::units::Steps::Decimal, "the rest is used");
        dozor_core::units::Steps::Binary.choose();
        let mut broken = values();
        apply(&mut broken, "percent = \n");
        assert!(broken.configured.problems[0].starts_with("settings.toml, line 1: "));
    }

    #[test]
    fn a_change_leaves_comments_and_order_as_they_are() {
        let change = |text: &str, change: Change| changed(text, &change).expect("a change");
        let with = change(FILE, Change::Setting("percent", Some("core".to_owned())));
        assert_eq!(with, FILE.replace("\"machine\"", "\"core\""));
        let with = change(&with, Change::Setting("threads", Some("true".to_owned())));
        assert!(with.contains("threads = true\n") && with.contains("# as I am used to"));
        let mut again = values();
        apply(&mut again, &with);
        assert!(again.threads && again.configured.problems.is_empty(), "{:?}", again.configured.problems);
        let without = change(&with, Change::Setting("threads", None));
        assert!(!without.contains("threads") && without.contains("# My machine room"));
        let with = change(FILE, Change::Columns("disk".to_owned(), "pid,read".to_owned()));
        assert!(with.contains("disk = \"pid,read\"") && with.contains("mine = \"pid,cpu\""));
        assert!(
            changed("percent = \n", &Change::Setting("units", None)).expect_err("broken").contains("line 1")
        );
        let view = again.view_called("as it is now");
        let with = change("", Change::View(Box::new(view.clone())));
        let mut other = values();
        apply(&mut other, &with);
        assert_eq!(other.configured.views.last(), Some(&view), "{with}");
    }
}
