//! The expression language: laws, truths on a made-up sample, and what its messages say.

use dozor_core::catalogue::PROCESS_METRICS;
use dozor_core::expr::{
    Compare, Comparison, Completion, Condition, DEEPEST, Expression, LONGEST, Node, Place, Value, completions,
};
use dozor_core::reading::{DiskRow, HostFacts, ProcessRow, Reading, raw};
use dozor_core::sample::Sample;
use proptest::prelude::*;
use std::sync::Arc;

fn at(second: i64) -> Reading {
    let mut reading = Reading::default();
    let ns = raw(second * 1_000_000_000);
    (reading.system.wall_ns, reading.system.monotonic_ns, reading.system.boot_ns) = (ns, ns, ns);
    reading.disks = vec![
        DiskRow { name: "sda".into(), busy_ms: raw(second * 700), ..DiskRow::default() },
        DiskRow { name: "sdb".into(), busy_ms: raw(second * 20), ..DiskRow::default() },
        DiskRow { name: "sdc".into(), ..DiskRow::default() },
    ];
    reading
}

fn process(second: i64) -> Arc<ProcessRow> {
    Arc::new(ProcessRow {
        pid: raw(42),
        start_ticks: raw(1_000_000),
        name: "stacker".into(),
        program: "stacker".into(),
        command: "/opt/night/stacker --camera 4".into(),
        user: "astro".into(),
        real_user: "root".into(),
        state: raw(i64::from(b'D')),
        rss_bytes: raw(600 << 20),
        user_ticks: raw(second * 30),
        system_ticks: raw(second * 10),
        nice: raw(-5),
        kernel: raw(0),
        ..ProcessRow::default()
    })
}

/// 2031-02-14 02:04:00 in UTC, ten hours after the boot of the process.
const NIGHT: i64 = 1_928_801_040;

fn sample() -> Sample {
    let (mut before, mut now) = (at(NIGHT), at(NIGHT + 1));
    (before.processes, now.processes) = (vec![process(NIGHT)], vec![process(NIGHT + 1)]);
    let host =
        HostFacts { ticks_per_second: 100, cores: 4, time_zone: "UTC".to_owned(), ..HostFacts::default() };
    Sample::new(Arc::new(host), Some(Arc::new(before)), Arc::new(now))
}

fn decided(text: &str) -> Option<bool> {
    let sample = sample();
    let expression = Expression::parse(text).unwrap_or_else(|error| panic!("{}", error.lines()));
    expression.bind(&sample, "root").holds(&sample.process(0))
}

#[test]
fn expressions_say_what_they_mean() {
    for (text, expected) in [
        ("stack", Some(true)),
        ("stacker --camera", Some(true)),
        ("42", Some(true)),
        ("Stack", Some(false)),
        ("\"stack\" and not dome", Some(true)),
        ("cpu > 39%", Some(true)),
        ("cpu >= 40% and cpu <= 40.0", Some(true)),
        ("cpu > 0.5 cores", Some(false)),
        ("cpu_user > cpu_system", Some(true)),
        ("rss > 500 MiB", Some(true)),
        ("rss < 0.6GB or rss=629145600", Some(true)),
        ("user = astro", Some(true)),
        ("user != real_user", Some(true)),
        ("user in (root, astro)", Some(true)),
        ("user not in (root, astro)", Some(false)),
        ("state in (blocked, zombie)", Some(true)),
        ("nice = -5", Some(true)),
        ("nice not in (-5, 0)", Some(false)),
        ("name ~ \"^st.*r$\"", Some(true)),
        ("command !~ CAMERA", Some(true)),
        ("command ~ camera", Some(true)),
        ("mine", Some(true)),
        ("active and not kernel_thread", Some(true)),
        ("age > 1000 d", Some(true)),
        ("start < 1h ago", Some(true)),
        ("start > 2031-02-14", Some(false)),
        ("start > 02:00", Some(false)),
        ("disk.busy{sda} > 60%", Some(true)),
        ("disk.busy{sdb} > 60%", Some(false)),
        ("disk.busy > 60%", Some(true)),
        ("not (dome or cpu > 90%)", Some(true)),
    ] {
        assert_eq!(decided(text), expected, "{text}");
    }
}

#[test]
fn what_is_unknown_stays_unknown_unless_the_rest_decides() {
    for (text, expected) in [
        ("write > 1 MiB/s", None),
        ("not write > 1 MiB/s", None),
        ("write > 1 MiB/s or stack", Some(true)),
        ("write > 1 MiB/s and dome", Some(false)),
        ("write > 1 MiB/s and stack", None),
        ("tty ~ pts", None),
        ("disk.busy{sdc} > 1%", None),
        ("disk.busy{sdz} > 1%", None),
        ("disk.busy > 90%", None),
        ("replaced", None),
    ] {
        assert_eq!(decided(text), expected, "{text}");
    }
}

