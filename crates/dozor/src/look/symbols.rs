//! Signs for terminals that cannot show more than ASCII: the finished screen is translated cell by cell, so that
//! nothing else has to know about it.

use ratatui::buffer::Buffer;

/// Which signs the terminal can show.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Symbols {
    /// Block elements, arrows and signs of Unicode.
    #[default]
    Unicode,
    /// ASCII only.
    Ascii,
}

/// Sign, and what stands for it.
const TABLE: &[(&str, &str)] = &[
    ("▁", "."),
    ("▂", ":"),
    ("▃", "-"),
    ("▄", "="),
    ("▅", "+"),
    ("▆", "*"),
    ("▇", "%"),
    ("█", "#"),
    ("▏", "."),
    ("▎", ":"),
    ("▍", "-"),
    ("▋", "="),
    ("▊", "+"),
    ("▉", "*"),
    ("▓", "="),
    ("▒", "+"),
    ("░", ":"),
    ("▚", "%"),
    ("▌", "|"),
    ("■", "#"),
    ("·", "."),
    ("◇", "-"),
    ("▲", "!"),
    ("◆", "#"),
    ("–", "-"),
    ("−", "-"),
    ("×", "x"),
    ("…", "~"),
    ("▸", ">"),
    ("▹", ">"),
    ("▿", "v"),
    ("└", "`"),
    ("├", "|"),
    ("≥", ">"),
    ("≤", "<"),
    ("←", "<"),
    ("→", ">"),
    ("✓", "*"),
    ("▾", "v"),
    ("▀", "*"),
    ("○", "0"),
    ("▪", "x"),
    ("≈", "~"),
    ("✎", "n"),
    ("▴", "^"),
    ("│", "|"),
    ("┃", "|"),
    ("╵", "'"),
    ("╷", ","),
    ("─", "-"),
    ("━", "="),
    ("┄", "-"),
    ("●", "o"),
    ("⚑", "B"),
    ("✶", "*"),
    ("↑", "^"),
    ("↓", "v"),
    ("°", "'"),
    ("µ", "u"),
    ("¼", "q"),
    ("½", "h"),
    ("╌", "-"),
    ("▕", "|"),
    ("╳", "X"),
    ("›", ">"),
    ("←", "<"),
    ("▴", "^"),
    ("▾", "v"),
];

impl Symbols {
    /// Finds out what the locale says, from environment variables given by a lookup; locale(7).
    pub fn detect(variable: impl Fn(&str) -> Option<String>) -> Symbols {
        let set = |name: &&str| variable(name).filter(|value| !value.is_empty());
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"].iter().find_map(set);
        let is_utf8 = |locale: &String| {
            let locale = locale.to_lowercase();
            locale.contains("utf-8") || locale.contains("utf8")
        };
        // Without any locale there is nothing to go by; nearly all terminals of today show UTF-8.
        match locale {
            Some(locale) if !is_utf8(&locale) => Symbols::Ascii,
            _ => Symbols::Unicode,
        }
    }

    /// Translates a finished screen.
    pub fn apply(self, buffer: &mut Buffer) {
        if self == Symbols::Unicode {
            return;
        }
        for cell in &mut buffer.content {
            let symbol = cell.symbol();
            if !symbol.is_ascii() {
                let found = TABLE.iter().find(|(sign, _)| *sign == symbol);
                cell.set_symbol(found.map_or("?", |(_, ascii)| ascii));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use dozor_core::lane::Severity;
    use ratatui::layout::Rect;
    use ratatui::style::Style;
    use std::path::Path;

    #[test]
    fn the_locale_says_what_can_be_shown() {
        let detect = |pairs: &[(&str, &str)]| {
            Symbols::detect(|name| {
                pairs.iter().find(|(key, _)| *key == name).map(|(_, value)| (*value).to_owned())
            })
        };
        assert_eq!(detect(&[]), Symbols::Unicode);
        assert_eq!(detect(&[("LANG", "cs_CZ.UTF-8")]), Symbols::Unicode);
        assert_eq!(detect(&[("LANG", "C.utf8")]), Symbols::Unicode);
        assert_eq!(detect(&[("LANG", "de_DE.ISO-8859-1")]), Symbols::Ascii);
        assert_eq!(detect(&[("LANG", "cs_CZ.UTF-8"), ("LC_ALL", "C")]), Symbols::Ascii);
        assert_eq!(detect(&[("LC_ALL", ""), ("LC_CTYPE", "POSIX"), ("LANG", "C.UTF-8")]), Symbols::Ascii);
    }

    /// Signs in the texts of the program's own source: everything that is drawn comes from there.
    fn drawn() -> std::collections::BTreeSet<char> {
        let mut found = std::collections::BTreeSet::new();
        let mut folders =
            ["src", "../core/src"].map(|path| Path::new(env!("CARGO_MANIFEST_DIR")).join(path)).to_vec();
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).expect("the source").flatten() {
                let path = entry.path();
                let is_test = path.file_name().is_some_and(|name| name == "tests" || name == "tests.rs");
                if path.is_dir() && !is_test {
                    folders.push(path);
                } else if path.extension().is_some_and(|extension| extension == "rs") && !is_test {
                    let text = std::fs::read_to_string(&path).expect("the source");
                    let own = text.split("#[cfg(test)]").next().unwrap_or_default();
                    let lines = own.lines().filter(|line| !line.trim_start().starts_with("//"));
                    found.extend(lines.flat_map(str::chars).filter(|c| !c.is_ascii()));
                }
            }
        }
        found
    }

    #[test]
    fn every_sign_that_is_drawn_has_one_in_ascii() {
        assert!(drawn().len() > 40, "the source is looked through");
        let missing: Vec<char> =
            drawn().into_iter().filter(|sign| !TABLE.iter().any(|(of, _)| of.chars().eq([*sign]))).collect();
        assert_eq!(missing, [] as [char; 0]);
    }

    #[test]
    fn nothing_but_ascii_is_left_and_severities_stay_apart() {
        let severities = [Severity::Fine, Severity::Notice, Severity::Warning, Severity::Critical];
        let text: String = severities.iter().map(|severity| severity.sign()).collect();
        let mut buffer = Buffer::empty(Rect::new(0, 0, 30, 1));
        buffer.set_string(0, 0, format!("{text} ▁▂▃▄▅▆▇█ žluť 83 °C"), Style::new());
        Symbols::Ascii.apply(&mut buffer);
        let line: String = buffer.content.iter().map(ratatui::buffer::Cell::symbol).collect();
        assert_eq!(line.trim_end(), ".-!# .:-=+*%# ?lu? 83 'C");
    }
}
