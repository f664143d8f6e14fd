//! What can be done to processes, by what people want: each choice with its group, its name and what it means.

use dozor_core::deed::{Deed, Resource, typed};
use dozor_core::inside::{Facts, words};
use dozor_core::known::Known;
use dozor_core::signals;
use dozor_core::sorting::ColdSort as _;

/// What a choice does.
#[derive(Clone, Debug, PartialEq)]
pub enum What {
    /// This.
    Do(Deed),
    /// Asks for the cores.
    AskCores,
    /// Begins to type a value.
    Type(&'static str),
    /// What is typed cannot be, for this reason.
    Wrong(String),
}

/// One choice.
#[derive(Clone, Debug, PartialEq)]
pub struct Choice {
    /// What it is for; empty where the choice above is for the same.
    pub group: &'static str,
    /// Name and number, or what is changed.
    pub name: String,
    /// What happens.
    pub words: String,
    /// What is done.
    pub what: What,
}

/// Niceness that one step gives or takes.
const STEP: i32 = 5;
/// Signals that are offered by what they are for; the others stand at the end.
const STOPS: [i32; 4] = [15, 9, 2, 1];
const PAUSES: [i32; 2] = [19, 18];

fn signal(group: &'static str, number: i32) -> Option<Choice> {
    let signal = signals::by_number(number)?;
    Some(Choice {
        group,
        name: format!("{:<9} {:>2}", signal.name, signal.number),
        words: signal.words.to_string(),
        what: What::Do(Deed::Signal(number)),
    })
}

fn choice(group: &'static str, name: &str, words: impl Into<String>, deed: Deed) -> Choice {
    Choice { group, name: name.to_owned(), words: words.into(), what: What::Do(deed) }
}

/// All choices, for a process of which this is known; of several, of the first.
pub fn all(facts: Option<&Facts>, recent: &[Deed]) -> Vec<Choice> {
    let mut list: Vec<Choice> = STOPS.iter().filter_map(|number| signal("stop it", *number)).collect();
    let lately = recent.iter().filter(|deed| **deed != Deed::Signal(signals::TERM));
    // Behind the stops: what `enter` and one key down do stays what it was.
    let behind = list.len();
    list.splice(
        behind..behind,
        lately.map(|deed| choice("lately", &deed.name(), "as you did before", deed.clone())),
    );
    list.push(choice("pause", "freeze", "It does nothing until it is thawed: through its control group where it is alone there, else by a pause", Deed::Freeze));
    list.push(choice("pause", "thaw", "It goes on", Deed::Thaw));
    list.extend(PAUSES.iter().filter_map(|number| signal("pause", *number)));
    let nice = facts.and_then(|facts| facts.scheduling.nice.value()).map(|nice| nice as i32);
    for (group, step) in [("less CPU", STEP), ("more CPU", -STEP)] {
        let now = nice.unwrap_or(0);
        let then = (now + step).clamp(-20, 19);
        let from = nice.map_or_else(|| "?".to_owned(), |nice| nice.to_string());
        let words = format!("{from} → {then}: {}", words::nice(i64::from(then)));
        list.push(choice(group, "nice", words, Deed::Nice(then)));
    }
    list.push(typing("more CPU", "nice N", "nice ", "Any niceness: type nice 7; minus is more CPU"));
    let cores = match facts.map(|facts| &facts.scheduling.cores) {
        Some(Known::Value(cores)) => format!("now {cores} → …"),
        _ => "choose the cores that it may use".to_owned(),
    };
    list.push(Choice {
        group: "where it runs",
        name: "cores, pin".to_owned(),
        words: cores,
        what: What::AskCores,
    });
    let io = facts.and_then(|facts| facts.scheduling.io.value());
    let from = io.map_or_else(String::new, |io| format!("{} → ", words::io_priority(io)));
    for (name, value) in [("disk idle", 3 << 13), ("disk usual", 0)] {
        let then = words::io_priority(value);
        let words = if io == Some(value) { format!("it is so now: {then}") } else { format!("{from}{then}") };
        list.push(choice("disk", name, words, Deed::Io(value as i32)));
    }
    list.push(typing("disk", "disk N", "disk ", "A level from 0 (first) to 7: type disk 2"));
    for (name, policy) in [("ordinary", 0), ("batch", 3), ("idle", 5)] {
        let name = format!("use {name}");
        list.push(choice("scheduling", &name, words::policy(policy, 0), Deed::Policy(policy as i32, 0)));
    }
    list.push(typing(
        "scheduling",
        "round robin N",
        "round robin ",
        "Real-time in turns, before all ordinary ones: type round robin 10",
    ));
    list.push(typing(
        "scheduling",
        "fifo N",
        "fifo ",
        "Real-time until it waits; a loop in it takes its core for good: type fifo 10",
    ));
    let oom = facts.and_then(|facts| facts.oom_adjust.value());
    let from = oom.map_or_else(String::new, |oom| format!("{oom} → "));
    for (name, value, what) in [
        ("take it first", 500, "rather end it than others when memory runs out"),
        ("as others", 0, "neither spared nor preferred when memory runs out"),
        ("spare it", -500, "rather end others when memory runs out"),
    ] {
        list.push(choice("when memory is out", name, format!("{from}{value}: {what}"), Deed::Oom(value)));
    }
    list.push(typing(
        "when memory is out",
        "oom N",
        "oom ",
        "Any preference from -1000 to 1000: type oom 300",
    ));
    for resource in Resource::ALL {
        let now = facts.and_then(|facts| {
            let limits = facts.limits.clone().value()?;
            let limit = limits.iter().find(|limit| limit.name == resource.kernel_name())?;
            Some(format!("now {}; ", words::limit_value(limit, limit.soft)))
        });
        let words = format!("{}type {} and a number, or unlimited", now.unwrap_or_default(), resource.word());
        list.push(Choice {
            group: "limits",
            name: resource.word().to_owned(),
            words,
            what: What::Type(typing_of(resource)),
        });
    }
    let named: Vec<i32> = STOPS.into_iter().chain(PAUSES).collect();
    let rest = signals::all().filter(|signal| !named.contains(&signal.number));
    list.extend(rest.filter_map(|it| signal("other signals", it.number)));
    list
}

fn typing(group: &'static str, name: &str, begin: &'static str, words: &str) -> Choice {
    Choice { group, name: name.to_owned(), words: words.to_owned(), what: What::Type(begin) }
}

const fn typing_of(resource: Resource) -> &'static str {
    match resource {
        Resource::Files => "open files ",
        Resource::CoreDump => "core dump ",
        Resource::FileSize => "file size ",
        Resource::Cpu => "CPU time ",
        Resource::AddressSpace => "address space ",
        Resource::Processes => "processes ",
        Resource::Stack => "stack ",
        Resource::Locked => "locked memory ",
    }
}

