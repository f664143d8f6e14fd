//! Rules of one's own in the file of settings: `[[rule]]` tables.

use super::words::{toml_line, unknown};
use dozor_core::expr::Expression;
use dozor_core::findings::OwnRule;
use dozor_core::lane::Severity;
use dozor_core::units::parse_duration;
use toml_edit::{Item, Value};

/// What a rule may say.
const FIELDS: [&str; 7] = ["name", "when", "for", "severity", "say", "bell", "run"];

/// Reads them; a rule with a mistake is left out, and told with its line.
pub fn read(rules: &Item, text: &str, problems: &mut Vec<(usize, String)>) -> Vec<OwnRule> {
    let Some(tables) = rules.as_array_of_tables() else {
        let line = rules.span().map_or(1, |span| toml_line(text, span.start));
        problems.push((line, "a rule is a table of its own: [[rule]]".to_owned()));
        return vec![];
    };
    let mut found: Vec<OwnRule> = vec![];
    // Until it says what.
    let Ok(anything) = Expression::parse("pid > 0") else { return found };
    for table in tables {
        let begin = table.span().map_or(1, |span| toml_line(text, span.start));
        let mut rule = OwnRule {
            name: String::new(),
            when: anything.clone(),
            seconds: 5.0,
            severity: Severity::Notice,
            say: String::new(),
            bell: false,
            run: vec![],
        };
        let (mut wrong, mut has_when) = (false, false);
        for (field, item) in table {
            let line = item.span().map_or(begin, |span| toml_line(text, span.start));
            has_when |= field == "when";
            if let Err(problem) = set(&mut rule, field, item) {
                wrong = true;
                problems.push((line, format!("rule: {problem}")));
            }
        }
        let problem = if rule.name.is_empty() {
            Some("a rule needs a name".to_owned())
        } else if !has_when {
            Some(format!("the rule {} needs a when, such as when = \"cpu > 50%\"", rule.name))
        } else if found.iter().any(|other| other.name == rule.name) {
            Some(format!("there are two rules called {}", rule.name))
        } else {
            rule.unknown_placeholder()
                .map(|name| format!("the rule {}: nothing stands for {{{name}}}", rule.name))
        };
        if let Some(problem) = problem {
            problems.push((begin, problem));
        } else if !wrong {
            if rule.say.is_empty() {
                rule.say = format!("{{process}}: {}", rule.when.text());
            }
            found.push(rule);
        }
    }
    found
}

fn set(rule: &mut OwnRule, field: &str, item: &Item) -> Result<(), String> {
    let text = || item.as_str().map(str::to_owned).ok_or_else(|| format!("{field} is a text"));
    match field {
        "name" => rule.name = dozor_core::text::clean(text()?.as_bytes()),
        "when" => rule.when = Expression::parse(&text()?).map_err(|error| format!("when: {error}"))?,
        "for" => {
            let text = text()?;
            let length = parse_duration(&text).map_err(|error| format!("for: {error}"))?;
            rule.seconds = length.as_secs_f64();
        }
        "severity" => {
            rule.severity = match text()?.as_str() {
                "notice" => Severity::Notice,
                "warning" => Severity::Warning,
                "critical" => Severity::Critical,
                other => return Err(format!("severity is notice, warning or critical, not '{other}'")),
            };
        }
        "say" => rule.say = dozor_core::text::clean(text()?.as_bytes()),
        "bell" => rule.bell = item.as_bool().ok_or("bell is true or false")?,
        "run" => {
            let words = item.as_array().ok_or("run is a list of texts: a program and its arguments")?;
            let words: Option<Vec<String>> =
                words.iter().map(|word| Value::as_str(word).map(str::to_owned)).collect();
            rule.run = words.ok_or("run is a list of texts: a program and its arguments")?;
        }
        other => return Err(unknown("a rule has no", other, FIELDS)),
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::file::apply;
    use super::super::values::Values;
    use dozor_core::lane::Severity;
    use std::time::Duration;

    fn read(text: &str) -> Values {
        let mut values = Values::new(Duration::from_secs(1));
        apply(&mut values, text);
        values
    }

    #[test]
    fn a_rule_is_read_as_it_is_written() {
        let values = read(
            "[[rule]]\nname = \"stacks\"\nwhen = \"cpu > 50% and user = astro\"\nfor = \"10s\"\nseverity = \"warning\"\nsay = \"{name} uses {cpu} %\"\nbell = true\nrun = [\"logger\", \"{say}\"]\n",
        );
        assert_eq!(values.configured.problems, Vec::<String>::new());
        let [rule] = &values.configured.rules[..] else { panic!("one rule") };
        assert_eq!((rule.name.as_str(), rule.seconds, rule.severity), ("stacks", 10.0, Severity::Warning));
        assert!(rule.bell && rule.run == ["logger", "{say}"]);
    }

    #[test]
    fn mistakes_are_told_with_their_place_and_the_rule_is_left_out() {
        for (text, line, said) in [
            ("[[rule]]\nname = \"a\"\nwhen = \"cpu >\"\n", 3, "a value is missing"),
            (
                "[[rule]]\nname = \"a\"\nwhen = \"cpu > 5%\"\nsay = \"{nobody}\"\n",
                1,
                "nothing stands for {nobody}",
            ),
            ("[[rule]]\nwhen = \"cpu > 5%\"\n", 1, "needs a name"),
            ("[[rule]]\nname = \"a\"\n", 1, "needs a when"),
            ("[[rule]]\nname = \"a\"\nwhen = \"cpu > 5%\"\nseverity = \"bad\"\n", 4, "not 'bad'"),
            ("[[rule]]\nname = \"a\"\nwhen = \"cpu > 5%\"\nrun = \"rm\"\n", 4, "list of texts"),
            ("[[rule]]\nname = \"a\"\nwhen = \"cpu > 5%\"\nfoo = 1\n", 4, "a rule has no"),
            ("rule = 5\n", 1, "[[rule]]"),
        ] {
            let values = read(text);
            assert!(values.configured.rules.is_empty(), "{text}");
            let problems = values.configured.problems.join("\n");
            assert!(
                problems.contains(&format!("line {line}: ")) && problems.contains(said),
                "{text}: {problems}"
            );
        }
    }
}
