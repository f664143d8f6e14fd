//! `dozor settings`: what is set, and where it comes from.

use crate::look::theme::Found;
use crate::settings::file::{self, Places};
use crate::settings::left;
use crate::settings::table::SETTINGS;
use crate::settings::values::Values;
use anyhow::Result;
use clap::{Args, ValueEnum};
use serde_json::json;
use std::io::{self, Write as _};
use std::time::Duration;

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// For people
    Text,
    /// An object
    Json,
}

#[derive(Args)]
pub struct Settings {
    /// How it is written
    #[arg(long, value_enum, default_value = "text")]
    format: Format,
}

impl Settings {
    pub fn run(self) -> Result<Option<i32>> {
        let places = Places::find();
        let mut values = Values::new(Duration::from_secs(2));
        values.configured.found = Some(Found::by(|name| std::env::var(name).ok()));
        file::load(&mut values, &places);
        if values.configured.remember {
            left::restore(&mut values, &places, "watch");
        }
        let mut out = io::BufWriter::new(io::stdout().lock());
        let configured = &values.configured;
        if self.format == Format::Json {
            let set: serde_json::Map<String, serde_json::Value> = SETTINGS
                .iter()
                .map(|setting| {
                    let origin = configured.origin(setting.name).words();
                    let value =
                        json!({"value": setting.get(&values), "default": setting.default, "origin": origin});
                    (setting.name.to_owned(), value)
                })
                .collect();
            let views: Vec<_> = configured.views.iter().map(|view| &view.name).collect();
            let whole = json!({
                "file": configured.path, "settings": set, "views": views,
                "columns": configured.column_sets, "problems": configured.problems,
            });
            writeln!(out, "{}", serde_json::to_string_pretty(&whole)?)?;
        } else {
            match &configured.path {
                Some(path) if path.exists() => writeln!(out, "{}", path.display())?,
                Some(path) => writeln!(out, "{} (not there yet)", path.display())?,
                None => writeln!(out, "no home folder: nothing is kept")?,
            }
            for setting in SETTINGS {
                let value = setting.get(&values);
                let value = if value.is_empty() { "–".to_owned() } else { value };
                writeln!(
                    out,
                    "{:<15} {value:<12} {}",
                    setting.name,
                    configured.origin(setting.name).words()
                )?;
            }
            for view in &configured.views {
                let own = if view.shipped { "" } else { "  (your own)" };
                writeln!(out, "view            {:<12} {}{own}", view.name, view.describe())?;
            }
            for (name, columns) in &configured.column_sets {
                writeln!(out, "columns         {name:<12} {columns}")?;
            }
        }
        out.flush()?;
        for problem in &configured.problems {
            super::problem::say(problem);
        }
        Ok(None)
    }
}

/// Rules of one's own, in the document.
#[cfg(test)]
const RULES: &str = r#"
## Rules of your own

A `[[rule]]` says what must hold for a process, as an [expression](expressions.md), for how long, how bad that is, and what is said. Placeholders
are metrics of processes (`{name}`, `{pid}`, `{cpu}`), `{process}` is `name[pid]`. It stands among [what stands out](findings.md) on the
screen and in `dozor check`. As it begins on the live screen it may ring the bell and start one command: without a shell, with `{say}` as what was
said, in a session of its own that is ended as a whole after 30 s and when Dozor ends. Commands run one after the other; nothing is started unless `run` says so. A rule with a
mistake is left out and told with its line.

Since settings start commands, the file, the folders above it and every link on the way must belong to you or root, and nobody else may write them (nor may the file stand directly
in a folder that others may write, as `/tmp`). Else nothing of it is read, which is said once. The same holds for themes, for how the screen was left, and for token files.

```toml
[[rule]]
name = "astro writes much"
when = "write > 50 MiB/s and user = astro"
for = "10s"              # 5s where it is not said
severity = "warning"     # notice, warning or critical; notice where it is not said
say = "{process} writes {write}"
bell = true
run = ["logger", "-t", "dozor", "{say}"]
```

## Limits of the rules