/// Those that match what is typed, the best first; what is typed itself where it says a deed with its value.
pub fn matching(all: &[Choice], typed: &str) -> Vec<Choice> {
    let words = typed.trim().to_lowercase();
    if words.is_empty() {
        return all.to_vec();
    }
    let said = typed::parse(typed).and_then(|said| match said {
        // A signal alone is found below, with its words.
        Ok(Deed::Signal(_)) => None,
        Ok(deed) => {
            let words = format!("{} {}", deed.subject(), deed.value());
            Some(Choice { group: "as typed", name: typed.trim().to_owned(), words, what: What::Do(deed) })
        }
        Err(problem) => {
            let name = typed.trim().to_owned();
            Some(Choice { group: "as typed", name, words: problem.clone(), what: What::Wrong(problem) })
        }
    });
    let signal = typed::signal(&words);
    let bare = words.strip_prefix("sig").unwrap_or(&words);
    let rank = |choice: &&Choice| {
        let (name, text) = (choice.name.to_lowercase(), choice.words.to_lowercase());
        let number = match &choice.what {
            What::Do(Deed::Signal(number)) => Some(*number),
            _ => None,
        };
        if number.is_some() && number == signal {
            Some(0)
        } else if name.starts_with(bare) || number.is_some_and(|number| number.to_string().starts_with(bare))
        {
            Some(1)
        } else if choice.group.contains(bare) || text.split(' ').any(|word| word.starts_with(bare)) {
            Some(2)
        } else {
            (name.contains(bare) || text.contains(bare)).then_some(3)
        }
    };
    let mut found: Vec<(i32, &Choice)> =
        all.iter().filter_map(|choice| Some((rank(&choice)?, choice))).collect();
    found.cold_sort_by_key(|(rank, _)| *rank);
    said.into_iter().chain(found.into_iter().map(|(_, choice)| choice.clone())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn first(typed: &str) -> Choice {
        matching(&all(None, &[]), typed).remove(0)
    }

    #[test]
    fn what_is_typed_is_found_by_name_number_words_and_value() {
        assert_eq!(first("").what, What::Do(Deed::Signal(15)));
        assert_eq!(first("kill").what, What::Do(Deed::Signal(9)));
        assert_eq!(first("9").what, What::Do(Deed::Signal(9)));
        assert_eq!(first("sigusr1").what, What::Do(Deed::Signal(10)));
        assert_eq!(first("rtmin+3").what, What::Do(Deed::Signal(37)));
        assert_eq!(first("polite").what, What::Do(Deed::Signal(15)));
        assert_eq!(first("nice -7").what, What::Do(Deed::Nice(-7)));
        assert_eq!(first("cores 0-1").what, What::Do(Deed::Cores("0,1".parse().expect("a set"))));
        assert!(matches!(first("nice 77").what, What::Wrong(_)));
        assert_eq!(first("pin").group, "where it runs", "no word of ours, but what people look for");
        assert!(matching(&all(None, &[]), "no such thing").is_empty());
    }

    #[test]
    fn what_was_done_lately_stands_behind_the_stops() {
        let list = all(None, &[Deed::Nice(7), Deed::Signal(15)]);
        assert_eq!(list[0].what, What::Do(Deed::Signal(15)));
        assert_eq!(list[1].what, What::Do(Deed::Signal(9)));
        assert_eq!((list[4].group, &list[4].what), ("lately", &What::Do(Deed::Nice(7))));
    }
}
