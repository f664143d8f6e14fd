//! Rules in the file of settings: those of one's own (`[[rule]]`), and what is wanted otherwise of the others (`[findings.NAME]`).

use super::words::{toml_line, unknown};
use dozor_core::expr::Expression;
use dozor_core::findings::{Adjusted, OwnRule};
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

/// Reads what is wanted otherwise of rules; what is wrong is left out, and told with its line.
pub fn adjusted(findings: &Item, text: &str, problems: &mut Vec<(usize, String)>) -> Adjusted {
    let mut adjusted = Adjusted::default();
    let line = |item: &Item| item.span().map_or(1, |span| toml_line(text, span.start));
    let Some(tables) = findings.as_table_like() else {
        problems.push((line(findings), "findings has a table for each rule: [findings.leak]".to_owned()));
        return adjusted;
    };
    for (rule, table) in tables.iter() {
        let Some(fields) = table.as_table_like() else {
            problems.push((line(table), format!("findings: {rule} is a table: [findings.{rule}]")));
            continue;
        };
        for (field, item) in fields.iter() {
            let word = |value: &Value| match value {
                Value::String(text) => Some(text.value().clone()),
                Value::Integer(number) => Some(number.value().to_string()),
                Value::Float(number) => Some(number.value().to_string()),
                Value::Boolean(is) => Some(is.value().to_string()),
                _ => None,
            };
            let said = match item.as_value() {
                Some(Value::Array(all)) => {
                    let words: Option<Vec<String>> = all.iter().map(word).collect();
                    words.map(|words| words.join(", "))
                }
                Some(value) => word(value),
                None => None,
            };
            let said = said.ok_or_else(|| format!("{field} is a value or a list of values"));
            if let Err(problem) = said.and_then(|said| adjusted.set(rule, field, &said)) {
                problems.push((line(item), format!("findings: {problem}")));
            }
        }
    }
    adjusted
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

    #[test]
    fn limits_of_rules_are_read_as_expressions_have_them() {
        let values = read(
            "[findings.swapping]\nin = [\"2 MB/s\", \"16 MB/s\", \"never\"]\nfor = \"10s\"\nseverity = \"notice\"\n\
             [findings.leak]\nend = \"1h, 5m, 10s\"\n[findings.forks]\noff = true\n[findings.stopped]\ntime = 20\n",
        );
        assert_eq!(values.configured.problems, Vec::<String>::new());
        let adjusted = &values.configured.adjusted;
        assert!(adjusted.is_off("forks") && !adjusted.is_off("leak"));
        assert_eq!((adjusted.least("swapping", 3.0), adjusted.most("swapping")), (10.0, Severity::Notice));
        let watched = |values: &Values| values.configured.engine().standing().watched;
        assert_eq!(watched(&read("")) - watched(&values), 1);
    }

    #[test]
    fn limits_that_make_no_sense_are_told_with_their_place() {
        for (text, line, said) in [
            ("[findings.swaping]\noff = true\n", 2, "did you mean swapping?"),
            ("[findings.swapping]\nim = 5\n", 2, "did you mean in?"),
            ("[findings.swapping]\n\nin = \"5 MB/s\"\n", 3, "needs 3"),
            ("[findings.swapping]\nin = \"5 MB/s, 4 MB/s, 6 MB/s\"\n", 2, "rising"),
            ("[findings.leak]\nend = \"1m, 2m, 3m\"\n", 2, "falling"),
            ("[findings.swapping]\nin = \"5 %, 6 %, 7 %\"\n", 2, "the unit is"),
            ("[findings.swapping]\nseverity = \"bad\"\n", 2, "not 'bad'"),
            ("[findings.swapping]\nfor = \"-5s\"\n", 2, "less than nothing"),
            ("[findings]\nswapping = 3\n", 2, "[findings.swapping]"),
            ("findings = 3\n", 1, "a table for each rule"),
        ] {
            let problems = read(text).configured.problems.join("\n");
            assert!(
                problems.contains(&format!("line {line}: ")) && problems.contains(said),
                "{text}: {problems}"
            );
        }
    }
}