#[test]
fn a_wrong_expression_shows_its_place_and_what_was_expected() {
    let wrong = |text: &str| {
        let error = Expression::parse(text).expect_err(text);
        let (before, covered) = error.caret();
        let marked: String = text.chars().skip(before).take(covered).collect();
        (marked, error.message)
    };
    for (text, marked, message) in [
        ("cpuu > 20%", "cpuu", "did you mean cpu?"),
        ("cpu > 20 MiB", "20 MiB", "the unit is % of one core, not 'MiB'"),
        ("write > 5 MiB", "5 MiB", "write 5 MiB/s"),
        ("(cpu > 20%", "(", "not closed"),
        ("cpu > 20%)", ")", "not opened"),
        ("cpu >", "", "a value is missing"),
        ("cpu > 5 and", "", "something is missing here"),
        ("and cpu > 5", "and", "something is missing before 'and'"),
        ("state = blokced", "blokced", "did you mean blocked?"),
        ("state = blocked or zombie", "state", "write state in (blocked, zombie)"),
        ("user > astro", ">", "no order"),
        ("cpu ~ 5", "~", "is a number"),
        ("name ~ \"a(\"", "\"a(\"", "this pattern is wrong: unclosed group"),
        ("cpu{0} > 5", "cpu", "has no instances"),
        ("disk.busy{sda > 5", "{", "not closed"),
        ("--camera=4", "--camera", "needs quotes"),
        ("stack cpu > 5", "cpu", "expected and, or"),
        ("user in (a, b", "(", "this list is not closed"),
        ("\"open", "\"", "this quote is not closed"),
        ("mine = 5", "mine", "stands alone"),
        ("start > soon", "soon", "no time"),
        ("żółw > 5", "żółw", "no metric"),
        ("", "", "no expression"),
    ] {
        let (place, said) = wrong(text);
        assert!(place == marked && said.contains(message), "{text}: {place:?} {said}");
    }
    let error = Expression::parse("user = astro and cpu > 20 kg").expect_err("kg");
    assert_eq!(error.lines().lines().nth(1), Some("                       ^^^^^"));
}

#[test]
fn nesting_and_length_are_bounded() {
    let deep = |levels: usize| format!("{}stack{}", "(".repeat(levels), ")".repeat(levels));
    assert!(Expression::parse(&deep(DEEPEST)).is_ok());
    assert!(Expression::parse(&deep(DEEPEST + 1)).expect_err("deep").message.contains("too deeply"));
    assert!(Expression::parse(&format!("{}stack", "not ".repeat(DEEPEST + 1))).is_err());
    assert!(Expression::parse(&"x".repeat(LONGEST + 1)).expect_err("long").message.contains("too long"));
    let huge = "name ~ \"(a{1000}){1000}\"";
    assert!(Expression::parse(huge).expect_err("huge").message.contains("too large"));
}

#[test]
fn completion_knows_the_catalogue_and_what_is_there() {
    let sample = sample();
    let words = |text: &str| -> Vec<String> {
        completions(text, text.len(), Some(&sample)).into_iter().map(|it| it.word).collect()
    };
    let offers = |text: &str, word: &str| {
        let offered = words(text);
        assert!(offered.iter().any(|it| it == word), "{text}: {offered:?}");
    };
    assert_eq!(words("rs")[0], "rss");
    offers("cpu > 5% and mi", "mine");
    offers("cpu ", ">");
    offers("user = ", "astro");
    offers("user in (as", "astro");
    offers("state = bl", "blocked");
    offers("rss > 500 Mi", "MiB");
    offers("rss > 500Mi", "500MiB");
    offers("cpu > 5 a", "and");
    offers("disk.busy{", "sda}");
    offers("command = ", "\"/opt/night/stacker --camera 4\"".trim_matches(' '));
    assert!(words("stack \"open").is_empty() || !words("stack \"open").contains(&"cpu".to_owned()));
    let completion = completions("cpu > 5 and disk.bu", 19, None).remove(0);
    assert_eq!(
        completion,
        Completion { replace: 12..19, word: "disk.busy".to_owned(), help: completion.help.clone() }
    );
}

#[test]
fn every_example_of_the_document_is_understood() {
    let document = include_str!("../../../../docs/expressions.md");
    let examples: Vec<&str> = document
        .split("```text\n")
        .skip(1)
        .flat_map(|rest| rest.split("```").next().unwrap_or_default().lines())
        .map(|line| line.split("  #").next().unwrap_or_default().trim())
        .filter(|line| !line.is_empty())
        .collect();
    assert!(examples.len() > 20);
    for example in examples {
        if let Err(error) = Expression::parse(example) {
            panic!("{}", error.lines());
        }
    }
}