What [a rule](findings.md) of Dozor takes for too much can be said otherwise, in the words of expressions: one value, or as many as the rule has, such
as three for notice, warning and critical; `never` leaves one out. `for` and `over` are how long it must hold and be away, `severity` how bad it may be at
most, `off` that it is not to be heard of. This holds for the screen, `dozor check` and what `dozor serve` tells; tables, charts and reports of
recordings have the limits that Dozor comes with, so that those of many machines can be held against each other.

```toml
[findings.swapping]
in = "2 MB/s, 16 MB/s, never"
for = "10s"
[findings.leak]
severity = "notice"
[findings.zombies]
off = true
```
"#;

/// The text of `docs/settings.md`.
#[cfg(test)]
pub fn markdown() -> String {
    use crate::look::theme::{GROUNDS, ROLES};
    use crate::settings::view::{FIELDS, shipped};
    use std::fmt::Write as _;
    let values = Values::new(Duration::from_secs(2));
    let mut out = String::from(
        "# Settings\n\nMade from the table of settings (`crates/dozor/src/settings/table.rs`); a test keeps it current.\n\n\
         Settings stand in `dozor/settings.toml` in the folder for settings (`$XDG_CONFIG_HOME`, else `~/.config`). They can \
         be changed there or on the screen (`,`); a change from the screen leaves comments and everything else as it is. \
         What is wrong in the file is reported with its line, and the rest is used. `dozor settings` prints what is in \
         force and where each value comes from.\n\nHow the screen was left is kept apart, in `dozor/state.toml` in the \
         folder for state (`$XDG_STATE_HOME`, else `~/.local/state`), for this machine, the demo and replays each on \
         its own. It goes before the configured value until that changes; options of the command line go before \
         both.\n\n| setting | values | default | kept when left | meaning |\n|---|---|---|---|---|\n",
    );
    for setting in SETTINGS {
        let choices = setting.choices(&values);
        let values = if choices.is_empty() {
            "text".to_owned()
        } else {
            choices.iter().map(|choice| format!("`{choice}`")).collect::<Vec<_>>().join(" ")
        };
        let default =
            if setting.default.is_empty() { "none".to_owned() } else { format!("`{}`", setting.default) };
        let left = if setting.left { "yes" } else { "" };
        let _ = writeln!(out, "| `{}` | {values} | {default} | {left} | {} |", setting.name, setting.help);
    }
    out.push_str(EXAMPLE);
    let _ = write!(
        out,
        "\n## Views\n\nFields of a view: {}. These come with the program:\n\n",
        FIELDS.map(|field| format!("`{field}`")).join(", ")
    );
    for view in shipped() {
        let _ = writeln!(out, "- **{}**: {}", view.name, view.describe());
    }
    out.push_str(RULES);
    out.push_str(
        "\n## Own themes\n\nA theme is a file `themes/NAME.toml` beside the settings: colours as `\"#rrggbb\"` for roles and \
         backgrounds, laid over the theme for a dark or a light background. What is not in it is as there.\n\n\
         ```toml\nbase = \"dark\"\n[roles]\naccent = \"#e6ad52\"\n[grounds]\nscreen = \"#101418\"\n```\n\n| role | what has it |\n|---|---|\n",
    );
    for (name, _, help) in ROLES {
        let _ = writeln!(out, "| `{name}` | {help} |");
    }
    out.push_str("\n| background | of what |\n|---|---|\n");
    for (name, _, help) in GROUNDS {
        let _ = writeln!(out, "| `{name}` | {help} |");
    }
    out
}

#[cfg(test)]
const EXAMPLE: &str = r#"
## An example

```toml
percent = "machine"         # shares of the whole machine
every = "1s"

[columns]                   # the name of a lane, or a name of your own
disk = "pid,user,state,disk,write:10:MiB,read,trend,command"
short = "pid,cpu,rss,command"

[views.archive]
lane = "disk"
folded = "cpu, memory, network, heat"
order = "write"
narrow = "archived or vaultsync"

[keys]                      # names as in docs/keys.md
act = ["x", "ctrl-x"]
"save view" = "f5"
```
"#;
