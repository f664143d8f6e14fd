//! How the screen was left: `dozor/state.toml` in the folder for state. Each kind of screen (this machine, the demo, a
//! replay) is remembered on its own.

use super::configured::Origin;
use super::file::{Places, read, write};
use super::table::{SETTINGS, Setting};
use super::values::Values;
use super::words::{lane_by_name, lane_name};
use crate::look::columns::ColumnSet;
use crate::look::lane_stack::LaneStack;
use dozor_core::lane::Lane;
use dozor_core::text::{clean, without_number};
use toml_edit::{Array, DocumentMut, Item, Table, value};

/// Whether a screen is remembered as a whole: of the demo only how it looks is, so that each beginning of it is the same.
fn is_whole(screen: &str) -> bool {
    screen != "demo"
}

fn is_remembered(screen: &str, setting: &Setting) -> bool {
    setting.left && (is_whole(screen) || matches!(setting.name, "theme" | "units"))
}

/// Puts the screen as it was left. Values whose configured value has changed since then are left alone; a broken file, or a
/// broken part of it, is of no importance.
pub fn restore(values: &mut Values, places: &Places, screen: &str) {
    let Some(text) = places.state_file().and_then(|path| read(&path).ok().flatten()) else { return };
    let Ok(document) = text.parse::<DocumentMut>() else { return };
    let text_of =
        |table: &str, name: &str| document.get(screen)?.get(table)?.get(name)?.as_str().map(str::to_owned);
    let lanes = |name: &str| -> Option<Vec<Lane>> {
        let words = text_of("screen", name)?;
        words
            .split(',')
            .filter(|word| !word.is_empty())
            .map(|word| lane_by_name(word).ok().flatten())
            .collect()
    };
    if let (Some(shown), Some(folded)) = (lanes("lanes"), lanes("folded"))
        && is_whole(screen)
    {
        values.lanes = LaneStack::of(&shown, &folded);
    }
    if let Some(titles) = text_of("screen", "explained").filter(|_| is_whole(screen)) {
        values.explained = titles.split(',').map(str::to_owned).collect();
    }
    for lane in Lane::ALL.map(Some).into_iter().chain([None]).filter(|_| is_whole(screen)) {
        let name = lane_name(lane);
        if text_of("configured_columns", name).as_ref() != values.configured.lane_columns.get(name) {
            continue;
        }
        if let Some(set) = text_of("columns", name).and_then(|text| ColumnSet::parse(&text).ok()) {
            values.column_sets.insert(lane, set);
        }
    }
    let quiet = document.get(screen).and_then(|it| it.get("quiet")).and_then(Item::as_table);
    for (name, span) in quiet.into_iter().flatten().filter(|_| is_whole(screen)) {
        let text = span.as_str().and_then(|text| text.split_once(' '));
        if let Some((Ok(since), Ok(until))) = text.map(|(since, until)| (since.parse(), until.parse())) {
            values.quiet.insert(clean(name.as_bytes()), (since, until));
        }
    }
    let history = document.get(screen).and_then(|it| it.get("history")).and_then(Item::as_array);
    if let Some(history) = history.filter(|_| is_whole(screen)) {
        values.history = history.iter().filter_map(|it| it.as_str().map(str::to_owned)).collect();
    }
    for setting in SETTINGS.iter().filter(|setting| is_remembered(screen, setting)) {
        let Some(left) = text_of("values", setting.name) else { continue };
        let configured_then = text_of("configured", setting.name);
        let configured = values.configured.in_file.get(setting.name);
        if configured_then.as_ref() == configured
            && setting.get(values) != left
            && setting.set(values, &left).is_ok()
        {
            values.configured.origins.insert(setting.name, Origin::Left);
        }
    }
}

/// Keeps how the screen is left.
pub fn keep(values: &Values, places: &Places, screen: &str) -> Result<(), String> {
    let Some(path) = places.state_file().filter(|_| values.configured.remember) else { return Ok(()) };
    // Said at the start already.
    if places.state_refused().is_some() {
        return Ok(());
    }
    let old = read(&path).ok().flatten().and_then(|text| text.parse::<DocumentMut>().ok());
    let mut document = old.unwrap_or_default();
    document[screen] = Item::Table(table_of(values, document.get(screen)));
    write(&path, &document.to_string())
        .map_err(|error| format!("{}: {}", path.display(), without_number(&error)))
}

