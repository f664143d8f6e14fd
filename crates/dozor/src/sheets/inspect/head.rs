//! Who a process is and how it is, in a few lines.

use super::inspector::Inspector;
use crate::look::theme::Role;
use crate::panes::cell;
use crate::state::State;
use dozor_core::catalogue::listed;
use dozor_core::inside::waits::{Task, words as wait_words};
use dozor_core::inside::{Facts, words};
use dozor_core::known::{Known, Raw};
use dozor_core::reading::ProcessRow;
use dozor_core::sample::{ProcessView, process_state};
use dozor_core::units::{long_bytes, long_duration};

/// Percent of a group's limit from which on it is said.
const NEARLY: f64 = 80.0;

/// Parts of a line, each with its role.
pub type Line = Vec<(String, Role)>;

fn text(text: impl Into<String>) -> (String, Role) {
    (text.into(), Role::Text)
}

fn quiet(text: impl Into<String>) -> (String, Role) {
    (text.into(), Role::Quiet)
}

fn strong(text: impl Into<String>) -> (String, Role) {
    (text.into(), Role::Strong)
}

/// The ancestors as a path, and the children.
pub fn path(inspector: &Inspector, state: &State) -> Line {
    const NAMED: usize = 4;
    let Some(sample) = &state.moment().sample else { return vec![] };
    let row_of = |pid: i64| sample.now.processes.iter().find(|row| row.pid.value() == Some(pid));
    let mut above: Vec<String> = vec![];
    let mut at = inspector.row(state).and_then(|row| row.ppid.value());
    while let Some(row) = at.and_then(row_of) {
        let label = format!("{}[{}]", row.name, row.pid.value().unwrap_or(0));
        if above.contains(&label) {
            break;
        }
        above.push(label);
        at = row.ppid.value();
    }
    above.reverse();
    let mut line: Line = above.into_iter().flat_map(|name| [quiet(name), quiet(" › ")]).collect();
    line.push(strong(inspector.label()));
    let children: Vec<&str> = sample
        .now
        .processes
        .iter()
        .filter(|row| row.ppid.value() == Some(inspector.key.pid))
        .map(|row| &*row.name)
        .collect();
    line.push(quiet(" › "));
    line.push(match children.len() {
        0 => quiet("no children"),
        many => {
            let mut names: Vec<&str> = children.clone();
            names.sort_unstable();
            names.dedup();
            let more = if names.len() > NAMED { ", …" } else { "" };
            names.truncate(NAMED);
            let word = if many == 1 { "child" } else { "children" };
            text(format!("{many} {word}: {}{more}", names.join(", ")))
        }
    });
    line
}

/// What it does or waits for.
pub fn doing(facts: Option<&Facts>, row: Option<&ProcessRow>) -> Line {
    let letter = |raw: Raw| raw.value().and_then(|code| u8::try_from(code).ok()).map(char::from);
    let said = match (facts, row) {
        (Some(facts), _) => wait_words(Task {
            state: letter(facts.state),
            doing: &facts.doing,
            wait_channel: &facts.wait_channel,
            frozen: facts.frozen,
        }),
        (None, Some(row)) => {
            let state = process_state(row).unwrap_or("state not known").to_owned();
            if row.wait_on.is_empty() { state } else { format!("{state}, in {} of the kernel", row.wait_on) }
        }
        (None, None) => return vec![],
    };
    let traced = facts.and_then(|facts| facts.tracer.value()).filter(|pid| *pid > 0);
    let traced = traced.map_or_else(String::new, |pid| format!("; traced by PID {pid}"));
    vec![strong(format!("{said}{traced}"))]
}

/// Whose it is, what it belongs to, since when it runs.
pub fn who(state: &State, facts: Option<&Facts>, view: &ProcessView<'_>) -> Line {
    let row = view.now;
    let mut line = vec![text(row.user.to_string())];
    let real =
        if *row.real_user == *row.user || row.real_user.is_empty() { None } else { Some(&row.real_user) };
    if let Some(real) = real {
        line.push(quiet(format!(" (really {real})")));
    }
    if let Some([.., saved]) = facts.and_then(|facts| facts.users.clone().value())
        && *saved != *row.user
        && Some(&saved) != real
    {
        line.push(quiet(format!(" (can be {saved} again)")));
    }
    if !row.service.is_empty() {
        line.extend([quiet("   service "), text(row.service.to_string())]);
    }
    if row.service.is_empty() && row.cgroup.len() > 1 {
        line.extend([quiet("   group "), text(row.cgroup.to_string())]);
    }
    if !row.container.is_empty() {
        line.extend([quiet("   container "), text(row.container.to_string())]);
    }
    let start = listed("start").of(view);
    let age = listed("age").of(view).number();
    line.extend([quiet("   since "), text(cell::text(state, listed("start"), None, &start))]);
    if let Some(age) = age {
        line.push(quiet(format!(", {}", long_duration(age))));
    }
    line
}