fn any_word() -> impl Strategy<Value = String> {
    prop_oneof!["[a-z]{1,8}", "[a-z. \"\\\\(){}=,'~!-]{1,8}", Just("and".to_owned()), Just("mine".to_owned())]
}

fn comparison() -> impl Strategy<Value = Node> {
    let sign = proptest::sample::select(&Compare::ALL[..]);
    let value = prop_oneof![
        any_word().prop_map(|text| Value { text, quoted: true, place: Place::default() }),
        "[0-9]{1,4}( MiB|%|s)?".prop_map(|text| Value { text, quoted: false, place: Place::default() }),
    ];
    let instance = proptest::option::of("[a-z0-9/]{1,6}");
    ("[a-z_.]{1,8}x", instance, sign, proptest::collection::vec(value, 1..4), any::<bool>()).prop_map(
        |(metric, instance, how, mut values, list)| {
            let list = list && matches!(how, Compare::Equal | Compare::Unequal);
            if !list {
                values.truncate(1);
            }
            let (place, how_place) = (Place::default(), Place::default());
            Node::Compare(Comparison { metric, instance, place, how, how_place, values, list })
        },
    )
}

fn any_tree() -> impl Strategy<Value = Node> {
    let leaf = prop_oneof![
        any_word().prop_map(Node::Text),
        proptest::sample::select(&Condition::ALL[..]).prop_map(Node::Condition),
        comparison(),
    ];
    leaf.prop_recursive(4, 24, 4, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 2..4).prop_map(Node::Or),
            proptest::collection::vec(inner.clone(), 2..4).prop_map(Node::And),
            inner.prop_map(|node| Node::Not(Box::new(node))),
        ]
    })
}

/// Pieces of expressions, so that random texts are often nearly right.
fn pieces() -> impl Strategy<Value = String> {
    let aliases: Vec<String> = PROCESS_METRICS.iter().map(|metric| metric.alias.to_owned()).collect();
    let piece = prop_oneof![
        proptest::sample::select(aliases),
        proptest::sample::select(
            [
                "and",
                "or",
                "not",
                "in",
                "(",
                ")",
                ",",
                ">",
                "=",
                "~",
                "20%",
                "5 MiB/s",
                "10s",
                "\"",
                "disk.busy{sda}",
                "mine",
                "active",
                "blocked",
                "astro",
                "02:14",
                "1h ago",
                "{",
                "}",
                "!=",
                "-5",
                "cpu.total"
            ]
            .map(str::to_owned)
            .to_vec()
        ),
    ];
    proptest::collection::vec(piece, 0..9).prop_map(|pieces| pieces.join(" "))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn what_prints_parses_back_equal(tree in any_tree()) {
        let printed = tree.to_string();
        let parsed = dozor_core::expr::parse_tree(&printed).map_err(|error| TestCaseError::fail(error.lines()))?;
        prop_assert_eq!(&parsed, &tree, "{}", printed);
    }

    #[test]
    fn what_the_checker_accepts_can_be_decided_and_prints_as_itself(text in pieces()) {
        let sample = sample();
        if let Ok(expression) = Expression::parse(&text) {
            let _ = expression.bind(&sample, "astro").holds(&sample.process(0));
            let again = Expression::parse(&expression.tree().to_string())
                .map_err(|error| TestCaseError::fail(error.lines()))?;
            prop_assert_eq!(again.tree(), expression.tree());
            prop_assert_eq!(
                again.bind(&sample, "astro").holds(&sample.process(0)),
                expression.bind(&sample, "astro").holds(&sample.process(0))
            );
        }
    }

    #[test]
    fn any_text_gives_an_expression_or_a_message_with_a_place_in_it(text in "\\PC{0,60}", caret in 0usize..60) {
        if let Err(error) = Expression::parse(&text) {
            prop_assert!(error.at.end <= text.len() && text.is_char_boundary(error.at.start));
            prop_assert!(!error.message.is_empty() && !error.lines().contains("Error"));
        }
        let caret = (0..=caret.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        for completion in completions(&text, caret, Some(&sample())) {
            prop_assert!(text.get(completion.replace).is_some());
        }
    }

    #[test]
    fn negation_turns_known_and_keeps_unknown(text in pieces()) {
        if let (Ok(plain), Ok(negated)) = (Expression::parse(&text), Expression::parse(&format!("not ({text})"))) {
            let sample = sample();
            let plain = plain.bind(&sample, "astro").holds(&sample.process(0));
            let negated = negated.bind(&sample, "astro").holds(&sample.process(0));
            prop_assert_eq!(plain.map(|held| !held), negated);
        }
    }
}