fn table_of(values: &Values, old: Option<&Item>) -> Table {
    // What the command line said was for that time only; what was kept before is kept on.
    let before = |table: &str, name: &str| old?.get(table)?.get(name)?.as_str();
    let names = |lanes: Vec<Lane>| lanes.iter().map(|lane| lane.name()).collect::<Vec<_>>().join(",");
    let mut whole = Table::new();
    let (mut left, mut configured, mut screen) = (Table::new(), Table::new(), Table::new());
    let (mut columns, mut configured_columns) = (Table::new(), Table::new());
    for setting in SETTINGS.iter().filter(|setting| setting.left) {
        if values.configured.origin(setting.name) == Origin::CommandLine {
            for (table, kept) in [("values", &mut left), ("configured", &mut configured)] {
                if let Some(text) = before(table, setting.name) {
                    kept[setting.name] = value(text);
                }
            }
            continue;
        }
        left[setting.name] = value(setting.get(values));
        if let Some(in_file) = values.configured.in_file.get(setting.name) {
            configured[setting.name] = value(in_file.clone());
        }
    }
    screen["lanes"] = value(names(values.lanes.shown(None)));
    screen["folded"] =
        value(names(Lane::ALL.into_iter().filter(|lane| values.lanes.is_folded(*lane)).collect()));
    screen["explained"] = value(values.explained.join(","));
    for (lane, set) in &values.column_sets {
        let given = values.configured.given_columns.as_ref() == Some(&(*lane, set.clone()));
        let text = if given {
            before("columns", lane_name(*lane)).map(str::to_owned)
        } else {
            Some(set.to_string())
        };
        if let Some(text) = text {
            columns[lane_name(*lane)] = value(text);
        }
    }
    for (name, set) in &values.configured.lane_columns {
        configured_columns[name] = value(set.clone());
    }
    whole["values"] = Item::Table(left);
    whole["configured"] = Item::Table(configured);
    whole["screen"] = Item::Table(screen);
    whole["columns"] = Item::Table(columns);
    whole["configured_columns"] = Item::Table(configured_columns);
    let mut quiet = Table::new();
    for (name, (since, until)) in &values.quiet {
        quiet[name.as_str()] = value(format!("{since} {until}"));
    }
    whole["quiet"] = Item::Table(quiet);
    whole["history"] = value(values.history.iter().map(String::as_str).collect::<Array>());
    whole
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::settings::file;
    use crate::settings::tests::values;

    #[test]
    fn the_screen_comes_back_as_it_was_left_unless_the_file_has_changed() {
        let folder = tempfile::tempdir().expect("a folder");
        let places = Places { settings: None, state: Some(folder.path().join("deep/dozor")) };
        let mut left = values();
        file::apply(&mut left, "times = \"relative\"\npercent = \"core\"\n");
        left.of_machine = true;
        left.times_relative = false;
        left.lanes.hide(Lane::Heat);
        left.lanes.fold(Some(Lane::Cpu));
        left.column_sets.insert(Some(Lane::Disk), ColumnSet::parse("pid,write:10").expect("a set"));
        left.history = vec!["cpu > 5%".to_owned()];
        left.quiet =
            [("disk-saturated sda".to_owned(), (5, i64::MAX)), ("leak \"x\"".to_owned(), (7, 9))].into();
        left.explained = vec!["protocols".to_owned(), "classes of CPU time".to_owned()];
        // What would hide somebody is not kept.
        left.narrowing.expression = dozor_core::expr::Expression::parse("cpu > 5%").ok();
        left.narrowing.active = true;
        left.narrowing.kernel_threads = false;
        keep(&left, &places, "watch").expect("it is kept");
        keep(&values(), &places, "demo").expect("it is kept");

        let mut again = values();
        // The configured times are what they were, the configured percent is not.
        file::apply(&mut again, "times = \"relative\"\npercent = \"machine\"\n");
        restore(&mut again, &places, "watch");
        assert!(!again.times_relative && again.configured.origin("times") == Origin::Left);
        assert_eq!(again.configured.origin("percent"), Origin::File(2));
        assert_eq!(again.lanes, left.lanes);
        assert_eq!(again.quiet, left.quiet, "what one is quiet about");
        assert_eq!(again.explained, left.explained, "what was explained once");
        assert_eq!(again.column_sets, left.column_sets);
        // A set that was written into the file since then goes before the one that was left.
        let mut edited = values();
        file::apply(&mut edited, "[columns]\ndisk = \"pid,read\"\n");
        restore(&mut edited, &places, "watch");
        assert_eq!(edited.column_sets[&Some(Lane::Disk)].to_string(), "pid,read");
        assert_eq!(again.history, left.history);
        let narrowing = &again.narrowing;
        assert!(narrowing.expression.is_none() && !narrowing.active && narrowing.kernel_threads);
        // The demo remembers only how it looks.
        let mut demo = values();
        demo.of_machine = true;
        demo.steps = dozor_core::units::Steps::Decimal;
        demo.column_sets.insert(Some(Lane::Disk), ColumnSet::parse("pid,write").expect("a set"));
        keep(&demo, &places, "demo").expect("it is kept");
        let mut demo = values();
        restore(&mut demo, &places, "demo");
        assert!(!demo.of_machine && demo.column_sets.is_empty());
        assert_eq!(demo.steps, dozor_core::units::Steps::Decimal);
        dozor_core::units::Steps::Binary.choose();
        // What the command line says is for one time: what was kept before stays.
        let mut once = values();
        file::apply(&mut once, "times = \"relative\"\npercent = \"core\"\n");
        restore(&mut once, &places, "watch");
        once.of_machine = false;
        once.configured.origins.insert("percent", Origin::CommandLine);
        let given = ColumnSet::parse("pid,command").expect("a set");
        once.column_sets.insert(Some(Lane::Disk), given.clone());
        once.configured.given_columns = Some((Some(Lane::Disk), given));
        keep(&once, &places, "watch").expect("it is kept");
        let mut after = values();
        file::apply(&mut after, "times = \"relative\"\npercent = \"core\"\n");
        restore(&mut after, &places, "watch");
        assert!(after.of_machine);
        assert_eq!(after.column_sets, left.column_sets);
        let mut other = values();
        restore(&mut other, &places, "demo");
        assert!(other.column_sets.is_empty(), "another kind of screen is remembered on its own");
        std::fs::write(folder.path().join("deep/dozor/state.toml"), "broken = ").expect("written");
        restore(&mut other, &places, "watch");
        keep(&left, &places, "watch").expect("a broken file is written anew");
    }
}
