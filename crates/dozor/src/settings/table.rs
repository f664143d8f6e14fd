//! Everything that can be set. The file, the screen of settings, `dozor settings` and `docs/settings.md` come from this
//! table.

use super::values::{CommandForm, Values};
use super::words::{lane_by_name, switch, unknown, word};
use crate::look::symbols::Symbols;
use crate::look::theme::Depth;
use clap::ValueEnum as _;
use dozor_core::expr::Expression;
use dozor_core::lane::Lane;
use dozor_core::rank::{Arrange, Order, Whose};
use dozor_core::units::{Steps, parse_duration};
use std::time::Duration;

/// What values a setting takes.
#[derive(Clone, Copy)]
pub enum Kind {
    /// True or false.
    Switch,
    /// One of these words.
    Choice(&'static [&'static str]),
    /// The themes that come with the program, and somebody's own.
    Theme,
    /// Text of a kind that the explanation says.
    Text,
}

/// One setting.
pub struct Setting {
    /// Its name in the file.
    pub name: &'static str,
    /// What values it takes.
    pub kind: Kind,
    /// Its value where nobody set it.
    pub default: &'static str,
    /// It is kept when the screen is left.
    pub left: bool,
    /// What it does.
    pub help: &'static str,
    get: fn(&Values) -> String,
    set: fn(&mut Values, &str) -> Result<(), String>,
}

impl Setting {
    /// Its value now.
    pub fn get(&self, values: &Values) -> String {
        (self.get)(values)
    }

    /// Sets it; says what is wrong with the value.
    pub fn set(&self, values: &mut Values, text: &str) -> Result<(), String> {
        if let Kind::Choice(words) = self.kind
            && !words.contains(&text)
        {
            return Err(unknown("it cannot be", text, words.iter().copied()));
        }
        (self.set)(values, text)
    }

    /// Words that it can be, where they are known.
    pub fn choices(&self, values: &Values) -> Vec<String> {
        match self.kind {
            Kind::Switch => vec!["false".to_owned(), "true".to_owned()],
            Kind::Choice(words) => words.iter().map(|word| (*word).to_owned()).collect(),
            Kind::Theme => theme_names(values),
            Kind::Text => vec![],
        }
    }
}

/// The setting with this name.
pub fn setting(name: &str) -> Option<&'static Setting> {
    SETTINGS.iter().find(|setting| setting.name == name)
}

/// Times over which rates can be means.
pub const MEANS: [&str; 4] = ["off", "5s", "10s", "30s"];
const THEMES: [&str; 4] = ["auto", "dark", "light", "mono"];

/// Names of all themes.
pub fn theme_names(values: &Values) -> Vec<String> {
    let own = values.configured.themes.iter().map(|own| own.name.clone());
    THEMES.map(str::to_owned).into_iter().chain(own).collect()
}

fn set_theme(values: &mut Values, name: &str) -> Result<(), String> {
    let names = theme_names(values);
    if !names.iter().any(|other| other == name) {
        return Err(unknown("no theme is called", name, names.iter().map(String::as_str)));
    }
    name.clone_into(&mut values.configured.theme);
    Ok(())
}

fn mean_word(mean: Duration) -> String {
    if mean.is_zero() { "off".to_owned() } else { format!("{}s", mean.as_secs()) }
}

fn set_every(values: &mut Values, text: &str) -> Result<(), String> {
    let every = parse_duration(text).map_err(|error| error.to_string())?;
    if every < Duration::from_millis(50) {
        return Err("the shortest interval is 50ms".to_owned());
    }
    values.every = every;
    Ok(())
}

fn set_patience(values: &mut Values, text: &str) -> Result<(), String> {
    let patience = parse_duration(text).map_err(|error| error.to_string())?;
    if patience > Duration::from_secs(600) {
        return Err("the longest patience is 10m".to_owned());
    }
    values.patience = patience;
    Ok(())
}

fn every_word(values: &Values) -> String {
    duration_word(values.every)
}

fn duration_word(duration: Duration) -> String {
    let ms = duration.as_millis();
    if ms.is_multiple_of(1000) { format!("{}s", ms / 1000) } else { format!("{ms}ms") }
}

fn yes(on: bool) -> String {
    on.to_string()
}

