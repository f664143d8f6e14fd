//! The top line, and what stands out.

use crate::draw::{put, put_right, rule};
use crate::look::theme::{Ground, Role};
use crate::state::State;
use crate::state::data::Mode;
use crate::state::moment::COSTLY;
use crate::state::time::speed_word;
use dozor_core::known::Known;
use dozor_core::lane::Severity;
use dozor_core::lane::run_queue;
use dozor_core::sample::Gap;
use dozor_core::sorting::ColdSort as _;
use dozor_core::units::long_duration;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::time::Instant;

/// Host, load against cores, recording, time and own cost.
pub fn draw(state: &State, buffer: &mut Buffer, area: Rect, now: Instant) {
    let theme = &state.theme;
    buffer.set_style(area, theme.ground(Ground::Panel));
    let end = right_side(state, buffer, area, now);
    let host = state.time().timeline.host();
    let mut x = put(buffer, area.x + 1, area.y, 6, "dozor", theme.role(Role::Accent)) + 2;
    x = put(buffer, x, area.y, end.saturating_sub(x), &host.name, theme.role(Role::Strong)) + 2;
    let room = usize::from(end.saturating_sub(x + 2));
    put(buffer, x, area.y, room as u16, &facts(state, room), theme.role(Role::Quiet));
}

/// What is worth knowing of the host, as much of it as there is room for. The number is the rank for staying.
fn facts(state: &State, room: usize) -> String {
    let host = state.time().timeline.host();
    let mut facts = vec![(6, host.kernel.clone())];
    if let Some(sample) = &state.moment().sample {
        let system = &sample.now.system;
        if let Some(boot) = system.boot_ns.value() {
            facts.push((4, format!("up {}", long_duration(boot as f64 / 1e9))));
        }
        if let Some(users) = system.users.value() {
            facts.push((5, format!("{users} {}", if users == 1 { "user" } else { "users" })));
        }
        let loads = [system.load_1, system.load_5, system.load_15].map(|load| match load.float() {
            Known::Value(load) => format!("{:.1}", load / 100.0),
            _ => "–".to_owned(),
        });
        let loads = if room < 30 { loads[0].clone() } else { loads.join(" ") };
        facts.push((0, format!("load {loads} for {} cores", host.cores)));
        let tasks = sample.tasks();
        facts.push((3, format!("{} {}", tasks.total, if tasks.total == 1 { "task" } else { "tasks" })));
        facts.extend(run_queue(sample).map(|text| (3, text)));
        let zombies = if tasks.zombie == 1 { "zombie" } else { "zombies" };
        for (count, word) in [(tasks.blocked, "blocked"), (tasks.stopped, "stopped"), (tasks.zombie, zombies)]
        {
            if count > 0 {
                facts.push((2, format!("{count} {word}")));
            }
        }
    }
    loop {
        let line = facts.iter().map(|(_, fact)| fact.as_str()).collect::<Vec<_>>().join(" · ");
        let last_to_stay = facts.iter().map(|(rank, _)| *rank).max().unwrap_or(0);
        if line.chars().count() <= room || last_to_stay == 0 {
            return line;
        }
        facts.retain(|(rank, _)| *rank < last_to_stay);
    }
}

/// Draws from the right; gives the first cell that is taken.
fn right_side(state: &State, buffer: &mut Buffer, area: Rect, now: Instant) -> u16 {
    let theme = &state.theme;
    let quiet = theme.role(Role::Quiet);
    let mut parts = vec![];
    if let Mode::Live = state.time().mode {
        let cost = state.session().own_cost.map(|cost| format!(" · own {cost:.1} %")).unwrap_or_default();
        let costly = state.session().own_cost.is_some_and(|cost| cost >= COSTLY);
        let style = if costly { theme.role(Role::Severity(Severity::Warning)) } else { quiet };
        let every = || format!("every {}", long_duration(state.values.every.as_secs_f64()));
        let pace = if state.session().by_hand { "by hand".to_owned() } else { every() };
        parts.push((format!("{pace}{cost}"), style));
    } else if let Some(shown) = state.shown() {
        let (first, end) = (state.time().timeline.first(), state.time().timeline.end());
        parts.push((format!("sample {} of {}", shown - first + 1, end - first), quiet));
    }
    let wall = state.moment().sample.as_ref().map(|sample| sample.now.wall_ns());
    if let Some(wall) = wall {
        let replayed = matches!(state.time().mode, Mode::Replay { .. });
        let time = if replayed { state.time().zone.date_time(wall) } else { state.time().zone.time(wall) };
        parts.push((time, theme.role(Role::Text)));
    }
    let (word, role) = match (state.time().mode, state.time().cursor, &state.time().ended) {
        (Mode::Replay { .. }, None, _) => ("REPLAY AT ITS END", Role::Accent),
        (Mode::Replay { playing: true, .. }, ..) => ("REPLAY", Role::Accent),
        (Mode::Replay { playing: false, .. }, ..) => ("REPLAY PAUSED", Role::Accent),
        (Mode::Live, Some(_), _) => ("FROZEN", Role::Severity(Severity::Warning)),
        (Mode::Live, None, Some(_)) => ("ENDED", Role::Severity(Severity::Warning)),
        (Mode::Live, None, None) => ("LIVE", Role::Strong),
    };
    let replayed = matches!(state.time().mode, Mode::Replay { playing: true, .. });
    let speed = if replayed && (state.time().speed - 1.0).abs() > 0.01 {
        format!(" {}", speed_word(state.time().speed))
    } else {
        String::new()
    };
    parts.push((format!("{word}{speed}"), theme.role(role)));
    if let Some(recording) = &state.session().recording {
        let time = now.saturating_duration_since(recording.since).as_secs();
        let text = format!("● rec {:02}:{:02}:{:02} ", time / 3600, time / 60 % 60, time % 60);
        parts.push((text, theme.role(Role::Severity(Severity::Critical))));
    }
    let mut end = area.right().saturating_sub(1);
    for (at, (text, style)) in parts.iter().enumerate() {
        let gap = if at == 1 { 1 } else { 2 };
        end = put_right(buffer, end, area.y, end.saturating_sub(area.x), text, *style).saturating_sub(gap);
    }
    end
}