/// How it gets CPU time.
pub fn scheduling(facts: Option<&Facts>, row: &ProcessRow) -> Line {
    let nice = facts.map_or(row.nice, |facts| facts.scheduling.nice).value();
    let policy = facts.map_or(row.policy, |facts| facts.scheduling.policy).value();
    let mut line = match nice {
        Some(nice) => vec![text(format!("nice {nice}")), quiet(format!(" ({})", words::nice(nice)))],
        None => vec![quiet("niceness not known")],
    };
    let real_time = facts.and_then(|facts| facts.scheduling.real_time.value()).unwrap_or(0);
    if let Some(policy) = policy {
        line.push(quiet(format!(", {}", words::policy(policy, real_time))));
    }
    if let Some(facts) = facts {
        line.push(quiet(format!(", {}", words::cores(facts, row.core))));
        if let Some(io) = facts.scheduling.io.value().filter(|io| *io != 0) {
            line.push(quiet(format!(", disk {}", words::io_priority(io))));
        }
    }
    line
}

/// Its executable and where that came from.
pub fn origin(state: &State, facts: Option<&Facts>, row: &ProcessRow) -> Line {
    let Some(facts) = facts else {
        return vec![quiet("executable and directory are not recorded")];
    };
    let mut line = match &facts.executable {
        Known::Value(path) => vec![text(path.clone())],
        Known::Denied => vec![quiet("× its executable may not be seen")],
        Known::Absent if row.kernel.value() == Some(1) => {
            vec![quiet("a thread of the kernel: no executable")]
        }
        Known::Absent => vec![quiet("no executable")],
    };
    if let Some(package) = &facts.package {
        let age = package.installed.zip(state.newest_wall()).map(|(at, now)| now / 1_000_000_000 - at);
        let age = age.filter(|age| *age >= 0).map_or_else(String::new, |age| {
            let days = age / 86_400;
            let ago = match days {
                0 => format!("{} ago", long_duration(age as f64)),
                1 => "1 day ago".to_owned(),
                days => format!("{days} days ago"),
            };
            format!(", installed {ago}")
        });
        line.push(quiet(format!("   from {} {}{age}", package.name, package.version)));
    }
    if facts.replaced {
        line.push((
            "   replaced since it started: a restart runs the new one".to_owned(),
            Role::Severity(dozor_core::lane::Severity::Notice),
        ));
    } else if matches!(facts.executable, Known::Value(_)) {
        line.push(quiet(", not replaced"));
    }
    line
}

/// What is limited, and how much of that is used.
pub fn limits(facts: Option<&Facts>, view: &ProcessView<'_>) -> Line {
    let row = view.now;
    let mut line = vec![];
    let files = facts.and_then(|facts| facts.descriptors.value()).or(row.files.value());
    let most = facts
        .and_then(|facts| facts.limits.clone().value())
        .and_then(|limits| {
            limits.iter().find(|limit| limit.name == "Max open files").and_then(|limit| limit.soft)
        })
        .or(row.files_limit.value());
    match (files, most) {
        (Some(files), Some(most)) => line.extend([quiet("descriptors "), text(format!("{files} of {most}"))]),
        (Some(files), None) => line.extend([quiet("descriptors "), text(files.to_string())]),
        (None, _) if facts.is_some_and(|facts| facts.descriptors == Known::Denied) => {
            line.push(quiet("× descriptors"));
        }
        (None, _) => {}
    }
    let memory = listed("limit_memory").of(view).number();
    if let (Some(most), Some(used)) = (memory, listed("memory_used").of(view).number()) {
        line.push(quiet("   memory of its group "));
        line.push(text(format!("{} of {}", long_bytes(most * used / 100.0), long_bytes(most))));
    }
    if let Some(cpu) = listed("limit_cpu").of(view).number() {
        line.extend([quiet("   CPU at most "), text(format!("{cpu:.0} %"))]);
    }
    if let Some(tasks) = listed("limit_tasks").of(view).number() {
        line.extend([quiet("   tasks at most "), text(format!("{tasks:.0}"))]);
    }
    let score = facts.map_or(row.oom_score, |facts| facts.oom_score);
    if let Some(score) = score.value() {
        line.extend([quiet("   OOM score "), text(score.to_string())]);
        if let Some(adjust) = facts.and_then(|facts| facts.oom_adjust.value()).filter(|adjust| *adjust != 0) {
            line.push(quiet(format!(" ({adjust:+} on purpose)")));
        }
    }
    for (alias, what) in [("memory_used", "memory of its group"), ("tasks_used", "tasks of its group")] {
        if let Some(percent) = listed(alias).of(view).number().filter(|percent| *percent >= NEARLY) {
            let text = format!("   nearly used up: {what} {percent:.0} %");
            line.push((text, Role::Severity(dozor_core::lane::Severity::Warning)));
        }
    }
    for nearly in
        facts.map_or(vec![], |facts| words::limits_nearly_used(facts, row, view.sample.host.ticks_per_second))
    {
        line.push((
            format!("   nearly used up: {nearly}"),
            Role::Severity(dozor_core::lane::Severity::Warning),
        ));
    }
    line
}

/// Where it works, and its whole command.
pub fn command(facts: Option<&Facts>, row: &ProcessRow) -> String {
    let directory = match facts.map(|facts| &facts.directory) {
        Some(Known::Value(path)) => format!("runs in {path}   "),
        Some(Known::Denied) => "runs in ×   ".to_owned(),
        Some(Known::Absent) | None => String::new(),
    };
    let root = match facts.map(|facts| &facts.root) {
        Some(Known::Value(path)) if path != "/" => format!("sees only {path}   "),
        _ => String::new(),
    };
    let command = match facts.map(|facts| &facts.arguments) {
        Some(Known::Value(arguments)) if !arguments.is_empty() => arguments.join(" "),
        _ => row.command.to_string(),
    };
    format!("{directory}{root}{command}")
}