/// Puts the choice between a word for what the terminal shows, and values of clap's.
fn enum_word<T: clap::ValueEnum>(value: Option<T>) -> String {
    let word = value.and_then(|value| value.to_possible_value().map(|it| it.get_name().to_owned()));
    word.unwrap_or_else(|| "auto".to_owned())
}

/// All settings, in the order of the screen and the documents.
#[rustfmt::skip]
pub static SETTINGS: &[Setting] = &[
    Setting { name: "theme", kind: Kind::Theme, default: "auto", left: true,
        help: "Colours for a dark or a light background, none at all, or your own from the folder themes; auto: what the terminal says of its background.",
        get: |s| s.configured.theme.clone(), set: set_theme },
    Setting { name: "colors", kind: Kind::Choice(&["auto", "true", "256", "16", "none"]), default: "auto", left: false,
        help: "Colours that the terminal has, where that is not found out right.",
        get: |s| enum_word(s.configured.colors),
        set: |s, text| { s.configured.colors = Depth::from_str(text, false).ok(); Ok(()) } },
    Setting { name: "symbols", kind: Kind::Choice(&["auto", "unicode", "ascii"]), default: "auto", left: false,
        help: "Signs that the terminal can show; auto: what the locale says.",
        get: |s| enum_word(s.configured.symbols),
        set: |s, text| { s.configured.symbols = Symbols::from_str(text, false).ok(); Ok(()) } },
    Setting { name: "mouse", kind: Kind::Switch, default: "true", left: false,
        help: "The mouse is Dozor's; else it is the terminal's, and text can be selected with it.",
        get: |s| yes(s.mouse), set: |s, text| { s.mouse = switch(text)?; Ok(()) } },
    Setting { name: "every", kind: Kind::Text, default: "2s", left: false,
        help: "Time between readings, such as 500ms, 2s or 1m. Shorter costs more.",
        get: every_word, set: set_every },
    Setting { name: "patience", kind: Kind::Text, default: "5s", left: false,
        help: "How long a process is given to end after a signal before it counts as still there, up to 10m.",
        get: |s| duration_word(s.patience), set: set_patience },
    Setting { name: "percent", kind: Kind::Choice(&["core", "machine"]), default: "core", left: true,
        help: "Shares of CPU time in percent of one core, which can pass 100, or of the whole machine.",
        get: |s| if s.of_machine { "machine" } else { "core" }.to_owned(), set: |s, text| { s.of_machine = text == "machine"; Ok(()) } },
    Setting { name: "mean", kind: Kind::Choice(&MEANS), default: "off", left: true,
        help: "Rates of processes as means over this time instead of those of the last sample.",
        get: |s| mean_word(s.mean),
        set: |s, text| { s.mean = parse_duration(text).unwrap_or(Duration::ZERO); Ok(()) } },
    Setting { name: "units", kind: Kind::Choice(&["binary", "decimal"]), default: "binary", left: true,
        help: "Sizes in binary steps (KiB, MiB) or in decimal ones (kB, MB).",
        get: |s| if s.steps == Steps::Decimal { "decimal" } else { "binary" }.to_owned(),
        set: |s, text| { s.steps = if text == "decimal" { Steps::Decimal } else { Steps::Binary }; Ok(()) } },
    Setting { name: "times", kind: Kind::Choice(&["clock", "relative"]), default: "clock", left: true,
        help: "Times as the clock shows them, or counted back from now.",
        get: |s| if s.times_relative { "relative" } else { "clock" }.to_owned(), set: |s, text| { s.times_relative = text == "relative"; Ok(()) } },
    Setting { name: "command", kind: Kind::Choice(&["arguments", "whole", "name"]), default: "arguments", left: true,
        help: "The program with its arguments, the whole command line with the way to the program, or only the name.",
        get: |s| s.command_form.word().to_owned(), set: |s, text| { s.command_form = word(text, &CommandForm::ALL, CommandForm::word)?; Ok(()) } },
    Setting { name: "kernel_threads", kind: Kind::Switch, default: "true", left: false,
        help: "Threads of the kernel are shown.",
        get: |s| yes(s.narrowing.kernel_threads), set: |s, text| { s.narrowing.kernel_threads = switch(text)?; Ok(()) } },
    Setting { name: "threads", kind: Kind::Switch, default: "false", left: true,
        help: "Threads of processes are shown below them. It costs two files for each thread at each reading.",
        get: |s| yes(s.threads), set: |s, text| { s.threads = switch(text)?; Ok(()) } },
    Setting { name: "active", kind: Kind::Switch, default: "false", left: false,
        help: "Only processes that do something are shown.",
        get: |s| yes(s.narrowing.active), set: |s, text| { s.narrowing.active = switch(text)?; Ok(()) } },
    Setting { name: "whose", kind: Kind::Choice(&["everyone", "mine", "others"]), default: "everyone", left: false,
        help: "Everyone's processes, only your own, or only those of others.",
        get: |s| s.narrowing.whose.word().to_owned(), set: |s, text| { s.narrowing.whose = word(text, &Whose::ALL, Whose::word)?; Ok(()) } },
    Setting { name: "arrange", kind: Kind::Choice(&["flat", "family", "program", "user", "service", "container"]), default: "flat", left: true,
        help: "How processes are arranged.",
        get: |s| s.arrange.word().to_owned(), set: |s, text| { s.arrange = word(text, &Arrange::ALL, Arrange::word)?; Ok(()) } },
    Setting { name: "lane", kind: Kind::Choice(&["overview", "cpu", "memory", "disk", "network", "heat"]), default: "overview", left: true,
        help: "The lane that the screen begins with.",
        get: |s| s.lane.map_or("overview", Lane::name).to_owned(),
        set: |s, text| { let lane = lane_by_name(text)?; if lane != s.lane { s.look_at(lane); } Ok(()) } },
    Setting { name: "order", kind: Kind::Text, default: "cpu", left: true,
        help: "One or two metrics to order by, with a minus where the largest shall come first and a plus where the smallest shall: user,-rss. A lane that is chosen later brings its own.",
        get: |s| s.order.written(), set: |s, text| { s.order = Order::parse(text).map_err(|error| error.to_string())?; Ok(()) } },
    Setting { name: "narrow", kind: Kind::Text, default: "", left: false,
        help: "An expression that narrows; see docs/expressions.md.",
        get: |s| s.narrowing.expression.as_ref().map_or(String::new(), |it| it.text().to_owned()),
        set: |s, text| {
            let parsed = if text.trim().is_empty() { None } else { Some(Expression::parse(text).map_err(|error| error.message)?) };
            s.narrowing.expression = parsed;
           
            Ok(())
        } },
    Setting { name: "view", kind: Kind::Text, default: "", left: false,
        help: "The saved view that the screen begins with, by its name.",
        get: |s| s.configured.first_view.clone(),
        set: |s, text| {
            let found = s.configured.views.iter().find(|view| view.name == text).cloned();
            if let Some(view) = found { s.show(&view) } else if !text.is_empty() {
                return Err(unknown("no view is called", text, s.configured.views.iter().map(|view| view.name.as_str())));
            }
            text.clone_into(&mut s.configured.first_view);
            Ok(())
        } },
    Setting { name: "remember", kind: Kind::Switch, default: "true", left: false,
        help: "The screen begins as it was left.",
        get: |s| yes(s.configured.remember), set: |s, text| { s.configured.remember = switch(text)?; Ok(()) } },
    Setting { name: "cpu_model", kind: Kind::Text, default: "", left: false,
        help: "A name for the processor instead of the one that it states.",
        get: |s| s.configured.cpu_model.clone(), set: |s, text| { text.clone_into(&mut s.configured.cpu_model); Ok(()) } },
];

#[cfg(test)]
mod tests {
    use super::*;
    use crate::settings::tests::values;

    #[test]
    fn every_setting_takes_its_default_and_each_of_its_choices_and_refuses_nonsense() {
        let mut values = values();
        for setting in SETTINGS {
            assert_eq!(setting.get(&values), setting.default, "{}: as the program comes", setting.name);
            assert!(setting.help.ends_with('.'), "{}", setting.name);
            for choice in setting.choices(&values).into_iter().chain([setting.default.to_owned()]) {
                setting.set(&mut values, &choice).unwrap_or_else(|error| panic!("{}: {error}", setting.name));
                assert_eq!(setting.get(&values), choice, "{}", setting.name);
            }
            if !matches!(setting.name, "cpu_model") {
                assert!(setting.set(&mut values, "narrow = (").is_err(), "{} takes nonsense", setting.name);
                assert_eq!(
                    setting.get(&values),
                    setting.default,
                    "{}: what was refused changes nothing",
                    setting.name
                );
            }
        }
    }
}