/// Sentences on what is short and who uses it, the worst first.
pub fn standing_out(state: &State, buffer: &mut Buffer, area: Rect) {
    let theme = &state.theme;
    let whole = area;
    let mut area = area;
    if area.height > 1 {
        rule(buffer, Rect { height: 1, ..area }, "What stands out", &state.theme);
        let hidden = state.moment().standing_out.get(usize::from(area.height - 1)..).unwrap_or_default();
        if let Some(worst) = hidden.iter().map(|(severity, ..)| *severity).max() {
            let text = format!(" and {} more ", hidden.len());
            let end = put_right(buffer, area.right() - 3, area.y, 20, &text, theme.role(Role::Quiet));
            // What is not shown may be worse: the chosen lane's sentence stands first.
            let sign = format!(" {}", worst.sign());
            put_right(buffer, end, area.y, 3, &sign, theme.role(Role::Severity(worst)));
        }
        area = Rect { y: area.y + 1, height: area.height - 1, ..area };
    }
    let unknown = match state.moment().sample.as_ref().map(|sample| (sample.gap, sample.seconds())) {
        None => Some(waiting_words(state)),
        Some((Some(gap), _)) => Some(gap_words(gap)),
        Some((None, None)) if state.time().cursor.is_some() => {
            Some("the first reading: rates need one before it".to_owned())
        }
        Some((None, None)) => Some("one reading so far: rates need a second one".to_owned()),
        Some((None, Some(_))) if state.moment().standing_out.is_empty() => Some(quiet_words(state)),
        Some((None, Some(_))) => None,
    };
    if let Some(text) = unknown {
        let width = area.width.saturating_sub(3);
        put(buffer, area.x + 2, area.y, width, &format!("· {text}"), theme.role(Role::Quiet));
        area = Rect { y: area.y + 1, height: area.height - 1, ..area };
    }
    // A single line has room for the worst, whatever lane is chosen, and for how many there are beside it.
    let mut first: Vec<_> = state.moment().standing_out.iter().collect();
    if area.height == 1 {
        first.cold_sort_by_key(|(severity, ..)| std::cmp::Reverse(*severity));
        if let more @ 1.. = first.len().saturating_sub(1)
            && whole.height == 1
        {
            let text = format!("  +{more} more");
            let end = put_right(buffer, area.right() - 1, area.y, 12, &text, theme.role(Role::Quiet));
            area.width = end.saturating_sub(area.x);
        }
    }
    for (y, (severity, _, text)) in (area.top()..area.bottom()).zip(first) {
        let sign = severity.sign().to_string();
        put(buffer, area.x + 2, y, 1, &sign, theme.role(Role::Severity(*severity)));
        put(buffer, area.x + 4, y, area.width.saturating_sub(5), text, theme.role(Role::Text));
    }
}

/// That there is no reading yet, and how far it is where that takes long.
fn waiting_words(state: &State) -> String {
    let far = state.session().reached.map(|(done, of)| format!(" {done} of {of} processes"));
    format!("waiting for the first reading …{}", far.unwrap_or_default())
}

/// That nothing stands out, and for how long it has been looked.
fn quiet_words(state: &State) -> String {
    let standing = state.standing();
    let quiet = match state.quiet_now() {
        0 => String::new(),
        many => format!("; quiet about {many}"),
    };
    format!(
        "nothing stands out; {} things watched for {}{quiet}",
        standing.watched,
        long_duration(standing.seconds as f64)
    )
}

fn gap_words(gap: Gap) -> String {
    let seconds = |ns: i64| long_duration(ns.unsigned_abs() as f64 / 1e9);
    match gap {
        Gap::Suspend(ns) => format!("the machine was suspended for {}; no rates over that", seconds(ns)),
        Gap::ClockChange(ns) => {
            let way = if ns < 0 { "back" } else { "forward" };
            format!("the clock was set {way} by {}; no rates over that", seconds(ns))
        }
        Gap::Restart => "the machine started anew; no rates over that".to_owned(),
        Gap::Lost => "readings before this one are lost; no rates over that".to_owned(),
    }
}
