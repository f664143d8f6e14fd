//! Own themes: a file of colours for roles, laid over the theme for a dark or for a light background.

use super::words::toml_line;
use crate::look::theme::{GROUNDS, Own, ROLES};
use dozor_core::text::nearest;
use dozor_linux::trusted;
use std::path::Path;
use std::sync::Arc;
use toml_edit::{Document, Item, TableLike};

/// Themes of a folder, and what is wrong with them. A theme with a mistake is used without what is wrong in it; one that
/// cannot be read at all is left out.
pub fn read(folder: &Path) -> (Vec<Arc<Own>>, Vec<String>) {
    let (mut themes, mut problems) = (vec![], vec![]);
    let Ok(entries) = std::fs::read_dir(folder) else { return (themes, problems) };
    let mut files: Vec<_> = entries.flatten().map(|entry| entry.path()).collect();
    files.sort();
    for file in files.iter().filter(|file| file.extension().is_some_and(|extension| extension == "toml")) {
        let name = file.file_stem().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let shown = format!("themes/{name}.toml");
        match trusted::read_text(file, super::LARGEST) {
            Err(problem) => problems.push(format!("{shown}: {problem}")),
            Ok(None) => {}
            Ok(Some(text)) => {
                let (theme, found) = parse(&name, &text);
                problems.extend(found.into_iter().map(|problem| format!("{shown} {problem}")));
                themes.extend(theme.map(Arc::new));
            }
        }
    }
    (themes, problems)
}

/// Reads a theme; without one where the text is no TOML.
pub fn parse(name: &str, text: &str) -> (Option<Own>, Vec<String>) {
    let document = match Document::parse(text) {
        Ok(document) => document,
        Err(error) => {
            let line = error.span().map_or(1, |span| toml_line(text, span.start));
            return (None, vec![format!("line {line}: {}", first_line(error.message()))]);
        }
    };
    let mut theme = Own { name: name.to_owned(), ..Own::default() };
    let mut problems = vec![];
    for (key, item) in document.iter() {
        let line = item.span().map_or(1, |span| toml_line(text, span.start));
        match (key, item) {
            ("base", item) => match item.as_str() {
                Some("dark") => theme.light = false,
                Some("light") => theme.light = true,
                _ => problems.push(format!("line {line}: base is \"dark\" or \"light\"")),
            },
            ("roles", item) => {
                let names = ROLES.map(|(name, role, _)| (name, role));
                theme.roles = colours(item, text, &names, &mut problems);
            }
            ("grounds", item) => {
                let names = GROUNDS.map(|(name, ground, _)| (name, ground));
                theme.grounds = colours(item, text, &names, &mut problems);
            }
            (other, _) => {
                let near = nearest(other, ["base", "roles", "grounds"]);
                let hint = near.map(|near| format!("; did you mean '{near}'?")).unwrap_or_default();
                problems.push(format!("line {line}: a theme has no '{other}'{hint}"));
            }
        }
    }
    (Some(theme), problems)
}

fn first_line(text: &str) -> &str {
    text.lines().next().unwrap_or_default()
}

fn colours<T: Copy>(
    item: &Item,
    text: &str,
    names: &[(&str, T)],
    problems: &mut Vec<String>,
) -> Vec<(T, u32)> {
    let mut found = vec![];
    let entries = item.as_table_like().map(TableLike::iter).into_iter().flatten();
    for (key, item) in entries {
        let line = item.span().map_or(1, |span| toml_line(text, span.start));
        let Some((_, role)) = names.iter().find(|(name, _)| *name == key) else {
            let near = nearest(key, names.iter().map(|(name, _)| *name));
            let hint = near.map(|near| format!("; did you mean '{near}'?")).unwrap_or_default();
            problems.push(format!("line {line}: nothing is coloured by '{key}'{hint}"));
            continue;
        };
        let rgb =
            item.as_str().and_then(|colour| colour.strip_prefix('#')).filter(|digits| digits.len() == 6);
        match rgb.and_then(|digits| u32::from_str_radix(digits, 16).ok()) {
            Some(rgb) => found.push((*role, rgb)),
            None => problems.push(format!("line {line}: the colour of {key} is written \"#rrggbb\"")),
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::look::theme::{Depth, Ground, Role, Theme};
    use ratatui::style::Color;

    #[test]
    fn own_colours_are_laid_over_a_theme() {
        let (theme, problems) =
            parse("dusk", "base = \"light\"\n[roles]\naccent = \"#102030\"\n[grounds]\nscreen = '#fffdf0'\n");
        assert_eq!(problems, [] as [&str; 0]);
        let theme = Theme::new(Depth::True, false).with(Arc::new(theme.expect("a theme")));
        assert_eq!(theme.role(Role::Accent).fg, Some(Color::Rgb(0x10, 0x20, 0x30)));
        assert_eq!(theme.ground(Ground::Screen).bg, Some(Color::Rgb(0xff, 0xfd, 0xf0)));
        let light = Theme::new(Depth::True, true);
        assert_eq!(theme.role(Role::Text), light.role(Role::Text), "the rest is the theme's below");
        let indexed = Theme { depth: Depth::Indexed, ..theme };
        assert!(matches!(indexed.role(Role::Accent).fg, Some(Color::Indexed(_))));
    }

    #[test]
    fn mistakes_are_named_by_line_and_the_rest_is_used() {
        let text =
            "base = \"dim\"\n[roles]\nacent = \"#102030\"\ntext = \"red\"\nquiet = \"#445566\"\n[ground]\n";
        let (theme, problems) = parse("dusk", text);
        assert_eq!(
            problems,
            [
                "line 1: base is \"dark\" or \"light\"",
                "line 3: nothing is coloured by 'acent'; did you mean 'accent'?",
                "line 4: the colour of text is written \"#rrggbb\"",
                "line 6: a theme has no 'ground'; did you mean 'grounds'?",
            ]
        );
        assert_eq!(theme.expect("a theme").roles, [(Role::Quiet, 0x0044_5566)]);
        let (theme, problems) = parse("broken", "[roles\n");
        assert!(theme.is_none() && problems[0].starts_with("line 1: "), "{problems:?}");
    }
}
